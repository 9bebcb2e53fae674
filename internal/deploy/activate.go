package deploy

import (
	"cmp"
	"context"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
)

// Activation is a release that is live.
type Activation struct {
	Entry   journal.Entry  // that says so
	Before  *journal.Entry // the entry that it follows; nil for none
	Same    bool           // Entry was there before: the release was live already, and nothing was written
	release *Release
	stay    bool // whatever a check says
}

// landing is where a release ended up.
type landing struct {
	entry   journal.Entry
	before  *journal.Entry
	same    bool
	pending bool // it waits for a thaw
}

// Activate points the plan's environment at the release, in one
// step. Something automatic does not replace a newer commit: the
// error is builds.ErrSuperseded then. If the environment was
// frozen, the release waits for the thaw: environments.ErrFrozen.
//
// Called again after an error, it decides anew; an entry that was written is
// found and not written twice.
func (r *Release) Activate(ctx context.Context) (*Activation, error) {
	started := time.Now()
	at, err := r.activate(ctx)
	r.prepared.phases.Add("activate", "", time.Since(started))
	r.end(ctx, at, err)
	r.prepared.ahead.Wait() // the hint
	if err != nil {
		return nil, err
	}
	return &Activation{Entry: at.entry, Before: at.before, Same: at.same, release: r}, nil
}

// activate is Activate, apart from the time it takes and what becomes of the
// build's record.
func (r *Release) activate(ctx context.Context) (landing, error) {
	p := r.prepared
	document, keep, err := documentOf(ctx, p)
	if err != nil {
		return landing{}, err
	}

	// What visitors are about to ask for is fetched by the nodes meanwhile.
	comes := r.comes(ctx)

	// From here on something is written. What was only asked for so far (a
	// name, hosts, a document) is taken in this order, so that whoever is
	// refused leaves nothing behind that keeps others out.
	if err := r.takeNames(ctx, document, keep); err != nil {
		return landing{}, err
	}

	keepPatterns(ctx, p)
	after := journal.Entry{}
	if p.head != nil {
		after = *p.head
	}
	// A document of its own entry comes before the release: a rollback of the
	// release must not bring old addresses back. While a freeze holds, neither
	// changes.
	waits := !p.asksFrozen() && after.Frozen.At(p.now())
	if !keep && !after.Release.IsZero() && after.Document != document.Digest && !waits {
		after, err = changeDocument(ctx, p, after, document)
		if err != nil && !errors.Is(err, journal.ErrFrozen) {
			return landing{}, err
		}
		keep = true
	}

	// The one step that visitors see.
	comes()
	at, err := r.append(ctx, after, r.move(ctx, document, keep))
	if refusal, ok := errors.AsType[*journal.Refusal](err); ok && errors.Is(err, journal.ErrFrozen) {
		pending, err := r.wait(ctx, refusal.Entry)
		return landing{pending: pending}, err
	}

	if err != nil || at.same {
		return at, err
	}
	// A hint may be lost; nodes look anyway every ten seconds. Previews make
	// room last: a failure there leaves one too many, and not one too few.
	if len(p.evicted) > 0 {
		r.wake(ctx, at.entry)
		p.hints.Pulse(ctx, p.Store, at.entry)
		return at, evict(ctx, p)
	}
	tell := p.hints.Note(at.entry)
	r.wake(ctx, at.entry)
	p.ahead.Go(func() { tell(ctx, p.Store) })
	return at, nil
}

// wake calls the edge nodes about an entry: a hint in the store is found by their next poll
// only, half a second later.
func (r *Release) wake(ctx context.Context, entry journal.Entry) {
	if !r.prepared.Trial {
		r.prepared.ahead.Go(r.prepared.ahead.waker.Tell(ctx, entry))
	}
}

// comesWait is how long an activation waits for nodes to fetch what is new.
const comesWait = 400 * time.Millisecond

// comes tells the nodes which release may be live in a moment, and returns what waits for
// them, though not for long. Of a store near by nothing takes time to fetch.
func (r *Release) comes(ctx context.Context) (wait func()) {
	if r.prepared.Trial {
		return func() {}
	}
	done := make(chan struct{})
	r.prepared.ahead.waker.Refresh(ctx)
	go func() {
		defer close(done)
		r.prepared.ahead.waker.Coming(ctx, r.ID, comesWait)
	}()
	return func() {
		if _, far := r.prepared.Store.(storage.Remote); far {
			<-done
		}
	}
}

// Waker calls edge nodes for whoever reports what they serve.
func (a *Activation) Waker() *edge.Waker { return a.release.prepared.ahead.waker }

// takeNames makes sure that the entry may be written: the
// site's name and hosts are the project's from now on, every
// edge node can read the entry, and the pin has not lapsed.
func (r *Release) takeNames(ctx context.Context, document journal.Document, keep bool) error {
	p := r.prepared
	// A name is taken as late as this so that a first deploy which fails in its
	// build does not keep the name from others.
	if p.kind != journal.Promotion { // the release of a promotion is there, so the name is taken
		if err := p.name.take(ctx, p.writer()); err != nil {
			return err
		}
	}

	// A node that cannot read the next entry would go on serving the last one
	// for ever, and nobody would see why.
	needed := storage.Formats{Document: document.Format, Entry: journal.Format, Semantics: r.semantics}
	if err := nodesKnow(ctx, p, needed); err != nil {
		return err
	}
	if !keep {
		if err := takeHosts(ctx, p, document); err != nil {
			return err
		}
	}

	// The last look before the entry: once the pin has lapsed, a prune may have
	// removed what the release needs.
	return p.hold.Check()
}

// nodesKnow refuses what an edge node could not read: it
// would stay where it is.
func nodesKnow(ctx context.Context, p *Prepared, needed storage.Formats) error {
	if (storage.Formats{Document: 1, Entry: 1, Semantics: 1}).Lacks(needed) == "" {
		return nil // every version does
	}
	// All nodes count, also those that cannot be reached from here: visitors
	// may reach them.
	nodes, err := edge.Nodes(ctx, p.Store, p.hold.Ahead)
	if err != nil {
		return err
	}

	for _, node := range nodes {
		if lacks := node.Knows.Lacks(needed); lacks != "" {
			return fault.New(fault.Refused, "node-too-old", "the edge node %s does not know %s", node.Node,
				lacks).
				At("%s", node.Address).With("its version: " + cmp.Or(node.Version, "unknown, an early one")).
				Then("upgrade Orilla on that machine, restart the node, and try again")
		}
	}

	return nil
}

// move is what the entry will say.
func (r *Release) move(ctx context.Context, document journal.Document, keep bool) journal.Move {
	p := r.prepared
	return journal.Move{
		Release: r.ID, Origin: r.origin(), Cause: p.Cause, Who: p.Plan.Project.Person(ctx),
		Why:      p.Plan.Message,
		Document: document, KeepDocument: keep, DuringFreezeOK: p.accepted, Expires: expires(p),
	}
}

// origin says where the release comes from. A promotion says what the plan
// does: it was built for another environment.
func (r *Release) origin() journal.Origin {
	origin := r.prepared.Plan.Origin
	if r.prepared.kind != journal.Promotion {
		origin.Build = r.Made.Build.Name()
	}
	origin.Subject = cmp.Or(origin.Subject, r.Made.Build.Subject)
	return origin
}

// append writes the entry after the one that was last. Each time another one
// came first, it is decided anew whether this one still should.
func (r *Release) append(ctx context.Context, after journal.Entry, move journal.Move) (landing, error) {
	p := r.prepared
	// What decides is a stack of questions, each put to the entry that is last
	// at the moment of writing. Append asks them again whenever somebody else
	// was faster.
	at := landing{before: p.head}
	activate := journal.Activate(p.kind, move, p.now())
	decide := func(head *journal.Entry) (journal.Entry, error) {
		at.before = head
		return activate(head)
	}

	if p.SkipSame {
		different := decide
		decide = func(head *journal.Entry) (journal.Entry, error) {
			if r.isLive(head, move) {
				at.entry, at.same = *head, true
				return journal.Entry{}, errSame
			}
			return different(head)
		}
	}

	if p.Automatic && p.kind != journal.Promotion { // a promotion names what it wants
		newest := decide
		decide = func(head *journal.Entry) (journal.Entry, error) {
			if err := p.superseded(ctx, head); err != nil {
				return journal.Entry{}, err
			}
			return newest(head)
		}
	}

	// after is what was last when this job looked; if it still is, nothing is
	// read again.
	entry, err := p.journal().Append(ctx, after, decide)
	if errors.Is(err, errSame) {
		return at, nil
	}
	at.entry = entry
	return at, err
}

// errSame ends a decision: what should go live is live already.
var errSame = errors.New("already live")

// isLive reports whether an environment serves just what is to go live, of the
// same commit and under the same document.
func (r *Release) isLive(head *journal.Entry, move journal.Move) bool {
	p := r.prepared
	if head == nil || head.Gone(p.now()) || p.ExpireAfter != 0 {
		return false
	}
	// The same bytes of another commit are another entry anyway: history is to
	// say of what commit a site is.
	sameDocument := move.KeepDocument || head.Document == move.Document.Digest
	return head.Release == move.Release && head.Commit == move.Commit && head.Source == move.Source &&
		sameDocument
}

// superseded refuses to replace what an environment serves if that was made of
// a newer commit of the same branch, and to put a commit live that its branch
// no longer has: a force-push took it away. Ancestry decides, never a clock.
func (p *Prepared) superseded(ctx context.Context, head *journal.Entry) error {
	if head == nil || p.Plan.Commit == nil || p.Plan.Origin.Source == journal.FromWorkingTree {
		return nil
	}
	return p.Plan.Superseded(ctx, *head)
}

// wait lets a release wait for the thaw, and returns the refusal that says so.
// What was live and was rolled back does not wait.
func (r *Release) wait(ctx context.Context, head journal.Entry) (pending bool, err error) {
	p := r.prepared
	refusal := environments.FrozenRefusal(head)
	if p.kind == journal.Promotion {
		return false, refusal
	}

	// A thaw would otherwise bring back the very release that the rollback and
	// its freeze were about.
	same := func(e journal.Entry) bool { return e.Release == r.ID && e.Commit == p.Plan.Origin.Commit }
	if _, was, left := p.journal().LeftBy(ctx, head, same); left {
		return false, refusal.With("this was live as " + was.Label() +
			" and was rolled back, so it does not wait for the thaw")
	}

	waiting := environments.PendingRelease{
		Environment: p.Plan.Environment, Release: r.ID, Origin: r.origin(), Who: p.Plan.Project.Person(ctx),
		When: p.now().UTC().Truncate(time.Millisecond), Why: p.Plan.Message,
	}
	var contains environments.Contains
	if repository := p.Plan.Project.Repository; repository != nil {
		contains = repository.Contains
	}

	// Of what waits, only the newest matters; Await drops what this one
	// contains.
	if err := environments.Await(ctx, p.Store, p.Plan.Site, waiting, contains); err != nil {
		return false, err
	}
	refusal.Next = nil
	return true, refusal.With("the release "+r.ID.Short()+" is ready and waits for the thaw").
		Then("orilla thaw %s", journal.DisplayName(head.Environment))
}
