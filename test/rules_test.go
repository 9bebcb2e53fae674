package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ferries is a site with rules and a build.
var ferries = map[string]string{
	"orilla.yaml": "site: corvane\nrules: site.rules\nlanguages: [en, gl]\ntime_zone: Atlantic/Azores\n" +
		"build: {run: ['mkdir -p dist && cp -R pages/. dist'], output: dist}\n",
	"pages/index.html":                 "<link rel=icon href=data:,>home",
	"pages/sailings/winter/index.html": "<link rel=icon href=data:,>winter", "pages/404.html": "lost",
	"pages/planner/index.html": "<link rel=icon href=data:,>planner",
	"site.rules": "redirect /timetable/{season} -> /sailings/{season}\nexpect " +
		"/timetable/winter 301 /sailings/winter/\n",
}

type ruledDeploy struct {
	Release      string
	Reused       bool
	Rules        map[string]int
	Expectations int
	Findings     []struct{ Code, Next string }
}

// TestRulesAreContentAndNeedNoBuild publishes a change of
// rules alone, and takes it back.
func TestRulesAreContentAndNeedNoBuild(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	address := p.edge()
	p.commit("One", ferries)
	first := document[ruledDeploy](p, "deploy")
	assert.Equal(t, map[string]int{"redirect": 1}, first.Rules)
	assert.Equal(t, 1, first.Expectations)
	answers := func(path string) string {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+path, nil)
		require.NoError(t, err)
		request.Host = "corvane.localhost"
		response, err := http.DefaultTransport.RoundTrip(request)
		require.NoError(t, err)
		response.Body.Close() //nolint:errcheck // only the header counts
		return fmt.Sprint(response.StatusCode, " ", response.Header.Get("Location"))
	}
	soon := func(path, want string) {
		t.Helper()
		assert.Eventually(t, func() bool { return answers(path) == want }, 30*time.Second, 5*time.Millisecond,
			"%s: %s", path, want)
	}
	soon("/timetable/winter", "301 /sailings/winter/")

	p.commit("Rules only", map[string]string{"site.rules": ferries["site.rules"] +
		"# a comment\nfallback /planner/{rest:all} -> /planner/\n"})
	second := document[ruledDeploy](p, "deploy")
	assert.True(t, second.Reused, "a change of rules alone is published without a build")
	assert.NotEqual(t, first.Release, second.Release, "rules are content")
	soon("/planner/by/boat", "200 ")

	p.commit("A comment", map[string]string{"site.rules": "# moved in 2026\n" + ferries["site.rules"] +
		"fallback  /planner/{rest:all}  -> /planner/index.html\n"})
	third := document[ruledDeploy](p, "deploy")
	p.commit("Other spelling", map[string]string{"site.rules": ferries["site.rules"] +
		"\n\nfallback\t/planner/{rest:all} ->   /planner/index.html  # app\n"})
	fourth := document[ruledDeploy](p, "deploy")
	assert.NotEqual(t, second.Release, third.Release)
	assert.Equal(t, third.Release, fourth.Release, "comments, layout and positions are no content")

	p.commit("Settings only", map[string]string{"orilla.yaml": ferries["orilla.yaml"] +
		"pages: {one_address: true}\n"})
	assert.True(t, document[ruledDeploy](p, "deploy").Reused, "page settings are no reason to build either")
	soon("/sailings/winter/index.html", "301 /sailings/winter/")

	p.commit("No rules any more", map[string]string{"site.rules": "\n"})
	lost := document[ruledDeploy](p, "deploy")
	assert.Empty(t, lost.Rules)
	soon("/timetable/winter", "404 ")
	p.ok("rollback")
	soon("/timetable/winter", "301 /sailings/winter/")

	explained := document[struct {
		Status int
		Rule   string
		Live   struct{ Differs []string }
	}](p, "explain", "/timetable/winter", "--on", "production", "--live")
	assert.Equal(t, 301, explained.Status)
	assert.Equal(t, "site.rules:1  redirect /timetable/{season} -> /sailings/{season}", explained.Rule,
		"a release knows where its rules were written")
	assert.Empty(t, explained.Live.Differs)
}

func TestMistakesInRulesStopADeploy(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("Mistakes", ferries)
	p.commit("Two mistakes", map[string]string{"site.rules": "redirct /a -> /b\nredirect /c -> d\n"})
	notes := p.fails(4, "site.rules:1:1", "deploy")
	assert.Contains(t, notes, "site.rules:2:16")
	assert.NotContains(t, notes, "step ", "nothing was built")
	p.commit("An expectation", map[string]string{"site.rules": ferries["site.rules"] +
		"expect /timetable/winter 404\n"})
	assert.Contains(t, p.fails(4, "expected 404, got 301 /sailings/winter/", "deploy"),
		"answered by site.rules:1:1")
	p.commit("No file", map[string]string{"orilla.yaml": strings.Replace(ferries["orilla.yaml"], "site.rules",
		"other.rules", 1), "site.rules": ""})
	p.fails(2, `no rules file "other.rules"`, "deploy")
	assert.NoFileExists(t, filepath.Join(p.home, "store", "sites", "corvane", "environments"),
		"nothing went live")
}

// TestRulesThatTheBuildWrites are read after the build, are not published, and
// are known when the build is reused.
func TestRulesThatTheBuildWrites(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	site := map[string]string{"orilla.yaml": "site: corvane\nrules: [site.rules, dist/made.rules]\n" +
		"build: {run: ['mkdir -p dist && cp -R pages/. dist && echo \"redirect /made -> " +
		"/sailings/winter/\" > dist/made.rules'], output: dist}\n"}
	for name, text := range ferries {
		if name != "orilla.yaml" {
			site[name] = text
		}
	}
	p.commit("One", site)
	assert.Equal(t, map[string]int{"redirect": 2}, document[ruledDeploy](p, "deploy").Rules)
	assert.NotContains(t, p.ok("files", "production"), "made.rules")
	p.commit("Two", map[string]string{"site.rules": "gone /old\n"})
	again := document[ruledDeploy](p, "deploy")
	assert.True(t, again.Reused)
	assert.Equal(t, map[string]int{"redirect": 1, "gone": 1}, again.Rules)
	out, _, status := p.run("check", "production")
	assert.Zero(t, status, out)
	assert.Contains(t, p.ok("explain", "/made", "--on", "production"), "dist/made.rules:1")
	p.commit("Published now",
		map[string]string{"orilla.yaml": strings.Replace(site["orilla.yaml"], ", dist/made.rules", "", 1)})
	assert.False(t, document[ruledDeploy](p, "deploy").Reused, "the output has another file now")
	assert.Contains(t, p.ok("files", "production"), "made.rules")
}

func TestCheckAndExplain(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("One", ferries)
	p.ok("deploy")
	p.write(map[string]string{"dist/index.html": `<link rel=icon href=data:,><img src=/boat.jpg><a href="/timetable/winter">w</a>`, "dist/sailings/winter/index.html": "x"})
	require.NoError(t, os.MkdirAll(filepath.Join(p.folder, "dist", "sailings"), 0o755))
	out, _, status := p.run("check")
	assert.Zero(t, status, "warnings are no errors")
	assert.Contains(t, out, "index.html:1: warning: there is no image /boat.jpg [missing-file]")
	assert.Contains(t, out, "/timetable/winter passes through a redirect to /sailings/winter/")
	assert.Contains(t, out, "/planner/ answers today and would become 404 [address-lost]")
	fresh, _, _ := p.run("check", "--new", "--json")
	var report struct{ Findings []struct{ Code string } }
	require.NoError(t, json.Unmarshal([]byte(fresh), &report))
	assert.NotEmpty(t, report.Findings)
	p.write(map[string]string{"orilla.yaml": ferries["orilla.yaml"] +
		"check: {stop_on: [missing-file], ignore: [{code: address-lost, path: 'planner/**'}]}\n"})
	out, _, status = p.run("check")
	assert.Equal(t, 4, status)
	assert.NotContains(t, out, "answers until now")
	p.write(map[string]string{"site.rules": "redirect /a -> /b\nredirect /b -> " +
		"/a\nexpect /a 200\nredirect /c ->\n"})
	out, _, status = p.run("check", "--json")
	assert.Equal(t, 4, status)
	for _, code := range []string{"rule-loop", "expectation", "rule-syntax", "missing-file"} {
		assert.Contains(t, out, `"`+code+`"`)
	}

	p.write(map[string]string{"site.rules": ferries["site.rules"] +
		"redirect / -> /planner/ with 302 when language gl\n"})
	assert.Contains(t, p.ok("explain", "/", "--language", "gl"), "302 -> /planner/")
	assert.Contains(t, p.ok("explain", "/", "--header", "accept-language: de, gl;q=0.5"), "302 -> /planner/")
	p.fails(2, "has no colon", "explain", "/", "--header", "gl")
	assert.Contains(t, p.ok("explain", "https://corvane.localhost/timetable/winter?a=1"),
		"-> /sailings/winter/?a=1")
	assert.Equal(t, "expect  /  302 /planner/  given language \"gl\"\n",
		p.ok("explain", "/", "--language", "gl", "--expect"))
	command := p.command(t.Context(), "explain", "-")
	command.Stdin = strings.NewReader("/timetable/winter\n\n# a comment\n/nowhere\n")
	list, err := command.Output()
	require.Error(t, err)
	assert.Equal(t, 4, command.ProcessState.ExitCode(), "one of them is 404")
	assert.Equal(t, "301  /timetable/winter  -> /sailings/winter/   site.rules:1\n404  /nowhere  missing\n",
		string(list))
	p.fails(2, "neither a path nor an address", "explain", "fares")
	p.fails(2, "is not a time", "explain", "/", "--at", "soon")
}

func TestRulesFormatAndImport(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("One", ferries)
	_, _, status := p.run("rules", "format", "--dry-run")
	assert.Equal(t, 4, status)
	p.ok("rules", "format")
	text, err := os.ReadFile(filepath.Join(p.folder, "site.rules"))
	require.NoError(t, err)
	assert.Equal(t, "redirect  /timetable/{season}  -> /sailings/{season}\nexpect    "+
		"/timetable/winter    301 /sailings/winter/\n", string(text))
	p.ok("rules", "format", "--dry-run")
	command := p.command(t.Context(), "rules", "format", "-")
	command.Stdin = strings.NewReader("gone   /a # x\nredirect /b ->  /c\n")
	aligned, err := command.Output()
	require.NoError(t, err)
	assert.Equal(t, "gone      /a  # x\nredirect  /b  -> /c\n", string(aligned))
	p.fails(2, "cannot read", "rules", "format", "nowhere.rules")
	p.fails(2, "cannot read", "rules", "import", "nowhere.csv")
	p.write(map[string]string{"semicolons.csv": "/a;/b\n", "open.csv": "\"/a,/b\n"})
	p.fails(2, "divided by commas", "rules", "import", "semicolons.csv")
	p.fails(2, "cannot read the list as comma-separated values", "rules", "import", "open.csv")
	p.write(map[string]string{"orilla.yaml": "site: corvane\n"})
	p.fails(2, "has no rules file", "rules", "format")
	p.write(map[string]string{"moved.csv": "from,to\n/old,/new\nbad,/x\n"})
	out, notes, status := p.run("rules", "import", "moved.csv")
	assert.Equal(t, 4, status)
	assert.Equal(t, "redirect  /old  -> /new\n", out)
	assert.Contains(t, notes, "moved.csv:3:")
}

// TestServeBuildsAndKeepsTheLastGoodSite follows a working tree through a
// build, a mistake in it, and a mistake in its rules.
func TestServeBuildsAndKeepsTheLastGoodSite(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	//nolint:errcheck // the test tells
	harbour := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		fmt.Fprint(w, "tides ", r.URL.Path)
	}))
	defer harbour.Close()
	site := map[string]string{".gitignore": "dist\n", "fail": "no"}
	for name, text := range ferries {
		site[name] = text
	}
	site["orilla.yaml"] = strings.Replace(site["orilla.yaml"], "cp -R pages/. dist",
		"cp -R pages/. dist && grep -q no fail", 1) +
		"environments: {staging: {upstreams: {harbour: https://staging.example}}}\n"
	site["site.rules"] += "proxy /api/{rest:all} -> harbour:/{rest}\nheader /{rest:all} when " +
		"environment staging x-staging: yes\n"
	p.commit("One", site)
	command := p.command(t.Context(), "serve", "--listen", "127.0.0.1:0", "--json", "--environment",
		"staging", "--under", "/ferries/", "--upstream", "harbour="+harbour.URL)
	stdout, err := command.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	defer func() {
		command.Process.Signal(os.Interrupt) //nolint:errcheck // the status tells
		command.Wait()                       //nolint:errcheck // see above
		assert.Zero(t, command.ProcessState.ExitCode())
	}()
	events := make(chan map[string]any, 1000)
	go func() {
		lines := bufio.NewScanner(stdout)
		for lines.Scan() {
			var event map[string]any
			if json.Unmarshal(lines.Bytes(), &event) == nil {
				events <- event
			}
		}
		close(events)
	}()
	await := func(kind string) map[string]any {
		t.Helper()
		for {
			select {
			case event, ok := <-events:
				require.True(t, ok, kind)
				if event["kind"] == kind {
					return event
				}
			case <-time.After(20 * time.Second):
				require.Fail(t, "no event "+kind)
			}
		}
	}
	address := strings.Replace(await("serving")["address"].(string), "localhost", "127.0.0.1", 1)
	assert.True(t, strings.HasSuffix(address, "/ferries/"))
	host := strings.TrimPrefix(strings.TrimSuffix(address, "/ferries/"), "http://")
	status, body := get(t, host, "", "/ferries/")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "home")
	status, _ = get(t, host, "", "/ferries/timetable/winter")
	assert.Equal(t, 301, status)
	event := await("request")
	for event["path"] != "/ferries/timetable/winter" {
		event = await("request")
	}
	assert.Equal(t, "-> /ferries/sailings/winter/", event["by"])
	assert.Equal(t, "site.rules:1", event["rule"])
	_, body = get(t, host, "", "/ferries/api/today")
	assert.Equal(t, "tides /today", body)

	// the build writes dist, and then fails
	p.write(map[string]string{"pages/index.html": "half a page", "fail": "yes"})
	assert.Equal(t, "step-failed", await("failed")["code"])
	_, body = get(t, host, "", "/ferries/")
	assert.Contains(t, body, "home", "the last good site")
	p.write(map[string]string{"fail": "no"})
	await("shown")
	_, body = get(t, host, "", "/ferries/")
	assert.Contains(t, body, "half a page")

	p.write(map[string]string{"site.rules": "redirct /a -> /b\n"})
	assert.Equal(t, "rule-verb", await("failed")["code"])
	status, _ = get(t, host, "", "/ferries/timetable/winter")
	assert.Equal(t, 301, status, "the last good rules")
	p.write(map[string]string{"site.rules": "gone /timetable/{season}\n"})
	assert.Equal(t, true, await("shown")["rules"])
	status, _ = get(t, host, "", "/ferries/timetable/winter")
	assert.Equal(t, 410, status)
}

// TestServeInFrontOfADevelopmentServer lets serve start another server, and
// puts the site's rules in front of it.
func TestServeInFrontOfADevelopmentServer(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\n",
		"site.rules":     "redirect /old -> /fares\nheader /{x:all} x-front: yes\n",
		"dev/index.html": "<body>developing</body>", "dev/fares.html": "42.00"})
	server, front := freeAddress(t), freeAddress(t)
	p.fails(1, "no server answers at http://"+server, "serve", "--in-front-of", "http://"+server)
	p.fails(2, "--run needs --in-front-of", "serve", "--run", "true")
	p.fails(2, "write the development server's address", "serve", "--in-front-of", "localhost")
	command := p.command(t.Context(), "serve", "--listen", front, "--in-front-of", "http://"+server, "--run",
		program+" serve dev --listen "+server, "--json")
	var notes bytes.Buffer
	command.Stderr = &notes
	require.NoError(t, command.Start())
	defer func() {
		command.Process.Signal(os.Interrupt) //nolint:errcheck // the status tells
		command.Wait()                       //nolint:errcheck // see above
		assert.Zero(t, command.ProcessState.ExitCode(), notes.String())
		// another program may have got the port
		if response, err := http.Get("http://" + server + "/"); err == nil {
			body, _ := io.ReadAll(response.Body)
			response.Body.Close() //nolint:errcheck // read
			assert.NotContains(t, string(body), "developing", "what serve started ends with it")
		}
	}()
	require.Eventually(t, func() bool {
		response, err := http.Get("http://" + front + "/")
		if err == nil {
			response.Body.Close() //nolint:errcheck // it is asked again
		}
		return err == nil && response.StatusCode == http.StatusOK
	}, 30*time.Second, 20*time.Millisecond)
	status, body := get(t, front, "", "/")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "developing")
	status, _ = get(t, front, "", "/old")
	assert.Equal(t, 301, status)
	response, err := http.Get("http://" + front + "/fares")
	require.NoError(t, err)
	response.Body.Close() //nolint:errcheck // only the header counts
	assert.Equal(t, "yes", response.Header.Get("X-Front"))
	p.write(map[string]string{"site.rules": "redirect /old -> /fares with 302\n"})
	assert.Eventually(t, func() bool { status, _ := get(t, front, "", "/old"); return status == 302 },
		30*time.Second, 20*time.Millisecond, "rules are taken up on saving")
}

// TestExplainFindsTheEnvironment reads it from the address that was typed.
func TestExplainFindsTheEnvironment(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"index.html": "home",
		"orilla.yaml": "site: corvane\nrules: site.rules\nenvironments:\n" +
			"  production: {addresses: ['https://www.corvane.example/ferries/', " +
			"'https://corvane.example/']}\n  staging: {addresses: ['https://staging.corvane.example/']}\n",
		"site.rules": "redirect /where -> /staging when environment staging\nredirect /where -> " +
			"/preview when environment preview\n" +
			"redirect /where -> /release when environment release\nredirect /where -> /host when host " +
			"corvane.example\nredirect /where -> /production\n"})
	type explained struct{ Environment, Location string }
	for address, want := range map[string]explained{
		"/where": {"production",
			"/production"}, "https://www.corvane.example/ferries/where?a=1": {"production",
			"/ferries/production?a=1"},
		"https://staging.corvane.example/where":               {"staging", "/staging"},
		"http://staging.corvane.localhost:7420/where":         {"staging", "/staging"},
		"http://winter.preview.corvane.localhost/where":       {"preview/winter", "/preview"},
		"http://0123456789.release.corvane.localhost/where#x": {"release", "/release"},
	} {
		t.Run(address, func(t *testing.T) {
			assert.Equal(t, want, document[explained](p, "explain", address), address)
		})
	}
	assert.Equal(t, "/host", document[explained](p, "explain", "/where", "--host",
		"corvane.example").Location)
	assert.Equal(t, "/staging", document[explained](p, "explain", "/where", "--environment",
		"staging").Location)
	assert.Contains(t, p.ok("explain", "/where", "--method", "post"), "POST /where")
	p.fails(1, "no store there yet", "explain", "/where", "--on", "production")
	p.fails(2, "is not an address", "explain", "https://")
}

// TestADeploySaysWhatItWouldBreak looks at the findings of a deploy: of pages
// that change, and of addresses that get lost.
func TestADeploySaysWhatItWouldBreak(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	const icon = "<link rel=icon href=data:,>"
	site := map[string]string{"orilla.yaml": "site: corvane\n", "index.html": icon, "fares.html": icon +
		"fares", "old.html": icon + "old", "untouched.html": icon + "<img src=/never.png>"}
	p.commit("One", site)
	p.ok("deploy")
	require.NoError(t, os.Rename(filepath.Join(p.folder, "old.html"), filepath.Join(p.folder, "new.html")))
	p.commit("Two", map[string]string{"fares.html": icon + "<script src=/app.js></script>"})
	_, notes, status := p.run("deploy")
	assert.Zero(t, status)
	assert.Contains(t, notes, "2 warnings: 1 missing-file, 1 address-lost")
	assert.Contains(t, notes, "redirect  /old  -> /new", "it went there unchanged")
	p.commit("Three", map[string]string{"orilla.yaml": "site: corvane\ncheck: {stop_on: [missing-file]}\n",
		"fares.html": icon})
	assert.Contains(t, p.fails(4, "there is no image /never.png", "deploy"), "untouched.html:1",
		"who stops on it has all pages read")
	p.commit("Four", map[string]string{"orilla.yaml": "site: corvane\ncheck: {stop_on: all, ignore: " +
		"[{code: missing-file, path: untouched.html}]}\n"})
	findings := document[ruledDeploy](p, "deploy").Findings
	assert.Empty(t, findings)
	require.NoError(t, os.Remove(filepath.Join(p.folder, "new.html")))
	p.commit("Five", nil)
	assert.Contains(t, p.fails(4, "/new answers today and would become 404", "deploy"),
		"next: gone      /new")
	p.commit("Six", map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\ncheck: {stop_on: " +
		"all, ignore: [{code: missing-file, path: untouched.html}]}\n", "site.rules": "gone /new\n"})
	p.ok("deploy")
}

// TestProxiesAtEdgeNodes runs two nodes, one of which may
// reach its own machine.
func TestProxiesAtEdgeNodes(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	//nolint:errcheck // the test tells
	harbour := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		fmt.Fprint(w, "tides ", r.URL.Path)
	}))
	defer harbour.Close()
	p.commit("One", map[string]string{"index.html": "<link rel=icon href=data:,>",
		"site.rules": "proxy /api/{rest:all} -> harbour:/v1/{rest}\nexpect /api/x proxy harbour:/v1/x\n",
		"orilla.yaml": "site: corvane\nrules: site.rules\nenvironments: {production: " +
			"{follows: main, upstreams: {harbour: '" + harbour.URL + "'}}}\n"})
	p.fails(2, "write a network such as", "edge", "--reach", "home")
	strict := p.edge()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	open := listener.Addr().String()
	require.NoError(t, listener.Close())
	command := p.command(t.Context(), "edge", "--listen", open, "--reach", "127.0.0.1", "--json")
	require.NoError(t, command.Start())
	defer func() {
		command.Process.Signal(os.Interrupt) //nolint:errcheck // the status tells
		command.Wait()                       //nolint:errcheck // see above
	}()
	p.ok("deploy")
	assert.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", open)
		if err != nil {
			return false
		}
		conn.Close() //nolint:errcheck // only whether it answers
		status, body := get(t, open, "corvane.localhost", "/api/today")
		return status == 200 && body == "tides /v1/today"
	}, 30*time.Second, 20*time.Millisecond)
	assert.Eventually(t, func() bool {
		status, _ := get(t, strict, "corvane.localhost",
			"/api/today")
		return status == 502
	}, 30*time.Second, 20*time.Millisecond)
	assert.Contains(t, p.ok("explain", "/api/today", "--on", "production"), "-> harbour:/v1/today")

	// The address of an upstream is the environment's: another one goes live
	// with the same release, by a deploy alone.
	//nolint:errcheck // the test tells
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "other")
	}))
	defer other.Close()
	before := document[ruledDeploy](p, "deploy").Release
	p.commit("Elsewhere", map[string]string{"orilla.yaml": "site: corvane\nrules: " +
		"site.rules\nenvironments: {production: {follows: main, upstreams: {harbour: '" + other.URL +
		"'}}}\n"})
	assert.Equal(t, before, document[ruledDeploy](p, "deploy").Release)
	assert.Eventually(t, func() bool {
		_, body := get(t, open, "corvane.localhost",
			"/api/today")
		return body == "other"
	}, 30*time.Second, 20*time.Millisecond)
	p.commit("Unknown", map[string]string{"site.rules": "proxy /api/{rest:all} -> harbor:/v1/{rest}\n"})
	p.fails(4, `did you mean "harbour"?`, "deploy")
}

// TestExplainShowsWhatIsLiveBeside compares the working
// tree with what an edge node answers.
func TestExplainShowsWhatIsLiveBeside(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("One", ferries)
	p.fails(1, "no edge node is running", append([]string{"explain", "/timetable/winter", "--live", "--on"},
		func() string { p.ok("deploy"); return "production" }())...)
	p.edge()
	p.write(map[string]string{"dist/sailings/winter/index.html": "winter",
		"site.rules": "redirect /timetable/{season} -> /sailings/{season} with " +
			"302\nheader /{x:all} x-new: yes\n"})
	type explained struct {
		Status int
		Live   struct {
			Status  int
			Differs []string
		}
	}
	d := document[explained](p, "explain", "/timetable/winter", "--live")
	assert.Equal(t, 302, d.Status)
	assert.Equal(t, 301, d.Live.Status)
	assert.Equal(t, []string{"status", "x-new"}, d.Live.Differs)
	out := p.ok("explain", "/timetable/winter", "--live")
	assert.Contains(t, out, "HERE")
	assert.Regexp(t, `status +302 +301`, out)
	assert.Contains(t, p.ok("explain", "/", "--live", "--on", "production"),
		"same answer and headers")
}
