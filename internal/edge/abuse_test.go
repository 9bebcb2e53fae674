package edge_test

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
)

// TestManyRangesCostNoMoreThanTheFile asks, in one request of 8 kB, for hundreds of
// single bytes that lie in another part of a long file each time. Answered one by
// one, each would cost a read of 8 MiB.
func TestManyRangesCostNoMoreThanTheFile(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Memory: 1 << 20}) // no part of a file is kept
	chance := rand.NewChaCha8([32]byte{})
	data := make([]byte, 3*release.PartSize)
	chance.Read(data) //nolint:errcheck // it never fails
	film := string(data)
	id := w.put(map[string]string{"index.html": "home", "film.bin": film}, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id))

	var ranges []string
	for i := range 450 {
		at := i%3*release.PartSize + i*1000
		ranges = append(ranges, fmt.Sprintf("%d-%d", at, at))
	}
	before := w.read.Load()
	r, body := w.ask("GET", "corvane.localhost", "/film.bin",
		map[string]string{"Range": "bytes=" + strings.Join(ranges, ",")})
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, digest.Of(data), digest.Of([]byte(body)), "everything, once")
	// Each part is compared with its digest before any of it is sent, and then sent.
	assert.Greater(t, w.read.Load()-before, int64(len(film)))
	assert.LessOrEqual(t, w.read.Load()-before, int64(2*len(film)+1<<19))

	before = w.read.Load()
	r, body = w.ask("GET", "corvane.localhost", "/film.bin", map[string]string{"Range": fmt.Sprintf(
		"bytes=5-6,%d-%d,-2", release.PartSize, release.PartSize+1)})
	assert.Equal(t, 206, r.StatusCode)
	assert.Contains(t, body, film[len(film)-2:])
	assert.LessOrEqual(t, w.read.Load()-before, int64(len(film)+1<<19), "a few are answered")

	// What was compared once is read in slices from then on.
	for i := range 100 {
		at := i * 83_777
		before = w.read.Load()
		r, body = w.ask("GET", "corvane.localhost", "/film.bin",
			map[string]string{"Range": fmt.Sprintf("bytes=%d-%d", at, at)})
		require.Equal(t, 206, r.StatusCode)
		require.Equal(t, film[at:at+1], body)
		require.LessOrEqual(t, w.read.Load()-before, int64(256<<10), "one byte costs a slice")
	}
}

// TestLoopsStop lets an upstream lead back to the node: by itself, as a proxy that
// keeps fields would.
func TestLoopsStop(t *testing.T) {
	t.Parallel()
	var passed atomic.Int64
	var back atomic.Pointer[httputil.ReverseProxy]
	w := passing(t, "proxy /api/{rest:all} -> harbour:/api/{rest}", loopback, 0,
		func(w http.ResponseWriter, r *http.Request) {
			passed.Add(1)
			r.Host = "corvane.localhost"
			r.URL.Path = strings.TrimPrefix(r.URL.Path, "/base")
			back.Load().ServeHTTP(w, r)
		})
	to, err := url.Parse(w.server.URL)
	require.NoError(t, err)
	back.Store(httputil.NewSingleHostReverseProxy(to))

	r, _ := w.ask("GET", "corvane.localhost", "/api/tides", nil)
	assert.Equal(t, 502, r.StatusCode)
	assert.Equal(t, "orilla; error=proxy_loop_detected", r.Header.Get("Proxy-Status"))
	assert.EqualValues(t, 1, passed.Load())
	assert.Contains(t, w.troubles(), "leads back to this edge node")
}

// TestOnlyWebsocketsUpgrade: what else a visitor would like to speak with an upstream
// does not get past the rules.
func TestOnlyWebsocketsUpgrade(t *testing.T) {
	t.Parallel()
	var seen atomic.Pointer[http.Header]
	w := passing(t, "proxy /api/{rest:all} -> harbour:/{rest}", loopback, 0,
		func(_ http.ResponseWriter, r *http.Request) { seen.Store(&r.Header) })
	for upgrade, want := range map[string]string{"h2c": "", "tls/1.2": "", "websocket, h2c": "",
		"websocket": "websocket", "WebSocket": "WebSocket"} {
		w.ask("GET", "corvane.localhost", "/api/tides", map[string]string{"Connection": "Upgrade",
			"Upgrade": upgrade, "Via": "1.0 quay", "X-Real-Ip": "6.6.6.6", "X-Forwarded-Port": "1"})
		assert.Equal(t, want, seen.Load().Get("Upgrade"), upgrade)
		assert.Regexp(t, `^1\.0 quay, 1\.1 orilla-[0-9a-z]+$`, strings.Join(seen.Load().Values("Via"), ", "))
		assert.Empty(t, seen.Load().Get("X-Real-Ip"))
		assert.Empty(t, seen.Load().Get("X-Forwarded-Port"))
	}
}

// TestOneUpstreamHasABound: one that hangs takes no more than its share of the node.
func TestOneUpstreamHasABound(t *testing.T) {
	t.Parallel()
	began, done := make(chan struct{}, 10), make(chan struct{})
	upstream := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/slow" {
			began <- struct{}{}
			<-done
		}
	}))
	defer upstream.Close()
	w := start(t, edge.Options{Settings: edge.Settings{Reach: loopback, UpstreamMost: 2}})
	w.await("corvane.localhost", w.activate("production", w.putRuled(site,
		program(t, "proxy /api/{rest:all} -> "+upstream.URL+"/{rest}\n").Rules, release.Settings{})))
	var slow sync.WaitGroup
	for range 2 {
		slow.Go(func() {
			r, _ := w.ask("GET", "corvane.localhost", "/api/slow", nil)
			assert.Equal(t, 200, r.StatusCode)
		})
		<-began
	}
	r, body := w.ask("GET", "corvane.localhost", "/api/x", nil)
	assert.Equal(t, 503, r.StatusCode)
	assert.Equal(t, "orilla; error=connection_limit_reached", r.Header.Get("Proxy-Status"))
	assert.Equal(t, "5", r.Header.Get("Retry-After"))
	assert.NotContains(t, body, "127.0.0.1")
	r, _ = w.ask("GET", "corvane.localhost", "/fares", nil)
	assert.Equal(t, 200, r.StatusCode, "pages are not concerned")
	close(done)
	slow.Wait()
	r, _ = w.ask("GET", "corvane.localhost", "/api/x", nil)
	assert.Equal(t, 200, r.StatusCode)
}

// TestABrokenBodyIsItsSendersFault, and nobody is told that the upstream is broken.
func TestABrokenBodyIsItsSendersFault(t *testing.T) {
	t.Parallel()
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength > 1000 {
			w.WriteHeader(http.StatusRequestEntityTooLarge) // before it comes
			return
		}
		io.Copy(io.Discard, r.Body) //nolint:errcheck // the node tells
	}))
	defer upstream.Close()
	w := start(t, edge.Options{Settings: edge.Settings{Reach: loopback}})
	w.await("corvane.localhost", w.activate("production", w.putRuled(site,
		program(t, "proxy /api/{rest:all} -> "+upstream.URL+"/{rest}\n").Rules, release.Settings{})))
	address := w.served(connections.Limits{Rate: 1000, Grace: 500 * time.Millisecond})
	for name, test := range map[string]struct {
		body   string
		status int
	}{
		"a body that nobody reads": {"Content-Length: 300000\r\n\r\nsome", 413},
		"chunks that are none":     {"Transfer-Encoding: chunked\r\n\r\nzz\r\nxx\r\n", 400},
		"a body that stops":        {"Content-Length: 100\r\n\r\nsome", 408},
		"chunks that stop":         {"Transfer-Encoding: chunked\r\n\r\n4\r\nsome\r\n", 408},
		"a body that is whole":     {"Content-Length: 4\r\n\r\nsome", 200},
		"chunks that are whole":    {"Transfer-Encoding: chunked\r\n\r\n4\r\nsome\r\n0\r\n\r\n", 200},
	} {
		t.Run(name, func(t *testing.T) {
			c, err := net.Dial("tcp", address)
			require.NoError(t, err)
			defer c.Close()                                                                    //nolint:errcheck // it was read
			fmt.Fprintf(c, "POST /api/x HTTP/1.1\r\nHost: corvane.localhost\r\n%s", test.body) //nolint:errcheck // a test
			c.SetReadDeadline(time.Now().Add(30 * time.Second))                                //nolint:errcheck // it is open
			r, err := http.ReadResponse(bufio.NewReader(c), nil)
			require.NoError(t, err)
			defer r.Body.Close() //nolint:errcheck // the status counts
			assert.Equal(t, test.status, r.StatusCode)
		})
	}
	assert.NotContains(t, w.troubles(), "upstream")
}
