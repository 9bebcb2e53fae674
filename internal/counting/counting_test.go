package counting_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/netip"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/counting"
	"orilla.example/orilla/internal/store/memory"
)

// notebook is a disk that can be copied as it is at a moment.
type notebook struct {
	mutex sync.Mutex
	notes map[string][]byte
	full  bool
}

// Note implements counting.Notebook. A full disk takes the old note too, as that of a node does.
func (n *notebook) Note(name string, data []byte) error {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if n.full {
		delete(n.notes, name)
		return errors.New("no space left")
	}
	n.notes[name] = append([]byte(nil), data...)
	return nil
}

// Noted implements counting.Notebook.
func (n *notebook) Noted(name string) ([]byte, error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if data, ok := n.notes[name]; ok {
		return data, nil
	}
	return nil, fs.ErrNotExist
}

// Notes implements counting.Notebook.
func (n *notebook) Notes(prefix string) (names []string, _ error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	for name := range n.notes {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	return names, nil
}

// Forget implements counting.Notebook.
func (n *notebook) Forget(name string) error {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	delete(n.notes, name)
	return nil
}

// copy is the disk as it is now.
func (n *notebook) copy() *notebook {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	c := &notebook{notes: map[string][]byte{}}
	for name, data := range n.notes {
		c.notes[name] = data
	}
	return c
}

// clock is a clock that is set.
type clock struct{ atomic.Int64 }

// at returns a clock that shows a time.
func at(t time.Time) *clock { c := &clock{}; c.Store(t.UnixNano()); return c }

// now is what the clock shows.
func (c *clock) now() time.Time { return time.Unix(0, c.Load()).UTC() }

// pass sets it on, or back.
func (c *clock) pass(d time.Duration) { c.Add(int64(d)) }

// noon is when tests begin.
var noon = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// visit is one of a page by the n-th visitor.
func visit(site string, n int) *visits.Visit {
	return &visits.Visit{Site: site, Environment: "production", Method: "GET", Host: "corvane.example",
		Path: "/", Status: 200, Bytes: 10, By: visits.ByFile, Agent: "Mozilla/5.0",
		Client: netip.AddrFrom4([4]byte{198, 51, byte(100 + n>>8), byte(n)})}
}

// sumOf adds up what a store says of a site.
func sumOf(t *testing.T, store storage.Store, site string) *traffic.Sum {
	t.Helper()
	s := &traffic.Sum{From: noon.Add(-48 * time.Hour), To: noon.Add(400 * time.Hour)}
	found, err := traffic.Read(t.Context(), store, site, s.From, s.To, nil)
	require.NoError(t, err)
	require.Empty(t, found.Unreadable)
	for _, r := range found.Records {
		s.Add(r, "production")
	}
	return s
}

// Whatever is done in whatever order, each visit is in one of three places: in a note, in the store,
// or lost because it came after the last of both. The test keeps its own account of them.

// TestKillsLoseAMomentAndDoubleNothing kills nodes at any moment: what was noted is counted once,
// whatever had been written.
func TestKillsLoseAMomentAndDoubleNothing(t *testing.T) {
	t.Parallel()
	for seed := range uint64(30) {
		random := rand.New(rand.NewPCG(seed, 5))
		store, now := &memory.Store{}, at(noon)
		type node struct {
			*counting.Counter
			disk    *notebook
			pending int64 // since the last note
		}
		nodes := make([]*node, 3)
		start := func(i int, disk *notebook) {
			nodes[i] = &node{disk: disk, Counter: counting.New(counting.Options{Store: store, Notes: disk,
				Node: fmt.Sprint("node-", i), Now: now.now, Memory: 64 << 20})}
		}
		for i := range nodes {
			start(i, &notebook{notes: map[string][]byte{}})
		}
		var kept, lost int64
		for range 3000 {
			i := random.IntN(3)
			n := nodes[i]
			switch dice := random.IntN(100); {
			case dice < 80:
				n.Visited(visit("corvane", random.IntN(500)))
				n.pending++
			case dice < 88:
				n.SaveAll()
				kept, n.pending = kept+n.pending, 0
			case dice < 95:
				n.PublishAll(t.Context())
				kept, n.pending = kept+n.pending, 0
			case dice < 97:
				now.pass(time.Duration(random.IntN(100)) * time.Minute)
			default:
				// Killed: what the disk says is all there is.
				lost += n.pending
				start(i, n.disk.copy())
			}
		}
		for _, n := range nodes {
			kept += n.pending
			n.PublishAll(t.Context())
		}
		assert.Equal(t, kept, sumOf(t, store, "corvane").Totals().Requests, "seed %d, %d lost", seed, lost)
		assert.Positive(t, lost)
	}
}

// TestNodesKnowTheSameVisitors shares salts by day, and throws them away.
func TestNodesKnowTheSameVisitors(t *testing.T) {
	t.Parallel()
	store, now := &memory.Store{}, at(noon.Add(11*time.Hour))
	// One secret for those who belong together, and one node that has none.
	secret, err := sealed.Parse([]byte(sealed.New()))
	require.NoError(t, err)
	start := func(name string, secret *sealed.Secret, disk *notebook) *counting.Counter {
		options := counting.Options{Store: store, Node: name, Now: now.now, Secret: secret, Mark: func() string { return "store-1" },
			Memory: 64 << 20}
		if disk != nil {
			options.Notes = disk
		}
		c := counting.New(options)
		c.Share(t.Context())
		return c
	}
	disk := &notebook{notes: map[string][]byte{}}
	a, b := start("a", secret, disk), start("b", secret, nil)
	assert.Equal(t, a.SaltName(), b.SaltName())
	for i := range 200 {
		a.Visited(visit("corvane", i))
		b.Visited(visit("corvane", i))
	}
	stranger := start("c", nil, nil)
	assert.NotEqual(t, a.SaltName(), stranger.SaltName())

	// The next day's is there before midnight, and the day's own goes after it.
	now.pass(40 * time.Minute)
	a.Share(t.Context())
	b.Share(t.Context())
	before := a.SaltName()
	a.SaveAll()
	restarted := start("a", secret, disk.copy())
	assert.Equal(t, before, restarted.SaltName())
	now.pass(30 * time.Minute)
	assert.NotEqual(t, before, a.SaltName())
	assert.Equal(t, a.SaltName(), b.SaltName(), "nobody has to look at the moment of midnight")
	restarted.Share(t.Context())
	assert.Equal(t, a.SaltName(), restarted.SaltName())
	for i := range 200 {
		a.Visited(visit("corvane", i))
		b.Visited(visit("corvane", i))
	}
	now.pass(31 * time.Minute)
	for _, c := range []*counting.Counter{a, b, stranger} {
		c.Share(t.Context())
		c.PublishAll(t.Context())
	}
	var salts []string
	for item, err := range store.List(t.Context(), storage.SaltsKey) {
		require.NoError(t, err)
		salts = append(salts, path.Base(item.Key))
	}
	assert.Equal(t, []string{"2026-11-29"}, salts)
	sum := sumOf(t, store, "corvane")
	assert.Equal(t, int64(800), sum.Totals().Requests)
	assert.InDelta(t, 400, sum.Visitors(), 20, "200 on each of two days")
	assert.False(t, sum.Apart())
	// Nothing in the store says who it was, and what is sealed opens with the secret only.
	keys, _ := store.Get(t.Context(), storage.SaltKey("2026-11-29"))
	assert.NotContains(t, string(keys), a.SaltName())
	for item, err := range store.List(t.Context(), storage.TrafficOf("corvane", "2026-11-28")) {
		require.NoError(t, err)
		data, err := store.Get(t.Context(), item.Key)
		require.NoError(t, err)
		assert.NotContains(t, string(data), "198.51.")
	}
}

// failing is a store that refuses while it is told to.
type failing struct {
	storage.Store
	err atomic.Pointer[error]
}

// Replace implements storage.Store.
func (f *failing) Replace(ctx context.Context, key string, data []byte) error {
	if err := f.err.Load(); err != nil {
		return *err
	}
	return f.Store.Replace(ctx, key, data)
}

// TestWithoutTheStore keeps hours that have ended, through a restart, until it is back.
func TestWithoutTheStore(t *testing.T) {
	t.Parallel()
	store, now := &failing{Store: &memory.Store{}}, at(noon)
	store.err.Store(new(storage.ErrDenied))
	disk := &notebook{notes: map[string][]byte{}}
	var told []string
	start := func() *counting.Counter {
		return counting.New(counting.Options{Store: store, Notes: disk, Node: "a", Now: now.now, Memory: 64 << 20,
			Tell: func(text string) { told = append(told, text) }})
	}
	c := start()
	for range 30 {
		c.Visited(visit("corvane", 1))
		c.Visited(visit("velley", 2))
		now.pass(time.Hour)
		c.PublishAll(t.Context())
	}
	assert.Equal(t, 60, c.Waiting())
	require.Len(t, told, 1, "once, and not each time")
	assert.Contains(t, told[0], "the rights to traffic/")
	c.SaveAll()
	c = start()
	assert.Equal(t, 60, c.Waiting())
	store.err.Store(nil)
	c.PublishAll(t.Context())
	assert.Zero(t, c.Waiting())
	assert.Equal(t, int64(30), sumOf(t, store, "corvane").Totals().Requests)
	assert.Equal(t, int64(30), sumOf(t, store, "velley").Totals().Requests)
	// Sites that nobody asks for any more are forgotten after the day, also on the disk.
	now.pass(25 * time.Hour)
	c.PublishAll(t.Context())
	c.PublishAll(t.Context())
	assert.Zero(t, c.Sites())
	c.SaveAll()
	left, err := disk.Notes("traffic/")
	require.NoError(t, err)
	assert.Empty(t, left)
	// A disk that is full costs what only it would have known.
	disk.full = true
	c.Visited(visit("corvane", 1))
	c.SaveAll()
	assert.Contains(t, told[len(told)-1], "no space left")
	c.PublishAll(t.Context())
	assert.Equal(t, int64(31), sumOf(t, store, "corvane").Totals().Requests)
}

// TestTheCopyOfAMachine begins with what is its own.
func TestTheCopyOfAMachine(t *testing.T) {
	t.Parallel()
	store, now, disk := &memory.Store{}, at(noon), &notebook{notes: map[string][]byte{}}
	c := counting.New(counting.Options{Store: store, Notes: disk, Node: "a", Now: now.now, Memory: 64 << 20})
	c.Visited(visit("corvane", 1))
	c.PublishAll(t.Context())
	c2 := counting.New(counting.Options{Store: store, Notes: disk.copy(), Node: "b", Now: now.now, Memory: 64 << 20})
	c2.Visited(visit("corvane", 1))
	c2.PublishAll(t.Context())
	c.Visited(visit("corvane", 1))
	c.PublishAll(t.Context())
	// A clock that is set back begins another record, and takes nothing away.
	now.pass(-3 * time.Hour)
	c.Visited(visit("corvane", 1))
	now.pass(3 * time.Hour)
	c.Visited(visit("corvane", 1))
	c.PublishAll(t.Context())
	assert.Equal(t, int64(5), sumOf(t, store, "corvane").Totals().Requests)
}

// TestCountingWhileHoursPass counts from many goroutines while notes and records are written.
func TestCountingWhileHoursPass(t *testing.T) {
	t.Parallel()
	store, now := &memory.Store{}, at(noon)
	ctx, stop := context.WithCancel(t.Context())
	c := counting.New(counting.Options{Store: store, Notes: &notebook{notes: map[string][]byte{}}, Node: "a",
		Now: now.now, Memory: 1 << 20, Save: time.Millisecond, Publish: time.Minute})
	var running, visiting sync.WaitGroup
	running.Go(func() { c.Run(ctx) })
	const each = 3000
	for worker := range 4 {
		visiting.Go(func() {
			for i := range each {
				v := visit(fmt.Sprint("site-", i%5), i)
				v.Environment = fmt.Sprint("preview/", i%7)
				if i%2 == 0 {
					v.Environment = "production"
				}
				c.Visited(v)
				if worker == 0 && i%20 == 0 {
					now.pass(17 * time.Minute)
				}
			}
		})
	}
	visiting.Wait()
	stop()
	running.Wait()
	var all int64
	for site := range 5 {
		all += sumOf(t, store, fmt.Sprint("site-", site)).Totals().Requests
	}
	assert.Equal(t, int64(4*each/2), all)
}
