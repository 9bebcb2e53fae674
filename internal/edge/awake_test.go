package edge_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/wake"
	"orilla.example/orilla/internal/edge"
)

// sleeping starts a node that looks at its store by itself once an hour, and announces it.
func sleeping(t testing.TB) *world {
	t.Helper()
	w := start(t, edge.Options{Poll: time.Hour, Sweep: time.Hour})
	w.announce()
	return w
}

// announce keeps the node's record in the store.
func (w *world) announce() {
	w.t.Helper()
	ctx, stop := context.WithCancel(context.WithoutCancel(w.t.Context()))
	var announcing sync.WaitGroup
	_, port, _ := net.SplitHostPort(w.server.Listener.Addr().String())
	announcing.Go(func() {
		w.node.Announce(ctx, edge.Presence{Node: edge.NodeName(port), Address: w.server.Listener.Addr().String(),
			Region: "pier", Version: "1"})
	})
	w.t.Cleanup(func() { stop(); announcing.Wait() })
	require.Eventually(w.t, func() bool {
		nodes, err := edge.Nodes(w.t.Context(), w.store, 0)
		return err == nil && len(nodes) == 1
	}, 30*time.Second, time.Millisecond)
}

// call sends a call, signed with a key, and returns the status and the answer.
func (w *world) call(key string, change func(*wake.Call)) (int, wake.Answer) {
	w.t.Helper()
	call := wake.NewCall("corvane", time.Now())
	change(&call)
	body, signature, err := call.Sign(key)
	require.NoError(w.t, err)
	return w.post(body, signature)
}

// post sends a body to the node.
func (w *world) post(body []byte, signature string) (int, wake.Answer) {
	w.t.Helper()
	request, err := http.NewRequest(http.MethodPost, w.server.URL+wake.Path, bytes.NewReader(body))
	require.NoError(w.t, err)
	request.Header.Set(wake.SignatureField, signature)
	response, err := http.DefaultClient.Do(request)
	require.NoError(w.t, err)
	defer response.Body.Close() //nolint:errcheck // read
	data, err := io.ReadAll(response.Body)
	require.NoError(w.t, err)
	answer, _, _ := wake.Read(data, "", "", "")
	return response.StatusCode, answer
}

// TestADeployerWakesANode writes entries that the node would not find by itself.
func TestADeployerWakesANode(t *testing.T) {
	t.Parallel()
	w := sleeping(t)
	waker := edge.NewWaker(t.Context(), w.store, "corvane", 0, nil)
	page := func() string { _, body := w.ask("GET", "corvane.localhost", "/", nil); return body }
	for i := range 5 {
		text := fmt.Sprint("version ", i)
		entry := w.activate("production", w.put(map[string]string{"index.html": text}, release.Settings{}))
		list := waker.Flipped(t.Context(), entry, 10*time.Second)
		require.Len(t, list, 1)
		require.NoError(t, list[0].Err)
		assert.True(t, list[0].Known)
		assert.True(t, list[0].Serves(entry))
		assert.Equal(t, "pier", list[0].Said.Region)
		assert.Equal(t, string(edge.Ready), list[0].Said.State)
		assert.Equal(t, entry.Number, list[0].Said.Serves["production"].Entry)
		assert.Equal(t, text, page())
	}
	// What was told once need not be asked again, and many who call share a look.
	entry := w.activate("production", w.put(map[string]string{"index.html": "told"}, release.Settings{}))
	waker.Tell(t.Context(), entry)()
	assert.Equal(t, "told", page())
	looks := w.read.Load()
	assert.True(t, waker.Flipped(t.Context(), entry, time.Second)[0].Serves(entry))
	assert.Equal(t, looks, w.read.Load())
	// An environment that the node has never seen, and its addresses.
	entry = w.activate("preview.winter", w.put(map[string]string{"index.html": "winter"}, release.Settings{}),
		"http://winter.corvane.example/")
	waker.Tell(t.Context(), entry)()
	_, body := w.ask("GET", "winter.corvane.example", "/", nil)
	assert.Equal(t, "winter", body)
	assert.Empty(t, w.troubles())
}

// TestStrangersWakeNobody sends what is forged, late, too long, or of somebody else.
func TestStrangersWakeNobody(t *testing.T) {
	t.Parallel()
	w := sleeping(t)
	entry := w.activate("production", w.put(map[string]string{"index.html": "home"}, release.Settings{}))
	look := func(c *wake.Call) { c.Look = map[string]int64{"production": entry.Number} }
	for name, c := range map[string]struct {
		key    string
		change func(*wake.Call)
		status int
	}{
		"another key":      {"incarnation2", look, http.StatusForbidden},
		"no such site":     {"incarnation1", func(c *wake.Call) { c.Site = "harbour" }, http.StatusForbidden},
		"no site's name":   {"incarnation1", func(c *wake.Call) { c.Site = "../x" }, http.StatusBadRequest},
		"of yesterday":     {"incarnation1", func(c *wake.Call) { c.Sent = c.Sent.Add(-24 * time.Hour) }, http.StatusForbidden},
		"of another world": {"incarnation1", func(c *wake.Call) { c.Format = 9 }, http.StatusBadRequest},
	} {
		status, _ := w.call(c.key, c.change)
		assert.Equal(t, c.status, status, name)
	}
	status, _ := w.post(bytes.Repeat([]byte("x"), wake.MaxCall+1), "")
	assert.Equal(t, http.StatusRequestEntityTooLarge, status)
	status, _ = w.post([]byte("null"), "zz")
	assert.Equal(t, http.StatusBadRequest, status)
	response, _ := w.ask("GET", "www.corvane.example", wake.Path, nil)
	assert.Equal(t, http.StatusMethodNotAllowed, response.StatusCode)

	// A thousand forged calls read the claim a hundred times at most, and then twenty times a
	// second; and no journal.
	before, asking := w.read.Load(), time.Now()
	for range 1000 {
		status, _ := w.call("guess", look)
		require.Equal(t, http.StatusForbidden, status)
	}
	claim, err := w.store.Get(t.Context(), storage.ClaimKey("corvane"))
	require.NoError(t, err)
	most := 120 + 20*time.Since(asking).Seconds()
	assert.LessOrEqual(t, w.read.Load()-before, int64(most*float64(len(claim))))

	// What is signed and says nonsense is obeyed as far as it makes sense: who repeats a call
	// for what is not there causes about one look a second.
	status, answer := w.call("incarnation1", func(c *wake.Call) {
		c.Look = map[string]int64{"production": entry.Number, "../escape": 1, "preview.": 1, "staging": 0}
		c.Coming = "zz"
	})
	assert.Equal(t, http.StatusOK, status)
	assert.Len(t, answer.Serves, 1)
	assert.Nil(t, answer.Fetched)
	began := time.Now()
	var group sync.WaitGroup
	var read atomic.Int64
	for range 50 {
		group.Go(func() {
			_, answer := w.call("incarnation1", func(c *wake.Call) { c.Look = map[string]int64{"production": 999} })
			read.Add(answer.Serves["production"].Entry)
		})
	}
	group.Wait()
	assert.Equal(t, 50*entry.Number, read.Load(), "it tells what it serves, whatever is asked for")
	assert.Less(t, time.Since(began), 20*time.Second)
}

// TestWhatComesIsFetched has a node read what is new before it is live, and nothing else.
func TestWhatComesIsFetched(t *testing.T) {
	t.Parallel()
	w := sleeping(t)
	files := map[string]string{"index.html": "home", "same.css": strings.Repeat("a", 3000), "large.bin": strings.Repeat("l", 3<<20)}
	waker := edge.NewWaker(t.Context(), w.store, "corvane", 0, nil)
	waker.Tell(t.Context(), w.activate("production", w.put(files, release.Settings{})))()
	files["index.html"], files["new.js"], files["larger.bin"] = "new home", strings.Repeat("n", 5000), strings.Repeat("L", 3<<20)
	id := w.put(files, release.Settings{})
	before := w.read.Load()
	status, answer := w.call("incarnation1", func(c *wake.Call) { c.Coming = id.String() })
	assert.Equal(t, http.StatusOK, status)
	require.NotNil(t, answer.Fetched)
	assert.Equal(t, 2, answer.Fetched.Files)
	assert.Equal(t, int64(len("new home")+5000), answer.Fetched.Bytes)
	assert.False(t, answer.Fetched.Whole, "what is large is left for whoever asks for it")
	assert.Less(t, w.read.Load()-before, int64(12_000), "the chunk, the root, and two files")

	entry := w.activate("production", id)
	waker.Tell(t.Context(), entry)()
	before = w.read.Load()
	_, body := w.ask("GET", "corvane.localhost", "/", nil)
	assert.Equal(t, "new home", body)
	_, body = w.ask("GET", "corvane.localhost", "/new.js", nil)
	assert.Len(t, body, 5000)
	assert.LessOrEqual(t, w.read.Load()-before, int64(100), "nothing but the store's mark had to be read")
	waker.Coming(t.Context(), id, time.Nanosecond) // nobody waits longer
}

// TestOnlyKnownNodesCount puts records of nodes into the store that are not what they say.
func TestOnlyKnownNodesCount(t *testing.T) {
	t.Parallel()
	w := sleeping(t)
	entry := w.activate("production", w.put(map[string]string{"index.html": "home"}, release.Settings{}))
	key := nodesOf(t, w.store)[0].PublicKey
	require.NotEmpty(t, key)
	put := func(name, address, public string) {
		data, err := record.Encode(edge.Presence{Format: 1, Node: name, Address: address, PublicKey: public,
			Seen: time.Now()})
		require.NoError(t, err)
		require.NoError(t, w.store.Replace(t.Context(), storage.EdgeKey(name), data))
	}
	listen := func(handler http.HandlerFunc) (string, string) {
		server := httptest.NewServer(handler)
		t.Cleanup(server.Close)
		_, port, _ := net.SplitHostPort(server.Listener.Addr().String())
		return edge.NodeName(port), server.Listener.Addr().String()
	}
	// One says what another has said; one is of an early version; one hangs; one is gone.
	impostor, at := listen(func(rw http.ResponseWriter, r *http.Request) {
		answer, err := http.Post(w.server.URL+r.URL.Path, "application/json", r.Body)
		if err == nil {
			defer answer.Body.Close() //nolint:errcheck // read
		}
		io.WriteString(rw, `{"format":1,"state":"ready","serves":{"production":{"entry":99}}}`) //nolint:errcheck // seen above
	})
	put(impostor, at, key)
	early, at := listen(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			rw.WriteHeader(http.StatusMisdirectedRequest)
			return
		}
		rw.Header().Set("Orilla-Release", "r;entry="+entry.Label())
	})
	put(early, at, "")
	hangs, at := listen(func(_ http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body) //nolint:errcheck // so that it is seen when the caller goes
		<-r.Context().Done()
	})
	put(hangs, at, key)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(closed.Addr().String())
	require.NoError(t, closed.Close())
	put(edge.NodeName(port), closed.Addr().String(), key)
	put("elsewhere-1", "127.0.0.1:1", key)

	// One whose address is that of another node is asked as visitors ask.
	stranger, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	_, port, _ = net.SplitHostPort(w.server.Listener.Addr().String())
	put("elsewhere-2", "0.0.0.0:"+port, wake.FormatKey(stranger)) // this machine, and not by a loopback address

	began := time.Now()
	count := func(known []string) (serving, unknown int) {
		waker := edge.NewWaker(t.Context(), w.store, "corvane", 0, known)
		for _, c := range waker.Flipped(t.Context(), entry, 10*time.Second) {
			if c.Serves(entry) {
				serving++
			}
			if c.Err == nil && !c.Known {
				unknown++
			}
		}
		return serving, unknown
	}
	serving, unknown := count(nil)
	want := 3 // the node, the early one, and one at the address of the node
	if runtime.GOOS == "windows" {
		want = 2 // 0.0.0.0 leads nowhere there
	}
	assert.Equal(t, want, serving)
	assert.Equal(t, 1, unknown, "the impostor")
	serving, unknown = count([]string{key})
	assert.Equal(t, 1, serving, "where keys are named, an early one does not count")
	assert.Equal(t, 1, unknown)
	serving, unknown = count([]string{"ed25519:AAAA"})
	assert.Zero(t, serving)
	assert.Equal(t, 2, unknown)
	assert.Less(t, time.Since(began), 20*time.Second, "one that hangs holds nothing up")
	var none *edge.Waker
	assert.Empty(t, none.Flipped(t.Context(), journal.Entry{}, time.Second))
	none.Tell(t.Context(), journal.Entry{})()
}

func nodesOf(t *testing.T, store storage.Store) []edge.Presence {
	t.Helper()
	nodes, err := edge.Nodes(t.Context(), store, 0)
	require.NoError(t, err)
	return nodes
}

// TestForgedCallsTakeNothingAway sends them while the store is away: the key by which links and
// calls are checked stays.
func TestForgedCallsTakeNothingAway(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	entry := w.activate("production", w.put(map[string]string{"index.html": "home"}, release.Settings{}))
	store, end := w.another(edge.Options{Patience: 100 * time.Millisecond}, "", nil)
	t.Cleanup(end)
	w.await("corvane.localhost", entry)
	tell := func(c *wake.Call) { c.Look = map[string]int64{"production": 0} }
	status, _ := w.call("incarnation1", tell)
	require.Equal(t, http.StatusOK, status)
	store.gone.Store(true)
	for range 10 {
		status, _ := w.call("guess", tell)
		assert.Equal(t, http.StatusForbidden, status)
	}
	status, answer := w.call("incarnation1", tell)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, entry.Number, answer.Serves["production"].Entry)
}
