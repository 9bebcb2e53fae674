package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/source"
)

// Against says how a duration differs from an earlier one, if by over a tenth
// of a second and a tenth of itself.
func Against(took, earlier time.Duration) string {
	difference := took - earlier
	if earlier == 0 || difference.Abs() < 100*time.Millisecond || difference.Abs() < earlier/10 {
		return ""
	}
	if difference > 0 {
		return " (+" + console.Took(difference) + ")"
	}
	return " (-" + console.Took(-difference) + ")"
}

// change says how a phase differs from that of the build of the same branch
// before, where that is worth a word.
func change(before []builds.Run, run builds.Run, names []string, took time.Duration,
) string {
	for _, other := range before {
		if other.Branch != run.Branch || other.Ended.Outcome != builds.Succeeded {
			continue
		}
		return Against(took, other.Ended.Took(names...))
	}
	return ""
}

// DescribeRun makes the row of a numbered build. One that has neither ended nor
// a lease that goes on is "lost": whoever ran it is gone, and cannot say so.
func DescribeRun(c *console.Console, run builds.Run) BuildRow {
	row := BuildRow{Build: run.Label(), State: "lost", Branch: run.Branch, Commit: run.Commit,
		Subject: run.Subject, Author: run.Author, Who: run.Who, Where: run.Where,
		Cause: run.Cause, When: &run.When, Key: run.Key, Milliseconds: c.Now().Sub(run.When).Milliseconds()}
	if run.Source == journal.FromCommit {
		row.Trust = "trusted"
	}

	if how := run.Untrusted; how != nil {
		held := trustRow(how)
		row.Trust, row.Isolation, row.Network = held.Trust, held.Isolation, held.Network
	}
	end := run.Ended
	if end == nil && row.Milliseconds < 5000 {
		row.State = "running" // it has just begun
		return row
	}

	if end == nil {
		// How long it ran nobody knows.
		row.Why, row.Milliseconds = "its builder is gone; the result is unknown", 0
		return row
	}
	row.State, row.Why, row.Phases, row.Sent, row.Milliseconds = string(
		end.Outcome), end.Problem, end.Phases, end.Sent, end.When.Sub(run.When).Milliseconds()

	if !end.Release.IsZero() {
		row.Release = end.Release.Short()
	}
	if end.Entry > 0 {
		row.Entry = fmt.Sprintf("%s:%d", journal.DisplayName(run.Environment), end.Entry)
	}
	return row
}

// PrintBuilds writes builds as a table. Whether a branch is trusted is a column
// only if it differs between the rows.
func PrintBuilds(c *console.Console, rows []BuildRow, runs []builds.Run) {
	table := [][]string{{"BUILD", "STATE", "BRANCH", "COMMIT", "", "TOOK", "BEGAN", "LED TO"}}
	held := slices.ContainsFunc(rows, func(row BuildRow) bool { return row.Trust == "untrusted" })
	if held { // where all are trusted there is nothing to say
		table[0] = slices.Insert(table[0], 2, "TRUST")
	}

	for _, row := range rows {
		state := map[string]string{"succeeded": console.Good(row.State), "failed": console.Bad(row.State),
			"refused": console.Bad(row.State), "errored": console.Bad(row.State),
			"running": console.Accent(row.State)}[row.State]
		if state == "" {
			state = console.Warn(row.State)
		}

		led := row.Entry
		if led == "" && row.Release != "" {
			led = row.Release
			if row.State != string(builds.Succeeded) || row.Why == "" {
				led += console.Faint(" not published")
			}
		}

		if row.Why != "" {
			led = strings.TrimSpace(led + " " + console.Faint(row.Why))
		}
		if row.Now != "" {
			led = console.Faint(row.Now)
		}

		took, began := "", ""
		if row.When != nil {
			began = c.Age(*row.When)
		}
		if row.Milliseconds > 0 {
			took = console.Took(time.Duration(row.Milliseconds) * time.Millisecond)
		}
		commit := source.Short(row.Commit)
		if commit == "" {
			commit = "files"
		}

		line := []string{console.Accent(row.Build), state, Shorten(row.Branch, 24), commit,
			Shorten(row.Subject, 34), took, began, led}
		if held {
			line = slices.Insert(line, 2, trustText(row))
		}
		table = append(table, line)
	}

	took := slices.Index(table[0], "TOOK")
	c.Table(table, took)
	printPhases(c, runs)
}

// printPhases draws how long the phases of the last builds took, on one scale.
func printPhases(c *console.Console, runs []builds.Run) {
	var ended []builds.Run
	for _, run := range runs {
		if run.Ended != nil && len(run.Ended.Phases) > 0 && len(ended) < shownBars {
			ended = append(ended, run)
		}
	}

	if len(ended) == 0 {
		return
	}
	longest := time.Duration(1)
	for _, run := range ended {
		longest = max(longest, run.Ended.Took(builds.PhaseNames...))
	}

	c.Print("")
	rows := [][]string{{"BUILD", "TOOK", "PHASES"}}
	if c.OutTerm {
		legend := ""
		for i, phase := range drawnPhases {
			if i == len(drawnPhases)-1 { // in the colour of the one before
				legend = strings.TrimSpace(legend) + ", " + phase.title
				break
			}
			legend += phase.paint("━") + " " + phase.title + "  "
		}
		rows[0][2] = "PHASES  " + legend
	}

	for i, run := range ended {
		bar, words := "", []string{}
		for _, phase := range drawnPhases {
			took := run.Ended.Took(phase.names...)
			if took == 0 {
				continue
			}
			words = append(words, phase.title+" "+console.Took(took)+change(ended[i+1:], run, phase.names,
				took))

			if c.OutTerm {
				bar += phase.paint(strings.Repeat("━", max(1, int(took*barWidth/longest))))
			}
		}

		text := strings.Join(words, ", ")
		if c.OutTerm {
			rows = append(rows, []string{console.Accent(run.Label()),
				console.Took(run.Ended.Took(builds.PhaseNames...)), bar})
			rows = append(rows, []string{"", "", console.Faint(text)})
			continue
		}
		rows = append(rows, []string{run.Label(), console.Took(run.Ended.Took(builds.PhaseNames...)), text})
	}
	c.Table(rows, 1)
}

// barWidth is how long the bar of the longest build is.
const barWidth = 48

// BuildRow is one build, in the table and as an element of the JSON array of
// orilla builds.
type BuildRow struct {
	Build string `json:"build,omitempty"` // build:41; none while it waits
	// "waiting", "running", "lost", or the outcome: "succeeded", "failed",
	// "refused", "errored", "cancelled", "interrupted", "superseded", "abandoned"
	State        string         `json:"state"`
	Branch       string         `json:"branch,omitempty"`
	Commit       string         `json:"commit,omitempty"`
	Subject      string         `json:"subject,omitempty"`
	Author       string         `json:"author,omitempty"`
	Who          string         `json:"who,omitempty"`
	Where        string         `json:"where,omitempty"`
	Cause        string         `json:"cause,omitempty"`
	When         *time.Time     `json:"when,omitempty"`
	Milliseconds int64          `json:"milliseconds,omitempty"`
	Phases       []builds.Phase `json:"phases,omitempty"`
	Key          string         `json:"key,omitempty"`
	Release      string         `json:"release,omitempty"`
	Entry        string         `json:"entry,omitempty"`
	Now          string         `json:"now,omitempty"` // what a running one does
	Why          string         `json:"why,omitempty"` // what it waits for, or what went wrong
	Sent         int64          `json:"sent,omitempty"`
	// of a commit that was built: "trusted", "untrusted"
	Trust     string `json:"trust,omitempty"`
	Isolation string `json:"isolation,omitempty"` // of an untrusted one: "none", "bubblewrap"
	Network   string `json:"network,omitempty"`   // of an isolated one: "none", "outside"
}

// drawnPhases are the phases that bars show, with what
// they are called; several that are short together.
var drawnPhases = []struct {
	title string
	names []string
	paint func(string) string
}{
	{"wait", []string{"wait"}, console.Faint}, {"checkout", []string{"checkout", "unpack"},
		console.Accent}, {"prepare", []string{"prepare"}, console.Warn},
	{"steps", []string{"step"}, console.Good},
	{"upload", []string{"scan", "upload", "rules", "check", "commit"}, console.Strong},
	{"activate", []string{"activate"}, console.Strong},
}

// shownBars is of how many builds bars are drawn.
const shownBars = 6

// trustRow is what a row says of an untrusted build.
func trustRow(how *builds.Untrusted) BuildRow {
	return BuildRow{Trust: "untrusted", Isolation: how.Isolation, Network: how.Network}
}

// trustText says in few words how a build was held.
func trustText(row BuildRow) string {
	switch {
	case row.Trust != "untrusted":
		return console.Faint(row.Trust)
	case row.Isolation == builds.IsolationNone:
		return console.Warn("untrusted, not isolated")
	case row.Isolation == builds.IsolationNoSteps:
		return "untrusted, no steps"
	case row.Network == project.NetworkNone:
		return "isolated, no network"
	}
	return "isolated"
}

// ReportEnd says how a build ended, below its log.
func ReportEnd(c *console.Console, run builds.Run) {
	row := DescribeRun(c, run)
	text := console.Good(row.State)
	if row.State != "succeeded" {
		text = console.Bad(row.State)
	}

	if row.State == string(builds.Refused) {
		text += " before it began"
	} else {
		text += " after " + console.Took(time.Duration(row.Milliseconds)*time.Millisecond)
	}
	if row.Why != "" {
		text += ": " + row.Why
	}
	if row.Entry != "" {
		text += "; led to " + console.Accent(row.Entry)
	} else if row.Release != "" {
		text += "; release " + console.Accent(row.Release) + ", not published"
	}
	c.Note("%s %s", console.Strong(row.Build), text)
	if run.Ended == nil {
		return
	}

	var phases []string
	for _, phase := range run.Ended.Phases {
		name := phase.Name
		if phase.What != "" && (name == "step" || name == "prepare") {
			name = Shorten(phase.What, 28)
		}
		phases = append(phases, name+" "+console.Took(time.Duration(phase.Milliseconds)*time.Millisecond))
	}
	if len(phases) > 0 {
		c.Row(c.Err, "phases", strings.Join(phases, ", "))
	}
	if run.Ended.Files > 0 {
		c.Row(c.Err, "files", console.Count(run.Ended.Files, "file", "files")+", "+
			console.Size(run.Ended.Size)+"; "+console.Size(run.Ended.Sent)+" sent")
	}
}
