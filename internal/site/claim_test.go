package site_test

import (
	"errors"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/site/sitetest"
	"orilla.example/orilla/internal/store/memory"
)

func claimName(t *testing.T, p *site.Project, store storage.Store, name string, takeOver bool,
	ask func() error,
) error {
	t.Helper()
	claim, err := site.CheckClaim(t.Context(), p, store, name, takeOver, ask)
	if err != nil {
		return err
	}
	return claim.Take(t.Context(), store, takeOver)
}

func TestAClaimBelongsToARepositoryWhereverItIsCloned(t *testing.T) {
	t.Parallel()
	folder, clone := project(t), filepath.Join(t.TempDir(), "clone")
	sitetest.Git(t, folder, "clone", "-q", folder, clone)
	store := &memory.Store{}
	asked := 0
	ask := func() error { asked++; return nil }
	load := func(folder string) *site.Project {
		p, err := site.Load(t.Context(), folder, site.Places{})
		require.NoError(t, err)
		return p
	}
	require.NoError(t, claimName(t, load(folder), store, "corvane", false, ask))
	require.NoError(t, claimName(t, load(clone), store, "corvane", false, ask))
	assert.Zero(t, asked, "a repository is not asked")
	before, err := site.ReadClaim(t.Context(), store, "corvane")
	require.NoError(t, err)

	other := load(project(t)) // the same content, another first commit only if the time differs
	sitetest.Git(t, other.Root, "commit", "-q", "--amend", "-m", "Another first sailing")
	other = load(other.Root)
	err = claimName(t, other, store, "corvane", false, ask)
	require.Equal(t, "name-taken", fault.Code(err))
	require.NoError(t, claimName(t, other, store, "corvane", true, ask))
	after, err := site.ReadClaim(t.Context(), store, "corvane")
	require.NoError(t, err)
	assert.Equal(t, before.Incarnation, after.Incarnation, "who takes a name over takes its history")
	assert.Equal(t, "name-taken", fault.Code(claimName(t, load(folder), store, "corvane", false, ask)))

	plain := load(t.TempDir())
	refusal := errors.New("no")
	require.ErrorIs(t, claimName(t, plain, store, "velley", false, func() error { return refusal }), refusal)
	require.NoError(t, claimName(t, plain, store, "velley", false, ask))
	require.NoError(t, claimName(t, plain, store, "velley", false, ask))
	assert.Equal(t, 1, asked, "a folder without Git is asked once")
}
