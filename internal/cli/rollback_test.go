package cli

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/pipeline"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/storetest"
)

// TestARollbackAsksTheSameOfTheStoreAtAnySize rolls back releases of a hundred and of a hundred thousand files.
func TestARollbackAsksTheSameOfTheStoreAtAnySize(t *testing.T) {
	var asked [][]string
	for _, n := range []int{100, 100_000} {
		store := &storetest.Noting{Store: &memory.Store{}}
		s := &session{project: &pipeline.Project{}, store: store, site: "corvane"}
		for version := range 2 {
			files := make([]release.File, n)
			for i := range files {
				files[i] = release.File{Path: fmt.Sprintf("page-%d.html", i), Digest: digest.Of([]byte{byte(version)}), Size: 1, Type: "text/html"}
			}
			index, err := release.Build(files, nil, release.Settings{})
			require.NoError(t, err)
			require.NoError(t, store.Store.Create(t.Context(), storage.ReleaseKey("corvane", index.ID.String()), index.Data))
			entry, err := s.journal("production").Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, journal.Move{Release: index.ID}, time.Now()))
			require.NoError(t, err)
			journal.Hints{}.Pulse(t.Context(), store, entry)
		}
		store.Asked()
		left, entry, err := s.moveBack(t.Context(), "production", nil, rollbackOptions{})
		require.NoError(t, err)
		assert.EqualValues(t, 2, left.Number)
		assert.EqualValues(t, 1, entry.Reactivates)
		var kinds []string
		for _, one := range store.Asked() {
			assert.NotContains(t, one, "objects/", "no object is read")
			kind, key, _ := strings.Cut(one, " ")
			switch {
			case strings.Contains(key, "/releases/"):
				key = "the root"
			case strings.HasPrefix(key, "pins/"):
				key = "the pin"
			}
			kinds = append(kinds, kind+" "+key)
		}
		asked = append(asked, kinds)
	}
	assert.Equal(t, asked[0], asked[1])
	assert.LessOrEqual(t, len(asked[0]), 11)
	t.Logf("%d operations: %s", len(asked[0]), strings.Join(asked[0], ", "))
}

func TestADryRunOfARollbackWritesNothing(t *testing.T) {
	store := &storetest.Noting{Store: &memory.Store{}}
	s := &session{project: &pipeline.Project{}, store: store, site: "corvane"}
	for version := range 2 {
		index, err := release.Build([]release.File{{Path: "index.html", Digest: digest.Of([]byte{byte(version)}), Size: 1}}, nil, release.Settings{})
		require.NoError(t, err)
		require.NoError(t, store.Create(t.Context(), storage.ReleaseKey("corvane", index.ID.String()), index.Data))
		_, err = s.journal("production").Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, journal.Move{Release: index.ID}, time.Now()))
		require.NoError(t, err)
	}
	store.Asked()
	_, entry, err := s.moveBack(t.Context(), "production", nil, rollbackOptions{dryRun: true})
	require.NoError(t, err)
	assert.EqualValues(t, 1, entry.Reactivates)
	for _, one := range store.Asked() {
		assert.NotRegexp(t, "^(create|replace|put|delete)", one)
	}
}
