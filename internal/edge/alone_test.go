package edge_test

import (
	"context"
	"encoding/json"
	"io/fs"
	"iter"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/store/file"
)

// unsteady is a store that counts requests, and can be gone, or hang.
type unsteady struct {
	*file.Store
	requests    atomic.Int64
	gone, hangs atomic.Bool
	stumbles    atomic.Pointer[string] // it fails once to read a key that begins so
}

// ask is what each request goes through.
func (u *unsteady) ask(ctx context.Context) error {
	u.requests.Add(1)
	if u.hangs.Load() {
		<-ctx.Done()
		return ctx.Err()
	}
	if u.gone.Load() {
		return storage.ErrUnreachable
	}
	return nil
}

// Get implements storage.Store.
func (u *unsteady) Get(ctx context.Context, key string) ([]byte, error) {
	if err := u.ask(ctx); err != nil {
		return nil, err
	}
	if prefix := u.stumbles.Load(); prefix != nil && strings.HasPrefix(key, *prefix) {
		u.stumbles.Store(nil)
		return nil, storage.ErrUnreachable
	}
	return u.Store.Get(ctx, key)
}

// Slice implements storage.Slicer.
func (u *unsteady) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	if err := u.ask(ctx); err != nil {
		return nil, err
	}
	return u.Store.Slice(ctx, key, offset, length)
}

// Stat implements storage.Store.
func (u *unsteady) Stat(ctx context.Context, key string) (storage.Item, error) {
	if err := u.ask(ctx); err != nil {
		return storage.Item{}, err
	}
	return u.Store.Stat(ctx, key)
}

// List implements storage.Store.
func (u *unsteady) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	if err := u.ask(ctx); err != nil {
		return func(yield func(storage.Item, error) bool) { yield(storage.Item{}, err) }
	}
	return u.Store.List(ctx, folder)
}

// another starts a further node on the store of a world, in the place of its node, and
// returns what stands between it and the store, and what ends it.
func (w *world) another(options edge.Options, cache string, before func(*unsteady)) (*unsteady, func()) {
	w.t.Helper()
	opened, err := file.Open(w.root)
	require.NoError(w.t, err)
	store := &unsteady{Store: opened}
	if before != nil {
		before(store)
	}
	options.LocalNames = true
	options.Tell = w.tell
	if cache != "" {
		options.Cache, err = edge.OpenCache(cache, 1<<30, 1<<28, store, func(err error) { w.t.Log(err) })
		require.NoError(w.t, err)
	}
	node := edge.New(store, options)
	ctx, cancel := context.WithCancel(context.Background())
	var follower sync.WaitGroup
	follower.Go(func() { node.Follow(ctx, func() {}) })
	server := httptest.NewServer(node)
	w.node, w.server = node, server
	return store, sync.OnceFunc(func() {
		server.Close()
		cancel()
		follower.Wait()
		if options.Cache != nil {
			options.Cache.Close()
		}
	})
}

// health asks the node how it is.
func (w *world) health() (edge.Health, string) {
	w.t.Helper()
	r, body := w.ask("GET", "any.example", edge.HealthPath, nil)
	var health edge.Health
	require.NoError(w.t, json.Unmarshal([]byte(body), &health))
	if health.Status == 0 {
		health.Status = 200
	}
	assert.Equal(w.t, health.Status, r.StatusCode)
	return health, r.Header.Get("Content-Type")
}

// TestANodeBeginsWithoutItsStore: with what it served before, until the store answers.
func TestANodeBeginsWithoutItsStore(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	film := strings.Repeat("film ", 100_000)
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "old",
		"app-0a1b2c3d4e.js": "of the old page", "film.bin": film}, release.Settings{})))
	second := w.activate("production", w.put(site, release.Settings{}), "https://www.corvane.example/")
	w.await("www.corvane.example", second)
	w.decide("staging", looking(&journal.Looking{Password: password(t)}))
	staging := w.activate("staging", w.put(secretly, release.Settings{}))
	w.activate("preview.winter", w.put(site, release.Settings{}))

	cache := filepath.Join(t.TempDir(), "cache")
	_, end := w.another(edge.Options{}, cache, nil)
	w.await("www.corvane.example", second)
	w.await("staging.corvane.localhost", staging)
	for _, path := range []string{"/", "/fares", "/app-0a1b2c3d4e.js", "/style-3f9a2c1b7e.css"} {
		r, _ := w.ask("GET", "www.corvane.example", path, nil)
		require.Equal(t, 200, r.StatusCode, path)
	}
	end()

	store, end := w.another(edge.Options{Settings: edge.Settings{StaleProtected: 2 * time.Second},
		Patience: 500 * time.Millisecond}, cache, func(u *unsteady) { u.gone.Store(true) })
	defer end()
	require.Eventually(t, func() bool {
		r, _ := w.ask("GET", "www.corvane.example", "/", nil)
		return r.StatusCode == http.StatusOK
	}, 30*time.Second, 10*time.Millisecond)
	for path, want := range map[string]string{"/fares": "42.00", "/app-0a1b2c3d4e.js": "of the old page",
		"/style-3f9a2c1b7e.css": "body{}"} {
		r, body := w.ask("GET", "www.corvane.example", path, nil)
		assert.Equal(t, 200, r.StatusCode, path)
		assert.Equal(t, want, body)
	}
	r, _ := w.ask("GET", "www.corvane.example", "/film.txt", nil)
	assert.Equal(t, 503, r.StatusCode, "nobody asked for it before")
	assert.NotEmpty(t, r.Header.Get("Retry-After"))
	health, _ := w.health()
	assert.Equal(t, edge.WithoutStore, health.State)
	assert.True(t, health.Ready)
	require.NotNil(t, health.Since)
	assert.Contains(t, w.troubles(), "the store cannot be read")

	// Who may look cannot be read, so protected ones and previews close.
	for _, host := range []string{"staging.corvane.localhost", "winter.preview.corvane.localhost"} {
		require.Eventually(t, func() bool {
			r, body := w.ask("GET", host, "/", with("kittiwake"))
			assert.NotEqual(t, "kraken", strings.Repeat(body, min(1, r.StatusCode/503)))
			return r.StatusCode == http.StatusServiceUnavailable
		}, 30*time.Second, 20*time.Millisecond, host)
	}
	r, _ = w.ask("GET", "www.corvane.example", "/", nil)
	assert.Equal(t, 200, r.StatusCode, "what everybody may see stays")

	// What happened meanwhile is seen once the store answers.
	third := w.activate("production", w.put(map[string]string{"index.html": "new"}, release.Settings{}),
		"https://www.corvane.example/")
	store.gone.Store(false)
	w.await("www.corvane.example", third)
	require.Eventually(t, func() bool { h, _ := w.health(); return h.State == edge.Ready }, 30*time.Second,
		10*time.Millisecond)
	r, body := w.ask("GET", "staging.corvane.localhost", "/", with("kittiwake"))
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, "kraken", body)
}

// TestACacheThatIsDamagedIsReadAgain, and is never sent.
func TestACacheThatIsDamagedIsReadAgain(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	film := strings.Repeat("film ", 100_000)
	entry := w.activate("production", w.put(map[string]string{"index.html": "home", "film.bin": film},
		release.Settings{}))
	cache := filepath.Join(t.TempDir(), "cache")
	_, end := w.another(edge.Options{}, cache, nil)
	w.await("corvane.localhost", entry)
	for _, path := range []string{"/", "/film.bin"} {
		w.ask("GET", "corvane.localhost", path, nil)
	}
	end()

	for _, gone := range []bool{false, true} {
		spoiled := 0
		require.NoError(t, filepath.WalkDir(cache, func(path string, d fs.DirEntry, err error) error {
			if err == nil && strings.HasPrefix(d.Name(), "objects+") || strings.HasPrefix(d.Name(), "sites+") {
				data, err := os.ReadFile(path)
				require.NoError(t, err)
				data[len(data)/2] ^= 1
				spoiled++
				return os.WriteFile(path, data, 0o600)
			}
			return err
		}))
		require.Greater(t, spoiled, 3)
		_, end = w.another(edge.Options{Patience: 300 * time.Millisecond}, cache,
			func(u *unsteady) { u.gone.Store(gone) })
		if gone {
			r, body := w.ask("GET", "corvane.localhost", "/", nil)
			assert.Equal(t, 503, r.StatusCode, body)
		} else {
			w.await("corvane.localhost", entry)
			r, body := w.ask("GET", "corvane.localhost", "/film.bin", nil)
			assert.Equal(t, 200, r.StatusCode)
			assert.Equal(t, digest.Of([]byte(film)), digest.Of([]byte(body)))
		}
		end()
	}
}

// TestNotesOfAnotherStoreAreNotServed: the folder was used for another one before.
func TestNotesOfAnotherStoreAreNotServed(t *testing.T) {
	t.Parallel()
	first, second := start(t, edge.Options{}), start(t, edge.Options{})
	require.NoError(t, os.WriteFile(filepath.Join(second.root, storage.MarkKey), storage.NewMark("another"), 0o600))
	cache := filepath.Join(t.TempDir(), "cache")
	entry := first.activate("production", first.put(site, release.Settings{}))
	_, end := first.another(edge.Options{}, cache, nil)
	first.await("corvane.localhost", entry)
	end()
	_, end = second.another(edge.Options{}, cache, nil)
	require.Eventually(t, func() bool { h, _ := second.health(); return h.State == edge.Ready }, 30*time.Second,
		10*time.Millisecond)
	end()
	_, end = second.another(edge.Options{Patience: 200 * time.Millisecond}, cache,
		func(u *unsteady) { u.gone.Store(true) })
	defer end()
	time.Sleep(time.Second)
	r, _ := second.ask("GET", "corvane.localhost", "/", nil)
	assert.Equal(t, 503, r.StatusCode)
}

// TestAStoreThatHangsDoesNotHangVisitors: what is known is answered at once, the rest
// after a moment.
func TestAStoreThatHangsDoesNotHangVisitors(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	entry := w.activate("production", w.put(site, release.Settings{}))
	store, end := w.another(edge.Options{Patience: 300 * time.Millisecond}, "", nil)
	defer end()
	w.await("corvane.localhost", entry)
	w.ask("GET", "corvane.localhost", "/", nil)
	store.hangs.Store(true)
	began := time.Now()
	r, body := w.ask("GET", "corvane.localhost", "/", nil)
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, site["index.html"], body)
	for _, path := range []string{"/fares", "/style-3f9a2c1b7e.css", "/app-ffffffff00.js"} {
		r, _ = w.ask("GET", "corvane.localhost", path, nil)
		assert.Contains(t, []int{503, 404}, r.StatusCode, path)
		if r.StatusCode == http.StatusServiceUnavailable {
			assert.Equal(t, "5", r.Header.Get("Retry-After"))
			assert.Equal(t, "no-store", r.Header.Get("Cache-Control"))
		}
	}
	for _, host := range []string{"velley.localhost", "0123456789.release.corvane.localhost"} {
		r, _ = w.ask("GET", host, "/", nil)
		assert.Equal(t, 503, r.StatusCode, host)
	}
	assert.Less(t, time.Since(began), 15*time.Second)
}

// TestAStoreThatStumblesLosesNoHint: a deploy whose hint, list or entry could not be read
// at that moment is seen with the next look, and not with the next round.
func TestAStoreThatStumblesLosesNoHint(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	id := w.put(site, release.Settings{})
	entry := w.activate("production", id)
	store, end := w.another(edge.Options{Sweep: time.Hour, Poll: 20 * time.Millisecond}, "", nil)
	defer end()
	w.await("corvane.localhost", entry)
	for n, prefix := range []string{"pulse/", "sites/corvane/environments/", "sites/corvane/releases/", "objects/"} {
		time.Sleep(50 * time.Millisecond) // what came before is over
		id = w.put(map[string]string{"index.html": prefix, "page.html": strings.Repeat("x", n)}, release.Settings{})
		store.stumbles.Store(&prefix)
		w.await("corvane.localhost", w.activate("production", id))
	}
}

// TestBeforeTheFirstLookNothingIsAnswered: "no such site" would be a lie.
func TestBeforeTheFirstLookNothingIsAnswered(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	entry := w.activate("production", w.put(site, release.Settings{}), "https://www.corvane.example/")
	store, end := w.another(edge.Options{Patience: 200 * time.Millisecond}, "",
		func(u *unsteady) { u.gone.Store(true) })
	defer end()
	for _, host := range []string{"www.corvane.example", "corvane.localhost", "unknown.example"} {
		r, _ := w.ask("GET", host, "/", nil)
		assert.Equal(t, 503, r.StatusCode, host)
	}
	health, mediaType := w.health()
	assert.Equal(t, edge.Starting, health.State)
	assert.True(t, health.Live)
	assert.False(t, health.Ready)
	assert.Equal(t, "application/problem+json", mediaType)
	store.gone.Store(false)
	w.await("www.corvane.example", entry)
	health, mediaType = w.health()
	assert.Equal(t, edge.Ready, health.State)
	assert.Equal(t, "application/json", mediaType)

	w.node.Drain()
	health, _ = w.health()
	assert.Equal(t, edge.Draining, health.State)
	r, _ := w.ask("GET", "www.corvane.example", "/", nil)
	assert.Equal(t, 200, r.StatusCode, "it still answers")
}

// TestStrangersSpendNoRequests asks for hundreds of things that are not there.
func TestStrangersSpendNoRequests(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	entry := w.activate("production", w.put(site, release.Settings{}))
	store, end := w.another(edge.Options{Sweep: time.Hour, Poll: time.Hour}, "", nil)
	defer end()
	w.await("corvane.localhost", entry)
	w.ask("GET", "corvane.localhost", "/", nil)
	time.Sleep(300 * time.Millisecond)
	before, began := store.requests.Load(), time.Now()
	for range 300 {
		for _, host := range []string{"velley.localhost", "0123456789.release.corvane.localhost",
			"0123456789.release.velley.localhost", "nowhere.example"} {
			w.ask("GET", host, "/", nil)
		}
	}
	// On a machine that takes its time over them, some are asked for anew.
	assert.LessOrEqual(t, store.requests.Load()-before, 15+int64(2*time.Since(began).Seconds()),
		"it is remembered that they are not there")

	before, began = store.requests.Load(), time.Now()
	var browsers sync.WaitGroup
	for i := range 40 {
		browsers.Go(func() {
			r, _ := w.ask("GET", "corvane.localhost", "/app-"+strings.Repeat("0", 8)+string(rune('a'+i%6))+"1.js", nil)
			assert.Equal(t, 404, r.StatusCode)
		})
	}
	browsers.Wait()
	assert.LessOrEqual(t, store.requests.Load()-before, 10+int64(20*time.Since(began).Seconds()),
		"many who miss something share a look")
}

// TestLocalNamesAnswerThisMachineOnly, unless the operator says otherwise.
func TestLocalNamesAnswerThisMachineOnly(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.put(site, release.Settings{}),
		"https://www.corvane.example/"))
	w.node.Set(edge.Settings{})
	r, _ := w.ask("GET", "corvane.localhost", "/", nil)
	assert.Equal(t, 200, r.StatusCode)
	for _, host := range []string{"corvane.localhost", "velley.localhost", "x.preview.corvane.localhost"} {
		r, _ = w.ask("GET", host, "/", map[string]string{"X-Forwarded-For": "192.0.2.1"})
		assert.Equal(t, 421, r.StatusCode, host)
	}
	r, _ = w.ask("GET", "www.corvane.example", "/", map[string]string{"X-Forwarded-For": "192.0.2.1"})
	assert.Equal(t, 200, r.StatusCode)
	assert.Contains(t, w.troubles(), "--trust 127.0.0.1")

	// Once a proxy was seen on this machine, the next request may be a stranger's that
	// says nothing of it.
	host := w.put(secretly, release.Settings{}).String()[:10] + ".release.corvane.localhost"
	r, _ = w.ask("GET", host, "/", nil)
	assert.Equal(t, 404, r.StatusCode)
}

// TestACredentialForOneEnvironmentReachesNoOther upstream on the same host.
func TestACredentialForOneEnvironmentReachesNoOther(t *testing.T) {
	t.Parallel()
	var seen atomic.Pointer[string]
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text := r.Header.Get("Authorization") + "|" + r.Header.Get("Cookie")
		seen.Store(&text)
	}))
	defer server.Close()
	w := start(t, edge.Options{Settings: edge.Settings{Reach: loopback}})
	w.decide("production", looking(&journal.Looking{Password: password(t)}))
	w.activate("production", w.put(secretly, release.Settings{}), "https://www.corvane.example/")
	id := w.putRuled(site, program(t, "proxy /api/{rest:all} -> "+server.URL+"/{rest}\n").Rules, release.Settings{})
	w.await("staging.corvane.localhost", w.activate("staging", id, "https://www.corvane.example/staging/"))
	header := with("kittiwake")
	header["Cookie"] = "theme=dark; orilla_look=secret"
	// An address is routed a moment after its environment has flipped.
	answers := func(host, path string) {
		require.Eventually(t, func() bool {
			r, _ := w.ask("GET", host, path, header)
			return r.StatusCode == http.StatusOK
		}, 30*time.Second, time.Millisecond)
	}
	answers("www.corvane.example", "/staging/api/x")
	assert.Equal(t, "|theme=dark", *seen.Load())

	// Where nothing on the host is protected, the upstream's own credentials pass.
	w.await("alone.corvane.localhost", w.activate("alone", id, "https://alone.corvane.example/"))
	header = with("the upstream's own")
	header["Cookie"] = "orilla_look=secret"
	answers("alone.corvane.example", "/api/x")
	assert.Equal(t, header["Authorization"]+"|", *seen.Load())
}
