package edge

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// roundOf looks at the environments of a site, one after the other as the pace allows.
func (t *tracker) roundOf(ctx context.Context, site string) {
	bounded, cancel := context.WithTimeout(ctx, lookTimeout)
	names, err := environmentsOf(bounded, t, site)
	cancel()
	if err != nil {
		return
	}
	flipped, there := false, map[string]bool{}
	for _, name := range names {
		e := t.all.of(site, name)
		there[name] = true
		if s := e.current.Load(); s != nil && s.ended(t.clock.now()) && t.rounds%endedEvery != 0 {
			continue
		}
		if t.pace.WaitN(ctx, 2) != nil {
			return
		}
		flipped = t.refresh(ctx, e, 0, true) || flipped
	}
	if t.forget(ctx, site, there) || flipped {
		t.route(ctx)
	}
}

// environmentsOf lists the environments of a site in the store.
func environmentsOf(ctx context.Context, t *tracker, site string) (names []string, err error) {
	for item, err := range t.store.List(ctx, storage.EnvironmentsKey(site)) {
		if err != nil {
			t.trouble(nil, site+": its environments cannot be read: "+err.Error())
			return nil, err
		}
		names = append(names, item.Name())
	}
	return names, nil
}

// lookAt looks at a site: at the environments that its hint says have moved, then at
// all others that have not ended, or at all. It reports whether it could look at each:
// one whose entry is damaged was looked at, one that the store did not answer for was not.
func (t *tracker) lookAt(ctx context.Context, site string, heads journal.Hints, all bool) (complete bool) {
	looked := map[string]bool{}
	var first []string
	for name, number := range heads {
		if e := t.all.known(site, name); e != nil && !all {
			if s := e.current.Load(); s == nil || s.entry.Number < number {
				first, looked[name] = append(first, name), true
			}
		}
	}
	if t.lookEach(ctx, site, first, heads) {
		t.route(ctx)
	}

	names, err := environmentsOf(ctx, t, site)
	if err != nil {
		return false
	}
	var others []string
	there := map[string]bool{}
	for _, name := range names {
		there[name] = true
		e := t.all.of(site, name)
		s := e.current.Load()
		if !looked[name] && (all || s == nil || !s.ended(t.clock.now())) {
			others = append(others, name)
		}
	}
	flipped := t.lookEach(ctx, site, others, heads)
	// While the node begins, everything is routed once at the end.
	if (t.forget(ctx, site, there) || flipped) && !all {
		t.route(ctx)
	}

	for _, name := range append(first, others...) {
		e := t.all.of(site, name)
		if failed, _ := e.failed.Load().(string); failed != "" && e.passing.Load() {
			return false
		}
	}
	return ctx.Err() == nil
}

// lookEach looks at environments of a site, several at once, and reports whether any
// flipped.
func (t *tracker) lookEach(ctx context.Context, site string, names []string, heads journal.Hints) bool {
	var flipped atomic.Bool
	var group sync.WaitGroup
	for _, name := range names {
		select {
		case t.looking <- struct{}{}:
		case <-ctx.Done():
			group.Wait()
			return flipped.Load()
		}
		group.Go(func() {
			defer func() { <-t.looking }()
			if t.refresh(ctx, t.all.of(site, name), heads[name], false) {
				flipped.Store(true)
			}
		})
	}
	group.Wait()
	return flipped.Load()
}

// forget drops the environments of a site that are no longer in the store, if it
// says that they are gone: that their site was removed, or that the store was
// brought back from a copy. That they are not listed proves nothing.
func (t *tracker) forget(ctx context.Context, site string, there map[string]bool) (forgotten bool) {
	var missing []*environment
	for _, e := range t.all.list() {
		if e.journal.Site == site && !there[e.journal.Environment] && e.current.Load() != nil {
			missing = append(missing, e)
		}
	}

	if len(missing) == 0 || !t.isThere(ctx) { // it may have vanished while it was listed
		return false
	}
	for _, e := range missing {
		key := e.journal.Site + "/" + e.journal.Environment
		e.mutex.Lock()
		// A record must say so. An empty listing looks the same whether a site
		// was removed or a disk was not mounted.
		may, err := t.mayGoBack(ctx, e)
		e.mutex.Unlock()
		if err == nil && !may {
			err = errors.New("it is no longer in the store, without a record of its removal; " +
				"nothing changes here (an older copy? If so: orilla store restored)")
		}
		if err != nil {
			// Told once, and not with every look.
			if told, _ := t.amiss.Swap(key, err.Error()); told != err.Error() && ctx.Err() == nil {
				t.trouble(e, err.Error())
			}
			continue
		}

		t.all.forget(e)
		keeper{t.Node}.dismiss(e)
		t.amiss.Delete(key)
		t.asked.releases.Clear() // addresses of releases of sites that are gone
		t.asked.keys.Delete(e.journal.Site)
		forgotten = true
	}

	return forgotten
}

// follower is what an environment asks the node.
func (t *tracker) follower(ctx context.Context, e *environment, before func() error) follower {
	return follower{
		begin: func() origin {
			return origin{t.key(ctx, e.journal.Site), int(t.restored.Load())}
		},
		back: func() (bool, error) {
			may, err := t.mayGoBack(ctx, e)
			if may {
				t.asked.keys.Delete(e.journal.Site)
			}
			return may, err
		},
		before: before,
		now:    t.clock.now,
	}
}

// mayGoBack reports whether an environment may be forgotten, or answered from
// an earlier entry than it was: the site was removed as the node knew it, or
// the store was brought back from a copy since.
func (t *tracker) mayGoBack(ctx context.Context, e *environment) (bool, error) {
	if e.origin.incarnation != "" {
		removed, err := record.IsRemoved(ctx, t.store, e.journal.Site, e.origin.incarnation)
		if removed || err != nil {
			return removed, err
		}
	}
	// Counted, not compared by time: clocks of a restored machine say anything.
	restored, err := t.timesRestored(ctx)
	return err == nil && restored > e.origin.restored, err
}

// timesRestored counts how often the store was brought
// back from a copy, as people said.
func (t *tracker) timesRestored(ctx context.Context) (times int, err error) {
	for _, err := range t.store.List(ctx, storage.RestoredKey) {
		if err != nil {
			return 0, err
		}
		times++
	}
	t.restored.Store(int64(times))
	return times, nil
}

// refresh looks at one journal and tells what came of it. number may be that of its
// last entry; thorough looks whether the entry that is served is there still.
func (t *tracker) refresh(ctx context.Context, e *environment, number int64, thorough bool) bool {
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	follow := t.follower(ctx, e, func() error { return t.refreshAccess(ctx, e) })
	follow.number, follow.thorough = number, thorough
	flipped, err := e.refresh(ctx, t.Node, follow)
	if errors.Is(ctx.Err(), context.Canceled) {
		return false
	}

	if err != nil {
		e.passing.Store(httpanswer.Passing(err))
		if text := err.Error(); e.failed.Swap(text) != text {
			t.trouble(e, "unchanged: "+text)
		}
		return false
	}

	e.failed.Store("")
	if flipped {
		entry := e.current.Load().entry
		t.tell(httpanswer.Event{Kind: "flip", Site: entry.Site, Environment: entry.Environment,
			Entry: entry.Number, Release: entry.Release,
			Commit: entry.Commit, Text: string(entry.Kind)})
	}
	return flipped
}

// refreshAccess reads who may see previews, after a new entry of one was read
// and before it is served. So a password that was set before the entry already
// applies to it.
func (t *tracker) refreshAccess(ctx context.Context, e *environment) error {
	if !strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix) {
		return nil
	}
	all := t.all.of(e.journal.Site, journal.Previews)
	// Many previews at once share a look, which begins after each of them was read.
	return all.look.shared.wait(ctx, func(ctx context.Context) (bool, error) {
		ctx, cancel := context.WithTimeout(ctx, lookTimeout)
		defer cancel()
		_, err := all.refresh(ctx, t.Node, t.follower(ctx, all, func() error { return nil }))
		return true, err
	})
}
