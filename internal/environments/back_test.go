package environments_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/storetest"
)

func version(t *testing.T, store storage.Store, n, v int) release.ID {
	t.Helper()
	put := func(data []byte) digest.Digest {
		d := digest.Of(data)
		if err := store.Create(t.Context(), d.Key(), data); err != nil {
			require.ErrorIs(t, err, storage.ErrExists)
		}
		return d
	}
	same, own := put([]byte("the same")), put(fmt.Append(nil, "version ", v))
	files := make([]release.File, n)
	for i := range files {
		files[i] = release.File{Path: fmt.Sprintf("page-%06d.html", i), Digest: same, Size: 8,
			Type: "text/html"}
	}
	files[n/2].Digest, files[n/2].Size = own, int64(len(fmt.Sprint("version ", v)))
	index, err := release.Build(files, nil, release.Settings{})
	require.NoError(t, err)
	for _, object := range index.Chunks {
		put(object.Data)
	}
	require.NoError(t, store.Create(t.Context(), storage.ReleaseKey("corvane", index.ID.String()),
		index.Data))
	j := environments.JournalOf(store, "corvane", "production", time.Now)
	entry, err := j.Append(t.Context(), journal.Entry{},
		journal.Activate(journal.Deploy,
			journal.Move{Release: index.ID, Origin: journal.Origin{Subject: fmt.Sprint("Version ", v)}},
			time.Now()))
	require.NoError(t, err)
	journal.ReadHints(t.Context(), store, "corvane").Pulse(t.Context(), store, entry)
	return index.ID
}

func goBack(t *testing.T, store storage.Store, dryRun bool) (environments.Back, error) {
	t.Helper()
	s, err := environments.NewOperator(t.Context(), &site.Project{}, store, "corvane", "command", "rollback")
	require.NoError(t, err)
	defer s.Close(t.Context())
	return s.GoBack(t.Context(), "production", journal.Back{}, dryRun)
}

func TestARollbackAsksTheSameOfTheStoreAtAnySize(t *testing.T) {
	t.Parallel()
	var asked [][]string
	for _, n := range []int{100, 100_000} {
		store := &storetest.Noting{Store: &memory.Store{}}
		version(t, store.Store, n, 1)
		version(t, store.Store, n, 2)
		store.Asked()
		back, err := goBack(t, store, false)
		require.NoError(t, err)
		assert.EqualValues(t, 2, back.Left.Number)
		assert.EqualValues(t, 1, back.Entry.Reactivates)
		assert.Equal(t, environments.Integrity{Objects: 1, Looked: 1}, back.Integrity)
		var kinds []string
		for _, one := range store.Asked() {
			kind, key, _ := strings.Cut(one, " ")
			for _, part := range []string{"releases/", "objects/", "pins/"} {
				if strings.Contains(key, part) {
					key = part
				}
			}
			kinds = append(kinds, kind+" "+key)
		}
		asked = append(asked, kinds)
	}
	assert.LessOrEqual(t, len(asked[1])-len(asked[0]), 6, "a longer index: the chunks above, on both sides")
	assert.LessOrEqual(t, len(asked[0]), 18)
	t.Logf("%d operations at 100 files, %d at 100,000: %s", len(asked[0]), len(asked[1]),
		strings.Join(asked[1], ", "))
}

func TestADryRunOfARollbackWritesNothing(t *testing.T) {
	t.Parallel()
	store := &storetest.Noting{Store: &memory.Store{}}
	version(t, store, 3, 1)
	version(t, store, 3, 2)
	store.Asked()
	back, err := goBack(t, store, true)
	require.NoError(t, err)
	assert.EqualValues(t, 1, back.Entry.Reactivates)
	for _, one := range store.Asked() {
		if !strings.Contains(one, " pins/") {
			assert.NotRegexp(t, "^(create|replace|put|delete)", one)
		}
	}
}

func TestARollbackToWhatIsNotWholeChangesNothing(t *testing.T) {
	t.Parallel()
	for what, damage := range map[string]func(ctx context.Context, store storage.Store, id release.ID) error{
		"the root is gone": func(ctx context.Context, store storage.Store, id release.ID) error {
			return store.Delete(ctx, storage.ReleaseKey("corvane", id.String()))
		},
		"the root is damaged": func(ctx context.Context, store storage.Store, id release.ID) error {
			return store.Replace(ctx, storage.ReleaseKey("corvane", id.String()), []byte("{"))
		},
		"an object is gone": func(ctx context.Context, store storage.Store, _ release.ID) error {
			return store.Delete(ctx, digest.Of([]byte("version 3")).Key())
		},
		"an object has other bytes of the same length": func(ctx context.Context, store storage.Store,
			_ release.ID) error {
			return store.Replace(ctx, digest.Of([]byte("version 3")).Key(), []byte("versiom 3"))
		},
		"the index is gone": func(ctx context.Context, store storage.Store, id release.ID) error {
			reader, err := release.Read(ctx, store, "corvane", id)
			if err != nil {
				return err
			}
			refs, err := reader.Refs(ctx)
			if err != nil {
				return err
			}
			return store.Delete(ctx, refs[0].Digest.Key())
		},
	} {
		t.Run(what, func(t *testing.T) {
			store := &memory.Store{}
			var ids []release.ID
			for v := range 5 {
				ids = append(ids, version(t, store, 1, v))
			}
			require.NoError(t, damage(t.Context(), store, ids[3]))
			_, err := goBack(t, store, false)
			problem, ok := errors.AsType[*fault.Error](err)
			require.True(t, ok, "%v", err)
			assert.Equal(t, "release-lost", problem.Code)
			assert.Equal(t, fault.Refused, problem.Kind)
			assert.True(t, slices.Contains(problem.Detail, "the nearest complete one: "+
				"production:3, Version 2"),
				"%q", problem.Detail)
			head, err := environments.JournalOf(store, "corvane", "production", time.Now).Head(t.Context(), 0)
			require.NoError(t, err)
			assert.EqualValues(t, 5, head.Number, "nothing was changed")
		})
	}
}
