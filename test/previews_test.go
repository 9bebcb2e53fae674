package test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/soak"
)

// entryRow is an entry of history.
type entryRow struct {
	Entry, Kind, Release, Commit, Ended, Why, Who string
	Live, Frozen                                  bool
	Expires                                       *time.Time
	Outcome                                       *struct {
		Passed bool
		Back   int64
		Looks  []struct {
			What, Text string
			Unchecked  bool
		}
	}
}

func (p *place) history(environment string) []entryRow {
	return document[[]entryRow](p, "history", environment, "--limit", "0")
}

// answers asks for a path and returns the whole answer.
func answers(t *testing.T, address, host, path string, header map[string]string) (*http.Response, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+path, nil)
	require.NoError(t, err)
	request.Host = host
	for name, value := range header {
		request.Header.Set(name, value)
	}
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(t, err)
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, string(body)
}

// awaits asks until the status is as it should be.
func awaits(t *testing.T, address, host, path string, status int) string {
	t.Helper()
	for began := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		got, body := get(t, address, host, path)
		if got == status {
			return body
		}
		require.Less(t, time.Since(began), patience, "%s%s: %d, not %d: %s", host, path, got, status,
			body)
	}
}

// TestAPromotionChangesNoByte compares what a preview and production answer
// after a promotion, over HTTP, file by file.
func TestAPromotionChangesNoByte(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\n",
		"site.rules": "redirect /old -> /fares\nheader /{rest:all} x-frame-options: " +
			"DENY\nexpect /old 301 /fares\n", "index.html": "first", "fares.html": "42"})
	p.ok("deploy")
	p.git("checkout", "-q", "-b", "Feature/Winter Times"[:7]+"/winter")
	files := map[string]string{"index.html": "winter", "a b/ü.html": "umlaut", "app-0a1b2c3d4e.js": "let a",
		"style.css": "b{}", "empty.txt": "", "data.json": "[1]", "big.bin": strings.Repeat("0123456789",
			900_000), "404.html": "no such quay"}
	p.commit("Winter", files)
	preview := document[deployed](p, "deploy")
	require.Regexp(t, `^preview/feature-winter-[0-9a-f]{8}:1$`, preview.Entry)
	name, _, _ := strings.Cut(preview.Entry, ":")
	host := strings.TrimPrefix(name, "preview/") + ".preview.corvane.localhost"
	before := p.objects()
	promoted := document[deployed](p, "promote", name, "--to", "production", "-m", "reviewed")
	assert.Equal(t, preview.Release, promoted.Release)
	after := p.objects()
	for _, class := range []string{"objects", "releases", "builds", "runs"} {
		assert.Equal(t, before[class], after[class], "a promotion writes no %s", class)
	}
	tree := document[struct {
		Files []struct{ Path, Address string }
	}](p, "files", "production")
	paths := []string{"/", "/nowhere", "/old", "/old?x=1", "/fares"}
	for _, file := range tree.Files {
		paths = append(paths, file.Address, "/"+strings.NewReplacer(" ", "%20", "ü", "%C3%BC").
			Replace(file.Path))
	}
	require.Greater(t, len(paths), 20)
	awaits(t, address, "corvane.localhost", "/data.json", 200)
	for _, path := range paths {
		shown, body := answers(t, address, host, path, nil)
		live, same := answers(t, address, "corvane.localhost", path, nil)
		assert.Equal(t, shown.StatusCode, live.StatusCode, path)
		assert.Equal(t, body, same, "%s: %d and %d bytes", path, len(body), len(same))
		for _, one := range []*http.Response{shown, live} {
			for _, field := range []string{"Date", "Orilla-Release", "X-Robots-Tag"} {
				one.Header.Del(field)
			}
		}
		assert.Equal(t, shown.Header, live.Header, path)
	}
	p.ok("rollback")
	again := p.objects()
	for _, class := range []string{"objects", "releases", "builds", "runs"} {
		assert.Equal(t, before[class], again[class], "a rollback writes no %s", class)
	}
	p.commit("Wrong", map[string]string{"index.html": "wrong"})
	wrong := document[deployed](p, "deploy", "--to", "preview/wrong")
	assert.NotEmpty(t, wrong.Release)
	p.fails(3, "frozen", "promote", "preview/wrong", "--to", "production")
}

// TestAPromotionIsExpectedToFit promotes releases that do not.
func TestAPromotionIsExpectedToFit(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	config := "site: corvane\nrules: site.rules\nenvironments:\n  production: {upstreams: {harbour: " +
		"'http://127.0.0.1:1'}}\n  staging: {follows: nothing}\npreviews: {upstreams: {harbour: " +
		"'http://127.0.0.1:1', quay: 'http://127.0.0.1:1'}}\n"
	p.commit("First", map[string]string{"orilla.yaml": config, "site.rules": "proxy /api -> harbour:/v1\n",
		"index.html": "home", "fares.html": "<script src=/gone.js></script>"})
	p.ok("deploy")
	p.ok("deploy", "--to", "preview/x")
	p.fails(3, "staging has no such upstream", "promote", "preview/x", "--to", "staging")
	config = strings.Replace(config, "follows: nothing",
		"follows: nothing, upstreams: {harbour: 'http://127.0.0.1:1'}", 1)
	p.commit("Strict", map[string]string{"orilla.yaml": config + "check: {stop_on: [missing-file]}\n"})
	p.fails(4, "gone.js", "promote", "preview/x", "--to", "staging")
	assert.Contains(t, p.fails(2, "unknown", "promote", "preview/y", "--to", "production"), "orilla status")
}

// TestWhatIsWaitedForDecides deploys and promotes with
// pages and commands that pass and fail.
func TestWhatIsWaitedForDecides(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nenvironments: " +
		"{staging: {follows: nothing}}\n", "index.html": "one", "fares.html": "42"})
	p.fails(3, "no edge node is running", "deploy", "--wait-for", "/")
	assert.NoDirExists(t, filepath.Join(p.home, "store", "sites", "corvane", "environments"),
		"nothing was moved")
	address := p.edge()
	told := filepath.Join(t.TempDir(), "told")
	p.ok("deploy", "--wait-for", "/", "--wait-for", "echo $ORILLA_ENTRY $ORILLA_ADDRESS $ORILLA_COMMIT > "+
		told)
	text, err := os.ReadFile(told)
	require.NoError(t, err)
	assert.Equal(t, "production:1 http://corvane.localhost:"+address[strings.LastIndexByte(address, ':')+1:]+
		"/ "+p.git("rev-parse", "HEAD")+"\n", string(text))
	first := p.history("production")[0]
	require.True(t, first.Outcome.Passed)
	assert.Equal(t, []string{"200", "done"}, []string{first.Outcome.Looks[0].Text,
		first.Outcome.Looks[1].Text})

	p.commit("Second", map[string]string{"index.html": "two"})
	require.NoError(t, os.Remove(filepath.Join(p.folder, "fares.html")))
	p.commit("Lost", nil)
	p.write(map[string]string{"list.txt": "# the pages that matter\n/\n\n/fares\n"})
	notes := p.fails(4, "failed its --wait-for checks", "deploy", "--wait-for", "@list.txt")
	assert.Contains(t, notes, "/fares: 404")
	assert.Contains(t, notes, "production was rolled back to")
	assert.Equal(t, "42", awaits(t, address, "corvane.localhost", "/fares", 200), "it went back by itself")
	rows := p.history("production")
	assert.Equal(t, []any{"rollback", true, "failed: /fares: 404 at " + nodeOf(t, p)},
		[]any{rows[0].Kind, rows[0].Frozen, rows[0].Why})
	assert.Equal(t, []any{false, int64(3)}, []any{rows[1].Outcome.Passed, rows[1].Outcome.Back})
	assert.Contains(t, p.fails(3, "because: failed:", "deploy"), "was rolled back, so it does not wait")

	p.ok("deploy", "--to", "preview/x")
	p.ok("thaw", "--leave-live")
	assert.Contains(t, p.fails(4, "status 7: the audit says no", "promote", "preview/x", "--to", "production",
		"--wait-for", "echo the audit says no; exit 7"), "was rolled back to")
	assert.Contains(t, p.fails(4, "no earlier release to roll back to", "promote", "preview/x", "--to", "staging",
		"--wait-for", "/fares"), "still live")
	p.ok("password", "staging", "--generate")
	p.ok("promote", "production", "--to", "staging", "--wait-for", "/fares", "--wait-for",
		`test "${ORILLA_OPEN_ADDRESS#http://staging.corvane.localhost*/.orilla/look/p}" != "$ORILLA_OPEN_ADDRESS"`)
	status, _ := get(t, address, "staging.corvane.localhost", "/fares")
	assert.Equal(t, 401, status, "what is waited for was let in, and nobody else")
}

// nodeOf returns the name of the one edge node.
func nodeOf(t *testing.T, p *place) string {
	t.Helper()
	nodes := document[struct {
		EdgeNodes []struct{ Node string } `json:"edge_nodes"`
	}](p, "status").EdgeNodes
	require.Len(t, nodes, 1)
	return nodes[0].Node
}

// TestTwoPeopleAtOnce lets a promotion and a rollback, then a freeze and
// deploys, meet in the journal, many times.
func TestTwoPeopleAtOnce(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("One", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	p.ok("deploy")
	p.commit("Two", map[string]string{"index.html": "two"})
	two := document[deployed](p, "deploy").Release
	p.commit("Three", map[string]string{"index.html": "three"})
	three := document[deployed](p, "deploy", "--to", "preview/x").Release
	both := func(a, b []string) (statuses [2]int, notes [2]string) {
		var meet sync.WaitGroup
		for i, args := range [][]string{a, b} {
			meet.Go(func() { _, notes[i], statuses[i] = p.run(args...) })
		}
		meet.Wait()
		return statuses, notes
	}
	for range soak.Rounds(6, 60) {
		p.run("thaw", "--leave-live")
		p.ok("promote", "production:2", "--to", "production", "--yes")
		length := len(p.history("production"))
		statuses, notes := both([]string{"promote", "preview/x", "--to", "production"}, []string{"rollback"})
		rows := p.history("production")
		added := rows[:len(rows)-length]
		switch statuses {
		case [2]int{0, 0}: // the rollback came first or second; each is whole
			require.Len(t, added, 2)
			assert.ElementsMatch(t, []string{"promotion", "rollback"}, []string{added[0].Kind, added[1].Kind})
			if added[0].Kind == "rollback" {
				assert.Equal(t, two, added[0].Release, "it takes back the promotion that came before it")
			}
		case [2]int{3, 0}:
			require.Len(t, added, 1)
			assert.Contains(t, notes[0], "is frozen", "the loser is told what happened")
			assert.Contains(t, notes[0], "by "+rows[0].Who)
		default:
			assert.Fail(t, "one of them failed", "%v %v", statuses, notes)
		}
		assert.Contains(t, []string{two, three, p.history("production")[len(rows)-1].Release},
			rows[0].Release)
	}
	p.run("thaw", "--leave-live")
	for n := range soak.Rounds(6, 60) {
		p.commit(fmt.Sprint("Deploy ", n), map[string]string{"index.html": fmt.Sprint(n)})
		statuses, notes := both([]string{"deploy"}, []string{"freeze", "-m", "stop"})
		assert.Zero(t, statuses[1], notes[1])
		rows := p.history("production")
		if statuses[0] == 3 {
			assert.Contains(t, notes[0], "because: stop")
			assert.Contains(t, notes[0], "waits for the thaw")
		} else {
			assert.Zero(t, statuses[0], notes[0])
			assert.Equal(t, []string{"freeze", "deploy"}, []string{rows[0].Kind, rows[1].Kind},
				"a deploy that was let through came before the freeze")
		}
		assert.True(t, rows[0].Frozen)
		p.ok("thaw", "--yes")
		assert.Equal(t, p.git("rev-parse", "HEAD"), p.heads()["production"],
			"nothing is lost: what waited is live")
	}
	p.ok("store", "verify")
}

// TestPreviewsComeAndGoWithTheirBranches follows a repository.
func TestPreviewsComeAndGoWithTheirBranches(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	config := quick + "previews: {expire_after: 7d, most: 3, refs: ['refs/proposed/*/head']}\n"
	p.commit("First", map[string]string{"orilla.yaml": config, "page.html": "first"})
	f := p.follow("--every", "1s")
	f.seen(t, "live", "main", "")
	branch := func(name, text string) string {
		p.git("checkout", "-q", "-b", name, "main")
		commit := p.commit(name, map[string]string{"page.html": text})
		f.seen(t, "live", name, commit)
		return commit
	}
	merged := branch("winter-times", "winter")
	row := p.history("preview/winter-times")[0]
	assert.WithinDuration(t, time.Now().Add(7*24*time.Hour), *row.Expires, time.Minute)
	assert.Equal(t, "winter", strings.TrimSpace(awaits(t, address, "winter-times.preview.corvane.localhost",
		"/", 200)))
	branch("boats/dunlin", "dunlin")
	p.git("checkout", "-q", "main")
	p.git("merge", "-q", "--no-ff", "-m", "Merge winter", "winter-times")
	f.seen(t, "ended", "winter-times", "its branch was merged")
	gone := awaits(t, address, "winter-times.preview.corvane.localhost", "/", 410)
	assert.Contains(t, gone, "http://corvane.localhost")
	assert.Equal(t, []any{"removal", "merged"}, []any{p.history("preview/winter-times")[0].Kind,
		p.history("preview/winter-times")[0].Ended})
	assert.Equal(t, p.git("rev-parse", "main"), p.heads()["production"],
		"production shows it before the preview ends")
	p.git("branch", "-D", "-q", "boats/dunlin")
	f.seen(t, "ended", "boats/dunlin", "its branch was deleted")
	awaits(t, address, project.BranchLabel("boats/dunlin")+".preview.corvane.localhost", "/", 410)
	p.git("checkout", "-q", "--detach")
	proposed := p.commit("Proposed", map[string]string{"page.html": "proposed"})
	p.git("update-ref", "refs/proposed/7/head", proposed)
	p.git("checkout", "-q", "main")
	f.seen(t, "live", "proposed/7/head", proposed)
	p.git("update-ref", "-d", "refs/proposed/7/head")
	f.seen(t, "ended", "proposed/7/head", "its branch was deleted")
	p.ok("preview", "remove", "boats/dunlin", "--yes")
	p.ok("preview", "remove", "no-such", "--yes")
	for _, name := range []string{"a", "b", "c"} {
		branch(name, name)
	}
	p.ok("preview", "extend", "a", "--for", "30d")
	branch("d", "d")
	heads := p.heads()
	assert.NotContains(t, heads, "preview/b", "what was moved the longest ago made room")
	assert.Contains(t, heads, "preview/a")
	assert.Equal(t, "room", p.history("preview/b")[0].Ended)
	p.git("checkout", "-q", "winter-times")
	again := p.commit("More winter", map[string]string{"page.html": "more winter"})
	f.seen(t, "live", "winter-times", again)
	assert.NotEqual(t, merged, again, "a new commit brings the preview back")
}

func TestPreviewsByHand(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\npreviews: {unguessable: true, " +
		"addresses: ['https://{preview}.try.corvane.example/']}\n", "index.html": "one"})
	p.ok("deploy")
	p.fails(2, "only previews can expire", "deploy", "--to", "production", "--for", "2d")
	p.fails(2, "too short", "deploy", "--to", "preview/x", "--for", "2s")
	p.write(map[string]string{"index.html": "not committed"})
	made := document[struct {
		Entry     string
		Expires   time.Time
		Addresses []string
	}](p, "deploy", "--working-tree", "--to", "preview/strike", "--for", "2d")
	assert.WithinDuration(t, time.Now().Add(48*time.Hour), made.Expires, time.Minute)
	assert.Equal(t, "https://strike.try.corvane.example/", made.Addresses[0])
	assert.Equal(t, "not committed", awaits(t, address, "strike.try.corvane.example", "/", 200))
	p.ok("deploy", "--from", p.folder, "--to", "preview/ready", "--for", "1h")
	p.fails(2, "did you mean preview/strike?", "preview", "extend", "strik")
	p.git("checkout", "-q", "-b", "secret-plan")
	secret := document[deployed](p, "deploy")
	assert.Regexp(t, `^preview/secret-plan-[a-z2-7]{10}:1$`, secret.Entry, "nobody can guess where it is")
	assert.Equal(t, secret.Release, document[deployed](p, "deploy").Release)
	again := document[deployed](p, "deploy", "--again")
	assert.Equal(t, strings.TrimSuffix(secret.Entry, ":1"), strings.TrimSuffix(again.Entry, ":2"),
		"and it stays where it is")
	p.fails(3, "--yes", "preview", "remove", "*")
	p.ok("preview", "remove", "s*", "--dry-run")
	assert.Len(t, document[struct{ Removed []entryRow }](p, "preview", "remove", "s*", "--yes").Removed, 2)
	assert.Contains(t, awaits(t, address, "strike.try.corvane.example", "/", 410), "It was removed.")
	list := document[struct {
		Environments []struct{ Environment, State string }
		Previews     int
	}](p, "preview")
	assert.Equal(t, 1, list.Previews)
	assert.Equal(t, "preview/ready", list.Environments[0].Environment)
	assert.Len(t, document[struct{ Environments []any }](p, "preview", "--state", "removed").Environments, 2)
	p.fails(3, "serves nothing", "preview", "share", "strike")
	p.ok("rollback", "preview/strike")
	assert.Equal(t, "not committed", awaits(t, address, "strike.try.corvane.example", "/", 200),
		"a rollback brings it back")
	back := p.history("preview/strike")[0]
	assert.WithinDuration(t, time.Now().Add(30*24*time.Hour), *back.Expires, time.Minute,
		"for as long as one that is new")
	assert.Contains(t, p.ok("history", "strike"), "preview/strike:1", "by its label")
	p.fails(2, "--state takes", "preview", "--state", "gone")
}

func TestPasswordsAndLinks(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	p.ok("deploy")
	p.ok("deploy", "--to", "preview/winter")
	p.fails(3, "everyone can open it already", "preview", "share", "winter")
	p.fails(2, "--generate", "password", "previews")
	set := document[struct{ Password string }](p, "password", "previews", "--generate")
	awaits(t, address, "winter.preview.corvane.localhost", "/", 401)
	by := map[string]string{"Authorization": "Basic " +
		base64.StdEncoding.EncodeToString([]byte("x:"+set.Password))}
	response, body := answers(t, address, "winter.preview.corvane.localhost", "/", by)
	assert.Equal(t, "200 one", fmt.Sprint(response.StatusCode, " ", body))
	share := document[struct{ Links []string }](p, "preview", "share", "winter", "--for", "1h", "-m",
		"for the harbour office")
	require.Len(t, share.Links, 1)
	_, path, _ := strings.Cut(strings.TrimPrefix(share.Links[0], "http://"), "/")
	response, _ = answers(t, address, "winter.preview.corvane.localhost", "/"+path, nil)
	require.Equal(t, 303, response.StatusCode)
	cookie := map[string]string{"Cookie": response.Cookies()[0].Name + "=" + response.Cookies()[0].Value}
	response, _ = answers(t, address, "winter.preview.corvane.localhost", "/", cookie)
	assert.Equal(t, 200, response.StatusCode)
	for _, class := range []string{"journal"} {
		for _, key := range p.objects()[class] {
			data, err := os.ReadFile(filepath.Join(p.home, "store", key))
			require.NoError(t, err)
			assert.NotContains(t, string(data), set.Password)
			assert.NotContains(t, string(data), strings.Split(path, "/")[2],
				"the store keeps what opens nothing")
		}
	}
	p.ok("deploy", "--to", "preview/winter")
	type explained struct {
		Status int
		Live   struct {
			Status  int
			Differs []string
		}
	}
	told := document[explained](p, "explain", "/", "--on", "preview/winter", "--environment",
		"preview/winter", "--live")
	assert.Equal(t, []any{200, 200, 0}, []any{told.Status, told.Live.Status, len(told.Live.Differs)},
		"whoever can read the store is let in: %v", told.Live.Differs)
	response, _ = answers(t, address, "winter.preview.corvane.localhost", "/", cookie)
	assert.Equal(t, 200, response.StatusCode, "a link outlives a deploy")
	assert.Contains(t, p.ok("preview", "share", "winter", "--revoke"), "1 link")
	require.Eventually(t, func() bool {
		response, _ = answers(t, address, "winter.preview.corvane.localhost", "/", cookie)
		return response.StatusCode == http.StatusUnauthorized
	}, 30*time.Second, 5*time.Millisecond)
	p.fails(3, "--yes", "password", "previews", "--remove")
	p.ok("password", "previews", "--remove", "--yes")
	awaits(t, address, "winter.preview.corvane.localhost", "/", 200)
	rows := document[[]entryRow](p, "history", "--all", "--limit", "0")
	assert.Equal(t, []string{"previews:2", "previews:1"},
		[]string{rows[0].Entry, rows[slices.IndexFunc(rows,
			func(r entryRow) bool { return r.Entry == "previews:1" })].Entry})
}

// TestAFreezeWithAnEndAndAnEnvironmentThatChanges looks at
// what is told, in words.
func TestAFreezeWithAnEndAndAnEnvironmentThatChanges(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	first := p.commit("First",
		map[string]string{"orilla.yaml": "site: corvane\ntime_zone: Atlantic/Azores\ncommit_address: " +
			"'https://code.corvane.example/site/commit/{commit}'\n", "index.html": "one"})
	p.ok("deploy")
	p.fails(2, "is past", "freeze", "--until", "2026-01-01")
	p.fails(2, "not a time", "freeze", "--until", "soon")
	p.ok("freeze", "--until", "2036-12-27T08:00", "-m", "nobody is here")
	p.commit("Second", map[string]string{"index.html": "two"})
	notes := p.fails(3, "production is frozen", "deploy")
	for _, part := range []string{"by " + p.history("production")[0].Who, "because: nobody is here",
		"until 2036-12-27", "is ready and waits for the thaw"} {
		assert.Contains(t, notes, part)
	}
	type status struct {
		Environments []struct {
			Frozen        struct{ Until time.Time }
			Waiting       []struct{ Commit string }
			CommitAddress string `json:"commit_address"`
			Tags          []string
		}
	}
	rows := document[[]struct{ State, Why string }](p, "builds")
	assert.Equal(t, "succeeded waited: production was frozen", rows[0].State+" "+rows[0].Why,
		"a build that waits has not failed")
	p.git("tag", "v1.4", first)
	row := document[status](p, "status", "production").Environments[0]
	assert.Equal(t, "2036-12-27T09:00:00Z", row.Frozen.Until.Format(time.RFC3339), "in the site's time zone")
	assert.Equal(t, p.git("rev-parse", "HEAD"), row.Waiting[0].Commit)
	assert.Equal(t, "https://code.corvane.example/site/commit/"+first, row.CommitAddress)
	assert.Equal(t, []string{"v1.4"}, row.Tags)
	_, notes, _ = p.run("thaw", "--dry-run")
	assert.Contains(t, notes, "Second")
	p.ok("thaw", "--yes")
	assert.Empty(t, document[status](p, "status", "production").Environments[0].Waiting)

	p.commit("Settings", map[string]string{"orilla.yaml": "site: corvane\nsettings_path: " +
		"/where.json\nenvironments:\n  production: {addresses: ['https://www.corvane.example/'], " +
		"settings: {api: 'https://api.corvane.example', beta: true}}\n"})
	_, notes, code := p.run("deploy")
	require.Zero(t, code, notes)
	assert.Contains(t, notes, `settings: none -> {"api":"https://api.corvane.example","beta":true}`)
	assert.Contains(t, notes, "addresses: none -> https://www.corvane.example/")
	entries := p.history("production")
	assert.Equal(t, []string{"deploy", "settings"}, []string{entries[0].Kind, entries[1].Kind},
		"the change is an entry of its own")
	address := p.edge()
	assert.Equal(t, `{"api":"https://api.corvane.example","beta":true}`,
		awaits(t, address, "www.corvane.example", "/where.json", 200))
	type explained struct {
		Status int
		By     string
	}
	for _, args := range [][]string{{"--on", "production"}, {"--on", "HEAD"},
		{"--on", "production", "--live"}} {
		assert.Equal(t, explained{200, "settings"},
			document[explained](p, append([]string{"explain", "/where.json"}, args...)...),
			"the same answer everywhere: %v", args)
	}
	assert.Equal(t, 404, document[explained](p, "explain", "/where.json", "--on", "HEAD", "--environment",
		"preview/x").Status)
	p.commit("Expected", map[string]string{"orilla.yaml": "site: corvane\nrules: " +
		"site.rules\nsettings_path: /where.json\nenvironments:\n  production: {addresses: " +
		"['https://www.corvane.example/'], settings: [1]}\n",
		"site.rules": "expect /where.json 200\nheader /where.json access-control-allow-origin: *\nexpect " +
			"/where.json 200 header access-control-allow-origin: *\n"})
	p.ok("deploy")
	assert.Equal(t, "[1]", awaits(t, address, "www.corvane.example", "/where.json", 200))
	response, _ := answers(t, address, "www.corvane.example", "/where.json", nil)
	assert.Equal(t, "*", response.Header.Get("Access-Control-Allow-Origin"),
		"rules reach it as they do a file")
}

func TestDifferences(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nenvironments: {production: " +
		"{addresses: ['https://www.corvane.example/']}}\n", "index.html": "<h1>one</h1>",
		"old.html": "moved as it is", "fares.html": "a\nb\n"})
	p.ok("deploy")
	require.NoError(t, os.Rename(filepath.Join(p.folder, "old.html"), filepath.Join(p.folder, "new.html")))
	p.commit("Second", map[string]string{"fares.html": "a\nc\n"})
	p.fails(1, "was not built yet", "diff")
	p.ok("build")
	type diff struct {
		Pages   []struct{ Kind, Path, From string }
		Commits []struct{ Subject string }
	}
	d := document[diff](p, "diff")
	require.Len(t, d.Pages, 2)
	assert.Equal(t, []string{"changed", "fares.html", "moved", "new.html", "old.html"},
		[]string{d.Pages[0].Kind, d.Pages[0].Path, d.Pages[1].Kind, d.Pages[1].Path, d.Pages[1].From})
	assert.Equal(t, "Second", d.Commits[0].Subject)
	p.ok("deploy")
	assert.Equal(t, "https://www.corvane.example/fares\nhttps://www.corvane.example/fares.html\nhttps://www.corvane.example/new\nhttps://www.corvane.example/new.html\nhttps://www.corvane.example/old\nhttps://www.corvane.example/old.html\n",
		p.ok("diff", "production:1", "production:2", "--addresses"))
	assert.Contains(t, p.ok("diff", "production:1", "production", "--text", "/fares"), "-b\n+c")
	p.fails(2, "neither side has", "diff", "production:1", "production:2", "--text", "/nowhere")
	assert.Contains(t, p.ok("diff", "production:1", "production:1"), "no difference for visitors")

	command := p.command(t.Context(), "diff", "production:1", "production:2", "--open", "--show")
	out, err := command.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	line := make([]byte, 100)
	n, err := out.Read(line)
	require.NoError(t, err)
	at := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(string(line[:n])), "http://localhost"), "/")
	_, page := answers(t, "127.0.0.1"+at, "localhost"+at, "/", nil)
	assert.Contains(t, page, `"/old":"/new"`, "the page knows what moved where")
	for host, want := range map[string]string{"before": "a\nb\n", "after": "a\nc\n"} {
		t.Run(host, func(t *testing.T) {
			_, page = answers(t, "127.0.0.1"+at, host+".localhost"+at, "/fares", nil)
			assert.Equal(t, want+`<script src="/.orilla/beside.js"></script>`, page)
		})
	}
	response, _ := answers(t, "127.0.0.1"+at, "elsewhere.example", "/", nil)
	assert.Equal(t, 421, response.StatusCode)
	require.NoError(t, command.Process.Signal(os.Interrupt))
	assert.NoError(t, command.Wait())
}

func TestEachSaveIsPublished(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	config := strings.Replace(quick, "mkdir out", "mkdir -p out", 1)
	p.commit("First", map[string]string{"orilla.yaml": config, "page.html": "first", ".gitignore": "out\n"})
	p.fails(2, "--working-tree and --to", "deploy", "--watch")
	command := p.command(t.Context(), "deploy", "--working-tree", "--to", "preview/ines", "--watch", "--yes")
	said := &follower{command: command}
	command.Stderr = said
	require.NoError(t, command.Start())
	const host = "ines.preview.corvane.localhost"
	shows := func(text string) {
		t.Helper()
		require.Eventually(t, func() bool {
			_, body := get(t, address, host, "/")
			return strings.TrimSpace(body) == text
		}, 30*time.Second, 20*time.Millisecond, text)
	}
	shows("first")
	p.write(map[string]string{"page.html": "second"})
	shows("second")
	p.write(map[string]string{"orilla.yaml": strings.Replace(config, "mkdir -p out", "exit 7", 1)})
	require.Eventually(t, func() bool { return strings.Contains(said.said(), "ended with status 7") },
		30*time.Second, 10*time.Millisecond)
	shows("second")
	p.write(map[string]string{"orilla.yaml": config, "page.html": "third"})
	shows("third")
	require.NoError(t, command.Process.Signal(os.Interrupt))
	assert.NoError(t, command.Wait())
	data, err := json.Marshal(p.history("preview/ines"))
	require.NoError(t, err)
	assert.LessOrEqual(t, strings.Count(string(data), `"Kind"`), 4, "%s", data)
}

// TestReadyOutputOfAnOlderCommitReplacesNoNewer publishes
// what CI built, the older one last.
func TestReadyOutputOfAnOlderCommitReplacesNoNewer(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	older := p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: dist}\n",
		"dist/index.html": "first"})
	newer := p.commit("Second", map[string]string{"dist/index.html": "second"})
	p.ok("deploy", "--from", "dist", "--commit", newer, "--to", "production")
	p.write(map[string]string{"dist/index.html": "first"})
	notes := p.fails(3, "is older than what is live", "deploy", "--from", "dist", "--commit", older, "--to",
		"production")
	assert.Contains(t, notes, "superseded")
	p.ok("deploy", "--from", "dist", "--commit", newer, "--to", "production")
	p.ok("deploy", "--from", "dist", "--commit", older, "--to", "production", "--yes")
	assert.Equal(t, older, p.heads()["production"], "somebody who says so may")
	p.git("checkout", "-q", "-b", "winter", newer)
	winter := p.commit("Winter", map[string]string{"dist/index.html": "winter"})
	p.git("checkout", "-q", "main")
	// of another branch than the one that is checked out
	p.ok("deploy", "--from", "dist", "--commit", winter, "--to", "production")
	p.ok("deploy", "--from", "dist", "--to", "production") // of no commit: nothing tells
}

// TestWatchingDoesNotPublishItself has the store in the tree that is watched,
// and saves files that no build reads.
func TestWatchingDoesNotPublishItself(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	config := "site: corvane\nstore: store\nbuild: {folder: web, run: ['mkdir -p out && cp page.html " +
		"out/index.html'], output: out}\n"
	p.write(map[string]string{"orilla.yaml": config, "web/page.html": "first", "notes/a.txt": "x"})
	command := p.command(t.Context(), "deploy", "--working-tree", "--to", "preview/ines", "--watch", "--yes")
	output := &follower{command: command}
	command.Stdout, command.Stderr = output, output
	require.NoError(t, command.Start())
	tells := func(text string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(output.said(), text) }, 30*time.Second,
			10*time.Millisecond, text)
	}
	tells("preview/ines:1")
	p.write(map[string]string{"web/page.html": "second"})
	tells("preview/ines:2")
	p.write(map[string]string{"notes/a.txt": "y", "notes/b.txt": "z"})
	time.Sleep(1500 * time.Millisecond) // that nothing follows can be seen in no other way
	require.NoError(t, command.Process.Signal(os.Interrupt))
	require.NoError(t, command.Wait(), output.said())
	assert.Equal(t, 1, strings.Count(output.said(), "preview/ines:2"), output.said())
	assert.NotContains(t, output.said(), "no published file changed")
	assert.NotContains(t, output.said(), "preview/ines:3")
}

// TestAThawThatIsKilledLosesNothing ends thaws at random
// moments: what waits is live, or waits.
func TestAThawThatIsKilledLosesNothing(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "first"})
	p.ok("deploy")
	killed := 0
	for n := range soak.Rounds(12, 120) {
		p.ok("freeze", "-m", "a holiday")
		commit := p.commit(fmt.Sprint("Holiday ", n), map[string]string{"index.html": fmt.Sprint(n)})
		p.fails(3, "waits for the thaw", "deploy")
		command := p.command(t.Context(), "thaw", "--yes")
		require.NoError(t, command.Start())
		time.Sleep(time.Duration(rand.IntN(40)) * time.Millisecond)
		command.Process.Kill() //nolint:errcheck // it may have ended
		if command.Wait() != nil {
			killed++
		}
		rows := p.history("production")
		switch rows[0].Kind {
		case "freeze": // it had not begun, so it waits
			assert.True(t, rows[0].Frozen)
			p.ok("thaw", "--yes")
		case "deploy":
			assert.False(t, rows[0].Frozen)
		default:
			assert.Fail(t, "neither", "%+v", rows[0])
		}
		assert.Equal(t, commit, p.heads()["production"])
	}
	t.Logf("%d thaws were killed", killed)
	p.ok("store", "verify")
}
