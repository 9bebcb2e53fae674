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
	Now     func() time.Time
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
func (c *Console) Table(rows [][]string, right ...int) { table(c, rows, true, right) }

// Columns writes rows as Table does, without a heading.
func (c *Console) Columns(rows [][]string, right ...int) { table(c, rows, false, right) }

// table writes rows with their columns aligned, the first one faint if it is a
// heading. Columns in right are aligned to the right.
func table(c *Console, rows [][]string, heading bool, right []int) {
	if len(rows) == 0 {
		return
	}
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], lipgloss.Width(cell))
		}
	}

	limit := 0
	if c.OutTerm {
		limit, _, _ = term.GetSize(int(os.Stdout.Fd()))
	}
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

		text := strings.TrimRight(line.String(), " ")
		if limit > 0 && lipgloss.Width(text) > limit {
			text = lipgloss.NewStyle().MaxWidth(limit - 1).Render(text)
		}
		c.Print("%s", text)
	}
}

// Notice writes a warning or remark.
func (c *Console) Notice(n fault.Notice) {
	c.Note("%s %s %s", Warn("note:"), n.What, Faint("["+n.Code+"]"))
	for _, path := range n.Paths {
		c.Note("      %s", path)
	}
	if n.Next != "" {
		c.Note("      %s", Faint(n.Next))
	}
}

// Problem writes an error: what happened, where, and what to do next. Of
// several that were joined it writes each.
func (c *Console) Problem(err error) {
	all := fault.All(err)
	if len(all) == 1 {
		problem(c, all[0])
		return
	}
	for _, one := range all {
		c.Problem(one)
	}
}

// problem writes one error.
func problem(c *Console, err error) {
	problem, ok := errors.AsType[*fault.Error](err)
	if !ok {
		c.Note("%s %s", Bad("error:"), Safe(err.Error()))
		return
	}

	c.Note("%s %s %s", Bad("error:"), Strong(Safe(problem.What)), Faint("["+problem.Code+"]"))
	if problem.Where != "" {
		c.Note("   at: %s", Safe(problem.Where))
	}
	if problem.Err != nil {
		c.Note("  why: %s", Safe(problem.Err.Error()))
	}

	for _, line := range problem.Detail {
		c.Note("      %s", Safe(line))
	}
	for _, next := range problem.Next {
		c.Note(" %s %s", Accent("next:"), Safe(next))
	}
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
	switch {
	case d < 0:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
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
	switch {
	case d < time.Minute:
		return "within a minute"
	case d < time.Hour:
		return fmt.Sprintf("in %d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("in %d h", int(d.Hours()))
	}
	return fmt.Sprintf("in %d days", int(d.Hours()/24))
}

// Link gives text an address that terminals open (OSC 8); elsewhere, or without
// an address, it stays as it is.
func (c *Console) Link(text, address string) string {
	if !c.OutTerm || address == "" {
		return text
	}
	return "\x1b]8;;" + address + "\x1b\\" + text + "\x1b]8;;\x1b\\"
}
