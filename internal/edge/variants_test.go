package edge_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/store/file"
)

// counting counts what is encoded as well as can be.
func counting(count *atomic.Int64) func(context.Context, coding.Coding, []byte) ([]byte, error) {
	return func(_ context.Context, c coding.Coding, content []byte) ([]byte, error) {
		count.Add(1)
		return coding.Encode(c, coding.Best, content)
	}
}

// varied is text that levels encode to different bytes.
func varied(name string) string {
	var text strings.Builder
	for i := range 500 {
		fmt.Fprintf(&text, "%s sails at %d:%02d from quay %d to %x\n", name, i%24, i%60, i%7, i*i*7919)
	}
	return text.String()
}

// another serves the same store with a node of its own.
func (w *world) node2(store storage.Store, options edge.Options) *httptest.Server {
	w.t.Helper()
	options.LocalNames, options.Tell = true, w.tell
	return w.serve2(edge.New(store, options))
}

// serve2 serves a node until the test ends.
func (w *world) serve2(node *edge.Node) *httptest.Server {
	w.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan struct{})
	go func() { node.Follow(ctx, func() { close(ready) }); close(ended) }()
	<-ready
	server := httptest.NewServer(node)
	w.t.Cleanup(func() { server.Close(); cancel(); <-ended })
	return server
}

// from asks a server.
func (w *world) from(server *httptest.Server, path string, header map[string]string) (*http.Response, string) {
	w.t.Helper()
	request, err := http.NewRequest(http.MethodGet, server.URL+path, nil)
	require.NoError(w.t, err)
	request.Host = "corvane.localhost"
	for name, value := range header {
		request.Header.Set(name, value)
	}
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(w.t, err)
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	require.NoError(w.t, err)
	return response, string(body)
}

// becomesBest asks until a node sends another variant than its first.
func (w *world) becomesBest(server *httptest.Server, path, first string, header map[string]string) string {
	w.t.Helper()
	var tag string
	require.Eventually(w.t, func() bool {
		r, _ := w.from(server, path, header)
		tag = r.Header.Get("ETag")
		return tag != first
	}, 30*time.Second, 5*time.Millisecond)
	return tag
}

// TestTheTagNamesTheEncodedBytes: a node sends the fast variant first and the best one
// later, and nobody gets half of one and half of the other.
func TestTheTagNamesTheEncodedBytes(t *testing.T) {
	t.Parallel()
	hold := make(chan struct{})
	w := start(t, edge.Options{Best: func(ctx context.Context, c coding.Coding, content []byte) ([]byte, error) {
		select {
		case <-hold:
		case <-ctx.Done():
		}
		return coding.Encode(c, coding.Best, content)
	}})
	text := varied("Dunlin")
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "home",
		"sailings.css": text, "404.html": varied("nothing")}, release.Settings{})))
	brotlied := map[string]string{"Accept-Encoding": "gzip, deflate, br"}

	identity, body := w.from(w.server, "/sailings.css", map[string]string{"Accept-Encoding": "identity"})
	assert.Equal(t, text, body)
	assert.Equal(t, "Accept-Encoding", identity.Header.Get("Vary"))
	assert.Equal(t, fmt.Sprint(len(text)), identity.Header.Get("Content-Length"))
	plain := identity.Header.Get("ETag")
	fast, half := w.from(w.server, "/sailings.css", brotlied)
	assert.Equal(t, "br", fast.Header.Get("Content-Encoding"))
	assert.Equal(t, fmt.Sprint(len(half)), fast.Header.Get("Content-Length"))
	assert.Equal(t, text, decoded(t, fast, half))
	tag := fast.Header.Get("ETag")
	assert.True(t, strings.HasPrefix(tag, strings.TrimSuffix(plain, `"`)+"-br-"), tag)
	close(hold)
	best := w.becomesBest(w.server, "/sailings.css", tag, brotlied)
	other := w.node2(w.store, edge.Options{})
	assert.Less(t, len(w.bodyOf(best, brotlied)), len(half))

	for name, test := range map[string]struct {
		header map[string]string
		status int
		tag    string // "" for none
		want   string // the decoded body; "" for none
	}{
		"has the best":    {map[string]string{"If-None-Match": best}, 304, best, ""},
		"has the fast":    {map[string]string{"If-None-Match": tag}, 304, tag, ""},
		"has it as it is": {map[string]string{"If-None-Match": plain}, 304, plain, ""},
		"weakly":          {map[string]string{"If-None-Match": "W/" + tag + `, "x"`}, 304, tag, ""},
		"has it in a coding that is not taken": {map[string]string{"If-None-Match": strings.Replace(tag, "-br-", "-zstd-", 1)},
			200, best, text},
		"half of the fast one": {map[string]string{"Range": "bytes=100-", "If-Range": tag}, 200, best, text},
		"half of it as it is":  {map[string]string{"Range": "bytes=100-", "If-Range": plain}, 206, plain, text[100:]},
		"must have the fast":   {map[string]string{"If-Match": tag}, 412, "", ""},
		"must have the best":   {map[string]string{"If-Match": best}, 200, best, text},
		"beyond its end":       {map[string]string{"Range": "bytes=99999-"}, 416, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			test.header["Accept-Encoding"] = "br"
			r, body := w.from(w.server, "/sailings.css", test.header)
			assert.Equal(t, test.status, r.StatusCode)
			assert.Equal(t, test.tag, r.Header.Get("ETag"))
			if test.status < 400 {
				assert.Equal(t, "Accept-Encoding", r.Header.Get("Vary"))
			} else {
				assert.Empty(t, r.Header.Get("Content-Encoding"))
			}
			if test.want != "" {
				assert.Equal(t, test.want, decoded(t, r, body))
			}
		})
	}

	// The rest of a download from another node, which has another level at first.
	first, _ := w.from(other, "/sailings.css", map[string]string{"Accept-Encoding": "br", "Range": "bytes=0-9"})
	assert.Equal(t, 206, first.StatusCode)
	assert.Equal(t, "br", first.Header.Get("Content-Encoding"))
	rest, body := w.from(other, "/sailings.css", map[string]string{"Accept-Encoding": "br", "Range": "bytes=100-", "If-Range": tag + "x"})
	assert.Equal(t, 200, rest.StatusCode)
	assert.Equal(t, text, decoded(t, rest, body))
	missing, body := w.from(w.server, "/nowhere", brotlied)
	assert.Equal(t, []any{404, "br", ""}, []any{missing.StatusCode, missing.Header.Get("Content-Encoding"), missing.Header.Get("ETag")})
	assert.Equal(t, varied("nothing"), decoded(t, missing, body))
	head, _ := w.ask(http.MethodHead, "corvane.localhost", "/sailings.css", brotlied)
	assert.Equal(t, []string{"br", best}, []string{head.Header.Get("Content-Encoding"), head.Header.Get("ETag")})
	assert.NotEqual(t, fmt.Sprint(len(text)), head.Header.Get("Content-Length"))
}

// bodyOf is what the node sends under a tag.
func (w *world) bodyOf(tag string, header map[string]string) string {
	r, body := w.from(w.server, "/sailings.css", header)
	require.Equal(w.t, tag, r.Header.Get("ETag"))
	return body
}

// TestAVariantIsMadeOnce for all nodes and releases: what the store has is taken.
func TestAVariantIsMadeOnce(t *testing.T) {
	t.Parallel()
	var made, again atomic.Int64
	w := start(t, edge.Options{Best: counting(&made)})
	text := varied("Sula")
	first := w.put(map[string]string{"index.html": "one", "a.css": text}, release.Settings{})
	w.await("corvane.localhost", w.activate("production", first))
	header := map[string]string{"Accept-Encoding": "br"}
	r, _ := w.from(w.server, "/a.css", header)
	best := w.becomesBest(w.server, "/a.css", r.Header.Get("ETag"), header)
	data, err := w.store.Get(t.Context(), coding.Key(digest.Of([]byte(text)), coding.Brotli))
	require.NoError(t, err)
	require.NoError(t, coding.Verify(coding.Brotli, data, digest.Of([]byte(text)), int64(len(text))))

	// Another release with the same content, and back again; and a node that starts.
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "two", "b.css": text},
		release.Settings{})))
	r, _ = w.from(w.server, "/b.css", header)
	assert.Equal(t, best[strings.Index(best, "-br-"):], r.Header.Get("ETag")[strings.Index(best, "-br-"):])
	w.await("corvane.localhost", w.activate("production", first))
	// Visitors wait for the store a moment only, which a busy machine may need for more.
	require.Eventually(t, func() bool {
		other := w.node2(w.store, edge.Options{Best: counting(&again)})
		r, _ := w.from(other, "/a.css", header)
		return r.Header.Get("ETag") == best
	}, 30*time.Second, time.Millisecond, "the first visitor gets what the store has")
	assert.EqualValues(t, 1, made.Load())
	assert.Zero(t, again.Load())
}

// withoutVariants is a store that does not answer for variants for a while.
type withoutVariants struct {
	*file.Store
	back atomic.Bool
}

// Slice implements storage.Slicer.
func (s *withoutVariants) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	if strings.HasPrefix(key, coding.Folder) && !s.back.Load() {
		return nil, storage.ErrUnreachable
	}
	return s.Store.Slice(ctx, key, offset, length)
}

// TestTheBestIsLookedForAgain where the store did not answer when it was first wanted:
// visitors have the fast one by then, and nobody asks for it any more.
func TestTheBestIsLookedForAgain(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "1", "a.css": varied("Sula")},
		release.Settings{})))
	var made atomic.Int64
	store := &withoutVariants{Store: w.store.(*file.Store)}
	node := edge.New(store, edge.Options{Best: counting(&made), Settings: edge.Settings{LocalNames: true}})
	node.LookAgainAfter(10 * time.Millisecond)
	server := w.serve2(node)
	header := map[string]string{"Accept-Encoding": "br"}
	r, _ := w.from(server, "/a.css", header)
	for range 20 {
		again, _ := w.from(server, "/a.css", header)
		assert.Equal(t, r.Header.Get("ETag"), again.Header.Get("ETag"))
		time.Sleep(10 * time.Millisecond)
	}
	store.back.Store(true)
	w.becomesBest(server, "/a.css", r.Header.Get("ETag"), header)
	assert.EqualValues(t, 1, made.Load())
}

// TestLyingVariantsAreThrownAway, whatever they would become, and told.
func TestLyingVariantsAreThrownAway(t *testing.T) {
	t.Parallel()
	var bomb bytes.Buffer
	b := brotli.NewWriterLevel(&bomb, 9)
	for range 64 {
		b.Write(make([]byte, 1<<20)) //nolint:errcheck // into memory
	}
	require.NoError(t, b.Close())
	text := varied("Velley")
	other, err := coding.Encode(coding.Brotli, coding.Best, []byte(varied("Another")))
	require.NoError(t, err)
	for name, lie := range map[string][]byte{"bomb": bomb.Bytes(), "of other content": other, "no brotli": []byte("harbour"),
		"empty": {}, "larger than its source": make([]byte, 1<<20)} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := start(t, edge.Options{})
			key := coding.Key(digest.Of([]byte(text)), coding.Brotli)
			require.NoError(t, w.store.Create(t.Context(), key, lie))
			w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "1", "a.css": text},
				release.Settings{})))
			header := map[string]string{"Accept-Encoding": "br"}
			r, body := w.from(w.server, "/a.css", header)
			assert.Equal(t, text, decoded(t, r, body))
			w.becomesBest(w.server, "/a.css", r.Header.Get("ETag"), header)
			r, body = w.from(w.server, "/a.css", header)
			assert.Equal(t, text, decoded(t, r, body))
			assert.Contains(t, w.troubles(), key+" was thrown away")
			data, err := w.store.Get(t.Context(), key)
			require.NoError(t, err)
			assert.NoError(t, coding.Verify(coding.Brotli, data, digest.Of([]byte(text)), int64(len(text))), "it was made anew")
		})
	}
}

// keeping is a store that does not let a node keep variants.
type keeping struct {
	storage.Store
	tried *atomic.Int64
}

// Create implements storage.Store.
func (k keeping) Create(ctx context.Context, key string, data []byte) error {
	if strings.HasPrefix(key, coding.Folder) {
		k.tried.Add(1)
		return storage.Wrap(storage.ErrDenied, k, "create", key)
	}
	return k.Store.Create(ctx, key, data)
}

// TestWithoutRightsTheCacheKeepsVariants: the store is tried once, and after a restart
// nothing is made again. One that is damaged there is made anew.
func TestWithoutRightsTheCacheKeepsVariants(t *testing.T) {
	t.Parallel()
	var made, tried atomic.Int64
	w := start(t, edge.Options{})
	texts := map[string]string{"index.html": "1", "a.css": varied("Sula"), "b.css": varied("Velley"), "c.css": varied("Dunlin")}
	w.await("corvane.localhost", w.activate("production", w.put(texts, release.Settings{})))
	folder, header := filepath.Join(t.TempDir(), "cache"), map[string]string{"Accept-Encoding": "br"}
	store := keeping{w.store, &tried}
	cached := func() (*httptest.Server, func()) {
		cache, err := edge.OpenCache(folder, 1<<30, 256<<20, store, func(error) {})
		require.NoError(t, err)
		return w.node2(store, edge.Options{Cache: cache, Best: counting(&made)}), cache.Close
	}
	server, closed := cached()
	for path := range texts {
		if r, _ := w.from(server, "/"+path, header); path != "index.html" {
			w.becomesBest(server, "/"+path, r.Header.Get("ETag"), header)
		}
	}
	assert.EqualValues(t, 3, made.Load())
	assert.EqualValues(t, 1, tried.Load())
	closed()

	// One copy is damaged while the node is down.
	damaged := 0
	require.NoError(t, filepath.WalkDir(folder, func(path string, _ os.DirEntry, err error) error {
		if strings.HasSuffix(path, ".br") && damaged == 0 {
			damaged++
			return os.WriteFile(path, []byte("harbour"), 0o600)
		}
		return err
	}))
	require.Equal(t, 1, damaged)
	server, closed = cached()
	defer closed()
	for path, text := range texts {
		r, body := w.from(server, "/"+path, header)
		assert.Equal(t, text, decoded(t, r, body))
	}
	require.Eventually(t, func() bool { return made.Load() == 4 }, 30*time.Second, 5*time.Millisecond)
	assert.Contains(t, w.troubles(), "was thrown away")
}

// TestAnEncoderThatFailsCostsNobodyAnything: visitors have the fast variant.
func TestAnEncoderThatFailsCostsNobodyAnything(t *testing.T) {
	t.Parallel()
	var tried atomic.Int64
	w := start(t, edge.Options{Best: func(context.Context, coding.Coding, []byte) ([]byte, error) {
		if tried.Add(1) == 1 {
			return nil, errors.New("out of memory")
		}
		return []byte("not what was asked for"), nil
	}})
	texts := map[string]string{"index.html": "1", "a.css": varied("Sula"), "b.css": varied("Velley")}
	w.await("corvane.localhost", w.activate("production", w.put(texts, release.Settings{})))
	for range 3 {
		for path, text := range texts {
			r, body := w.from(w.server, "/"+path, map[string]string{"Accept-Encoding": "gzip"})
			assert.Equal(t, text, decoded(t, r, body))
		}
	}
	require.Eventually(t, func() bool { return tried.Load() == 2 }, 30*time.Second, 5*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(w.troubles(), "not the content") }, 30*time.Second, 5*time.Millisecond)
	assert.Contains(t, w.troubles(), "out of memory")
}
