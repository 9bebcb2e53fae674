package pipeline_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/pipeline"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/ssh"
)

func git(t *testing.T, folder string, args ...string) string {
	t.Helper()
	command := exec.Command("git", args...)
	command.Dir = folder
	command.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME=Ines Marrow", "GIT_AUTHOR_EMAIL=ines@corvane.example",
		"GIT_COMMITTER_NAME=Ines Marrow", "GIT_COMMITTER_EMAIL=ines@corvane.example")
	out, err := command.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

func project(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	config := "site: corvane\nbuild: {run: [make], output: out}\nenvironments:\n  production: {follows: main}\n  staging: {follows: next}\n  archive: {}\n"
	require.NoError(t, os.WriteFile(filepath.Join(folder, "orilla.yaml"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.html"), []byte("1"), 0o644))
	git(t, folder, "init", "-q", "-b", "main")
	git(t, folder, "add", ".")
	git(t, folder, "commit", "-q", "-m", "First sailing")
	git(t, folder, "tag", "v1")
	git(t, folder, "branch", "next")
	git(t, folder, "branch", "winter-times")
	return folder
}

// TestPlans says for each order what it means: the environment and the source, or the code of the refusal.
func TestPlans(t *testing.T) {
	folder := project(t)
	hash := git(t, folder, "rev-parse", "HEAD")
	for name, test := range map[string]struct {
		order       pipeline.Order
		environment string
		source      string
		code        string
	}{
		"nothing said":                {pipeline.Order{}, "production", "commit", ""},
		"a branch":                    {pipeline.Order{Commit: "next"}, "staging", "commit", ""},
		"a branch without a place":    {pipeline.Order{Commit: "winter-times"}, "preview.winter-times", "commit", ""},
		"relative to HEAD":            {pipeline.Order{Commit: "HEAD~0"}, "production", "commit", ""},
		"a tag":                       {pipeline.Order{Commit: "v1"}, "", "", "no-target"},
		"a hash":                      {pipeline.Order{Commit: hash}, "", "", "no-target"},
		"a hash with a target":        {pipeline.Order{Commit: hash[:8], To: "archive"}, "archive", "commit", ""},
		"a hash with a branch":        {pipeline.Order{Commit: hash, Branch: "next"}, "staging", "commit", ""},
		"the working tree":            {pipeline.Order{WorkingTree: true}, "production", "working-tree", ""},
		"a preview by name":           {pipeline.Order{To: "preview/mine"}, "preview.mine", "commit", ""},
		"a preview with a bad name":   {pipeline.Order{To: "preview/My Own"}, "", "", "bad-environment"},
		"an unknown environment":      {pipeline.Order{To: "produktion"}, "", "", "unknown-environment"},
		"ready output":                {pipeline.Order{From: "out"}, "production", "output", ""},
		"ready output of a commit":    {pipeline.Order{From: "out", SaidCommit: "v1"}, "production", "output", ""},
		"ready output of no commit":   {pipeline.Order{From: "out", SaidCommit: "nowhere"}, "", "", "no-commit"},
		"two sources":                 {pipeline.Order{From: "out", WorkingTree: true}, "", "", "one-source"},
		"a commit and a working tree": {pipeline.Order{Commit: "v1", WorkingTree: true}, "", "", "one-source"},
		"a said commit alone":         {pipeline.Order{SaidCommit: "v1"}, "", "", "one-source"},
		"an unknown commit":           {pipeline.Order{Commit: "nxt"}, "", "", "no-commit"},
		"a bad name":                  {pipeline.Order{Site: "Not A Label"}, "", "", "bad-site"},
		"built for nowhere":           {pipeline.Order{Commit: hash, NoTarget: true}, "", "commit", ""},
	} {
		p, err := pipeline.Load(t.Context(), folder, pipeline.Places{})
		require.NoError(t, err)
		plan, err := p.MakePlan(t.Context(), test.order)
		if test.code != "" {
			assert.Equal(t, test.code, fault.Code(err), "%s: %v", name, err)
			problem, _ := errors.AsType[*fault.Error](err)
			assert.NotEmpty(t, problem.Next, "%s: what to do next", name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, test.environment, plan.Environment, name)
		assert.Equal(t, test.source, string(plan.Origin.Source), name)
	}
}

func TestAProjectWithoutGit(t *testing.T) {
	folder := t.TempDir()
	p, err := pipeline.Load(t.Context(), folder, pipeline.Places{})
	require.NoError(t, err)
	assert.False(t, p.Configured)
	_, err = p.MakePlan(t.Context(), pipeline.Order{})
	assert.Equal(t, "no-site", fault.Code(err))
	_, err = p.MakePlan(t.Context(), pipeline.Order{Site: "corvane", Commit: "HEAD"})
	assert.Equal(t, "no-repository", fault.Code(err))
	_, err = p.MakePlan(t.Context(), pipeline.Order{Site: "corvane", From: ".", To: "production", SaidCommit: "not a hash"})
	assert.Equal(t, "bad-commit", fault.Code(err))
	plan, err := p.MakePlan(t.Context(), pipeline.Order{Site: "corvane", To: "production"})
	require.NoError(t, err)
	assert.Equal(t, "working-tree", string(plan.Origin.Source), "a folder is taken as it is")
	assert.NotEmpty(t, p.Person(t.Context()))
	_, err = pipeline.Load(t.Context(), filepath.Join(folder, "nowhere"), pipeline.Places{})
	assert.Equal(t, "no-folder", fault.Code(err))
}

func TestWhereAStoreLies(t *testing.T) {
	root, data := t.TempDir(), t.TempDir()
	for address, want := range map[string]string{
		"": filepath.Join(data, "store"), "../beside": filepath.Join(filepath.Dir(root), "beside"), "sub/store": filepath.Join(root, "sub", "store"),
		filepath.Join(data, "absolute"): filepath.Join(data, "absolute"), "file://" + filepath.ToSlash(filepath.Join(data, "url")): filepath.Join(data, "url"),
	} {
		store, err := pipeline.OpenStore(t.Context(), address, root, pipeline.Places{Data: data}, true)
		require.NoError(t, err, address)
		assert.Equal(t, want, store.Address())
		require.NoError(t, store.Create(t.Context(), "pins/x", nil))
	}
	_, err := pipeline.OpenStore(t.Context(), "nowhere", root, pipeline.Places{}, false)
	assert.Equal(t, "no-store", fault.Code(err))
	_, err = pipeline.OpenStore(t.Context(), "ftp://host/path", root, pipeline.Places{}, true)
	assert.Equal(t, "store-address", fault.Code(err))
	require.NoError(t, os.WriteFile(filepath.Join(root, "thesis.txt"), nil, 0o644))
	_, err = pipeline.OpenStore(t.Context(), ".", root, pipeline.Places{}, true)
	assert.Equal(t, "not-a-store", fault.Code(err))
}

func TestTroubleWithAStoreIsNamed(t *testing.T) {
	for code, err := range map[string]error{
		"store-read-only": storage.ErrReadOnly, "store-full": storage.ErrFull, "store-trouble": errors.New("input/output error"), "clock": storage.ErrClock,
		"store-credentials": storage.ErrCredentials, "no-bucket": storage.ErrNoBucket, "store-denied": storage.ErrDenied, "store-unreachable": storage.ErrUnreachable,
		"untrusted": storage.ErrUntrusted, "store-unable": storage.ErrUnable, "host-key-unknown": &ssh.HostError{Host: "corvane.test:22", Line: "corvane.test ssh-ed25519 AAAA"},
		"host-key-changed": &ssh.HostError{Host: "corvane.test:22", Changed: true}, "too-slow": pins.ErrLapsed, "site-removed": pins.ErrRemoved,
	} {
		got := pipeline.StoreTrouble(&memory.Store{}, fmt.Errorf("sites/corvane/claim: %w", err))
		require.Equal(t, code, fault.Code(got))
		require.ErrorIs(t, got, err)
		problem, _ := errors.AsType[*fault.Error](got)
		assert.NotEmpty(t, problem.Next, code)
	}
	assert.ErrorIs(t, pipeline.StoreTrouble(&memory.Store{}, context.Canceled), context.Canceled)
	own := fault.New(fault.Refused, "own", "said already")
	assert.Equal(t, own, pipeline.StoreTrouble(&memory.Store{}, own))
}

// claimName takes a name as a deploy does that succeeds.
func claimName(t *testing.T, p *pipeline.Project, store storage.Store, site string, takeOver bool, ask func() error) error {
	t.Helper()
	claim, err := p.CheckClaim(t.Context(), store, site, takeOver, ask)
	if err != nil {
		return err
	}
	return claim.Take(t.Context(), store, takeOver)
}

func TestAClaimBelongsToARepositoryWhereverItIsCloned(t *testing.T) {
	folder, clone := project(t), filepath.Join(t.TempDir(), "clone")
	git(t, folder, "clone", "-q", folder, clone)
	store := &memory.Store{}
	asked := 0
	ask := func() error { asked++; return nil }
	load := func(folder string) *pipeline.Project {
		p, err := pipeline.Load(t.Context(), folder, pipeline.Places{})
		require.NoError(t, err)
		return p
	}
	require.NoError(t, claimName(t, load(folder), store, "corvane", false, ask))
	require.NoError(t, claimName(t, load(clone), store, "corvane", false, ask))
	assert.Zero(t, asked, "a repository is not asked")
	before, err := pipeline.ReadClaim(t.Context(), store, "corvane")
	require.NoError(t, err)

	other := load(project(t)) // the same content, another first commit only if the time differs
	git(t, other.Root, "commit", "-q", "--amend", "-m", "Another first sailing")
	other = load(other.Root)
	err = claimName(t, other, store, "corvane", false, ask)
	require.Equal(t, "name-taken", fault.Code(err))
	require.NoError(t, claimName(t, other, store, "corvane", true, ask))
	after, err := pipeline.ReadClaim(t.Context(), store, "corvane")
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
