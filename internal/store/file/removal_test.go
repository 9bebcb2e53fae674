package file_test

import (
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/store/file"
)

// TestNoLossOfPowerLeavesARootWithoutItsObjects lets the
// power fail at every operation of a prune.
func TestNoLossOfPowerLeavesARootWithoutItsObjects(t *testing.T) {
	t.Parallel()
	root, project := filepath.Join(t.TempDir(), "store"), t.TempDir()
	store, err := file.Make(root)
	require.NoError(t, err)
	output := filepath.Join(project, "output")
	write(t, project, map[string]string{"orilla.yaml": "site: corvane\nassets: {keep: 0s}\n"})
	write(t, output, map[string]string{"index.html": "<title>Corvane</title>", "fares.html": "42.00"})
	deployOutput(t, store, project, output)
	write(t, output, map[string]string{"index.html": "<title>Corvane Ferries</title>", "fares.html": "43.00"})
	last := deployOutput(t, store, project, output)
	start := capture(t, root)

	var ops []file.Op
	file.Record(store, root, func(op file.Op) { ops = append(ops, op) })
	pruning, err := maintenance.Plan(t.Context(), store, "Tobias Quill",
		maintenance.Policy{Retention: &journal.Retention{Releases: 1}}, func(string, int64, int64) {})
	require.NoError(t, err)
	result, err := pruning.CarryOut(t.Context(), func([]pins.Waiting) {}, func(string, int64, int64) {})
	require.NoError(t, err)
	require.Len(t, result.Releases, 1)
	require.Greater(t, result.Objects, 2)

	recording, random, states := takeApart(start, ops), rand.New(rand.NewPCG(uint64(time.Now().UnixNano()),
		3)), 0
	for op := range ops {
		recording.after(op, random, func(files map[string][]byte, how string) {
			states++
			require.Equal(t, last.ID, sound(t, files, how))
		})
	}
	t.Logf("%d operations, %d states", len(ops), states)
}

// TestWhatIsFoundIsFlushedToo: whoever made it may not
// have come to flush the folders above.
func TestWhatIsFoundIsFlushedToo(t *testing.T) {
	t.Parallel()
	root := filepath.Join(t.TempDir(), "store")
	store, err := file.Make(root)
	require.NoError(t, err)
	require.NoError(t, store.Create(t.Context(), "objects/ab/abc", []byte("x")))
	flushed := map[string]bool{}
	file.Record(store, root, func(op file.Op) { flushed[op.Kind+" "+op.Path] = true })
	batch, err := store.Begin(t.Context())
	require.NoError(t, err)
	added, err := batch.Add(t.Context(), "objects/ab/abc", []byte("x"))
	require.NoError(t, err)
	require.False(t, added)
	_, err = batch.Commit(t.Context())
	require.NoError(t, err)
	for _, folder := range []string{"objects/ab", "objects", "."} {
		require.True(t, flushed["sync-folder "+folder], folder)
	}
}
