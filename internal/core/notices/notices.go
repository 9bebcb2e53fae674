// Package notices is what a site tells the people who care for it: what happened, to whom,
// and what of that is still to be sent.
//
//	journals, builds, checks          what happened: written by those who did it, for their own sake
//	  Record.Look                     finds what is new since the last look
//	Record (sites/SITE/notices/N)     who is still to be told of what, and who was
//	  Record.Due, Sent, Failed        one recipient after the other
//
// Nothing is written for a notice when something happens. A deploy that is killed right after
// its entry has told everybody, since the entry is what is told: whoever runs next finds it.
// So each notice has an id that follows from what it tells, and one that is sent twice has it
// twice.
//
// Whoever sends has the turn. Turns are numbered, and each is one object that only its holder
// writes: of several who want the next one, one creates it. The next holder begins with what
// the last one left, so that what a holder sent and could not note any more is sent again.
package notices

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/journal"
)

// Kind is what happened.
type Kind string

// The kinds of notices, as orilla.yaml names them.
const (
	BuildStarted   Kind = "build-started"
	BuildSucceeded Kind = "build-succeeded"
	BuildFailed    Kind = "build-failed"
	Live           Kind = "live" // a deploy moved an environment
	Promoted       Kind = "promoted"
	RolledBack     Kind = "rolled-back"
	Frozen         Kind = "frozen"
	Thawed         Kind = "thawed"
	Waiting        Kind = "waiting" // a release waits for a thaw
	PreviewCreated Kind = "preview-created"
	PreviewEnded   Kind = "preview-ended"
	Removed        Kind = "removed" // a fixed environment was
	CheckFailed    Kind = "check-failed"
	Certificate    Kind = "certificate" // one ends, and is not renewed
	Test           Kind = "test"        // somebody asked for it
)

// All are the kinds that can be asked for, in the order in which they mostly come.
var All = []Kind{BuildStarted, BuildSucceeded, BuildFailed, Live, Promoted, RolledBack, Frozen, Thawed,
	Waiting, CheckFailed, PreviewCreated, PreviewEnded, Removed, Certificate}

// Usual are the kinds of a recipient that names none: what somebody wants to know who is not
// looking at it anyway.
var Usual = []Kind{BuildFailed, Live, Promoted, RolledBack, Frozen, Thawed, Waiting, CheckFailed, Removed,
	Certificate}

// Everything stands for all kinds in orilla.yaml.
const Everything = "all"

// A notice that waits is a reference and nothing more, so that a thousand of them are a hundred
// kilobytes, and so that nothing of what a branch or a message says lies in the record.

// Ref names one thing that happened. It is all that is kept of a notice that is to be sent;
// the rest is read when it is.
type Ref struct {
	Kind        Kind      `json:"kind"`
	Environment string    `json:"environment,omitempty"` // stored name; "" for what is about no environment
	Number      int64     `json:"number,omitempty"`      // of the journal's entry, or of the build
	What        string    `json:"what,omitempty"`        // the release that waits; what a node says
	When        time.Time `json:"when"`                  // as it was recorded, UTC
}

// IsOfBuild reports whether the number is that of a build.
func (r Ref) IsOfBuild() bool {
	return r.Kind == BuildStarted || r.Kind == BuildSucceeded || r.Kind == BuildFailed
}

// Subject is what it is about, as people type it: production:12, build:118, production.
func (r Ref) Subject() string {
	switch {
	case r.IsOfBuild():
		return fmt.Sprintf("build:%d", r.Number)
	case r.Environment == "":
		return "nodes"
	case r.Number > 0:
		return journal.Entry{Environment: r.Environment, Number: r.Number}.Label()
	}
	return journal.DisplayName(r.Environment)
}

// ID names the notice: the same for whatever tells of the same thing, however often.
//
//	production:12/live/20261129T041942.752Z
//	build:118/build-failed/20261129T041902.101Z
func (r Ref) ID() string {
	const stamp = "20060102T150405.000Z"
	return r.Subject() + "/" + string(r.Kind) + "/" + r.When.UTC().Format(stamp)
}

// Who names no environment is told of the fixed ones: previews come and go with each branch, and
// nobody wants a mail for each push. But a build that failed is told wherever it was to go, since
// nobody sees a preview that never came.

// Wants says which notices a recipient is sent.
type Wants struct {
	Kinds        []Kind
	Environments []string // patterns of names as people type them; none: the fixed environments
}

// Wants reports whether it is to be sent. What is about no environment concerns everybody who
// asks for its kind.
func (w Wants) Wants(r Ref) bool {
	if !slices.Contains(w.Kinds, r.Kind) {
		return false
	}
	if r.Environment == "" && !r.IsOfBuild() {
		return true
	}
	name := journal.DisplayName(r.Environment)
	if len(w.Environments) == 0 {
		// A build that failed is wanted wherever it was to go: nobody sees a preview that never came.
		return !journal.IsPreview(r.Environment) || r.Kind == BuildFailed
	}
	return slices.ContainsFunc(w.Environments, func(pattern string) bool { return Matches(pattern, name) })
}

// Matches reports whether a pattern of environments matches a name: production, preview/*, or *
// for all.
func Matches(pattern, name string) bool {
	if pattern == "*" {
		return true
	}
	matched, err := path.Match(pattern, name)
	return err == nil && matched
}

// IsPattern reports whether a pattern is one that could match.
func IsPattern(pattern string) bool {
	_, err := path.Match(pattern, "production")
	return err == nil && pattern != "" && !strings.ContainsAny(pattern, " \t")
}
