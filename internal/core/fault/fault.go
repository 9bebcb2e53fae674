// Package fault holds the one error type whose text is written for people: what
// happened, where, and what to do next.
//
//	fault.New(fault.Refused, "frozen", "production is frozen").
//		At("%s", address).
//		Because(err).
//		Then("orilla thaw production").
//		Marked(ErrFrozen)
//
// prints as
//
//	error: production is frozen [frozen]
//	   at: https://corvane.example/
//	  why: …
//	 next: orilla thaw production
//
// Two audiences never share a text. Programs decide on a Kind (which becomes the
// exit status), on sentinels by errors.Is (Marked), and scripts on the Code; none
// of them reads What. People read What, Where and Next, and none of these is built
// from the text of another error: that is in Because, behind the sentence.
//
// Packages below the command line return plain errors where only a program will
// decide on them, and a fault.Error where they know more about what to do next
// than whoever called them.
package fault

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Kind says how a command ends. Its numbers are the program's exit statuses.
type Kind int

// The kinds of ending, which are also the exit statuses.
const (
	Failed      Kind = 1 // something did not work
	Usage       Kind = 2 // wrong usage or configuration
	Refused     Kind = 3 // frozen, superseded, somebody was faster, not allowed
	Findings    Kind = 4 // a check found errors
	BuildFailed Kind = 5 // a step of the build failed
)

// Error is a failure told to a person. What is one sentence without a full
// stop; Where is a place such as "orilla.yaml:12:5", an address or an object;
// Detail holds further lines, printed as they are; Next is what to do, one
// proposal each. Code is stable and may be relied on by programs.
type Error struct {
	Kind Kind
	// Scripts may rely on codes; programs of this repository ask errors.Is.
	Code   string
	What   string
	Where  string
	Detail []string
	Next   []string
	Err    error

	is error
}

// New returns an error of the given kind and stable code.
func New(kind Kind, code, format string, args ...any) *Error {
	return &Error{Kind: kind, Code: code, What: fmt.Sprintf(format, args...)}
}

// At sets where it happened.
func (e *Error) At(format string, args ...any) *Error {
	e.Where = fmt.Sprintf(format, args...)
	return e
}

// With adds lines of detail.
func (e *Error) With(lines ...string) *Error {
	e.Detail = append(e.Detail, lines...)
	return e
}

// Then adds a proposal for what to do next.
func (e *Error) Then(format string, args ...any) *Error {
	e.Next = append(e.Next, fmt.Sprintf(format, args...))
	return e
}

// Because records the cause, which errors.Is and errors.As
// see and the message shows.
func (e *Error) Because(err error) *Error {
	e.Err = err
	return e
}

// Marked marks the message as what errors.Is finds under a sentinel, for
// callers that decide on it. The sentinel's own text is not shown.
func (e *Error) Marked(sentinel error) *Error {
	e.is = sentinel
	return e
}

// Is implements the interface that errors.Is asks.
func (e *Error) Is(target error) bool { return e.is != nil && e.is == target }

// Error gives the message on one line, for logs and for wrapping.
func (e *Error) Error() string {
	text := e.What
	if e.Where != "" {
		text = e.Where + ": " + text
	}
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	return text
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// KindOf tells how a command that met err ends: the kind
// of the first Error in its chain, else Failed.
func KindOf(err error) Kind {
	if e, ok := errors.AsType[*Error](err); ok {
		return e.Kind
	}
	return Failed
}

// Code returns the stable code of the first Error in the chain, or "".
func Code(err error) string {
	if e, ok := errors.AsType[*Error](err); ok {
		return e.Code
	}
	return ""
}

// Notice is something a person should know that stops
// nothing: a warning, or a remark.
type Notice struct {
	Code  string   `json:"code"`
	What  string   `json:"what"`
	Paths []string `json:"paths,omitempty"` // the first few paths it is about
	Next  string   `json:"next,omitempty"`
}

// All returns the errors that were joined into one, as errors.Join does, in
// order: each has something to say. Any other error is alone.
//
// errors.Join makes one error of several, and people are to see each with what
// to do next.
func All(err error) []error {
	// Only what was joined last: what is wrapped belongs to a message.
	joined, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return []error{err}
	}

	var all []error
	lines := []string{}
	for _, one := range joined.Unwrap() {
		all = append(all, All(one)...)
		lines = append(lines, one.Error())
	}

	if err.Error() != strings.Join(lines, "\n") { // fmt.Errorf with more than one %w
		return []error{err}
	}
	return all
}

// Lines gives an error in several lines, as it is shown to people.
func Lines(err error) []string {
	problem, ok := errors.AsType[*Error](err)
	if !ok {
		return []string{err.Error()}
	}
	lines := []string{problem.What + " [" + problem.Code + "]"}
	if problem.Where != "" {
		lines = append(lines, "  at: "+problem.Where)
	}
	if problem.Err != nil {
		lines = append(lines, " why: "+problem.Err.Error())
	}
	for _, line := range problem.Detail {
		lines = append(lines, "     "+line)
	}
	for _, next := range problem.Next {
		lines = append(lines, "next: "+next)
	}
	return lines
}

// Line gives an error on one line, as records and lists show it: what happened,
// of a step of a build also which, and of a finding where.
func Line(err error) string {
	if errors.Is(err, context.Canceled) {
		return "interrupted"
	}
	problem, ok := errors.AsType[*Error](err)
	switch {
	case !ok:
		return err.Error()
	case problem.Where != "" && problem.Kind == BuildFailed:
		return problem.What + ": " + problem.Where
	case problem.Where != "" && problem.Kind == Findings:
		return problem.Where + ": " + problem.What
	}
	return problem.What
}
