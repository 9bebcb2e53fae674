package source_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/source"
)

func names(refs []source.Ref) []string {
	var out []string
	for _, ref := range refs {
		out = append(out, ref.Name)
	}
	return out
}

// TestAMirrorHasWhatTheOtherHas follows branches that come, move, are replaced
// and go, and refs of other kinds.
func TestAMirrorHasWhatTheOtherHas(t *testing.T) {
	t.Parallel()
	folder := repository(t)
	git(t, folder, "branch", "winter/times")
	git(t, folder, "update-ref", "refs/proposed/7/head", "HEAD")
	git(t, folder, "update-ref", "refs/other/x", "HEAD")
	git(t, folder, "tag", "-a", "v1", "-m", "One")
	mirror, err := source.OpenMirror(t.Context(), filepath.Join(t.TempDir(), "m.git"), folder, nil)
	require.NoError(t, err)
	patterns := []string{"refs/proposed/*/head", "!refs/proposed/9/*"}
	require.NoError(t, mirror.Fetch(t.Context(), patterns))
	refs, err := mirror.Refs(t.Context(), "refs/")
	require.NoError(t, err)
	assert.Equal(t, []string{"refs/heads/main", "refs/heads/winter/times", "refs/proposed/7/head",
		"refs/tags/v1"}, names(refs))
	assert.Equal(t, refs[0].Commit, refs[3].Commit, "a tag leads to its commit")
	assert.Equal(t, "main", mirror.MainBranch(t.Context()))

	first := git(t, folder, "rev-parse", "HEAD")
	commit(t, folder, map[string]string{"second.html": "2"}, "Second")
	git(t, folder, "branch", "-D", "-q", "winter/times")
	git(t, folder, "branch", "winter")
	git(t, folder, "commit", "-q", "--amend", "-m", "Second, again")
	git(t, folder, "checkout", "-q", "-b", "release")
	require.NoError(t, mirror.Fetch(t.Context(), patterns))
	refs, err = mirror.Refs(t.Context(), "refs/heads/")
	require.NoError(t, err)
	assert.Equal(t, []string{"refs/heads/main", "refs/heads/release", "refs/heads/winter"}, names(refs))
	assert.Equal(t, "release", mirror.MainBranch(t.Context()), "the main branch is what the other says")
	tips, err := mirror.Tips(t.Context(), "winter", "")
	require.NoError(t, err)
	require.Len(t, tips, 1)
	on, err := mirror.InAny(t.Context(), tips, first)
	require.NoError(t, err)
	assert.True(t, on)
	amended := git(t, folder, "rev-parse", "HEAD")
	on, err = mirror.InAny(t.Context(), tips, amended)
	require.NoError(t, err)
	assert.False(t, on, "what was amended is not on the branch that has the old one")
	commits, count, err := mirror.Since(t.Context(), amended, first, 10)
	require.NoError(t, err)
	assert.Equal(t, 1, count)
	assert.Equal(t, "Second, again", commits[0].Subject)
	commits, count, err = mirror.Since(t.Context(), amended, "0123456789012345678901234567890123456789", 10)
	require.NoError(t, err)
	assert.Equal(t, []any{1, amended}, []any{count, commits[0].Hash}, "without what was before, it is one")
	assert.Error(t, func() error {
		gone, err := source.OpenMirror(t.Context(), filepath.Join(t.TempDir(), "m.git"),
			filepath.Join(t.TempDir(), "nowhere"), nil)
		require.NoError(t, err)
		return gone.Fetch(t.Context(), nil)
	}())
}

// TestAShallowCloneGetsWhatItNeeds fetches one commit, a
// part of the history, and all of it.
func TestAShallowCloneGetsWhatItNeeds(t *testing.T) {
	t.Parallel()
	folder := repository(t)
	first := git(t, folder, "rev-parse", "HEAD")
	for i := range 8 {
		commit(t, folder, map[string]string{"page.html": string(rune('a' + i))}, "More")
	}
	clone := filepath.Join(t.TempDir(), "clone")
	git(t, t.TempDir(), "clone", "-q", "--depth=1", "file://"+folder, clone)
	r, err := source.FindRepository(t.Context(), clone)
	require.NoError(t, err)
	assert.True(t, r.IsShallow(t.Context()))
	_, err = r.Contains(t.Context(), "HEAD", first)
	require.ErrorIs(t, err, source.ErrNoCommit)
	there, err := r.FetchCommit(t.Context(), "main", first)
	require.NoError(t, err)
	assert.True(t, there)
	there, err = r.FetchCommit(t.Context(), "main", "0123456789012345678901234567890123456789")
	require.NoError(t, err)
	assert.False(t, there, "the remote has no such commit")
	contains, err := r.Contains(t.Context(), "HEAD", first)
	require.NoError(t, err)
	assert.False(t, contains, "the commit is here, and how it leads to HEAD is not")
	require.NoError(t, r.FetchMore(t.Context(), "main", "", 3))
	assert.True(t, r.IsShallow(t.Context()))
	require.NoError(t, r.FetchMore(t.Context(), "main", "", 0))
	assert.False(t, r.IsShallow(t.Context()))
	contains, err = r.Contains(t.Context(), "HEAD", first)
	require.NoError(t, err)
	assert.True(t, contains)
	git(t, clone, "remote", "remove", "origin")
	require.ErrorIs(t, r.FetchMore(t.Context(), "main", "", 0), source.ErrNoRemote)
	// A shallow clone can be checked out, and its history is as long as it is.
	other := filepath.Join(t.TempDir(), "other")
	git(t, t.TempDir(), "clone", "-q", "--depth=2", "file://"+folder, other)
	r, err = source.FindRepository(t.Context(), other)
	require.NoError(t, err)
	w := source.Workspace{Folder: filepath.Join(t.TempDir(), "w")}
	require.NoError(t, r.Checkout(t.Context(), git(t, other, "rev-parse", "HEAD"), w,
		source.View{History: true}))
	assert.Equal(t, "2", git(t, w.Tree(), "rev-list", "--count", "HEAD"))
}

// TestHooksOfABareRepositoryAndOfAFolderOfTheirOwn adds
// the line where Git looks for hooks.
func TestHooksOfABareRepositoryAndOfAFolderOfTheirOwn(t *testing.T) {
	t.Parallel()
	bare := t.TempDir()
	git(t, bare, "init", "-q", "--bare", "-b", "main")
	r, err := source.FindRepository(t.Context(), bare)
	require.NoError(t, err)
	assert.True(t, r.Bare)
	hooks, err := source.InstallHooks(t.Context(), r, false)
	require.NoError(t, err)
	require.Len(t, hooks, 1)
	assert.Equal(t, []string{"post-receive", source.HookMade}, []string{hooks[0].Name, hooks[0].State})
	clone := repository(t)
	git(t, clone, "push", "-q", bare, "main")
	assert.FileExists(t, filepath.Join(bare, source.TriggerFile))

	folder := repository(t)
	git(t, folder, "config", "core.hooksPath", "tools/hooks")
	r, err = source.FindRepository(t.Context(), folder)
	require.NoError(t, err)
	hooks, err = source.InstallHooks(t.Context(), r, false)
	require.NoError(t, err)
	require.Len(t, hooks, 3)
	commit(t, folder, map[string]string{"page.html": "x"}, "More")
	assert.FileExists(t, filepath.Join(folder, ".git", source.TriggerFile))
	again, err := source.InstallHooks(t.Context(), r, false)
	require.NoError(t, err)
	assert.Equal(t, source.HookThere, again[0].State)
	removed, err := source.RemoveHooks(t.Context(), r, false)
	require.NoError(t, err)
	for _, hook := range removed {
		assert.Equal(t, source.HookRemoved, hook.State)
		assert.NoFileExists(t, hook.Path)
	}
	removed, err = source.RemoveHooks(t.Context(), r, false)
	require.NoError(t, err)
	assert.Equal(t, source.HookAbsent, removed[0].State)
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "tools", "hooks", "post-commit"), 0o755))
	_, err = source.InstallHooks(t.Context(), r, false)
	assert.ErrorContains(t, err, "cannot change the hook")
}
