package deploy

import (
	"context"
	"errors"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
)

// A name is to lead somewhere from the moment its records are set, not from the first
// deploy on: else whoever opens it sees an error of a machine, no certificate is ordered,
// and another site of the store can take it. So an environment's document can be there
// before its first release, as the first entry of its journal:
//
//	production:1  settings   addresses https://www.corvane.example/    "waits for its first deploy"
//	production:2  deploy     r-4f1c9a2b07                              the site
//
// Where previews may be is said in the same way, in the journal of all previews.

// Reservation is an environment of which the store knows where it answers.
type Reservation struct {
	Environment string // stored name; journal.Previews for all previews
	Addresses   []string
	Entry       journal.Entry // that says so, or the last one
	New         bool          // the entry was written now
	Live        bool          // it serves something: another document comes with its next deploy
}

// Reserve makes the hosts of environments the site's and has edge nodes answer there,
// before anything is deployed: the plan's project says at which addresses. Those without
// addresses are passed over. Whoever is refused at one environment has those before it.
func Reserve(ctx context.Context, job Job, stored []string) (list []Reservation, err error) {
	p, err := pin(ctx, job, journal.Settings, "domains reserve")
	if err != nil {
		return nil, err
	}
	defer p.Close(ctx)
	if p.name.claim, err = site.CheckClaim(ctx, p.Plan.Project, p.Store, p.Plan.Site, false,
		p.Ask.Unclaimed); err != nil {
		return nil, err
	}
	p.hints = journal.ReadHints(ctx, p.Store, p.Plan.Site)
	for _, name := range stored {
		if len(p.Plan.Project.ProductionConfig.Document(name).Addresses) == 0 {
			continue
		}
		there, err := reserve(ctx, p, name)
		if err != nil {
			return list, err
		}
		list = append(list, there)
	}
	return list, nil
}

// reserve does that for one environment.
func reserve(ctx context.Context, p *Prepared, name string) (r Reservation, err error) {
	q, err := inside(ctx, p, name)
	if err != nil {
		return r, err
	}
	r = Reservation{Environment: name, Addresses: documentContent(q).Addresses}
	if q.head != nil {
		r.Entry = *q.head
		// What is live fits its own document: new addresses and upstreams come with a release.
		if r.Live = !q.head.Gone(q.now()); r.Live {
			return r, nil
		}
	}
	document, keep, err := documentOf(ctx, q)
	if err != nil || keep || q.head != nil && q.head.Document == document.Digest {
		return r, err
	}
	entry, err := setDocument(ctx, q, document)
	if errors.Is(err, journal.ErrAlready) { // somebody else has just done it
		return r, nil
	}
	r.Entry, r.New = entry, err == nil
	return r, err
}

// inside is the same job in another environment of the site, whose last entry it reads.
func inside(ctx context.Context, p *Prepared, name string) (*Prepared, error) {
	head, err := lastOf(ctx, p, name, p.hints[name])
	return p.at(name, head), err
}

// at is the same job in another environment, whose last entry is head.
func (p *Prepared) at(name string, head *journal.Entry) *Prepared {
	plan, q := *p.Plan, *p
	plan.Environment = name
	q.Plan, q.head = &plan, head
	return &q
}

// lastOf reads the last entry of an environment of the site; nil for none.
func lastOf(ctx context.Context, p *Prepared, name string, hint int64) (*journal.Entry, error) {
	head, err := environments.JournalOf(p.writer(), p.Plan.Site, name, p.now).Head(ctx, hint)
	if errors.Is(err, journal.ErrEmpty) {
		return nil, nil //nolint:nilnil // nothing was ever said of it
	}
	return &head, err
}

// setDocument takes the hosts of a document and writes, as an entry of its own, that the
// environment has it. What is refused is refused before anything is taken.
func setDocument(ctx context.Context, p *Prepared, document journal.Document) (journal.Entry, error) {
	after := journal.Entry{}
	if p.head != nil {
		after = *p.head
	}
	if err := checkHosts(ctx, p); err != nil {
		return after, err
	}
	needed := storage.Formats{Document: document.Format, Entry: journal.Format, Semantics: 1}
	if err := nodesKnow(ctx, p, needed); err != nil {
		return after, err
	}
	if p.kind != journal.Promotion { // the release of a promotion is there, so the name is taken
		if err := p.name.take(ctx, p.writer()); err != nil {
			return after, err
		}
	}
	if err := takeHosts(ctx, p, document); err != nil {
		return after, err
	}
	if err := p.hold.Check(); err != nil {
		return after, err
	}
	decide := journal.SetDocument(document, p.Automatic, p.Cause, p.Plan.Project.Person(ctx), p.Plan.Message,
		p.now())
	entry, err := p.journal().Append(ctx, after, decide)
	if err == nil {
		if !p.Trial {
			p.ahead.Go(p.ahead.waker.Tell(ctx, entry))
		}
		p.hints.Note(entry)(ctx, p.Store)
	}
	return entry, err
}

// readPatterns begins to read where previews may be, if that is of interest: it is said,
// or was.
func readPatterns(ctx context.Context, p *Prepared) {
	// Most sites have previews without addresses of their own: theirs cost no request.
	said := len(p.Plan.Project.ProductionConfig.Previews.Addresses) > 0
	if p.Plan.Environment == "" || p.Plan.Apart || !saysEnvironments(p.Plan.Project) ||
		!said && p.hints[journal.Previews] == 0 {
		return
	}
	p.ahead.patterns = true
	hint := p.hints[journal.Previews]
	p.ahead.Go(func() { p.ahead.previews, p.ahead.unread = lastOf(ctx, p, journal.Previews, hint) })
}

// keepPatterns makes the journal of all previews say where previews may be, as orilla.yaml
// does, so that edge nodes know it before there is one. A deploy does not fail over it.
func keepPatterns(ctx context.Context, p *Prepared) {
	p.ahead.Wait()
	if !p.ahead.patterns {
		return
	}
	q, err := p.at(journal.Previews, p.ahead.previews), p.ahead.unread
	document, keep := journal.Document{}, false
	if err == nil {
		document, keep, err = documentOf(ctx, q)
	}
	// A journal that says nothing of access or addresses need not begin with that.
	same := q.head == nil && document.Digest.IsZero() || q.head != nil && q.head.Document == document.Digest
	if err == nil && !keep && !same {
		_, err = setDocument(ctx, q, document)
	}
	if err == nil || errors.Is(err, journal.ErrAlready) || ctx.Err() != nil {
		return
	}
	p.Report.Notice(fault.Notice{Code: "patterns-not-kept",
		What: "edge nodes were not told where previews may be: " + err.Error(),
		Next: "the next deploy tries again"})
}
