// Package environments is what can be done with an environment once there are
// releases: going back, freezing and thawing, removing previews, who may look, and
// what waits there.
//
//	operator, err := environments.NewOperator(ctx, project, store, site, "command", what)
//	back, err := operator.GoBack(ctx, "production", journal.Back{…}, dryRun)
//
// Each operation is one entry in one journal, and decides on the entry that it
// will follow (package journal). None of them copies a file: what an environment
// served before is still in the store, so going back takes as long as writing one
// small object. That a release is still whole is checked before the entry, not
// found out by visitors after it (Integrity).
package environments

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/site"
)

// JournalOf returns the journal of an environment, by its stored name, for
// whoever writes there. now is by the store's clock.
func JournalOf(store storage.Store, site, environment string, now func() time.Time) *journal.Journal {
	return &journal.Journal{Store: store, Site: site, Environment: environment,
		Attempt: func() string { return strings.ToLower(rand.Text()) }, Now: now}
}

// State is what an environment is at one moment.
type State struct {
	Name string         // as it is stored
	Head *journal.Entry // nil if nothing was ever said of it
}

// States returns the environments that have a journal, and
// those that are named, whether or not they have one: first
// those that are named, in that order, then the others in order
// of name. only leaves out what it refuses; nil takes all.
func States(ctx context.Context, store storage.Store, site string, named []string,
	only func(name string) bool,
) ([]State, error) {
	names := slices.Clone(named)
	var hints journal.Hints
	var asked sync.WaitGroup
	asked.Go(func() { hints = journal.ReadHints(ctx, store, site) })
	defer asked.Wait()
	for item, err := range store.List(ctx, storage.EnvironmentsKey(site)) {
		if err != nil {
			return nil, err
		}
		if name := item.Name(); !slices.Contains(named, name) && name != journal.Previews {
			names = append(names, name)
		}
	}

	if only != nil {
		names = slices.DeleteFunc(names, func(name string) bool { return !only(name) })
	}
	// One hint file for all, and then one read for each environment: fifty
	// previews cost fifty requests, side by side.
	states := make([]State, len(names))
	asked.Wait()
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(store))

	for i, name := range names {
		group.Go(func() error {
			states[i].Name = name
			head, err := JournalOf(store, site, name, nil).Head(inner, hints[name])
			if errors.Is(err, journal.ErrEmpty) {
				return nil
			}
			states[i].Head = &head
			return err
		})
	}

	return states, group.Wait()
}

// Operator changes what environments are besides what they serve. Close is
// called when it has done its work.
type Operator struct {
	Store storage.Store
	Site  string
	Who   string
	Cause string

	project *site.Project
	Hold    *pins.Hold
	Hints   journal.Hints
	pulses  sync.WaitGroup // hints that are on their way
	waker   *edge.Waker
}

// NewOperator returns one who works for a project. It
// takes a pin, by which it knows the store's clock.
func NewOperator(ctx context.Context, p *site.Project, store storage.Store, site, cause, what string,
) (*Operator, error) {
	operator := &Operator{Store: store, Site: site, Who: p.Person(ctx), Cause: cause, project: p}
	var asking sync.WaitGroup
	asking.Go(func() { operator.Hints = journal.ReadHints(ctx, store, site) })
	var err error
	operator.Hold, err = p.Pin(ctx, store, site, what)
	if asking.Wait(); err != nil {
		return nil, err
	}
	operator.waker = edge.NewWaker(ctx, store, site, operator.Hold.Ahead, p.ProductionConfig.EdgeKeys)
	return operator, nil
}

// Waker calls edge nodes for whoever reports what they serve.
func (s *Operator) Waker() *edge.Waker { return s.waker }

// Close drops the pin.
func (s *Operator) Close(ctx context.Context) {
	s.Told()
	s.Hold.Drop(ctx)
}

// Told waits until edge nodes have been told of what was written: they are while
// other things go on.
func (s *Operator) Told() { s.pulses.Wait() }

// Now is by the store's clock.
func (s *Operator) Now() time.Time { return time.Now().Add(s.Hold.Ahead) }

// Append writes the next entry of an environment's journal
// and tells edge nodes.
func (s *Operator) Append(ctx context.Context, environment string, decide journal.Decide,
) (journal.Entry, error) {
	entry, err := JournalOf(s.Hold.Writer(), s.Site, environment, s.Now).
		Append(ctx, journal.Entry{Number: s.Hints[environment]}, decide)
	if err == nil { // one hint after the other
		tell := s.Hints.Note(entry)
		s.pulses.Wait()
		s.pulses.Go(s.waker.Tell(ctx, entry))
		s.pulses.Go(func() { tell(ctx, s.Store) })
	}
	return entry, err
}

// AppendHost writes the next entry of a host's journal. The error is a refusal
// where the site does not own it.
func (s *Operator) AppendHost(ctx context.Context, host string, decide func(hosts.Entry) (hosts.Entry, error),
) (hosts.Entry, error) {
	entry, err := hosts.Append(ctx, s.Hold.Writer(), strings.ToLower(host), strings.ToLower(rand.Text()),
		decide)
	if taken, ok := errors.AsType[*hosts.Taken](err); ok {
		if taken.Owner.Site == "" {
			return entry, fault.New(fault.Refused, "host-free", "%s has no owner", host).
				Then("deploy a site to it first; to list this site's hosts: orilla domains")
		}
		return entry, HostTaken(taken, "")
	}
	return entry, err
}

// Remove ends what an environment serves. still, if not nil,
// is asked with the last entry whether it should, right
// before. It reports whether there was anything to end.
func (s *Operator) Remove(ctx context.Context, environment string, ended journal.Ended, why string,
	still func(journal.Entry) bool,
) (journal.Entry, bool, error) {
	remove := journal.Remove(ended, s.Cause, s.Who, why)
	entry, err := s.Append(ctx, environment, func(head *journal.Entry) (journal.Entry, error) {
		// Somebody has moved it since it was decided to end it.
		if head != nil && still != nil && !still(*head) {
			return journal.Entry{}, journal.ErrGone
		}
		return remove(head)
	})
	if errors.Is(err, journal.ErrGone) || errors.Is(err, journal.ErrEmpty) {
		return entry, false, nil
	}
	return entry, err == nil, err
}

// DocumentOf loads the document that an entry names; the zero content for none.
func DocumentOf(ctx context.Context, store storage.Store, entry journal.Entry,
) (journal.DocumentContent, error) {
	if entry.Document.IsZero() {
		return journal.DocumentContent{}, nil
	}
	data, err := release.Object(ctx, store, entry.Document)
	if err != nil {
		return journal.DocumentContent{}, err
	}
	return journal.DecodeDocument(data)
}

// DocumentChanges lists, one line each, what a deploy would
// change of the plan's environment besides the release, against
// its last entry. It does not check whether the entry's document
// comes from a later commit, which a deploy leaves as it is.
func DocumentChanges(ctx context.Context, plan *site.Plan, store storage.Store, head journal.Entry,
) ([]string, error) {
	old, err := DocumentOf(ctx, store, head)
	if err != nil || !plan.Project.Configured && plan.Project.ProductionCommit == "" {
		return nil, err
	}
	return plan.Project.ProductionConfig.Document(plan.Environment).Changes(old), nil
}
