package view

import (
	"fmt"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/source"
)

// EventReport is one line of orilla follow --json.
type EventReport struct {
	follow.Event
	Milliseconds int64  `json:"milliseconds,omitempty"`
	Problem      string `json:"problem,omitempty"`
	Code         string `json:"code,omitempty"`
}

// EventText is the line that a follower prints for an event.
func EventText(event follow.Event) string {
	built := ""
	if event.Build > 0 {
		built = fmt.Sprintf("  %s", console.Faint(fmt.Sprintf("build:%d", event.Build)))
	}
	switch event.Kind {
	case follow.Builds:
		return console.Faint("builds for ") + event.Environment + built
	case follow.Live:
		how := "built in "
		if event.Reused {
			how = "reused an earlier build, live in "
		}
		return console.Good(event.Entry) + "  " + console.Faint(how+console.Took(event.Took))
	case follow.Nothing:
		return console.Faint("nothing: " + event.Why)
	case follow.Unchanged:
		return console.Faint("nothing: " + event.Why)
	case follow.Ended:
		return event.Environment + console.Faint(" ended: "+event.Why)
	case follow.Waits:
		return console.Warn("waits: ") + event.Why
	case follow.Superseded:
		if event.Commits > 1 {
			return console.Faint(fmt.Sprintf("and %d before it superseded: %s; git log --oneline -n %d %s",
				event.Commits-1, event.Why, event.Commits, source.Short(event.Commit)))
		}
		return console.Faint("superseded: " + event.Why)
	case follow.Cancelled:
		return console.Warn("cancelled: ") + event.Why + built
	case follow.Interrupted:
		return console.Warn("interrupted: ") + event.Why + built
	case follow.Trouble:
		return console.Warn("failed, " + event.Why)
	case follow.Failed:
		if event.Build == 0 || event.Refused {
			return console.Bad("failed: ") + event.Why + built
		}
	}

	return console.Bad("failed") + built
}
