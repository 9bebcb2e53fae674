package view

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/source"
)

// OutputValues is what came of a command that moves an environment: what --write
// json:FILE writes, a line each time.
type OutputValues struct {
	Outcome     string        `json:"outcome"`                // live, unchanged or failed
	URL         string        `json:"url,omitempty"`          // where the environment answers
	ReleaseURL  string        `json:"release_url,omitempty"`  // where this release does
	Release     string        `json:"release,omitempty"`      // r- and ten digits
	Environment string        `json:"environment,omitempty"`  // as people write it
	Entry       string        `json:"entry,omitempty"`        // production:12
	Commit      string        `json:"commit,omitempty"`       // the hash
	Subject     string        `json:"subject,omitempty"`      // of the commit
	Why         string        `json:"why,omitempty"`          // nothing was done, or it failed
	Changed     bool          `json:"changed"`                // another release is live than before
	Reused      bool          `json:"reused"`                 // nothing was built for it
	Took        time.Duration `json:"-"`                      // all of it
	Millis      int64         `json:"milliseconds,omitempty"` // Took
}

// The outcomes.
const (
	OutcomeLive      = "live"
	OutcomeUnchanged = "unchanged"
	OutcomeFailed    = "failed"
)

// MovedValues are what came of an entry that put another release live without a
// build. url is where its environment answers.
func MovedValues(site string, entry journal.Entry, url string, nodes []edge.Presence) OutputValues {
	return OutputValues{Outcome: OutcomeLive, URL: url, Release: entry.Release.Short(),
		ReleaseURL:  ReleaseAddress(site, entry.Release.String(), NearbyPort(nodes)),
		Environment: journal.DisplayName(entry.Environment), Entry: entry.Label(), Commit: entry.Commit,
		Subject: entry.Subject, Changed: true, Reused: true}
}

// Lines are the values as NAME=VALUE, a line each: all names every time, so that a
// later step never meets one that is not set. What people wrote is left out.
func (v OutputValues) Lines() string {
	var lines strings.Builder
	for _, line := range [][2]string{{"outcome", v.Outcome}, {"url", v.URL}, {"release_url", v.ReleaseURL},
		{"release", v.Release}, {"environment", v.Environment}, {"entry", v.Entry}, {"commit", v.Commit},
		{"changed", strconv.FormatBool(v.Changed)}, {"reused", strconv.FormatBool(v.Reused)}} {
		fmt.Fprintf(&lines, "%s=%s\n", line[0], line[1])
	}
	return lines.String()
}

// JSONLine is the values as one line of JSON.
func (v OutputValues) JSONLine() string {
	v.Millis = v.Took.Milliseconds()
	data, err := json.Marshal(v)
	if err != nil { // it has nothing but texts, numbers and truths
		return ""
	}
	return string(data) + "\n"
}

// Markdown is a summary for the page of a CI run: the address first, since that
// is what people come for. What comes out of commits is escaped (CommonMark
// 0.31).
func (v OutputValues) Markdown() string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format, args...) }
	switch v.Outcome {
	case OutcomeFailed:
		say("### %s: failed\n\n", cmp.Or(v.Environment, "the deploy"))
		if v.Commit != "" {
			say("`%s` %s: ", source.Short(v.Commit), escapeMarkdown(v.Subject))
		}
		say("%s\n\n", escapeMarkdown(v.Why))
		return out.String()
	case OutcomeUnchanged:
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
		how = "reused an earlier build, live in " + console.Took(v.Took)
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
