// Package deploy brings what a plan says into a store and puts it live, stage by
// stage. What a stage returns is what the next one begins with, so that no stage
// can run early and none sees a value that is filled by half:
//
//	prepared, err := deploy.Prepare(ctx, job)    // whether it may be done: names, hosts, freezes, rules
//	release, err := prepared.Build(ctx)          // a release that is whole in the store: built, or found
//	live, err := release.Activate(ctx)           // the environment serves it
//	checked, err := live.Verify(ctx, probes, told) // visitors get it; if not, what was live before is again
//
// A promotion takes a release that is there in the place of Build:
//
//	prepared, err := deploy.PreparePromotion(ctx, job)
//	release, err := prepared.Promote(ctx, id)
//
// Prepared and Release are closed by whoever got them, in the reverse order.
//
// Until Activate nothing that visitors see has changed, so whatever fails before
// leaves at most objects that nothing refers to. Activate is one Create of one key
// of a journal: it happened or it did not, also when the machine loses its power.
package deploy

import (
	"context"
	"io"
	"time"

	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
)

// Reporter is told how a deploy goes. Its methods are called from one goroutine
// at a time, but for Uploaded.
type Reporter interface {
	build.Reporter
	// Uploaded tells how far the upload is: done of files with bytes in all. It
	// may be called from several goroutines.
	Uploaded(done publish.Progress, files int, bytes int64)
}

// Job says what is to go where, and how. It is filled in
// by whoever asks, and not changed afterwards.
type Job struct {
	Plan      *site.Plan
	Store     storage.Store
	Report    Reporter
	Now       func() time.Time
	Cause     string // "command", "follow"
	Automatic bool   // nobody is there to ask
	Machine   *build.Machine
	Ask       Questions
	Began     func(number int64) // is told the number of a build that begins; may be nil

	Stdin    io.Reader // the archive of a plan from "-"
	Rebuild  bool      // build although the same was built before
	Rehash   bool      // trust no remembered digest of a file
	NoIndex  bool      // an output without index.html is fine
	TakeOver bool      // the site's name may be another's
	// leave an environment alone that serves the same
	// release of the same commit already
	SkipSame bool
	Trial    bool          // the store forgets: it is a dry run, and says more of what changes
	Parallel int           // how many requests at once; 0 for as many as the store is good for
	Rate     *rate.Limiter // bytes a second; nil for no limit
	// how long after the activation the environment ends;
	// 0 as the configuration says, Never for no end
	ExpireAfter time.Duration
	WaitFor     []string // what will be verified, so that it is known beforehand that it can be
}

// Never is a time after which a preview ends that does not end by itself.
const Never time.Duration = -1

// Questions are put to whoever is there. Each returns nil to go on, else the
// refusal. One that is nil is not asked: the answer is no.
type Questions struct {
	Frozen func(head journal.Entry) error // the environment is frozen
	// what is promoted was built by an untrusted build without isolation
	Uncontained func(record builds.Record) error
	Unclaimed   func() error // a folder without Git would take a name that is free
}

// Put carries a job out: all stages in one, without
// verifying. What it returns is closed already.
func Put(ctx context.Context, job Job) (*Release, *Activation, error) {
	prepared, err := Prepare(ctx, job)
	if err != nil {
		return nil, nil, err
	}
	defer prepared.Close(ctx)
	release, err := prepared.Build(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer release.Close(ctx)
	live, err := release.Activate(ctx)
	return release, live, err
}

// Silent is a Reporter that tells nobody.
type Silent struct{}

// Begin implements Reporter.
func (Silent) Begin(string, string) {}

// Line implements Reporter.
func (Silent) Line(string) {}

// Step implements Reporter.
func (Silent) Step(builds.Step) {}

// Notice implements Reporter.
func (Silent) Notice(fault.Notice) {}

// Uploaded implements Reporter.
func (Silent) Uploaded(publish.Progress, int, int64) {}
