package edge_test

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer/cases"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/store/file"
)

// world is a store with an edge node on it.
type world struct {
	t      testing.TB
	root   string
	store  storage.Store
	server *httptest.Server
	node   *edge.Node
	looks  atomic.Int64 // how often the node began a sweep
	read   atomic.Int64 // bytes that the node has read
	mutex  sync.Mutex
	events []httpanswer.Event
	claims int
}

// observed is a store that counts what a node reads, and its sweeps: each begins
// with a look at the store's mark.
type observed struct {
	*file.Store
	looks, read *atomic.Int64
}

// Get implements storage.Store.
func (o observed) Get(ctx context.Context, key string) ([]byte, error) {
	if key == storage.MarkKey {
		o.looks.Add(1)
	}
	data, err := o.Store.Get(ctx, key)
	o.read.Add(int64(len(data)))
	return data, err
}

// Slice implements storage.Slicer.
func (o observed) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	data, err := o.Store.Slice(ctx, key, offset, length)
	o.read.Add(int64(len(data)))
	return data, err
}

// sweeps waits until the node has finished a few more sweeps.
func (w *world) sweeps() {
	w.t.Helper()
	enough := w.looks.Load() + 6
	require.Eventually(w.t, func() bool { return w.looks.Load() >= enough }, 30*time.Second, time.Millisecond)
}

func start(t testing.TB, options edge.Options) *world {
	t.Helper()
	w := &world{t: t, root: filepath.Join(t.TempDir(), "store")}
	made, err := file.Make(w.root)
	require.NoError(t, err)
	w.store = made
	w.claim()
	options.LocalNames = true // tests play proxies with headers
	options.Tell = w.tell
	node := edge.New(observed{made, &w.looks, &w.read}, options)
	ctx, cancel := context.WithCancel(context.Background())
	ready := make(chan struct{})
	var follower sync.WaitGroup
	follower.Go(func() { node.Follow(ctx, func() { close(ready) }) })
	<-ready
	w.node, w.server = node, httptest.NewServer(node)
	t.Cleanup(func() { w.server.Close(); cancel(); follower.Wait() })
	return w
}

// tell keeps what nodes tell.
func (w *world) tell(event httpanswer.Event) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.events = append(w.events, event)
}

// claim takes the name of the site.
func (w *world) claim() {
	w.t.Helper()
	w.claims++
	data, err := record.Claim{Site: "corvane", Incarnation: fmt.Sprint("incarnation", w.claims),
		Roots: []string{"c0"}, Who: "Ines Marrow"}.Encode()
	require.NoError(w.t, err)
	require.NoError(w.t, w.store.Create(w.t.Context(), storage.ClaimKey("corvane"), data))
}

func (w *world) troubles() string {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	var texts []string
	for _, event := range w.events {
		if event.Kind == "trouble" {
			texts = append(texts, event.Text)
		}
	}
	return strings.Join(texts, "\n")
}

// put keeps a release and returns its id.
func (w *world) put(files map[string]string, settings release.Settings) release.ID {
	w.t.Helper()
	return w.putRuled(files, nil, settings)
}

// putRuled keeps a release with rules.
func (w *world) putRuled(files map[string]string, rulesOf []rules.Rule, settings release.Settings,
) release.ID {
	w.t.Helper()
	batch, err := w.store.Begin(w.t.Context())
	require.NoError(w.t, err)
	add := func(data []byte) digest.Digest {
		_, err := batch.Add(w.t.Context(), digest.Of(data).Key(), data)
		require.NoError(w.t, err)
		return digest.Of(data)
	}
	var list []release.File
	for path, text := range files {
		data := []byte(text)
		one := release.File{Path: path, Digest: digest.Of(data), Size: int64(len(data)),
			Type: media.Type(path, true)}
		for len(data) > 0 && len(text) > release.PartSize {
			n := min(release.PartSize, len(data))
			one.Parts = append(one.Parts, add(data[:n]))
			data = data[n:]
		}
		if len(one.Parts) == 0 {
			add(data)
		}
		list = append(list, one)
	}
	set, objects := release.CutRules(len(rulesOf), rules.Encode(rulesOf))
	index, err := release.Build(list, set, settings)
	require.NoError(w.t, err)
	for _, chunk := range append(index.Chunks, objects...) {
		add(chunk.Data)
	}
	_, err = batch.Commit(w.t.Context())
	require.NoError(w.t, err)
	//nolint:errcheck // may be there
	w.store.Create(w.t.Context(), storage.ReleaseKey("corvane", index.ID.String()), index.Data)
	return index.ID
}

// activate points an environment at a release and returns the entry.
func (w *world) activate(environment string, id release.ID, addresses ...string) journal.Entry {
	w.t.Helper()
	return w.activateWith(environment, id, journal.DocumentContent{Addresses: addresses})
}

// activateWith says what the environment is, besides.
func (w *world) activateWith(environment string, id release.ID, content journal.DocumentContent,
) journal.Entry {
	w.t.Helper()
	document, err := journal.NewDocument(content, "")
	require.NoError(w.t, err)
	if document.Data != nil {
		w.store.Create(w.t.Context(), document.Digest.Key(), document.Data) //nolint:errcheck // may be there
	}
	j := journal.Journal{Store: w.store, Site: "corvane", Environment: environment, Attempt: rand.Text,
		Now: time.Now}
	move := journal.Move{Release: id, Origin: journal.Origin{Commit: "4be21c7"}, Document: document}
	entry, err := j.Append(w.t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, move, time.Now()))
	require.NoError(w.t, err)
	require.NoError(w.t, w.store.Replace(w.t.Context(), storage.PulseKey("corvane"), []byte(rand.Text())))
	return entry
}

// await waits until the node serves an entry.
func (w *world) await(host string, entry journal.Entry) {
	w.t.Helper()
	require.Eventually(w.t, func() bool {
		response, _ := w.ask("HEAD", host, "/", nil)
		return strings.Contains(response.Header.Get(httpanswer.ReleaseField), "entry="+entry.Label())
	}, 30*time.Second, time.Millisecond, "%s at %s", entry.Label(), host)
}

func (w *world) ask(method, host, path string, header map[string]string) (*http.Response, string) {
	request, err := http.NewRequest(method, w.server.URL+path, nil)
	require.NoError(w.t, err)
	request.Host = host
	for name, value := range header {
		request.Header.Set(name, value)
	}
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(w.t, err)
	body, err := io.ReadAll(response.Body)
	require.NoError(w.t, err)
	response.Body.Close() //nolint:errcheck // read
	return response, string(body)
}

var site = map[string]string{"index.html": "<h1>Corvane</h1>", "fares.html": "42.00",
	"style-3f9a2c1b7e.css": "body{}", "404.html": "no such quay", "film.txt": "0123456789"}

func TestHTTP(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.put(site, release.Settings{})))
	r, body := w.ask("GET", "corvane.localhost:7420", "/", nil)
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, site["index.html"], body)
	assert.Equal(t, "text/html; charset=utf-8", r.Header.Get("Content-Type"))
	assert.Equal(t, "nosniff", r.Header.Get("X-Content-Type-Options"))
	assert.Equal(t, "bytes", r.Header.Get("Accept-Ranges"))
	assert.Contains(t, r.Header.Get(httpanswer.ReleaseField), `;entry=production:1;commit="4be21c7"`)
	etag := r.Header.Get("ETag")
	assert.Regexp(t, `^"[0-9a-f]{32}"$`, etag)

	for name, test := range map[string]struct {
		method, path string
		header       map[string]string
		status       int
		body         string
		want         map[string]string
	}{
		"HEAD has the header of GET": {"HEAD", "/", nil, 200, "", map[string]string{"Content-Length": "16",
			"ETag": etag}},
		"not modified": {"GET", "/", map[string]string{"If-None-Match": `"x", ` + etag}, 304,
			"", map[string]string{"ETag": etag, "Cache-Control": "no-cache", "Content-Length": ""}},
		"modified": {"GET", "/", map[string]string{"If-None-Match": `"x"`}, 200,
			site["index.html"], nil},
		"a failed precondition": {"GET", "/", map[string]string{"If-Match": `"x"`}, 412, "", nil},
		"a range": {"GET", "/film.txt", map[string]string{"Range": "bytes=2-4"}, 206,
			"234", map[string]string{"Content-Range": "bytes 2-4/10"}},
		"the end": {"GET", "/film.txt", map[string]string{"Range": "bytes=-3"}, 206,
			"789", nil},
		"a range out of reach": {"GET", "/film.txt", map[string]string{"Range": "bytes=50-"}, 416, "",
			map[string]string{"Content-Range": "bytes */10"}},
		"a range of what has changed": {"GET", "/film.txt", map[string]string{"Range": "bytes=2-4",
			"If-Range": `"old"`}, 200, "0123456789", nil},
		"missing": {"GET", "/nowhere", nil, 404, "no such quay",
			map[string]string{"Content-Type": "text/html; charset=utf-8", "ETag": ""}},
		"missing has no range": {"GET", "/nowhere", map[string]string{"Range": "bytes=0-1"}, 404,
			"no such quay", nil},
		"missing HEAD": {"HEAD", "/nowhere", nil, 404, "",
			map[string]string{"Content-Length": "12"}},
		"a missing script": {"GET", "/app.js", nil, 404, "There is no such file on this site.\n",
			map[string]string{"Content-Type": "text/plain; charset=utf-8"}},
		"another method": {"DELETE", "/", nil, 405, "Files answer GET, HEAD, OPTIONS.\n",
			map[string]string{"Allow": "GET, HEAD, OPTIONS"}},
		"OPTIONS": {"OPTIONS", "/", nil, 204, "",
			map[string]string{"Allow": "GET, HEAD, OPTIONS"}},
		"an asset": {"GET", "/style-3f9a2c1b7e.css", nil, 200, "body{}",
			map[string]string{"Cache-Control": "public, max-age=31536000, immutable"}},
		"a redirect": {"GET", "/fares/?a=1", nil, 301, "",
			map[string]string{"Location": "/fares?a=1", "Cache-Control": "no-cache"}},
		"dot segments": {"GET", "/%2e%2e/%2e%2e/etc/passwd", nil, 400,
			"The address has a dot segment.\n", nil},
		"a NUL": {"GET", "/%00", nil, 400, "The address has a control character.\n",
			nil},
		"a very long path": {"GET", "/" + strings.Repeat("a", 10_000), nil, 414,
			"The address is too long.\n", nil},
	} {
		t.Run(name, func(t *testing.T) {
			r, body := w.ask(test.method, "corvane.localhost", test.path, test.header)
			assert.Equal(t, test.status, r.StatusCode, name)
			if test.status != 416 {
				assert.Equal(t, test.body, body, name)
			}
			for field, value := range test.want {
				assert.Equal(t, value, r.Header.Get(field), "%s: %s", name, field)
			}
		})
	}
}

func TestHosts(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	id := w.put(site, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id, "https://www.corvane.example/",
		"https://corvane.example/", "https://islands.example/ferries/"))
	w.await("staging.corvane.localhost",
		w.activate("staging", w.put(map[string]string{"index.html": "staging"}, release.Settings{}),
			"https://www.corvane.example/staging/"))
	w.await("winter-times.preview.corvane.localhost", w.activate("preview.winter-times", id))
	for _, test := range []struct {
		host, path string
		status     int
		says       string
	}{
		{"WWW.corvane.example.:8080", "/fares", 200, "42.00"},
		{"corvane.example", "/fares?a=1", 301, "https://www.corvane.example/fares?a=1"},
		{"corvane.example", "/fares/?a=1", 301, "https://www.corvane.example/fares?a=1"}, // one hop
		{"corvane.example", "/staging", 301, "https://www.corvane.example/staging"},
		{"islands.example", "/ferries/fares", 301, "https://www.corvane.example/fares"},
		{"islands.example", "/other", 301, "https://www.corvane.example/other"},
		{"www.corvane.example", "/staging/", 200, "staging"},
		{"www.corvane.example", "/staging", 301, "/staging/"},
		{"www.corvane.example", "/stagings", 404, "no such quay"},
		{"staging.corvane.localhost", "/", 302, "/staging/"},
		{"staging.corvane.localhost", "/staging/", 200, "staging"},
		{"staging.corvane.localhost", "/fares", 404, "begins at /staging/"},
		{"winter-times.preview.corvane.localhost", "/fares", 200, "42.00"},
		{id.String()[:10] + ".release.corvane.localhost", "/fares", 200, "42.00"},
		{id.String()[:4] + ".release.corvane.localhost", "/", 404, "no such release"},
		{"0000000000.release.corvane.localhost", "/", 404, "no such release"},
		{"test.corvane.localhost", "/", 503, "waits for its first deploy"},
		{"velley.localhost", "/", 404, "There is no site velley"},
		{"unknown.example", "/", 421, "no site at unknown.example"},
		{"<script>.localhost", "/", 421, ""},
		{"127.0.0.1:7420", "/", 421, ""},
	} {
		t.Run(test.host, func(t *testing.T) {
			r, body := w.ask("GET", test.host, test.path, nil)
			assert.Equal(t, test.status, r.StatusCode, "%s%s", test.host, test.path)
			assert.Contains(t, body+r.Header.Get("Location"), test.says, "%s%s", test.host, test.path)
			noindex := r.Header.Get("X-Robots-Tag") == "noindex"
			production := strings.HasPrefix(strings.ToLower(test.host), "www.") && !strings.HasPrefix(test.path,
				"/staging") || strings.HasSuffix(test.path, "/stagings")
			if r.StatusCode == http.StatusOK {
				assert.Equal(t, !production, noindex, "%s%s: only production is for search "+
					"engines", test.host,
					test.path)
			}
		})
	}
	w.await("staging.corvane.localhost", w.activate("staging", id, "https://www.corvane.example/"))
	require.Eventually(t, func() bool {
		return strings.Contains(w.troubles(),
			"https://www.corvane.example/ is not served here: it belongs to corvane production")
	}, 30*time.Second, time.Millisecond)
}

// assetOf is a script in a version: most of it is the same in all.
func assetOf(version string) string {
	return varied("asset") + strings.Repeat("asset of "+version+" ", 10_000) + varied("footer")
}

// TestActivationsAreAtomic flips back and forth a hundred times while clients
// ask for a page and then for the assets it names: over HTTP/1.1 and HTTP/2, in each
// coding and by differences, while the best variants are made and sometimes do not fit in
// memory.
func TestActivationsAreAtomic(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Memory: 1 << 20})
	var ids []release.ID
	for _, version := range []string{"a", "b", "c"} {
		asset := assetOf(version)
		name := "app-" + digest.Of([]byte(asset)).String()[:16] + ".js"
		page := fmt.Sprintf("%s /%s %s", version, name, strings.Repeat(version, 50_000))
		files := map[string]string{"index.html": page, name: asset}
		for i := range 4 { // enough for a dictionary of the pages
			files[fmt.Sprintf("%d.html", i)] = fmt.Sprintf("%s %d %s", version, i, varied(version))
		}
		ids = append(ids, w.put(files, release.Settings{}))
	}
	w.await("corvane.localhost", w.activate("production", ids[0]))
	done := make(chan struct{})
	var clients sync.WaitGroup
	var mutex sync.Mutex
	pages := map[string]int{}
	spoken := speak(t, w.node)
	var differences atomic.Int64
	for _, client := range []struct{ way, encoding string }{{"HTTP/1.1", ""}, {"HTTP/1.1", "gzip"},
		{"HTTP/2, as browsers have it", "br"}, {"HTTP/2, as browsers have it", "zstd"},
		{"HTTP/1.1", "dcz"}, {"HTTP/2, as browsers have it", "dcz"}} {
		browser := &returning{}
		ask := func(path string) (*http.Response, string) {
			if client.encoding == "dcz" {
				return browser.over(t, spoken, client.way, path, &differences)
			}
			return spoken.ask(t, client.way, "corvane.localhost", cases.Case{URL: path}, client.encoding)
		}
		clients.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
				}
				response, page := ask("/")
				version, rest, _ := strings.Cut(page, " ")
				name, filler, _ := strings.Cut(rest, " ")
				if response.StatusCode != http.StatusOK || filler != strings.Repeat(version, 50_000) {
					t.Errorf("a page that is not whole: %d, %d bytes", response.StatusCode, len(page))
				}
				response, asset := ask(name)
				if response.StatusCode != http.StatusOK || asset != assetOf(version) {
					t.Errorf("page %s, asset %s: %d, %.20q", version, name, response.StatusCode, asset)
				}
				mutex.Lock()
				pages[version]++
				mutex.Unlock()
			}
		})
	}
	var last journal.Entry
	for i := range 100 {
		last = w.activate("production", ids[(i+1)%3])
		time.Sleep(10 * time.Millisecond)
	}
	w.await("corvane.localhost", last)
	assert.Eventually(t, func() bool { return differences.Load() > 10 }, 30*time.Second, time.Millisecond,
		"whoever comes again is told the difference")
	close(done)
	clients.Wait()
	assert.Len(t, pages, 3, "every version was seen: %v", pages)
	assert.Empty(t, w.troubles())
}

func TestARequestFinishesOnTheReleaseItBeganWith(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Memory: 1 << 20})
	long := strings.Repeat("0123456789abcdef", 3<<20) // 48 MB: more than sockets hold
	first := w.put(map[string]string{"index.html": "1", "film.bin": long}, release.Settings{})
	w.await("corvane.localhost", w.activate("production", first))
	request, err := http.NewRequest(http.MethodGet, w.server.URL+"/film.bin", nil)
	require.NoError(t, err)
	request.Host = "corvane.localhost"
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(t, err)
	defer response.Body.Close() //nolint:errcheck // read
	start := make([]byte, 1000)
	_, err = io.ReadFull(response.Body, start)
	require.NoError(t, err)
	w.await("corvane.localhost",
		w.activate("production", w.put(map[string]string{"index.html": "2", "film.bin": "short"},
			release.Settings{})))
	rest, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Equal(t, digest.Of([]byte(long)), digest.Of(slices.Concat(start, rest)))
}

func TestDamageIsNeverServed(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	long := strings.Repeat("x", release.PartSize+100)
	id := w.put(map[string]string{"index.html": "whole", "fares.html": "42.00", "film.bin": long,
		"404.html": "no such quay"}, release.Settings{})
	flip := func(content string) digest.Digest {
		d := digest.Of([]byte(content))
		path := filepath.Join(w.root, d.Key())
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		data[len(data)/2] ^= 1
		require.NoError(t, os.WriteFile(path, data, 0o644))
		return d
	}
	w.await("corvane.localhost", w.activate("production", id))
	damaged := []digest.Digest{flip("42.00"), flip("no such quay"), flip(strings.Repeat("x", 100))}
	for _, path := range []string{"/fares", "/nowhere"} {
		r, body := w.ask("GET", "corvane.localhost", path, nil)
		assert.Equal(t, 500, r.StatusCode, path)
		assert.NotContains(t, body, "4")
		assert.Equal(t, "no-store", r.Header.Get("Cache-Control"))
		assert.Empty(t, r.Header.Get("ETag"))
	}
	r, err := http.NewRequest(http.MethodGet, w.server.URL+"/film.bin", nil)
	require.NoError(t, err)
	r.Host = "corvane.localhost"
	response, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	body, err := io.ReadAll(response.Body)
	require.Error(t, err, "a part that is damaged ends the connection")
	assert.LessOrEqual(t, len(body), release.PartSize)
	assert.Equal(t, strings.Repeat("x", len(body)), string(body))
	for _, d := range damaged {
		assert.Contains(t, w.troubles(), d.String(), "the log names the object")
	}
	ok, text := w.ask("GET", "corvane.localhost", "/", nil)
	assert.Equal(t, 200, ok.StatusCode)
	assert.Equal(t, "whole", text)
}

func TestAHeadThatCannotBeReadChangesNothing(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: 20 * time.Millisecond})
	id := w.put(site, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id))
	require.NoError(t, w.store.Create(t.Context(), storage.JournalKey("corvane", "production", 2),
		[]byte(`{"torn`)))
	require.Eventually(t, func() bool { return strings.Contains(w.troubles(), "production:2") },
		30*time.Second, 5*time.Millisecond)
	r, body := w.ask("GET", "corvane.localhost", "/fares", nil)
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, "42.00", body)
	assert.Contains(t, r.Header.Get(httpanswer.ReleaseField), "production:1")

	// A release of later semantics: the node refuses to flip, and says so.
	root := []byte(`{"bytes":0,"chunks":[],"files":0,"format":1,"semantics":4}`)
	later := release.ID(digest.Of(root))
	require.NoError(t, w.store.Create(t.Context(), storage.ReleaseKey("corvane", later.String()), root))
	w.activate("staging", later)
	require.Eventually(t, func() bool { return strings.Contains(w.troubles(), "semantics 4") }, 30*time.Second,
		5*time.Millisecond)
}

func TestAnAssetOfANewerEntryIsLookedFor(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: time.Hour, Poll: time.Hour})
	w.await("corvane.localhost", w.activate("production", w.put(site, release.Settings{})))
	// Another node has flipped already; this one has not
	// heard of it, since the hint was lost.
	id := w.put(map[string]string{"index.html": "new", "app-0a1b2c3d4e.js": "new asset"}, release.Settings{})
	j := journal.Journal{Store: w.store, Site: "corvane", Environment: "production", Attempt: rand.Text,
		Now: time.Now}
	_, err := j.Append(t.Context(), journal.Entry{},
		journal.Activate(journal.Deploy, journal.Move{Release: id}, time.Now()))
	require.NoError(t, err)
	var browsers sync.WaitGroup
	for range 20 { // a browser asks for many at once; none of them may be turned away
		browsers.Go(func() {
			r, body := w.ask("GET", "corvane.localhost", "/app-0a1b2c3d4e.js", nil)
			assert.Equal(t, 200, r.StatusCode)
			assert.Equal(t, "new asset", body)
		})
	}
	browsers.Wait()
	started := time.Now()
	for range 3 {
		r, _ := w.ask("GET", "corvane.localhost", "/app-ffffffff00.js", nil)
		assert.Equal(t, 404, r.StatusCode)
	}
	assert.Less(t, time.Since(started), 5*time.Second)
}

func TestAssetsOfEarlierReleasesAreKeptForAsLongAsSaid(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	none := int64(0)
	with := map[string]string{"index.html": "1", "app-0a1b2c3d4e.js": "old asset"}
	w.await("corvane.localhost", w.activate("production", w.put(with, release.Settings{})))
	w.await("corvane.localhost",
		w.activate("production", w.put(map[string]string{"index.html": "2"}, release.Settings{})))
	r, body := w.ask("GET", "corvane.localhost", "/app-0a1b2c3d4e.js", nil)
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, "old asset", body)
	w.await("corvane.localhost",
		w.activate("production", w.put(map[string]string{"index.html": "3"},
			release.Settings{KeepAssets: &none})))
	r, _ = w.ask("GET", "corvane.localhost", "/app-0a1b2c3d4e.js", nil)
	assert.Equal(t, 404, r.StatusCode)
}

func TestLocalServingAnswersAsTheEdgeDoes(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.put(site, release.Settings{})))
	folder := t.TempDir()
	show := func(local *devserver.Local, files map[string]string) {
		next := devserver.Shown{Sources: map[string]string{}}
		for name, text := range files {
			next.Sources[name] = filepath.Join(folder, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(next.Sources[name]), 0o755))
			require.NoError(t, os.WriteFile(next.Sources[name], []byte(text), 0o644))
			next.Files = append(next.Files, release.File{Path: name, Digest: digest.Of([]byte(text)),
				Size: int64(len(text)), Type: media.Type(name, true)})
		}
		local.Show(next)
	}
	local := devserver.NewLocal(devserver.LocalOptions{Environment: "production"})
	show(local, site)
	server := httptest.NewServer(local)
	defer server.Close()
	edgeServer := w.server
	for _, path := range []string{"/", "/fares", "/fares/", "/fares.html", "/nowhere", "/app.js", "/404",
		"/style-3f9a2c1b7e.css", "/%00", "//fares", "/film.txt"} {
		for _, method := range []string{"GET", "HEAD", "POST", "OPTIONS"} {
			a, bodyA := w.ask(method, "corvane.localhost", path, nil)
			w.server = server
			b, bodyB := w.ask(method, "localhost", path, nil)
			w.server = edgeServer
			for _, header := range []http.Header{a.Header, b.Header} {
				header.Del("Date")
				header.Del(httpanswer.ReleaseField)
			}
			assert.Equal(t, a.StatusCode, b.StatusCode, "%s %s", method, path)
			assert.Equal(t, a.Header, b.Header, "%s %s", method, path)
			assert.Equal(t, bodyA, bodyB, "%s %s", method, path)
		}
	}

	// With reloading, a page says which state it was made from, and an open page
	// hears of each other one.
	reloading := devserver.NewLocal(devserver.LocalOptions{Environment: "production", Reload: true})
	again := httptest.NewServer(reloading)
	defer again.Close()
	w.server = again
	madeFrom := func(path string) string {
		_, page := w.ask("GET", "localhost", path, nil)
		_, rest, found := strings.Cut(page, `<script src="/.orilla/reload.js" data-at="`)
		require.True(t, found, page)
		at, _, _ := strings.Cut(rest, `" defer></script>`)
		return at
	}
	r, _ := w.ask("GET", "localhost", "/", nil)
	assert.Equal(t, 503, r.StatusCode)
	waiting := madeFrom("/")
	stream, err := http.Get(again.URL + "/.orilla/changes")
	require.NoError(t, err)
	defer stream.Body.Close() //nolint:errcheck // ended
	events := bufio.NewReader(stream.Body)
	hears := func(at string, notes ...string) {
		var said struct {
			At    string
			Notes []devserver.Note
		}
		for {
			line, err := events.ReadString('\n')
			require.NoError(t, err)
			if data, found := strings.CutPrefix(line, "data: "); found {
				require.NoError(t, json.Unmarshal([]byte(data), &said))
				break
			}
		}
		var texts []string
		for _, note := range said.Notes {
			texts = append(texts, note.Text)
		}
		assert.Equal(t, at, said.At)
		assert.Equal(t, notes, texts)
	}
	hears(waiting)
	show(reloading, site)
	first := madeFrom("/")
	assert.NotEqual(t, waiting, first)
	hears(first)
	// What failed is shown until the same is well again, whatever else changes.
	reloading.Note(devserver.Note{About: devserver.OfBuild, Text: "step 1 ended with status 2"})
	hears(first, "step 1 ended with status 2")
	changed := maps.Clone(site)
	changed["fares.html"] = "43.00"
	show(reloading, changed)
	second := madeFrom("/fares")
	hears(second, "step 1 ended with status 2")
	reloading.Note(devserver.Note{About: devserver.OfRules, Text: "no rule"})
	hears(second, "step 1 ended with status 2", "no rule")
	reloading.Note(devserver.Note{About: devserver.OfBuild})
	hears(second, "no rule")
	_, page := w.ask("GET", "localhost", "/fares", nil)
	assert.Contains(t, page, "43.00")
	w.server = edgeServer
}

func TestIdleNodesSayThatTheyAreThere(t *testing.T) {
	t.Parallel()
	store, err := file.Make(t.TempDir())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	var owner sync.WaitGroup
	owner.Go(func() {
		edge.New(store, edge.Options{}).Announce(ctx, edge.Presence{Node: "quay-7420", Address: "10.1.2.3:7420"})
	})
	require.Eventually(t, func() bool {
		nodes, err := edge.Nodes(t.Context(), store, 0)
		return err == nil &&
			len(nodes) == 1
	}, 30*time.Second, time.Millisecond)
	cancel()
	owner.Wait()
	nodes, err := edge.Nodes(t.Context(), store, 0)
	require.NoError(t, err)
	assert.Empty(t, nodes)
}

// TestANodeOfAnotherMachinesOwnIsNotAsked: its loopback
// address means something else here.
func TestANodeOfAnotherMachinesOwnIsNotAsked(t *testing.T) {
	t.Parallel()
	here := edge.NodeName("7420")
	for _, test := range []struct {
		node, address string
		asked         bool
	}{
		{here, "127.0.0.1:7420", true}, {here, "[::1]:7420", true}, {"elsewhere-7420", "127.0.0.1:7420",
			false}, {"elsewhere-7420", "[::1]:7420", false},
		{"elsewhere-7420", "localhost:7420", false}, {"elsewhere-7420", "10.1.2.3:7420", true},
		{"elsewhere-7420", "pier.corvane.test:7420", true}, {"elsewhere-7420", "nonsense", false},
	} {
		t.Run(test.node, func(t *testing.T) {
			assert.Equal(t, test.asked, edge.Presence{Node: test.node, Address: test.address}.FromHere(),
				"%s at %s", test.node, test.address)
		})
	}
	all := &net.TCPAddr{IP: net.IPv4zero, Port: 7420}
	announced := edge.Announced(all)
	host, port, err := net.SplitHostPort(announced)
	require.NoError(t, err)
	assert.Equal(t, "7420", port)
	assert.False(t, net.ParseIP(host).IsUnspecified(), announced)
	assert.Equal(t, "10.1.2.3:7420", edge.Announced(&net.TCPAddr{IP: net.IPv4(10, 1, 2, 3), Port: 7420}))
}

// TestASiteThatIsRemovedGoesDarkAndComesBackAnew removes a site and makes
// another under its name, whose journal begins at 1 again.
func TestASiteThatIsRemovedGoesDarkAndComesBackAnew(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: 100 * time.Millisecond})
	old := w.put(site, release.Settings{})
	w.await("corvane.localhost", w.activate("production", old))
	w.activate("production", w.put(map[string]string{"index.html": "second"}, release.Settings{}))
	address := old.String()[:10] + ".release.corvane.localhost"
	r, _ := w.ask("GET", address, "/fares", nil)
	require.Equal(t, 200, r.StatusCode)
	_, err := maintenance.RemoveSite(t.Context(), w.store, "corvane", "x", false, func([]pins.Waiting) {},
		func(string, int64, int64) {})
	require.NoError(t, err)
	for _, host := range []string{"corvane.localhost", address} {
		require.Eventually(t, func() bool {
			r,
				_ := w.ask("GET", host, "/fares", nil)
			return r.StatusCode != http.StatusOK
		}, 30*time.Second,
			5*time.Millisecond, host)
	}
	w.claim()
	w.activate("production", w.put(map[string]string{"index.html": "another site"}, release.Settings{}))
	entry := w.activate("production", w.put(map[string]string{"index.html": "another site's second"},
		release.Settings{}))
	assert.EqualValues(t, 2, entry.Number)
	require.Eventually(t, func() bool {
		_, body := w.ask("GET", "corvane.localhost", "/", nil)
		return body == "another site's second"
	}, 30*time.Second, 5*time.Millisecond)
}

// TestASiteThatIsRemovedAndKeepsItsNameComesBack: its
// folders stay, so that nodes go on looking there.
func TestASiteThatIsRemovedAndKeepsItsNameComesBack(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: 20 * time.Millisecond})
	for _, text := range []string{"first", "second"} {
		w.await("corvane.localhost",
			w.activate("production", w.put(map[string]string{"index.html": text}, release.Settings{})))
	}
	_, err := maintenance.RemoveSite(t.Context(), w.store, "corvane", "x", true, func([]pins.Waiting) {},
		func(string, int64, int64) {})
	require.NoError(t, err)
	w.sweeps() // that find journals without entries
	w.activate("production", w.put(map[string]string{"index.html": "anew"}, release.Settings{}))
	require.Eventually(t, func() bool {
		_, body := w.ask("GET", "corvane.localhost", "/",
			nil)
		return body == "anew"
	}, 30*time.Second, 5*time.Millisecond)
}
