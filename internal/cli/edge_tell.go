package cli

import (
	"context"
	"fmt"
	"log/slog"
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
	if a.events != nil {
		a.events.LogAttrs(context.Background(), levelOf(event), messageOf(event), attributesOf(event)...)
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

// A log is for programs that gather logs: key=value, as slog.TextHandler writes it, with a
// level, and with the same names as the fields of --json.

// What only one visitor met is for whoever looks for it (debug); what changes what all visitors get is worth
// a line each time (info); what somebody may have to do is a warning.

// levelOf says how much an event matters to whoever runs the node.
func levelOf(event httpanswer.Event) slog.Level {
	switch event.Kind {
	case "trouble":
		return slog.LevelWarn
	case "request":
		return slog.LevelDebug
	}
	return slog.LevelInfo
}

// The same message for the same kind of thing: whoever counts lines of a log counts by it. What differs is in
// the attributes.

// messageOf says in a few words what happened: the same ones each time, but where only the
// text says it.
func messageOf(event httpanswer.Event) string {
	switch {
	case event.Kind == "flip" && event.Environment == journal.Previews:
		return "settings changed"
	case event.Kind == "flip" && event.Release.IsZero():
		return "nothing live"
	case event.Kind == "flip":
		return "live"
	case event.Kind == "refused", event.Kind == "request":
		return event.Kind
	}
	return event.Text
}

// attributesOf gives what an event holds. Its time is that of the line.
func attributesOf(event httpanswer.Event) (list []slog.Attr) {
	add := func(name, value string) {
		if value != "" {
			list = append(list, slog.String(name, value))
		}
	}
	list = append(list, slog.String("kind", event.Kind))
	add("site", event.Site)
	add("environment", event.Environment)
	if event.Entry > 0 {
		list = append(list, slog.Int64("entry", event.Entry))
	}
	if !event.Release.IsZero() {
		add("release", event.Release.Short())
	}
	add("commit", event.Commit)
	if event.Kind == "flip" || event.Kind == "refused" {
		add("text", event.Text)
	}
	add("method", event.Method)
	add("host", event.Host)
	add("path", event.Path)
	if event.Status > 0 {
		list = append(list, slog.Int("status", event.Status))
	}
	add("client", event.Client)
	add("by", event.By)
	add("rule", event.Rule)
	return list
}

// Standard output is for whoever started the node and reads along; the log is for whoever looks a week later.
// Neither gets what the other is told in a form that it cannot use.

// says tells what a node does itself: whoever started it, in a form for people, and the log.
func (r *running) says(text, people string) {
	r.Note("%s", people)
	if events := r.first.events; events != nil {
		events.Info(text, slog.String("kind", "node"))
	}
}

// fails tells both of an error that a node goes on after, and what comes of it.
func (r *running) fails(err error, then string) {
	r.Problem(err)
	if then != "" {
		r.Note("%s", console.Bad(then))
	}
	if events := r.first.events; events != nil {
		events.Error(err.Error(), slog.String("kind", "node"), slog.String("then", then))
	}
}
