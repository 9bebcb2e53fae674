package edge

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// Options say how a node works.
type Options struct {
	Tell     func(httpanswer.Event) // is told what happens, from several goroutines; nil for nobody
	Requests bool                   // tell of each request
	Sweep    time.Duration          // how often all journals are looked at, whatever the hints say; 0: 10 s
	// how often hints are looked at where the store cannot tell of changes; 0:
	// 500 ms, 2 s of a store elsewhere
	Poll   time.Duration
	Memory int64            // bytes of objects kept in memory; 0: 128 MB
	Reach  httpanswer.Reach // which upstreams inside the node's own network may be asked
	Wait   time.Duration    // how long an upstream may take to begin its answer; 0: 30 s

	// by which time conditions turn and previews expire; nil: the store's
	// clock, as far as SetAhead told it
	Now func() time.Time
}

// Node answers visitors from one store. Make it with New,
// then Follow the store for as long as it serves.
type Node struct {
	store   storage.Store
	options Options
	objects *httpanswer.Objects // contents of files
	index   *httpanswer.Objects // chunks and documents

	mutex        sync.Mutex
	environments map[string]*environment // by site/stored name
	pulses       map[string]time.Time    // when the hint of each site last changed
	hosts        atomic.Pointer[table]
	routing      sync.Mutex // held while the table of hosts is made
	owners       owners     // of the hosts that more than one site claims
	single       sync.Map   // openRelease by site/digits, for addresses of releases
	keys         sync.Map   // the random part of each site's claim
	clock        clock
	restored     atomic.Int64 // how many times the store was brought back from a copy, as it was last seen
	proxies      *httpanswer.Proxies

	// Of the goroutine that follows the store.
	mark string // what made it a store when the node began; "" for one without a mark
	// what was told of sites that cannot be found, by
	// site/stored name, so that it is told once
	amiss   sync.Map
	missing string // why it is not that store now; "" if it is
}

// New returns a node for a store. It knows nothing until Follow has begun.
func New(store storage.Store, options Options) *Node {
	if options.Sweep == 0 {
		options.Sweep = 10 * time.Second
	}
	if options.Poll == 0 {
		options.Poll = 500 * time.Millisecond
		if _, far := store.(storage.Remote); far {
			options.Poll = 2 * time.Second
		}
	}

	if options.Memory == 0 {
		options.Memory = 128 << 20
	}
	n := &Node{
		store: store, options: options, clock: clock{fixed: options.Now},
		objects: httpanswer.NewObjects(store, options.Memory), index: httpanswer.NewObjects(store, 64<<20),
		environments: map[string]*environment{}, pulses: map[string]time.Time{},
		proxies: httpanswer.NewProxies(options.Reach, options.Wait),
	}
	n.hosts.Store(&table{})
	return n
}

func (n *Node) tell(event httpanswer.Event) {
	if n.options.Tell != nil {
		event.Time = time.Now()
		n.options.Tell(event)
	}
}

// Follow keeps the node up to date until the context ends: it looks at a site
// when its hint changed, and at everything once in each sweep, since hints may
// be lost. ready is called after the first look.
func (n *Node) Follow(ctx context.Context, ready func()) {
	var changed <-chan struct{}
	if watcher, ok := n.store.(storage.Watcher); ok {
		changed, _ = watcher.Watch(ctx, storage.PulsesKey) // without it, polling does
	}
	if data, err := n.store.Get(ctx, storage.MarkKey); err == nil {
		n.mark = string(data)
	}

	n.timesRestored(ctx) //nolint:errcheck // what cannot be read now is looked at again
	n.look(ctx, true)
	ready()
	poll, sweep := time.NewTicker(n.options.Poll), time.NewTicker(n.options.Sweep)
	defer poll.Stop()
	defer sweep.Stop()

	for {
		select {
		case <-ctx.Done():
			return
		case _, ok := <-changed:
			if !ok {
				changed = nil
				continue
			}
			n.look(ctx, false)
		case <-poll.C:
			n.look(ctx, false)
		case <-sweep.C:
			n.look(ctx, true)
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
func (n *Node) isThere(ctx context.Context) bool {
	if n.mark == "" {
		return true
	}
	why := ""
	switch data, err := n.store.Get(ctx, storage.MarkKey); {
	case ctx.Err() != nil:
		return false
	case errors.Is(err, storage.ErrNotFound):
		why = "the store is not there: its mark is missing; everything stays as it is (is it mounted?)"
	case err != nil:
		why = "the store does not answer; everything stays as it is: " + err.Error()
	case string(data) != n.mark:
		why = "another store is there now; everything stays as it is (if that is meant, start this node anew)"
	}

	if why != n.missing && why != "" {
		n.trouble(nil, why)
	}
	n.missing = why

	return why == ""
}

// look refreshes the sites whose hints changed, or all.
func (n *Node) look(ctx context.Context, all bool) {
	if (all || n.missing != "") && !n.isThere(ctx) {
		return
	}
	sites := map[string]bool{}
	for item, err := range n.store.List(ctx, storage.PulsesKey) {
		if err != nil {
			n.trouble(nil, "the store's hints cannot be read: "+err.Error())
			break
		}
		if !n.pulses[item.Name()].Equal(item.Modified) || time.Since(item.Modified) < coarse {
			n.pulses[item.Name()] = item.Modified
			sites[item.Name()] = true
		}
	}

	complete := all
	if all {
		for item, err := range n.store.List(ctx, storage.SitesKey) {
			if err != nil {
				n.trouble(nil, "the store's sites cannot be read: "+err.Error())
				complete = false
				break
			}
			sites[item.Name()] = true
		}
	}

	flipped, there := false, map[string]bool{}
	for site := range sites {
		for item, err := range n.store.List(ctx, storage.EnvironmentsKey(site)) {
			if err != nil {
				n.trouble(nil, site+": its environments cannot be read: "+err.Error())
				complete = false
				break
			}
			there[site+"/"+item.Name()] = true
			flipped = n.refresh(ctx, n.environment(site, item.Name())) || flipped
		}
	}

	if complete {
		flipped = n.forget(ctx, there) || flipped
	}
	if flipped || complete && n.ownersChanged(ctx) {
		n.route(ctx)
	}
}

// forget drops the environments that are no longer in the store, if it says
// that they are gone: that their site was removed, or that the store was
// brought back from a copy. That they are not listed proves nothing.
func (n *Node) forget(ctx context.Context, there map[string]bool) (any bool) {
	n.mutex.Lock()
	var missing []*environment
	for key, e := range n.environments {
		if !there[key] && e.current.Load() != nil {
			missing = append(missing, e)
		}
	}

	n.mutex.Unlock()
	if len(missing) == 0 || !n.isThere(ctx) { // it may have vanished while it was listed
		return false
	}
	for _, e := range missing {
		key := e.journal.Site + "/" + e.journal.Environment
		e.mutex.Lock()
		may, err := n.mayGoBack(ctx, e)
		e.mutex.Unlock()
		if err == nil && !may {
			err = errors.New("it is not in the store any more, and nothing says that it was removed; it " +
				"stays as it is (an older copy? If that is meant: orilla store restored)")
		}
		if err != nil {
			if told, _ := n.amiss.Swap(key, err.Error()); told != err.Error() && ctx.Err() == nil {
				n.trouble(e, err.Error())
			}
			continue
		}

		n.mutex.Lock()
		delete(n.environments, key)
		n.mutex.Unlock()
		n.amiss.Delete(key)
		n.single.Clear() // addresses of releases of sites that are gone
		n.keys.Delete(e.journal.Site)
		any = true
	}

	return any
}

// follower is what an environment asks the node.
func (n *Node) follower(ctx context.Context, e *environment, before func() error) follower {
	return follower{
		begin: func() origin {
			return origin{n.key(ctx, e.journal.Site), int(n.restored.Load())}
		},
		back: func() (bool, error) {
			may, err := n.mayGoBack(ctx, e)
			if may {
				n.keys.Delete(e.journal.Site)
			}
			return may, err
		},
		before: before,
		now:    n.clock.now,
	}
}

// mayGoBack reports whether an environment may be forgotten, or answered from
// an earlier entry than it was: the site was removed as the node knew it, or
// the store was brought back from a copy since.
func (n *Node) mayGoBack(ctx context.Context, e *environment) (bool, error) {
	if e.origin.incarnation != "" {
		removed, err := record.IsRemoved(ctx, n.store, e.journal.Site, e.origin.incarnation)
		if removed || err != nil {
			return removed, err
		}
	}
	restored, err := n.timesRestored(ctx)
	return err == nil && restored > e.origin.restored, err
}

// timesRestored counts how often the store was brought
// back from a copy, as people said.
func (n *Node) timesRestored(ctx context.Context) (times int, err error) {
	for _, err := range n.store.List(ctx, storage.RestoredKey) {
		if err != nil {
			return 0, err
		}
		times++
	}
	n.restored.Store(int64(times))
	return times, nil
}

// route makes the table of hosts anew.
func (n *Node) route(ctx context.Context) {
	n.routing.Lock() // not what requests wait for: the store is asked meanwhile
	defer n.routing.Unlock()
	n.mutex.Lock()
	list := slices.Collect(maps.Values(n.environments))
	n.mutex.Unlock()

	whose := owners{}
	for _, host := range contested(list) {
		owner, err := hosts.Owner(ctx, n.store, host)
		if err != nil {
			owner = n.owners[host] // as it was
			n.trouble(nil, host+": whom it belongs to cannot be read: "+err.Error())
		}
		whose[host] = owner
	}

	n.owners = whose

	table := newTable(list, whose, func(address, has string, wants *environment) {
		n.tell(httpanswer.Event{Kind: "trouble", Site: wants.journal.Site,
			Environment: wants.journal.Environment,
			Text:        address + " is not served from here: it belongs to " + has})
	})
	n.hosts.Store(&table)
}

// ownersChanged reports whether any host that more than
// one site claims belongs to another one now.
func (n *Node) ownersChanged(ctx context.Context) bool {
	n.routing.Lock()
	known := n.owners // never changed, only replaced
	n.routing.Unlock()
	for host, before := range known {
		if now, err := hosts.Owner(ctx, n.store, host); err == nil &&
			(now.Host != before.Host || now.Number != before.Number) {
			return true
		}
	}
	return false
}

// environment returns the follower of a journal, which it makes the first time.
func (n *Node) environment(site, name string) *environment {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	key := site + "/" + name
	e, ok := n.environments[key]
	if !ok {
		e = &environment{journal: journal.Journal{Store: n.store, Site: site, Environment: name,
			Now: time.Now}}
		n.environments[key] = e
	}
	return e
}

// known returns the follower of a journal that was seen, or nil.
func (n *Node) known(site, name string) *environment {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return n.environments[site+"/"+name]
}

// refresh looks at one journal and tells what came of it.
func (n *Node) refresh(ctx context.Context, e *environment) bool {
	flipped, err := e.refresh(ctx, n.index,
		n.follower(ctx, e, func() error { return n.refreshAccess(ctx, e) }))
	if ctx.Err() != nil {
		return false
	}

	if err != nil {
		if text := err.Error(); e.failed.Swap(text) != text {
			n.trouble(e, "stays as it is: "+text)
		}
		return false
	}

	e.failed.Store("")
	if flipped {
		entry := e.current.Load().entry
		n.tell(httpanswer.Event{Kind: "flip", Site: entry.Site, Environment: entry.Environment,
			Entry: entry.Number, Release: entry.Release,
			Commit: entry.Commit, Text: string(entry.Kind)})
	}
	return flipped
}

// refreshAccess looks who may look at previews, after a new entry of one was
// read and before anything is answered from it: so a password that was there
// before the entry counts when that does.
func (n *Node) refreshAccess(ctx context.Context, e *environment) error {
	if !strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix) {
		return nil
	}
	all := n.environment(e.journal.Site, journal.Previews)
	_, err := all.refresh(ctx, n.index, n.follower(ctx, all, func() error { return nil }))
	return err
}

func (n *Node) trouble(e *environment, text string) {
	event := httpanswer.Event{Kind: "trouble", Text: text}
	if e != nil {
		event.Site, event.Environment = e.journal.Site, e.journal.Environment
	}
	n.tell(event)
}

// openRelease is a release that answers at its own address.
type openRelease struct {
	id   release.ID
	site answer.Site
}

// release finds the one release of a site whose id begins with digits; the zero
// ID if there is none, or more than one.
func (n *Node) release(ctx context.Context, site, digits string) (release.ID, answer.Site, error) {
	if len(digits) < 10 || strings.Trim(digits, "0123456789abcdef") != "" {
		return release.ID{}, answer.Site{}, nil
	}
	key := site + "/" + digits
	if found, ok := n.single.Load(key); ok {
		return found.(openRelease).id, found.(openRelease).site, nil
	}

	var ids []release.ID
	for item, err := range n.store.List(ctx, storage.ReleasesKey(site)) {
		if err != nil {
			return release.ID{}, answer.Site{}, err
		}
		if id, err := release.ParseID(item.Name()); err == nil && strings.HasPrefix(item.Name(), digits) {
			ids = append(ids, id)
		}
	}

	if len(ids) != 1 {
		return release.ID{}, answer.Site{}, nil
	}
	reader, err := release.Open(ctx, n.store, site, ids[0], n.index.Get)
	if err != nil {
		return release.ID{}, answer.Site{}, err
	}

	open := openRelease{id: ids[0]}
	if open.site, err = answer.Open(ctx, reader); err == nil {
		n.single.Store(key, open)
	}
	return open.id, open.site, err
}

// claimed reports whether a site's name has an owner.
func (n *Node) claimed(ctx context.Context, site string) (bool, error) {
	_, err := n.store.Stat(ctx, storage.ClaimKey(site))
	if errors.Is(err, storage.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// isFixed reports whether a name is one that configuration
// could give an environment.
func isFixed(name string) bool {
	return project.IsLabel(name) && !slices.Contains([]string{"preview", journal.Previews, "release"}, name)
}
