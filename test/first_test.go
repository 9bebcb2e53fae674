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
