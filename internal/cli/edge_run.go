package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/counting"
	"orilla.example/orilla/internal/diskcache"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/encoder"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/store"
)

// edge is orilla edge: it serves all sites of a store until it is ended. configured
// reads what the node is to do, again after each SIGHUP.
func (a *edgeCmd) edge(ctx context.Context, configured func() (project.EdgeConfig, error), check bool) error {
	// Options first: a mistake in them is told before anything is asked of a store.
	config, err := configured()
	if err != nil {
		return err
	}
	set, err := loadCertificates(config)
	if err != nil {
		return err
	}
	if a.issuing, err = issuingOf(a.app, config); err != nil {
		return err
	}
	store, err := a.edgeStore(ctx, config)
	if err != nil {
		return err
	}
	if check {
		return a.checked(ctx, config, store, set)
	}
	listeners, err := a.listeners(ctx, config, set)
	if err != nil {
		return err
	}
	return a.runEdge(ctx, store, listeners, set, config, configured)
}

// listeners returns where a node answers.
func (a *edgeCmd) listeners(ctx context.Context, config project.EdgeConfig, set *certificates.Set,
) (listeners []net.Listener, err error) {
	// A socket that is handed over counts more than an address: whoever started the node
	// listens on it, and visitors wait there already.
	sockets, err := connections.Inherited()
	if err != nil {
		return nil, fault.New(fault.Failed, "sockets", "cannot take over the sockets").Because(err)
	}
	var secured []net.Listener
	for _, socket := range sockets {
		switch {
		case socket.Name != "tls":
			listeners = append(listeners, socket.Listener)
		case set == nil && a.issuing == nil:
			return nil, fault.New(fault.Usage, "sockets", "a socket for TLS is handed over, and there is no "+
				"certificate").Then("name one: --certificate CHAIN,KEY")
		default:
			secured = append(secured, connections.Secure(socket.Listener, tlsOf(set, a.issuing)))
		}
	}

	// Deployers ask a node over plain HTTP, so there is always one such address.
	if len(listeners) == 0 {
		plain, err := a.listen(ctx, "--listen", config.Listen)
		if err != nil {
			return nil, err
		}
		listeners = append(listeners, plain)
	}
	// The first one is where others ask the node, so those that speak TLS come last.
	listeners = append(listeners, secured...)
	if (set != nil || a.issuing != nil) && len(sockets) == 0 {
		secured, err := a.listenTLS(ctx, config, set)
		if err != nil {
			listeners[0].Close() //nolint:errcheck // not used
			return nil, err
		}
		listeners = append(listeners, secured)
	}
	return listeners, nil
}

// edgeStore opens the store of a node. With a cache, one that does not answer is no
// reason not to begin.
func (a *edgeCmd) edgeStore(ctx context.Context, config project.EdgeConfig) (storage.Store, error) {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return nil, err
	}
	if config.Cache.Folder == "" {
		// A store that was named on purpose is there: a name that is mistyped makes
		// no new one, at which nothing would ever arrive.
		return a.openStore(ctx, p, a.store == "")
	}

	// Long enough for a store far away, and short enough for visitors who wait.
	soon, cancel := context.WithTimeout(ctx, contactTimeout)
	defer cancel()
	opened, err := a.openStore(soon, p, a.store == "")
	if err == nil || ctx.Err() != nil || fault.KindOf(err) == fault.Usage {
		return opened, err
	}
	// It may be there later, and until then the cache serves.
	address, root := a.storeAddress(p)
	later, err2 := store.Unasked(address, root, a.places.Data)
	if err2 != nil {
		return nil, err
	}
	a.Note("%s %s", console.Bad("the store does not answer:"), console.Faint(later.Address()))
	return later, nil
}

// contactTimeout is how long a store may take to say that it is there, before a node
// begins without it.
const contactTimeout = 3 * time.Second

// memoryFor divides the memory of a node: content gets five sixteenths, what leads to
// it a quarter of that; the rest is for connections, and for what is in use.
func memoryFor(config project.EdgeConfig) int64 { return int64(config.Memory) * 5 / 16 }

// limitsOf returns what clients may use.
func limitsOf(config project.EdgeConfig) connections.Limits {
	most := int(config.Connections.Most)
	if most == 0 {
		const costs = 128 << 10 // of memory, at worst: buffers, and what answers
		most = int(config.Memory) / costs
		if files := connections.MaxFiles(); files > 0 {
			most = min(most, files*3/4)
		}
	}
	return connections.Limits{Total: most, PerClient: int(config.Connections.PerClient),
		Rate: int64(config.Connections.Rate)}
}

// settingsOf returns what a node can change while it serves.
func settingsOf(config project.EdgeConfig) edge.Settings {
	reach, _ := httpanswer.ParseReach(config.Upstream.Reach) // it was checked
	return edge.Settings{
		Requests: config.Requests, LocalNames: config.LocalNames,
		StalePublic:    time.Duration(*config.Stale.Public),
		StaleProtected: time.Duration(*config.Stale.Protected),
		Reach:          reach, UpstreamMost: int(config.Upstream.Most),
	}
}

// running is a node that serves, from the first look to the last visitor:
//
//	open the log and the cache, listen
//	follow the store; after the first look say READY and that the node is there
//	SIGHUP:  read the configuration again
//	SIGTERM: say that it drains, answer for a while, finish, go
//
// Whatever it began has ended when serve returns.
type running struct {
	*edgeCmd
	node   *edge.Node
	server *connections.Server
	logs   *written

	measured *measured   // nil: it does not count
	cache    *edge.Cache // nil: nothing is kept on disk
	first    *firstLook
	looked   atomic.Bool
	stop     context.CancelFunc
	hurry    chan struct{}

	certificates *certificates.Set // nil: it does not speak TLS
	counts       *counting.Counter // nil: it does not count visits
}

// runEdge serves until the context ends, or a signal ends it.
func (a *edgeCmd) runEdge(ctx context.Context, store storage.Store, listeners []net.Listener,
	set *certificates.Set, config project.EdgeConfig, configured func() (project.EdgeConfig, error),
) error {
	// The collector works harder the nearer memory comes to its bound. What the operator
	// says in the environment counts more.
	lasting()
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(int64(config.Memory) * 17 / 20) // the rest is what the runtime does not count
	}
	// Up to that bound it may take its time: each of its rounds is felt by the slowest of
	// those who are answered meanwhile.
	const rarely = 300 // percent of what is in use
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(rarely)
	}
	serving, stop := context.WithCancel(ctx)
	defer stop()
	r := &running{edgeCmd: a, stop: stop, hurry: make(chan struct{}), certificates: set}
	var err error
	if r.logs, err = a.openWritten(config); err != nil {
		return err
	}
	defer r.logs.close()
	r.first = &firstLook{app: r.logs.to(a.app), began: time.Now()}

	// The cache is opened before anybody is let in: one that cannot be used is a mistake
	// of whoever started the node, who is still there.
	options := edge.Options{Settings: settingsOf(config), Tell: r.first.tell, Memory: memoryFor(config),
		Best: encoder.Best}
	if r.logs.visits != nil {
		options.Visited = r.logs.visited
	}
	if r.measured, err = r.measure(ctx, config); err != nil {
		return err
	}
	if r.measured != nil {
		options.Visited, store = both(options.Visited, r.measured.Visited), r.measured.Store(store)
	}
	if config.Cache.Folder != "" {
		if r.cache, err = r.openCache(config, store); err != nil {
			return err
		}
		defer r.cache.Close()
		options.Cache = r.cache
	}
	if err = r.count(config, store, listeners, &options); err != nil {
		return err
	}
	secure := set != nil || a.issuing != nil
	if secure {
		options.Secures = secures(set, a.issuing)
		options.Alarms = alarmsOf(set, a.issuing)
	}
	if a.issuing != nil {
		a.issuing.begin(r.first.tell, &options, store, listeners)
	}
	r.node = edge.New(store, options)
	r.server = &connections.Server{Handler: r.node, Drain: time.Duration(*config.Drain),
		Finish: max(5*time.Second, time.Duration(*config.Drain)), Draining: func() {
			r.node.Drain()
			connections.Notify("STOPPING=1") //nolint:errcheck // nobody listens
		}}
	if secure {
		r.server.Serves = carries(set, a.issuing)
	}
	r.server.Refused = func(refusal connections.Refusal) { edge.Refused(r.node, refusal) }
	r.apply(config)
	return r.serve(ctx, serving, store, listeners, config, configured)
}

// apply sets what can change while a node serves.
func (r *running) apply(config project.EdgeConfig) {
	trust, _ := connections.ParseTrust(config.Trust) // it was checked
	r.server.SetTrust(trust)
	r.server.SetLimits(limitsOf(config))
	r.logs.set(config)
	r.node.Set(settingsOf(config))
}

// serve answers on listeners, follows the store, and says that the node is there.
func (r *running) serve(ctx, serving context.Context, store storage.Store, listeners []net.Listener,
	config project.EdgeConfig, configured func() (project.EdgeConfig, error),
) error {
	address := edge.Reachable(listeners[0].Addr())
	_, port, _ := net.SplitHostPort(address)
	presence := edge.Presence{Node: edge.NodeName(port),
		Address: cmp.Or(config.Announce, edge.Announced(listeners[0].Addr())), Version: version,
		Region: config.Region, Reach: settingsOf(config).Reach.String()}
	if !r.JSON {
		r.says("edge node at http://"+address+", store "+store.Address(),
			console.Strong("edge node at")+" "+console.Accent("http://"+address)+"  "+
				console.Faint("store "+store.Address()))
		for _, listener := range listeners {
			if connections.IsSecure(listener) {
				at := "https://" + edge.Reachable(listener.Addr())
				r.says("edge node at "+at, console.Strong("and at")+" "+console.Accent(at))
			}
		}
		r.Note("%s", console.Faint("sites answer at http://SITE.localhost:"+port+
			"/ and at their configured addresses; press Ctrl-C to stop"))
	}

	// Whoever is told that the node is ready may signal it at once. Several, since a signal that comes
	// while one is obeyed must not be lost.
	signals := make(chan os.Signal, 4)
	signal.Reset(syscall.SIGHUP, syscall.SIGTERM) // what other commands take as an interrupt
	signal.Notify(signals, syscall.SIGHUP, syscall.SIGTERM)
	defer signal.Stop(signals)

	// The node follows its store until the last visitor has gone.
	following, done := context.WithCancel(context.WithoutCancel(ctx))
	var owned sync.WaitGroup
	defer owned.Wait()
	defer done()
	if r.counts != nil {
		owned.Go(func() { r.counts.Run(following) })
	}
	looked := make(chan struct{})
	owned.Go(func() {
		r.node.Follow(following, func() {
			r.first.end()
			r.looked.Store(true)
			connections.Notify("READY=1") //nolint:errcheck // nobody listens
			close(looked)
		})
	})
	// Announcing itself also tells the node the store's clock. Who reads that it is
	// there may ask at once, so it has looked before.
	owned.Go(func() {
		select {
		case <-looked:
			r.node.Announce(serving, presence)
		case <-serving.Done():
		}
	})
	if r.certificates != nil {
		owned.Go(func() { r.watchCertificates(following) })
	}
	if r.issuing != nil {
		owned.Go(func() { r.issuing.run(following, r.node) })
		owned.Go(func() { r.watchIssued(following) })
	}
	if r.measured != nil {
		owned.Go(func() { r.measured.serve(following) })
	}
	owned.Go(func() { r.logs.watch(following.Done(), r.first.tell) })
	owned.Go(func() { r.obey(ctx, serving, signals, configured) })
	return r.server.Serve(serving, r.hurry, listeners...)
}

// obey does what signals say until the node stops: SIGTERM drains it, another signal
// ends it at once; SIGHUP reads the configuration again and reopens the log.
func (r *running) obey(ctx, serving context.Context, signals <-chan os.Signal,
	configured func() (project.EdgeConfig, error),
) {
	hurry := sync.OnceFunc(func() { close(r.hurry) })
	interrupted := ctx.Done()
	for {
		select {
		case <-serving.Done():
			if ctx.Err() != nil {
				hurry()
			}
			return
		case <-interrupted:
			hurry() // whoever presses Ctrl-C does not wait for visitors
			r.stop()
			return
		case s := <-signals:
			if s == syscall.SIGTERM {
				r.says("draining", console.Faint("draining; interrupt to stop at once"))
				r.stop()
				r.hurried(ctx, signals, hurry)
				return
			}
			r.reload(configured)
		}
	}
}

// hurried ends draining early: at another signal, or where nobody is connected and nobody
// has asked how the node is, so that nobody waits to be told.
func (r *running) hurried(ctx context.Context, signals <-chan os.Signal, hurry func()) {
	end, tick := time.NewTimer(r.server.Drain), time.NewTicker(50*time.Millisecond)
	defer end.Stop()
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			hurry()
			return
		case s := <-signals:
			if s == syscall.SIGTERM {
				hurry()
				return
			}
		case <-end.C:
			return
		case <-tick.C:
			if r.server.Open() == 0 && !r.node.IsWatched() {
				hurry()
				return
			}
		}
	}
}

// reload reads the configuration again and reopens the log. A mistake in it changes
// nothing.
func (r *running) reload(configured func() (project.EdgeConfig, error)) {
	connections.NotifyReloading()
	defer connections.Notify("READY=1") //nolint:errcheck // nobody listens
	// The log first, so that what is wrong with the rest is told in the new one.
	if err := r.logs.reopen(); err != nil {
		r.fails(err, "")
	}
	config, err := configured()
	if err != nil {
		r.fails(err, "the configuration stays as it was")
		return
	}
	r.apply(config)
	r.reloadCertificates(config)
	r.says("configuration read again",
		console.Faint(time.Now().Format("15:04:05"))+"  configuration read again "+
			console.Faint("(the store, addresses, memory, the cache and the log's place take a restart)"))
}

// openCache opens the cache of a node.
func (r *running) openCache(config project.EdgeConfig, store storage.Store) (*edge.Cache, error) {
	var told atomic.Int64
	tell := func(err error) {
		// A full disk would be told with each request.
		if now := time.Now().Unix(); now-told.Swap(now) > 60 {
			r.first.tell(httpanswer.Event{Time: time.Now(), Kind: "trouble", Text: err.Error()})
		}
	}
	cache, err := edge.OpenCache(config.Cache.Folder, int64(config.Cache.Size), int64(config.Memory),
		store, tell)
	if err == nil {
		return cache, nil
	}
	problem := fault.New(fault.Failed, "cache", "cannot use the cache").At("%s",
		config.Cache.Folder).Because(err)
	switch {
	case errors.Is(err, diskcache.ErrTaken):
		problem = problem.Then("each node needs a folder of its own")
	case errors.Is(err, diskcache.ErrOther):
		problem = problem.Then("name an empty folder, or one that is not there yet")
	case errors.Is(err, diskcache.ErrFormat):
		problem = problem.Then("empty the folder: what is in it is read from the store again")
	}
	return nil, problem
}

// checked says what a node would do, and that it can.
func (a *edgeCmd) checked(ctx context.Context, config project.EdgeConfig, store storage.Store,
	set *certificates.Set,
) error {
	// That the store can be listed is the most that can be known without serving.
	var sites int
	for _, err := range store.List(ctx, storage.SitesKey) {
		if err != nil {
			return err
		}
		sites++
	}
	limits := limitsOf(config)
	rows := [][]string{
		{"store", store.Address() + "  " + console.Count(int64(sites), "site", "sites")},
		{"answers at", config.Listen},
		{"memory", console.Size(int64(config.Memory))},
		{"connections", fmt.Sprintf("%d in all, %d of one client", limits.Total, limits.PerClient)},
		{"trusts", cmp.Or(strings.Join(config.Trust, ", "), "nobody: visitors come straight here")},
		{"proxy rules", cmp.Or(strings.Join(config.Upstream.Reach, ", "), "public addresses only")},
	}
	if set != nil || a.issuing != nil {
		rows = append(rows, []string{"speaks TLS at", config.TLS.Listen})
	}
	if a.issuing != nil {
		rows = append(rows, a.issuing.described())
	}
	if set != nil {
		for _, c := range set.List() {
			rows = append(rows, []string{"certificate", a.described(c)})
		}
	}
	if config.Cache.Folder != "" {
		rows = append(rows, []string{"cache", config.Cache.Folder + ", up to " +
			console.Size(int64(config.Cache.Size))})
	}
	console.Columns(a.Console, rows)
	a.Print("%s", console.Good("the node can start"))
	return nil
}

// logFile is a file that can be opened anew under its name, after it was moved away.
type logFile struct {
	path  string
	mutex sync.Mutex
	file  *os.File
}

var _ io.Writer = (*logFile)(nil)

// openLog opens a log to write at its end.
func openLog(path string) (*logFile, error) {
	l := &logFile{path: path}
	return l, l.Reopen()
}

// Reopen opens the file anew. If it cannot, the one before stays.
func (l *logFile) Reopen() error {
	file, err := os.OpenFile(l.path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o640)
	if err != nil {
		return err
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.file != nil {
		l.file.Close() //nolint:errcheck // what was written was written
	}
	l.file = file
	return nil
}

// Write implements io.Writer.
func (l *logFile) Write(data []byte) (int, error) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.file.Write(data)
}

// Close implements io.Closer.
func (l *logFile) Close() error {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.file.Close()
}
