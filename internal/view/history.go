package view

import (
	"cmp"
	"fmt"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/source"
)

// HistoryRow makes the row of an entry; one that cannot be read has one too,
// since the entries around it mean little without it.
func HistoryRow(c *console.Console, entry journal.Entry, report EntryReport) []string {
	if report.Damage != "" {
		return []string{report.Entry, console.Bad("unreadable"), "", "", report.Damage, "", ""}
	}
	label := report.Entry
	if report.Live {
		label = console.Good(label + " live")
	}

	commit := commitText(c, entry.Commit, report.CommitAddress, string(entry.Source))
	if entry.Source == journal.FromWorkingTree {
		commit += " working tree"
	}
	about := subjectText(entry.Subject, report.Tags, 42)
	if entry.Why != "" {
		about = Shorten(entry.Why, 42)
	}

	release := ""
	if !entry.Release.IsZero() {
		release = entry.Release.Short()
	}
	if entry.Ended != nil && entry.Kind == journal.Removal {
		return []string{label, kindText(entry, nil), "", console.Faint(source.Short(entry.Ended.Commit)),
			Shorten(cmp.Or(entry.Why, follow.EndedText(*entry.Ended)), 42),
			Shorten(source.PersonName(entry.Who), 20), c.Age(entry.When)}
	}

	return []string{label, kindText(entry, report.Outcome), release, commit, about,
		Shorten(source.PersonName(entry.Who), 20), c.Age(entry.When)}
}

// DescribeEntry tells of an entry; head is the number of
// its journal's last one.
func DescribeEntry(entry journal.Entry, err error, head int64) EntryReport {
	report := EntryReport{
		Entry: entry.Label(), Kind: string(entry.Kind), Live: entry.Number == head && !entry.Release.IsZero(),
		Source: string(entry.Source),
		Commit: entry.Commit, Branch: entry.Branch, Subject: entry.Subject, Reactivates: entry.Reactivates,
		Frozen: entry.Frozen != nil,
		Who:    entry.Who, When: entry.When, Cause: entry.Cause, Why: entry.Why, Expires: entry.Expires,
	}

	if !entry.Release.IsZero() {
		report.Release = "r-" + entry.Release.String()
	}
	if entry.Frozen != nil {
		report.Until = entry.Frozen.Until
	}

	if entry.Ended != nil {
		report.Ended = string(entry.Ended.Reason)
	}
	if err != nil {
		report.Damage = err.Error()
	}
	return report
}

// EntryReport is one entry of history with --json.
type EntryReport struct {
	Entry         string     `json:"entry"`
	Kind          string     `json:"kind"`
	Live          bool       `json:"live"`
	Release       string     `json:"release,omitempty"`
	Source        string     `json:"source,omitempty"`
	Commit        string     `json:"commit,omitempty"`
	CommitAddress string     `json:"commit_address,omitempty"`
	Tags          []string   `json:"tags,omitempty"`
	Branch        string     `json:"branch,omitempty"`
	Subject       string     `json:"subject,omitempty"`
	Reactivates   int64      `json:"reactivates,omitempty"`
	Frozen        bool       `json:"frozen"`
	Who           string     `json:"who"`
	When          time.Time  `json:"when"`
	Cause         string     `json:"cause,omitempty"` // "command", "follow", "watch"
	Why           string     `json:"why,omitempty"`
	Until         *time.Time `json:"frozen_until,omitempty"`
	Expires       *time.Time `json:"expires,omitempty"`
	// of a removal: "request", "expired", "merged", "deleted", "room"
	Ended   string                `json:"ended,omitempty"`
	Outcome *environments.Outcome `json:"outcome,omitempty"`
	Damage  string                `json:"damage,omitempty"`
}

// The word for an entry is what somebody did; what came of it follows behind a comma. A rollback names
// where it went, since that is what one looks for.

// kindText says what an entry did, and what came of it.
func kindText(entry journal.Entry, outcome *environments.Outcome) string {
	kind := string(entry.Kind)
	switch {
	case entry.Kind == journal.Rollback:
		kind = console.Warn("rollback to :" + Itoa(entry.Reactivates))
	case entry.Kind == journal.Removal && entry.Ended != nil:
		kind += console.Faint(" (" + string(entry.Ended.Reason) + ")")
	case entry.Kind == journal.Access && !entry.Access.Protects():
		kind += console.Faint(" (open)")
	case entry.Kind == journal.Access && len(entry.Access.Shares) > 0:
		kind += console.Faint(" (password, " + console.Count(int64(len(entry.Access.Shares)), "link",
			"links") + ")")
	case entry.Kind == journal.Access:
		kind += console.Faint(" (password)")
	case entry.Cause == environments.ThawCause:
		kind = "thaw and deploy"
	case entry.Frozen != nil:
		kind += console.Warn(" (frozen)")
	}

	switch {
	case outcome != nil && outcome.Passed:
		kind += console.Good(fmt.Sprintf(", passed %d", len(outcome.Probes)))
	case outcome != nil && outcome.Probes[len(outcome.Probes)-1].Unchecked:
		kind += console.Warn(", not checked")
	case outcome != nil:
		kind += console.Bad(", failed: " + Shorten(outcome.Probes[len(outcome.Probes)-1].What, 20))
	}

	return kind
}

// RollbackReport is the JSON document of orilla rollback.
type RollbackReport struct {
	Entry       string   `json:"entry,omitempty"`
	Environment string   `json:"environment"`
	Release     string   `json:"release"`
	Commit      string   `json:"commit,omitempty"`
	Reactivates int64    `json:"reactivates"`
	Left        string   `json:"left"`
	LeftAddress string   `json:"left_address"`
	Addresses   []string `json:"addresses"`
	Frozen      bool     `json:"frozen"`
	DryRun      bool     `json:"dry_run,omitempty"`
}

// History is a list of entries, the newest first, and whether there are more.
type History struct {
	Entries []journal.Entry
	Reports []EntryReport // of the entries, in the same order
	More    bool
}

// PrintHistory lists entries of an environment, by its stored name; "" for
// entries of all environments of a site.
func PrintHistory(c *console.Console, site, environment string, list History) {
	if len(list.Reports) == 0 {
		what := "production"
		if environment != "" {
			what = journal.DisplayName(environment)
		}
		c.Note("%s of %s has no deploys yet", what, site)
		c.Hint("next:", "orilla deploy")
		return
	}

	rows := [][]string{{"ENTRY", "", "RELEASE", "COMMIT", "", "WHO", "WHEN"}}
	for i, entry := range list.Entries {
		rows = append(rows, HistoryRow(c, entry, list.Reports[i]))
	}
	c.Table(rows)

	switch {
	case list.More && environment != "": // entries are numbered without gaps
		older := list.Entries[len(list.Entries)-1].Number - 1
		c.Note("%s", console.Faint(console.Count(older, "older entry", "older entries")+
			"; --limit 0 shows all"))
	case list.More:
		c.Note("%s", console.Faint("older entries not shown; --limit 0 shows all"))
	}
}
