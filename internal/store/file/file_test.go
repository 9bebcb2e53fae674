package file_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/file"
	"orilla.example/orilla/internal/store/storetest"
)

func TestContract(t *testing.T) {
	t.Parallel()
	storetest.Run(t, storetest.Options{}, func(t *testing.T) (storage.Store, func() storage.Store) {
		t.Helper()
		root := filepath.Join(t.TempDir(), "store")
		store, err := file.Make(root)
		require.NoError(t, err)
		return store, func() storage.Store {
			again, err := file.Open(root)
			require.NoError(t, err)
			return again
		}
	})
}

func TestOpenTellsWhatAFolderIs(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	_, err := file.Open(filepath.Join(root, "missing"))
	require.ErrorIs(t, err, storage.ErrNone)
	_, err = file.Open(root)
	require.ErrorIs(t, err, storage.ErrNone, "an empty folder can become one")
	require.NoError(t, os.WriteFile(filepath.Join(root, "thesis.txt"), nil, 0o644))
	_, err = file.Make(root)
	require.ErrorIs(t, err, storage.ErrOther, "a folder with something in it is skipped")
	require.NoError(t, os.WriteFile(filepath.Join(root, storage.MarkKey),
		[]byte(`{"format":2,"kind":"orilla-store"}`), 0o644))
	_, err = file.Open(root)
	require.ErrorIs(t, err, storage.ErrFormat)
}

func TestAStoreThatCannotBeWrittenSaysSo(t *testing.T) {
	t.Parallel()
	if os.Getuid() == 0 {
		t.Skip("root may write everywhere")
	}
	root := t.TempDir()
	store, err := file.Make(root)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(root, 0o555))
	t.Cleanup(func() { os.Chmod(root, 0o755) }) //nolint:errcheck // so that it can be removed
	require.ErrorIs(t, store.Create(t.Context(), "a/b", nil), storage.ErrReadOnly)
}

func TestWhatKilledWritersLeaveIsRemoved(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	store, err := file.Make(root)
	require.NoError(t, err)
	dead := filepath.Join(root, "tmp", "dead")
	require.NoError(t, os.MkdirAll(dead, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dead, "0"), []byte("half"), 0o644))
	live, err := store.Begin(t.Context())
	require.NoError(t, err)
	_, err = live.Add(t.Context(), "objects/aa/aa", []byte("on its way"))
	require.NoError(t, err)
	entries, err := os.ReadDir(filepath.Join(root, "tmp"))
	require.NoError(t, err)
	require.Len(t, entries, 2)
	old := time.Now().Add(-time.Hour)
	for _, entry := range entries {
		require.NoError(t, os.Chtimes(filepath.Join(root, "tmp", entry.Name()), old, old))
	}
	_, err = store.Begin(t.Context()) // cleans
	require.NoError(t, err)
	assert.NoDirExists(t, dead)
	_, err = live.Commit(t.Context())
	require.NoError(t, err, "a writer that lives keeps what it wrote")
}

func TestWatchTellsOfChanges(t *testing.T) {
	t.Parallel()
	store, err := file.Make(t.TempDir())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	signals, err := store.Watch(ctx, "pulse")
	require.NoError(t, err)
	require.NoError(t, store.Replace(ctx, "pulse/corvane", []byte("1")))
	select {
	case <-signals:
	case <-time.After(5 * time.Second):
		t.Fatal("no signal")
	}
	cancel()
	for range signals { // closes
	}
}
