package test

import (
	"archive/zip"
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// zipped is an archive of files.
func zipped(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var data bytes.Buffer
	archive := zip.NewWriter(&data)
	for name, content := range files {
		file, err := archive.Create(name)
		require.NoError(t, err)
		_, err = file.Write([]byte(content))
		require.NoError(t, err)
	}
	require.NoError(t, archive.Close())
	return data.Bytes()
}

// TestReadyOutputIsNamedWhereACommitIsExpected publishes a folder and an archive
// by their names, and a commit that has the same name before them.
func TestReadyOutputIsNamedWhereACommitIsExpected(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"dist/index.html": "ready", "app/orilla.yaml": "site: other\n", "app/index.html": "x"})
	require.NoError(t, os.WriteFile(filepath.Join(p.folder, "site.zip"),
		zipped(t, map[string]string{"index.html": "packed", "fares.html": "42"}), 0o644))

	notes := p.fails(2, "no orilla.yaml here", "deploy", "dist")
	assert.Contains(t, notes, "orilla deploy dist --site corvane --yes")
	first := document[deployed](p, "deploy", "dist", "--site", "corvane", "--yes")
	assert.Equal(t, []any{"output", "production", int64(1)}, []any{first.Source, first.Environment, first.Files},
		"one environment is production")
	assert.Equal(t, int64(2), document[deployed](p, "deploy", "site.zip", "--site", "corvane").Files)
	assert.Contains(t, p.fails(2, "app is a project, not a finished site: it has orilla.yaml", "deploy", "app", "--site", "corvane"),
		"orilla deploy --site corvane -C app")
	p.fails(2, `there is no folder or archive "nowhere" here`, "deploy", "nowhere", "--site", "corvane")
	p.ok("deploy", "--from", "app", "--site", "corvane")

	// Of three words for the same, what the repository knows comes first.
	p.commit("Built", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['cp -r dist out'], output: out}\n"})
	p.git("branch", "dist")
	assert.Equal(t, "commit", document[deployed](p, "deploy", "dist", "--take-over").Source)
	assert.Equal(t, "output", document[deployed](p, "deploy", "./dist").Source)
	p.fails(2, "there is no commit", "deploy", "nowhere")

	for _, command := range []string{"files", "check"} {
		out := p.ok(command, "./site.zip")
		assert.Contains(t, out, "site.zip")
		assert.Contains(t, p.ok(command, "./dist"), "dist")
		p.fails(1, "cannot read the archive", command, "./orilla.yaml")
	}
	assert.Contains(t, p.ok("files", "./site.zip"), "/fares")
	assert.Equal(t, int64(200), document[explained](p, "explain", "/fares", "--on", "./site.zip").Status)
}

// codeOf is the code of the first error in what was noted.
func codeOf(notes string) string {
	return regexp.MustCompile(`error: .* (\[[a-z-]+\])`).FindStringSubmatch(notes)[1]
}

// explained is the beginning of what explain answers.
type explained struct {
	Status int64
	On     string
	By     string
}

// TestWhereNothingWasBuiltHere looks at the newest release of the branch, and
// without one at what is live, and says which.
func TestWhereNothingWasBuiltHere(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['mkdir out; cp *.html out/'], output: out}\nrules: site.rules\n",
		"index.html": "home", "site.rules": "redirect /tariffs -> /\n"})
	for _, command := range [][]string{{"check"}, {"files"}, {"explain", "/"}} {
		notes := p.fails(1, "nothing was built here yet", command...)
		assert.Contains(t, notes, "build.output: out (orilla.yaml)")
		assert.Contains(t, notes, "orilla serve")
	}
	p.ok("deploy")
	p.git("checkout", "-q", "-b", "winter")
	_, notes, _ := p.run("files")
	assert.Contains(t, notes, "what is live, production:1")
	p.commit("Winter", map[string]string{"fares.html": "42"})
	p.ok("deploy")
	p.write(map[string]string{"site.rules": "redirect /tariffs -> /\nredirect /prices -> /fares\n"})

	out, notes, status := p.run("files")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "the newest release of winter, r-")
	assert.Contains(t, notes, "(build:2)")
	assert.Contains(t, out, "/fares")
	assert.Equal(t, int64(301), document[explained](p, "explain", "/prices").Status, "rules are those of now")
	assert.Equal(t, int64(200), document[explained](p, "explain", "/fares").Status)
	p.ok("check")
	p.git("checkout", "-q", "main")
	_, notes, _ = p.run("check")
	assert.Contains(t, notes, "the newest release of main, r-")
}

// TestADryRunIsTheRunItself lists what changes and what is left out, refuses what the
// deploy would refuse, writes nothing, and spares the deploy its build.
func TestADryRunIsTheRunItself(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	const build = "site: corvane\nbuild: {run: ['echo built >> ../builds; mkdir out; cp -r public/. out/'], output: out}\n"
	p.commit("First", map[string]string{"orilla.yaml": build, "public/index.html": "one", "public/old.html": "old"})
	_, notes, status := p.run("deploy", "--dry-run")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "the first release")
	require.NoDirExists(t, filepath.Join(p.home, "store"), "not even a store is created")
	p.ok("deploy")
	before := p.objects()

	require.NoError(t, os.Remove(filepath.Join(p.folder, "public/old.html")))
	p.commit("Second", map[string]string{"public/index.html": "two", "public/new.html": "new", "public/.env": "SECRET=1",
		"public/notes.txt~": "x"})
	_, notes, status = p.run("deploy", "--dry-run")
	require.Zero(t, status, notes)
	for _, says := range []string{"changed  index.html", "added    new.html", "removed  old.html", ".env", "notes.txt~",
		"to send", "/old answers today and would become 404", "in place of r-", "--dry-run changed nothing"} {
		assert.Contains(t, notes, says)
	}
	assert.Equal(t, before, p.objects(), "nothing is written")
	dry := document[deployed](p, "deploy", "--dry-run")
	require.True(t, dry.DryRun)

	_, notes, status = p.run("deploy")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "reused the output of the last try")
	assert.Equal(t, dry.Release, p.history("production")[0].Release)

	// What the deploy would refuse, with the same words and status.
	refused := func(args ...string) {
		t.Helper()
		_, dry, dryStatus := p.run(append(args, "--dry-run")...)
		_, wet, status := p.run(args...)
		require.NotZero(t, status, wet)
		assert.Equal(t, status, dryStatus, dry)
		assert.Equal(t, codeOf(wet), codeOf(dry))
	}
	p.commit("Broken", map[string]string{"public/index.html": "<script src=/gone.js></script>"})
	refused("deploy")
	p.commit("Fails", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['exit 7'], output: out}\n"})
	refused("deploy")
	p.commit("Well", map[string]string{"orilla.yaml": build, "public/index.html": "three"})
	p.ok("freeze", "-m", "the queue")
	refused("deploy")
	refused("deploy", "--site", "velley", "--from", "nowhere")
	refused("deploy", "--to", "stagin")
}

// TestInitWritesWhatTheFilesSay: client-side routes of a router, the folder of a
// project one folder down, and dependencies also where the build is given.
func TestInitWritesWhatTheFilesSay(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"server.go": "", "web/package-lock.json": "{}", "web/package.json": `{"scripts": {"build": "mkdir -p dist; cp index.html dist/"},
		"dependencies": {"vue-router": "4"}, "devDependencies": {"vite": "7"}}`, "web/index.html": "<p>planner</p>"})
	out := p.ok("init", "--yes")
	assert.Contains(t, out, "folder: web")
	data, err := os.ReadFile(filepath.Join(p.folder, "web", "site.rules"))
	require.NoError(t, err)
	assert.Contains(t, string(data), "fallback  /{rest:all}  -> /\n")
	require.NoError(t, os.Remove(filepath.Join(p.folder, "orilla.yaml")))
	_, notes, status := p.run("init", "--yes", "--output", "web/dist", "--run", "make")
	require.Zero(t, status, notes)
	data, err = os.ReadFile(filepath.Join(p.folder, "orilla.yaml"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "folder:", "what is given starts at the top")

	// With a lock file a build that is given gets its dependencies too.
	q := newPlace(t)
	q.write(map[string]string{"package.json": `{"devDependencies": {"sass": "1"}}`, "package-lock.json": "{}"})
	assert.Contains(t, q.ok("init", "--yes", "--output", "out", "--run", "sh make.sh"), "prepare: [npm ci]")
	assert.Contains(t, q.fails(2, "cannot tell which folder", "init", "--yes", "-C", t.TempDir()), "--output FOLDER")
}

// TestDryRunsChangeNothing runs every command that changes something with --dry-run, as
// it would be run, and finds the store as it was.
func TestDryRunsChangeNothing(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nenvironments: {staging: {}, production: {addresses: ['https://www.corvane.example/']}}\n",
		"index.html": "one"})
	p.ok("deploy")
	p.commit("Second", map[string]string{"index.html": "two"})
	p.ok("deploy")
	p.ok("deploy", "--to", "preview/winter")
	p.ok("password", "preview/winter", "--generate")
	q := &place{t: t, folder: t.TempDir(), home: p.home, env: p.env}
	q.write(map[string]string{"index.html": "other"})
	q.ok("deploy", "--from", ".", "--site", "velley", "--yes")
	before := p.objects()
	copied := filepath.Join(t.TempDir(), "copy")
	for _, command := range [][]string{
		{"deploy", "--again"}, {"build"}, {"promote", "preview/winter", "--to", "staging"}, {"rollback"}, {"freeze"},
		{"password", "staging", "--generate"}, {"preview", "extend", "winter"}, {"preview", "share", "winter"},
		{"preview", "remove", "winter"}, {"domains", "give", "www.corvane.example", "--to", "velley"},
		{"domains", "release", "www.corvane.example"}, {"domains", "allow", "www.corvane.example/news/", "--to", "velley"},
		{"follow", "--pause"}, {"hook", "install"}, {"store", "copy", copied}, {"store", "prune"}, {"store", "restored"},
		{"store", "init"}, {"remove-site", "velley"},
	} {
		_, notes, status := p.run(append(command, "--dry-run")...)
		assert.Zero(t, status, "%v: %s", command, notes)
		assert.Contains(t, notes, "--dry-run changed nothing", "%v", command)
		assert.Equal(t, before, p.objects(), "%v", command)
	}
	assert.NoDirExists(t, copied)
	hooks, _ := filepath.Glob(filepath.Join(p.folder, ".git", "hooks", "post-commit"))
	assert.Empty(t, hooks)
	p.fails(3, "the store still has 2 sites", "store", "remove", "--dry-run")
	p.fails(1, "unknown-site", "remove-site", "nowhere", "--dry-run")
	p.fails(2, "--dry-run needs --pause", "follow", "--dry-run")

	// Once its sites are gone, the rest can go too, and the folder is empty of keys.
	p.ok("remove-site", "velley", "--yes")
	p.ok("remove-site", "corvane", "--yes")
	p.ok("store", "prune", "--yes", "--unfinished", "0s")
	p.fails(3, "deleting a store needs a confirmation", "store", "remove")
	p.ok("store", "remove", "--dry-run")
	p.ok("sites")
	p.ok("store", "remove", "--yes")
	p.fails(1, "no store there yet", "sites")
	assert.Empty(t, p.objects())
}

// TestWhatIsWrongIsSaidWithWhatHelps holds messages of mistakes that are made in the
// first quarter of an hour.
func TestWhatIsWrongIsSaidWithWhatHelps(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nenvironments: {staging: {}}\n", "index.html": "one"})
	p.ok("deploy")
	elsewhere := t.TempDir()
	for _, one := range []struct {
		status int
		says   string
		next   string
		args   []string
	}{
		{2, "not an address with a port", "127.0.0.1:80", []string{"edge", "--listen", "80"}},
		{1, "no store there yet", "", []string{"edge", "--store", filepath.Join(elsewhere, "typo")}},
		{2, "missing an argument: URL|PATH|-", "orilla explain /timetable/winter", []string{"explain"}},
		{2, "an argument too many: b", "orilla explain --help", []string{"explain", "/a", "b"}},
		{2, "unknown flag: --forse", "orilla status --help", []string{"status", "--forse"}},
		{2, "unknown flag: --dry-rnu", "did you mean --dry-run?", []string{"deploy", "--dry-rnu"}},
		{2, "--parallel 0: the minimum is 1", "", []string{"deploy", "--parallel", "0"}},
		{2, "--rate fast: not a size", "", []string{"deploy", "--rate", "fast"}},
		{3, "is not an Orilla store", "empty folder", []string{"store", "copy", "."}},
		{2, "no store to repair from", "--repair-from", []string{"store", "verify", "--repair-from", filepath.Join(elsewhere, "none")}},
		{2, "no such folder", "", []string{"-C", filepath.Join(elsewhere, "none"), "status"}},
		{2, "no Git repository here", "-C FOLDER", []string{"-C", elsewhere, "hook", "install"}},
		{2, `called "nosuch"`, "orilla status", []string{"diff", "nosuch"}},
		{2, "did you mean staging?", "", []string{"diff", "stagin"}},
		{2, "not a time", "2026-12-27", []string{"freeze", "--until", "yesterday"}},
		{2, "not a duration", "3d", []string{"freeze", "--for", "soon"}},
		{2, "exclude each other", "", []string{"freeze", "--for", "2h", "--until", "2036-01-01"}},
		{2, "is not a time", "2026-12-24T12:00", []string{"explain", "/", "--at", "tomorrow"}},
		{2, `unknown environment "stagin"`, "staging", []string{"explain", "/", "--environment", "stagin"}},
		{2, "not a cookie", "--cookie lang=gl", []string{"explain", "/", "--cookie", "lang"}},
		{2, "not a host", "--host", []string{"explain", "/", "--host", "http://x"}},
		{2, "not a method", "--method POST", []string{"explain", "/", "--method", "G O"}},
	} {
		notes := p.fails(one.status, one.says, one.args...)
		assert.Contains(t, notes, one.next, "%v", one.args)
	}
	assert.NoDirExists(t, filepath.Join(elsewhere, "typo"))
	for text, says := range map[string]string{
		"site: a\n\tbuild: x\n": "a tab: YAML is indented with spaces", "site: a\nbuild: {run: [x\n": "an unclosed bracket [",
		"site: a\nbuild: {output: \"x}\n": "an unclosed quotation mark", "site: a\nbuild: run: x\n": "quote the value, or indent the line",
	} {
		q := newPlace(t)
		q.write(map[string]string{"orilla.yaml": text})
		assert.Contains(t, q.fails(2, says, "check"), "orilla.yaml:2:", text)
	}

	// An address of no environment is answered as at the edge.
	assert.Equal(t, explained{421, "the working tree", "host"}, document[explained](p, "explain", "https://other.example/x"))
	// A preview that was removed comes back, and the way to undo that is to remove it.
	p.ok("deploy", "--to", "preview/x")
	p.ok("preview", "remove", "x", "--yes")
	_, notes, status := p.run("rollback", "preview/x")
	require.Zero(t, status, notes)
	assert.NotContains(t, notes, "0000000000")
	assert.Contains(t, notes, "undo: orilla preview remove x")
	p.ok("preview", "remove", "x", "--yes")
	// What is frozen is not deployed to, whatever was tried.
	p.ok("freeze")
	assert.NotContains(t, p.fails(3, "frozen", "promote", "HEAD", "--to", "production"), "deploy again")

	// Without orilla.yaml nobody has said that there are no steps; without commits a
	// repository has no name.
	q := newPlace(t)
	q.write(map[string]string{"index.html": "x"})
	out, _, _ := q.run("doctor")
	assert.NotContains(t, out, "no build steps")
	q.git("init", "-q")
	assert.Contains(t, q.fails(3, "a repository without commits", "deploy", "--working-tree", "--site", "fresh", "--to", "production"), "--yes")
	q.ok("deploy", "--working-tree", "--site", "fresh", "--to", "production", "--yes")
	q.ok("deploy", "--from", ".", "--site", "fresh", "--to", "production", "-m", "Strike timetable", "--yes")
	assert.Contains(t, q.ok("status", "--site", "fresh"), "Strike timetable (")
}

// TestATargetIsRememberedForAPersonOnly publishes a folder to a preview, and again
// without saying where.
func TestATargetIsRememberedForAPersonOnly(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"dist/index.html": "ready"})
	p.ok("deploy", "dist", "--site", "corvane", "--to", "preview/strike", "--yes")
	p.write(map[string]string{"dist/index.html": "again"})
	s := p.terminal("deploy", "dist")
	s.reads("to preview/strike, as last time from this folder")
	s.reads("preview/strike:2")
	<-s.ended
	s = p.terminal("status")
	s.reads("site corvane, which was published from this folder last")
	<-s.ended
	assert.Empty(t, document[[]entryRow](p, "history", "production", "--site", "corvane"), "never production after a preview")
	p.fails(2, "no orilla.yaml here", "status")
}
