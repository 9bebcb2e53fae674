package deploy

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
)

// Prepared is a job that may be done, as far as that is known beforehand.
// Nothing has changed yet but for a pin in the store, by which the store's
// clock is known and nobody removes what the job relies on.
type Prepared struct {
	Job
	kind     journal.Kind // of the entry that will be written
	hold     *pins.Hold
	hints    journal.Hints
	head     *journal.Entry // the environment's last entry; nil if it has none, or if nothing is to go live
	accepted bool           // a person was shown the freeze and goes on
	name     *name          // the site's
	evicted  []environments.State
	beside   func(file string) ([]byte, error) // reads rules files that the build does not make
	objects  *cache
	ahead    *ahead
	phases   *build.Phases
}

// ahead is what is read or written while other things go on.
type ahead struct {
	sync.WaitGroup

	waker    *edge.Waker
	patterns bool           // where previews may be is of interest
	previews *journal.Entry // the last one of the journal of all previews; nil for none
	unread   error          // why that journal cannot be read
}

// Prepare finds out whether a job may be done, before anything is
// built: the store can be written, the site's name and hosts are
// free or its own, nobody paused or froze it, what is to be verified
// can be, and the rules can be read. Close what it returns.
func Prepare(ctx context.Context, job Job) (*Prepared, error) {
	p, err := pin(ctx, job, journal.Deploy, "deploy")
	if err != nil {
		return nil, err
	}
	if err := p.prepare(ctx); err != nil {
		p.Close(ctx)
		return nil, err
	}
	return p, nil
}

// prepare asks what may stand in the way. A store far away answers several questions
// in the time of one; of several things the one that comes first here is told.
func (p *Prepared) prepare(ctx context.Context) error {
	var unclaimed, paused, unread, unfinished error
	var asking sync.WaitGroup
	asking.Go(func() { unread = p.readHead(ctx) })
	var checks []environments.Checking
	asking.Go(func() { checks, unfinished = environments.Unfinished(ctx, p.Store, p.Plan.Site, p.now()) })
	// A pause is for what builds by itself; a person who deploys has read that
	// there is one, or need not. Ready output builds nothing.
	if p.Automatic && p.Plan.Origin.Source != journal.FromOutput {
		asking.Go(func() { paused = environments.CheckPaused(ctx, p.Store, p.Plan.Site) })
	}
	// Whose the name is comes first: who deploys to somebody else's site is to
	// be told that, and not that a site they do not know is frozen.
	if !p.Plan.Apart {
		p.name.claim, unclaimed = site.CheckClaim(ctx, p.Plan.Project, p.Store, p.Plan.Site, p.TakeOver,
			p.Ask.Unclaimed)
	}
	asking.Wait()
	for _, err := range []error{unclaimed, paused, unread, unfinished} {
		if err != nil {
			return err
		}
	}

	if err := recordChecks(ctx, p, checks); err != nil {
		return err
	}
	if err := p.prepareEnvironment(ctx); err != nil {
		return err
	}
	// A mistake in the rules costs no build. Rules that the build makes are
	// read after it.
	p.beside = p.Plan.RulesReader(ctx)
	return inspect.CheckSyntax(p.Plan, p.beside)
}

// PreparePromotion is Prepare for a release that is there
// already: it is neither built nor are its rules read
// anew. A freeze refuses it, if nobody is there to ask.
func PreparePromotion(ctx context.Context, job Job) (*Prepared, error) {
	plan := *job.Plan
	plan.Config = plan.Project.ProductionConfig // what is accepted, and what stops, is said there
	job.Plan = &plan
	p, err := pin(ctx, job, journal.Promotion, "promote")
	if err != nil {
		return nil, err
	}

	var unfinished error
	var checks []environments.Checking
	var asking sync.WaitGroup
	asking.Go(func() { checks, unfinished = environments.Unfinished(ctx, p.Store, p.Plan.Site, p.now()) })
	err = p.readHead(ctx)
	asking.Wait()
	if err == nil {
		err = unfinished
	}
	if err == nil {
		err = recordChecks(ctx, p, checks)
	}
	if err == nil {
		err = p.prepareEnvironment(ctx)
	}
	if err != nil {
		p.Close(ctx)
		return nil, err
	}
	return p, nil
}

// recordChecks tells of checks that did not finish, once. Only whose the site is does,
// so it comes after the claim; and nobody is being asked anything meanwhile.
func recordChecks(ctx context.Context, p *Prepared, checks []environments.Checking) error {
	for _, one := range checks {
		if err := one.Record(ctx, p.Store, p.Plan.Site); err != nil {
			return err
		}
		p.Report.Notice(one.Notice())
	}
	return nil
}

// pin begins a job: it takes a pin, so that a store that cannot be written, or
// whose clock differs, is noticed at once.
func pin(ctx context.Context, job Job, kind journal.Kind, what string) (*Prepared, error) {
	if job.Machine == nil {
		job.Machine = build.NewMachine(job.Plan.Project.Places.Cache)
	}
	// The pin is the first write of a deploy. It finds credentials that are
	// missing before a build of ten minutes, and tells by how much the store's
	// clock is ahead.
	hold, err := job.Plan.Project.Pin(ctx, job.Store, job.Plan.Site, what)
	if err != nil {
		return nil, err
	}

	waker := edge.NewWaker(ctx, job.Store, job.Plan.Site, hold.Ahead,
		job.Plan.Project.ProductionConfig.EdgeKeys)
	return &Prepared{
		Job: job, kind: kind, hold: hold, objects: &cache{store: job.Store},
		ahead:  &ahead{waker: waker},
		phases: build.NewPhases(job.Report),
		name:   &name{takeOver: job.TakeOver, apart: job.Plan.Apart},
	}, nil
}

// prepareEnvironment finds out whether the plan's environment may be moved, and
// says what else that will change.
func (p *Prepared) prepareEnvironment(ctx context.Context) error {
	if err := p.checkFrozen(); err != nil {
		return err
	}

	// What is to be verified must be verifiable before anything is live.
	if err := p.checkProbes(ctx); err != nil {
		return err
	}
	if err := checkHosts(ctx, p); err != nil {
		return err
	}
	return announceEvictions(ctx, p)
}

// readHead finds the last entry of the plan's environment.
func (p *Prepared) readHead(ctx context.Context) error {
	if p.Plan.Environment == "" {
		return nil
	}
	// A hint says where to begin looking for the last number, so that a journal
	// of thousands costs as little as one of three.
	p.hints = journal.ReadHints(ctx, p.Store, p.Plan.Site)
	readPatterns(ctx, p)
	head, err := p.journal().Head(ctx, p.hints[p.Plan.Environment])
	if errors.Is(err, journal.ErrEmpty) {
		return nil
	}
	if err != nil {
		return err
	}
	p.head = &head
	return nil
}

// checkFrozen asks whoever is there whether to go on although the environment
// is frozen. What is automatic goes on, and waits once it is made; a promotion,
// which makes nothing, is refused.
func (p *Prepared) checkFrozen() error {
	if p.head == nil || !p.head.Frozen.At(p.now()) {
		return nil
	}
	// Nobody is there to ask. A deploy goes on and lets its release wait; a
	// promotion has nothing to make meanwhile.
	if !p.asksFrozen() {
		if p.kind == journal.Promotion {
			return environments.FrozenRefusal(*p.head)
		}
		return nil
	}

	err := p.Ask.Frozen(*p.head)
	p.accepted = err == nil
	return err
}

// asksFrozen reports whether somebody is there who may
// decide to go on despite a freeze.
func (p *Prepared) asksFrozen() bool { return !p.Automatic && p.Ask.Frozen != nil }

// checkProbes makes sure that an edge node is there to
// ask, if one is to be asked afterwards.
func (p *Prepared) checkProbes(ctx context.Context) error {
	for _, what := range p.WaitFor {
		_, visitors, err := parseVisitors(what)
		if err != nil {
			return err
		}
		if !visitors && (!strings.HasPrefix(what, "/") || !isAddress(what)) {
			continue
		}
		nodes, err := p.nodes(ctx)
		if err == nil && len(nodes) == 0 {
			err = fault.New(fault.Refused, "no-edge",
				"cannot check %s: no edge node is running", what).
				Then("start one, then try again: orilla edge").Then("or skip the checks " +
				"this time: --wait-for nothing")
		}
		return err
	}
	return nil
}

// Close drops the pin. It is called whatever became of the
// job, after the release was closed.
func (p *Prepared) Close(ctx context.Context) {
	p.ahead.Wait()
	p.hold.Drop(ctx)
}

// readAhead reads what is live from a store far away while a build runs: it is
// compared with what comes of that. What cannot be read is told by whoever needs it.
func readAhead(ctx context.Context, p *Prepared) {
	if _, far := p.Store.(storage.Remote); !far || p.head == nil || p.head.Release.IsZero() {
		return
	}
	p.ahead.Go(func() {
		live, err := openRelease(ctx, p, p.head.Release)
		if err != nil {
			return
		}
		refs, err := live.Refs(ctx)
		if err != nil || len(refs) > fewChunks {
			return
		}
		for _, ref := range refs {
			p.objects.load(ctx, ref.Digest) //nolint:errcheck // see above
		}
	})
}

// fewChunks is up to how many chunks of a live release are read before it is known
// which are needed.
const fewChunks = 4

// now is by the store's clock.
func (p *Prepared) now() time.Time { return p.Now().Add(p.hold.Ahead) }

// writer is the store for what counts: it writes nothing
// once the pin has lapsed.
func (p *Prepared) writer() storage.Store { return p.hold.Writer() }

// journal is that of the plan's environment, written while the pin lasts.
func (p *Prepared) journal() *journal.Journal {
	return environments.JournalOf(p.writer(), p.Plan.Site, p.Plan.Environment, p.now)
}

// nodes returns the edge nodes that are there by the
// store's clock, and can be asked from here.
func (p *Prepared) nodes(ctx context.Context) ([]edge.Presence, error) {
	return edge.Reached(ctx, p.Store, p.hold.Ahead)
}

// name is the claim of a site's name, which is taken late: just before the
// first record that counts, so that what is refused before keeps no name.
type name struct {
	claim    site.Claim
	takeOver bool
	apart    bool // the store is nobody's
	taken    bool
}

// take makes the name the project's, if it is not already.
func (n *name) take(ctx context.Context, store storage.Store) error {
	if n.apart || n.taken {
		return nil
	}
	err := n.claim.Take(ctx, store, n.takeOver)
	n.taken = err == nil
	return err
}

// attempt returns what tells one try to write an entry from all others.
func attempt() string { return strings.ToLower(rand.Text()) }
