// Package edge is a node that answers visitors: it follows the journals of a
// store, knows for each host what is live there, and answers from memory and its
// cache.
//
//	journals --> state --> routing --> access --> answer.Decide --> httpanswer
//	 poll, or a  one per   host and    password   what               how
//	 hint        environ.  path        or link
//
// A request waits for no journal: it is answered from the state that the last poll
// left, which is replaced as a whole. So a visitor sees one release or the other
// and never a mixture, and a store that cannot be reached leaves a node answering
// with what it has. Nodes share nothing but the store, and write nothing to it but
// their presence.
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
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// Options say how a node works. The zero value is a node that tells nobody
// anything.
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
//
// A request takes the state of its environment once, and keeps it: what is
// learned meanwhile counts for the next one.
type Node struct {
	store    storage.Store
	options  Options
	objects  *httpanswer.Objects // contents of files
	index    *httpanswer.Objects // chunks and documents
	proxies  *httpanswer.Proxies
	clock    clock
	all      directory
	routing  routing
	tracker  *tracker
	releases sync.Map // openRelease by site/digits, for addresses of releases
	keys     sync.Map // the random part of each site's claim, by site
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
		objects: httpanswer.NewObjects(store, options.Memory),
		index:   httpanswer.NewObjects(store, 64<<20),
		proxies: httpanswer.NewProxies(options.Reach, options.Wait),
		all:     directory{store: store, byName: map[string]*environment{}},
	}

	n.tracker = &tracker{Node: n, pulses: map[string]time.Time{}}
	n.routing.table.Store(&table{})
	return n
}

// Follow keeps the node up to date until the context ends.
// ready is called after the first look, when the node
// answers for everything that is in the store.
func (n *Node) Follow(ctx context.Context, ready func()) { n.tracker.follow(ctx, ready) }

// tell hands an event on, with its time. Nobody may be listening.
func (n *Node) tell(event httpanswer.Event) {
	if n.options.Tell != nil {
		event.Time = time.Now()
		n.options.Tell(event)
	}
}

// trouble tells what goes wrong, with an environment or,
// where that is nil, with the store.
func (n *Node) trouble(e *environment, text string) {
	event := httpanswer.Event{Kind: "trouble", Text: text}
	if e != nil {
		event.Site, event.Environment = e.journal.Site, e.journal.Environment
	}
	n.tell(event)
}

// directory holds the environments that were ever seen, each with its journal.
type directory struct {
	store  storage.Store
	mutex  sync.Mutex
	byName map[string]*environment // by site/stored name
}

// of returns the environment of a journal, which is made the first time.
func (d *directory) of(site, name string) *environment {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	key := site + "/" + name
	e, ok := d.byName[key]
	if !ok {
		j := journal.Journal{Store: d.store, Site: site, Environment: name, Now: time.Now}
		e = &environment{journal: j}
		d.byName[key] = e
	}
	return e
}

// known returns the environment of a journal that was seen, or nil.
func (d *directory) known(site, name string) *environment {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	return d.byName[site+"/"+name]
}

// list returns all environments, in any order.
func (d *directory) list() []*environment {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	return slices.Collect(maps.Values(d.byName))
}

// forget drops an environment that the store has proved to be gone; requests
// that have begun keep what they hold.
func (d *directory) forget(e *environment) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	delete(d.byName, e.journal.Site+"/"+e.journal.Environment)
}

// routing says where each host leads. Requests read the
// table; it is made anew when something flips.
type routing struct {
	table  atomic.Pointer[table]
	making sync.Mutex // held while the table is made: the store is asked meanwhile
	owners owners     // of the hosts that more than one site claims; never changed, only replaced
}

// route makes the table of hosts anew.
func (n *Node) route(ctx context.Context) {
	n.routing.making.Lock()
	defer n.routing.making.Unlock()
	list := n.all.list()
	// Asked only for hosts that more than one site claims: of all others, the
	// one that claims has it.
	whose := owners{}
	for _, host := range contested(list) {
		owner, err := hosts.Owner(ctx, n.store, host)
		if err != nil {
			owner = n.routing.owners[host] // as it was
			n.trouble(nil, host+": cannot read its owner: "+err.Error())
		}
		whose[host] = owner
	}

	n.routing.owners = whose

	table := newTable(list, whose, func(address, has string, wants *environment) {
		n.trouble(wants, address+" is not served here: it belongs to "+has)
	})
	n.routing.table.Store(&table)
}

// ownersChanged reports whether any host that more than
// one site claims belongs to another one now.
func (n *Node) ownersChanged(ctx context.Context) bool {
	n.routing.making.Lock()
	known := n.routing.owners
	n.routing.making.Unlock()
	for host, before := range known {
		now, err := hosts.Owner(ctx, n.store, host)
		if err == nil && (now.Host != before.Host || now.Number != before.Number) {
			return true
		}
	}
	return false
}

// openRelease is a release that answers at its own address.
type openRelease struct {
	id   release.ID
	site answer.Site
}

// release finds the one release of a site whose id begins with digits; the zero
// ID if there is none, or more than one.
func (n *Node) release(ctx context.Context, site, digits string) (release.ID, answer.Site, error) {
	// Ten digits at least, as people are shown them: fewer would make releases
	// easy to guess.
	if len(digits) < 10 || strings.Trim(digits, "0123456789abcdef") != "" {
		return release.ID{}, answer.Site{}, nil
	}
	key := site + "/" + digits
	if found, ok := n.releases.Load(key); ok {
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

	// None, or two that begin alike: neither is shown.
	if len(ids) != 1 {
		return release.ID{}, answer.Site{}, nil
	}
	reader, err := release.Open(ctx, n.store, site, ids[0], n.index.Get)
	if err != nil {
		return release.ID{}, answer.Site{}, err
	}

	open := openRelease{id: ids[0]}
	if open.site, err = answer.Open(ctx, reader); err == nil {
		n.releases.Store(key, open)
	}
	return open.id, open.site, err
}

// claimed reports whether a site's name has an owner.
func claimed(ctx context.Context, n *Node, site string) (bool, error) {
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
