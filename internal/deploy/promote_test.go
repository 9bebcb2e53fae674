package deploy_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/site/sitetest"
	"orilla.example/orilla/internal/store/memory"
)

func TestANodeThatIsTooOldIsNotLeftBehind(t *testing.T) {
	t.Parallel()
	folder := sitetest.Pages(t)
	p, store := sitetest.Load(t, folder), &memory.Store{}
	commit := sitetest.CommitPage(t, folder, "one")
	require.NoError(t, deployMain(t.Context(), p, store, commit))
	head, err := environments.JournalOf(store, "corvane", "production", time.Now).Head(t.Context(), 0)
	require.NoError(t, err)
	reader, err := release.Read(t.Context(), store, "corvane", head.Release)
	require.NoError(t, err)
	root := reader.Root
	require.Equal(t, release.Semantics2, root.Semantics)
	root.Semantics = release.Semantics1
	first, known, err := root.Encode()
	require.NoError(t, err)
	require.NoError(t, store.Create(t.Context(), storage.ReleaseKey("corvane", known.String()), first))
	root.Semantics = release.Semantics3
	data, id, err := root.Encode()
	require.NoError(t, err)
	require.NoError(t, store.Create(t.Context(), storage.ReleaseKey("corvane", id.String()), data))
	announce := func(knows storage.Formats) {
		data, err := json.Marshal(edge.Presence{Format: 1, Node: "pier-7420", Address: "10.1.2.3:7420",
			Version: "0.1.0", Knows: knows})
		require.NoError(t, err)
		require.NoError(t, store.Replace(t.Context(), storage.EdgeKey("pier-7420"), data))
	}
	promote := func(id release.ID) error {
		plan := &site.Plan{Project: p, Site: "corvane", Environment: "production", Origin: head.Origin,
			Config: p.LocalConfig}
		prepared, err := deploy.PreparePromotion(t.Context(), deploy.Job{
			Plan: plan, Store: store, Report: deploy.Silent{}, Now: time.Now, Cause: "command",
		})
		require.NoError(t, err)
		defer prepared.Close(t.Context())
		made, err := prepared.Promote(t.Context(), id)
		require.NoError(t, err)
		_, err = made.Activate(t.Context())
		return err
	}
	announce(storage.Formats{})
	err = promote(id)
	require.Equal(t, "node-too-old", fault.Code(err), "%v", err)
	assert.Contains(t, err.Error(), "pier-7420 does not know releases of semantics 3")
	after, err := environments.JournalOf(store, "corvane", "production", time.Now).Head(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, head.Number, after.Number, "nothing was written")
	require.NoError(t, promote(known), "what every version knows goes on")
	commit = sitetest.CommitPage(t, folder, "two")
	err = deployMain(t.Context(), sitetest.Load(t, folder), store, commit)
	require.Equal(t, "node-too-old", fault.Code(err), "and a build does not even begin: %v", err)
	last, err := builds.Runs{Store: store, Site: "corvane"}.Last(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, int64(1), last)
	announce(storage.Known)
	require.NoError(t, promote(id))
	after, err = environments.JournalOf(store, "corvane", "production", time.Now).Head(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, []any{id, journal.Format}, []any{after.Release, after.Format})
}
