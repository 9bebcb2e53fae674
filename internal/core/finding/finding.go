// Package finding is what checking finds: a mistake, or something that deserves a
// look, with the place it is at.
//
//	site.rules:2:1: warning: this rule never applies: the one at site.rules:1:1
//	takes all its paths [rule-shadowed]
//	    redirect /boats/kraken -> /fleet/
//	    ^
//	    site.rules:1:1: redirect /boats/{rest:all} -> /fleet/
//	  next: put this rule above that one, or remove it
//
// A List is collected to its end before anybody acts on it, so that ten mistakes
// in a file are told at once and not one after each attempt. An Error stops a
// deploy; a Warning does so only if the configuration lists its code.
package finding

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"orilla.example/orilla/internal/core/fault"
)

// Level says how grave a finding is.
type Level string

// The levels. An error stops a deploy; a warning does not,
// unless the configuration says so.
const (
	Error   Level = "error"
	Warning Level = "warning"
)

// Position is a place in a text file. Lines and columns count from 1, columns
// in characters; 0 means that no place is known.
type Position struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// String writes file:line:column as far as they are known.
func (p Position) String() string {
	switch {
	case p.Line == 0:
		return p.File
	case p.Column == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Finding is one thing that was found. Code is stable and
// may be relied on by programs.
type Finding struct {
	Level Level  `json:"level"`
	Code  string `json:"code"`
	What  string `json:"what"` // one sentence without a full stop
	Position
	Text string   `json:"text,omitempty"` // the line of the file
	More []string `json:"more,omitempty"` // further lines, printed as they are
	Next string   `json:"next,omitempty"` // what to do
}

// Excerpt returns the line of the finding and, below it, a caret at the place.
func (f Finding) Excerpt() []string {
	if f.Text == "" {
		return nil
	}
	text := strings.ReplaceAll(f.Text, "\t", " ")
	if f.Column == 0 {
		return []string{text}
	}

	before, n := 0, 0
	for i := range text {
		if n++; n == f.Column {
			before = i
			break
		}
	}

	if n < f.Column {
		before = len(text)
	}
	start := max(0, before-60)
	cut := ""

	if start > 0 {
		for start < before && text[start]&0xc0 == 0x80 {
			start++
		}
		cut = "... "
	}

	shown := []rune(cut + text[start:])
	if len(shown) > 150 {
		shown = append(shown[:146], []rune(" ...")...)
	}
	return []string{string(shown), strings.Repeat(" ", width(cut+text[start:before])) + "^"}
}

// width is how many columns of a terminal a text takes,
// near enough: marks that combine take none.
func width(text string) int {
	n := 0
	for _, c := range norm.NFC.String(text) {
		n++
		if c >= 0x1100 && (c <= 0x115f || c >= 0x2e80 && c <= 0xa4cf || c >= 0xac00 && c <= 0xd7a3 ||
			c >= 0xf900 && c <= 0xfaff || c >= 0xff00 && c <= 0xff60) {
			n++
		}
	}
	return n
}

// List collects findings.
type List []Finding

// Add appends a finding.
func (l *List) Add(f Finding) { *l = append(*l, f) }

// Errors returns how many are errors.
func (l List) Errors() int {
	n := 0
	for _, f := range l {
		if f.Level == Error {
			n++
		}
	}
	return n
}

// Sort puts findings in the order of their places, errors
// before warnings at the same place.
func (l List) Sort() {
	slices.SortStableFunc(l, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line),
			cmp.Compare(a.Column, b.Column), cmp.Compare(a.Level, b.Level))
	})
}

// shown is how many findings one message lists.
const shown = 20

// Problem makes the errors of a list into one message, or nil if there is none.
func (l List) Problem() error {
	var problem *fault.Error
	n := 0
	for _, f := range l {
		if f.Level != Error {
			continue
		}
		switch n++; {
		case n == 1:
			problem = fault.New(fault.Findings, f.Code, "%s", f.What).At("%s", f.Position).
				With(indent(f.Excerpt(), "  ")...).With(f.More...)
		case n <= shown:
			problem = problem.With(fmt.Sprintf("%s: %s [%s]", f.Position, f.What, f.Code)).
				With(indent(f.Excerpt(), "  ")...).With(f.More...)
		}

		if n <= shown && f.Next != "" {
			if n == 1 {
				problem = problem.Then("%s", f.Next)
			} else {
				problem = problem.With("next: " + f.Next)
			}
		}
	}

	if problem == nil {
		return nil
	}
	if n > shown {
		problem = problem.With(fmt.Sprintf("and %d more", n-shown))
	}
	return problem
}

// indent puts something before each line.
func indent(lines []string, by string) []string {
	out := make([]string, len(lines))
	for i, line := range lines {
		out[i] = by + line
	}
	return out
}
