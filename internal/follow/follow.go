// Package follow watches a repository and brings every new commit of what is
// followed to where it belongs.
//
//	fetch -> which refs moved -> schedule.Queue -> deploy -> what came of it
//	  ^                                                          |
//	  +---- poll, a Git hook, or a signed webhook                +-> status back to the code host
//
// Any number of followers, on any number of machines, act as one. Which of them builds
// a commit is decided by a lease in the store; what became of it is a record there,
// which all of them heed: a commit that failed, was refused or was cancelled is not
// begun again but by a person, and what may succeed later is tried after a pause that
// all count from the same records.
//
// Which commits are built, and in which order, is decided in core/schedule; this
// package asks the repository, runs what was decided, and remembers. A follower
// may be ended at any moment and started elsewhere: what it has done is in the
// store, and what it has not done is found again by comparing the two.
package follow

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/schedule"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/store"
)

// Kind says what an event is about. It is part of what programs read.
type Kind string

// The kinds of events.
const (
	Builds     Kind = "builds"     // a build begins
	Live       Kind = "live"       // a commit is live
	Unchanged  Kind = "unchanged"  // a commit is live already
	Nothing    Kind = "nothing"    // a commit is left alone, and why
	Waits      Kind = "waits"      // a commit waits for a thaw or a resume, and why
	Superseded Kind = "superseded" // a newer commit takes its place
	Cancelled  Kind = "cancelled"  // somebody ended its build
	// the follower was told to end, and its build with it
	Interrupted Kind = "interrupted"
	Failed      Kind = "failed"  // it will not go live
	Trouble     Kind = "trouble" // it is tried again
	Ended       Kind = "ended"   // a preview was removed, and why
)

// Event is something that following a repository led to.
type Event struct {
	Kind        Kind          `json:"kind"`
	When        time.Time     `json:"when"`
	Ref         string        `json:"ref,omitempty"`    // in full; "" for what is about no commit
	Branch      string        `json:"branch,omitempty"` // its name for people
	Commit      string        `json:"commit,omitempty"`
	Subject     string        `json:"subject,omitempty"`
	Environment string        `json:"environment,omitempty"` // as people write it
	Why         string        `json:"why,omitempty"`
	Build       int64         `json:"build,omitempty"`   // its number, if it has one
	Refused     bool          `json:"refused,omitempty"` // its build did not begin
	Reused      bool          `json:"reused,omitempty"`
	Release     string        `json:"release,omitempty"`
	Entry       string        `json:"entry,omitempty"`
	Address     string        `json:"address,omitempty"`
	Took        time.Duration `json:"-"`
	Error       error         `json:"-"`

	// of superseded: how many commits that came together are, and the last of them
	Commits int           `json:"commits,omitempty"`
	Older   []OlderCommit `json:"older,omitempty"`

	Findings finding.List   `json:"findings,omitempty"` // in what changes
	Head     *journal.Entry `json:"-"`
}

// OlderCommit is a commit that came together with a newer one.
//
// Only the newest of them can go live, and the others never were the head of a branch:
// they are told so that nobody looks for their builds.
type OlderCommit struct {
	Commit  string `json:"commit"`
	Subject string `json:"subject,omitempty"`
}

// Follower says what is followed, and how.
type Follower struct {
	Project *site.Project
	Mirror  *source.Mirror // what it fetches into; nil to follow the project's own repository
	Store   storage.Store
	Only    *source.Ref // follow this one commit; nil for everything
	Once    bool        // end when nothing is left to do
	// Checkout is the ref that Only's commit was checked out from, where that is
	// another one: of a proposed change, what a merge of it would be.
	Checkout string
	// Remote tells, of Only, that it is of the repository that its remote is: what
	// that has no more ends its previews.
	Remote  bool
	Trigger <-chan struct{}
	Every   time.Duration // how often the repository is asked
	Builds  int           // how many at once; 0 as the configuration says
	Tell    func(Event)   // called from one goroutine at a time
	// Configured is told what the production branch says, each time it was read; may be nil.
	Configured func(project.Config)
	WaitFor    []string // what is verified after each activation; nil as the configuration says
	Counts     Counts   // what became of commits so far

	// Job makes the job of a plan. What Follower knows itself it fills in: the
	// store, the cause, and that nobody is there to ask.
	Job func(*site.Plan) deploy.Job
}

// Counts is what became of commits since the follower began, for the line at
// its end.
type Counts struct {
	Built      int `json:"built"`
	Reused     int `json:"reused"`
	Superseded int `json:"superseded"`
	Failed     int `json:"failed"`
	Nothing    int `json:"nothing"`
	Waiting    int `json:"waiting"`
}

// LockFile is what a follower holds, so that there is one
// for each repository and store on a machine.
func (f *Follower) LockFile() string { return f.stateFile() + ".lock" }

// stateFile is where a follower remembers what it has dealt with: one file for
// each repository, folder in it, and store.
func (f *Follower) stateFile() string {
	name := f.Project.Site() + "-" + digest.Short(f.repository().Dir, f.Project.Prefix, f.Store.Address())
	return filepath.Join(f.Project.Places.Data, "follow", name+".json")
}

// repository returns the repository that is followed: the mirror if there is
// one, else the project's own.
func (f *Follower) repository() *source.Repository {
	if f.Mirror != nil {
		return f.Mirror.Repository
	}
	return f.Project.Repository
}

// mainRef is the ref that decides what environments there are.
func (f *Follower) mainRef() string {
	return "refs/heads/" + f.Project.ProductionConfig.MainBranch(f.Project.Main)
}

// explain makes the message for people of an error.
func (f *Follower) explain(err error) error { return store.Explain(err, f.Store.Address()) }

// loop is one life of a follower.
type loop struct {
	*Follower
	queue    schedule.Queue
	pace     schedule.Pace // of changes from outside
	refs     *refs
	watch    watch
	previews previews
	presence *presence
	machine  *build.Machine
	cancel   map[string]context.CancelCauseFunc // ends the build of a ref
	worst    fault.Kind                         // that happened to a commit
	telling  sync.Mutex
}

// Run follows until the context ends or, with Once,
// nothing is left to do. The error says why it cannot go
// on; with Once it is the worst that happened to a commit.
func (f *Follower) Run(ctx context.Context) error {
	l := &loop{
		Follower: f, refs: loadRefs(f), machine: build.NewMachine(f.Project.Places.Cache),
		cancel: map[string]context.CancelCauseFunc{}, presence: newPresence(f),
	}
	// One goroutine decides; builds run beside it and report here. So no
	// decision needs a lock.
	ended := make(chan finishedJob)
	var building sync.WaitGroup
	defer building.Wait()
	defer l.presence.withdraw(ctx)
	if err := l.begin(ctx); err != nil {
		return err
	}

	// The first look is at once.
	pause, failures, timer := time.Duration(0), 0, time.NewTimer(0)
	for {
		woken := false
		select {
		case <-ctx.Done():
			awaitBuilds(l, ended)
			return ctx.Err()
		case <-f.Trigger:
			woken = true
		case <-timer.C:
		case done := <-ended:
			l.settle(ctx, done)
		}

		err := l.poll(ctx, woken)
		if err != nil && ctx.Err() != nil {
			continue
		}
		// In CI an error that stays is the result. A store or a repository that
		// did not answer once may answer the next time.
		if err != nil && f.Once {
			if failures++; failures >= onceTries || fault.KindOf(err) != fault.Failed {
				awaitBuilds(l, ended)
				return err
			}
			l.trouble(err)
			timer.Reset(oncePause * time.Duration(failures))
			continue
		}

		pause = l.backOff(pause, err)
		f.Counts.Waiting = l.refs.held()
		l.start(ctx, &building, ended)
		if err := endPreviews(ctx, l); err != nil && ctx.Err() == nil {
			l.trouble(err)
		}
		l.presence.announce(ctx, l.queue.Waiting(), l.refs)
		if f.Once && l.queue.Idle() && !l.refs.retries() {
			return l.verdict()
		}
		// After trouble the pause doubles, up to five minutes.
		timer.Reset(cmp.Or(pause, l.nextLook()))
	}
}

// awaitBuilds waits for every build that goes on, and tells how it ended: it has to
// end before the follower does, and who ends it is nobody else's job.
func awaitBuilds(l *loop, ended <-chan finishedJob) {
	for len(l.cancel) > 0 {
		done := <-ended
		delete(l.cancel, done.job.Ref)
		if done.event.Kind == Cancelled && done.event.Build > 0 {
			done.event.Kind, done.event.Why = Interrupted, "the next follower builds it"
		}
		if done.event.Kind != "" {
			l.tell(done.event)
		}
	}
}

// How often, with Once, something is tried that fails for reasons that may pass,
// and how long the pause after the first try is; each is longer by as much.
const (
	onceTries = 4
	oncePause = 2 * time.Second
)

// begin makes ready: what followers and builds that were
// killed have left is cleared up.
func (l *loop) begin(ctx context.Context) error {
	// A follower that was killed has left builds that nobody will end.
	var forgetting sync.WaitGroup
	forgetting.Go(func() { forgetKilled(ctx, l.Store, l.Project.Site()) })
	if err := build.BuryLost(ctx, l.Store, l.Project.Site()); err != nil {
		l.trouble(err)
	}
	forgetting.Wait()
	production := l.Project.ProductionConfig
	trustsAll := production.TrustsAll() && len(production.Previews.Refs) == 0
	if production.Build.Isolation != project.IsolateOff && !trustsAll {
		l.machine.Means(ctx) // it takes a moment, in which a build would miss that another one made the same
	}

	if l.Only != nil && l.Only.Name == l.mainRef() {
		if head, err := l.head(ctx, l.Project.TargetOf(*l.Only)); err == nil && head != nil {
			l.previews.before = head.Commit
		}
	}

	// Labels of previews are made with something of the site's claim. It is
	// made first where nobody has the name.
	name := l.Project.Site()
	return l.Project.LearnSecret(ctx, l.Store, name,
		func() error { return site.TakeName(ctx, l.Project, l.Store, name) })
}

// backOff returns how long it is paused after a look at the repository that
// failed: longer each time; 0 after one that did not.
func (l *loop) backOff(pause time.Duration, err error) time.Duration {
	if err == nil {
		return 0
	}
	l.trouble(err)
	return min(max(2*pause, 5*time.Second), 5*time.Minute)
}

// nextLook is after what time the repository is asked again. What waits for
// something in the store is looked at more often.
func (l *loop) nextLook() time.Duration {
	if l.refs.held() > 0 {
		return min(l.Every, 3*time.Second)
	}
	return l.Every
}

// verdict is the error of following once.
func (l *loop) verdict() error {
	if l.worst == 0 {
		return nil
	}
	return fault.New(l.worst, "commits-failed", "not every commit went live").
		Then("see the errors above, or list builds: orilla builds")
}

// tell hands an event on, with its time.
func (l *loop) tell(event Event) {
	l.telling.Lock()
	defer l.telling.Unlock()
	event.When = time.Now().UTC().Truncate(time.Millisecond)
	l.Tell(event)
}

// trouble tells of something that is about no commit.
func (l *loop) trouble(err error) { l.tell(Event{Kind: Trouble, Error: l.explain(err)}) }

// head returns the last entry of an environment; nil if
// there is none, or no environment.
func (l *loop) head(ctx context.Context, environment string) (*journal.Entry, error) {
	if environment == "" {
		return nil, nil
	}
	if head, read := l.watch.heads[environment]; read {
		return head, nil
	}
	j := &journal.Journal{Store: l.Store, Site: l.Project.Site(), Environment: environment, Now: time.Now}
	entry, err := j.Head(ctx, journal.ReadHints(ctx, l.Store, l.Project.Site())[environment])
	if errors.Is(err, journal.ErrEmpty) {
		return nil, nil
	}
	return &entry, err
}
