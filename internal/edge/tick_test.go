package edge_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
)

// TestTwoEntriesInOneTickOfTheClock gives the second hint the time of the
// first: on many file systems, times move in steps of milliseconds.
func TestTwoEntriesInOneTickOfTheClock(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Sweep: time.Hour})
	for n := range 20 {
		first := w.activate("production", w.put(map[string]string{"index.html": string(rune('a' + n))},
			release.Settings{}))
		hint := filepath.Join(w.root, storage.PulseKey("corvane"))
		info, err := os.Stat(hint)
		require.NoError(t, err)
		w.await("corvane.localhost", first)
		second := w.activate("production", w.put(map[string]string{"index.html": string(rune('A' + n))},
			release.Settings{}))
		require.NoError(t, os.Chtimes(hint, info.ModTime(), info.ModTime()))
		w.await("corvane.localhost", second)
	}
}
