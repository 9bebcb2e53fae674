package edge

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/wake"
)

// Waker calls the edge nodes of a store for one site. It finds them while other things go on,
// so that nothing has to be asked of the store between an entry and the calls about it. Its
// methods are safe for concurrent use; nil calls nobody.
type Waker struct {
	store storage.Store
	site  string
	ahead time.Duration
	known []string // public keys that count; empty: those of the nodes' records

	mutex sync.Mutex
	found *found            // the nodes, as they were looked for last
	key   string            // of the site; "" while it has no claim
	last  map[string]*woken // what was said of the last entry of each environment
}

// found are the nodes of the store at a time.
type found struct {
	began time.Time
	done  chan struct{} // closed when the rest is there
	nodes []Presence
	err   error // why they are not known
}

// woken is what nodes said when they were called about an entry.
type woken struct {
	attempt string        // of the entry
	done    chan struct{} // closed when list is there
	list    []Confirmed
}

// Confirmed is what a node said when it was called.
type Confirmed struct {
	Node Presence
	Said wake.Answer
	// Known tells that the answer is signed by a node that is known: without it, what was said
	// is worth nothing.
	Known bool
	Took  time.Duration // until the answer was there
	Err   error         // why there is none; ErrNotCalled for a node that was not asked

	seen bool // serving the entry, by one that cannot be called and was asked as visitors ask
}

// ErrNotCalled: the node cannot be called from here, or the site's key is not known.
var ErrNotCalled = errors.New("it was not called")

const (
	// callTime is how long a call may take: a node needs a few milliseconds, unless its store is
	// far away. connectTime is how long a node's machine may be silent.
	callTime    = 2 * time.Second
	connectTime = time.Second
	// callsAtOnce bounds how many nodes are called at a time.
	callsAtOnce = 64
)

// caller is the client of all calls. Nodes are called directly: a proxy of the network is for
// what lies outside.
var caller = &http.Client{
	Timeout: callTime,
	Transport: &http.Transport{DialContext: (&net.Dialer{Timeout: connectTime}).DialContext,
		MaxIdleConnsPerHost: 4, IdleConnTimeout: time.Minute},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// How an entry gets to the nodes, from the side of whoever writes it:
//
//	NewWaker   while the job is prepared: the nodes of the store, and the site's key
//	Coming     while names and hosts are taken: nodes fetch what is new of the release
//	Tell       right after the entry: every node looks, and its answer is kept
//	Flipped    when the report is made: what was kept, and whoever was late is asked again
//
// None of these can fail: a node that was not reached finds the entry by itself.

// NewWaker begins to find the nodes of a store, whose clock is ahead of this machine's by so
// much. known are the public keys that count, of orilla.yaml; with none, those count that lie
// in the store.
func NewWaker(ctx context.Context, store storage.Store, site string, ahead time.Duration, known []string,
) *Waker {
	w := &Waker{store: store, site: site, ahead: ahead, known: known, last: map[string]*woken{}}
	w.Refresh(ctx)
	return w
}

// freshFor is for how long it counts which nodes there are.
const freshFor = 5 * time.Second

// Refresh begins to look for the nodes anew, if that was some time ago: during a long build one
// may have been started again, and have another key.
func (w *Waker) Refresh(ctx context.Context) {
	if w == nil {
		return
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.found != nil && time.Since(w.found.began) < freshFor {
		return
	}
	next := &found{began: time.Now(), done: make(chan struct{})}
	w.found = next
	go func() {
		defer close(next.done)
		next.nodes, next.err = Nodes(ctx, w.store, w.ahead)
	}()
}

// Nodes returns all nodes of the store, as they were looked for last.
func (w *Waker) Nodes(ctx context.Context) ([]Presence, error) {
	w.mutex.Lock()
	last := w.found
	w.mutex.Unlock()
	select {
	case <-last.done:
		return last.nodes, last.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// keyOf reads what calls are signed with, once there is something to call: the first deploy of
// a site makes its claim only just before its entry.
func (w *Waker) keyOf(ctx context.Context) string {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.key == "" {
		if claim, err := record.ReadClaim(ctx, w.store, w.site); err == nil {
			w.key = claim.Incarnation
		}
	}
	return w.key
}

// Coming says which release may be live in a moment, and returns when the nodes have fetched
// it, or a time is over: nothing waits longer for them.
func (w *Waker) Coming(ctx context.Context, id release.ID, atMost time.Duration) {
	if w == nil {
		return
	}
	limited, cancel := context.WithTimeout(ctx, atMost)
	defer cancel()
	w.call(limited, func(c *wake.Call) { c.Coming = id.String() })
}

// Wake has nodes look at environments, by their stored names, for entries with these numbers,
// and returns what each node said. With number 0 a node does not look, and only tells.
func (w *Waker) Wake(ctx context.Context, look map[string]int64) []Confirmed {
	if w == nil {
		return nil
	}
	return w.call(ctx, func(c *wake.Call) { c.Look = look })
}

// Tell begins to call the nodes about an entry that was just written, and returns what waits
// for their answers. These are kept for Flipped.
func (w *Waker) Tell(ctx context.Context, entry journal.Entry) (wait func()) {
	if w == nil {
		return func() {}
	}
	said := &woken{attempt: entry.Attempt, done: make(chan struct{})}
	w.mutex.Lock()
	w.last[entry.Environment] = said
	w.mutex.Unlock()
	go func() {
		defer close(said.done)
		said.list = w.Wake(context.WithoutCancel(ctx), map[string]int64{entry.Environment: entry.Number})
	}()
	return func() { <-said.done }
}

// call calls all nodes at once.
func (w *Waker) call(ctx context.Context, say func(*wake.Call)) []Confirmed {
	nodes, err := w.Nodes(ctx)
	if err != nil {
		return nil // they find the entry by themselves
	}
	list := make([]Confirmed, len(nodes))
	key := ""
	if slices.ContainsFunc(nodes, Presence.FromHere) { // else nothing needs to be signed
		key = w.keyOf(ctx)
	}
	var group sync.WaitGroup
	slots := make(chan struct{}, callsAtOnce)
	for i, node := range nodes {
		list[i] = Confirmed{Node: node, Err: ErrNotCalled}
		if !node.FromHere() || key == "" {
			continue
		}
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			call := wake.NewCall(w.site, time.Now().Add(w.ahead))
			say(&call)
			list[i] = w.one(ctx, node, call)
		})
	}
	group.Wait()
	return list
}

// one calls one node.
func (w *Waker) one(ctx context.Context, node Presence, call wake.Call) Confirmed {
	began := time.Now()
	c := Confirmed{Node: node}
	data, signature, err := exchange(ctx, node, call, w.keyOf(ctx))
	if c.Took, c.Err = time.Since(began), err; err != nil {
		return c
	}
	var proved bool
	c.Said, proved, c.Err = wake.Read(data, signature, call.Nonce, node.PublicKey)
	c.Known = proved && w.counts(node)
	if c.Err != nil || proved {
		return c
	}
	// Nodes behind something that shares visitors out may all name its address: then another
	// one has answered, and says nothing of this one.
	nodes, _ := w.Nodes(ctx) // they were there to be called
	for _, other := range nodes {
		if _, proved, _ := wake.Read(data, signature, call.Nonce, other.PublicKey); proved {
			c.Err = fmt.Errorf("%w, %s", ErrElsewhere, other.Node)
			break
		}
	}
	return c
}

// ErrElsewhere: another node answers at the address.
var ErrElsewhere = errors.New("its address leads to another node")

// exchange sends a call, and returns the answer with its signature.
func exchange(ctx context.Context, node Presence, call wake.Call, key string) ([]byte, string, error) {
	body, signature, err := call.Sign(key)
	if err != nil {
		return nil, "", err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+node.Address+wake.Path,
		bytes.NewReader(body))
	if err != nil {
		return nil, "", err
	}
	request.Header.Set("User-Agent", ownAgent)
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set(wake.SignatureField, signature)
	response, err := caller.Do(request)
	if err != nil {
		return nil, "", err
	}
	defer response.Body.Close() //nolint:errcheck // read
	const enough, told = 1 << 20, 200
	data, err := io.ReadAll(io.LimitReader(response.Body, enough))
	if err == nil && response.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", response.Status, strings.TrimSpace(string(data[:min(len(data), told)])))
	}
	return data, response.Header.Get(wake.SignatureField), err
}

// counts reports whether a node's word may count: where orilla.yaml names keys, only theirs.
func (w *Waker) counts(node Presence) bool {
	return len(w.known) == 0 || slices.Contains(w.known, node.PublicKey)
}

// Serves reports whether a node serves an entry, or a later one of the same environment.
func (c Confirmed) Serves(entry journal.Entry) bool {
	there, ok := c.Said.Serves[entry.Environment]
	return c.seen || ok && c.Known && (there.Entry > entry.Number ||
		there.Entry == entry.Number && there.Attempt == entry.Attempt)
}

// Silent reports whether the node let the time of a call go by.
func (c Confirmed) Silent() bool {
	timeout, ok := errors.AsType[net.Error](c.Err)
	return ok && timeout.Timeout()
}

// Flipped has all nodes look for an entry, and returns what each said, at most a time after.
// Those that cannot be called, of an early version or behind something that lets no calls
// through, are asked as visitors ask.
func (w *Waker) Flipped(ctx context.Context, entry journal.Entry, atMost time.Duration) []Confirmed {
	if w == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, atMost)
	defer cancel()
	w.mutex.Lock()
	said := w.last[entry.Environment]
	w.mutex.Unlock()
	var list []Confirmed
	if said != nil && said.attempt == entry.Attempt {
		<-said.done // a call ends by itself
		list = slices.Clone(said.list)
	} else {
		list = w.Wake(ctx, map[string]int64{entry.Environment: entry.Number})
	}
	var group sync.WaitGroup
	for i := range list {
		if c := &list[i]; c.Node.FromHere() && w.counts(c.Node) && !c.Serves(entry) && !c.Silent() {
			group.Go(func() { w.until(ctx, c, entry) })
		}
	}
	group.Wait()
	return list
}

// until asks a node again and again until it serves an entry, or the time is over.
func (w *Waker) until(ctx context.Context, c *Confirmed, entry journal.Entry) {
	const pause = 5 * time.Millisecond
	began, before := time.Now(), c.Took
	host := project.LocalName(w.site, entry.Environment)
	for ctx.Err() == nil && !c.Serves(entry) {
		// Somebody else answers there, or nobody: asking again changes neither.
		if c.Err == nil && !c.Known {
			return
		}
		if c.Err != nil {
			_, label, err := c.Node.Serves(ctx, host)
			if err != nil {
				return
			}
			c.seen, c.Took = label == entry.Label(), before+time.Since(began)
		}
		time.Sleep(pause)
		if c.Err == nil {
			call := wake.NewCall(w.site, time.Now().Add(w.ahead))
			call.Look = map[string]int64{entry.Environment: entry.Number}
			next := w.one(ctx, c.Node, call)
			if ctx.Err() != nil && next.Err != nil {
				return // the time is over; what it said before stands
			}
			next.Took = before + time.Since(began)
			*c = next
		}
	}
}
