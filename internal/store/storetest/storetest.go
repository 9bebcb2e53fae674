// Package storetest holds the test that every engine of storage.Store must pass,
// in the way of testing/fstest, and servers that misbehave on purpose.
//
//	func TestContract(t *testing.T) {
//		storetest.Run(t, storetest.Options{}, func(t *testing.T) (storage.Store, func() storage.Store) {
//			folder := t.TempDir()
//			return open(folder), func() storage.Store { return open(folder) }
//		})
//	}
//
// Faulty stands before an object store and loses, delays, refuses and cuts answers;
// Cutter stands before any TCP server and cuts connections after so many bytes.
// Both take a seed, so that a bad day can be had again.
package storetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// Options say in which of the ways that the contract
// leaves open an engine behaves.
type Options struct {
	WritesWithoutAsking bool // a batch writes an object also if it is there
}

// Name returns a name for a store of a test's own:
// lower-case letters and digits.
func Name(t *testing.T) string {
	t.Helper()
	sum := digest.Of([]byte(t.Name())).String()
	return "t" + sum[:16]
}

// Run tests an engine. open returns an empty store; again opens the same store
// as another process would, or returns it.
func Run(t *testing.T, options Options,
	open func(t *testing.T) (store storage.Store, again func() storage.Store),
) {
	t.Helper()
	// batchTaken: a record in a batch whose key is taken is told, and what is
	// there stays.
	batchTaken := func(t *testing.T, a, b storage.Store) { t.Helper(); batchTaken(t, options, a, b) }
	for _, test := range []struct {
		name string
		run  func(t *testing.T, a, b storage.Store)
	}{
		{"what is created is read back by all", created},
		{"a taken key stays as it is", taken},
		{"of many that create a key one succeeds", raced},
		{"readers never see a part", whole},
		{"a slice is a part of what is kept", sliced},
		{"replace takes the last word", replaced},
		{"a batch appears with its commit", batched},
		{"a batch leaves what is there alone", batchTaken},
		{"a discarded batch leaves nothing", discarded},
		{"listing is one level deep and in order", listed},
		{"what is removed is gone, many at once too", removed},
		{"a clock is learnt", clock},
		{"keys that are none are refused", badKeys},
		{"a context that has ended ends every call", ended},
		{"an error says what was asked, and of which key", said},
	} {
		t.Run(test.name, func(t *testing.T) {
			store, again := open(t)
			test.run(t, store, again())
		})
	}
}

// said holds engines to storage.Error: whoever meets an error far from the
// store can tell people which operation failed, and on what.
func said(t *testing.T, store, _ storage.Store) {
	t.Helper()
	ctx := t.Context()
	require.NoError(t, store.Create(ctx, "sites/corvane/claim", []byte("mine")))
	over, end := context.WithCancel(ctx)
	end()

	for _, test := range []struct {
		op, key string
		cause   error
		call    func() error
	}{
		{"get", "sites/none", storage.ErrNotFound, func() error {
			_, err := store.Get(ctx, "sites/none")
			return err
		}},
		{"stat", "sites/none", storage.ErrNotFound, func() error {
			_, err := store.Stat(ctx, "sites/none")
			return err
		}},
		{"create", "sites/corvane/claim", storage.ErrExists, func() error {
			return store.Create(ctx, "sites/corvane/claim", []byte("yours"))
		}},
		{"list", "sites", context.Canceled, func() error {
			for _, err := range store.List(over, "sites") {
				return err
			}
			return nil
		}},
		{"replace", "sites/corvane/x", context.Canceled, func() error {
			return store.Replace(over, "sites/corvane/x", nil)
		}},
		{"delete", "sites/corvane/x", context.Canceled, func() error {
			return store.Delete(over, "sites/corvane/x")
		}},
	} {
		var failed *storage.Error
		err := test.call()
		require.ErrorAs(t, err, &failed, "%s gave %v", test.op, err)
		assert.Equal(t, test.op, failed.Op)
		assert.Equal(t, test.key, failed.Key, "of %s", test.op)
		assert.Equal(t, store.Address(), failed.Store)
		require.ErrorIs(t, err, test.cause, "of %s", test.op)
		assert.Equal(t, 1, strings.Count(err.Error(), test.key), "the key is said once: %v", err)
	}
}

// created: what one handle has created, another one reads, and what was deleted
// is gone for both.
func created(t *testing.T, a, b storage.Store) {
	t.Helper()
	ctx := t.Context()
	_, err := b.Get(ctx, "sites/corvane/claim")
	require.ErrorIs(t, err, storage.ErrNotFound)
	_, err = b.Stat(ctx, "sites/corvane/claim")
	require.ErrorIs(t, err, storage.ErrNotFound)
	require.NoError(t, a.Create(ctx, "sites/corvane/claim", []byte("mine")))
	data, err := b.Get(ctx, "sites/corvane/claim")
	require.NoError(t, err)
	assert.Equal(t, "mine", string(data))
	item, err := b.Stat(ctx, "sites/corvane/claim")
	require.NoError(t, err)
	assert.EqualValues(t, 4, item.Size)
	_, err = b.Stat(ctx, "sites/corvane")
	require.ErrorIs(t, err, storage.ErrNotFound, "a folder is not a key")
	require.NoError(t, b.Delete(ctx, "sites/corvane/claim"))
	require.NoError(t, b.Delete(ctx, "sites/corvane/claim"), "removing twice is no error")
	_, err = a.Get(ctx, "sites/corvane/claim")
	require.ErrorIs(t, err, storage.ErrNotFound)
}

// taken: the second writer of a key is told, and the first one's bytes stay,
// whatever their lengths.
func taken(t *testing.T, a, b storage.Store) {
	t.Helper()
	require.NoError(t, a.Create(t.Context(), "a/1", []byte("first")))
	require.ErrorIs(t, b.Create(t.Context(), "a/1", []byte("second, longer")), storage.ErrExists)
	data, err := a.Get(t.Context(), "a/1")
	require.NoError(t, err)
	assert.Equal(t, "first", string(data))
}

// raced lets sixteen writers create one key, again and again. All correctness
// of journals rests on there being one winner each time.
func raced(t *testing.T, a, b storage.Store) {
	t.Helper()
	for round := range 20 {
		var winners atomic.Int32
		var won atomic.Value
		var writers sync.WaitGroup
		for i := range 16 {
			writers.Go(func() {
				store := []storage.Store{a, b}[i%2]
				data := fmt.Sprintf("writer %d", i)
				switch err := store.Create(t.Context(), fmt.Sprintf("race/%d", round), []byte(data)); {
				case err == nil:
					winners.Add(1)
					won.Store(data)
				case !errors.Is(err, storage.ErrExists):
					t.Errorf("round %d: %v", round, err)
				}
			})
		}

		writers.Wait()
		require.EqualValues(t, 1, winners.Load(), "round %d", round)
		data, err := b.Get(t.Context(), fmt.Sprintf("race/%d", round))
		require.NoError(t, err)
		require.Equal(t, won.Load(), string(data))
	}
}

// whole reads keys while they are created and replaced: a reader sees all bytes
// of one writer, or none.
func whole(t *testing.T, a, b storage.Store) {
	t.Helper()
	content := bytes.Repeat([]byte("whole or not at all. "), 20_000)
	var readers, writers sync.WaitGroup
	done := make(chan struct{})
	for range 2 {
		readers.Go(func() {
			for n := 0; ; n = (n + 1) % 30 {
				data, err := b.Get(context.Background(), fmt.Sprintf("torn/%d", n))
				if err == nil && len(data) != len(content) {
					t.Errorf("read %d of %d bytes", len(data), len(content))
				}
				select {
				case <-done:
					return
				default:
				}
			}
		})
	}

	for i := range 30 {
		writers.Go(func() { assert.NoError(t, a.Create(t.Context(), fmt.Sprintf("torn/%d", i), content)) })
	}
	writers.Wait()
	close(done)
	readers.Wait()
}

// sliced: a part is read at its place, and nothing beyond the end.
func sliced(t *testing.T, a, b storage.Store) {
	t.Helper()
	content := bytes.Repeat([]byte("0123456789"), 30_000)
	require.NoError(t, a.Create(t.Context(), "objects/sliced", content))
	for _, at := range []struct {
		offset int64
		length int
	}{{0, 10}, {5, 3}, {131072, 131072}, {299_995, 100}, {300_000, 10}, {400_000, 1}, {7, 0}} {
		data, err := storage.Slice(t.Context(), b, "objects/sliced", at.offset, at.length)
		require.NoError(t, err, at)
		from := min(at.offset, int64(len(content)))
		assert.Equal(t, string(content[from:min(from+int64(at.length), int64(len(content)))]),
			string(data), at)
	}
	_, err := storage.Slice(t.Context(), b, "objects/none", 0, 10)
	require.ErrorIs(t, err, storage.ErrNotFound)
}

// replaced: the last writer's bytes are read, whoever has the handle.
func replaced(t *testing.T, a, b storage.Store) {
	t.Helper()
	for _, text := range []string{"one", "two, longer", "3"} {
		require.NoError(t, a.Replace(t.Context(), "pulse/corvane", []byte(text)))
		data, err := b.Get(t.Context(), "pulse/corvane")
		require.NoError(t, err)
		assert.Equal(t, text, string(data))
	}
}

// batched: records in a batch appear with its commit; objects may appear
// before.
func batched(t *testing.T, a, b storage.Store) {
	t.Helper()
	ctx := t.Context()
	batch, err := a.Begin(ctx)
	require.NoError(t, err)
	const many = 200 // more than engines flush one by one
	var adders sync.WaitGroup
	var objects [many][]byte
	for i := range many {
		objects[i] = bytes.Repeat([]byte{byte(i)}, i)
		adders.Go(func() {
			added, err := batch.Add(ctx, digest.Of(objects[i]).Key(), objects[i])
			require.NoError(t, err)
			assert.True(t, added, "object %d", i)
		})
	}

	adders.Wait()
	added, err := batch.Add(ctx, digest.Of(objects[7]).Key(), objects[7])
	require.NoError(t, err)
	assert.False(t, added, "added twice")
	taken, err := batch.Commit(ctx)
	require.NoError(t, err)
	assert.Empty(t, taken)

	for i, object := range objects {
		data, err := b.Get(ctx, digest.Of(object).Key())
		require.NoError(t, err, "object %d", i)
		require.Len(t, data, len(object))
	}

	batch.Discard() // after Commit it does nothing
	_, err = b.Get(ctx, digest.Of(objects[7]).Key())
	require.NoError(t, err)
}

func batchTaken(t *testing.T, options Options, a, b storage.Store) {
	t.Helper()
	ctx := t.Context()
	object := []byte("a page of Corvane Ferries")
	key := digest.Of(object).Key()
	require.NoError(t, a.Create(ctx, key, object))
	require.NoError(t, a.Create(ctx, "sites/corvane/builds/k/1", []byte("theirs")))
	batch, err := b.Begin(ctx)
	require.NoError(t, err)
	added, err := batch.Add(ctx, key, object)
	require.NoError(t, err)
	assert.Equal(t, options.WritesWithoutAsking, added,
		"what is present is not written again where asking is cheap")

	_, err = batch.Add(ctx, "sites/corvane/builds/k/2", []byte("ours"))
	require.NoError(t, err)
	require.NoError(t, a.Create(ctx, "sites/corvane/builds/k/2", []byte("faster")))
	taken, err := batch.Commit(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"sites/corvane/builds/k/2"}, taken)
	data, err := a.Get(ctx, "sites/corvane/builds/k/2")
	require.NoError(t, err)
	assert.Equal(t, "faster", string(data))

	damaged := []byte("torn")
	other := digest.Of([]byte("something longer than that")).Key()
	require.NoError(t, a.Create(ctx, other, damaged))
	batch, err = a.Begin(ctx)
	require.NoError(t, err)
	added, err = batch.Add(ctx, other, []byte("something longer than that"))
	require.NoError(t, err)
	assert.True(t, added, "an object of another size is damaged, and written anew")
	_, err = batch.Commit(ctx)
	require.NoError(t, err)
	data, err = b.Get(ctx, other)
	require.NoError(t, err)
	assert.Equal(t, "something longer than that", string(data))
}

// discarded: of a batch that was dropped no record is seen.
func discarded(t *testing.T, a, b storage.Store) {
	t.Helper()
	batch, err := a.Begin(t.Context())
	require.NoError(t, err)
	_, err = batch.Add(t.Context(), "objects/ab/abcd", []byte("never"))
	require.NoError(t, err)
	batch.Discard()
	_, err = batch.Commit(t.Context())
	require.Error(t, err, "a batch ends once")
	if item, err := b.Stat(t.Context(), "objects/ab/abcd"); err == nil {
		assert.EqualValues(t, 5, item.Size, "an engine may show what was added, but whole")
	}
}

// listed: one level, folders and keys, in order of their names; a folder that
// is not there is empty.
func listed(t *testing.T, a, b storage.Store) {
	t.Helper()
	ctx := t.Context()
	for _, key := range []string{"sites/corvane/claim", "sites/corvane/releases/2",
		"sites/corvane/releases/10", "sites/corvane/releases/1", "sites/corvane-b/claim"} {
		require.NoError(t, a.Create(ctx, key, []byte(key)))
	}

	assert.Equal(t, []string{"sites/corvane/", "sites/corvane-b/"}, sortedByName(names(t, b, "sites")))
	assert.Equal(t, []string{"sites/corvane/claim", "sites/corvane/releases/"}, names(t, b, "sites/corvane"))
	assert.Equal(t, []string{"sites/corvane/releases/1", "sites/corvane/releases/10",
		"sites/corvane/releases/2"}, names(t, b, "sites/corvane/releases"))
	assert.Empty(t, names(t, b, "nothing/here"))

	for item, err := range b.List(ctx, "sites/corvane/releases") { // leaving early is allowed
		require.NoError(t, err)
		assert.EqualValues(t, len(item.Key), item.Size)
		break
	}
}

// removed: many keys at once, some of which are not there.
func removed(t *testing.T, a, b storage.Store) {
	t.Helper()
	var keys []string
	for i := range 30 {
		keys = append(keys, fmt.Sprintf("objects/%02d/x", i))
		require.NoError(t, a.Create(t.Context(), keys[i], []byte("x")))
	}

	require.NoError(t, storage.Remove(t.Context(), a, append(keys[:29:29], "objects/zz/never")))
	for i, key := range keys {
		_, err := b.Stat(t.Context(), key)
		if i < 29 {
			require.ErrorIs(t, err, storage.ErrNotFound)
		} else {
			require.NoError(t, err)
		}
	}

	require.NoError(t, a.Create(t.Context(), "sites/corvane/environments/production/journal/1", nil))
	require.NoError(t, b.Create(t.Context(), "sites/velley/claim", nil))
	require.NoError(t, a.Delete(t.Context(), "sites/corvane/environments/production/journal/1"))
	for _, site := range []string{"corvane", "velley", "never"} {
		if tidier, ok := a.(storage.Tidier); ok {
			require.NoError(t, tidier.Tidy(t.Context(), "sites/"+site))
		}
	}
	assert.Equal(t, []string{"sites/velley/"}, names(t, b, "sites"))
	require.NoError(t, a.Create(t.Context(), "sites/corvane/claim", nil), "a folder that went comes back")
}

// clock: the time of a fresh write is by the store's clock, and near to now.
func clock(t *testing.T, a, _ storage.Store) {
	t.Helper()
	now := time.Now()
	require.NoError(t, a.Create(t.Context(), "pins/x", []byte("x")))
	ahead, err := storage.Ahead(t.Context(), a, "pins/x", now)
	require.NoError(t, err)
	assert.Less(t, ahead.Abs(), 3*time.Second, "both run on this machine")
}

// names lists a folder.
func names(t *testing.T, store storage.Store, folder string) []string {
	t.Helper()
	var found []string
	for item, err := range store.List(t.Context(), folder) {
		require.NoError(t, err)
		if item.Folder {
			item.Key += "/"
		}
		found = append(found, item.Key)
	}
	return found
}

// sortedByName allows engines to order folders with or
// without the slash that ends them.
func sortedByName(found []string) []string {
	if len(found) == 2 && strings.HasPrefix(found[0], "sites/corvane-b") {
		found[0], found[1] = found[1], found[0]
	}
	return found
}

// badKeys: a key that could lead out of the store, or that some file system
// could not hold, is refused by every call.
func badKeys(t *testing.T, a, _ storage.Store) {
	t.Helper()
	for _, key := range []string{"", "/a", "a/", "a//b", "../a", "a/../b", "a/.b", "A/b", "a b", "a\\b",
		"a\x00b", "é", strings.Repeat("a", 201), strings.Repeat("a/", 300) + "a"} {
		require.ErrorIs(t, a.Create(t.Context(), key, nil), storage.ErrBadKey, "%q", key)
		_, err := a.Get(t.Context(), key)
		require.ErrorIs(t, err, storage.ErrBadKey, "%q", key)
		require.ErrorIs(t, a.Replace(t.Context(), key, nil), storage.ErrBadKey, "%q", key)
		assert.ErrorIs(t, a.Delete(t.Context(), key), storage.ErrBadKey, "%q", key)
	}
}

// ended: a call whose context has ended returns at once with the context's
// error.
func ended(t *testing.T, a, _ storage.Store) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, a.Create(ctx, "a/b", nil), context.Canceled)
	_, err := a.Get(ctx, "a/b")
	require.ErrorIs(t, err, context.Canceled)
	_, err = a.Begin(ctx)
	require.ErrorIs(t, err, context.Canceled)
	for _, err := range a.List(ctx, "a") {
		assert.ErrorIs(t, err, context.Canceled)
	}
}
