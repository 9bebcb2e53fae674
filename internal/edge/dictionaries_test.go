package edge_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer/cases"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/store/file"
)

// returning is a browser that comes again: it keeps what says that it may become a
// dictionary, and offers it (RFC 9842).
type returning struct {
	kept []keptDictionary
}

type keptDictionary struct {
	match, id string
	page      bool
	data      []byte
}

var useAs = regexp.MustCompile(`^match="([^"]*)"(, match-dest=\("document" ""\))?, id="([^"]*)"$`)

// keep keeps an answer, if it says so.
func (b *returning) keep(r *http.Response, body string) {
	if parts := useAs.FindStringSubmatch(r.Header.Get("Use-As-Dictionary")); parts != nil {
		b.kept = append(b.kept, keptDictionary{parts[1], parts[3], parts[2] != "", []byte(body)})
	}
}

// offer returns the fields that are sent for a path, and the dictionary; the last that was
// kept comes first.
func (b *returning) offer(at string) (map[string]string, []byte) {
	for i := len(b.kept) - 1; i >= 0; i-- {
		kept := b.kept[i]
		matches, err := path.Match(kept.match, at)
		// Nobody asks for what they have.
		_, mark, _ := strings.Cut(kept.id, "/")
		if err == nil && (kept.page || !strings.Contains(at, mark)) && (matches || kept.page && strings.HasPrefix(at, strings.TrimSuffix(kept.match, "*"))) {
			return offering(kept.data, kept.id), kept.data
		}
	}
	return map[string]string{"Accept-Encoding": "gzip, deflate, br, zstd"}, nil
}

// offering are the fields that offer a dictionary.
func offering(data []byte, id string) map[string]string {
	sum := digest.Of(data)
	return map[string]string{"Accept-Encoding": "gzip, deflate, br, zstd, dcb, dcz", "Dictionary-ID": `"` + id + `"`,
		"Available-Dictionary": ":" + base64.StdEncoding.EncodeToString(sum[:]) + ":"}
}

// undo undoes dcz.
func undo(t testing.TB, body string, dictionary []byte) string {
	t.Helper()
	sum := digest.Of(dictionary)
	frame, ok := strings.CutPrefix(body, "\x5e\x2a\x4d\x18\x20\x00\x00\x00"+string(sum[:]))
	require.True(t, ok, "the stream names the dictionary that was offered")
	d, err := zstd.NewReader(nil, zstd.WithDecoderDictRaw(0, dictionary))
	require.NoError(t, err)
	defer d.Close()
	data, err := d.DecodeAll([]byte(frame), nil)
	require.NoError(t, err)
	return string(data)
}

// visit asks as the browser does; length is what came over the wire.
func (b *returning) visit(w *world, server *httptest.Server, at string) (r *http.Response, body string, length int) {
	header, has := b.offer(at)
	r, body = w.from(server, at, header)
	length = len(body)
	if r.Header.Get("Content-Encoding") == "dcz" {
		body = undo(w.t, body, has)
	} else {
		body = decoded(w.t.(*testing.T), r, body)
	}
	b.keep(r, body)
	return r, body, length
}

// over asks as the browser does, in one of the ways; dictionaries of pages are fetched when
// a page names one.
func (b *returning) over(t *testing.T, s *spoken, way, at string, differences *atomic.Int64) (*http.Response, string) {
	t.Helper()
	header, has := b.offer(at)
	r, body := s.askWith(t, way, "corvane.localhost", cases.Case{URL: at}, header)
	if r.Header.Get("Content-Encoding") == "dcz" {
		body = undo(t, body, has)
		differences.Add(1)
	}
	b.keep(r, body)
	b.kept = b.kept[max(0, len(b.kept)-8):]
	if parts := linked.FindStringSubmatch(r.Header.Get("Link")); parts != nil {
		r, body := s.askWith(t, way, "corvane.localhost", cases.Case{URL: parts[1]}, map[string]string{"Accept-Encoding": "br"})
		b.keep(r, body)
	}
	return r, body
}

// bundle is a script as build tools make them, with one component in several versions.
func bundle(version string) (name, text string) {
	text = varied("app") + "export const fares = '" + version + "';\n" + varied("footer")
	return "assets/app-" + digest.Of([]byte(text)).String()[:16] + ".js", text
}

// mark is the digest in the name of a bundle.
func mark(name string) string {
	return strings.TrimSuffix(strings.TrimPrefix(name, "assets/app-"), ".js")
}

// pagesWith are pages with a script, and what all of them have in common.
func pagesWith(script, word string) map[string]string {
	files := map[string]string{}
	for i := range 20 {
		files[fmt.Sprintf("guide/%d.html", i)] = fmt.Sprintf("<!doctype html><script src=/%s></script><nav>%s</nav><main>"+
			"<h1>Quay %d</h1><p>%s only %x</p></main><footer>%s</footer>", script, boilerplate("link"), i, word, i*i*7919,
			boilerplate("imprint"))
	}
	files["index.html"] = files["guide/0.html"]
	return files
}

// boilerplate is what stands on each page.
func boilerplate(kind string) string {
	var text strings.Builder
	for i := range 100 {
		fmt.Fprintf(&text, "<a class=%s href=/%s/%d-%x>%s %d</a>\n", kind, kind, i, i*i*104729, kind, i*37)
	}
	return text.String()
}

// TestWhoeverComesAgainGetsTheDifference over several deploys, at this node and another.
func TestWhoeverComesAgainGetsTheDifference(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	browser, first := &returning{}, 0
	for i, version := range []string{"1", "2", "3"} {
		name, text := bundle(version)
		w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": name, name: text}, release.Settings{})))
		server := w.server
		if i == 2 {
			server = w.node2(w.store, edge.Options{})
		}
		r, body, length := browser.visit(w, server, "/"+name)
		require.Equal(t, text, body)
		require.Equal(t, "Accept-Encoding, Available-Dictionary", r.Header.Get("Vary"))
		require.Contains(t, r.Header.Get("Cache-Control"), "immutable")
		if i == 0 {
			first = length
			continue
		}
		assert.Equal(t, "dcz", r.Header.Get("Content-Encoding"))
		assert.Less(t, length, first/20, "%d bytes at first, %d now", first, length)

		// Conditions and HEAD mean the bytes as they are sent; of half of them nothing is made.
		header, _ := (&returning{kept: browser.kept[:len(browser.kept)-1]}).offer("/" + name)
		header["If-None-Match"] = r.Header.Get("ETag")
		again, _ := w.from(server, "/"+name, header)
		assert.Equal(t, http.StatusNotModified, again.StatusCode)
		assert.Equal(t, r.Header.Get("Vary"), again.Header.Get("Vary"))
		delete(header, "Available-Dictionary")
		again, _ = w.from(server, "/"+name, header)
		assert.Equal(t, http.StatusOK, again.StatusCode, "without the dictionary nobody can read what a cache may have")
		header, _ = (&returning{kept: browser.kept[:len(browser.kept)-1]}).offer("/" + name)
		header["Range"] = "bytes=0-9"
		again, _ = w.from(server, "/"+name, header)
		assert.NotEqual(t, "dcz", again.Header.Get("Content-Encoding"))
	}
	assert.Empty(t, w.troubles())
}

// TestWhatIsOfferedIsOnlyBelievedIfItIsKnown: offers are strangers' texts.
func TestWhatIsOfferedIsOnlyBelievedIfItIsKnown(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	name, text := bundle("1")
	secret, hidden := bundle("not yet public")
	id := w.put(map[string]string{"index.html": "1", name: text}, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id))
	w.await("staging.corvane.localhost", w.activate("staging", w.put(map[string]string{"index.html": "s", secret: hidden}, release.Settings{})))
	next, changed := bundle("2")
	style := varied("style")
	live := w.put(map[string]string{"index.html": "2", next: changed, "assets/app-0123456789abcdef.css": style}, release.Settings{})
	w.await("corvane.localhost", w.activate("production", live))

	good := offering([]byte(text), id.Short()+"/"+mark(name))
	r, body := w.from(w.server, "/"+next, good)
	require.Equal(t, "dcz", r.Header.Get("Content-Encoding"))
	require.Equal(t, changed, undo(t, body, []byte(text)))

	with := func(field, value string) map[string]string {
		header := offering([]byte(text), id.Short()+"/"+mark(name))
		header[field] = value
		return header
	}
	sum := good["Available-Dictionary"]
	for about, header := range map[string]map[string]string{
		"no digest":            with("Available-Dictionary", "::"),
		"a short one":          with("Available-Dictionary", ":"+sum[5:]),
		"two":                  with("Available-Dictionary", sum+", "+sum),
		"with parameters":      with("Available-Dictionary", sum+";a=1"),
		"bits that are unused": with("Available-Dictionary", sum[:43]+"b=:"),
		"another digest":       offering([]byte("other"), id.Short()+"/"+mark(name)),
		"no id":                with("Dictionary-ID", ""),
		"no string":            with("Dictionary-ID", id.Short()+"/"+mark(name)),
		"a long id":            with("Dictionary-ID", `"`+id.Short()+"/"+strings.Repeat("a", 2000)+`"`),
		"dots":                 with("Dictionary-ID", `"`+id.Short()+"/../"+mark(name)+`"`),
		"another name":         with("Dictionary-ID", `"`+id.Short()+`/0123456789abcdef"`),
		"another kind":         offering([]byte(style), live.Short()+"/0123456789abcdef"),
		"another release":      with("Dictionary-ID", `"r-0000000000/0`+mark(name)[1:]+`"`),
		"of staging":           offering([]byte(hidden), id.Short()+"/"+mark(secret)),
		"itself":               offering([]byte(changed), live.Short()+"/"+mark(next)),
		"not accepted":         with("Accept-Encoding", "gzip, br, dcz;q=0"),
		"by a star":            with("Accept-Encoding", "*"),
	} {
		for range 2 { // the second time the library has looked
			r, body := w.from(w.server, "/"+next, header)
			assert.NotEqual(t, "dcz", r.Header.Get("Content-Encoding"), about)
			assert.Equal(t, changed, decoded(t, r, body), about)
			time.Sleep(20 * time.Millisecond)
		}
	}
	assert.Empty(t, w.troubles())
}

// TestOlderReleasesAreFoundByTheId, though nothing of them is answered any more.
func TestOlderReleasesAreFoundByTheId(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	browser, guarded := &returning{}, &returning{}
	nothing := int64(0)
	settings := release.Settings{KeepAssets: &nothing}
	deploy := func(version string) string {
		name, text := bundle(version)
		w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": name, name: text}, settings)))
		return "/" + name
	}
	browser.visit(w, w.server, deploy("1"))

	// The next one is behind a password until the one after it is there.
	entry := w.decide("production", looking(&journal.Looking{Password: password(t)}))
	name, text := bundle("2")
	w.activate("production", w.put(map[string]string{"index.html": name, name: text}, settings))
	require.Eventually(t, func() bool {
		request, err := http.NewRequest(http.MethodGet, w.server.URL+"/"+name, nil)
		require.NoError(t, err)
		request.Host = "corvane.localhost"
		request.SetBasicAuth("corvane", "kittiwake")
		request.Header.Set("Accept-Encoding", "br")
		r, err := http.DefaultTransport.RoundTrip(request)
		require.NoError(t, err)
		defer r.Body.Close() //nolint:errcheck // read
		assert.Empty(t, r.Header.Get("Use-As-Dictionary"))
		assert.NotContains(t, r.Header.Get("Vary"), "Dictionary")
		return r.StatusCode == http.StatusOK
	}, 30*time.Second, 10*time.Millisecond)
	guarded.kept = []keptDictionary{{"/assets/app-*.js", w.releaseOf(entry.Number+1) + "/" + mark(name), false, []byte(text)}}
	next, changed := bundle("3")
	w.activate("production", w.put(map[string]string{"index.html": next, next: changed}, settings))
	at := "/" + next
	w.await("corvane.localhost", w.decide("production", looking(&journal.Looking{})))
	for about, b := range map[string]*returning{"open": browser, "was guarded": guarded} {
		kept := b.kept
		asked := func() string {
			b.kept = kept
			r, _, _ := b.visit(w, w.server, at)
			return r.Header.Get("Content-Encoding")
		}
		if about == "open" {
			assert.NotEqual(t, "dcz", asked(), "nobody waits for the library")
			assert.Eventually(t, func() bool { return asked() == "dcz" }, 30*time.Second, 10*time.Millisecond)
			continue
		}
		for range 20 { // long enough for the library to have looked
			assert.NotEqual(t, "dcz", asked())
			time.Sleep(50 * time.Millisecond)
		}
	}
}

// TestWhatWasLiveBehindAPasswordIsNoDictionary, also while what its pages load is still
// answered.
func TestWhatWasLiveBehindAPasswordIsNoDictionary(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.decide("production", looking(&journal.Looking{Password: password(t)}))
	name, text := bundle("secret")
	id := w.put(map[string]string{"index.html": "1", name: text}, release.Settings{})
	w.activate("production", id)
	next, changed := bundle("public")
	w.activate("production", w.put(map[string]string{"index.html": "2", next: changed}, release.Settings{}))
	w.await("corvane.localhost", w.decide("production", looking(&journal.Looking{})))
	for _, server := range []*httptest.Server{w.server, w.node2(w.store, edge.Options{})} {
		for range 10 {
			r, body := w.from(server, "/"+next, offering([]byte(text), id.Short()+"/"+mark(name)))
			assert.NotEqual(t, "dcz", r.Header.Get("Content-Encoding"))
			assert.Equal(t, changed, decoded(t, r, body))
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// TestAStrangerWhoOffersEverythingCostsTheStoreLittle: what is looked for is bounded.
func TestAStrangerWhoOffersEverythingCostsTheStoreLittle(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	name, text := bundle("1")
	var ids []release.ID
	for i := range 12 { // more releases than are looked through while a visitor waits
		ids = append(ids, w.put(map[string]string{"index.html": fmt.Sprint(i), name: text}, release.Settings{}))
		w.activate("production", ids[i])
	}
	store := &unsteady{Store: w.store.(*file.Store)}
	server := w.node2(store, edge.Options{Poll: time.Minute, Sweep: time.Minute})
	w.from(server, "/"+name, map[string]string{"Accept-Encoding": "br"})
	time.Sleep(100 * time.Millisecond)
	before := store.requests.Load()
	for i := range 1000 {
		guess := digest.Of([]byte(fmt.Sprint("guess", i)))
		r, body := w.from(server, "/"+name, offering([]byte(fmt.Sprint(i)), ids[i%12].Short()+"/"+guess.String()[:16]))
		require.Equal(t, "br", r.Header.Get("Content-Encoding"))
		require.Equal(t, text, decoded(t, r, body))
	}
	assert.Less(t, store.requests.Load()-before, int64(200), "a fifth of a request for each, at most")
}

// releaseOf returns the release of an entry of production.
func (w *world) releaseOf(number int64) string {
	j := journal.Journal{Store: w.store, Site: "corvane", Environment: "production", Now: time.Now}
	entry, err := j.Get(w.t.Context(), number)
	require.NoError(w.t, err)
	return entry.Release.Short()
}

var linked = regexp.MustCompile(`^<(/\.orilla/dictionary/[0-9a-f]{32})>; rel="compression-dictionary"$`)

// TestPagesHaveADictionaryOfWhatTheyShare, and it holds nothing that rules keep away.
func TestPagesHaveADictionaryOfWhatTheyShare(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	files := pagesWith("a.js", "unique")
	for i := range 20 {
		files[fmt.Sprintf("drafts/%d.html", i)] = "<p>secret " + boilerplate("secret") + "</p>"
	}
	id := w.putRuled(files, program(t, "gone /drafts/{rest:all}\n").Rules, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id))
	browser := &returning{}
	var at string
	require.Eventually(t, func() bool {
		r, body, _ := browser.visit(w, w.server, "/guide/1")
		require.Equal(t, files["guide/1.html"], body)
		require.Equal(t, "no-cache", r.Header.Get("Cache-Control"))
		require.Empty(t, r.Header.Get("Use-As-Dictionary"), "what is asked for each time can be no dictionary")
		if parts := linked.FindStringSubmatch(r.Header.Get("Link")); parts != nil {
			at = parts[1]
		}
		return at != ""
	}, 30*time.Second, 10*time.Millisecond)

	r, common, length := browser.visit(w, w.server, at)
	require.Equal(t, http.StatusOK, r.StatusCode)
	assert.Equal(t, "br", r.Header.Get("Content-Encoding"))
	assert.Contains(t, r.Header.Get("Cache-Control"), "immutable")
	assert.Equal(t, "noindex", r.Header.Get("X-Robots-Tag"))
	assert.Equal(t, `match="/*", match-dest=("document" ""), id="`+id.Short()+`"`, r.Header.Get("Use-As-Dictionary"))
	assert.Contains(t, common, boilerplate("imprint")[:500])
	assert.NotContains(t, common, "secret")
	assert.NotContains(t, common, "only")
	assert.Less(t, len(common), 2*len(files["guide/1.html"]))
	assert.Less(t, length, 4000)

	r, body, length := browser.visit(w, w.server, "/guide/2")
	require.Equal(t, files["guide/2.html"], body)
	assert.Equal(t, "dcz", r.Header.Get("Content-Encoding"))
	assert.Less(t, length, 250)
	gone, _ := w.ask("GET", "corvane.localhost", "/.orilla/dictionary/"+strings.Repeat("0", 32), nil)
	assert.Equal(t, http.StatusNotFound, gone.StatusCode)

	// After the next deploy the dictionary of the last one still counts, also at a node that
	// has not seen it.
	for path, text := range pagesWith("b.js", "unique") {
		files[path] = text
	}
	w.await("corvane.localhost", w.activate("production", w.putRuled(files, program(t, "gone /drafts/{rest:all}\n").Rules, release.Settings{})))
	var next string
	for _, server := range []*httptest.Server{w.server, w.node2(w.store, edge.Options{})} {
		require.Eventually(t, func() bool {
			kept := browser.kept
			r, body, length := browser.visit(w, server, "/guide/3")
			browser.kept = kept
			require.Equal(t, files["guide/3.html"], body)
			if parts := linked.FindStringSubmatch(r.Header.Get("Link")); parts != nil {
				next = parts[1]
			}
			return r.Header.Get("Content-Encoding") == "dcz" && length < 250 && next != ""
		}, 30*time.Second, 10*time.Millisecond)
	}
	require.NotEqual(t, at, next)
	_, _, length = browser.visit(w, w.server, next)
	assert.Less(t, length, 150, "the next dictionary is told by the last")

	// Behind a password there is nothing of it.
	entry := w.decide("production", looking(&journal.Looking{Password: password(t)}))
	require.Eventually(t, func() bool {
		r, _ := w.ask("GET", "corvane.localhost", at, nil)
		return r.StatusCode == http.StatusUnauthorized
	}, 30*time.Second, 10*time.Millisecond, entry.Label())
	assert.Empty(t, w.troubles())
}

// TestTheDictionaryOfPagesIsTheSameEverywhere: nodes do not talk to each other.
func TestTheDictionaryOfPagesIsTheSameEverywhere(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.put(pagesWith("a.js", "x"), release.Settings{})))
	var links []string
	for _, server := range []*httptest.Server{w.server, w.node2(w.store, edge.Options{}), w.node2(w.store, edge.Options{})} {
		require.Eventually(t, func() bool {
			r, _ := w.from(server, "/guide/4", map[string]string{"Accept-Encoding": "br"})
			if link := r.Header.Get("Link"); link != "" {
				links = append(links, link)
				return true
			}
			return false
		}, 30*time.Second, 10*time.Millisecond)
	}
	assert.Equal(t, []string{links[0], links[0], links[0]}, links)
	data := bytes.Clone([]byte(links[0]))
	assert.Regexp(t, linked, string(data))
}

// without is a store that does not hold one object any more, or does not answer for it.
type without struct {
	*file.Store
	key   string
	hangs bool
}

// Get implements storage.Store.
func (s *without) Get(ctx context.Context, key string) ([]byte, error) {
	if key != s.key {
		return s.Store.Get(ctx, key)
	}
	if s.hangs {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return []byte("what is here is something else"), nil
}

// TestADictionaryThatCannotBeReadCostsNobodyAnything: the visitor gets the file.
func TestADictionaryThatCannotBeReadCostsNobodyAnything(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	name, text := bundle("1")
	id := w.put(map[string]string{"index.html": "1", name: text}, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id))
	next, changed := bundle("2")
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "2", next: changed}, release.Settings{})))
	for about, hangs := range map[string]bool{"damaged": false, "hanging": true} {
		store := &without{w.store.(*file.Store), digest.Of([]byte(text)).Key(), hangs}
		server := w.node2(store, edge.Options{})
		for range 3 {
			began := time.Now()
			r, body := w.from(server, "/"+next, offering([]byte(text), id.Short()+"/"+mark(name)))
			assert.Equal(t, "br", r.Header.Get("Content-Encoding"), about)
			assert.Equal(t, changed, decoded(t, r, body), about)
			assert.Less(t, time.Since(began), 4*time.Second, "less than what visitors wait for content")
		}
	}
	assert.Empty(t, w.troubles())
}
