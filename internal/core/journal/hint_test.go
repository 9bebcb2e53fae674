package journal_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

// askingStore counts what is asked of a store.
type askingStore struct {
	mutex sync.Mutex
	*memory.Store
	asked []string
}

func (c *askingStore) Get(ctx context.Context, key string) ([]byte, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.asked = append(c.asked, "get "+key[strings.LastIndexByte(key, '/')+1:])
	return c.Store.Get(ctx, key)
}

func (c *askingStore) Stat(ctx context.Context, key string) (storage.Item, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.asked = append(c.asked, "stat "+key[strings.LastIndexByte(key, '/')+1:])
	return c.Store.Stat(ctx, key)
}

func TestAHintSavesProbesAndIsNeverReliedOn(t *testing.T) {
	t.Parallel()
	store := &askingStore{Store: &memory.Store{}}
	j := of(store)
	last := journal.Entry{}
	for n := range 40 {
		entry, err := j.Append(t.Context(), last,
			journal.Activate(journal.Deploy, journal.Move{Release: id(fmt.Sprint(n))}, noon))
		require.NoError(t, err)
		last = entry
	}
	for hint, most := range map[int64]int{40: 2, 39: 3, 36: 8, 30: 22, 0: 24, 41: 24, 900: 24} {
		store.asked = nil
		head, err := j.Head(t.Context(), hint)
		require.NoError(t, err)
		assert.EqualValues(t, 40, head.Number, "hint %d", hint)
		assert.LessOrEqual(t, len(store.asked), most, "hint %d: %v", hint, store.asked)
	}
	store.asked = nil
	_, err := j.Append(t.Context(), last, journal.SetFrozen(&journal.Frozen{Who: "x"}, "command", "x", "",
		noon))
	require.NoError(t, err)
	assert.Empty(t, store.asked, "an entry that was written is known")
	stale, err := j.Append(t.Context(), last, journal.SetFrozen(nil, "command", "x", "", noon))
	require.NoError(t, err)
	assert.EqualValues(t, 42, stale.Number, "who knows an older one reads the newer")
	require.NoError(t, store.Replace(t.Context(), storage.JournalKey("corvane", "production", 20),
		[]byte("damaged")))
	head, err := j.Head(t.Context(), 20)
	require.NoError(t, err, "a damaged entry that a hint names is not the head")
	assert.EqualValues(t, 42, head.Number)
}

func TestHintsAreKeptForEachEnvironment(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	assert.Empty(t, journal.ReadHints(t.Context(), store, "corvane"))
	for _, damaged := range []string{"", "{", `{"format":1}`, `[]`} {
		require.NoError(t, store.Replace(t.Context(), storage.PulseKey("corvane"), []byte(damaged)))
		hints := journal.ReadHints(t.Context(), store, "corvane")
		require.NotNil(t, hints)
		assert.Empty(t, hints)
	}
	hints := journal.ReadHints(t.Context(), store, "corvane")
	hints.Pulse(t.Context(), store, journal.Entry{Site: "corvane", Environment: "production", Number: 7,
		Attempt: "a"})
	first, err := store.Get(t.Context(), storage.PulseKey("corvane"))
	require.NoError(t, err)
	assert.Equal(t, `{"format":1,"heads":{"production":7},"random":"a"}`, string(first),
		"the record is frozen")
	hints = journal.ReadHints(t.Context(), store, "corvane")
	hints.Pulse(t.Context(), store, journal.Entry{Site: "corvane", Environment: "preview.winter", Number: 1,
		Attempt: "b"})
	assert.Equal(t, journal.Hints{"production": 7, "preview.winter": 1}, journal.ReadHints(t.Context(), store,
		"corvane"))
	for n := range 500 {
		hints.Pulse(t.Context(), store, journal.Entry{Site: "corvane", Environment: fmt.Sprint("preview.", n),
			Number: 1})
	}
	assert.Less(t, len(journal.ReadHints(t.Context(), store, "corvane")), 300, "the record stays small")
}

func TestARemovalServesNothing(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	_, err := j.Append(t.Context(), journal.Entry{}, journal.Remove(journal.Ended{}, "command", "x", ""))
	require.ErrorIs(t, err, journal.ErrEmpty)
	_, err = j.Append(t.Context(), journal.Entry{},
		journal.Activate(journal.Deploy, journal.Move{Release: id("a")}, noon))
	require.NoError(t, err)
	entry, err := j.Append(t.Context(), journal.Entry{},
		journal.Remove(journal.Ended{Reason: journal.Merged, Into: "production"}, "command", "Ines Marrow",
			""))
	require.NoError(t, err)
	read, err := j.Get(t.Context(), entry.Number)
	require.NoError(t, err)
	assert.True(t, read.Release.IsZero())
	assert.Equal(t, journal.Removal, read.Kind)
}
