package view

import (
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/source"
)

// OutputValues is what came of a deploy.
type OutputValues struct {
	URL, ReleaseURL, Release, Environment, Entry, Commit, Subject, Why string
	Changed, Reused                                                    bool
	Took                                                               time.Duration
}

// Markdown is a summary for the page of a CI run: the address first, since that
// is what people come for. What comes out of commits is escaped (CommonMark
// 0.31).
func (v OutputValues) Markdown() string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format, args...) }
	if v.Entry == "" {
		say("### %s: nothing to do\n\n`%s` %s: %s\n\n", v.Environment, source.Short(v.Commit),
			escapeMarkdown(v.Subject), v.Why)
		return out.String()
	}

	say("### %s is live\n\n", v.Environment)
	say("| | |\n|---|---|\n| address | %s |\n| commit | `%s` %s |\n| release | "+
		"[`%s`](%s) |\n| entry | `%s` |\n", v.URL, source.Short(v.Commit), escapeMarkdown(v.Subject),
		v.Release, v.ReleaseURL, v.Entry)
	how := "built in " + console.Took(v.Took)
	if v.Reused {
		how = "not built: the same content was built before; live in " + console.Took(v.Took)
	}

	if v.Took > 0 {
		say("| build | %s |\n", how)
	}
	say("\n")
	return out.String()
}

// escapeMarkdown keeps a subject of a commit from being read as a table, a tag,
// a link or code.
func escapeMarkdown(text string) string {
	return strings.NewReplacer("|", `\|`, "<", "&lt;", "`", "\\`", "[", `\[`).Replace(text)
}
