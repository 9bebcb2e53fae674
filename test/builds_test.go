package test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type buildRow struct {
	Build, State, Branch, Commit, Key, Release, Entry, Now, Why, Trust, Isolation, Network string
	Phases                                                                                 []struct {
		Name,
		What string
	}
}

func (p *place) builds() []buildRow { return document[[]buildRow](p, "builds", "--limit", "0") }

func stepsFile(steps ...string) string {
	return "site: corvane\nbuild:\n  run: ['" + strings.Join(steps, "', '") +
		"']\n  output: out\n  time_limit: 20s\n"
}

const good = "mkdir out && cp page.html out/index.html"

// TestEveryBadStepHasAClearEnd runs steps that misbehave, each followed by a
// build that works in the same workspace.
func TestEveryBadStepHasAClearEnd(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.env = append(p.env, "MAP_KEY=hunter2hunter2")
	number := 0
	for name, one := range map[string]struct {
		steps []string
		says  string
	}{
		"never ends":                {[]string{"sleep 600"}, "longer than 2s"},
		"prints and prints":         {[]string{"yes the same line | head -c 100000000; exit 3"}, "status 3"},
		"forks into the background": {[]string{"(sleep 601 & setsid sleep 602 & ) ; exit 4"}, "status 4"},
		"ignores being asked to end": {[]string{"trap \"\" TERM INT HUP; while :; do sleep 1; done"},
			"longer than 2s"},
		"deletes its workspace": {[]string{"rm -rf \"$PWD\" ../git ../log ../tmp"}, "left no folder"},
		"is not found":          {[]string{"no-such-generator --all"}, "no-such-generator"},
		"is killed":             {[]string{"kill -9 $$"}, "ended with status"},
		"locks what it made": {[]string{"mkdir -p out/a && chmod 500 out/a out && exit 6"},
			"status 6"},
		"makes a repository": {[]string{"git init -q . && git add . && exit 8"}, "status 8"},
	} {
		t.Run(name, func(t *testing.T) {
			number++
			text := stepsFile(one.steps...)
			if strings.Contains(one.says, "longer") {
				text = strings.Replace(text, "time_limit: 20s", "time_limit: 2s", 1)
			}
			p.commit(name, map[string]string{"orilla.yaml": text, "page.html": name})
			_, notes, status := p.run("deploy")
			assert.Contains(t, []int{2, 5}, status, "%s: %s", name, notes)
			assert.Contains(t, notes, one.says, name)
			assert.Less(t, len(notes), 6_000_000, name)
			number++
			p.commit("good again", map[string]string{"orilla.yaml": stepsFile(good),
				"page.html": fmt.Sprint("good ", number)})
			p.ok("deploy")
		})
	}
	assert.Len(t, p.builds(), number)
	assert.Empty(t, p.objects()["running"])
	work, err := filepath.Glob(filepath.Join(p.home, "cache", "work", "corvane", "trusted", "*.lock"))
	require.NoError(t, err)
	assert.Len(t, work, 1, "one workspace, used again and again")
	processes, _ := exec.Command("ps", "-A", "-o", "args").Output()
	for _, left := range []string{"sleep 600", "sleep 601", "sleep 602"} {
		assert.NotContains(t, string(processes), left)
	}
}

// TestAFullDisk builds in a small file system that a step fills.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	small := filepath.Join(t.TempDir(), "small")
	require.NoError(t, os.MkdirAll(small, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=16m", "none", small).
		CombinedOutput(); err != nil {
		t.Skipf("a small file system cannot be mounted here: %s", out)
	}
	//nolint:errcheck // the folder goes anyway
	t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
	p.home = filepath.Join(small, "home")
	p.commit("Fill", map[string]string{"orilla.yaml": stepsFile("mkdir out; cat /dev/zero > out/big"),
		"page.html": "x"})
	p.fails(5, "the disk is full", "deploy")
	p.commit("Good", map[string]string{"orilla.yaml": stepsFile(good)})
	p.ok("deploy")
}

// TestBuiltOnce reverts, merges, goes to a second
// environment, and is asked to build again.
func TestBuiltOnce(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	text := stepsFile("echo built >> " + filepath.Join(p.folder, "..", "ran") + "; " + good)
	text = strings.Replace(text, "build:\n", "build:\n  trust: ['*']\n", 1) +
		"rules: site.rules\nenvironments: {staging: }\n"
	ran := func() int {
		data, _ := os.ReadFile(filepath.Join(p.folder, "..", "ran"))
		return strings.Count(string(data), "built")
	}
	p.commit("First", map[string]string{"orilla.yaml": text, "page.html": "one",
		"site.rules": "redirect /a -> /\n"})
	p.ok("deploy")
	p.commit("Second", map[string]string{"page.html": "two"})
	p.ok("deploy")
	p.git("revert", "--no-edit", "HEAD")
	_, notes, _ := p.run("deploy")
	assert.Contains(t, notes, "reused an earlier build")
	p.git("checkout", "-q", "-b", "winter", "HEAD~1")
	p.commit("Winter", map[string]string{"page.html": "winter"})
	p.ok("deploy")
	assert.Equal(t, 3, ran())
	p.git("checkout", "-q", "main")
	p.git("merge", "-q", "--no-edit", "-X", "theirs", "winter")
	p.write(map[string]string{"page.html": "winter"})
	p.commit("Merge of what was reviewed", nil)
	p.ok("deploy")
	p.ok("deploy", "HEAD", "--to", "staging")
	p.commit("Rules", map[string]string{"site.rules": "redirect /b -> /\n"})
	p.ok("deploy")
	assert.Equal(t, 3, ran(), "neither a merge, a second environment nor rules build again")
	p.ok("deploy", "--rebuild")
	assert.Equal(t, 4, ran())
}

// TestCancelMeansTheBuildThatRuns has another one that was killed.
func TestCancelMeansTheBuildThatRuns(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	config := "site: corvane\nbuild: {run: [sleep 600], output: .}\n"
	begins := func(message string) *exec.Cmd {
		t.Helper()
		p.commit(message, map[string]string{"orilla.yaml": config, "index.html": message})
		command := p.command(t.Context(), "deploy", "--yes")
		require.NoError(t, command.Start())
		require.Eventually(t, func() bool {
			rows := document[[]struct{ State, Now, Subject string }](p, "builds")
			return len(rows) > 0 && rows[0].State == "running" && rows[0].Subject == message &&
				strings.Contains(rows[0].Now, "sleep")
		}, patience, tick)
		return command
	}

	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "first"})
	p.ok("deploy")
	killed := begins("Second")
	require.NoError(t, killed.Process.Kill())
	require.Error(t, killed.Wait())
	running := begins("Third")
	assert.Contains(t, p.ok("cancel"), "build:3 cancelled")
	require.Error(t, running.Wait())
	p.fails(3, "seems to be gone", "cancel")
}

// TestTwoBuildersOfTheSameCommit deploys one commit from two machines at once,
// and again while the first one is killed.
func TestTwoBuildersOfTheSameCommit(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	store := filepath.Join(t.TempDir(), "store")
	p.commit("First", map[string]string{"orilla.yaml": stepsFile("sleep 1.5; " + good), "page.html": "one"})
	var wait sync.WaitGroup
	notes := make([]string, 3)
	for i := range notes {
		other := *p
		other.home = filepath.Join(t.TempDir(), "home")
		wait.Go(func() {
			_, said, status := other.run("deploy", "--store", store)
			assert.Zero(t, status, said)
			notes[i] = said
		})
	}
	wait.Wait()
	assert.Len(t, document[[]buildRow](p, "builds", "--store", store), 1, "one built, two waited: %s", notes)
	assert.Equal(t, 2, strings.Count(strings.Join(notes, ""), "already being built by"))

	// It takes long until somebody says otherwise, so that a slow machine has the time
	// to see that it runs.
	quick := filepath.Join(t.TempDir(), "quick")
	p.commit("Second", map[string]string{"orilla.yaml": stepsFile("test -e " + quick + " || sleep 18; " + good),
		"page.html": "two"})
	first := p.command(t.Context(), "deploy", "--store", store)
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool {
		return len(p.builds2(store)) == 2 && p.builds2(store)[0].State == "running"
	}, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, first.Process.Kill())
	first.Wait() //nolint:errcheck // killed
	require.NoError(t, os.WriteFile(quick, nil, 0o644))
	started := time.Now()
	p.ok("deploy", "--store", store)
	assert.Less(t, time.Since(started), 15*time.Second, "nobody waits for who is known to be gone")
	rows := p.builds2(store)
	require.Len(t, rows, 3)
	assert.Equal(t, []string{"succeeded", "abandoned", "succeeded"}, []string{rows[0].State, rows[1].State,
		rows[2].State})
}

func (p *place) builds2(store string) []buildRow {
	return document[[]buildRow](p, "builds", "--store", store)
}

// TestAnOlderBuildThatEndsLast: in CI, a slow build of an older commit never
// replaces a newer one, and a commit that a force-push took away does not come
// back; what a shallow clone lacks is fetched.
func TestAnOlderBuildThatEndsLast(t *testing.T) {
	t.Parallel()
	server, p := newPlace(t), newPlace(t)
	server.git("init", "-q", "--bare", "-b", "main")
	store := filepath.Join(t.TempDir(), "store")
	p.commit("First", map[string]string{"orilla.yaml": stepsFile(good) + "store: " + store + "\n",
		"page.html": "one"})
	older := p.commit("Older", map[string]string{"page.html": "two"})
	newer := p.commit("Newer", map[string]string{"page.html": "three"})
	p.git("remote", "add", "origin", "file://"+server.folder)
	p.git("push", "-q", "origin", "main")
	ci := func(commit string) *place {
		c := newPlace(t)
		require.NoError(t, os.RemoveAll(c.folder))
		require.NoError(t, os.MkdirAll(c.folder, 0o755))
		c.git("init", "-q")
		c.git("remote", "add", "origin", "file://"+server.folder)
		c.git("fetch", "-q", "--depth=1", "origin", commit)
		c.git("checkout", "-q", "--detach", "FETCH_HEAD")
		c.env = append(c.env, "GITHUB_REF_TYPE=", "GITHUB_HEAD_REF=", "BRANCH_NAME=main")
		return c
	}
	live := func() string { return p.heads()["production"] }
	ci(newer).ok("deploy")
	assert.Equal(t, newer, live())
	shallow := ci(older)
	shallow.fails(3, "older than what is live", "deploy")
	assert.Equal(t, newer, live())
	last := p.builds()[0]
	assert.Equal(t, "superseded", last.State)
	out := ci(newer)
	outputs, summary := filepath.Join(out.home, "..", "outputs"), filepath.Join(out.home, "..", "summary")
	out.ok("follow", "--once", "--write", "lines:"+outputs, "--write", "markdown:"+summary)
	data, err := os.ReadFile(outputs)
	require.NoError(t, err)
	assert.Contains(t, string(data), "changed=false")
	latest := p.commit("Latest", map[string]string{"page.html": "four"})
	p.git("push", "-q", "origin", "main")
	ci(latest).ok("follow", "--once", "--write", "lines:"+outputs, "--write", "markdown:"+summary)
	assert.Equal(t, latest, live())
	data, err = os.ReadFile(outputs)
	require.NoError(t, err)
	for _, line := range []string{"url=http://corvane.localhost", "environment=production\n",
		"changed=true\n", "entry=production:2\n", "commit=" + latest} {
		assert.Contains(t, string(data), line)
	}
	data, err = os.ReadFile(summary)
	require.NoError(t, err)
	assert.Contains(t, string(data), "### production is live")

	p.git("reset", "-q", "--hard", newer)
	instead := p.commit("Instead", map[string]string{"page.html": "five"})
	p.git("push", "-q", "--force", "origin", "main")
	ci(instead).ok("deploy")
	assert.Equal(t, instead, live(), "what was taken away gives way")
	gone := newPlace(t)
	gone.folder = p.folder
	gone.git("checkout", "-q", "--detach", latest)
	gone.fails(3, "no longer on main", "deploy", "--branch", "main")
	gone.ok("deploy", "--branch", "main", "--yes")
	assert.Equal(t, latest, live(), "by hand it goes")
	stranger := ci(newer)
	stranger.env = append(stranger.env, "BRANCH_NAME=")
	stranger.fails(2, "--branch NAME", "follow", "--once")
	stranger.git("remote", "remove", "origin")
	stranger.fails(3, "shallow", "deploy", "--branch", "main")
}

// TestALogCanBeReadWhileItGrowsAndABuildCancelled watches
// a build from another process.
func TestALogCanBeReadWhileItGrowsAndABuildCancelled(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.env = append(p.env, "MAP_KEY=hunter2hunter2")
	text := stepsFile("for i in 1 2 3 4 5 6 7 8; do echo line $i with $MAP_KEY; sleep 0.4; done; "+good) +
		"follow: {superseded: cancel}\n"
	text = strings.Replace(text, "  output", "  secrets: [MAP_KEY]\n  output", 1)
	p.commit("Slow", map[string]string{"orilla.yaml": text, "page.html": "one"})
	deploy := p.command(t.Context(), "deploy")
	require.NoError(t, deploy.Start())
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(p.home, "store"))
		return err == nil && len(p.objects()["runs"]) == 1
	}, 30*time.Second, 20*time.Millisecond)
	log := p.ok("log")
	require.NoError(t, deploy.Wait())
	want := ""
	for i := range 8 {
		want += fmt.Sprintf("line %d with [secret]\n", i+1)
	}
	assert.Equal(t, want, log, "each line once, and no secret")
	assert.Equal(t, want, p.ok("log", "build:1"))
	assert.Equal(t, want, p.ok("log", "main"))
	p.fails(2, "no build build:9", "log", "build:9")
	p.fails(3, "no build of corvane is running", "cancel")

	p.commit("Slow again", map[string]string{"page.html": "two"})
	var notes bytes.Buffer
	deploy = p.command(t.Context(), "deploy")
	deploy.Stderr = &notes
	require.NoError(t, deploy.Start())
	require.Eventually(t, func() bool { return p.builds()[0].State == "running" }, 30*time.Second,
		20*time.Millisecond)
	assert.Contains(t, p.ok("cancel", "build:2"), "cancelled")
	require.Error(t, deploy.Wait())
	assert.Contains(t, notes.String(), "cancelled by ")
	assert.Equal(t, "cancelled", p.builds()[0].State)
	assert.Equal(t, "production:1", document[[]struct{ Entry string }](p, "history")[0].Entry)

	f := p.follow()
	f.seen(t, "builds", "main", "")
	newest := p.commit("Newer", map[string]string{"page.html": "three"})
	f.seen(t, "superseded", "main", "is newer")
	f.seen(t, "live", "main", newest)
}

// TestWhatABuildSees: what its key names and nothing else.
func TestWhatABuildSees(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.env = append(p.env, "MAP_KEY=hunter2hunter2", "OTHER_THING=leaks")
	text := "site: corvane\nbuild:\n  run: ['mkdir out; (ls -a; ls -a ../..; cat ../../shared/boats.txt; " +
		"env; git log --oneline) > out/index.html 2>&1 || true']\n  output: out\n  also: [shared]\n" +
		"  secrets: [MAP_KEY]\n  secrets_for: [main]\n"
	site := map[string]string{"sites/times/orilla.yaml": text, "sites/times/page.html": "x",
		"sites/other/orilla.yaml": "site: other\n", "sites/other/secret.txt": "x",
		"shared/boats.txt": "Dunlin"}
	p.commit("First", site)
	at := *p
	at.folder = filepath.Join(p.folder, "sites", "times")
	address := at.edge()
	at.ok("deploy")
	_, seen := get(t, address, "corvane.localhost", "/")
	assert.Contains(t, seen, "Dunlin")
	assert.Contains(t, seen, "MAP_KEY=hunter2hunter2")
	for _, hidden := range []string{"other", "OTHER_THING", "\n.git\n", "First"} {
		assert.NotContains(t, seen, hidden)
	}
	p.git("checkout", "-q", "-b", "winter")
	p.commit("Winter", map[string]string{"sites/times/page.html": "y"})
	at.env = nil
	at.ok("deploy")
	p.git("checkout", "-q", "main")
	p.commit("Main", map[string]string{"sites/times/page.html": "z"})
	notes := at.fails(2, "secrets that are not set: MAP_KEY", "deploy")
	assert.NotContains(t, notes, "step ", "before the first step")
	at.env = p.env

	// A commit elsewhere builds nothing; one in shared/ does.
	at.ok("deploy")
	before := len(at.builds())
	f := at.follow("--every", "1s")
	p.commit("Other", map[string]string{"sites/other/secret.txt": "y"})
	f.seen(t, "nothing", "main", "none of the site's files differ")
	shared := p.commit("Boats", map[string]string{"shared/boats.txt": "Turnstone"})
	f.seen(t, "live", "main", shared)
	assert.Len(t, at.builds(), before+1)
	_, seen = get(t, address, "corvane.localhost", "/")
	assert.Contains(t, seen, "Turnstone")

	told := strings.Replace(text, "  also", "  tell: [commit, branch, environment, history]\n  also", 1)
	commit := p.commit("Told", map[string]string{"sites/times/orilla.yaml": told})
	f.seen(t, "live", "main", commit)
	_, seen = get(t, address, "corvane.localhost", "/")
	for _, shown := range []string{"ORILLA_COMMIT=" + commit, "ORILLA_BRANCH=main",
		"ORILLA_ENVIRONMENT=production", "Boats"} {
		assert.Contains(t, seen, shown)
	}
	p.write(map[string]string{"shared/boats.txt": "Sandling"})
	require.NoError(t, os.RemoveAll(filepath.Join(at.folder, "out")))
	at.ok("deploy", "--working-tree", "--yes")
	assert.Eventually(t, func() bool {
		_, seen = get(t, address, "corvane.localhost", "/")
		return strings.Contains(seen, "Sandling") && strings.Contains(seen, "ORILLA_BRANCH=main")
	}, 30*time.Second, 20*time.Millisecond, "builds of the working tree are told too")
}

// TestAReleaseThatWasToldWhereItGoesStaysThere promotes
// what may go elsewhere, and what may not.
func TestAReleaseThatWasToldWhereItGoesStaysThere(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	text := stepsFile(good) + "environments: {staging: }\n"
	p.commit("First", map[string]string{"orilla.yaml": text, "page.html": "one"})
	p.ok("deploy", "--to", "staging")
	before := p.objects()
	p.ok("promote", "staging", "--to", "production")
	assert.Len(t, p.objects()["objects"], len(before["objects"]), "nothing is uploaded")
	rows := document[struct {
		Environments []struct{ Environment, Release, Kind string }
	}](p, "status").Environments
	assert.Equal(t, rows[0].Release, rows[1].Release)
	assert.Equal(t, "promotion", rows[0].Kind)
	assert.Len(t, p.builds(), 1)
	p.commit("Told", map[string]string{"orilla.yaml": strings.Replace(text, "  output",
		"  tell: [environment]\n  output", 1)})
	p.ok("deploy", "--to", "staging")
	key := p.builds()[0].Key
	notes := p.fails(3, "used its environment, staging", "promote", "staging", "--to", "production")
	assert.Contains(t, notes, key[:12], "the key is named")
	p.fails(3, "used its environment", "promote", "HEAD", "--to", "production")
	p.ok("deploy", "--to", "production")
	assert.Len(t, p.builds(), 3, "it is built for there")
	p.ok("promote", "production:1", "--to", "production")
	p.ok("freeze", "-m", "a holiday")
	p.fails(3, "a holiday", "promote", "production:1", "--to", "production")
	p.fails(2, "--to staging", "promote", "production")
	p.fails(2, "no environment, entry or built commit", "promote", "nowhere", "--to", "production")
}

// TestTheScriptForCI runs what init --ci writes, in a
// shallow, detached checkout.
func TestTheScriptForCI(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	store := filepath.Join(t.TempDir(), "store")
	p.commit("First", map[string]string{"orilla.yaml": stepsFile("true\n\n    exit 9", good) + "store: " +
		store + "\n", "page.html": "one"})
	shown := p.ok("init", "--ci")
	assert.Contains(t, shown, "ORILLA_VERSION=0")
	assert.NotContains(t, shown, "\nexit 9", "a step of several lines stays behind its comment sign")
	p.commit("In one line", map[string]string{"orilla.yaml": stepsFile(good) + "store: " + store + "\n"})
	assert.NoFileExists(t, filepath.Join(p.folder, "ci", "publish.sh"))
	p.ok("init", "--ci", "--yes")
	p.fails(3, "already", "init", "--ci", "--yes")
	head := p.commit("A script", nil)
	clone := newPlace(t)
	require.NoError(t, os.RemoveAll(clone.folder))
	p.git("clone", "-q", "--depth=1", "file://"+p.folder, clone.folder)
	clone.git("checkout", "-q", "--detach")
	script := func(at *place, name, download string, environment ...string) (string, error) {
		command := at.command(t.Context())
		command.Path, _ = exec.LookPath("sh")
		command.Args = []string{"sh", "ci/" + name}
		command.Env = append(append(command.Env, "ORILLA_HOME=", "BRANCH_NAME=main", "ORILLA_DOWNLOAD="+
			download, "SSH_AUTH_SOCK=", "AWS_SECRET_ACCESS_KEY="), environment...)
		out, err := command.CombinedOutput()
		return string(out), err
	}
	run := func(download string) (string, error) {
		return script(clone, "publish.sh", download, "ORILLA_SUMMARY=summary.md")
	}
	other := filepath.Join(t.TempDir(), "other")
	require.NoError(t, os.WriteFile(other, []byte("something else"), 0o755))
	said, err := run("file://" + other)
	require.Error(t, err)
	assert.Contains(t, said, "checksum differs")
	said, err = run("file://" + program)
	require.NoError(t, err, said)
	assert.Equal(t, head, p.heads()["production"])
	assert.FileExists(t, filepath.Join(clone.folder, "summary.md"))
	said, err = run("file:///nowhere")
	require.NoError(t, err, "the program is kept: %s", said)
	assert.Contains(t, said, "it is already live")

	// A proposed change: one job builds it, another one,
	// in a checkout of main, publishes what came out.
	change := newPlace(t)
	require.NoError(t, os.RemoveAll(change.folder))
	p.git("clone", "-q", "--depth=1", "file://"+p.folder, change.folder)
	proposed := change.commit("Proposed", map[string]string{"page.html": "proposed"})
	change.git("checkout", "-q", "--detach")
	said, err = script(change, "proposed-build.sh", "file://"+program, "AWS_SECRET_ACCESS_KEY=x")
	require.Error(t, err)
	assert.Contains(t, said, "AWS_SECRET_ACCESS_KEY is set")
	said, err = script(change, "proposed-build.sh", "file://"+program)
	require.NoError(t, err, said)
	require.NoError(t, os.Rename(filepath.Join(change.folder, "site.tar.gz"),
		filepath.Join(clone.folder, "site.tar.gz")))
	said, err = script(clone, "proposed-publish.sh", "file://"+program, "PROPOSED_REF=refs/proposed/7/head",
		"PROPOSED_COMMIT="+proposed)
	require.NoError(t, err, said)
	assert.Contains(t, said, "preview/proposed-7-head-")
	assert.Equal(t, head, p.heads()["production"])
}

// TestLimits warns at 80 % and refuses at 100 %.
func TestLimits(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": stepsFile("sleep 6.6; "+good) +
		"limits: {file_size: 1kB, files: 1, build_time_per_month: 10s, build_time: 8s}\n", "page.html": "x"})
	_, notes, status := p.run("deploy")
	require.Zero(t, status, notes)
	assert.Contains(t, notes, "over 80 % of limits.build_time:")
	assert.Contains(t, notes, "over 80 % of limits.files: 1 of 1 files")
	p.commit("Large", map[string]string{"page.html": strings.Repeat("x", 2000)})
	p.fails(3, "larger than 1.0 kB", "deploy")
	p.commit("Again", map[string]string{"page.html": "y"})
	p.fails(3, "this month's build time is used up", "deploy")
	used := p.ok("usage")
	assert.Contains(t, used, "limits.build_time_per_month")
	p.ok("deploy", "HEAD~2", "--yes")
	p.commit("Never ends", map[string]string{"orilla.yaml": stepsFile("sleep 100") +
		"limits: {build_time: 1s}\n"})
	notes = p.fails(5, "longer than 1s", "deploy")
	assert.Contains(t, notes, "limits.build_time")
}

// TestDependenciesAreKeptWhileLockFilesAreTheSame counts
// how often they are prepared.
func TestDependenciesAreKeptWhileLockFilesAreTheSame(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	text := "site: corvane\nbuild:\n  prepare: ['mkdir -p node_modules && date +%N > " +
		"node_modules/made']\n  run: ['mkdir out && cp node_modules/made out/index.html && touch " +
		"node_modules/cache']\n  output: out\n  keep: [node_modules]\n"
	prepared := func() (steps int) {
		for _, phase := range p.builds()[0].Phases {
			if phase.Name == "prepare" {
				steps++
			}
		}
		return steps
	}
	p.commit("First", map[string]string{"orilla.yaml": text, "package-lock.json": "1",
		".gitignore": "node_modules\n"})
	p.ok("deploy")
	assert.Equal(t, 1, prepared())
	p.commit("Page", map[string]string{"page.html": "1"})
	p.ok("deploy")
	assert.Zero(t, prepared())
	p.commit("Lock", map[string]string{"package-lock.json": "2"})
	p.ok("deploy")
	assert.Equal(t, 1, prepared())
	p.commit("Broken", map[string]string{"orilla.yaml": strings.Replace(text, "date", "exit 3; date", 1)})
	p.fails(5, "status 3", "deploy")
	p.commit("Whole", map[string]string{"orilla.yaml": text, "page.html": "2"})
	p.ok("deploy")
	assert.Equal(t, 1, prepared(), "what a broken step left is not relied on")
}

func TestHooksLeaveOthersAlone(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("hooks are shell scripts")
	}
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": quick, "page.html": "x"})
	hooks := filepath.Join(p.folder, ".git", "hooks")
	own := "#!/bin/sh\necho mine > mine\nexit 0\n"
	require.NoError(t, os.MkdirAll(hooks, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(hooks, "post-commit"), []byte(own), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(hooks, "post-merge"), []byte("#!/usr/bin/perl\n"), 0o755))
	said := p.ok("hook", "install")
	assert.Contains(t, said, "skipped")
	assert.Equal(t, 1, strings.Count(p.ok("hook", "install"), "skipped"))
	wake := filepath.Join(p.folder, ".git", "orilla.wake")
	assert.NoFileExists(t, wake)
	p.commit("Second", map[string]string{"page.html": "y"})
	assert.FileExists(t, wake)
	assert.FileExists(t, filepath.Join(p.folder, "mine"), "the hook that was there runs too")
	p.ok("hook", "remove")
	data, err := os.ReadFile(filepath.Join(hooks, "post-commit"))
	require.NoError(t, err)
	assert.Equal(t, own, string(data))
	assert.NoFileExists(t, filepath.Join(hooks, "post-rewrite"))
}
