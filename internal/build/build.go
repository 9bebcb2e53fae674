// Package build makes the output of a plan: it finds a workspace, runs the steps
// there, keeps apart what is not trusted, and says in the store that it does.
//
//	b, building, err := build.Begin(ctx, request) // numbered and announced
//	output, err := b.Output(building)             // a folder that can be scanned
//	defer output.Close()                          // ... which is put into the store meanwhile
//	b.End(ctx, result, err)                       // how it went is recorded
//
// Output that somebody else has made is Given: it has neither number nor
// announcement.
//
// A workspace is a checkout of one commit: what lies in the developer's own folder
// and is not committed cannot get into a release. It is kept between builds for
// what `keep` names (packages, caches), never shared by two builds at once, and
// cleaned of all else that the last one made.
//
// An announcement (sites/<site>/running/...) is a lease that others see: they wait
// for the result instead of building the same a second time, read the log as it
// grows, and can cancel.
package build

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/store"
)

// Reporter is told how a build goes. Its methods are
// called from one goroutine at a time.
type Reporter interface {
	// Begin tells of a phase that begins: "checkout", "unpack", "build", and of
	// a deploy also "scan", "rules", "upload", "check" and "commit". What says
	// more, such as the command of a step; it may be empty.
	Begin(phase, what string)
	// Line tells of a line that a step printed, without its end.
	Line(text string)
	// Step tells of a step that has ended.
	Step(step builds.Step)
	// Notice tells what a person should know, and stops nothing.
	Notice(notice fault.Notice)
}

// Request says what is built, for whom, and with what.
type Request struct {
	Plan    *site.Plan
	Store   storage.Store // in which the build is announced and recorded
	Report  Reporter
	Now     func() time.Time
	Cause   string        // what it is built for: "command", "follow"
	Hints   journal.Hints // of the site; a number that is taken is noted there
	Phases  *Phases       // times what is done
	Machine *Machine
	Rebuild bool // build although somebody builds the same, and although a finished output is there

	// Failed keeps the log of a build that did not succeed in the store and,
	// unless it was interrupted, its record. It returns the parts of the log,
	// or none if the store could not be told.
	Failed func(ctx context.Context, record builds.Record, log string, interrupted bool) []digest.Digest
}

// Build is one build that goes on: it has a number, it is
// announced, and it ends once.
type Build struct {
	Request
	id        string // random, and known to every process that the build starts
	isolation isolation
	begun     builds.Begun
	announced *announcement
	failedLog []digest.Digest // of the build, if it failed and the store has its log
	earlier   []builds.Phase
	ended     bool
	ending    sync.WaitGroup
}

// Begin takes a number for a build and announces it. If somebody builds the
// same already, it waits: once that build has ended the error is
// ElsewhereError, which tells which one it was; if whoever ran it is gone, this one begins. The
// context that is returned ends when somebody cancels the build; its cause says
// who. Whoever gets a Build calls End.
func Begin(ctx context.Context, request Request) (*Build, context.Context, error) {
	if err := withinMonth(ctx, request); err != nil {
		return nil, nil, err
	}
	b := &Build{Request: request, id: newID()}
	var err error
	if b.isolation, err = decideIsolation(ctx, request); err != nil {
		return nil, nil, err
	}

	building, err := b.announce(ctx)
	if err != nil {
		return nil, nil, err
	}
	b.earlier = loadPhases(b.Plan)
	return b, building, nil
}

// newID returns what tells a build from all others, in
// lower-case letters and digits.
func newID() string { return strings.ToLower(rand.Text()) }

// Number returns the number of the build, from 1.
func (b *Build) Number() int64 { return b.begun.Number }

// Earlier returns the phases of the last build of the
// branch, if this machine ran it.
func (b *Build) Earlier() []builds.Phase { return b.earlier }

// Output builds, unless an earlier try has left a finished output that never
// reached the store. Close it when it has been read, whatever became of it. The
// error is steps.ErrStepFailed or steps.ErrTimeLimit of steps that failed.
func (b *Build) Output(ctx context.Context) (*Output, error) {
	if b.Plan.Origin.Source == journal.FromWorkingTree {
		return b.workingTree(ctx)
	}
	return b.commit(ctx)
}

// Result is what a build led to, for its record.
type Result struct {
	Build   string     // the name of the record of the release's build
	Release release.ID // zero if none was made
	Log     []digest.Digest
	Files   int64 // of the release
	Bytes   int64 // of the release
	Sent    int64 // bytes that the store did not have
	Entry   int64 // the number of the entry that put it live; 0 for none
	Frozen  string
}

// End records how the build went, and withdraws its announcement. err is why it
// did not succeed; nil if it did. A second call changes nothing. What cannot be
// written is left to others, who find the build abandoned.
func (b *Build) End(ctx context.Context, result Result, err error) {
	if b.ended {
		return
	}
	b.ended = true
	// A build that was cancelled has ended too, and that is to be known.
	ctx = context.WithoutCancel(ctx)

	ended := builds.Ended{
		Number: b.begun.Number, Outcome: builds.Succeeded, Build: result.Build, Release: result.Release,
		Log:   result.Log,
		Files: result.Files, Size: result.Bytes, Sent: result.Sent, Entry: result.Entry,
		Phases: b.Phases.record(), When: b.Now(),
	}

	if len(b.failedLog) > 0 {
		ended.Log = b.failedLog
	}
	if result.Release.IsZero() {
		ended.Build = ""
	}

	switch {
	case result.Frozen != "": // it is made, and what it waits for is no fault of its own
		ended.Problem = "waited: " + result.Frozen + " was frozen"
	case err != nil:
		ended.Outcome, ended.Problem = outcome(err), fault.Line(store.Explain(err, b.Store.Address()))
	}

	runs := builds.Runs{Store: b.Store, Site: b.Plan.Site}
	// The end before the lease: whoever waits for the lease to go finds out how
	// it ended.
	runs.End(ctx, ended) //nolint:errcheck // who finds no end says that it was abandoned
	b.ending.Go(func() { b.announced.withdraw(ctx) })
	if err == nil {
		savePhases(b.Plan, ended.Phases)
	}
}

// Wait waits until the announcement of a build that has ended is withdrawn: who put
// it live need not.
func (b *Build) Wait() { b.ending.Wait() }

// outcome says what became of a build that did not succeed.
func outcome(err error) builds.Outcome {
	switch {
	case errors.Is(err, builds.ErrSuperseded):
		return builds.Superseded
	case errors.Is(err, builds.ErrCancelled):
		return builds.Cancelled
	case errors.Is(err, context.Canceled):
		return builds.Interrupted
	case errors.Is(err, builds.ErrMachine), fault.KindOf(err) == fault.Failed:
		return builds.Errored
	}
	return builds.Failed
}

// commit builds a commit in a checkout of its own, or
// takes up the output that an earlier try left.
func (b *Build) commit(ctx context.Context) (*Output, error) {
	key, err := b.Plan.Inputs.Key()
	if err != nil {
		return nil, err
	}
	dependencies, err := dependenciesOf(ctx, b.Plan)
	if err != nil {
		return nil, err
	}

	// On this machine's own disk, and never in the project: two builds of one
	// project run at once.
	pool := workspaces{cache: b.Plan.Project.Places.Cache, site: b.Plan.Site, now: b.Now}
	w, err := pool.take(b.id, key, dependencies, b.isolation.untrusted != nil)
	if err != nil {
		return nil, fault.New(fault.Failed, "no-workspace", "no folder to build in").
			At("%s", b.Plan.Project.Places.Cache).Because(err).
			Then("check that the folder is writable, or set ORILLA_HOME to another one")
	}

	b.noteSecrets()

	// The process that runs the steps gets ready while the
	// commit is checked out.
	session, err := steps.Open(b.isolation.options(b.id, w))
	if err != nil {
		w.release()
		return nil, fault.New(fault.Failed, "keeper", "cannot start the process that runs the "+
			"build steps").
			Because(err)
	}

	output, err := b.inWorkspace(ctx, w, session, key, dependencies)
	session.Close() // nothing of the build is alive while its output is read
	if err != nil {
		w.release()
		return nil, err
	}
	return output, nil
}

// noteSecrets tells of a build that names secrets and is given none.
func (b *Build) noteSecrets() {
	named := b.Plan.Config.Build.Secrets
	if len(named) == 0 || len(b.Plan.Secrets()) > 0 {
		return
	}
	b.Report.Notice(fault.Notice{
		Code: "no-secrets", What: b.Plan.Named() + " is given no secrets: " + strings.Join(named, ", "),
		Next: "if everyone who can push to it may know them, add it to build.secrets_for on the " +
			"production branch",
	})
}
