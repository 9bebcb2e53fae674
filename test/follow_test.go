package test

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/soak"
)

// event is one line that follow prints with --json.
type event struct {
	Kind, Branch, Commit, Environment, Why, Entry, Code, Problem string

	Commits int
	Older   []struct{ Commit, Subject string }
}

// follower is a running orilla follow.
type follower struct {
	command *exec.Cmd
	mutex   sync.Mutex
	events  []event
	notes   bytes.Buffer
}

// Write takes what it notes.
func (f *follower) Write(data []byte) (int, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.notes.Write(data)
}

// said is what there was so far.
func (f *follower) said() string {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return fmt.Sprintf("%+v %s", f.events, f.notes.String())
}

func (p *place) follow(args ...string) *follower {
	p.t.Helper()
	f := &follower{command: p.command(context.Background(), append([]string{"follow", "--json"}, args...)...)}
	out, err := f.command.StdoutPipe()
	require.NoError(p.t, err)
	f.command.Stderr = f
	require.NoError(p.t, f.command.Start())
	read := make(chan struct{})
	go func() {
		defer close(read)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			var one event
			if json.Unmarshal(lines.Bytes(), &one) == nil {
				f.mutex.Lock()
				f.events = append(f.events, one)
				f.mutex.Unlock()
			}
		}
	}()
	p.t.Cleanup(func() {
		f.command.Process.Signal(os.Interrupt) //nolint:errcheck // it may have ended
		<-read
		f.command.Wait() //nolint:errcheck // it may have been killed
	})
	return f
}

// seen waits for an event.
func (f *follower) seen(t *testing.T, kind, branch, part string) event {
	t.Helper()
	var found event
	there := func() bool {
		f.mutex.Lock()
		defer f.mutex.Unlock()
		for _, one := range f.events {
			if one.Kind == kind && one.Branch == branch &&
				strings.Contains(one.Commit+" "+one.Why+" "+one.Problem, part) {
				found = one
				return true
			}
		}
		return false
	}
	for wait := time.Now(); !there(); time.Sleep(10 * time.Millisecond) {
		require.Less(t, time.Since(wait), time.Minute, "%s %s %s: %s", kind, branch, part, f.said())
	}
	return found
}

const quick = "site: corvane\nbuild:\n  run: ['mkdir out && cp page.html out/index.html']\n  output: " +
	"out\nenvironments:\n  production: {follows: main}\n  staging: {follows: " +
	"staging}\nfollow: {parallel: 4}\n"

// heads returns the commit that each environment serves.
func (p *place) heads() map[string]string {
	heads := map[string]string{}
	for _, row := range document[struct {
		Environments []struct{ Environment, Commit string }
	}](p, "status").Environments {
		heads[row.Environment] = row.Commit
	}
	return heads
}

// TestManyCommitsAtOnce pushes 200 commits to 20 branches, all together and
// then branch after branch while builds run: each environment ends on the
// newest commit of its branch and never goes back.
func TestManyCommitsAtOnce(t *testing.T) {
	t.Parallel()
	server, p := newPlace(t), newPlace(t)
	server.git("init", "-q", "--bare", "-b", "main")
	p.commit("First", map[string]string{"orilla.yaml": quick, "page.html": "first"})
	p.git("tag", "start")
	p.git("remote", "add", "origin", server.folder)
	p.git("push", "-q", "origin", "main")
	server.home = p.home
	f := server.follow()
	f.seen(t, "live", "main", "")
	branches := []string{"main", "staging"}
	for i := range 18 {
		branches = append(branches, fmt.Sprintf("sailings/%d", i))
	}
	tips := map[string]string{}
	commits := func(n int) {
		for _, branch := range branches {
			p.git("checkout", "-q", "-B", branch, cmp.Or(tips[branch], "start"))
			for i := range n {
				tips[branch] = p.commit(fmt.Sprintf("%s %d", branch, i),
					map[string]string{"page.html": fmt.Sprint(branch, i, rand.Int())})
			}
		}
	}
	ends := func() {
		for branch, tip := range tips {
			require.Eventually(t, func() bool {
				f.mutex.Lock()
				defer f.mutex.Unlock()
				for _, one := range f.events {
					if one.Branch == branch && one.Commit == tip && one.Kind == "live" {
						return true
					}
				}
				return false
			}, 120*time.Second, 50*time.Millisecond, branch)
		}
		heads := server.heads()
		assert.Len(t, heads, 20)
		for branch, tip := range tips {
			environment := map[string]string{"main": "production", "staging": "staging"}[branch]
			for name, commit := range heads {
				if environment == "" && strings.HasPrefix(name, "preview/"+strings.ReplaceAll(branch, "/",
					"-")+"-") {
					assert.Equal(t, tip, commit, branch)
				} else if name == environment {
					assert.Equal(t, tip, commit, branch)
				}
			}
		}
	}
	commits(10)
	p.git("push", "-q", "--force", "origin", "--all")
	ends()
	commits(2)
	for _, branch := range branches { // one after the other, twice
		p.git("push", "-q", "origin", tips[branch]+"~1:refs/heads/"+branch)
	}
	p.git("push", "-q", "--force", "origin", "--all")
	ends()
	counts := map[string]int{}
	f.mutex.Lock()
	for _, one := range f.events {
		if one.Branch != "" { // that staging is not there at first is told, of no commit
			counts[one.Kind] += max(1, one.Commits) // those that came together are one event
		}
	}
	f.mutex.Unlock()
	t.Logf("200 commits at once, then 40 one after the other: %d builds began, %d went "+
		"live, %d commits were superseded", counts["builds"], counts["live"], counts["superseded"])
	assert.Equal(t, 240, counts["builds"]+counts["superseded"]-1, "each commit was built or gave way")
	assert.Zero(t, counts["failed"]+counts["trouble"])
	for _, branch := range branches[2:4] {
		entries := document[[]struct{ Commit string }](server, "history",
			"preview/"+strings.ReplaceAll(branch, "/", "-")+labelPart(server, branch), "--limit", "0")
		for i := range len(entries) - 1 {
			p.git("merge-base", "--is-ancestor", entries[i+1].Commit, entries[i].Commit)
		}
	}
	assert.Empty(t, server.objects()["running"])
}

// labelPart returns what is behind a branch's name in the label of its preview.
func labelPart(p *place, branch string) string {
	for name := range p.heads() {
		if rest, ok := strings.CutPrefix(name, "preview/"+strings.ReplaceAll(branch, "/", "-")); ok {
			return rest
		}
	}
	return ""
}

// TestAFollowerSaysWhyNothingHappens goes through every reason not to build.
func TestAFollowerSaysWhyNothingHappens(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	config := quick + "previews: {follows: ['*', '!bot/*'], refs: ['refs/proposed/*/head']}\n"
	first := p.commit("First", map[string]string{"orilla.yaml": config, "page.html": "first"})
	f := p.follow("--every", "1s")
	f.seen(t, "live", "main", first)
	p.git("checkout", "-q", "-b", "bot/updates")
	f.seen(t, "nothing", "bot/updates", "no environment follows it")
	p.git("checkout", "-q", "main")
	f.seen(t, "nothing", "main", p.commit("Later\n\nOrilla: skip", map[string]string{"page.html": "skipped"}))
	fares := p.commit("Fares", map[string]string{"page.html": "fares"})
	f.seen(t, "live", "main", fares)
	f.seen(t, "nothing", "main", p.commit("Empty", nil))
	p.git("revert", "--no-edit", "HEAD~1")
	revert := p.git("rev-parse", "HEAD")
	p.git("update-ref", "refs/proposed/7/head", revert)
	f.seen(t, "live", "main", revert)
	f.seen(t, "live", "proposed/7/head", revert)
	assert.Len(t, document[[]struct{ Build string }](p, "builds"), 3,
		"the skipped content is built with the revert, not again for the proposal")
	p.ok("freeze", "-m", "a holiday")
	frozen := p.commit("Frozen", map[string]string{"page.html": "frozen"})
	f.seen(t, "waits", "main", "a holiday")
	waiting := document[[]struct{ State, Commit, Why string }](p, "builds")
	assert.Equal(t, []string{"waiting", frozen}, []string{waiting[0].State, waiting[0].Commit})
	p.ok("follow", "--pause", "-m", "moving house")
	p.fails(3, "--leave-live", "thaw")
	p.ok("thaw", "--leave-live")
	f.seen(t, "waits", "main", "moving house")
	p.fails(3, "moving house", "deploy")
	_, notes, _ := p.run("status")
	assert.Contains(t, notes, "automatic builds are paused by")
	p.ok("deploy", "HEAD~1", "--to", "staging", "--yes")
	p.ok("follow", "--resume")
	f.seen(t, "live", "main", frozen)
	broken := p.commit("Broken",
		map[string]string{"orilla.yaml": strings.Replace(config, "mkdir out", "exit 7", 1)})
	assert.Contains(t, f.seen(t, "failed", "main", broken).Problem, "status 7")
	assert.Equal(t, frozen, p.heads()["production"])
	wrong := p.commit("Wrong", map[string]string{"orilla.yaml": "site: corvane\nbiuld: {}\n"})
	assert.Contains(t, f.seen(t, "failed", "main", wrong).Problem, "biuld")
	p.git("checkout", "-q", "-b", "meanwhile", frozen)
	f.seen(t, "live", "meanwhile", p.commit("Others go on", map[string]string{"page.html": "meanwhile"}))
	p.git("checkout", "-q", "-b", "gone", frozen)
	p.git("checkout", "-q", "main")
	p.git("branch", "-D", "-q", "gone")
	p.git("reset", "-q", "--hard", fares)
	assert.Eventually(t, func() bool { return p.heads()["production"] == fares }, 30*time.Second,
		50*time.Millisecond, "what a force-push took away gives way")
	p.fails(3, "already follows", "follow")
}

// TestAFollowerThatIsKilledGoesOn ends followers with SIGKILL at any moment,
// while steps run and children of theirs.
func TestAFollowerThatIsKilledGoesOn(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	marks := t.TempDir()
	step := fmt.Sprintf("(sleep 600 & echo $! >> %s/pids; wait) & child=$!; sleep 0.2; cp "+
		"page.html out/index.html; kill $child", marks)
	config := "site: corvane\nbuild:\n  run: ['mkdir out', '" + step + "']\n  output: out\n"
	last := p.commit("First", map[string]string{"orilla.yaml": config, "page.html": "0"})
	p.write(map[string]string{"untracked.html": "mine"})
	rounds := soak.Rounds(8, 150)
	for i := range rounds {
		ctx, cancel := context.WithCancel(t.Context())
		command := p.command(ctx, "follow", "--every", "1s")
		require.NoError(t, command.Start())
		if i%2 == 0 {
			p.git("commit", "-q", "--allow-empty", "-m", "untouched")
			last = p.commit(fmt.Sprint("Commit ", i), map[string]string{"page.html": fmt.Sprint(i)})
		}
		time.Sleep(time.Duration(50+rand.IntN(900)) * time.Millisecond)
		cancel()       // SIGKILL
		command.Wait() //nolint:errcheck // killed
	}
	status := p.git("status", "--porcelain")
	p.ok("follow", "--once")
	assert.Equal(t, last, p.heads()["production"])
	assert.Equal(t, status, p.git("status", "--porcelain"), "the working tree is untouched")
	assert.Empty(t, p.objects()["running"], "no lock stays")
	pids, err := os.ReadFile(filepath.Join(marks, "pids"))
	require.NoError(t, err)
	for _, pid := range strings.Fields(string(pids)) {
		assert.Eventually(t, func() bool {
			command, err := os.ReadFile("/proc/" + pid + "/cmdline")
			return err != nil || !bytes.Contains(command, []byte("sleep\x00600"))
		}, 30*time.Second, 20*time.Millisecond, "process %s is left", pid)
	}
	states := map[string]int{}
	for _, row := range document[[]struct{ State string }](p, "builds", "--limit", "0") {
		states[row.State]++
	}
	t.Logf("%d killed: %v", rounds, states)
	assert.Zero(t, states["running"])
	p.ok("store", "verify")
}

// TestAWakeUpMustBeSigned calls a follower that would not look for an hour.
func TestAWakeUpMustBeSigned(t *testing.T) {
	t.Parallel()
	server, p := newPlace(t), newPlace(t)
	server.git("init", "-q", "--bare", "-b", "main")
	p.commit("First", map[string]string{"orilla.yaml": quick, "page.html": "first"})
	p.git("remote", "add", "origin", "file://"+server.folder)
	p.git("push", "-q", "origin", "main")
	p.fails(2, "ORILLA_WAKE_SECRET", "follow", "origin", "--wake", "127.0.0.1:0")
	p.env = append(p.env, "ORILLA_WAKE_SECRET=the secret of the harbour")
	address := freeAddress(t)
	f := p.follow("origin", "--every", "1h", "--wake", address)
	f.seen(t, "live", "main", "")
	second := p.commit("Second", map[string]string{"page.html": "second"})
	p.git("push", "-q", "origin", "main")
	call := func(method, body, key string) int {
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte(body))
		request, err := http.NewRequestWithContext(t.Context(), method, "http://"+address+"/",
			strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("X-Hub-Signature-256", "sha256="+hex.EncodeToString(mac.Sum(nil)))
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		io.Copy(io.Discard, response.Body) //nolint:errcheck // not of interest
		require.NoError(t, response.Body.Close())
		return response.StatusCode
	}
	assert.Equal(t, 405, call("GET", "", "the secret of the harbour"))
	assert.Equal(t, 403, call("POST", "{}", "another secret"))
	assert.NotEqual(t, second, p.heads()["production"])
	assert.Equal(t, 202, call("POST", `{"ref":"refs/heads/main"}`, "the secret of the harbour"))
	f.seen(t, "live", "main", second)
}

// newerRow is a commit that is not live, as status tells it.
type newerRow struct{ Environment, Commit, State, Build, Why, Now string }

// newer returns what status says is not live, by environment.
func (p *place) newer() map[string]newerRow {
	p.t.Helper()
	found := map[string]newerRow{}
	for _, row := range document[struct{ Newer []newerRow }](p, "status").Newer {
		found[row.Environment] = row
	}
	return found
}

// TestWhatIsNotLiveSaysWhy: what was refused, failed, is being built or was left
// alone can be seen in status, builds, log and history, by whoever looks.
func TestWhatIsNotLiveSaysWhy(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": strings.Replace(quick, "site: corvane\n",
		"site: corvane\nrules: site.rules\n", 1), "page.html": "first", "site.rules": ""})
	f := p.follow()
	f.seen(t, "live", "main", "")
	assert.Empty(t, p.newer())

	// Rules that are wrong: no build begins, and everybody can read why.
	rules := p.commit("Wrong rules", map[string]string{"site.rules": "redirect /old ->\ngone\n"})
	f.seen(t, "failed", "main", rules)
	row := p.newer()["production"]
	assert.Equal(t, newerRow{"production", rules, "refused", "build:2", "site.rules:1:17: the target is missing here", ""}, row)
	assert.Contains(t, p.ok("status"), "orilla log build:2")
	assert.Equal(t, "refused", p.builds()[0].State)
	for _, typed := range []string{"build:2", "main", rules[:9], "HEAD"} {
		out := p.ok("log", typed)
		assert.Contains(t, out, "the target is missing here [rule-syntax]\n  at: site.rules:1:17\n", typed)
		assert.Contains(t, out, "site.rules:2:5: the path", "every finding")
	}
	assert.Contains(t, p.ok("history"), "Wrong rules")

	// A configuration that is wrong.
	config := p.commit("Wrong configuration", map[string]string{"orilla.yaml": "site: corvane\nbuild: [\n"})
	f.seen(t, "failed", "main", config)
	p.write(map[string]string{"orilla.yaml": quick}) // the working tree's own would be told instead
	assert.Equal(t, "refused", p.newer()["production"].State)
	assert.Contains(t, p.ok("log", config[:9]), "orilla.yaml:2")

	// A build that goes on, and fails: also of a preview that never appeared.
	p.git("switch", "-q", "-c", "summer")
	building := p.commit("Slow", map[string]string{"site.rules": "", "orilla.yaml": "site: corvane\nbuild: {run: ['sleep 2; exit 3'], output: out}\n"})
	begun := f.seen(t, "builds", "summer", building)
	require.Eventually(t, func() bool { return strings.Contains(p.newer()[begun.Environment].Now, "sleep 2") },
		10*time.Second, 20*time.Millisecond)
	assert.Equal(t, "building", p.newer()[begun.Environment].State)
	assert.Contains(t, p.ok("status"), "sleep 2; exit 3")
	f.seen(t, "failed", "summer", building)
	assert.Equal(t, "failed", p.newer()[begun.Environment].State)
	assert.Contains(t, p.ok("preview"), "NOT LIVE")

	// What waits says for what.
	p.ok("follow", "--pause", "-m", "moving house")
	p.git("switch", "-q", "-c", "autumn")
	paused := p.commit("Autumn", map[string]string{"page.html": "autumn", "orilla.yaml": quick})
	waits := f.seen(t, "waits", "autumn", paused)
	require.Eventually(t, func() bool { return p.newer()[waits.Environment].State == "waiting" }, 30*time.Second, 20*time.Millisecond)
	assert.Contains(t, p.newer()[waits.Environment].Why, "moving house")
	p.ok("follow", "--resume")
	f.seen(t, "live", "autumn", paused)
	assert.NotContains(t, p.newer(), waits.Environment)

	// What nobody has dealt with: no follower runs, and a person is asked for nothing
	// but to look.
	f.command.Process.Signal(os.Interrupt) //nolint:errcheck // the wait tells
	f.command.Wait()                       //nolint:errcheck // see above
	p.git("switch", "-q", "main")
	fixed := p.commit("Right again", map[string]string{"page.html": "second", "orilla.yaml": quick, "site.rules": ""})
	assert.Equal(t, "refused", p.newer()["production"].State, "the last that a follower saw")
	p.ok("deploy")
	assert.NotContains(t, p.newer(), "production")
	assert.Equal(t, fixed, p.heads()["production"])
	next := p.commit("Next", map[string]string{"page.html": "third"})
	assert.Equal(t, newerRow{Environment: "production", Commit: next, State: "unbuilt"}, p.newer()["production"])
	assert.Contains(t, p.ok("status"), "orilla deploy main\n")
	_, notes, status := p.run("deploy", "main", "--dry-run")
	assert.Zero(t, status, "what it prints works as printed: %s", notes)
	assert.Contains(t, notes, "production")

	// What is built and waits for a thaw, and what was gone back from.
	p.ok("freeze", "production")
	p.run("follow", "--once")
	assert.Equal(t, newerRow{Environment: "production", Commit: next, State: "waiting",
		Why: "it is built; production is frozen"}, p.newer()["production"])
	p.ok("thaw", "production", "--yes")
	assert.NotContains(t, p.newer(), "production")
	p.ok("rollback", "-m", "wrong fares")
	assert.Equal(t, "rolled-back", p.newer()["production"].State)
	assert.Contains(t, p.ok("status"), "(wrong fares)")
}

// TestSeveralFollowersAreOne: what failed, was refused or was cancelled is not begun
// again by another one, whether it waited for that build or comes later.
func TestSeveralFollowersAreOne(t *testing.T) {
	t.Parallel()
	server, p := newPlace(t), newPlace(t)
	server.git("init", "-q", "--bare", "-b", "main")
	p.commit("First", map[string]string{"orilla.yaml": quick, "page.html": "first"})
	p.git("remote", "add", "origin", "file://"+server.folder)
	p.git("push", "-q", "origin", "main")
	other := p.with(p)
	other.folder = filepath.Join(t.TempDir(), "elsewhere")
	p.git("clone", "-q", "file://"+server.folder, other.folder)
	push := func(text string) string {
		commit := p.commit("Commit", map[string]string{"orilla.yaml": strings.Replace(quick, "mkdir out", text+"; mkdir out", 1)})
		p.git("push", "-q", "origin", "main")
		return commit
	}
	first, second := server.with(p).follow("--every", "200ms"), other.follow("origin", "--every", "200ms")
	require.Eventually(t, func() bool { return strings.Contains(first.said()+second.said(), "Kind:live Branch:main") },
		time.Minute, 20*time.Millisecond)

	// Each says what became of a commit: that it failed, or, if it came later than the
	// other one, that nothing becomes of it.
	both := func(commit string, kinds ...string) {
		t.Helper()
		for _, f := range []*follower{first, second} {
			require.Eventually(t, func() bool {
				f.mutex.Lock()
				defer f.mutex.Unlock()
				return slices.ContainsFunc(f.events, func(e event) bool {
					return e.Commit == commit && slices.Contains(kinds, e.Kind)
				})
			}, time.Minute, 20*time.Millisecond, "%s %q", commit, kinds)
		}
	}
	failing := push("sleep 1; exit 3")
	both(failing, "failed", "nothing")
	cancelled := push("sleep 30")
	require.Eventually(t, func() bool { return p.builds()[0].State == "running" && p.builds()[0].Commit == cancelled },
		20*time.Second, 20*time.Millisecond)
	p.ok("cancel")
	both(cancelled, "cancelled", "nothing")
	refused := p.commit("Refused", map[string]string{"orilla.yaml": quick + "rules: [none.rules]\n"})
	p.git("push", "-q", "origin", "main")
	both(refused, "failed", "nothing")

	// One that comes later heeds all of it.
	third := newPlace(t)
	third.folder = filepath.Join(t.TempDir(), "third")
	p.git("clone", "-q", "file://"+server.folder, third.folder)
	late := third.follow("origin", "--every", "1h", "--store", filepath.Join(p.home, "store"))
	late.seen(t, "nothing", "main", "was refused: ")
	states := map[string]int{}
	for _, row := range p.builds() {
		states[row.State]++
	}
	assert.Equal(t, map[string]int{"succeeded": 1, "failed": 1, "cancelled": 1, "refused": 1}, states)

	// A person may: whoever types a commit has decided.
	p.fails(5, "ended with status 3", "deploy", failing, "--to", "production", "--yes")
	assert.Len(t, p.builds(), 5)
}

// TestWhatCameTogetherIsOneLine, which says how to see all of it; what a merge brings
// in was never a head of the branch.
func TestWhatCameTogetherIsOneLine(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": quick, "page.html": "first"})
	p.ok("follow", "--once")
	var commits []string
	for i := range 20 {
		commits = append(commits, p.commit(fmt.Sprint("Sailing ", i), map[string]string{"page.html": fmt.Sprint(i)}))
	}
	out := p.ok("follow", "--once")
	assert.Equal(t, 1, strings.Count(out, "superseded"), out)
	list := regexp.MustCompile(`and 18 before it superseded: by \w+; (git log --oneline -n 19 \w+)`).FindStringSubmatch(out)
	require.NotNil(t, list, out)
	shown := p.git(strings.Fields(list[1])[1:]...)
	assert.Contains(t, shown, "Sailing 18")
	assert.Contains(t, shown, "Sailing 0")
	assert.NotContains(t, shown, "First")
	assert.NotContains(t, shown, "Sailing 19", "that one is live: %s", commits[19])

	// A merge of a branch with three commits.
	p.git("switch", "-q", "-c", "winter", "HEAD~1")
	for i := range 3 {
		p.commit(fmt.Sprint("Winter ", i), map[string]string{"winter.html": fmt.Sprint(i)})
	}
	p.git("switch", "-q", "main")
	p.git("merge", "-q", "--no-ff", "-m", "Winter timetable", "winter")
	p.git("branch", "-q", "-D", "winter")
	out = p.ok("follow", "--once")
	assert.NotContains(t, out, "superseded")
	assert.NotContains(t, out, "Winter 1")
	assert.Contains(t, out, "Winter timetable")
}
