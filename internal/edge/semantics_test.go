package edge_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
)

// as keeps a release of other semantics with the content of another one;
// unchanging are lines of JSON.
func (w *world) as(semantics int, of release.ID, count int64, unchanging string) release.ID {
	w.t.Helper()
	reader, err := release.Open(w.t.Context(), w.store, "corvane", of, release.LoadFrom(w.store))
	require.NoError(w.t, err)
	root := reader.Root
	root.Semantics, root.Immutable = semantics, nil
	if unchanging != "" {
		data := []byte(unchanging)
		root.Immutable = &release.RuleSet{Count: count, Digest: digest.Of(data), Size: int64(len(data))}
		require.NoError(w.t, w.store.Create(w.t.Context(), digest.Of(data).Key(), data))
	}
	data, id, err := root.Encode()
	require.NoError(w.t, err)
	//nolint:errcheck // may be there
	w.store.Create(w.t.Context(), storage.ReleaseKey("corvane", id.String()), data)
	return id
}

// TestSemantics2 says which files never change by a list, carries over whatever
// pages load, and knows more extensions.
func TestSemantics2(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	first := w.put(map[string]string{"index.html": "one", "app-0a1b2c3d4e.js": "1", "plain.js": "2",
		"fares.html": "42", "404.html": "missing"}, release.Settings{})
	second := w.put(map[string]string{"index.html": "two", "app-0a1b2c3d4e.js": "1", "404.html": "missing"},
		release.Settings{})
	cache := func(path string) (int, string, string) {
		response, body := w.ask(http.MethodGet, "corvane.localhost", path, nil)
		return response.StatusCode, response.Header.Get("Cache-Control"), body
	}
	const forever = "public, max-age=31536000, immutable"

	w.await("corvane.localhost", w.activate("production", w.as(2, first, 1, "\"plain.js\"\n")))
	_, kept, _ := cache("/plain.js")
	assert.Equal(t, forever, kept, "the list says it")
	_, kept, _ = cache("/app-0a1b2c3d4e.js")
	assert.Equal(t, "no-cache", kept, "and the name says nothing")

	w.await("corvane.localhost", w.activate("production", w.as(2, second, 0, "")))
	status, kept, body := cache("/plain.js")
	assert.Equal(t, []any{200, "no-cache", "2"}, []any{status, kept, body},
		"a script of the release before is still answered, and not for ever")
	status, _, _ = cache("/fares")
	assert.Equal(t, 404, status, "a page is not")
	_, _, body = cache("/chart.avi")
	assert.NotEqual(t, "missing", body, "what is no page gets no page")

	w.await("corvane.localhost", w.activate("production", w.as(1, second, 0, "")))
	status, _, _ = cache("/plain.js")
	assert.Equal(t, 404, status, "semantics 1 carries over what is fingerprinted, as it always did")
	_, _, body = cache("/chart.avi")
	assert.Equal(t, "missing", body)
	_, kept, _ = cache("/app-0a1b2c3d4e.js")
	assert.Equal(t, forever, kept)

	verified, err := maintenance.Verify(t.Context(), w.store, nil, func(string, int64, int64) {})
	require.NoError(t, err)
	assert.Empty(t, verified.Damage)
	for name, broken := range map[string]string{"in another order": "\"b\"\n\"a\"\n",
		"in another spelling": "\"\\u0061\"\n\"b\"\n", "of another number": "\"a\"\n"} {
		t.Run(name, func(t *testing.T) {
			reader, err := release.Open(t.Context(), w.store, "corvane", w.as(2, first, 2, broken),
				release.LoadFrom(w.store))
			require.NoError(t, err)
			_, err = reader.Immutable(t.Context())
			require.ErrorIs(t, err, release.ErrDamaged, name)
		})
	}
}

// TestOpenPagesGoOnWorking is what a bundler's site needs: whatever a page of the
// release before loads is answered, and only what has its digest in its name may
// be kept.
func TestOpenPagesGoOnWorking(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	pages := func(digests ...string) map[string]string {
		files := map[string]string{"index.html": "home", "env.js": "1"}
		for i, digest := range digests {
			files[fmt.Sprintf("assets/Page%d-%s.js", i, digest)] = digest
		}
		files["assets/film-"+digests[0]+".mp4"] = digests[0]
		return files
	}
	before := pages("DSojwwyk", "BDuPbRhR", "Ca3jEoVB", "1VgQdMSp", "kiGSw_4t", "4-jA9vrI")
	w.await("corvane.localhost", w.activate("production", w.put(before, release.Settings{})))
	for path := range before {
		r, _ := w.ask(http.MethodGet, "corvane.localhost", "/"+path, nil)
		kept := "no-cache"
		if strings.HasPrefix(path, "assets/") {
			kept = "public, max-age=31536000, immutable"
		}
		assert.Equal(t, kept, r.Header.Get("Cache-Control"), path)
	}

	after := pages("tdkhYTKL", "qbqChDYx", "D-2DJSH_", "BGDuBagX", "CTRUp3t9", "C3bUhlaW")
	delete(after, "env.js")
	w.await("corvane.localhost", w.activate("production", w.put(after, release.Settings{})))
	for path, text := range before {
		r, body := w.ask(http.MethodGet, "corvane.localhost", "/"+path, nil)
		assert.Equal(t, []any{200, text}, []any{r.StatusCode, body}, path)
		assert.Equal(t, "no-cache", r.Header.Get("Cache-Control"), path)
	}
}

// TestAnEntryIsServedFromItsMomentOn is for entries that later versions write.
func TestAnEntryIsServedFromItsMomentOn(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: 20 * time.Millisecond})
	w.await("corvane.localhost",
		w.activate("production", w.put(map[string]string{"index.html": "now"}, release.Settings{})))
	from := time.Now().Add(time.Second).UTC().Truncate(time.Millisecond)
	j := &journal.Journal{Store: w.store, Site: "corvane", Environment: "production",
		Attempt: func() string { return "later" }, Now: time.Now}
	id := w.put(map[string]string{"index.html": "later"}, release.Settings{})
	_, err := j.Append(t.Context(), journal.Entry{}, func(*journal.Entry) (journal.Entry, error) {
		return journal.Entry{Kind: journal.Deploy, Release: id, From: &from}, nil
	})
	require.NoError(t, err)
	for {
		_, body := w.ask(http.MethodGet, "corvane.localhost", "/", nil)
		if body == "later" {
			assert.False(t, time.Now().Before(from), "not before")
			return
		}
		require.Equal(t, "now", body)
		require.Less(t, time.Since(from), 5*time.Second)
		time.Sleep(10 * time.Millisecond)
	}
}
