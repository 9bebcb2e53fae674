package deploy

import (
	"context"
	"errors"
	"sync"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/inspect"
)

// Made says what a release is, and how it came about.
type Made struct {
	ID       release.ID
	Files    int64
	Bytes    int64
	NewFiles int64 // that the store did not have
	NewBytes int64
	LeftOut  []publish.LeftOut // of the output
	Build    builds.Record
	Number   int64 // of the build that was run for it; 0 if there was none
	Rules    inspect.RuleCounts
	Log      []digest.Digest // of what was built
	comparison

	Reused           bool           // an earlier build made it
	Kept             bool           // the output of an earlier try was used
	KeptDependencies bool           // dependencies were carried over from an earlier build
	Earlier          []builds.Phase // of the build of the branch before, if this machine ran it

	Trial bool // nothing was kept: it is a dry run

	semantics int // of the release
}

// Release is a release that is whole in the store. Nothing
// is live that was not live before.
type Release struct {
	Made
	prepared *Prepared
	build    *build.Build // that made it, and goes on until it is live; nil if nothing was built
}

// Build makes the release of a plan: from an earlier build of the same inputs,
// or by building and uploading. If somebody else builds the same just now, it
// waits and takes what comes of that. Close what it returns before Prepared.
//
// Cancelling the context ends the steps; the error is then builds.ErrCancelled,
// builds.ErrSuperseded or the context's.
func (p *Prepared) Build(ctx context.Context) (*Release, error) {
	// Nothing is as fast as what need not be done. What a node could not read is not
	// even built, which is asked meanwhile.
	var refused error
	var asking sync.WaitGroup
	if p.Plan.Environment != "" {
		asking.Go(func() { refused = nodesKnow(ctx, p, storage.Formats{Semantics: release.Semantics2}) })
	}
	found, seen, err := reuse(ctx, p)
	asking.Wait()
	if err != nil || found != nil {
		return found.release(p), err
	}
	if err := noteUpstreams(ctx, p); err != nil {
		return nil, err
	}
	if refused != nil {
		return nil, refused
	}
	if p.Plan.Origin.Source == journal.FromOutput { // nothing is built
		return p.takeGiven(ctx)
	}

	// Two followers may come to the same commit at once. One of them builds;
	// the other one waits in Begin and then finds what came of it.
	for {
		b, building, err := build.Begin(ctx, p.request())
		if err == nil {
			return p.carryOut(building, b, seen)
		}
		elsewhere, ended := errors.AsType[*build.ElsewhereError](err)
		if !ended {
			return nil, err
		}

		found, seen, err = reuse(ctx, p)
		if err == nil && found == nil {
			err = endedElsewhere(ctx, p, elsewhere.Number)
		}
		if err != nil || found != nil {
			return found.release(p), err
		}
	}
}

// causeFollow is the cause of what followers deploy.
const causeFollow = "follow"

// endedElsewhere returns why a build of the same, that was waited for, made no
// release: building it once more is somebody's decision. It is nil if that builder
// was only interrupted.
func endedElsewhere(ctx context.Context, p *Prepared, number int64) error {
	run, err := builds.Runs{Store: p.Store, Site: p.Plan.Site}.Get(ctx, number)
	if number == 0 || errors.Is(err, storage.ErrNotFound) || err == nil && run.Ended == nil {
		return nil
	}
	if err != nil {
		return err
	}

	where := run.Label() + ", which built the same on " + run.Where
	switch outcome := run.Ended.Outcome; {
	case outcome == builds.Cancelled:
		return fault.New(fault.Refused, "cancelled", "%s, was %s", where, run.Ended.Problem).
			Marked(builds.ErrCancelled).Then("orilla deploy %s", p.Plan.Named())
	case outcome.Settled():
		return fault.New(fault.BuildFailed, "failed-elsewhere", "%s, failed: %s", where, run.Ended.Problem).
			Then("orilla log %s", run.Label())
	case outcome == builds.Errored && p.Cause == causeFollow: // it tries again, after a pause
		return fault.New(fault.Failed, "errored-elsewhere", "%s, could not be built: %s", where,
			run.Ended.Problem).Then("orilla log %s", run.Label())
	}
	return nil
}

// release is what was made as a stage; nil of nothing.
func (m *Made) release(p *Prepared) *Release {
	if m == nil {
		return nil
	}
	return &Release{Made: *m, prepared: p}
}

// request is the build that the job asks for.
func (p *Prepared) request() build.Request {
	return build.Request{
		Plan: p.Plan, Store: p.Store, Report: p.Report, Now: p.Now, Cause: p.Cause, Hints: p.hints,
		Phases:  p.phases,
		Machine: p.Machine, Rebuild: p.Rebuild, Failed: p.keepFailure,
	}
}

// takeGiven publishes output that somebody else has built.
func (p *Prepared) takeGiven(ctx context.Context) (*Release, error) {
	output, err := build.Given(ctx, p.Plan, p.Stdin, p.Now, p.phases)
	if err != nil {
		return nil, err
	}
	defer output.Close()
	made, err := publishOutput(ctx, p, output, lookup{})
	if err != nil {
		return nil, err
	}
	return made.release(p), nil
}

// carryOut builds and publishes. ctx ends when somebody cancels the build.
func (p *Prepared) carryOut(ctx context.Context, b *build.Build, seen lookup) (*Release, error) {
	if p.Began != nil {
		p.Began(b.Number())
	}
	readAhead(ctx, p)
	made, err := p.buildAndPublish(ctx, b, seen)
	// A step that was ended fails with whatever it says then; why it was ended
	// is what people need to know.
	if cause := context.Cause(ctx); err != nil && ctx.Err() != nil {
		err = cause
	}

	if err != nil {
		// What was sent counts against limits also of a build that failed.
		b.End(ctx, build.Result{Log: made.Log, Sent: made.NewBytes}, err)
		b.Wait()
		return nil, err
	}
	made.Number, made.Earlier = b.Number(), b.Earlier()
	return &Release{Made: made, prepared: p, build: b}, nil
}

// buildAndPublish runs the steps and brings their output into the store. What
// it returns with an error says what was sent by then.
func (p *Prepared) buildAndPublish(ctx context.Context, b *build.Build, seen lookup) (Made, error) {
	output, err := b.Output(ctx)
	if err != nil {
		return Made{}, err
	}
	defer output.Close()
	made, err := publishOutput(ctx, p, output, seen)
	// An output that could not be stored is kept for the next try: a network
	// that was down is no reason to build again.
	if p.Trial && err == nil {
		output.Stored(ctx, errTrial) // the run itself need not build again
	} else {
		output.Stored(ctx, err)
	}
	made.Kept, made.KeptDependencies = output.Kept, output.KeptDependencies
	return made, err
}

// errTrial keeps the output of a dry run for the run itself.
var errTrial = errors.New("nothing was stored: it was a dry run")

// Phases returns how long each phase took so far.
func (r *Release) Phases() []build.Timing { return r.prepared.phases.List() }

// Close ends the build of a release that goes live
// nowhere. After Activate it changes nothing.
func (r *Release) Close(ctx context.Context) {
	r.end(ctx, landing{}, nil)
	if r.build != nil {
		r.build.Wait()
	}
}

// end records how the release's build went.
func (r *Release) end(ctx context.Context, at landing, err error) {
	if r.build == nil {
		return
	}
	result := build.Result{
		Build: r.Made.Build.Name(), Release: r.ID, Log: r.Log, Files: r.Files, Bytes: r.Bytes,
		Sent: r.NewBytes, Entry: at.entry.Number,
	}

	if at.pending {
		result.Frozen = journal.DisplayName(r.prepared.Plan.Environment)
	}
	r.build.End(ctx, result, err)
}

// Before returns the last entry of the plan's environment
// as it was when the job began; nil for none.
func (r *Release) Before() *journal.Entry { return r.prepared.head }
