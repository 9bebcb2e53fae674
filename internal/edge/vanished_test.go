package edge_test

import (
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/store/file"
)

// TestAStoreThatVanishesForgetsNothing takes the store's folder away, puts an empty one there, then another store, and then the right one.
func TestAStoreThatVanishesForgetsNothing(t *testing.T) {
	w := start(t, edge.Options{Sweep: 20 * time.Millisecond})
	first := w.activate("production", w.put(map[string]string{"index.html": "first"}, release.Settings{}))
	w.await("corvane.localhost", first)
	aside := w.root + "-aside"
	serves := func(text string) {
		t.Helper()
		time.Sleep(300 * time.Millisecond) // many sweeps
		response, body := w.ask(http.MethodGet, "corvane.localhost", "/", nil)
		require.Equal(t, http.StatusOK, response.StatusCode, body)
		require.Equal(t, text, body)
	}

	serves("first") // what was asked for is in memory
	require.NoError(t, os.Rename(w.root, aside))
	serves("first")
	assert.Contains(t, w.troubles(), "the store is not there")

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
	assert.LessOrEqual(t, strings.Count(w.troubles(), "the store is not there"), 3, "it is told once each time, not in each sweep")
}
