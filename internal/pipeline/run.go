package pipeline

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Reporter is told how a run goes. Its methods are called from one goroutine at a time, but for Uploaded.
type Reporter interface {
	Begin(phase, what string)                               // "checkout", "build", "scan", "upload"
	Line(text string)                                       // of what a step prints
	Step(step builds.Step)                                  // a step has ended
	Uploaded(done publish.Progress, files int, bytes int64) // of what was found; may be called from several goroutines
	Notice(fault.Notice)
}

// Run is one plan being carried out.
type Run struct {
	Plan      *Plan
	Store     storage.Store
	Report    Reporter
	Rebuild   bool      // build although the same was built before
	Rehash    bool      // trust no remembered digest
	NoIndex   bool      // an output without index.html is fine
	Stdin     io.Reader // the archive of From "-"
	Automatic bool      // nobody is there to ask
	Cause     string
	// Frozen is asked on the terminal when the environment is frozen; nil error goes on.
	Frozen func(head journal.Entry) error
	// Uncontained is asked before Promote puts live what an untrusted build made without isolation; nil refuses.
	Uncontained func(record builds.Record) error
	// Unclaimed is asked before a folder without Git takes a free name; nil error goes on.
	Unclaimed func() error
	TakeOver  bool
	Parallel  int           // how many requests at once; 0: as many as the store is good for
	Rate      *rate.Limiter // bytes a second; nil for no limit
	Now       func() time.Time
	// SkipSame leaves an environment alone that serves the same release of the same commit already: the error is ErrSame.
	SkipSame bool
	Machine  *Machine           // nil for one of its own
	Began    func(number int64) // is told the number of a build that begins; may be nil
	// ExpireAfter is how long after the activation the environment ends; 0: as the configuration says of previews.
	ExpireAfter time.Duration
	WaitFor     []string // what Wait looks at after the activation: addresses and commands
	DryRun      bool     // Promote looks at everything and moves nothing

	result     Result
	readBeside func(file string) ([]byte, error) // reads rules files that the build does not make
	overFreeze bool                              // a person was shown the freeze and goes on
	kind       journal.Kind                      // of the entry; a deploy unless it says otherwise
	hints      journal.Hints
	hold       *pins.Hold
	room       []State  // the previews that make room
	loaded     sync.Map // []byte by digest.Digest
	loads      atomic.Int32
	semantics  int    // of the release, where it is known to be another than those that are made
	mine       Claim  // of the site's name, as the project would make it
	claimed    bool   // the name is the project's
	lookedFor  string // the build key whose records were looked at
	newest     int    // the highest number among them
	buildID    string
	watched    *watched          // while it builds
	untrusted  *builds.Untrusted // how an untrusted build is held; nil for a trusted one
	means      builder.Means     // with what
	begun      *builds.Begun     // while nobody said how it ended
	ended      *builds.Ended
}

// Result is what a run did.
type Result struct {
	Release  release.ID
	Files    int64
	Bytes    int64
	Changes  Changes
	NewFiles int64 // that the store did not have
	NewBytes int64
	LeftOut  []publish.LeftOut
	Build    builds.Record
	Rules    RuleCounts
	Ruled    bool         // the rules differ from those that were live
	Findings finding.List // of what changed
	Reused   bool         // an earlier build made this release
	Kept     bool         // the output of an earlier try was used
	KeptDeps bool         // dependencies were carried over from an earlier build
	Entry    *journal.Entry
	Same     bool            // Entry was there before: it was live already
	Outcome  *Outcome        // of what was waited for; nil if nothing was
	Back     *journal.Entry  // that went back, since that failed
	Waits    *PendingRelease // the release waits for a thaw
	Before   *journal.Entry  // the head that the entry follows
	Timings  []Timing
	Log      []digest.Digest // of what was built
	Earlier  []builds.Phase  // of the build of the branch before, if this machine ran it
}

// Changes counts how a release differs from the one that was live.
type Changes struct {
	Added, Changed, Removed int
	First                   bool // nothing was live
}

// Timing is how long one phase took.
type Timing struct {
	Phase string
	What  string
	Took  time.Duration
}

// Release makes the plan's release: from an earlier build of the same inputs, or by building and uploading. Nothing is live
// afterwards that was not live before. It takes a pin in the store, so that a store that cannot be written is noticed before the
// build; Close drops it.
func (r *Run) Release(ctx context.Context) (*Result, error) {
	var err error
	if r.hold, err = r.Plan.Project.Pin(ctx, r.Store, r.Plan.Site, "deploy"); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	if !r.Plan.Apart {
		if r.mine, err = r.Plan.Project.CheckClaim(ctx, r.Store, r.Plan.Site, r.TakeOver, r.Unclaimed); err != nil {
			return nil, StoreTrouble(r.Store, err)
		}
	}
	if err := errors.Join(r.checkPaused(ctx), r.checkFrozen(ctx), r.ready(ctx), r.checkHosts(ctx)); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	if err := r.announceRoom(ctx); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	if err := r.readRules(ctx); err != nil {
		return nil, err
	}
	found, err := r.reuse(ctx)
	if err == nil && !found {
		err = r.run(ctx)
	}
	if err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	return &r.result, nil
}

// run makes the release, unless somebody else does so meanwhile.
func (r *Run) run(ctx context.Context) error {
	if r.Plan.Origin.Source == journal.FromOutput { // nothing is built
		return r.make(ctx)
	}
	if err := r.withinMonth(ctx); err != nil {
		return err
	}
	if err := r.holding(ctx); err != nil {
		return err
	}
	building, err := r.announce(ctx)
	if errors.Is(err, errElsewhere) {
		found, err := r.reuse(ctx)
		if found || err != nil {
			return err
		}
		return r.run(ctx) // it failed there; here it says why
	}
	if err != nil {
		return err
	}
	if r.Began != nil {
		r.Began(r.begun.Number)
	}
	err = r.make(building)
	if cause := context.Cause(building); err != nil && building.Err() != nil {
		err = cause
	}
	if err != nil {
		r.finish(ctx, err)
	}
	return err
}

// Close drops the pin. It is called whatever became of the run.
func (r *Run) Close(ctx context.Context) {
	r.finish(ctx, nil)
	r.hold.Drop(ctx)
}

// Same reports whether what should go live was live already, so that nothing was written.
func (r *Run) Same() bool { return r.result.Same }

// Number returns the number of the build that was run, 0 if there was none.
func (r *Run) Number() int64 {
	switch {
	case r.begun != nil:
		return r.begun.Number
	case r.ended != nil:
		return r.ended.Number
	}
	return 0
}

// checkFrozen asks whoever is there whether to go on although the environment is frozen. What is automatic goes on, and waits once it is
// made; a promotion, which makes nothing, is refused.
func (r *Run) checkFrozen(ctx context.Context) error {
	if r.Plan.Environment == "" {
		return nil
	}
	r.hints = journal.ReadHints(ctx, r.Store, r.Plan.Site)
	head, err := r.journal().Head(ctx, r.hints[r.Plan.Environment])
	if errors.Is(err, journal.ErrEmpty) {
		r.result.Changes.First = true
		return nil
	}
	if err != nil {
		return err
	}
	r.result.Before = &head
	if !head.Frozen.At(r.now()) {
		return nil
	}
	if r.Automatic || r.Frozen == nil {
		if r.kind == journal.Promotion {
			return FrozenRefusal(head)
		}
		return nil
	}
	err = r.Frozen(head)
	r.overFreeze = err == nil
	return err
}

func (r *Run) journal() *journal.Journal {
	return JournalOf(r.writer(), r.Plan.Site, r.Plan.Environment, r.now)
}

// writer is the store for what counts: it writes nothing once the run's pin has lapsed.
func (r *Run) writer() storage.Store {
	if r.hold == nil {
		return r.Store
	}
	return r.hold.Writer()
}

// reuse finds a release that was already built from the same inputs.
func (r *Run) reuse(ctx context.Context) (bool, error) {
	if r.Rebuild || r.Plan.Origin.Source != journal.FromCommit {
		return false, nil
	}
	key, err := r.Plan.Inputs.Key()
	if err != nil {
		return false, err
	}
	passed := false
	record, newest, found, err := builds.Last(ctx, r.Store, r.Plan.Site, key, func(b builds.Record) bool {
		if b.Outcome != builds.Succeeded {
			return false
		}
		passed = passed || !r.mayReuse(b)
		return r.mayReuse(b)
	})
	r.lookedFor, r.newest = key, newest
	if err != nil || !found {
		if passed && err == nil {
			r.Report.Notice(fault.Notice{Code: "built-again", What: "an untrusted branch built the same, but without isolation, so it is built again",
				Next: "bubblewrap on the machine that builds, or build.trust in orilla.yaml, spares that"})
		}
		return false, err
	}
	if !r.sameLeftOut(record) {
		return false, nil // the output has other files then
	}
	if r.hold.Doomed(storage.ReleaseKey(r.Plan.Site, record.Release.String())) || r.hold.Doomed(r.keyOf(record)) {
		return false, nil
	}
	reader, err := r.open(ctx, record.Release)
	if errors.Is(err, storage.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	r.result.Reused = true
	return true, r.resettle(ctx, record, reader)
}

// resettle gives the output of an earlier build the rules and settings of the plan: they are no reason to build again.
func (r *Run) resettle(ctx context.Context, record builds.Record, reader *release.Reader) error {
	next, err := r.resettled(ctx, record, reader)
	if err != nil {
		return err
	}
	root, settings := reader.Root, r.Plan.Config.Settings()
	r.semantics = root.Semantics
	root.Settings, root.Rules = settings, next.set
	data, id, err := root.Encode()
	if err != nil {
		return err
	}
	r.result.Release, r.result.Files, r.result.Bytes, r.result.Build = id, root.Files, root.Bytes, record
	if err := r.compare(ctx, release.NewReader(id, root, r.load), next.in, nil); err != nil {
		return err
	}
	if id == reader.ID && sameRules(next.record, record.Rules) {
		return nil
	}
	for again := true; again; {
		put := r.putter(ctx)
		defer put.Discard()
		err := keep(ctx, put, next.objects)
		put.rely(storage.ReleaseKey(r.Plan.Site, id.String()))
		if err == nil {
			again, err = put.settle(ctx, r)
		}
		if err != nil {
			return err
		}
	}
	if record.Reuses == "" {
		record.Reuses = record.Name()
	}
	record.Release, record.Rules = id, next.record
	return r.record(ctx, record, data)
}

// resettled reads and checks the rules that go with the output of an earlier build.
func (r *Run) resettled(ctx context.Context, record builds.Record, reader *release.Reader) (*ruled, error) {
	if len(r.Plan.Config.Rules) == 0 { // nothing to check against the list of files, which may be long
		in, err := r.without(nil)
		in.Site.Files = reader
		return &ruled{in: in}, err
	}
	files, err := ruleSources(r.Plan.Config, r.readBeside, KeptRules(ctx, r.Plan.Config, record, r.load))
	if err != nil {
		return nil, err
	}
	list, err := filesOf(ctx, reader)
	if err != nil {
		return nil, err
	}
	return r.timedRules(ctx, files, list)
}

// open reads the root of a release of the plan's site.
func (r *Run) open(ctx context.Context, id release.ID) (*release.Reader, error) {
	return release.Open(ctx, r.Store, r.Plan.Site, id, r.load)
}

// maxLoaded is how many small objects a run remembers: chunks that are looked at for what is new are looked at again for what it
// changes.
const maxLoaded = 64

func (r *Run) load(ctx context.Context, d digest.Digest) ([]byte, error) {
	if data, ok := r.loaded.Load(d); ok {
		return data.([]byte), nil
	}
	data, err := release.Object(ctx, r.Store, d)
	if err == nil && len(data) < 1<<20 && r.loads.Add(1) <= maxLoaded {
		r.loaded.Store(d, data)
	}
	return data, err
}

// live returns the release that the environment serves, or that production serves if nothing will be live; nil for none.
func (r *Run) live(ctx context.Context) (*release.Reader, error) {
	head := r.result.Before
	if head == nil && r.Plan.Environment != "" {
		return nil, nil
	}
	if head == nil {
		production := r.journal()
		production.Environment = project.Production
		entry, err := production.Head(ctx, journal.ReadHints(ctx, r.Store, r.Plan.Site)[project.Production])
		if errors.Is(err, journal.ErrEmpty) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		head = &entry
	}
	if head.Release.IsZero() {
		return nil, nil
	}
	reader, err := r.open(ctx, head.Release)
	if errors.Is(err, release.ErrUnknown) || errors.Is(err, release.ErrDamaged) || errors.Is(err, storage.ErrNotFound) {
		r.Report.Notice(fault.Notice{Code: "live-unreadable", What: "the release that is live cannot be compared with: " + err.Error()})
		return nil, nil
	}
	return reader, err
}

// compare counts the differences to what is live.
func (r *Run) compare(ctx context.Context, next *release.Reader, in check.Input, open func(context.Context, release.File) ([]byte, error)) error {
	live, err := r.live(ctx)
	if err != nil {
		return err
	}
	if live == nil {
		r.result.Changes = Changes{First: true, Added: int(next.Root.Files)}
		if open == nil && BaseOf(r.Plan.Project.ProductionConfig, cmp.Or(r.Plan.Environment, project.Production)) == "" {
			return nil // its pages were looked at when they were built
		}
	}
	changes, err := release.Compare(ctx, live, next)
	if err != nil {
		return err
	}
	if live == nil {
		return r.look(ctx, in, changes, nil, open)
	}
	r.result.Changes = CountChanges(changes)
	r.result.Ruled = !sameSet(live.Root.Rules, next.Root.Rules)
	if err := unchanging(changes, next.Root.Settings); err != nil {
		return err
	}
	if in.Files == nil && slices.ContainsFunc(changes, func(c release.Change) bool { return c.After == nil }) {
		if in.Files, err = filesOf(ctx, next); err != nil {
			return err
		}
	}
	return r.look(ctx, in, changes, live, open)
}

// sameSet reports whether two releases have the same rules.
func sameSet(a, b *release.RuleSet) bool {
	return a == nil && b == nil || a != nil && b != nil && a.Digest == b.Digest
}

func (r *Run) timed(phase, what string, do func() error) error {
	r.Report.Begin(phase, what)
	started := time.Now()
	r.watched.phase(phase)
	err := do()
	r.result.Timings = append(r.result.Timings, Timing{phase, what, time.Since(started)})
	return err
}

// Activate points the plan's environment at the release. An automatic run does not replace a newer commit.
func (r *Run) Activate(ctx context.Context) error {
	started := time.Now()
	err := r.activate(ctx)
	r.result.Timings = append(r.result.Timings, Timing{"activate", "", time.Since(started)})
	r.finish(ctx, err)
	return err
}

func (r *Run) activate(ctx context.Context) error {
	document, keep, err := r.document(ctx)
	if err != nil {
		return StoreTrouble(r.Store, err)
	}
	origin := r.Plan.Origin
	if r.kind != journal.Promotion {
		origin.Build = r.result.Build.Name()
	}
	if origin.Subject == "" {
		origin.Subject = r.result.Build.Subject
	}
	move := journal.Move{
		Release: r.result.Release, Origin: origin, Cause: r.Cause, Who: r.Plan.Project.Person(ctx), Why: r.Plan.Message,
		Document: document, KeepDocument: keep, DuringFreezeOK: r.overFreeze, Expires: r.expires(),
	}
	after := journal.Entry{}
	if r.result.Before != nil {
		after = *r.result.Before
	}
	if r.kind != journal.Promotion {
		if err := r.claim(ctx); err != nil {
			return StoreTrouble(r.Store, err)
		}
	}
	if err := r.nodesKnow(ctx, storage.Formats{Document: document.Format, Entry: journal.Format, Semantics: r.semantics}); err != nil {
		return StoreTrouble(r.Store, err)
	}
	if !keep {
		if err := r.takeHosts(ctx, document); err != nil {
			return StoreTrouble(r.Store, err)
		}
	}
	if err := r.hold.Check(); err != nil {
		return StoreTrouble(r.Store, err)
	}
	automatic := r.Automatic || r.Frozen == nil
	if !keep && !after.Release.IsZero() && after.Document != document.Digest && !(automatic && after.Frozen.At(r.now())) {
		if after, err = r.changeDocument(ctx, after, document); err != nil && !errors.Is(err, journal.ErrFrozen) {
			return StoreTrouble(r.Store, err)
		}
		move.KeepDocument = true
	}
	activate := journal.Activate(cmp.Or(r.kind, journal.Deploy), move, r.now())
	decide := func(head *journal.Entry) (journal.Entry, error) {
		r.result.Before = head
		return activate(head)
	}
	if r.SkipSame {
		decide = r.unlessSame(move, decide)
	}
	if r.Automatic && r.kind != journal.Promotion { // a promotion names what it wants
		decide = r.unlessNewer(ctx, decide)
	}
	entry, err := r.journal().Append(ctx, after, decide)
	if refusal, ok := errors.AsType[*journal.Refusal](err); ok && errors.Is(err, journal.ErrFrozen) {
		return r.frozenWhileBuilt(ctx, refusal.Entry)
	}
	if errors.Is(err, ErrSame) {
		return err
	}
	if err != nil {
		return StoreTrouble(r.Store, err)
	}
	r.result.Entry = &entry
	r.hints.Pulse(ctx, r.Store, entry)
	return StoreTrouble(r.Store, r.makeRoom(ctx))
}

// document makes the environment's document from what the production branch says. keep tells to leave the one that is there:
// it comes from a commit that this repository has already seen and passed, or does not know.
func (r *Run) document(ctx context.Context) (document journal.Document, keep bool, err error) {
	p := r.Plan.Project
	if !p.Configured && p.ProductionCommit == "" && r.result.Before != nil {
		return document, true, nil // nothing here says anything of environments
	}
	document, err = journal.NewDocument(r.documentContent(), p.ProductionCommit)
	if err != nil {
		return document, false, err
	}
	if before := r.result.Before; before != nil && before.DocumentCommit != "" && p.ProductionCommit != before.DocumentCommit && p.Repository != nil && p.ProductionCommit != "" {
		newer, err := p.Repository.Contains(ctx, p.ProductionCommit, before.DocumentCommit)
		if err != nil || !newer {
			if document.Digest != before.Document {
				r.Report.Notice(fault.Notice{Code: "older-environment", What: "the addresses and upstreams of " + journal.DisplayName(r.Plan.Environment) +
					" stay as they are: they were set by a later commit than the production branch here", Next: "git pull, then deploy again to change them"})
			}
			return document, true, ctx.Err()
		}
	}
	if document.Data != nil {
		err = r.keepDocument(ctx, document)
	}
	return document, false, err
}

// documentContent is what the production branch says of the plan's environment. A preview of a change from outside has the upstreams that
// are named for such: others may lead to what only this network reaches.
func (r *Run) documentContent() journal.DocumentContent {
	standing := r.Plan.Project.ProductionConfig
	content := standing.Document(r.Plan.Environment)
	if r.Plan.Outside() {
		content.Upstreams = standing.Previews.RefUpstreams
	}
	return content
}

// keepDocument puts a document, unless the entry before names the same.
func (r *Run) keepDocument(ctx context.Context, document journal.Document) error {
	if before := r.result.Before; before != nil && before.Document == document.Digest {
		return nil
	}
	for {
		put := r.putter(ctx)
		defer put.Discard()
		_, err := put.Add(ctx, document.Digest.Key(), document.Data)
		if err != nil {
			return err
		}
		if again, err := put.settle(ctx, r); !again || err != nil {
			return err
		}
	}
}
