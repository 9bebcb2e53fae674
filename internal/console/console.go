// Package console is how things look to people: colours, columns, progress,
// questions, errors. It decides nothing.
//
//	c.Row(c.Out, "live", "r-4f1c9a2b07  2 min ago")   // a label, and what belongs to it
//	c.Note("%s", "nothing was done: --dry-run")       // beside the result, on standard error
//	c.JSON(report)                                    // for programs, with --json
//
// What was asked for goes to Out and everything else to Err, so that a pipe gets
// the result and nothing besides. Colour, width, and whether questions can be
// asked follow from what the two are connected to, and from NO_COLOR and TERM. A
// Console is safe for concurrent use: progress and notes of several builds do not
// run into each other.
package console

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unicode"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
	"golang.org/x/term"

	"orilla.example/orilla/internal/core/fault"
)

// Console writes results to one stream and progress and notes to another.
type Console struct {
	Out     io.Writer // results; colours fall away where they cannot be shown
	Err     io.Writer // progress, notes, errors
	OutTerm bool      // Out is a terminal
	ErrTerm bool      // Err is a terminal
	Asks    bool      // somebody is there to answer: standard input and Err are terminals
	JSON    bool      // results are JSON
	Assume  bool      // every question is answered with yes, and not asked: a dry run
	Now     func() time.Time
	// Typed completes the commands in a text, so that they work where the running
	// command was typed; nil leaves them as they are.
	Typed func(text string) string

	errors     io.Writer // where errors go, if not to Err
	documented bool      // a document was written
}

// New returns a console on the process's own streams. Colours follow NO_COLOR
// and the like, by colorprofile.
func New() *Console {
	isTerm := func(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }
	writer := func(to *os.File) io.Writer {
		w := colorprofile.NewWriter(to, os.Environ())
		if os.Getenv("NO_COLOR") != "" {
			w.Profile = colorprofile.NoTTY // no control characters at all
		}
		return w
	}

	return &Console{
		Out: writer(os.Stdout), Err: writer(os.Stderr),
		OutTerm: isTerm(os.Stdout), ErrTerm: isTerm(os.Stderr), Asks: isTerm(os.Stdin) && isTerm(os.Stderr),
		Now: time.Now,
	}
}

// Unstyled returns a writer of text without colours and control characters, for a file.
func Unstyled(to io.Writer) io.Writer {
	return &colorprofile.Writer{Forward: to, Profile: colorprofile.NoTTY}
}

// Plain takes all colours and control characters out of what is printed from now
// on, as NO_COLOR does.
func Plain(c *Console) {
	for _, w := range []io.Writer{c.Out, c.Err} {
		if colours, ok := w.(*colorprofile.Writer); ok {
			colours.Profile = colorprofile.NoTTY
		}
	}
}

// Quiet prints only results and errors from now on: no progress, no notes, no
// hints. Questions are still asked.
func Quiet(c *Console) {
	c.errors, c.Err, c.ErrTerm = c.Err, io.Discard, false
}

// Command gives a command as it has to be typed here, and in the colour of what
// can be typed.
func (c *Console) Command(command string) string { return Accent(c.Complete(command)) }

// Hint writes what can be done next, beside the result: a label, and a text with a
// command at its end.
//
//	undo: orilla rollback
//	next: serve it on this machine: orilla edge
func (c *Console) Hint(label, text string) { c.Note("%s %s", Faint(label), c.Complete(text)) }

// Complete completes the commands in a text, so that they work as printed.
func (c *Console) Complete(text string) string {
	if c.Typed == nil {
		return text
	}
	return c.Typed(text)
}

// Styles, in the sixteen colours that every terminal's own scheme has.
var (
	strong = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
	good   = lipgloss.NewStyle().Foreground(lipgloss.Green)
	bad    = lipgloss.NewStyle().Foreground(lipgloss.Red).Bold(true)
	warn   = lipgloss.NewStyle().Foreground(lipgloss.Yellow)
	accent = lipgloss.NewStyle().Foreground(lipgloss.Cyan)
)

// Strong is for what is looked for. Like Faint, Good, Bad, Warn and Accent, it
// gives text a meaning that colour shows.
func Strong(text string) string { return strong.Render(text) }

// Faint is for what matters less.
func Faint(text string) string { return styled(faint, text) }

// Good is for what is as it should be.
func Good(text string) string { return styled(good, text) }

// Bad is for errors.
func Bad(text string) string { return styled(bad, text) }

// Warn is for what deserves a look.
func Warn(text string) string { return styled(warn, text) }

// Accent is for what can be typed or opened.
func Accent(text string) string { return styled(accent, text) }

// styled renders a text, and leaves an empty one empty: styles would turn it
// into escapes that take no room but are not nothing.
func styled(style lipgloss.Style, text string) string {
	if text == "" {
		return ""
	}
	return style.Render(text)
}

// Print writes a result.
//
//nolint:errcheck // nobody to tell
func (c *Console) Print(format string, args ...any) { fmt.Fprintf(c.Out, format+"\n", args...) }

// Note writes progress or a remark.
//
//nolint:errcheck // nobody to tell
func (c *Console) Note(format string, args ...any) { fmt.Fprintf(c.Err, format+"\n", args...) }

// Document writes a result as one JSON document.
func (c *Console) Document(v any) error {
	c.documented = true
	encoder := json.NewEncoder(c.Out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// Result writes what a command found: as one JSON document if results are JSON,
// and as text otherwise. text is called for the second only.
func (c *Console) Result(v any, text func()) error {
	if c.JSON {
		return c.Document(v)
	}
	text()
	return nil
}

// Line writes one line of a stream of JSON documents.
func (c *Console) Line(v any) error {
	encoder := json.NewEncoder(c.Out)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

// Row writes one line of a report: a label, and what belongs to it.
//
// Labels stand in one column, so that a report can be read down its edge:
//
//	store     /srv/orilla
//	builds    12
func (c *Console) Row(w io.Writer, label, text string) {
	//nolint:errcheck // nobody to tell
	fmt.Fprintf(w, "  %s%s %s\n", Faint(label), strings.Repeat(" ", max(0, 9-lipgloss.Width(label))), text)
}

// Table writes rows in columns, the first row as a heading. On a terminal each
// column is as wide as it needs; the last is cut at the terminal's edge.
// Elsewhere columns are separated the same way, so that a line stays a line.
// The columns named in right are numbers, set to the right.
func (c *Console) Table(rows [][]string, right ...int) { table(c, rows, true, right, nil) }

// Lines below a row are for what happened in it, and have no columns:
//
//	DAY         REQUESTS
//	Sat 28 Nov   188,400
//	  10:42 production:18 deploy 4be21c7 Fares for the winter

// TableWith writes rows as Table does, and below each row, from 1, lines that belong to it.
func TableWith(c *Console, rows [][]string, below func(row int) []string, right ...int) {
	table(c, rows, true, right, below)
}

// Columns writes rows as Table does, without a heading.
func Columns(c *Console, rows [][]string, right ...int) { table(c, rows, false, right, nil) }

// table writes rows with their columns aligned, the first one faint if it is a
// heading. Columns in right are aligned to the right.
func table(c *Console, rows [][]string, heading bool, right []int, below func(row int) []string) {
	if len(rows) == 0 {
		return
	}
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], lipgloss.Width(cell))
		}
	}

	limit := widthOf(c)
	for i, row := range rows {
		var line strings.Builder
		for j, cell := range row {
			if i == 0 && heading {
				cell = Faint(cell)
			}
			room := strings.Repeat(" ", widths[j]-lipgloss.Width(cell))
			if slices.Contains(right, j) {
				cell, room = room+cell, ""
			}

			line.WriteString(cell)
			if j < len(row)-1 {
				line.WriteString(room + "  ")
			}
		}

		lines := []string{strings.TrimRight(line.String(), " ")}
		if below != nil && i > 0 {
			lines = append(lines, below(i)...)
		}
		for _, text := range lines {
			if limit > 0 && lipgloss.Width(text) > limit {
				text = ansi.Truncate(text, limit, "…") // a number that is cut would be another one
			}
			c.Print("%s", text)
		}
	}
}

// widthOf is how wide the terminal is; 0 where output is none.
func widthOf(c *Console) int {
	if !c.OutTerm {
		return 0
	}
	width, _, _ := term.GetSize(int(os.Stdout.Fd()))
	return width
}

// Hanging breaks a text that begins at a column where the terminal ends, between words, so that its
// further lines begin at the same column. Elsewhere a line stays a line.
func Hanging(c *Console, column int, text string) string { return hanging(widthOf(c), column, text) }

// hanging is Hanging for a width; 0 is as wide as it likes.
func hanging(width, column int, text string) string {
	const least = 20 // in less, words would stand below each other
	if width < column+least {
		return text
	}
	return strings.ReplaceAll(ansi.Wordwrap(text, width-column, ""), "\n", "\n"+strings.Repeat(" ", column))
}

// Notice writes a warning or remark.
func (c *Console) Notice(n fault.Notice) {
	c.Note("%s %s %s", Warn("note:"), n.What, Faint("["+n.Code+"]"))
	for _, path := range n.Paths {
		c.Note("      %s", path)
	}
	if n.Next != "" {
		c.Note("      %s", Faint(c.Complete(n.Next)))
	}
}

// Problem writes an error: what happened, where, and what to do next. Of
// several that were joined it writes each.
func (c *Console) Problem(err error) {
	for _, one := range fault.All(err) {
		problem(c, one)
	}
}

// problem writes one error.
func problem(c *Console, err error) {
	out := c.Err
	if c.errors != nil {
		out = c.errors
	}
	//nolint:errcheck // nobody to tell
	say := func(format string, args ...any) { fmt.Fprintf(out, format+"\n", args...) }
	problem, ok := errors.AsType[*fault.Error](err)
	if !ok {
		say("%s %s", Bad("error:"), Safe(err.Error()))
		return
	}

	say("%s %s %s", Bad("error:"), Strong(Safe(problem.What)), Faint("["+problem.Code+"]"))
	if problem.Where != "" {
		say("   at: %s", Safe(problem.Where))
	}
	if problem.Err != nil {
		say("  why: %s", Safe(problem.Err.Error()))
	}

	for _, line := range problem.Detail {
		say("      %s", Safe(line))
	}
	for _, next := range problem.Next {
		say(" %s %s", Accent("next:"), Safe(c.Complete(next)))
	}
}

// An error is written twice with --json: as a document to standard output, where a
// program reads, and in words to standard error, where logs are kept.

// Failure is an error as programs read it, with --json.
type Failure struct {
	Code   string   `json:"code"`             // stable; "" of an error that has none
	What   string   `json:"what"`             // one sentence
	Where  string   `json:"where,omitempty"`  // a place, an address or an object
	Why    string   `json:"why,omitempty"`    // the cause
	Detail []string `json:"detail,omitempty"` // further lines
	Next   []string `json:"next"`             // what to do, one proposal each
}

// Failures is the document that stands in the place of a result.
type Failures struct {
	Errors []Failure `json:"errors"`
}

// Failed writes an error as a document in the place of the result, if results are
// JSON and none was written: a program that reads the output finds one document in
// any case.
func Failed(c *Console, err error) {
	if !c.JSON || c.documented {
		return
	}
	report := Failures{Errors: []Failure{}}
	for _, one := range fault.All(err) {
		failure := Failure{What: Safe(one.Error()), Next: []string{}}
		if problem, ok := errors.AsType[*fault.Error](one); ok {
			failure.Code, failure.What, failure.Where = problem.Code, Safe(problem.What), Safe(problem.Where)
			if problem.Err != nil {
				failure.Why = Safe(problem.Err.Error())
			}
			for _, line := range problem.Detail {
				failure.Detail = append(failure.Detail, Safe(line))
			}
			for _, next := range problem.Next {
				failure.Next = append(failure.Next, Safe(c.Complete(next)))
			}
		}
		report.Errors = append(report.Errors, failure)
	}
	c.Document(report) //nolint:errcheck // nobody to tell
}

// Safe takes out of a text what would steer a terminal: files of anybody's
// commits are quoted in messages.
//
// Without that, a commit's subject could move the cursor, or make a refusal
// look like a success.
func Safe(text string) string {
	return strings.Map(func(c rune) rune {
		if unicode.IsControl(c) && c != '\n' && c != '\t' {
			return -1
		}
		return c
	}, text)
}

// Age says how long ago a time was.
//
//	5 s ago   3 min ago   2 h ago   4 days ago
func (c *Console) Age(t time.Time) string {
	d := c.Now().Sub(t)
	if d < time.Second {
		return "just now"
	}
	return rounded(d) + " ago"
}

// rounded writes a length of time in its nearest unit, up to two days in hours: a
// preview of 30 days that was made a moment ago ends in 30 days, not in 29.
func rounded(d time.Duration) string {
	switch {
	case d.Round(time.Second) < time.Minute:
		return fmt.Sprintf("%d s", int(d.Round(time.Second).Seconds()))
	case d.Round(time.Minute) < time.Hour:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
	case d.Round(time.Hour) < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Round(time.Hour).Hours()))
	}
	const day = 24 * time.Hour
	return fmt.Sprintf("%d days", int(d.Round(day)/day))
}

// Size writes a number of bytes in decimal units.
//
//	812 B   4.2 kB   93 MB
func Size(bytes int64) string { return humanize.Bytes(uint64(max(bytes, 0))) }

// Took writes a duration as people measure it.
//
//	40 ms   1.2 s   3 min 12 s
func Took(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
}

// Label returns the label of line i of several that belong together: only the
// first has it.
//
//	next   4f1c9a2  The winter timetable
//	       9be0312  Prices of the Velley line
func Label(label string, i int) string {
	if i > 0 {
		return ""
	}
	return label
}

// Count writes a number with its noun.
//
//	1 file   12 files
func Count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(n) + " " + many
}

// Until says how long it is to a time.
func (c *Console) Until(t time.Time) string {
	d := t.Sub(c.Now())
	if d < time.Minute {
		return "within a minute"
	}
	return "in " + rounded(d)
}

// Link gives text an address that terminals open (OSC 8); elsewhere, or without
// an address, it stays as it is.
func (c *Console) Link(text, address string) string {
	if !c.OutTerm || address == "" {
		return text
	}
	return "\x1b]8;;" + address + "\x1b\\" + text + "\x1b]8;;\x1b\\"
}
