package view

import (
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/past"
	"orilla.example/orilla/internal/source"
)

// PathHistory is what an address of an environment answered over time.
type PathHistory struct {
	Site        string       `json:"site"`
	Environment string       `json:"environment"`
	Path        string       `json:"path"`
	Entries     int64        `json:"entries"` // that were looked at
	More        bool         `json:"more"`    // there may be earlier changes
	Now         PathAnswer   `json:"now"`
	Changes     []PathChange `json:"changes"` // the newest first
}

// PathAnswer is what an address answers.
type PathAnswer struct {
	Status   int    `json:"status"`             // 0 where nothing was live, and for what is passed on
	File     string `json:"file,omitempty"`     // that it answers with
	Location string `json:"location,omitempty"` // of a redirect
	Upstream string `json:"upstream,omitempty"` // where it is passed on to
	By       string `json:"by,omitempty"`       // what decided
	Rule     string `json:"rule,omitempty"`     // as it is written
	Text     string `json:"text"`               // in a few words
}

// PathChange is an entry that changed what an address answers.
type PathChange struct {
	Entry   string     `json:"entry"`
	When    time.Time  `json:"when"`
	Kind    string     `json:"kind"` // deploy, promotion, rollback, settings, removal
	Release string     `json:"release,omitempty"`
	Commit  string     `json:"commit,omitempty"`
	Subject string     `json:"subject,omitempty"`
	Who     string     `json:"who"`
	Why     string     `json:"why,omitempty"`
	Before  PathAnswer `json:"before"`
	After   PathAnswer `json:"after"`
	// Lines are those that differ, with + and -, where both are text.
	Lines []string `json:"lines,omitempty"`
}

// AnswerText says in a few words what an address answers.
func AnswerText(a answer.Answer) string {
	if a.Status == 0 && a.Upstream == nil {
		return "nothing was live"
	}
	return check.Summary(a)
}

// What an answer is made of is told apart for programs, and in one word or two for people.

// newPathAnswer describes an answer.
func newPathAnswer(a answer.Answer) PathAnswer {
	p := PathAnswer{Status: a.Status, Location: a.Location, By: string(a.By), Text: AnswerText(a)}
	if a.File != nil {
		p.File = a.File.Path
	}
	if a.Upstream != nil {
		p.Upstream = a.Upstream.Where()
	}
	if a.Rule != nil {
		p.Rule = a.Rule.String()
	}
	return p
}

// NewPathHistory describes what a walk found.
func NewPathHistory(site, environment, path string, found past.Found) PathHistory {
	r := PathHistory{Site: site, Environment: journal.DisplayName(environment), Path: path,
		Entries: found.Entries, More: found.More, Now: newPathAnswer(found.Now), Changes: []PathChange{}}
	for _, c := range found.Changes {
		one := PathChange{Entry: c.Entry.Label(), When: c.Entry.When, Kind: string(c.Entry.Kind),
			Commit: c.Entry.Commit, Subject: c.Entry.Subject, Who: source.PersonName(c.Entry.Who),
			Why: c.Entry.Why, Before: newPathAnswer(c.Was), After: newPathAnswer(c.Is)}
		if !c.Entry.Release.IsZero() {
			one.Release = c.Entry.Release.Short()
		}
		if c.Before != nil && c.Before.Pruned {
			one.Before.Text = "its release was pruned"
		}
		if c.After.Pruned {
			one.After.Text = "its release was pruned"
		}
		r.Changes = append(r.Changes, one)
	}
	return r
}

// Three lines around each change help to read a page, and are in the way of reading a history: there
// one looks for the word that changed.

// ChangedLines keeps of a comparison the lines that differ.
func ChangedLines(unified []string) (list []string) {
	for _, line := range unified {
		plain := strings.TrimSuffix(line, "\n")
		if strings.HasPrefix(plain, "+++") || strings.HasPrefix(plain, "---") {
			continue
		}
		if strings.HasPrefix(plain, "+") || strings.HasPrefix(plain, "-") {
			list = append(list, plain)
		}
	}
	return list
}

// What one sees first is what changed last. A change of content shows its lines, since that is what
// was looked for; one of another kind says from what to what.

// PrintPathHistory shows it, with up to so many lines of each change; 0 for all.
func PrintPathHistory(c *console.Console, r PathHistory, most int) {
	c.Print("%s of %s  now %s", console.Strong(r.Path), r.Environment, r.Now.Text)
	for _, change := range r.Changes {
		c.Print("%s  %s  %s", console.Accent(change.Entry), console.Faint(c.Age(change.When)),
			strings.Join(notEmpty(change.Kind, source.Short(change.Commit), console.Safe(change.Subject),
				console.Faint("by "+change.Who)), "  "))
		if change.Before.Text != change.After.Text {
			c.Print("    %s", change.Before.Text+console.Faint("  ->  ")+change.After.Text)
		} else if len(change.Lines) == 0 {
			c.Print("    %s", console.Faint("the same file, with other content or header fields"))
		}
		lines := change.Lines
		if most > 0 && len(lines) > most {
			lines = lines[:most]
		}
		for _, line := range lines {
			line = console.Safe(line)
			if strings.HasPrefix(line, "+") {
				c.Print("    %s", console.Good(line))
			} else {
				c.Print("    %s", console.Bad(line))
			}
		}
		if left := len(change.Lines) - len(lines); left > 0 {
			more := console.Count(int64(left), "more line", "more lines")
			c.Print("    %s", console.Faint(more+"; --lines 0 shows all"))
		}
	}
	about := console.Count(int64(len(r.Changes)), "change", "changes") + " in the last " +
		console.Count(r.Entries, "entry", "entries")
	switch {
	case len(r.Changes) == 0:
		c.Note("%s", "it never answered otherwise, in "+console.Count(r.Entries, "entry", "entries"))
	case r.More:
		c.Note("%s", console.Faint(about+"; more: orilla history --path "+r.Path+" -n 0"))
	default:
		c.Note("%s", console.Faint(about))
	}
}

// notEmpty leaves out empty texts.
func notEmpty(list ...string) (kept []string) {
	for _, text := range list {
		if text != "" {
			kept = append(kept, text)
		}
	}
	return kept
}

// Each test is shown as it is made, since one may take minutes: which entry, what came of it, and in
// a word why. What was found comes at the end, with the two commands that follow: what changed there,
// and how to be rid of it.

// BisectReport is how the entry was found that broke something.
type BisectReport struct {
	Site        string       `json:"site"`
	Environment string       `json:"environment"`
	Path        string       `json:"path"`
	Tested      []BisectTest `json:"tested"`            // in the order of the tests
	Good        *BisectTest  `json:"good,omitempty"`    // the last one that passes
	Bad         *BisectTest  `json:"bad,omitempty"`     // the first one that fails
	Skipped     []BisectTest `json:"skipped,omitempty"` // between them, and not to be tested
}

// BisectTest is an entry that was tested.
type BisectTest struct {
	Entry   string    `json:"entry"`
	Verdict string    `json:"verdict"` // good, bad, skipped
	Text    string    `json:"text"`    // what the test said
	Release string    `json:"release,omitempty"`
	Commit  string    `json:"commit,omitempty"`
	Subject string    `json:"subject,omitempty"`
	Who     string    `json:"who,omitempty"`
	When    time.Time `json:"when"`
}

// NewBisectTest describes a test.
func NewBisectTest(t past.Tested) BisectTest {
	e := t.Moment.Entry
	b := BisectTest{Entry: e.Label(), Verdict: string(t.Verdict), Text: t.Text, Commit: e.Commit,
		Subject: e.Subject, Who: source.PersonName(e.Who), When: e.When}
	if !e.Release.IsZero() {
		b.Release = e.Release.Short()
	}
	return b
}

// Found adds what a search found.
func (r *BisectReport) Found(c past.Culprit) {
	good, bad := NewBisectTest(c.Good), NewBisectTest(c.Bad)
	r.Good, r.Bad = &good, &bad
	for _, t := range c.Between {
		r.Skipped = append(r.Skipped, NewBisectTest(t))
	}
}

// PrintTested shows a test as it is made.
func PrintTested(c *console.Console, t BisectTest) {
	verdict := console.Faint(t.Verdict)
	switch past.Verdict(t.Verdict) {
	case past.Good:
		verdict = console.Good(t.Verdict)
	case past.Bad:
		verdict = console.Bad(t.Verdict)
	}
	c.Row(c.Err, t.Entry, strings.Join(notEmpty(verdict, console.Faint(console.Safe(t.Text))), "  "))
}

// The name of who deployed it is said, as in the history, and last: what one needs is what changed
// and how to undo it.

// PrintCulprit shows what was found, and what to do about it.
func PrintCulprit(c *console.Console, r BisectReport) {
	bad := r.Bad
	c.Print("%s  %s  %s", console.Bad("broken since "+bad.Entry), console.Accent(bad.Release),
		strings.Join(notEmpty(source.Short(bad.Commit), console.Safe(bad.Subject)), "  "))
	c.Print("%s", console.Faint("by "+bad.Who+", "+c.Age(bad.When)+"; found with "+
		console.Count(int64(len(r.Tested)), "test", "tests")))
	if len(r.Skipped) > 0 {
		c.Print("%s", console.Warn("or by one of those between "+r.Good.Entry+
			" and it, which could not be tested"))
	}
	c.Hint("next:", "orilla diff "+r.Good.Entry+" "+bad.Entry)
	c.Hint("next:", "orilla rollback "+r.Good.Entry)
}
