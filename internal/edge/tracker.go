package edge

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// tracker keeps a node up to date with its store. It belongs to one goroutine,
// but for refresh, which requests call too when an asset is missing.
type tracker struct {
	*Node
	pulses   map[string]time.Time // when the hint of each site last changed
	mark     string               // what made it a store when the node began; "" for one without a mark
	missing  string               // why it is not that store now; "" if it is
	amiss    sync.Map             // what was told of sites that cannot be found, by site/stored name
	restored atomic.Int64         // how often the store was brought back from a copy, as last seen
}

// follow looks at a site when its hint changed, and at everything once in each
// sweep, since hints may be lost. ready is called after the first look.
func (t *tracker) follow(ctx context.Context, ready func()) {
	// A folder tells of changes at once; other stores are polled.
	var changed <-chan struct{}
	if watcher, ok := t.store.(storage.Watcher); ok {
		changed, _ = watcher.Watch(ctx, storage.PulsesKey) // without it, polling does
	}
	if data, err := t.store.Get(ctx, storage.MarkKey); err == nil {
		// The random id in the mark tells this store from any other at the same
		// address.
		t.mark = string(data)
	}

	t.timesRestored(ctx) //nolint:errcheck // what cannot be read now is looked at again
	t.poll(ctx, true)
	ready()
	poll, sweep := time.NewTicker(t.options.Poll), time.NewTicker(t.options.Sweep)
	defer poll.Stop()
	defer sweep.Stop()

	for {
		select {
		case <-ctx.Done():
			return
		case _, ok := <-changed:
			// The watch has ended, perhaps with the folder; polling goes on.
			if !ok {
				changed = nil
				continue
			}
			t.poll(ctx, false)
		case <-poll.C:
			t.poll(ctx, false)
		case <-sweep.C:
			t.poll(ctx, true)
		}
	}
}

// coarse is how coarse the times of a store may be: of two
// hints in the same second, in a folder in the same few
// milliseconds, the second could look like the first.
const coarse = 2 * time.Second

// isThere reports whether the store is the one that the node began with. A
// folder that is unmounted looks like a store in which everything was removed;
// so does another store at the same address. From neither anything is learned.
func (t *tracker) isThere(ctx context.Context) bool {
	if t.mark == "" {
		return true
	}
	why := ""
	switch data, err := t.store.Get(ctx, storage.MarkKey); {
	case ctx.Err() != nil:
		return false
	case errors.Is(err, storage.ErrNotFound):
		why = "the store is missing (is it mounted?); nothing changes here"
	case err != nil:
		why = "the store does not answer; nothing changes here: " + err.Error()
	case string(data) != t.mark:
		why = "this is another store now; nothing changes here (if that is intended, restart this node)"
	}

	if why != t.missing && why != "" {
		t.trouble(nil, why)
	}
	t.missing = why

	return why == ""
}

// poll refreshes the sites whose hints changed, or all.
func (t *tracker) poll(ctx context.Context, all bool) {
	if (all || t.missing != "") && !t.isThere(ctx) {
		return
	}
	sites := map[string]bool{}
	for item, err := range t.store.List(ctx, storage.PulsesKey) {
		if err != nil {
			t.trouble(nil, "the store's hints cannot be read: "+err.Error())
			break
		}
		// A hint that is not older than the times are coarse may be followed by
		// one that looks the same, so it counts again.
		if !t.pulses[item.Name()].Equal(item.Modified) || time.Since(item.Modified) < coarse {
			t.pulses[item.Name()] = item.Modified
			sites[item.Name()] = true
		}
	}

	// Whether everything was really seen. Only then something that was not seen
	// may be gone.
	complete := all
	if all {
		for item, err := range t.store.List(ctx, storage.SitesKey) {
			if err != nil {
				t.trouble(nil, "the store's sites cannot be read: "+err.Error())
				complete = false
				break
			}
			sites[item.Name()] = true
		}
	}

	flipped, there := false, map[string]bool{}
	for site := range sites {
		for item, err := range t.store.List(ctx, storage.EnvironmentsKey(site)) {
			if err != nil {
				t.trouble(nil, site+": its environments cannot be read: "+err.Error())
				complete = false
				break
			}
			there[site+"/"+item.Name()] = true
			flipped = t.refresh(ctx, t.all.of(site, item.Name())) || flipped
		}
	}

	if complete {
		flipped = t.forget(ctx, there) || flipped
	}
	if flipped || complete && t.ownersChanged(ctx) {
		t.route(ctx)
	}
}

// forget drops the environments that are no longer in the store, if it says
// that they are gone: that their site was removed, or that the store was
// brought back from a copy. That they are not listed proves nothing.
func (t *tracker) forget(ctx context.Context, there map[string]bool) (forgotten bool) {
	var missing []*environment
	for _, e := range t.all.list() {
		if !there[e.journal.Site+"/"+e.journal.Environment] && e.current.Load() != nil {
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
		t.amiss.Delete(key)
		t.releases.Clear() // addresses of releases of sites that are gone
		t.keys.Delete(e.journal.Site)
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
				t.keys.Delete(e.journal.Site)
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

// refresh looks at one journal and tells what came of it.
func (t *tracker) refresh(ctx context.Context, e *environment) bool {
	flipped, err := e.refresh(ctx, t.index,
		t.follower(ctx, e, func() error { return t.refreshAccess(ctx, e) }))
	if ctx.Err() != nil {
		return false
	}

	if err != nil {
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
	_, err := all.refresh(ctx, t.index, t.follower(ctx, all, func() error { return nil }))
	return err
}
