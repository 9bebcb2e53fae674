package trial_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/trial"
)

// TestATrialChangesNothingBeneath reads through, hides what it removed, and leaves
// the store beneath as it was.
func TestATrialChangesNothingBeneath(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	beneath := &memory.Store{}
	require.NoError(t, beneath.Create(ctx, "sites/a/claim", []byte("ines")))
	require.NoError(t, beneath.Create(ctx, "sites/a/old", []byte("old")))
	require.NoError(t, beneath.Create(ctx, "objects/ab", []byte("content")))
	s := trial.Over(beneath)

	data, err := s.Get(ctx, "sites/a/claim")
	require.NoError(t, err)
	assert.Equal(t, "ines", string(data))
	require.ErrorIs(t, s.Create(ctx, "sites/a/claim", nil), storage.ErrExists)
	require.NoError(t, s.Replace(ctx, "sites/a/claim", []byte("tobias")))
	require.NoError(t, s.Delete(ctx, "sites/a/old"))
	_, err = s.Stat(ctx, "sites/a/old")
	require.ErrorIs(t, err, storage.ErrNotFound)
	require.NoError(t, s.Create(ctx, "sites/a/new", []byte("new")))

	b, err := s.Begin(ctx)
	require.NoError(t, err)
	added, err := b.Add(ctx, "objects/ab", []byte("content"))
	require.NoError(t, err)
	assert.False(t, added, "it lies beneath")
	added, err = b.Add(ctx, "objects/cd", []byte("more"))
	require.NoError(t, err)
	assert.True(t, added)
	_, err = b.Commit(ctx)
	require.NoError(t, err)

	keys := func(store storage.Store, folder string) (keys []string) {
		for item, err := range store.List(ctx, folder) {
			require.NoError(t, err)
			keys = append(keys, item.Key)
		}
		return keys
	}
	assert.Equal(t, []string{"sites/a/claim", "sites/a/new"}, keys(s, "sites/a"))
	assert.Equal(t, []string{"objects/ab", "objects/cd"}, keys(s, "objects"))
	assert.Equal(t, []string{"sites/a/claim", "sites/a/old"}, keys(beneath, "sites/a"))
	assert.Equal(t, []string{"objects/ab"}, keys(beneath, "objects"))
	data, err = beneath.Get(ctx, "sites/a/claim")
	require.NoError(t, err)
	assert.Equal(t, "ines", string(data))

	require.NoError(t, s.Create(ctx, "sites/a/old", []byte("again")), "what was removed can be written anew")
	data, err = s.Get(ctx, "sites/a/old")
	require.NoError(t, err)
	assert.Equal(t, "again", string(data))
}
