package edge_test

import (
	"context"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/edge/edgetest"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/memory"
)

// faraway is a bucket that is 20 ms away: it answers after that, lists a thousand keys at a time, and
// counts what it was asked.
type faraway struct {
	memory.Store
	mutex sync.Mutex
	asked map[string]int
	open  bool // answers at once, and does not count
}

// take is a request.
func (f *faraway) take(what string) {
	if f.open {
		return
	}
	f.mutex.Lock()
	f.asked[what]++
	f.mutex.Unlock()
	time.Sleep(20 * time.Millisecond)
}

// counted returns what was asked, and begins anew.
func (f *faraway) counted() map[string]int {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	asked := f.asked
	f.asked = map[string]int{}
	return asked
}

// Get implements storage.Store.
func (f *faraway) Get(ctx context.Context, key string) ([]byte, error) {
	f.take("get")
	return f.Store.Get(ctx, key)
}

// Stat implements storage.Store.
func (f *faraway) Stat(ctx context.Context, key string) (storage.Item, error) {
	f.take("stat")
	return f.Store.Stat(ctx, key)
}

// List implements storage.Store, in pages.
func (f *faraway) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		f.take("list")
		n := 0
		for item, err := range f.Store.List(ctx, folder) {
			if n++; n%1000 == 0 {
				f.take("list")
			}
			if !yield(item, err) {
				return
			}
		}
	}
}

// Parallel, Empty, Place and Account make it a store elsewhere.
func (f *faraway) Parallel() int { return 16 }

// Empty implements storage.Remote.
func (f *faraway) Empty(context.Context) (bool, error) { return false, nil }

// Place implements storage.Remote.
func (f *faraway) Place() string { return "far away" }

// Account implements storage.Remote.
func (f *faraway) Account() string { return "nobody" }

// TestManySites simulates a node of very many sites at a bucket, in a time that is not waited for: what
// it asks while nothing happens, and after what time it serves what has just become live, without
// a call. docs/measurements.md has the figures of ten thousand.
func TestManySites(t *testing.T) {
	t.Parallel()
	for _, sites := range []int{100, soak.Rounds(1050, 10_000)} {
		t.Run(fmt.Sprint(sites, " sites"), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { manySites(t, sites) })
		})
	}
}

// manySites is TestManySites with a number of sites.
func manySites(t *testing.T, sites int) {
	t.Helper()
	ctx, stop := context.WithCancel(t.Context())
	store := &faraway{open: true, asked: map[string]int{}}
	w := edgetest.New(store)
	require.NoError(t, store.Create(ctx, storage.MarkKey, storage.NewMark("k3v9")))
	name := func(n int) string { return fmt.Sprintf("site-%05d", n) }
	for n := range sites {
		require.NoError(t, w.Claim(ctx, name(n)))
		_, err := w.Activate(ctx, name(n), "production", putPage(t, w, name(n), "one"))
		require.NoError(t, err)
	}
	store.open = false
	node := edge.New(store, edge.Options{Memory: 1 << 30})
	began, ready := time.Now(), make(chan struct{})
	var following sync.WaitGroup
	following.Go(func() { node.Follow(ctx, func() { close(ready) }) })
	<-ready
	first := time.Since(began)
	loading := store.counted()

	// After the first look it goes once through what it found.
	time.Sleep(2 * time.Minute)
	store.counted()
	idle := time.Duration(soak.Rounds(1, 10)) * time.Minute
	time.Sleep(idle)
	quiet := store.counted()
	pages := 1 + sites/1000
	polls := int(idle / (650 * time.Millisecond))
	assert.LessOrEqual(t, quiet["list"], polls*pages+int(idle.Seconds())*2, "hints, and what rounds may ask")
	assert.LessOrEqual(t, quiet["get"]+quiet["stat"], int(idle.Seconds()))

	random := rand.New(rand.NewPCG(1, 2))
	var took []time.Duration
	for n := range soak.Rounds(15, 60) {
		site := name(random.IntN(sites))
		id := putPage(t, w, site, fmt.Sprint("two ", n))
		time.Sleep(time.Duration(random.IntN(2000)) * time.Millisecond)
		entry, err := w.Activate(ctx, site, "production", id)
		require.NoError(t, err)
		began := time.Now()
		for !slices.ContainsFunc(edge.ServedBy(node), func(s edge.Served) bool {
			return s.Site == site && s.Entry == entry.Number
		}) {
			time.Sleep(5 * time.Millisecond)
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	// At worst a poll has just gone by; then comes the next one with all its pages, and a few reads.
	assert.Less(t, took[len(took)-1], 2*(650+time.Duration(pages)*20)*time.Millisecond+400*time.Millisecond)
	t.Logf("%d sites: %s and %v to load; idle, a second: %.1f lists, %.1f reads; a flip takes %s, at most %s", sites,
		first.Round(time.Millisecond), loading, float64(quiet["list"])/idle.Seconds(),
		float64(quiet["get"]+quiet["stat"])/idle.Seconds(), took[len(took)/2], took[len(took)-1])
	stop()
	following.Wait()
}

// putPage keeps a release with one page.
func putPage(t *testing.T, w *edgetest.World, site, text string) release.ID {
	t.Helper()
	id, err := w.Put(t.Context(), site, map[string][]byte{"index.html": []byte(text)})
	require.NoError(t, err)
	return id
}
