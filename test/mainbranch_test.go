package test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A branch decides nothing about production: not by what its orilla.yaml says, not by being the
// only one that a clone has, and not by its name.

// origin is a repository with a site on main that is live, and a branch that wants to be.
func origin(t *testing.T, branch, config string) *place {
	t.Helper()
	p := newPlace(t)
	p.env = append(p.env, "CI=", "BUILD_ID=", "TF_BUILD=")
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	p.ok("deploy")
	p.git("checkout", "-q", "-b", branch)
	p.commit("Not for production", map[string]string{"orilla.yaml": "site: corvane\n" + config, "index.html": "two"})
	return p
}

// clone is a place with a clone of another one, whose main branch is main, and the same store.
func (p *place) clone(arguments ...string) *place {
	p.t.Helper()
	c := newPlace(p.t)
	branch := p.git("rev-parse", "--abbrev-ref", "HEAD")
	p.git("checkout", "-q", "main")
	defer p.git("checkout", "-q", branch)
	require.NoError(p.t, os.RemoveAll(c.folder))
	p.git(append(append([]string{"clone", "-q"}, arguments...), "file://"+p.folder, c.folder)...)
	c.home, c.env = p.home, p.env
	return c
}

func TestABranchSaysNotWhatProductionFollows(t *testing.T) {
	t.Parallel()
	p := origin(t, "hostile", "environments: {production: {follows: hostile}}\nbuild: {trust: ['*']}\n")
	live := p.heads()["production"]
	for name, at := range map[string]*place{"its own clone": p, "a clone": p.clone("--branch", "hostile"),
		"a clone of it alone": p.clone("--branch", "hostile", "--single-branch"),
		"a shallow clone":     p.clone("--branch", "hostile", "--depth", "1")} {
		if at != p {
			p.git("checkout", "-q", "main")
		}
		at.ok("deploy", "--yes")
		p.git("checkout", "-q", "hostile")
		assert.Equal(t, live, p.heads()["production"], name)
		if at != p {
			p.git("checkout", "-q", "main")
		}
		_, notes, status := at.run("follow", "--once", "--branch", "hostile")
		assert.Zero(t, status, notes)
		assert.Equal(t, live, p.heads()["production"], name)
		p.git("checkout", "-q", "hostile")
		assert.NotEmpty(t, p.heads()["preview/hostile"], name)
	}
	// What main says counts.
	p.git("checkout", "-q", "main")
	p.commit("Production is elsewhere now", map[string]string{
		"orilla.yaml": "site: corvane\nenvironments: {production: {follows: hostile}}\n"})
	p.git("checkout", "-q", "hostile")
	p.ok("deploy", "--yes")
	assert.NotEqual(t, live, p.heads()["production"])
}

func TestAnUsualNameMakesNoMainBranchInCI(t *testing.T) {
	t.Parallel()
	p := origin(t, "master", "")
	live := p.heads()["production"]
	p.git("checkout", "-q", "main")
	c := newPlace(t)
	c.home = p.home
	c.env = append(c.env, "CI=true", "ORILLA_CI_BRANCH=master", "GITHUB_REF_TYPE=", "GITHUB_HEAD_REF=", "GITHUB_REF=")
	c.git("init", "-q")
	c.git("remote", "add", "origin", "file://"+p.folder)
	c.git("fetch", "-q", "--depth=1", "origin", "master")
	c.git("checkout", "-q", "-B", "master", "FETCH_HEAD")
	_, notes, status := c.run("follow", "--once")
	assert.Zero(t, status, notes)
	assert.Equal(t, live, p.heads()["production"])
	assert.NotEmpty(t, p.heads()["preview/master"])
}

// TestAMainBranchThatNobodyKnows is a clone of one branch whose remote is gone.
func TestAMainBranchThatNobodyKnows(t *testing.T) {
	t.Parallel()
	p := origin(t, "boat", "build: {trust: ['*'], secrets_for: ['*']}\n")
	live := p.heads()["production"]
	c := p.clone("--branch", "boat", "--single-branch")
	c.git("remote", "set-url", "origin", "file:///nowhere/to/be/found")
	_, notes, status := c.run("deploy", "--yes")
	assert.Zero(t, status, notes)
	assert.Equal(t, live, p.heads()["production"])
	assert.NotEmpty(t, p.heads()["preview/boat"])
	assert.Contains(t, notes, "which branch is the main one")
	assert.Contains(t, notes, "orilla deploy --to production")
	// Somebody who says so may.
	c.ok("deploy", "--yes", "--to", "production")
	assert.NotEqual(t, live, p.heads()["production"])
}
