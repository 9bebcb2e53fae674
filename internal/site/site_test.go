package site_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/site/sitetest"
)

func project(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	config := "site: corvane\nbuild: {run: [make], output: out}\nenvironments:\n  production: {follows: " +
		"main}\n  staging: {follows: next}\n  archive: {}\n"
	require.NoError(t, os.WriteFile(filepath.Join(folder, "orilla.yaml"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.html"), []byte("1"), 0o644))
	sitetest.Git(t, folder, "init", "-q", "-b", "main")
	sitetest.Git(t, folder, "add", ".")
	sitetest.Git(t, folder, "commit", "-q", "-m", "First sailing")
	sitetest.Git(t, folder, "tag", "v1")
	sitetest.Git(t, folder, "branch", "next")
	sitetest.Git(t, folder, "branch", "winter-times")
	return folder
}

func TestPlans(t *testing.T) {
	t.Parallel()
	folder := project(t)
	hash := sitetest.Git(t, folder, "rev-parse", "HEAD")
	for name, test := range map[string]struct {
		order       site.Order
		environment string
		source      string
		code        string
	}{
		"nothing said": {site.Order{}, "production", "commit", ""},
		"a branch":     {site.Order{Commit: "next"}, "staging", "commit", ""},
		"a branch without a place": {site.Order{Commit: "winter-times"}, "preview.winter-times", "commit",
			""},
		"relative to HEAD":          {site.Order{Commit: "HEAD~0"}, "production", "commit", ""},
		"a tag":                     {site.Order{Commit: "v1"}, "", "", "no-target"},
		"a hash":                    {site.Order{Commit: hash}, "", "", "no-target"},
		"a hash with a target":      {site.Order{Commit: hash[:8], To: "archive"}, "archive", "commit", ""},
		"a hash with a branch":      {site.Order{Commit: hash, Branch: "next"}, "staging", "commit", ""},
		"the working tree":          {site.Order{WorkingTree: true}, "production", "working-tree", ""},
		"a preview by name":         {site.Order{To: "preview/mine"}, "preview.mine", "commit", ""},
		"a preview with a bad name": {site.Order{To: "preview/My Own"}, "", "", "bad-environment"},
		"an unknown environment":    {site.Order{To: "prodution"}, "", "", "unknown-environment"},
		"ready output":              {site.Order{From: "out"}, "production", "output", ""},
		"ready output of a commit": {site.Order{From: "out", SaidCommit: "v1"}, "production", "output",
			""},
		"ready output of no commit":   {site.Order{From: "out", SaidCommit: "nowhere"}, "", "", "no-commit"},
		"two sources":                 {site.Order{From: "out", WorkingTree: true}, "", "", "one-source"},
		"a commit and a working tree": {site.Order{Commit: "v1", WorkingTree: true}, "", "", "one-source"},
		"a said commit alone":         {site.Order{SaidCommit: "v1"}, "", "", "one-source"},
		"an unknown commit":           {site.Order{Commit: "nxt"}, "", "", "no-commit"},
		"a bad name":                  {site.Order{Site: "Not A Label"}, "", "", "bad-site"},
		"built for nowhere":           {site.Order{Commit: hash, NoTarget: true}, "", "commit", ""},
	} {
		p, err := site.Load(t.Context(), folder, site.Places{})
		require.NoError(t, err)
		plan, err := site.MakePlan(t.Context(), p, test.order)
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
	t.Parallel()
	folder := t.TempDir()
	p, err := site.Load(t.Context(), folder, site.Places{})
	require.NoError(t, err)
	assert.False(t, p.Configured)
	_, err = site.MakePlan(t.Context(), p, site.Order{})
	assert.Equal(t, "no-site", fault.Code(err))
	_, err = site.MakePlan(t.Context(), p, site.Order{Site: "corvane", Commit: "HEAD"})
	assert.Equal(t, "no-repository", fault.Code(err))
	_, err = site.MakePlan(t.Context(), p, site.Order{Site: "corvane", From: ".", To: "production",
		SaidCommit: "not a hash"})
	assert.Equal(t, "bad-commit", fault.Code(err))
	plan, err := site.MakePlan(t.Context(), p, site.Order{Site: "corvane", To: "production"})
	require.NoError(t, err)
	assert.Equal(t, "working-tree", string(plan.Origin.Source), "a folder is taken as it is")
	assert.NotEmpty(t, p.Person(t.Context()))
	_, err = site.Load(t.Context(), filepath.Join(folder, "nowhere"), site.Places{})
	assert.Equal(t, "no-folder", fault.Code(err))
}

func TestTheBranchOfACheckoutOfCI(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		set    map[string]string
		branch string
	}{
		"nothing said": {nil, ""},
		"a push": {map[string]string{"GITHUB_REF_TYPE": "branch",
			"GITHUB_REF_NAME": "main"}, "main"},
		"a tag": {map[string]string{"GITHUB_REF_TYPE": "tag", "GITHUB_REF_NAME": "v1"},
			""},
		"a proposed change": {map[string]string{"GITHUB_REF_TYPE": "branch",
			"GITHUB_REF_NAME": "7/merge", "GITHUB_HEAD_REF": "winter"}, "winter"},
		"a full name": {map[string]string{"BUILD_SOURCEBRANCH": "refs/heads/winter/times"},
			"winter/times"},
		"a ref that is no branch":    {map[string]string{"BUILD_SOURCEBRANCH": "refs/tags/v1"}, ""},
		"with the remote's name":     {map[string]string{"GIT_BRANCH": "origin/main"}, "main"},
		"a branch that is so called": {map[string]string{"CI_COMMIT_BRANCH": "origin/main"}, "origin/main"},
		"detached":                   {map[string]string{"GIT_BRANCH": "HEAD"}, ""},
	} {
		branch, variable := site.CIBranch(func(name string) string { return test.set[name] })
		assert.Equal(t, test.branch, branch, name)
		assert.Equal(t, branch != "", variable != "", name)
	}
}

func TestAPlanIsToldAndSeesWhatItsKeySays(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	config := "site: corvane\nbuild: {run: [make], output: out, also: [shared, tools/make.sh], secrets: " +
		"[MAP_KEY], secrets_for: [main, '!main-old'], tell: [branch]}\nenvironments: " +
		"{production: {follows: main}}\n"
	write("web/orilla.yaml", config)
	write("web/index.html", "1")
	write("shared/a", "1")
	write("tools/make.sh", "1")
	write("tools/other.sh", "1")
	sitetest.Git(t, folder, "init", "-q", "-b", "main")
	sitetest.Git(t, folder, "add", ".")
	sitetest.Git(t, folder, "commit", "-q", "-m", "First")
	key := func(order site.Order) string {
		p, err := site.Load(t.Context(), filepath.Join(folder, "web"), site.Places{})
		require.NoError(t, err)
		plan, err := site.MakePlan(t.Context(), p, order)
		require.NoError(t, err)
		key, err := plan.Inputs.Key()
		require.NoError(t, err)
		return key
	}
	main := key(site.Order{})
	assert.NotEqual(t, main, key(site.Order{Branch: "winter"}), "it is told its branch, and given no secrets")
	change := func(name, text string) string {
		write(name, text)
		sitetest.Git(t, folder, "commit", "-q", "-am", name)
		return key(site.Order{})
	}
	assert.Equal(t, main, change("tools/other.sh", "2"), "it does not see that")
	shared := change("shared/a", "2")
	assert.NotEqual(t, main, shared)
	assert.NotEqual(t, shared, change("tools/make.sh", "2"))
	p, err := site.Load(t.Context(), filepath.Join(folder, "web"), site.Places{})
	require.NoError(t, err)
	for _, test := range []struct {
		order site.Order
		given bool
	}{{site.Order{}, true}, {site.Order{Branch: "winter"}, false}, {site.Order{Branch: "main-old"}, false},
		{site.Order{Branch: "main", Ref: "refs/proposed/1/main"}, false},
		{site.Order{Branch: "proposed/2/head", Ref: "refs/proposed/2/head"}, false}} {
		plan, err := site.MakePlan(t.Context(), p, test.order)
		require.NoError(t, err)
		assert.Equal(t, test.given, len(plan.Secrets()) == 1, "%+v", test.order)
		assert.Equal(t, map[string]string{"branch": plan.Origin.Branch}, plan.Told)
	}
	// A branch cannot give itself secrets.
	sitetest.Git(t, folder, "checkout", "-q", "-b", "thief")
	write("web/orilla.yaml", "site: corvane\nbuild: {run: [make], output: out, secrets: [MAP_KEY]}\n")
	sitetest.Git(t, folder, "commit", "-q", "-am", "Give me")
	p, err = site.Load(t.Context(), filepath.Join(folder, "web"), site.Places{})
	require.NoError(t, err)
	plan, err := site.MakePlan(t.Context(), p, site.Order{})
	require.NoError(t, err)
	assert.Empty(t, plan.Secrets())
	write("web/orilla.yaml", "site: corvane\nbuild: {also: [nowhere]}\n")
	sitetest.Git(t, folder, "commit", "-q", "-am", "Wrong")
	_, err = site.MakePlan(t.Context(), p, site.Order{})
	problem, _ := errors.AsType[*fault.Error](err)
	require.NotNil(t, problem)
	assert.Equal(t, "no-also", problem.Code)
}
