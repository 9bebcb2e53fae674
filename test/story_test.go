package test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/demo"
)

const config = `site: corvane
build:
  run: ["mkdir -p out && sed s/@/e/ page.txt > out/index.html && cp extra/* out/"]
  output: out
`

// deployed is what of a deploy's report the tests look at.
type deployed struct {
	Environment, Entry, Release, Build, Source, Commit string
	Reused                                             bool
	DryRun                                             bool `json:"dry_run"`
	Files                                              int64
	NewFiles                                           int64 `json:"new_files"`
	Added, Changed, Removed                            int
	EdgeNodes                                          int    `json:"edge_nodes"`
	EdgeServing                                        int    `json:"edge_serving"`
	ReleaseAddress                                     string `json:"release_address"`
	Addresses                                          []string
}

func TestTheDemoHoldsWhatItClaims(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	into := filepath.Join(p.folder, "here")
	out := p.ok("demo", "--once", "--into", into)
	assert.Contains(t, out, "all 45 claims hold")
	p.folder = filepath.Join(into, "corvane")
	assert.Equal(t, demo.Head, p.git("rev-parse", "HEAD~3"), "the commits have the same hashes everywhere")
	assert.Empty(t, p.git("status", "--porcelain"))
}

func TestFromACommitToALiveSiteAndBack(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	first := p.commit("First", map[string]string{"orilla.yaml": config, "page.txt": "H@llo one",
		"extra/fares.html": "42.00", "extra/app-0a1b2c3d4e.js": "1"})
	d := document[deployed](p, "deploy")
	assert.Equal(t, "production:1", d.Entry)
	assert.Equal(t, first, d.Commit)
	assert.Equal(t, []int{1, 1}, []int{d.EdgeNodes, d.EdgeServing}, "the edge node was asked, and serves it")
	status, body := get(t, address, "corvane.localhost", "/")
	assert.Equal(t, 200, status)
	assert.Equal(t, "Hello one", strings.TrimSpace(body))

	p.write(map[string]string{"page.txt": "not committed", "new.txt": ""})
	_, notes, code := p.run("deploy", "--again")
	assert.Zero(t, code)
	assert.Contains(t, notes, "2 uncommitted changes are not in this deploy")
	assert.Contains(t, notes, "reused an earlier build", "an equal build is not repeated")
	p.git("checkout", "-q", ".")

	p.commit("Second", map[string]string{"page.txt": "H@llo two"})
	d = document[deployed](p, "deploy", "-m", "a new greeting")
	assert.Equal(t, []int{0, 1, 0}, []int{d.Added, d.Changed, d.Removed})
	assert.EqualValues(t, 1, d.NewFiles)
	before := p.objects()
	type back struct {
		Entry, Release, Left string
		Reactivates          int64
		Frozen               bool
	}
	b := document[back](p, "rollback", "-m", "too cheerful")
	assert.Equal(t, back{"production:4", b.Release, d.Release, 2, true}, b)
	_, body = get(t, address, "corvane.localhost", "/")
	assert.Equal(t, "Hello one", strings.TrimSpace(body))
	assert.Equal(t, before["objects"], p.objects()["objects"], "a rollback uploads nothing")
	_, body = get(t, address, d.Release[2:12]+".release.corvane.localhost", "/")
	assert.Equal(t, "Hello two", strings.TrimSpace(body), "the release that was left can be looked at")

	p.fails(3, "frozen", "deploy")
	p.ok("thaw")
	p.fails(3, "no earlier release", "rollback")
	assert.Equal(t, "production:6", document[back](p, "rollback", "production:3", "--keep-following").Entry)
	assert.Equal(t, first, document[deployed](p, "rollback", first[:9]).Commit)
	p.fails(3, "already live", "rollback", first)
	assert.Contains(t, p.ok("history"), "too cheerful")
	assert.Contains(t, p.ok("status"), "frozen")
	assert.Contains(t, p.ok("sites"), "corvane")
	assert.Contains(t, p.ok("files", "production"), "/fares")
	assert.Contains(t, p.ok("open", "--show"), "http://corvane.localhost:")
}

func TestBranchesHaveTheirPlaces(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": config +
		"environments:\n  staging: {follows: next}\npreviews: {follows: ['*', '!bot/*']}\n", "page.txt": "1",
		"extra/x": ""})
	p.git("checkout", "-q", "-b", "winter/times")
	assert.Regexp(t, `^preview/winter-times-[0-9a-f]{8}$`,
		document[deployed](p, "deploy", "--dry-run").Environment)
	assert.Equal(t, "production", document[deployed](p, "deploy", "main", "--dry-run").Environment,
		"a branch that is named")
	assert.Equal(t, "preview/winter", document[deployed](p, "deploy", "--to", "preview/winter").Environment)
	p.git("checkout", "-q", "-b", "next")
	assert.Equal(t, "staging", document[deployed](p, "deploy", "--dry-run").Environment)
	p.git("checkout", "-q", "-b", "bot/up")
	p.fails(3, "no environment follows", "deploy")
	p.fails(2, "did you mean --to staging?", "deploy", "--to", "stagin")
	hash := p.git("rev-parse", "HEAD")
	p.fails(2, "--branch NAME", "deploy", hash)
	p.git("checkout", "-q", "--detach")
	p.fails(2, "HEAD is detached", "deploy")
	assert.Equal(t, "staging", document[deployed](p, "deploy", "--branch", "next", "--dry-run").Environment)
	p.fails(2, `did you mean winter/times?`, "deploy", "winter/tims")
}

func TestReadyOutput(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"dist/index.html": "ready", "dist/.env": "KEY=1", "dist/sub/a.html": "a"})
	p.fails(2, "orilla deploy dist --site corvane --yes", "deploy", "--from", "dist")
	p.fails(2, `use --site corvane-ferries`, "deploy", "--from", "dist", "--site", "Corvane Ferries")
	p.fails(3, "--yes", "deploy", "--from", "dist", "--site", "corvane", "--to", "production")
	_, notes, status := p.run("deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "looks like a secret")
	folder := document[deployed](p, "deploy", "--from", "dist", "--site", "corvane", "--to", "production")

	var archive bytes.Buffer
	w := zip.NewWriter(&archive)
	for name, text := range map[string]string{"site/sub/a.html": "a", "site/index.html": "ready"} {
		t.Run(name, func(t *testing.T) {
			f, err := w.Create(name)
			require.NoError(t, err)
			_, err = f.Write([]byte(text))
			require.NoError(t, err)
		})
	}
	require.NoError(t, w.Close())
	command := p.command(t.Context(), "build", "--from", "-", "--site", "corvane", "--commit", "4be21c7",
		"-m", "from CI", "--json")
	command.Stdin = &archive
	out, err := command.Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), folder.Release, "the same content has the same id, whatever it comes in")
	p.fails(3, "dist/", "deploy", "--from", ".", "--site", "corvane", "--to", "production")
	p.fails(2, "no such folder or archive", "deploy", "--from", "nowhere", "--site", "corvane", "--to",
		"production")
	p.write(map[string]string{"a.txt": "no archive at all, but some text that goes on for a while"})
	p.fails(1, "ZIP, tar and tar.gz", "deploy", "--from", "a.txt", "--site", "corvane", "--to", "production")

	other := newPlace(t)
	other.home = p.home
	other.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "mine"})
	other.fails(3, "--take-over", "deploy")
	other.ok("deploy", "--take-over")
	p.fails(3, "belongs to the repository", "deploy", "--from", "dist", "--site", "corvane", "--to",
		"production")
}

func TestSameContentSameID(t *testing.T) {
	t.Parallel()
	var ids []string
	for i, names := range [][]string{{"b", "a", "index"}, {"index", "a", "b"}} {
		p := newPlace(t)
		for _, name := range names {
			p.write(map[string]string{"dist/" + name + ".html": "page " + name})
			when := time.Now().Add(-time.Duration(i) * 1000 * time.Hour)
			require.NoError(t, os.Chtimes(filepath.Join(p.folder, "dist", name+".html"), when, when))
		}
		p.commit(fmt.Sprint("commit ", i), nil)
		ids = append(ids, document[deployed](p, "build", "--from", "dist", "--site",
			fmt.Sprint("site-", i)).Release)
	}
	assert.Equal(t, ids[0], ids[1])
}

func TestTheWorkingTreeAndFailingBuilds(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": config, "page.txt": "1", "extra/x": ""})
	p.write(map[string]string{"page.txt": "as it is now"})
	d := document[deployed](p, "deploy", "--working-tree")
	assert.Equal(t, "working-tree", d.Source)
	assert.Contains(t, p.ok("history"), "working tree")
	live := p.objects()["journal"]

	p.commit("Broken", map[string]string{"orilla.yaml": strings.Replace(config, "sed ",
		"echo building; exit 7; sed ", 1)})
	notes := p.fails(5, "ended with status 7", "deploy")
	assert.Contains(t, notes, "| building")
	assert.Equal(t, live, p.objects()["journal"], "what is live is as it was")
	assert.Len(t, p.objects()["builds"], 2, "a failed build is recorded")
	p.commit("Missing", map[string]string{"orilla.yaml": "site: corvane\nbuild: " +
		"{run: [no-such-generator build]}\n"})
	p.fails(5, "no-such-generator", "deploy")
	p.commit("Elsewhere", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['mkdir -p " +
		"public; echo hi > public/index.html'], output: dist}\n"})
	p.fails(2, "public/ has an index.html", "deploy")
	p.commit("Mistaken", map[string]string{"orilla.yaml": "site: corvane\nbiuld: {}\n"})
	notes = p.fails(2, `did you mean "build"?`, "deploy")
	assert.Contains(t, notes, "orilla.yaml:2:1")
	assert.Contains(t, notes, "  ^")
}

func TestAnOutputSurvivesAFailedUpload(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	counter := filepath.Join(t.TempDir(), "count")
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['echo x >> " + counter +
		"; mkdir out; echo hi > out/index.html'], output: out}\n"})
	p.ok("sites", "--store", p.storeWithout(t, "objects"))
	p.fails(1, "", "deploy") // a file lies where the store's folder for objects should be
	built := func() int {
		data, err := os.ReadFile(counter)
		require.NoError(t, err)
		return strings.Count(string(data), "x")
	}
	require.Equal(t, 1, built())
	require.NoError(t, os.Remove(filepath.Join(p.home, "store", "objects")))
	_, notes, status := p.run("deploy")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "reused the output of the last try")
	assert.Equal(t, 1, built(), "the next try only uploads")
}

// storeWithout makes the default store, with a file in the
// place of one of its folders.
func (p *place) storeWithout(t *testing.T, folder string) string {
	t.Helper()
	root := filepath.Join(p.home, "store")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "pulse"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "orilla-store"),
		[]byte(`{"format":1,"kind":"orilla-store"}`), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, folder), nil, 0o644))
	return root
}

func TestInitDoctorAndTheRest(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.fails(2, "--output FOLDER", "init")
	p.write(map[string]string{"package.json": `{"scripts":{"build":"x"},"dependencies":{"next":"1"}}`})
	_, notes, status := p.run("init", "--dry-run")
	assert.Zero(t, status)
	assert.Contains(t, notes, "needs a server")
	p.write(map[string]string{"index.html": "plain"})
	require.NoError(t, os.Remove(filepath.Join(p.folder, "package.json")))
	assert.Contains(t, p.ok("init", "--site", "corvane"), "site: corvane")
	p.fails(3, "already", "init")
	p.fails(2, "did you mean: orilla deploy", "deplyo")
	p.fails(2, "did you mean: orilla store verify", "store", "verfy")
	p.fails(2, "unknown flag", "deploy", "--nonsense")
	p.fails(2, "--help", "history", "too", "many")
	p.fails(1, "no store there yet", "status")
	assert.Contains(t, p.ok("version"), "semantics 3")
	assert.Contains(t, p.ok("completion", "bash"), "orilla")
	out, _, status := p.run("doctor")
	assert.Zero(t, status, out)
	assert.Contains(t, out, "orilla.yaml of site corvane")
	p.write(map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: " +
		"[no-such-generator], secrets: [NOT_SET_KEY]}\n"})
	out, _, status = p.run("doctor")
	assert.Equal(t, 4, status)
	assert.Contains(t, out, "NOT_SET_KEY")
	p.fails(2, "no such folder", "-C", "nowhere", "status")
	p.fails(3, "not an Orilla store", "sites", "--store", p.folder)
}
