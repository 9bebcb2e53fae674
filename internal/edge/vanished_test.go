package edge_test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/store/file"
)

// TestAStoreThatVanishesForgetsNothing takes the store's folder away, puts an
// empty one there, then another store, and then the right one.
func TestAStoreThatVanishesForgetsNothing(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: 20 * time.Millisecond})
	first := w.activate("production", w.put(map[string]string{"index.html": "first"}, release.Settings{}))
	w.await("corvane.localhost", first)
	aside := w.root + "-aside"
	serves := func(text string) {
		t.Helper()
		w.sweeps()
		response, body := w.ask(http.MethodGet, "corvane.localhost", "/", nil)
		require.Equal(t, http.StatusOK, response.StatusCode, body)
		require.Equal(t, text, body)
	}

	serves("first") // what was asked for is in memory
	require.NoError(t, os.Rename(w.root, aside))
	serves("first")
	assert.Contains(t, w.troubles(), "the store is missing")

	require.NoError(t, os.RemoveAll(w.root)) // presence may have been written
	require.NoError(t, os.Mkdir(w.root, 0o755))
	serves("first")

	require.NoError(t, os.RemoveAll(w.root))
	_, err := file.Make(w.root)
	require.NoError(t, err)
	serves("first")
	assert.Contains(t, w.troubles(), "another store")

	require.NoError(t, os.RemoveAll(w.root))
	require.NoError(t, os.Rename(aside, w.root))
	serves("first")
	second := w.activate("production", w.put(map[string]string{"index.html": "second"}, release.Settings{}))
	w.await("corvane.localhost", second)
	assert.LessOrEqual(t, strings.Count(w.troubles(), "the store is missing"), 3,
		"it is told once each time, not in each sweep")
}

// TestASiteThatCannotBeFoundIsNotForgotten takes a site's
// folder away, and brings it back.
func TestASiteThatCannotBeFoundIsNotForgotten(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: 20 * time.Millisecond})
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "first"},
		release.Settings{})))
	w.ask(http.MethodGet, "corvane.localhost", "/", nil)
	site := filepath.Join(w.root, "sites", "corvane")
	require.NoError(t, os.Rename(site, w.root+"-aside"))
	require.Eventually(t, func() bool {
		return strings.Contains(w.troubles(),
			"without a record of its removal")
	}, 30*time.Second, 5*time.Millisecond)
	w.sweeps()
	response, body := w.ask(http.MethodGet, "corvane.localhost", "/", nil)
	require.Equal(t, http.StatusOK, response.StatusCode)
	require.Equal(t, "first", body)
	assert.Equal(t, 1, strings.Count(w.troubles(), "without a record"), "it is told once")
	require.NoError(t, os.Rename(w.root+"-aside", site))
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "second"},
		release.Settings{})))
}

// TestAnOlderCopyIsNoReasonToGoBack brings an older copy of a
// store back: nodes stay where they are until somebody says
// that it is meant, also when the copy has gone on by itself.
func TestAnOlderCopyIsNoReasonToGoBack(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: 20 * time.Millisecond})
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "first"},
		release.Settings{})))
	copied := w.root + "-copy"
	require.NoError(t, os.CopyFS(copied, os.DirFS(w.root)))
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "second"},
		release.Settings{})))
	w.ask(http.MethodGet, "corvane.localhost", "/", nil)
	serves := func(text string) func() bool {
		return func() bool {
			response, body := w.ask(http.MethodGet, "corvane.localhost", "/", nil)
			return response.StatusCode == http.StatusOK && body == text
		}
	}
	require.True(t, serves("second")())
	require.NoError(t, os.RemoveAll(w.root))
	require.NoError(t, os.CopyFS(w.root, os.DirFS(copied)))
	require.Eventually(t, func() bool { return strings.Contains(w.troubles(), "does not go on") },
		30*time.Second, 5*time.Millisecond)
	require.True(t, serves("second")())
	w.activate("production", w.put(map[string]string{"index.html": "another second"}, release.Settings{}))
	w.activate("production", w.put(map[string]string{"index.html": "another third"}, release.Settings{}))
	w.sweeps()
	require.True(t, serves("second")(), "entries that follow on another history are no reason either")

	data, err := record.Restored{Who: "Tobias Quill", Why: "the disk failed"}.Encode()
	require.NoError(t, err)
	require.NoError(t, w.store.Create(t.Context(), storage.RestoredKey+"/x", data))
	require.Eventually(t, serves("another third"), 30*time.Second, 5*time.Millisecond)
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "fourth"},
		release.Settings{})))

	require.NoError(t, os.RemoveAll(filepath.Join(w.root, "sites", "corvane", "environments")))
	w.sweeps()
	require.True(t, serves("fourth")(), "what was said once is no licence for later")
}
