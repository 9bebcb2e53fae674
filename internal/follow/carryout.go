package follow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/schedule"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// finishedJob is how the build of one commit ended.
type finishedJob struct {
	job    schedule.Job
	event  Event
	retry  bool // it failed for reasons that may pass
	held   bool // it waits: for a thaw, or for a resume
	frozen bool // it is built, and waits for a thaw
}

// How many builds run at once is read anew each time, from the production branch: who lowers it there
// need not start the follower again.

// start begins the builds that may begin. Each runs in a goroutine that
// building waits for, and sends how it ended.
func (l *loop) start(ctx context.Context, building *sync.WaitGroup, ended chan<- finishedJob) {
	l.queue.Parallel = cmp.Or(l.Builds, int(l.Project.ProductionConfig.Follow.Parallel))
	for ctx.Err() == nil {
		job, ok := l.queue.Next()
		if !ok {
			return
		}
		one, cancel := context.WithCancelCause(ctx)
		l.cancel[job.Ref] = cancel
		p := *l.Project // the follower's own changes with the production branch

		building.Go(func() {
			done := l.carryOut(one, &p, job)
			cancel(nil)
			ended <- done
		})
	}
}

// What becomes of a commit is one event at its end, and one when its build begins. Everything that
// can go wrong is sorted into four, since each asks for something else:
//
//	failed     the commit's fault: it is built again when somebody changes something
//	trouble    may pass: it is tried again by itself, after pauses that grow
//	waits      for a thaw, or a resume, which somebody has to say
//	nothing    it is not wanted any more, and that is well
//
// A commit that no build was begun for leaves a record too: somebody pushed it, and looks for it.

// carryOut builds a commit, or finds that it was built, and puts it live.
func (l *loop) carryOut(ctx context.Context, p *site.Project, job schedule.Job) finishedJob {
	began := time.Now()
	found := source.Ref{Name: job.Ref}
	done := finishedJob{job: job, event: Event{Ref: job.Ref, Commit: job.Commit, Branch: site.NameOf(found)}}
	order := site.Order{Commit: job.Commit, Branch: done.event.Branch, Site: p.Site()}
	if _, isBranch := found.Branch(); !isBranch {
		order.Ref, order.To = cmp.Or(l.Checkout, job.Ref), journal.DisplayName(p.TargetOf(found))
	}

	err := l.deploy(ctx, p, order, &done.event)
	done.event.Took, done.event.Error = time.Since(began), l.explain(err)
	if cause := context.Cause(ctx); err != nil && cause != nil {
		done.event.Error = cause
	}
	done.classify()
	recordRefusal(ctx, l, p, &done)
	return done
}

// recordRefusal leaves a trace in the store of a commit that no build was begun for.
func recordRefusal(ctx context.Context, l *loop, p *site.Project, done *finishedJob) {
	event := &done.event
	if event.Kind != Failed || event.Build > 0 || fault.KindOf(event.Error) == fault.BuildFailed {
		return
	}
	commit, err := l.repository().Commit(ctx, event.Commit)
	if err != nil {
		return // what is not in the repository was told
	}
	refusal := build.Refusal{Commit: commit, Branch: event.Branch, Cause: "follow", Who: p.Person(ctx),
		Environment: p.TargetOf(source.Ref{Name: event.Ref}), Why: event.Error}
	event.Subject, event.Environment = commit.Subject, journal.DisplayName(refusal.Environment)
	hints := journal.ReadHints(ctx, l.Store, p.Site())
	event.Refused = true
	event.Build, err = refusal.Record(ctx, l.Store, p.Site(), time.Now(), hints[journal.RunsHint])
	if err != nil {
		l.trouble(err)
	}
}

// deploy carries out an order, and says in the event what came of it. The
// event's kind is set if it ended well.
func (l *loop) deploy(ctx context.Context, p *site.Project, order site.Order, event *Event) error {
	plan, err := site.MakePlan(ctx, p, order)
	if err != nil {
		return err
	}
	event.Subject, event.Environment = plan.Commit.Subject, journal.DisplayName(plan.Environment)
	job := l.Job(plan)
	job.Store, job.Automatic, job.SkipSame, job.Cause, job.Machine = l.Store, true, true, "follow", l.machine

	job.Began = func(number int64) {
		event.Build = number
		begins := *event
		begins.Kind = Builds
		l.tell(begins)
	}

	prepared, err := deploy.Prepare(ctx, job)
	if err != nil {
		return err
	}
	defer prepared.Close(ctx)
	release, err := prepared.Build(ctx)
	if err != nil {
		return err
	}
	defer release.Close(ctx)

	live, err := release.Activate(ctx)
	if err != nil {
		return err
	}
	event.Reused, event.Release, event.Findings = release.Reused, release.ID.Short(), release.Findings
	event.Head = &live.Entry
	if live.Same {
		event.Kind, event.Why = Unchanged, "it is already live"
		return nil
	}

	probes := l.WaitFor
	if probes == nil {
		probes = plan.Project.ProductionConfig.WaitFor(plan.Environment)
	}
	if _, err := live.Verify(ctx, probes, func(environments.Probe) {}); err != nil {
		return err
	}
	event.Kind, event.Entry = Live, live.Entry.Label()
	return nil
}

// classify says what an error means for the commit.
func (done *finishedJob) classify() {
	event := &done.event
	err := event.Error
	switch {
	case err == nil:
	case errors.Is(err, builds.ErrSuperseded):
		event.Kind, event.Why = Superseded, fault.Line(err)
	case errors.Is(err, builds.ErrCancelled), errors.Is(err, context.Canceled):
		event.Kind, event.Why = Cancelled, fault.Line(err)
	case errors.Is(err, environments.ErrFrozen):
		done.held, done.frozen = true, true
	case errors.Is(err, environments.ErrPaused):
		done.held = true
	case fault.KindOf(err) == fault.Failed:
		event.Kind, done.retry = Trouble, true
	default:
		event.Kind, event.Why = Failed, fault.Line(err)
	}
}

// settle takes the end of a build into account.
func (l *loop) settle(ctx context.Context, done finishedJob) {
	process.ReapAdopted() // what Git leaves in the background becomes a child, and would stay a zombie
	job, known := done.job, l.refs.of(done.job.Ref)
	l.queue.Done(job.Ref)
	delete(l.cancel, job.Ref)
	if known.pushed == job.Commit {
		known.pushed = ""
	}

	if ctx.Err() != nil {
		return // the next life takes it up
	}

	gaveUp := false
	if done.retry {
		done.retry = l.again(&done, known)
		gaveUp = !done.retry
	}
	l.count(done)
	if done.event.Kind != "" {
		l.tell(done.event)
	}

	l.watch.refs = "" // look again: a newer commit may be there, or this one is to be tried again
	switch {
	case gaveUp && l.Once: // the next life tries again
		known.pushed = job.Commit
	case done.retry:
		known.held = held{job.Commit, "will retry: " + fault.Line(done.event.Error)}
	case done.frozen:
		known.frozen = job.Commit
	case done.held:
	default:
		l.settleRef(job.Ref, known, job.Commit)
	}
	l.save()
}

// count adds the end of a build to what became of commits.
func (l *loop) count(done finishedJob) {
	switch done.event.Kind {
	case Live, Unchanged:
		if done.event.Reused {
			l.Counts.Reused++
		} else {
			l.Counts.Built++
		}
	case Superseded:
		l.Counts.Superseded++
	case Failed, Cancelled:
		l.Counts.Failed++
		l.worst = max(l.worst, fault.KindOf(done.event.Error))
	}
}

// again decides when a commit is tried again that could not be built, and
// reports whether it is: each time later, and of a branch that is not trusted
// not for ever, since each try leaves a record.
func (l *loop) again(done *finishedJob, known *ref) bool {
	failed := known.failed
	if failed.commit != done.job.Commit {
		failed = failing{commit: done.job.Commit}
	}
	failed.times++
	trusted := l.Project.ProductionConfig.Trusts(done.job.Ref)
	pause := schedule.Pause(failed.times, trusted)
	if l.Once {
		pause = min(pause, oncePause*time.Duration(failed.times))
	}
	if failed.times >= schedule.MostTries && !trusted || failed.times >= onceTries && l.Once {
		done.event.Kind = Failed
		done.event.Why = fmt.Sprintf("gave up after %d tries: %s", failed.times,
			fault.Line(done.event.Error))
		known.failed, known.held = failing{}, held{}
		return false
	}

	failed.until = time.Now().Add(pause)
	known.failed = failed
	done.event.Why = "retry in " + pause.String()
	return true
}
