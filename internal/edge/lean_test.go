package edge_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
)

// sink is a visitor who keeps nothing.
type sink struct {
	header http.Header
	status int
	bytes  int
}

func (s *sink) Header() http.Header { return s.header }

func (s *sink) WriteHeader(status int) { s.status = status }

func (s *sink) Write(data []byte) (int, error) {
	s.bytes += len(data)
	return len(data), nil
}

// BenchmarkAnswer is what an answer costs besides HTTP itself.
func BenchmarkAnswer(b *testing.B) {
	w := start(b, edge.Options{})
	page := "<!doctype html>" + strings.Repeat("<p>Sula to Velley", 200)
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": page}, release.Settings{})))
	request, err := http.NewRequest(http.MethodGet, "http://corvane.localhost/", nil)
	require.NoError(b, err)
	request.RemoteAddr = "127.0.0.1:4711"
	request.Header.Set("Accept-Encoding", "gzip, deflate, br, zstd")
	request.Header.Set("Accept", "text/html,*/*;q=0.8")
	request.Header.Set("User-Agent", "Mozilla/5.0 (X11; Linux x86_64)")
	b.ReportAllocs()
	for b.Loop() {
		s := &sink{header: http.Header{}}
		w.node.ServeHTTP(s, request)
		if s.status != 200 && s.status != 0 || s.bytes == 0 {
			b.Fatal(s.status)
		}
	}
}

// TestReadyAnswersCountAsLongAsNothingChanged: the second who asks gets what was made for
// the first, and never what a flip, a rule, or somebody else's request would make otherwise.
func TestReadyAnswersCountAsLongAsNothingChanged(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Best: func(_ context.Context, c coding.Coding, content []byte) ([]byte, error) {
		return coding.Encode(c, coding.Fast, content) // the same bytes before and after
	}})
	rules := program(t, "header /cookie.css when cookie beta  x-flash: beta\n"+
		"redirect /moved.css -> /a.css when query x=1\n").Rules
	pages := func(name string) map[string]string {
		files := map[string]string{"404.html": long("missing " + name)}
		for _, path := range []string{"index.html", "a.css", "cookie.css", "moved.css"} {
			files[path] = long(path + " of " + name)
		}
		return files
	}
	first := w.putRuled(pages("one"), rules, release.Settings{})
	second := w.putRuled(pages("two"), rules, release.Settings{})
	address := "https://www.corvane.example/"
	w.await("www.corvane.example", w.activate("production", first, address))

	ask := func(method, host, path string, header map[string]string) (string, http.Header) {
		if header == nil {
			header = map[string]string{}
		}
		header["Accept-Encoding"] = "gzip"
		r, body := w.ask(method, host, path, header)
		r.Header.Del("Date")
		return decoded(t, r, body), r.Header
	}
	for turn, name := range []string{"one", "two", "one"} {
		if turn > 0 {
			id := map[string]release.ID{"one": first, "two": second}[name]
			w.await("www.corvane.example", w.activate("production", id, address))
		}
		for _, host := range []string{"www.corvane.example", "corvane.localhost", "WWW.corvane.example:8080"} {
			var before http.Header
			for again := range 3 {
				body, header := ask("GET", host, "/a.css", nil)
				assert.Equal(t, long("a.css of "+name), body, "%s, time %d", host, again)
				if before != nil {
					assert.Equal(t, before, header, host)
				}
				before = header
			}
			body, header := ask("HEAD", host, "/a.css", nil)
			assert.Empty(t, body)
			assert.Equal(t, before, header, "%s HEAD", host)
		}
		for range 2 {
			_, header := ask("GET", "www.corvane.example", "/cookie.css", map[string]string{"Cookie": "beta=1"})
			assert.Equal(t, "beta", header.Get("X-Flash"))
			_, header = ask("GET", "www.corvane.example", "/cookie.css", nil)
			assert.Empty(t, header.Get("X-Flash"), "somebody else has no such cookie")
			body, _ := ask("GET", "www.corvane.example", "/moved.css", nil)
			assert.Equal(t, long("moved.css of "+name), body)
			r, _ := w.ask("GET", "www.corvane.example", "/moved.css?x=1", nil)
			assert.Equal(t, 301, r.StatusCode)
			r, _ = w.ask("GET", "www.corvane.example", "/a.css", map[string]string{"Range": "bytes=0-3"})
			assert.Equal(t, 206, r.StatusCode)
			r, _ = w.ask("GET", "www.corvane.example", "/nowhere.css", nil)
			assert.Equal(t, 404, r.StatusCode)
		}
	}

	// A password closes what was ready, at once.
	w.await("www.corvane.example", w.decide("production", looking(&journal.Looking{Password: password(t)})))
	r, body := w.ask("GET", "www.corvane.example", "/a.css", nil)
	assert.Equal(t, 401, r.StatusCode)
	assert.NotContains(t, body, "a.css of")
	for range 2 {
		r, _ = w.ask("GET", "www.corvane.example", "/a.css", with("kittiwake"))
		assert.Equal(t, 200, r.StatusCode)
		r, _ = w.ask("GET", "www.corvane.example", "/a.css", nil)
		assert.Equal(t, 401, r.StatusCode, "also after somebody who may look")
	}
}

// TestReadyAnswersAreBounded: whoever asks for everything at every spelling of a host costs
// memory up to a bound.
func TestReadyAnswersAreBounded(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Memory: 4 << 20})
	w.await("www.corvane.example", w.activate("production", w.put(map[string]string{"index.html": long("home")},
		release.Settings{}), "https://www.corvane.example/"))
	for port := range 2000 {
		r, _ := w.ask("GET", fmt.Sprintf("www.corvane.example:%d", port+1), "/", map[string]string{"Accept-Encoding": "br"})
		require.Equal(t, 200, r.StatusCode)
	}
	assert.LessOrEqual(t, w.node.Ready(), 2*64)
	assert.Positive(t, w.node.Ready())
}

// TestReadyAnswersAreLoggedAsOthersAre: whoever reads the log cannot tell them apart.
func TestReadyAnswersAreLoggedAsOthersAre(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Settings: edge.Settings{Requests: true}})
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "1", "a.css": varied("Sula")},
		release.Settings{})))
	header := map[string]string{"Accept-Encoding": "identity"}
	for range 3 {
		w.ask("GET", "corvane.localhost", "/a.css", header)
		w.ask("HEAD", "corvane.localhost", "/a.css", header)
	}
	assert.Positive(t, w.node.Ready())
	lines := map[string]int{}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	for _, e := range w.events {
		if e.Kind == "request" && e.Path == "/a.css" {
			lines[fmt.Sprint(e.Method, " ", e.Status, " ", e.Host, " ", e.Bytes, " ", e.By)]++
		}
	}
	assert.Equal(t, map[string]int{fmt.Sprintf("GET 200 corvane.localhost %d a.css", len(varied("Sula"))): 3,
		"HEAD 200 corvane.localhost 0 a.css": 3}, lines)
}
