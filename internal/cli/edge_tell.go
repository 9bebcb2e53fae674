package cli

import (
	"fmt"
	"net/http"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// tell prints what an edge node tells.
func (a *app) tell(event httpanswer.Event) {
	if a.JSON {
		a.Line(event) //nolint:errcheck // nobody to tell
		return
	}
	when := console.Faint(event.Time.Format("15:04:05"))
	place := event.Site
	if event.Environment != "" {
		place += " " + journal.DisplayName(event.Environment)
	}

	switch event.Kind {
	case "store":
		a.Print("%s  %s", when, event.Text)
	case "certificates":
		a.Print("%s  certificates  %s", when, console.Good(event.Text))
	case "refused":
		a.Note("%s  %s  %s  from %s  %s %s%s", when, place, console.Warn(event.Text), event.Client,
			event.Method,
			event.Host, event.Path)
	case "flip":
		if event.Environment == journal.Previews {
			what := "access changed"
			if event.Text == string(journal.Settings) {
				what = "addresses changed"
			}
			a.Print("%s  %s  %s", when, place, console.Faint(what))
			return
		}

		if event.Release.IsZero() {
			what := console.Warn("serves nothing")
			if event.Text != string(journal.Removal) {
				what = console.Faint("nothing is live") // nor was it a moment ago
			}
			a.Print("%s  %s:%d  %s %s", when, place, event.Entry, what, console.Faint("("+event.Text+")"))
			return
		}
		a.Print("%s  %s:%d  %s  %s %s", when, place, event.Entry, console.Good("live"), event.Release.Short(),
			console.Faint("("+strings.TrimSpace(event.Text+" "+source.Short(event.Commit))+")"))
	case "trouble":
		where := place
		if event.Path != "" {
			where = fmt.Sprintf("%d %s %s%s", event.Status, event.Method, event.Host, event.Path)
		}
		a.Note("%s  %s  %s  %s", when, where, console.Bad("trouble"), event.Text)
	case "request":
		by := console.Faint(event.By)
		if event.Rule != "" {
			by += "   " + console.Accent(event.Rule)
		}
		method := ""
		if event.Method != http.MethodGet {
			method = event.Method + " "
		}
		a.Print("%s  %s %s%s%s  %s", when, view.StatusText(event.Status), method, event.Host, event.Path, by)
	}
}
