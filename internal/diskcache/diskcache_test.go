package diskcache_test

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/diskcache"
	"orilla.example/orilla/internal/store/memory"
)

// counted is a store that counts what is read of it, and can be gone.
type counted struct {
	*memory.Store
	reads, bytes atomic.Int64
	gone         atomic.Bool
}

// Get implements storage.Store.
func (c *counted) Get(ctx context.Context, key string) ([]byte, error) {
	if c.gone.Load() {
		return nil, storage.ErrUnreachable
	}
	data, err := c.Store.Get(ctx, key)
	c.reads.Add(1)
	c.bytes.Add(int64(len(data)))
	return data, err
}

// Slice implements storage.Slicer.
func (c *counted) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	if c.gone.Load() {
		return nil, storage.ErrUnreachable
	}
	data, err := c.Store.Slice(ctx, key, offset, length)
	c.reads.Add(1)
	c.bytes.Add(int64(len(data)))
	return data, err
}

// put keeps an object and returns its key.
func (c *counted) put(t *testing.T, data []byte) string {
	t.Helper()
	key := digest.Of(data).Key()
	require.NoError(t, c.Create(t.Context(), key, data))
	return key
}

// open opens a cache with a shelf of a size before a store.
func open(t *testing.T, folder string, limit int64, store storage.Store) (*diskcache.Shelf, func()) {
	t.Helper()
	cache, err := diskcache.Open(folder)
	require.NoError(t, err)
	shelf, err := cache.Shelf("content", limit, 1000, store, func(err error) { t.Log(err) })
	require.NoError(t, err)
	return shelf, cache.Close
}

func TestWhatWasReadIsReadOnce(t *testing.T) {
	t.Parallel()
	store, folder := &counted{Store: &memory.Store{}}, t.TempDir()
	small, large := []byte("sailings"), bytes.Repeat([]byte("film "), 700_000)
	smallKey, largeKey := store.put(t, small), store.put(t, large)
	shelf, closed := open(t, folder, 100<<20, store)
	for range 3 {
		data, err := shelf.Get(t.Context(), smallKey)
		require.NoError(t, err)
		assert.Equal(t, small, data)
		data, err = shelf.Slice(t.Context(), largeKey, 1_000_001, 10)
		require.NoError(t, err)
		assert.Equal(t, string(large[1_000_001:1_000_011]), string(data))
		data, err = shelf.Slice(t.Context(), largeKey, int64(len(large))-3, 10)
		require.NoError(t, err)
		assert.Equal(t, "lm ", string(data))
	}
	assert.EqualValues(t, len(small)+len(large), store.bytes.Load())

	// The next process finds it, and needs no store.
	closed()
	store.gone.Store(true)
	shelf, closed = open(t, folder, 100<<20, store)
	defer closed()
	data, err := shelf.Get(t.Context(), smallKey)
	require.NoError(t, err)
	assert.Equal(t, small, data)
	data, err = shelf.Slice(t.Context(), largeKey, 0, len(large))
	require.NoError(t, err)
	assert.Equal(t, digest.Of(large), digest.Of(data))
	_, err = shelf.Get(t.Context(), digest.Of([]byte("never read")).Key())
	require.ErrorIs(t, err, storage.ErrUnreachable)
}

func TestManyWhoWantSlicesCauseOneRead(t *testing.T) {
	t.Parallel()
	store := &counted{Store: &memory.Store{}}
	large := bytes.Repeat([]byte("film "), 1_000_000)
	key := store.put(t, large)
	shelf, closed := open(t, t.TempDir(), 100<<20, store)
	defer closed()
	var readers sync.WaitGroup
	for i := range 50 {
		readers.Go(func() {
			data, err := shelf.Slice(t.Context(), key, int64(i)*1000, 1000)
			assert.Equal(t, large[i*1000:(i+1)*1000], data, err)
		})
	}
	readers.Wait()
	assert.EqualValues(t, len(large), store.bytes.Load())
}

func TestTheLeastUsedGoesFirst(t *testing.T) {
	t.Parallel()
	store, folder := &counted{Store: &memory.Store{}}, t.TempDir()
	shelf, closed := open(t, folder, 10_000, store)
	var keys []string
	for i := range 12 {
		keys = append(keys, store.put(t, bytes.Repeat([]byte{byte(i)}, 1000)))
		_, err := shelf.Get(t.Context(), keys[i])
		require.NoError(t, err)
		_, err = shelf.Get(t.Context(), keys[0]) // it is used all the time
		require.NoError(t, err)
	}
	held, files := shelf.Held()
	assert.EqualValues(t, 10_000, held)
	assert.Equal(t, 10, files)
	store.gone.Store(true)
	_, err := shelf.Get(t.Context(), keys[0])
	require.NoError(t, err)
	_, err = shelf.Get(t.Context(), keys[1])
	require.ErrorIs(t, err, storage.ErrUnreachable)

	// With less room, a later process keeps what was used last, as far as days tell.
	closed()
	old := time.Now().Add(-time.Hour)
	for _, key := range keys[3:9] {
		name := filepath.Join(folder, "content", digest.Of([]byte(key)).String()[:2], flat(key))
		require.NoError(t, os.Chtimes(name, old, old))
	}
	shelf, closed = open(t, folder, 4000, store)
	defer closed()
	held, _ = shelf.Held()
	assert.EqualValues(t, 4000, held)
	for _, key := range append([]string{keys[0]}, keys[9:]...) {
		_, err := shelf.Get(t.Context(), key)
		require.NoError(t, err)
	}
}

// flat is how a key is named on disk.
func flat(key string) string { return string(bytes.ReplaceAll([]byte(key), []byte("/"), []byte("+"))) }

// TestADamagedStoreIsNotKept: what is not what its name says is handed on, for whoever
// compares it, and not kept.
func TestADamagedStoreIsNotKept(t *testing.T) {
	t.Parallel()
	store := &counted{Store: &memory.Store{}}
	key := digest.Of([]byte("whole")).Key()
	require.NoError(t, store.Create(t.Context(), key, []byte("half")))
	shelf, closed := open(t, t.TempDir(), 100_000, store)
	defer closed()
	data, err := shelf.Get(t.Context(), key)
	require.NoError(t, err)
	assert.Equal(t, "half", string(data))
	data, err = shelf.Slice(t.Context(), key, 0, 10)
	require.NoError(t, err)
	assert.Equal(t, "half", string(data))
	_, files := shelf.Held()
	assert.Zero(t, files)
}

// TestWhatIsMissingOrCutShortIsReadAgain plays a loss of power, and people.
func TestWhatIsMissingOrCutShortIsReadAgain(t *testing.T) {
	t.Parallel()
	store, folder := &counted{Store: &memory.Store{}}, t.TempDir()
	key := store.put(t, []byte("sailings"))
	shelf, closed := open(t, folder, 100_000, store)
	defer closed()
	for _, spoil := range []func(string) error{os.Remove, func(name string) error { return os.Truncate(name, 3) }} {
		_, err := shelf.Get(t.Context(), key)
		require.NoError(t, err)
		name := filepath.Join(folder, "content", digest.Of([]byte(key)).String()[:2], flat(key))
		require.NoError(t, spoil(name))
		data, err := shelf.Get(t.Context(), key)
		require.NoError(t, err)
		assert.Equal(t, "sailings", string(data))
		require.NoError(t, spoil(name))
		data, err = shelf.Slice(t.Context(), key, 4, 10)
		require.NoError(t, err)
		assert.Equal(t, "ings", string(data))
	}
	assert.True(t, shelf.Drop(key))
	assert.False(t, shelf.Drop(key))
}

// TestAFolderThatCannotBeWrittenIsToldAndReadPast: the store answers then.
func TestAFolderThatCannotBeWrittenIsToldAndReadPast(t *testing.T) {
	t.Parallel()
	store, folder := &counted{Store: &memory.Store{}}, t.TempDir()
	key := store.put(t, []byte("sailings"))
	cache, err := diskcache.Open(folder)
	require.NoError(t, err)
	defer cache.Close()
	var told atomic.Int64
	shelf, err := cache.Shelf("content", 100_000, 1000, store, func(error) { told.Add(1) })
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(filepath.Join(folder, "content")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "content"), nil, 0o600))
	data, err := shelf.Get(t.Context(), key)
	require.NoError(t, err)
	assert.Equal(t, "sailings", string(data))
	data, err = shelf.Slice(t.Context(), key, 0, 4)
	require.NoError(t, err)
	assert.Equal(t, "sail", string(data))
	assert.EqualValues(t, 2, told.Load())
}

func TestNotesAreWholeOrNotThere(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	cache, err := diskcache.Open(folder)
	require.NoError(t, err)
	defer cache.Close()
	require.NoError(t, cache.Note("last/corvane/production", []byte("one")))
	require.NoError(t, cache.Note("last/corvane/production", []byte("two")))
	require.NoError(t, cache.Note("last/corvane/staging", []byte("three")))
	data, err := cache.Noted("last/corvane/production")
	require.NoError(t, err)
	assert.Equal(t, "two", string(data))
	names, err := cache.Notes("last/")
	require.NoError(t, err)
	assert.Equal(t, []string{"last/corvane/production", "last/corvane/staging"}, names)

	require.NoError(t, os.Truncate(filepath.Join(folder, "notes", "last+corvane+production"), 66))
	_, err = cache.Noted("last/corvane/production")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, cache.Forget("last/corvane/staging"))
	require.NoError(t, cache.Forget("last/corvane/staging"))
	_, err = cache.Noted("last/corvane/staging")
	require.ErrorIs(t, err, fs.ErrNotExist)
	for _, name := range []string{"", "../x", "A", "x//y"} {
		assert.Error(t, cache.Note(name, nil), name)
	}
}

func TestFoldersThatAreNoCache(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	cache, err := diskcache.Open(filepath.Join(folder, "new", "deep"))
	require.NoError(t, err)
	_, err = diskcache.Open(filepath.Join(folder, "new", "deep"))
	require.ErrorIs(t, err, diskcache.ErrTaken)
	cache.Close()
	cache, err = diskcache.Open(filepath.Join(folder, "new", "deep"))
	require.NoError(t, err)
	cache.Close()

	_, err = diskcache.Open(folder)
	require.ErrorIs(t, err, diskcache.ErrOther)
	for text, want := range map[string]error{`{"format":2,"kind":"orilla-cache"}`: diskcache.ErrFormat,
		`{"kind":"something"}`: diskcache.ErrOther, `hello`: diskcache.ErrOther} {
		other := filepath.Join(folder, fmt.Sprint(len(text)))
		require.NoError(t, os.MkdirAll(other, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(other, "orilla-cache"), []byte(text), 0o600))
		_, err := diskcache.Open(other)
		require.ErrorIs(t, err, want, text)
	}
}
