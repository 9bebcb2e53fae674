package edge

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// tracker keeps a node up to date with its store: it follows hints, and goes round
// everything, since hints may be lost.
//
//	hints   one list of all sites' hints, every half second or so; of a site that
//	        moved, first the environments that its hint names, then all others
//	rounds  every environment in its turn, those that have ended now and then; as
//	        slowly as the store's requests allow
//
// A hint says where to look first. It is never a reason not to look: it is bounded,
// and the last of two writers leaves only its own.
type tracker struct {
	*Node
	hints    map[string]hint // of each site, as it was last seen; the hints' goroutine has it
	looking  chan struct{}   // bounds how many looks go on at once
	pace     *rate.Limiter   // of the requests that rounds make
	rounds   int             // how many were made; the rounds' goroutine has it
	mark     string          // what made it a store when the node began; "" for one without a mark
	missing  atomic.Pointer[string]
	amiss    sync.Map     // what was told of sites that cannot be found, by site/stored name
	restored atomic.Int64 // how often the store was brought back from a copy, as last seen
}

// hint is what was seen of the hint of a site.
type hint struct {
	modified time.Time
	content  digest.Digest
	there    bool // when the hints were listed last
}

const (
	// lookTimeout is how long a look may take before it is given up.
	lookTimeout = 15 * time.Second
	// coarse is how coarse the times of a store may be: of two hints in the same
	// second, in a folder in the same few milliseconds, the second could look like
	// the first.
	coarse = 2 * time.Second
	// endedEvery is in every how many rounds environments are looked at that have
	// ended.
	endedEvery = 10
	// Requests of rounds a second: to a store elsewhere they cost money and time.
	paceFar, paceNear = 0.3, 2000
	// firstAgain is how long to wait before a first look that failed is begun again.
	firstAgain = time.Second
	// aloneAfter is how long a store may be silent before a node begins with its cache.
	aloneAfter = 3 * time.Second
)

// newTracker returns what follows a node's store.
func newTracker(n *Node) *tracker {
	t := &tracker{Node: n, hints: map[string]hint{},
		looking: make(chan struct{}, max(8, storage.Parallel(n.store))),
		pace:    rate.NewLimiter(paceNear, paceNear)}
	if _, far := n.store.(storage.Remote); far {
		t.pace = rate.NewLimiter(paceFar, 6)
	}
	return t
}

// follow looks at everything, calls ready, and then keeps up until the context ends.
func (t *tracker) follow(ctx context.Context, ready func()) {
	if !t.first(ctx, sync.OnceFunc(ready)) {
		return
	}
	// A folder tells of changes at once; other stores are polled. Not before it is known
	// to be there: watching makes what is watched.
	var changed <-chan struct{}
	if watcher, ok := t.store.(storage.Watcher); ok {
		changed, _ = watcher.Watch(ctx, storage.PulsesKey) // without it, polling does
	}

	var rounds sync.WaitGroup
	rounds.Go(func() { t.goRound(ctx) })
	defer rounds.Wait()
	poll := time.NewTicker(t.options.Poll)
	defer poll.Stop()
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
		case <-poll.C:
		}
		t.followHints(ctx)
	}
}

// contact asks the store for what makes it one: it says soon whether anybody answers.
func (t *tracker) contact(ctx context.Context) error {
	patience := 2 * t.options.Patience
	known, ok := keeper{t.Node}.lastKnown()
	if ok {
		patience = aloneAfter // there is something to serve without it
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	data, err := t.store.Get(ctx, storage.MarkKey)
	if err != nil && !errors.Is(err, storage.ErrNotFound) {
		return err
	}
	if ok && known.Mark != "" && errors.Is(err, storage.ErrNotFound) {
		return errMissing // a folder that is not mounted looks like a store that is empty
	}
	// The random id in the mark tells this store from any other at the same address.
	t.mark = string(data)
	knowsStore(t.Node, t.mark)
	keeper{t.Node}.begin(t.mark)
	_, err = t.timesRestored(ctx)
	return err
}

// errMissing: where the store was, there is none.
var errMissing = errors.New("the store is missing (is it mounted?)")

// first looks at everything, again and again until it could. It reports whether it
// did before the context ended. ready is called when visitors can be answered.
func (t *tracker) first(ctx context.Context, ready func()) bool {
	for restored := false; ; {
		err := t.contact(ctx)
		if err == nil {
			err = t.everything(ctx)
		}
		if err == nil {
			t.said("")
			keeper{t.Node}.rememberNode(t.mark)
			ready()
			return true
		}
		if ctx.Err() != nil {
			return false
		}

		t.said("the store cannot be read: " + err.Error())
		// What was served before is served until the store answers.
		if count := (keeper{t.Node}).restore(ctx); count > 0 && !restored {
			restored = true
			t.tell(httpanswer.Event{Kind: "store", Text: fmt.Sprintf(
				"serving %d environments as the cache has them, last seen %s", count,
				time.Unix(0, t.is.reached.Load()).Format(time.DateTime))})
			ready()
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(firstAgain):
		}
	}
}

// everything looks at all sites at once. The error is that of listing them: one that
// cannot be read is told, and keeps nobody else from being served.
func (t *tracker) everything(ctx context.Context) error {
	for item, err := range t.store.List(ctx, storage.PulsesKey) {
		if err != nil {
			return err
		}
		t.hints[item.Name()] = hint{modified: item.Modified, there: true}
	}

	var group errgroup.Group
	group.SetLimit(cap(t.looking))
	for item, err := range t.store.List(ctx, storage.SitesKey) {
		if err != nil {
			group.Wait() //nolint:errcheck // the error of the list counts
			return err
		}
		group.Go(func() error {
			t.lookAt(ctx, item.Name(), journal.ReadHints(ctx, t.store, item.Name()), true)
			return nil
		})
	}
	group.Wait() //nolint:errcheck // none returns any
	t.route(ctx)
	// One that could not be read because the store stopped answering is not there yet.
	for _, e := range t.all.list() {
		if failed, _ := e.failed.Load().(string); failed != "" && e.passing.Load() {
			return errors.New(failed)
		}
	}
	return ctx.Err()
}

// said tells what is wrong with the store, once, and that it is over; "" for nothing.
// It also notes when the store was last there.
func (t *tracker) said(why string) {
	if why == "" {
		t.is.reached.Store(time.Now().UnixNano())
	}
	before := t.missing.Swap(&why)
	switch {
	case why != "" && (before == nil || *before != why):
		t.trouble(nil, why)
	case why == "" && before != nil && *before != "":
		t.tell(httpanswer.Event{Kind: "store", Text: "the store answers again"})
	}
}

// lost returns why the store is not what it was; "" if it is.
func (t *tracker) lost() string {
	if why := t.missing.Load(); why != nil {
		return *why
	}
	return ""
}

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
	t.said(why)
	return why == ""
}

// followHints looks at the sites whose hints changed.
func (t *tracker) followHints(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	if t.lost() != "" && !t.isThere(ctx) {
		return
	}

	for site, seen := range t.hints {
		seen.there = false
		t.hints[site] = seen
	}
	var moved []string
	for item, err := range t.store.List(ctx, storage.PulsesKey) {
		if err != nil {
			t.said("the store's hints cannot be read: " + err.Error())
			return
		}
		seen, known := t.hints[item.Name()]
		// A hint that is not older than the times are coarse may be followed by
		// one that looks the same, so its content counts.
		if !known || !seen.modified.Equal(item.Modified) || time.Since(item.Modified) < coarse {
			moved = append(moved, item.Name())
		}
		seen.modified, seen.there = item.Modified, true
		t.hints[item.Name()] = seen
	}
	if len(t.hints) > 0 || t.mark == "" {
		// An empty list is also that of a folder that is not mounted.
		t.is.reached.Store(time.Now().UnixNano())
	}

	t.lookDue(ctx)
	// What could not be looked at counts as not seen: the next list brings it again.
	var again sync.Map
	var sites errgroup.Group
	sites.SetLimit(cap(t.looking))
	look := func(site string, heads journal.Hints) {
		sites.Go(func() error {
			if !t.lookAt(ctx, site, heads, false) {
				again.Store(site, true)
			}
			return nil
		})
	}
	for site, seen := range t.hints {
		if !seen.there {
			delete(t.hints, site) // the site may be gone
			look(site, nil)
		}
	}
	for _, site := range moved {
		data, err := t.store.Get(ctx, storage.PulseKey(site))
		seen := t.hints[site]
		if err != nil {
			again.Store(site, true)
		} else if content := digest.Of(data); content != seen.content {
			seen.content = content
			t.hints[site] = seen
			look(site, journal.HintsIn(data))
		}
	}
	sites.Wait() //nolint:errcheck // none returns any
	again.Range(func(site, _ any) bool {
		t.hints[site.(string)] = hint{there: true}
		return true
	})
}

// lookDue looks at the environments in which an entry begins to count about now.
func (t *tracker) lookDue(ctx context.Context) {
	now, flipped := t.clock.now(), false
	for _, e := range t.all.list() {
		if due := e.due.Load(); due != nil && !due.IsZero() && !now.Before(*due) {
			flipped = t.refresh(ctx, e, 0, false) || flipped
		}
	}
	if flipped {
		t.route(ctx)
	}
}

// goRound looks at everything again and again, at the pace that the store is good for.
func (t *tracker) goRound(ctx context.Context) {
	for {
		began := time.Now()
		t.round(ctx)
		if t.lost() == "" {
			keeper{t.Node}.rememberNode(t.mark)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(t.options.Sweep - time.Since(began)):
		}
	}
}

// round looks once at every environment, or at every one that has not ended.
func (t *tracker) round(ctx context.Context) {
	if t.pace.WaitN(ctx, 2) != nil || !t.isThere(ctx) {
		return
	}
	t.rounds++
	before := t.all.list()
	listed := map[string]bool{}
	for item, err := range t.store.List(ctx, storage.SitesKey) {
		if err != nil {
			t.said("the store's sites cannot be read: " + err.Error())
			return
		}
		listed[item.Name()] = true
	}

	for site := range listed {
		if t.pace.Wait(ctx) != nil {
			return
		}
		t.roundOf(ctx, site)
	}
	// Sites that are listed no more.
	gone := map[string]bool{}
	for _, e := range before {
		if site := e.journal.Site; !listed[site] && !gone[site] {
			gone[site] = true
			if t.pace.Wait(ctx) != nil {
				return
			}
			t.lookAt(ctx, site, nil, false)
		}
	}
	t.routing.making.Lock()
	contested := len(t.routing.owners)
	t.routing.making.Unlock()
	if t.pace.WaitN(ctx, min(contested, t.pace.Burst())) == nil && t.ownersChanged(ctx) {
		t.route(ctx)
	}
}
