package environments

import (
	"errors"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
)

// Errors that callers decide on, by errors.Is.
var (
	// ErrFrozen: a freeze keeps something from going live.
	ErrFrozen = errors.New("frozen")
	// ErrPaused: the automatic builds of a site are paused.
	ErrPaused = errors.New("paused")
)

// FrozenRefusal is the message for what a freeze refused. It is ErrFrozen.
func FrozenRefusal(head journal.Entry) *fault.Error {
	name := journal.DisplayName(head.Environment)
	problem := fault.New(fault.Refused, "frozen", "%s is frozen", name).Marked(ErrFrozen).
		At("%s", head.Label()).
		With("by " + head.Frozen.Who + " on " + head.Frozen.When.Format("2006-01-02 15:04 MST"))
	if head.Frozen.Why != "" {
		problem = problem.With("because: " + head.Frozen.Why)
	}

	if head.Frozen.Until != nil {
		problem = problem.With("until " + head.Frozen.Until.Local().Format("2006-01-02 15:04 MST"))
	}
	return problem.Then("thaw it, then try again: orilla thaw %s", name)
}
