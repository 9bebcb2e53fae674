package test

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ciSite follows branches and proposed changes, each change under an address that
// can be told before it is pushed.
const ciSite = "site: corvane\nbuild: {run: [mkdir -p dist && cp page.html dist/index.html], output: dist}\n" +
	"environments: {production: {follows: main}}\n" +
	"previews: {refs: [refs/proposed/*/head], labels: {'refs/proposed/*/head': change-*}}\n"

// ci is a shallow, detached checkout of a ref, as CI systems make it, on a machine
// of its own.
func (p *place) ci(server *place, ref string, variables ...string) *place {
	p.t.Helper()
	c := newPlace(p.t)
	c.home = server.home
	c.git("init", "-q")
	c.git("remote", "add", "origin", "file://"+server.folder)
	c.git("fetch", "-q", "--depth=1", "origin", ref)
	c.git("checkout", "-q", "--detach", "FETCH_HEAD")
	c.env = append(c.env, "CI=true", "GITHUB_REF_TYPE=", "GITHUB_HEAD_REF=", "GITHUB_REF=")
	c.env = append(c.env, variables...)
	return c
}

// TestProposedChangesInCI opens, changes, closes and merges changes, as CI sees
// them: with nothing but checkouts that are thrown away.
func TestProposedChangesInCI(t *testing.T) {
	t.Parallel()
	isolates(t)
	server, p := newPlace(t), newPlace(t)
	server.git("init", "-q", "--bare", "-b", "main")
	p.commit("Site", map[string]string{"orilla.yaml": ciSite, "page.html": "home"})
	p.git("remote", "add", "origin", "file://"+server.folder)
	p.git("push", "-q", "origin", "main")
	_, notes, status := p.ci(server, "main", "ORILLA_CI_BRANCH=main").run("follow", "--once")
	require.Zero(t, status, notes)

	propose := func(text string) string {
		commit := p.commit(text, map[string]string{"page.html": text})
		p.git("push", "-q", "--force", "origin", "HEAD:refs/proposed/7/head")
		return commit
	}
	p.git("checkout", "-q", "-b", "change")
	first := propose("winter")
	change := func() *place { return p.ci(server, "refs/proposed/7/head", "ORILLA_CI_REF=refs/proposed/7/head") }
	out, notes, status := change().run("follow", "--once")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "proposed change refs/proposed/7/head, as ORILLA_CI_REF says")
	assert.Contains(t, out, "http://change-7.preview.corvane.localhost")
	assert.Equal(t, first, p.with(server).heads()["preview/change-7"])

	// deploy, and a branch by its full name, do the same.
	second := propose("winter, again")
	_, notes, status = change().run("deploy")
	require.Zero(t, status, notes)
	assert.Equal(t, second, p.with(server).heads()["preview/change-7"])
	third := propose("winter, once more")
	_, notes, status = p.ci(server, "refs/proposed/7/head").run("follow", "--once", "--branch", "refs/proposed/7/head")
	require.Zero(t, status, notes)
	assert.Equal(t, third, p.with(server).heads()["preview/change-7"])
	p.ci(server, "refs/proposed/7/head").fails(3, "previews.refs excludes", "deploy", "--branch", "refs/other/7/head")

	// Some CI systems check out what a merge would be; it is shown as the change.
	p.git("push", "-q", "origin", "HEAD:refs/proposed/8/head")
	for i, command := range [][]string{{"follow", "--once"}, {"deploy"}, {"follow", "--once"}} {
		merge := p.git("commit-tree", "-p", "main", "-p", "HEAD", "-m", "Merge "+strconv.Itoa(i), "HEAD^{tree}")
		p.git("push", "-q", "--force", "origin", merge+":refs/proposed/8/merge")
		_, notes, status = p.ci(server, "refs/proposed/8/merge", "ORILLA_CI_REF=refs/proposed/8/merge").run(command...)
		require.Zero(t, status, notes)
		assert.Equal(t, merge, p.with(server).heads()["preview/change-8"])
	}

	// What status lists, each command takes.
	reader := p.with(server)
	for _, args := range [][]string{{"files", "preview/change-7"}, {"files", "change-7"},
		{"files", "refs/proposed/7/head"}, {"files", "preview/change-7:1"}, {"files", "build:1"}, {"files", third[:7]},
		{"diff", "production", "refs/proposed/7/head"}, {"diff", "build:1", "change-7:2"},
		{"explain", "/", "--on", "change-7:1"}, {"explain", "/", "--on", "build:2"}, {"explain", "/", "--on", "proposed/7/head"},
		{"history", "change-7"}, {"rollback", "change-7", "build:2", "--dry-run"},
		{"promote", "change-7", "--to", "production", "--dry-run", "--yes"}, {"preview", "extend", "refs/proposed/7/head"}} {
		_, notes, status := reader.run(args...)
		assert.Zero(t, status, "%v: %s", args, notes)
	}

	// The change is closed without a merge: the step that CI runs then.
	_, notes, status = p.ci(server, "main").run("preview", "remove", "refs/proposed/7/head", "--yes")
	require.Zero(t, status, notes)
	assert.NotContains(t, p.with(server).heads(), "preview/change-7")
}

// TestBuildsInCIKnowWhoAndWhere says for whom CI works, and tells a preview its
// address though none was given to it.
func TestBuildsInCIKnowWhoAndWhere(t *testing.T) {
	t.Parallel()
	server, p := newPlace(t), newPlace(t)
	server.git("init", "-q", "--bare", "-b", "main")
	p.commit("Site", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['mkdir -p dist && " +
		"printf %s $ORILLA_ADDRESS >dist/index.html'], output: dist, tell: address}\n"})
	p.git("remote", "add", "origin", "file://"+server.folder)
	p.git("push", "-q", "origin", "main", "main:winter-times")
	for _, test := range []struct{ branch, who, is, address string }{
		{"main", "", "Ines Marrow <ines@corvane.example>", "http://corvane.localhost:7420/"},
		{"winter-times", "Tobias Quay", "Tobias Quay", "http://winter-times.preview.corvane.localhost:7420/"},
	} {
		c := p.ci(server, test.branch, "ORILLA_CI_BRANCH="+test.branch, "ORILLA_CI_WHO="+test.who, "GITHUB_ACTOR=",
			"GITLAB_USER_NAME=", "CI_COMMIT_AUTHOR=")
		_, notes, status := c.run("follow", "--once")
		require.Zero(t, status, notes)
		environment := map[string]string{"main": "production"}[test.branch]
		if environment == "" {
			environment = "preview/" + test.branch
		}
		entries := document[[]struct{ Who string }](p.with(server), "history", environment)
		assert.Equal(t, test.is, entries[0].Who)
		folder := filepath.Join(t.TempDir(), "out")
		p.with(server).ok("files", environment, "--export", folder)
		page, err := os.ReadFile(filepath.Join(folder, "index.html"))
		require.NoError(t, err)
		assert.Equal(t, test.address, string(page))
	}
}

// TestPreviewsEndFromCI ends the previews of branches that the repository has no
// more, and of no others.
func TestPreviewsEndFromCI(t *testing.T) {
	t.Parallel()
	server, p := newPlace(t), newPlace(t)
	server.git("init", "-q", "--bare", "-b", "main")
	p.commit("Site", map[string]string{"orilla.yaml": ciSite, "page.html": "home"})
	p.git("remote", "add", "origin", "file://"+server.folder)
	p.git("push", "-q", "origin", "main")
	for _, branch := range []string{"main", "winter", "summer", "fix/fares"} {
		if branch != "main" {
			p.git("checkout", "-q", "-b", branch, "main")
			p.commit(branch, map[string]string{"page.html": branch})
			p.git("push", "-q", "origin", branch)
		}
		_, notes, status := p.ci(server, branch, "ORILLA_CI_BRANCH="+branch).run("follow", "--once")
		require.Zero(t, status, notes)
	}
	p.git("checkout", "-q", "-b", "mine", "main")
	p.commit("mine", map[string]string{"page.html": "mine"})
	p.with(server).ok("deploy")
	p.git("push", "-q", "origin", ":winter", ":fix/fares")

	p.git("checkout", "-q", "main")
	again := func() string {
		p.commit("More", map[string]string{"page.html": "more"})
		p.git("push", "-q", "origin", "main")
		out, notes, status := p.ci(server, "main", "ORILLA_CI_BRANCH=main").run("follow", "--once")
		require.Zero(t, status, notes)
		return out
	}
	assert.Contains(t, again(), "its branch was deleted")
	heads := p.with(server).heads()
	assert.NotContains(t, heads, "preview/winter")
	assert.Contains(t, heads, "preview/summer", "its branch is there")
	assert.Contains(t, heads, "preview/mine", "it was never pushed, and a person shows it")
	assert.Len(t, heads, 3)

	// A repository that is not the one that is followed says nothing.
	fork := newPlace(t)
	fork.git("init", "-q", "--bare", "-b", "main")
	p.git("push", "-q", "file://"+fork.folder, "main")
	c := p.ci(server, "main", "ORILLA_CI_BRANCH=elsewhere")
	c.git("remote", "set-url", "origin", "file://"+fork.folder)
	_, _, _ = c.run("follow", "--once")
	assert.Contains(t, p.with(server).heads(), "preview/summer")
	// A remote that cannot be asked is told, and nothing ends.
	c = p.ci(server, "main", "ORILLA_CI_BRANCH=main")
	require.NoError(t, os.Rename(server.folder, server.folder+".away"))
	_, notes, _ := c.run("follow", "--once")
	assert.Contains(t, notes, "cannot ask which branches are gone")
	require.NoError(t, os.Rename(server.folder+".away", server.folder))
	assert.Contains(t, p.with(server).heads(), "preview/summer")
	assert.DirExists(t, filepath.Join(server.home, "store"))
}

// with is the place with the store of another one.
func (p *place) with(server *place) *place {
	other := *p
	other.home = server.home
	return &other
}

// TestAMergeEndsNoPreviewOfAPerson keeps what somebody made, and what somebody
// said lasts: a branch that is shown all the time is merged many times.
func TestAMergeEndsNoPreviewOfAPerson(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("Site", map[string]string{"orilla.yaml": ciSite, "page.html": "home"})
	p.ok("follow", "--once")
	for _, branch := range []string{"staging", "kept", "winter"} {
		p.git("checkout", "-q", "-b", branch, "main")
		p.commit(branch, map[string]string{branch + ".txt": branch, "page.html": branch})
		if branch == "staging" {
			p.ok("deploy", "--to", "preview/staging")
		}
	}
	p.ok("follow", "--once")
	p.ok("preview", "extend", "kept", "--for", "ever")
	p.git("checkout", "-q", "main")
	p.git("merge", "-q", "--no-ff", "-X", "theirs", "-m", "Merge", "staging")
	p.git("merge", "-q", "--no-ff", "-X", "theirs", "-m", "Merge", "kept")
	p.git("merge", "-q", "--no-ff", "-X", "theirs", "-m", "Merge", "winter")
	assert.Contains(t, p.ok("follow", "--once"), "its branch was merged")
	heads := p.heads()
	assert.NotContains(t, heads, "preview/winter")
	assert.Contains(t, heads, "preview/staging")
	assert.Contains(t, heads, "preview/kept")
}

// TestWhatFailedIsWrittenToo tells later steps of CI that nothing went live, and
// why, of each command that moves an environment.
func TestWhatFailedIsWrittenToo(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("Site", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['exit 3'], output: dist}\n"})
	for command, why := range map[string]string{"deploy": "ended with status 3", "follow --once": "ended with status 3",
		"promote staging --to production": `"why":"`, "rollback": `"why":"`, "thaw": `"why":"`} {
		lines, list := filepath.Join(t.TempDir(), "lines"), filepath.Join(t.TempDir(), "json")
		_, notes, status := p.run(append(strings.Fields(command), "--write", "lines:"+lines, "--write", "json:"+list)...)
		require.NotZero(t, status, "%s: %s", command, notes)
		said, err := os.ReadFile(lines)
		require.NoError(t, err, "%s: %s", command, notes)
		assert.Equal(t, 1, strings.Count(string(said), "outcome=failed\n"), "%s: %s", command, said)
		assert.Contains(t, string(said), "changed=false\n")
		said, err = os.ReadFile(list)
		require.NoError(t, err)
		assert.Contains(t, string(said), why, command)
	}
	p.fails(2, "a form and a file are needed", "deploy", "--write", "text:x")
	assert.NoFileExists(t, filepath.Join(p.folder, "x"))
}
