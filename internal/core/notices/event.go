package notices

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode"

	"orilla.example/orilla/internal/core/journal"
)

// Event is a notice as it is sent: an event of CloudEvents 1.0 in its JSON format, with the
// extension "sequence".
type Event struct {
	SpecVersion string    `json:"specversion"` // "1.0"
	ID          string    `json:"id"`          // Ref.ID
	Source      string    `json:"source"`      // "/sites/corvane"
	Type        string    `json:"type"`        // TypePrefix and the kind
	Subject     string    `json:"subject"`     // Ref.Subject
	Time        time.Time `json:"time"`        // when it happened, not when it is sent
	ContentType string    `json:"datacontenttype"`
	// Sequence orders the events of a subject's environment, or of builds: the number with ten digits.
	Sequence string `json:"sequence,omitempty"`
	Data     Data   `json:"data"`
}

// TypePrefix begins the types of events.
const TypePrefix = "example.orilla."

// MediaType is that of an event (CloudEvents, HTTP protocol binding, structured mode).
const MediaType = "application/cloudevents+json; charset=utf-8"

// Data is what is known of what happened. All texts that others wrote (subjects of commits,
// names of branches) are on one line, without control characters, and of bounded length.
type Data struct {
	Site        string `json:"site"`
	Kind        Kind   `json:"kind"`
	Title       string `json:"title"` // one line for people
	Environment string `json:"environment,omitempty"`

	Entry   string   `json:"entry,omitempty"`   // production:12
	Release string   `json:"release,omitempty"` // r-5957c6e633
	Commit  string   `json:"commit,omitempty"`  // the full hash
	Branch  string   `json:"branch,omitempty"`
	Summary string   `json:"summary,omitempty"` // the first line of the commit's message
	Who     string   `json:"who,omitempty"`     // a name
	Why     string   `json:"why,omitempty"`     // what the person, or Orilla, said of it
	URLs    []string `json:"urls,omitempty"`    // where it can be seen
	Code    string   `json:"commit_url,omitempty"`

	Before  *Before  `json:"before,omitempty"`  // what was live before
	Changed *Changed `json:"changed,omitempty"` // how the two differ

	Build   string     `json:"build,omitempty"`        // build:118
	TookMS  int64      `json:"milliseconds,omitempty"` // the build
	Problem string     `json:"problem,omitempty"`      // one line: why a build or a check failed
	Frozen  bool       `json:"frozen,omitempty"`       // automatic deploys are refused from now on
	Until   *time.Time `json:"until,omitempty"`        // when a freeze, or a preview, ends
	Checks  []Check    `json:"checks,omitempty"`       // those that did not pass
	Next    []string   `json:"commands,omitempty"`     // what to type: the first undoes it, or shows more

	// Picture is the home page, as a photograph (JPEG); mails have it, if it was taken before they are sent.
	Picture []byte `json:"-"`
}

// Before is what an environment served before.
type Before struct {
	Entry   string `json:"entry"`
	Release string `json:"release,omitempty"`
	Commit  string `json:"commit,omitempty"`
	Summary string `json:"summary,omitempty"`
}

// Changed counts how two releases differ.
type Changed struct {
	Added   int      `json:"added"`
	Changed int      `json:"changed"`
	Removed int      `json:"removed"`
	Paths   []string `json:"paths,omitempty"` // the first few of them, pages first
}

// Check is one that did not pass.
type Check struct {
	What string `json:"what"`
	Text string `json:"text"`
}

// Bounds of texts that others wrote, in characters.
const (
	longestText  = 300
	longestTitle = 150
	// MostPaths is how many paths a notice names.
	MostPaths = 10
)

// An event says what happened, and nothing that a receiver would have to ask for: it may stand behind
// a wall from which the store cannot be seen, and be read when the release is long gone.

// NewEvent returns the event of what happened. It cleans the texts of data.
func NewEvent(ref Ref, data Data) Event {
	data.Kind, data.Environment = ref.Kind, journal.DisplayName(ref.Environment)
	data.clean()
	data.Title = data.title(ref)
	e := Event{SpecVersion: "1.0", ID: ref.ID(), Source: "/sites/" + data.Site,
		Type: TypePrefix + string(ref.Kind), Subject: ref.Subject(), Time: ref.When.UTC(),
		ContentType: "application/json", Data: data}
	if ref.Number > 0 {
		e.Sequence = fmt.Sprintf("%010d", ref.Number)
	}
	return e
}

// Encode returns the event's JSON.
func (e Event) Encode() ([]byte, error) { return json.Marshal(e) }

// clean makes texts of others safe to show anywhere: a message of a commit is the work of
// whoever may push a branch.
func (d *Data) clean() {
	for _, text := range []*string{&d.Branch, &d.Summary, &d.Who, &d.Why, &d.Problem} {
		*text = OneLine(*text, longestText)
	}
	if d.Before != nil {
		d.Before.Summary = OneLine(d.Before.Summary, longestText)
	}
	for i := range d.Checks {
		d.Checks[i] = Check{OneLine(d.Checks[i].What, longestText), OneLine(d.Checks[i].Text, longestText)}
	}
	if d.Changed != nil {
		for i, path := range d.Changed.Paths {
			d.Changed.Paths[i] = OneLine(path, longestText)
		}
	}
}

// OneLine puts a text on one line, without control and formatting characters (those that turn the
// direction of what follows, among others), and cuts it to so many characters.
func OneLine(text string, most int) string {
	text = strings.ToValidUTF8(text, "\uFFFD")
	text = strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || unicode.Is(unicode.Cc, r) {
			return ' '
		}
		if unicode.Is(unicode.Cf, r) || !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, text)
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > most {
		text = string(runes[:most-1]) + "…"
	}
	return text
}

// The title is the subject of the mail, and often all that is read: on a telephone the first forty
// characters. So it begins with what happened where, and the words of others come after that.

// title says in one line what happened, with the site's name before it.
func (d Data) title(ref Ref) string {
	what := ""
	about := d.Summary
	switch ref.Kind {
	case BuildStarted:
		what = "build started on " + d.place()
	case BuildSucceeded:
		what = "build succeeded on " + d.place()
	case BuildFailed:
		what, about = "build failed on "+d.place(), d.Problem
	case Live:
		what = d.Environment + " is live"
	case Promoted:
		what = d.Environment + " was promoted"
	case RolledBack:
		what, about = d.Environment+" was rolled back", d.Why // to what its commit says, without a reason
		if about == "" {
			about = d.Summary
		}
	case Frozen:
		what, about = d.Environment+" is frozen", d.Why
	case Thawed:
		what, about = d.Environment+" is thawed", d.Why
	case Waiting:
		what = "a release waits for " + d.Environment
	case PreviewCreated:
		what = d.Environment + " is live"
	case PreviewEnded:
		what, about = d.Environment+" ended", d.Why
	case Removed:
		what, about = d.Environment+" was removed", d.Why
	case CheckFailed:
		what, about = "checks failed on "+d.Environment, d.failed()
	case Certificate:
		what, about = d.Problem, ""
	case Test:
		what, about = "a test of notices", d.Why
	}
	if about != "" {
		what += ": " + about
	}
	return OneLine(d.Site+": "+what, longestTitle)
}

// place is the branch of a build, or where it was to go.
func (d Data) place() string {
	switch {
	case d.Branch != "":
		return d.Branch
	case d.Environment != "":
		return d.Environment
	}
	return "no branch"
}

// failed is the first check that did not pass.
func (d Data) failed() string {
	if len(d.Checks) == 0 {
		return ""
	}
	return d.Checks[0].What + ": " + d.Checks[0].Text
}

// Row is one line of a notice for people: a label, and texts below each other.
type Row struct {
	Label string
	Texts []string
	// Links are where the texts lead, of as many as there are texts; nil for none.
	Links []string
	// Command says that the texts are typed.
	Command bool
}

// The rows are in the order of the questions that one has: which change is it, whose, where do I see
// it, how large is it, what was there before, and how do I get that back.

// Rows are what a notice says to people, below its title.
func (d Data) Rows() (rows []Row) {
	add := func(label string, texts ...string) {
		if len(texts) > 0 && texts[0] != "" {
			rows = append(rows, Row{Label: label, Texts: texts})
		}
	}
	if d.Kind != Certificate && d.Kind != BuildFailed {
		add("commit", d.commit())
	} else if d.Kind == BuildFailed {
		add("problem", d.Problem)
		add("commit", d.commit())
	}
	if len(rows) > 0 && d.Code != "" {
		rows[len(rows)-1].Links = []string{d.Code}
	}
	if d.Who != "" {
		add("by", d.Who)
	}
	add("reason", d.Why)
	for _, check := range d.Checks {
		add("check", check.What+": "+check.Text)
	}
	if len(d.URLs) > 0 {
		rows = append(rows, Row{Label: "open", Texts: d.URLs, Links: d.URLs})
	}
	if d.Changed != nil {
		add("changed", append([]string{d.Changed.String()}, d.Changed.Paths...)...)
	}
	if d.Before != nil && d.Before.Release != "" {
		add("before", strings.Join(words(d.Before.Entry, d.Before.Release, short(d.Before.Commit),
			d.Before.Summary), "  "))
	}
	if d.Build != "" {
		add("build", strings.Join(words(d.Build, took(d.TookMS)), "  "))
	}
	if d.Frozen && d.Kind != Frozen {
		add("frozen", "automatic deploys wait until somebody thaws it")
	}
	if d.Until != nil {
		add("until", d.Until.UTC().Format("2006-01-02 15:04 UTC"))
	}
	if len(d.Next) > 0 {
		rows = append(rows, Row{Label: d.nextLabel(), Texts: d.Next, Command: true})
	}
	return rows
}

// nextLabel names the first command: only where it takes something back does it undo.
func (d Data) nextLabel() string {
	switch d.Kind {
	case Live, Promoted, RolledBack, Frozen:
		return "undo"
	}
	return "next"
}

// commit says which commit it is about.
func (d Data) commit() string {
	return strings.Join(words(short(d.Commit), d.Summary, d.onBranch()), "  ")
}

// onBranch is the branch in words.
func (d Data) onBranch() string {
	if d.Branch == "" {
		return ""
	}
	return "(" + d.Branch + ")"
}

// String says how many files differ.
func (c Changed) String() string {
	var parts []string
	for _, part := range []struct {
		count int
		what  string
	}{{c.Added, "added"}, {c.Changed, "changed"}, {c.Removed, "removed"}} {
		if part.count > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.count, part.what))
		}
	}
	if len(parts) == 0 {
		return "no file; rules or settings differ"
	}
	return strings.Join(parts, ", ")
}

// short is the beginning of a hash, as people write it.
func short(hash string) string {
	const digits = 7
	return hash[:min(digits, len(hash))]
}

// took says how long something took; "" for no time.
func took(milliseconds int64) string {
	if milliseconds == 0 {
		return ""
	}
	return (time.Duration(milliseconds) * time.Millisecond).Round(100 * time.Millisecond).String()
}

// words leaves out those that are empty.
func words(list ...string) (kept []string) {
	for _, word := range list {
		if word != "" {
			kept = append(kept, word)
		}
	}
	return kept
}
