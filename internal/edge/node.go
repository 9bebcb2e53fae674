// Package edge is a node that answers visitors: it follows the journals of a
// store, knows for each host what is live there, and answers from memory and its
// cache.
//
//	journals --> state --> routing --> access --> answer.Decide --> httpanswer
//	 poll, or a  one per   host and    password   what               how
//	 hint        environ.  path        or link
//
// A request waits for no journal: it is answered from the state that the last look
// left, which is replaced as a whole. So a visitor sees one release or the other
// and never a mixture, and a store that cannot be reached leaves a node answering
// with what it has. Nodes share nothing but the store, and write nothing to it but
// their presence, what they encoded and had issued, and what they counted.
//
// What keeps a node up, and who looks after it:
//
//	tracker   looks at journals: what hints name first, then everything in rounds
//	contents  reads objects, and asks whether the store is gone before it calls one damaged
//	keeper    notes in the cache what every environment served last, and begins with it
//	asked     bounds what requests may cause to be looked up, and remembers what is not there
//	visit     answers: which host, who may look, from what, and what to say if it cannot
//	worker    has what visitors ask for encoded as well as can be, when there is time
//
// Nothing that a stranger sends makes the store work more than a little: requests are
// answered from what is known, and the few looks that they cause are shared and counted.
package edge

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/variants"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/httpanswer"
)

// Options say how a node works. The zero value is a node that tells nobody
// anything.
type Options struct {
	Settings
	// Visited is told of each request that was answered, from many goroutines at once; what it is
	// given counts until it returns. It must not wait. nil for nobody.
	Visited func(*visits.Visit)
	Tell    func(httpanswer.Event) // is told what happens, from several goroutines; nil for nobody
	Sweep   time.Duration          // how often all journals are looked at, whatever the hints say; 0: 10 s
	// how often hints are looked at where the store cannot tell of changes; 0:
	// 500 ms, 2 s of a store elsewhere
	Poll   time.Duration
	Memory int64 // bytes of content kept in memory, and a quarter of it for indexes; 0: 128 MB
	// Cache is what the node keeps on disk; nil for nothing.
	Cache *Cache
	// Patience is how long a visitor waits for the store while nothing comes; 0: 5 s.
	Patience time.Duration
	Wait     time.Duration // how long an upstream may take to begin its answer; 0: 30 s
	// Best makes the smallest variant of content; nil: in this process. The error is
	// coding.ErrGainless where that saves nothing.
	Best variants.Encoder
	// Secures reports whether there is a certificate for a host, so that visitors can be led
	// to https; nil: for none.
	Secures func(host string) bool
	// Named is told the names that certificates are wanted for, each time after hosts were
	// routed anew; nil for nobody.
	Named func(names []string)
	// Challenge answers an authority that asks whether an order is ours, and reports whether
	// it did; nil: nobody orders.
	Challenge func(w http.ResponseWriter, r *http.Request, host string) bool
	// Orders reports whether a certificate is ordered for a host, and from whom, as far as that
	// is known; nil: for none.
	Orders func(host string) (issuer string, orders bool)
	// Alarms says what somebody has to do soon, for the node's health; nil: nothing.
	Alarms func() []string

	// by which time conditions turn and previews expire; nil: the store's
	// clock, as far as SetAhead told it
	Now func() time.Time
}

// Settings are what can change while a node serves.
type Settings struct {
	Requests   bool // tell of each request
	LocalNames bool // names below .localhost answer other machines too
	// For how long the node serves what it knows while its store does not answer:
	// public environments, 0 for ever; protected ones and previews, 0 for 1 h.
	StalePublic, StaleProtected time.Duration

	Reach        httpanswer.Reach // which upstreams inside the node's own network may be asked
	UpstreamMost int              // how many requests at once one upstream gets; 0: 256
}

// Node answers visitors from one store. Make it with New,
// then Follow the store for as long as it serves.
//
// A request takes the state of its environment once, and keeps it: what is
// learned meanwhile counts for the next one.
type Node struct {
	store    storage.Store
	options  Options // as the node was made
	settings atomic.Pointer[Settings]
	objects  content // contents of files
	index    indexed // chunks and documents
	proxies  *httpanswer.Proxies
	clock    clock
	all      directory
	routing  routing
	tracker  *tracker
	asked    asked
	is       condition
}

// content is what files hold, and who has it encoded.
type content struct {
	*httpanswer.Objects
	worker  *worker
	made    *made // answers
	library *library
	coming  *coming   // what is fetched before it is asked for
	who     *identity // by which the node is known
}

// indexed is what leads to content, and what that is read from: a store, or a cache
// before it.
type indexed struct {
	*httpanswer.Objects
	from   storage.Store
	opened *sync.Map // *release.Reader by key: many environments show the same release
	count  *atomic.Int64
}

// condition is how a node is.
type condition struct {
	ready     chan struct{} // closed after the first look
	draining  atomic.Bool
	reached   atomic.Int64           // when the store last answered, in nanoseconds
	proxied   atomic.Bool            // a proxy on this machine has passed requests on
	untrusted atomic.Bool            // that a proxy is not trusted was told
	watched   atomic.Int64           // when somebody last asked how the node is, in nanoseconds
	store     atomic.Pointer[string] // the random id of the store; nil if it is not known
}

// New returns a node for a store. It knows nothing until Follow has begun.
func New(store storage.Store, options Options) *Node {
	if options.Sweep == 0 {
		options.Sweep = 10 * time.Second
	}
	if options.Poll == 0 {
		options.Poll = 500 * time.Millisecond
		if _, far := store.(storage.Remote); far {
			options.Poll = 650 * time.Millisecond
		}
	}

	if options.Memory == 0 {
		options.Memory = 128 << 20
	}
	if options.Patience == 0 {
		options.Patience = 5 * time.Second
	}

	contents, index := store, store
	if options.Cache != nil {
		contents, index = options.Cache.content, options.Cache.index
	}
	n := &Node{}
	isThere := func(ctx context.Context) bool { return n.tracker.isThere(ctx) }
	contents, index = newContents(contents, isThere), newContents(index, isThere)
	*n = Node{
		store: store, options: options, clock: clock{fixed: options.Now},
		objects: content{httpanswer.NewObjects(contents, options.Memory, options.Patience), newWorker(n),
			newMade(options.Memory), newLibrary(n), &coming{}, newIdentity(options.Cache)},
		index: indexed{httpanswer.NewObjects(index, options.Memory/4, options.Patience), index,
			&sync.Map{}, &atomic.Int64{}},
		proxies: httpanswer.NewProxies(options.Wait),
		all:     directory{store: newHurried(store), byName: map[string]*environment{}},
		asked:   newAsked(),
	}
	n.is.ready = make(chan struct{})
	n.Set(options.Settings)

	n.tracker = newTracker(n)
	n.objects.Encode(n.objects.worker.encoding())
	n.routing.table.Store(&table{})
	n.routing.serial.Add(1)
	return n
}

// Set changes settings, for the requests that begin from now on.
func (n *Node) Set(settings Settings) {
	if settings.StaleProtected == 0 {
		settings.StaleProtected = time.Hour
	}
	if settings.UpstreamMost == 0 {
		settings.UpstreamMost = 256
	}
	n.settings.Store(&settings)
	n.proxies.Set(settings.Reach, settings.UpstreamMost)
}

// Follow keeps the node up to date until the context ends.
// ready is called after the first look, when the node
// answers for everything that is in the store.
func (n *Node) Follow(ctx context.Context, ready func()) {
	var working sync.WaitGroup
	defer working.Wait()
	working.Go(func() { n.objects.worker.run(ctx) })
	working.Go(func() { n.objects.library.run(ctx) })
	n.tracker.follow(ctx, func() {
		close(n.is.ready)
		ready()
	})
}

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

// serials number environments and what they serve.
var serials atomic.Int64

// of returns the environment of a journal, which is made the first time.
func (d *directory) of(site, name string) *environment {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	key := site + "/" + name
	e, ok := d.byName[key]
	if !ok {
		j := journal.Journal{Store: d.store, Site: site, Environment: name, Now: time.Now}
		e = &environment{journal: j, serial: serials.Add(1)}
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
	serial atomic.Int64 // of the table: counted after it was replaced
	making sync.Mutex   // held while the table is made: the store is asked meanwhile
	owners owners       // of the hosts that more than one site claims; never changed, only replaced
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
	n.reroute(whose)
}

// reroute makes the table of hosts anew with owners that are known.
func (n *Node) reroute(whose owners) {
	table := newTable(n.all.list(), whose, func(address, has string, wants *environment) {
		n.trouble(wants, address+" is not served here: it belongs to "+has)
	})
	n.routing.table.Store(&table)
	n.routing.serial.Add(1)
	if n.options.Named != nil {
		n.options.Named(securedNames(n.all.list(), n.clock.now()))
	}
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

// isFixed reports whether a name is one that configuration
// could give an environment.
func isFixed(name string) bool {
	return project.IsLabel(name) && !slices.Contains([]string{"preview", journal.Previews, "release"}, name)
}
