package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store/memory"
)

func withAddress(address string) map[string]string {
	return map[string]string{"index.html": address,
		"orilla.yaml": "site: corvane\nenvironments: {production: {addresses: ['" + address + "']}}\n"}
}

// TestAddressesComeFromTheProductionBranchAndNeverGoBack
// deploys old commits, branches and an old clone.
func TestAddressesComeFromTheProductionBranchAndNeverGoBack(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	first := p.commit("First", withAddress("https://old.corvane.example/"))
	p.ok("deploy")
	status, _ := get(t, address, "old.corvane.example", "/")
	assert.Equal(t, 200, status)
	p.commit("Moved", withAddress("https://new.corvane.example/"))
	p.ok("deploy")

	holds := func(why string) {
		t.Helper()
		status, _ := get(t, address, "new.corvane.example", "/")
		assert.Equal(t, 200, status, why)
		status, _ = get(t, address, "old.corvane.example", "/")
		assert.Equal(t, 421, status, why)
	}
	holds("addresses follow the production branch")
	p.ok("deploy", first, "--to", "production")
	holds("a deploy of an old commit does not bring its addresses back")
	p.ok("rollback", "production:3", "--keep-following") // 2 is the change of addresses
	p.ok("rollback", "production:1", "--keep-following")
	holds("nor does a rollback")
	p.git("checkout", "-q", "-b", "mine")
	p.commit("Mine", withAddress("https://mine.corvane.example/"))
	p.ok("deploy", "--to", "production")
	holds("a branch cannot change where production lies")

	old := newPlace(t)
	old.home = p.home
	p.git("checkout", "-q", "main")
	p.git("clone", "-q", p.folder, old.folder)
	old.git("checkout", "-q", "-B", "main", first)
	_, notes, code := old.run("deploy", "--to", "production")
	require.Zero(t, code, notes)
	assert.Contains(t, notes, "a later commit than this production branch")
	holds("a clone that has not seen the later commit leaves it alone")
}

func TestOtherBytesAtAnImmutableAddressAreRefused(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	deploy := []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes"}
	p.write(map[string]string{"dist/index.html": "1", "dist/app-4f5e6d7c.js": "a script",
		"dist/app-4f5e6d7c.js.map": "one comment"})
	p.ok(deploy...)
	p.write(map[string]string{"dist/app-4f5e6d7c.js.map": "another comment"})
	p.ok(deploy...) // a source map changes, and its script does not
	p.write(map[string]string{"dist/app-4f5e6d7c.js": "another"})
	notes := p.fails(3, "app-4f5e6d7c.js", deploy...)
	assert.Contains(t, notes, "assets: {plain:")
	p.write(map[string]string{"orilla.yaml": "site: corvane\nassets: {plain: ['app-*']}\n"})
	p.ok(deploy...)
	p.write(map[string]string{"dist/photo-dsc00123.jpg": "a picture"})
	p.ok(deploy...)
	p.write(map[string]string{"dist/photo-dsc00123.jpg": "another"})
	p.ok(deploy...) // what a camera calls its pictures is no fingerprint
}

func TestACommitOlderThanItsConfiguration(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("Before", map[string]string{"index.html": "old"})
	p.write(map[string]string{"orilla.yaml": "site: corvane\n"})
	_, notes, status := p.run("deploy")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "the one beside this command is used")
}

// TestAFreezeDuringABuildIsNotOverrun freezes between the look before the build
// and the activation: nobody was shown that freeze.
func TestAFreezeDuringABuildIsNotOverrun(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"dist/index.html": "1"})
	store := &memory.Store{}
	loaded, err := site.Load(t.Context(), p.folder, site.Places{Cache: p.home})
	require.NoError(t, err)
	prepare := func() *deploy.Release {
		plan, err := site.MakePlan(t.Context(), loaded, site.Order{From: filepath.Join(p.folder, "dist"),
			Site: "corvane", To: "production"})
		require.NoError(t, err)
		prepared, err := deploy.Prepare(t.Context(), deploy.Job{
			Plan: plan, Store: store, Report: deploy.Silent{}, Now: time.Now, Cause: "command",
			Ask: deploy.Questions{
				Unclaimed: func() error { return nil }, Frozen: func(journal.Entry) error { return nil },
			},
		})
		require.NoError(t, err)
		t.Cleanup(func() { prepared.Close(context.Background()) })
		release, err := prepared.Build(t.Context())
		require.NoError(t, err)
		return release
	}
	_, err = prepare().Activate(t.Context())
	require.NoError(t, err)
	p.write(map[string]string{"dist/index.html": "2"})
	second := prepare()
	j := journal.Journal{Store: store, Site: "corvane", Environment: "production",
		Attempt: func() string { return "x" }, Now: time.Now}
	_, err = j.Append(t.Context(), journal.Entry{}, journal.SetFrozen(&journal.Frozen{Who: "Tobias Quill"},
		"command", "Tobias Quill", "", time.Now()))
	require.NoError(t, err)
	_, err = second.Activate(t.Context())
	assert.Equal(t, "frozen", fault.Code(err))

	third := prepare() // a person who was shown it goes on
	_, err = third.Activate(t.Context())
	require.NoError(t, err)
}

// TestKeptDependenciesAreFetchedOnce counts how often the
// steps that prepare run.
func TestKeptDependenciesAreFetchedOnce(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	counter := filepath.Join(t.TempDir(), "count")
	config := fmt.Sprintf("site: corvane\nbuild:\n  prepare: ['echo x >> %s; mkdir "+
		"-p deps; echo dep > deps/a']\n"+
		"  run: ['mkdir -p out .cache; cat deps/a page > out/index.html']\n  output: out\n"+
		// A cache is there after the first build, or never; the dependencies do not depend on it.
		"  keep: [deps, .cache, .never]\n", counter)
	prepared := func() int {
		data, err := os.ReadFile(counter)
		require.NoError(t, err)
		return len(data) / 2
	}
	for i, step := range []struct {
		files map[string]string
		want  int
	}{
		{map[string]string{"orilla.yaml": config, "page": "1", "package-lock.json": "{}"}, 1},
		{map[string]string{"page": "2"}, 1},
		{map[string]string{"page": "3", "package-lock.json": "{ }"}, 2},
		{map[string]string{"page": "4"}, 2},
	} {
		p.commit(fmt.Sprint(i), step.files)
		_, notes, status := p.run("deploy")
		require.Zero(t, status, notes)
		assert.Equal(t, step.want, prepared(), "commit %d: %s", i, notes)
	}
	require.NoError(t, os.RemoveAll(filepath.Join(p.home, "cache")), "the cache may go at any time")
	p.commit("after", map[string]string{"page": "5"})
	p.ok("deploy")
	assert.Equal(t, 3, prepared())
}
