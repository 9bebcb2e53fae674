package view

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/source"
)

// commitText is a commit's short hash, which leads to
// where a code host shows it.
func commitText(c *console.Console, commit, address, from string) string {
	text := c.Link(console.Accent(source.Short(commit)), address)
	switch {
	case from == string(journal.FromWorkingTree):
		text += "+"
	case from == string(journal.FromOutput) && commit == "":
		text = console.Faint("output")
	}
	return text
}

// noteFrozen says who froze an environment, when and why,
// and what waits for its thaw.
func noteFrozen(c *console.Console, row EnvironmentReport) {
	if row.Frozen == nil {
		return
	}
	text := console.Warn(row.Environment+" is frozen") + " by " + source.PersonName(row.Frozen.Who) + ", " +
		c.Age(row.Frozen.When)

	if row.Frozen.Until != nil {
		text += ", until " + Moment(*row.Frozen.Until)
	}
	if row.Frozen.Why != "" {
		text += ": " + row.Frozen.Why
	}

	c.Note("%s", text)
	for i, waits := range row.Waiting {
		label := "  waits  "
		if i > 0 {
			label = "         "
		}
		c.Note("%s%s  %s  %s  %s", console.Faint(label), waits.Release[:12],
			console.Accent(source.Short(waits.Commit)), Shorten(waits.Subject, 50),
			console.Faint("built "+c.Age(waits.When)))
	}

	if len(row.Waiting) > 0 {
		c.Note("  publish it: %s", c.Command("orilla thaw "+row.Environment))
	} else {
		c.Note("  accept automatic deploys again: %s", c.Command("orilla thaw "+row.Environment))
	}
}

// ShowEnvironments prints the table of environments, where they answer, and
// what there is to say of some.
func ShowEnvironments(c *console.Console, report StatusReport) {
	if len(report.Environments) == 0 {
		c.Note("none match; orilla status shows all")
		return
	}
	rows := [][]string{{"ENVIRONMENT", "RELEASE", "COMMIT", "", "SINCE", "BY", "STATE"}}
	previews := 0
	for _, row := range report.Environments {
		rows = append(rows, statusRow(c, row, len(report.EdgeNodes)))
		if strings.HasPrefix(row.Environment, "preview/") &&
			(row.State == StateLive || row.State == StateFrozen) {
			previews++
		}
	}

	c.Table(rows)
	if more := report.Previews - previews; more > 0 {
		c.Note("%s", console.Faint(console.Count(int64(more), "more preview", "more previews")+
			"; filter: orilla preview list \"PATTERN\"; all: --limit 0"))
	}

	c.Print("")
	addresses := [][]string{{"ADDRESSES", ""}}
	for _, row := range report.Environments {
		if row.State != StateRemoved && row.State != StateExpired {
			addresses = append(addresses, []string{row.Environment, console.Accent(row.Address)})
			for _, later := range row.Later {
				addresses = append(addresses,
					[]string{"", console.Faint(later + "  waits for the next deploy")})
			}
		}
	}

	if len(addresses) > 1 {
		c.Table(addresses)
	}
	if len(report.Newer) > 0 {
		c.Print("")
	}
	ShowNewer(c, report.Newer)
	for _, row := range report.Environments {
		if row.Unchecked != "" {
			c.Note("%s", console.Warn(row.Unchecked))
			c.Note("  go back: %s", c.Command("orilla rollback "+row.Environment))
		}
		noteFrozen(c, row)
	}
}

// statusRow makes the line of an environment. The last column is what needs
// attention: a freeze, what waits, an end that comes near. Where there is
// nothing it stays empty.
func statusRow(c *console.Console, row EnvironmentReport, nodes int) []string {
	if row.State == StateUnused {
		return []string{row.Environment, "", "", "", "", "", console.Faint("waits for its first deploy")}
	}
	var about []string

	switch row.State {
	case StateLive, StateFrozen:
		about = append(about, console.Good("live"))
	default:
		about = append(about, console.Faint(row.State))
	}

	if row.State == StateFrozen {
		about = append(about, console.Warn("frozen"))
	}
	if n := len(row.Waiting); n > 0 {
		about = append(about, console.Warn(console.Count(int64(n), "build waits", "builds wait")))
	}

	if row.Unchecked != "" {
		about = append(about, console.Warn("not checked"))
	}
	if row.Protected {
		about = append(about, "password")
	}
	if (row.State == StateLive || row.State == StateFrozen) && nodes > row.EdgeServing {
		about = append(about, console.Warn("not at every edge node yet"))
	}

	if row.Expires != nil && row.State != StateExpired {
		about = append(about, console.Faint("ends "+c.Until(*row.Expires)))
	}
	release := row.Release
	if release != "" {
		release = release[:12]
	}

	return []string{row.Environment, release, commitText(c, row.Commit, row.CommitAddress, row.Source),
		subjectText(row.Subject, row.Tags, 40), c.Age(*row.When),
		Shorten(source.PersonName(row.Who), 18), strings.Join(about, ", ")}
}

// EnvironmentReport is what status and preview know of one environment. Fields
// are absent where nothing was ever live.
type EnvironmentReport struct {
	Environment   string        `json:"environment"`
	Entry         string        `json:"entry,omitempty"`
	Kind          string        `json:"kind,omitempty"`
	Release       string        `json:"release,omitempty"`
	Source        string        `json:"source,omitempty"`
	Commit        string        `json:"commit,omitempty"`
	CommitAddress string        `json:"commit_address,omitempty"`
	Tags          []string      `json:"tags,omitempty"`
	Branch        string        `json:"branch,omitempty"`
	Subject       string        `json:"subject,omitempty"`
	Who           string        `json:"who,omitempty"`
	When          *time.Time    `json:"when,omitempty"`
	State         string        `json:"state"` // "live", "frozen", "waiting", "removed", "expired"
	Frozen        *FrozenReport `json:"frozen,omitempty"`
	// releases that wait for a thaw, the newest first
	Waiting   []WaitingReport `json:"waiting,omitempty"`
	Expires   *time.Time      `json:"expires,omitempty"`
	Protected bool            `json:"protected"` // a password is asked for
	Address   string          `json:"address"`
	// of orilla.yaml, that the next deploy brings
	Later       []string `json:"addresses_later,omitempty"`
	EdgeServing int      `json:"edge_serving"`
	// why nobody knows whether what is live passed its checks
	Unchecked string `json:"unchecked,omitempty"`
}

// FrozenReport says who froze an environment.
type FrozenReport struct {
	Who   string     `json:"who"`
	When  time.Time  `json:"when"`
	Why   string     `json:"why,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// The states of an environment, as status and preview tell and filter them.
const (
	StateLive    = "live"
	StateFrozen  = "frozen"
	StateUnused  = "waiting" // for its first deploy
	StateRemoved = "removed"
	StateExpired = "expired"
)

// Moment writes a time that is to come.
func Moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") }

// NodesText lists the edge nodes on one line.
func NodesText(nodes []edge.Presence) string {
	if len(nodes) == 0 {
		return "no edge node is running"
	}
	text := console.Count(int64(len(nodes)), "edge node", "edge nodes") + ":"
	for _, node := range nodes {
		text += " " + node.Address
		switch {
		case node.State == edge.WithoutStore && node.Since != nil:
			text += " (without its store since " + node.Since.Local().Format("Jan 2 15:04") + ")"
		case node.State == edge.WithoutStore, node.State == edge.Draining, node.State == edge.Starting:
			text += " (" + strings.ReplaceAll(string(node.State), "-", " ") + ")"
		}
	}
	return text
}

// Alarms lists what edge nodes say that somebody has to do soon: nodes of one store share
// certificates, so most of them say the same.
func Alarms(nodes []edge.Presence) (list []string) {
	for _, node := range nodes {
		for _, alarm := range node.Alarms {
			if !slices.Contains(list, alarm) {
				list = append(list, alarm)
			}
		}
	}
	return list
}

// Shorten cuts a text to width characters, the last one an ellipsis.
func Shorten(text string, width int) string {
	if runes := []rune(text); len(runes) > width {
		return string(runes[:width-1]) + "…"
	}
	return text
}

// StateOf says in one word what an environment is.
func StateOf(head *journal.Entry, now time.Time) string {
	switch {
	case head == nil || head.NeverLive():
		return StateUnused
	case head.Release.IsZero():
		return StateRemoved
	case head.HasExpired(now):
		return StateExpired
	case head.Frozen.At(now):
		return StateFrozen
	}
	return StateLive
}

// StatusReport is the JSON document of orilla status.
type StatusReport struct {
	Site         string              `json:"site"`
	Store        string              `json:"store"`
	EdgeNodes    []edge.Presence     `json:"edge_nodes"`
	Environments []EnvironmentReport `json:"environments"`
	Previews     int                 `json:"previews"` // that serve something, shown or not
	Newer        []NewerReport       `json:"newer"`    // commits that are not live yet, and why
}

// NewerReport is the newest commit of an environment's branch that is not what it
// serves, and why.
type NewerReport struct {
	Environment string `json:"environment"`
	Branch      string `json:"branch,omitempty"`
	Commit      string `json:"commit"`
	Subject     string `json:"subject,omitempty"`
	// "building", "lost", "waiting", "unbuilt", "rolled-back", or how its build ended: "failed",
	// "refused", "errored", "cancelled", "interrupted", "superseded", "abandoned"
	State             string    `json:"state"`
	Build             string    `json:"build,omitempty"`
	Why               string    `json:"why,omitempty"`
	When              time.Time `json:"when"`
	Now               string    `json:"now,omitempty"` // of one that is being built: the phase or step
	Milliseconds      int64     `json:"milliseconds,omitempty"`
	UsualMilliseconds int64     `json:"usual_milliseconds,omitempty"` // what builds of the branch took last
}

// DescribeNewer makes the report of a commit that is not live. now is by the store's
// clock.
func DescribeNewer(newer follow.Newer, now time.Time) NewerReport {
	report := NewerReport{Environment: journal.DisplayName(newer.Environment), Branch: newer.Branch,
		Commit: newer.Commit, Subject: newer.Subject, State: newer.State, Why: newer.Why, When: newer.When,
		Now: newer.Now, UsualMilliseconds: newer.Usual.Milliseconds()}
	if newer.Build > 0 {
		report.Build = builds.Begun{Number: newer.Build}.Label()
	}
	if newer.State == follow.StateBuilding {
		report.Milliseconds = now.Sub(newer.When).Milliseconds()
	}
	return report
}

// ShowNewer prints the commits that are not live, and what to do about each.
func ShowNewer(c *console.Console, list []NewerReport) {
	if len(list) == 0 {
		return
	}
	rows := [][]string{{"NOT LIVE", "COMMIT", "", "STATE", ""}}
	for _, one := range list {
		state := console.Warn(one.State)
		switch one.State {
		case string(builds.Failed), string(builds.Refused), string(builds.Errored):
			state = console.Bad(one.State)
		case follow.StateBuilding:
			state = console.Accent(one.State)
		case follow.StateUnbuilt:
			state = console.Faint("not deployed")
		case follow.StateLeft:
			state = console.Warn("rolled back")
		}
		rows = append(rows, []string{one.Environment, console.Accent(source.Short(one.Commit)),
			Shorten(one.Subject, 34), state, newerText(c, one)})
	}
	c.Table(rows)
}

// newerText says why a commit is not live, and where to look: a command wherever
// there is something to do or to read, else only the reason.
func newerText(c *console.Console, one NewerReport) string {
	switch one.State {
	case follow.StateBuilding:
		text := console.Accent(one.Build) + "  " +
			console.Took(time.Duration(one.Milliseconds)*time.Millisecond)
		usual := console.Took(time.Duration(one.UsualMilliseconds) * time.Millisecond)
		switch {
		case one.UsualMilliseconds > one.Milliseconds:
			text += " of about " + usual
		case one.UsualMilliseconds > 0:
			text += ", usually " + usual
		}
		if one.Now != "" {
			text += console.Faint(", " + one.Now)
		}
		return text
	case follow.StateLost:
		return console.Accent(one.Build) + "  " +
			console.Faint("its builder is gone; the next build takes over")
	case follow.StateLeft:
		return one.Why + ", " + c.Age(one.When)
	case follow.StateWaiting:
		return cmp.Or(one.Why, "for its turn")
	case follow.StateUnbuilt:
		if one.Why != "" {
			return console.Faint(one.Why)
		}
		return c.Command("orilla deploy " + one.Branch)
	}
	text := c.Command("orilla log "+one.Build) + "  " + console.Faint(c.Age(one.When))
	if one.Why != "" {
		text += console.Faint(": ") + Shorten(one.Why, 70)
	}
	return text
}

// subjectText is what a commit is about, after its tags.
func subjectText(subject string, tags []string, width int) string {
	if len(tags) == 0 {
		return Shorten(subject, width)
	}
	text := strings.Join(tags, " ")
	return console.Strong(text) + " " + Shorten(subject, max(10, width-len([]rune(text))-1))
}

// WaitingReport is a release that waits for a thaw.
type WaitingReport struct {
	Release string    `json:"release"`
	Commit  string    `json:"commit,omitempty"`
	Subject string    `json:"subject,omitempty"`
	Who     string    `json:"who"`
	When    time.Time `json:"when"`
}
