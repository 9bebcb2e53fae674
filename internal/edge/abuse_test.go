package edge_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
	// The first part is compared before the status is sent, and then sent.
	assert.LessOrEqual(t, w.read.Load()-before, int64(len(film)+release.PartSize))

	before = w.read.Load()
	r, body = w.ask("GET", "corvane.localhost", "/film.bin", map[string]string{"Range": fmt.Sprintf(
		"bytes=5-6,%d-%d,-2", release.PartSize, release.PartSize+1)})
	assert.Equal(t, 206, r.StatusCode)
	assert.Contains(t, body, film[len(film)-2:])
	assert.LessOrEqual(t, w.read.Load()-before, int64(len(film)+release.PartSize), "a few are answered")
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
