package devserver_test

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/site"
)

// bench is a working tree being served.
type bench struct {
	t            *testing.T
	folder       string
	server       *httptest.Server
	bench        *devserver.Bench
	mutex        sync.Mutex
	events       []string
	pages        chan string // events, as they come
	files, rules int         // that were shown first
}

func (b *bench) tell(format string, args ...any) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	event := fmt.Sprintf(format, args...)
	b.events = append(b.events, event)
	b.pages <- event
}

func (b *bench) Building(why string)      { b.tell("building %s", why) }
func (b *bench) Line(string)              {}
func (b *bench) Built(time.Duration)      { b.tell("built") }
func (b *bench) Shown(c []string, r bool) { b.tell("shown %s %v", strings.Join(c, ","), r) }
func (b *bench) Failed(err error)         { b.tell("failed %s", fault.Code(err)) }
func (b *bench) Refused(found finding.List) {
	var codes []string
	for _, f := range found {
		codes = append(codes, f.Code)
	}
	b.tell("refused %s", strings.Join(codes, " "))
}
func (b *bench) Notice(notice fault.Notice) { b.tell("notice %s", notice.Code) }

// count returns how often something was told.
func (b *bench) count(event string) int {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	n := 0
	for _, e := range b.events {
		if strings.HasPrefix(e, event) {
			n++
		}
	}
	return n
}

// said is all that was told so far.
func (b *bench) said() string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return fmt.Sprintf("%q", b.events)
}

// await waits for something to be told.
func (b *bench) await(event string) {
	b.t.Helper()
	deadline := time.After(20 * time.Second)
	for {
		select {
		case e := <-b.pages:
			if strings.HasPrefix(e, event) {
				return
			}
		case <-deadline:
			require.Fail(b.t, "not told: "+event, "%s", b.said())
		}
	}
}

// settle waits until nothing has been told for a while. That something does not
// happen can be seen in no other way.
func (b *bench) settle() {
	for {
		select {
		case <-b.pages:
		case <-time.After(600 * time.Millisecond):
			return
		}
	}
}

func (b *bench) write(files map[string]string) {
	b.t.Helper()
	for name, text := range files {
		at := filepath.Join(b.folder, filepath.FromSlash(name))
		require.NoError(b.t, os.MkdirAll(filepath.Dir(at), 0o755))
		// At once, as most editors do: in a file that is emptied and then written, a look in
		// between finds nothing, which is a change too.
		whole := filepath.Join(b.t.TempDir(), "whole")
		require.NoError(b.t, os.WriteFile(whole, []byte(text), 0o644))
		require.NoError(b.t, os.Rename(whole, at))
	}
}

func (b *bench) get(path string) string {
	b.t.Helper()
	response, err := http.Get(b.server.URL + path)
	require.NoError(b.t, err)
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	require.NoError(b.t, err)
	return fmt.Sprint(response.StatusCode, " ", string(body))
}

// start serves a project until the test ends.
func start(t *testing.T, repository bool, files map[string]string, change func(*devserver.Options)) *bench {
	t.Helper()
	b := &bench{t: t, folder: t.TempDir(), pages: make(chan string, 1000)}
	var err error
	b.folder, err = filepath.EvalSymlinks(b.folder)
	require.NoError(t, err)
	b.write(files)
	if repository {
		require.NoError(t, exec.Command("git", "-C", b.folder, "init", "-q", "-b", "main").Run())
	}
	ctx, cancel := context.WithCancel(context.Background())
	project, err := site.Load(ctx, b.folder, site.Places{Data: t.TempDir(), Cache: t.TempDir()})
	require.NoError(t, err)
	local := devserver.NewLocal(devserver.LocalOptions{Environment: "production"})
	options := devserver.Options{Project: project, Build: true, Environment: "production", Report: b}
	if change != nil {
		change(&options)
	}
	b.bench = devserver.New(options, local)
	b.server = httptest.NewServer(local)
	ready := make(chan struct{})
	var owned sync.WaitGroup
	owned.Go(func() {
		b.bench.Run(ctx, func() {
			b.files, b.rules = b.bench.Counts() // as whoever serves asks: where the bench runs
			close(ready)
		})
	})
	t.Cleanup(func() { cancel(); owned.Wait(); b.server.Close() })
	<-ready
	return b
}

const config = "site: corvane\nrules: site.rules\nbuild: {run: ['sh build.sh'], output: dist}\n"

var pages = map[string]string{
	"orilla.yaml": config, "site.rules": "redirect /old -> /fares\n", ".gitignore": "dist\nlog\n",
	"build.sh": "mkdir -p dist && cp src/* dist/ && echo x >> log\n", "src/fares.html": "42.00",
}

func TestAChangeOfASourceBuildsAgain(t *testing.T) {
	t.Parallel()
	b := start(t, true, pages, nil)
	assert.Equal(t, "200 42.00", b.get("/fares"))
	assert.Equal(t, []int{1, 1}, []int{b.files, b.rules})
	b.await("shown")
	b.write(map[string]string{"src/fares.html": "43.00"})
	b.await("shown fares.html")
	assert.Equal(t, "200 43.00", b.get("/fares"))
	b.write(map[string]string{"src/new.html": "new"})
	b.await("shown new.html")
	b.settle()
	assert.Equal(t, 3, b.count("built"),
		"the log that the build writes is ignored by Git, and starts no build: %s", b.said())
	b.bench.Rebuild()
	b.await("building on request")
	b.await("built")
}

func TestRulesAndConfigurationNeedNoBuild(t *testing.T) {
	t.Parallel()
	files := maps.Clone(pages)
	// there before it is named, so that one change names it
	files["other.rules"] = "redirect /old -> /fares with 302\n"
	b := start(t, true, files, nil)
	b.await("shown")
	b.write(map[string]string{"site.rules": "gone /old\n"})
	b.await("shown  true")
	assert.Equal(t, "410", b.get("/old")[:3])
	b.write(map[string]string{"site.rules": "gone\n"})
	b.await("failed rule-syntax")
	assert.Equal(t, "410", b.get("/old")[:3], "the last good rules")
	b.write(map[string]string{"orilla.yaml": config + "pages: {one_address: 7}\n"})
	b.await("failed config")
	b.write(map[string]string{"orilla.yaml": strings.Replace(config, "site.rules", "other.rules", 1)})
	b.await("shown")
	assert.Equal(t, 1, b.count("built"))
	b.write(map[string]string{"orilla.yaml": strings.Replace(config, "sh build.sh",
		"sh build.sh && echo new > dist/steps.html", 1), "site.rules": "gone /old\n"})
	b.await("shown steps.html")
	assert.Equal(t, 2, b.count("built"), "other steps build again")
	assert.Equal(t, "200 new\n", b.get("/steps"))
	b.write(map[string]string{"orilla.yaml": strings.Replace(config, "site.rules", "other.rules", 1)})
	b.await("shown  true")
	b.write(map[string]string{"other.rules": ""})
	b.await("shown  true")
	assert.Equal(t, "404", b.get("/old")[:3])
}

func TestAChangeDuringABuildStartsOneMore(t *testing.T) {
	t.Parallel()
	slow := map[string]string{}
	for name, text := range pages {
		slow[name] = text
	}
	slow["build.sh"] = "mkdir -p dist && cp src/* dist/ && sleep 1\n"
	b := start(t, true, slow, nil)
	b.await("shown")
	b.write(map[string]string{"src/fares.html": "1"})
	b.await("building")
	for i := range 5 { // while it runs
		b.write(map[string]string{"src/fares.html": fmt.Sprint(2 + i)})
		time.Sleep(50 * time.Millisecond)
	}
	b.await("built")
	b.await("built")
	assert.Eventually(t, func() bool { return b.get("/fares") == "200 6" }, 30*time.Second,
		10*time.Millisecond)
	b.settle()
	assert.Equal(t, 3, b.count("built"), "five changes, one build: %s", b.said())
}

func TestABuildThatWritesIntoItsSourcesSlowsDown(t *testing.T) {
	t.Parallel()
	loop := maps.Clone(pages)
	loop[".gitignore"] = "dist\n"
	b := start(t, true, loop, nil) // the build appends to log, which Git does not ignore
	b.await("notice builds-itself")
	b.settle() // the next one waits
	assert.LessOrEqual(t, b.count("built"), 4, "%s", b.said())
	b.write(map[string]string{"src/fares.html": "44.00"})
	b.await("shown fares.html")
	assert.Equal(t, 1, b.count("notice builds-itself"))
}

func TestABuildThatWritesTheSameAgainEnds(t *testing.T) {
	t.Parallel()
	same := maps.Clone(pages)
	same["build.sh"] = "mkdir -p dist && cp src/* dist/ && echo 1.2 > src/version.txt\n"
	b := start(t, true, same, nil)
	b.await("shown")
	time.Sleep(2 * time.Second) // longer than a build that waits
	assert.LessOrEqual(t, b.count("built"), 4, "%s", b.said())
}

// TestEverySaveBuilds, also those right after a build and while one runs.
func TestEverySaveBuilds(t *testing.T) {
	t.Parallel()
	slow := maps.Clone(pages)
	slow["build.sh"] = "mkdir -p dist && cp src/* dist/ && sleep 0.05\n"
	b := start(t, true, slow, nil)
	b.await("shown")
	for i := range 6 {
		b.write(map[string]string{"src/fares.html": fmt.Sprint("after ", i)})
		b.await("shown fares.html")
		assert.Equal(t, fmt.Sprint("200 after ", i), b.get("/fares"))
	}
	for i := range 4 {
		b.bench.Rebuild()
		b.await("building")
		time.Sleep(30 * time.Millisecond)
		b.write(map[string]string{"src/fares.html": fmt.Sprint("meanwhile ", i)})
		b.await("built")
	}
	assert.Eventually(t, func() bool { return b.get("/fares") == "200 meanwhile 3" }, 30*time.Second,
		10*time.Millisecond)
}

func TestAFailedBuildLeavesWhatIsShown(t *testing.T) {
	t.Parallel()
	b := start(t, true, pages, nil)
	b.await("shown")
	b.write(map[string]string{"build.sh": "rm -rf dist; mkdir dist; echo half > dist/fares.html; exit 3\n"})
	b.await("failed step-failed")
	b.settle()
	assert.Equal(t, "200 42.00", b.get("/fares"))
	b.write(map[string]string{"site.rules": "gone /old\n"})
	b.await("shown  true")
	assert.Equal(t, "200 42.00", b.get("/fares"), "other rules do not bring half an output")
	assert.Equal(t, "410", b.get("/old")[:3])
	b.write(map[string]string{"build.sh": pages["build.sh"]})
	b.await("shown")
	b.write(map[string]string{"build.sh": "no-such-program-anywhere\n"})
	b.await("failed step-failed")
}

func TestASiteThatFailsAtFirstIsShownOnceItIsWell(t *testing.T) {
	t.Parallel()
	broken := map[string]string{}
	for name, text := range pages {
		broken[name] = text
	}
	broken["build.sh"] = "exit 1\n"
	b := start(t, true, broken, nil)
	b.await("failed step-failed")
	assert.Equal(t, "503", b.get("/")[:3])
	b.write(map[string]string{"build.sh": pages["build.sh"]})
	b.await("shown")
	assert.Equal(t, "200 42.00", b.get("/fares"))
}

func TestAFolderIsServedAsItIs(t *testing.T) {
	t.Parallel()
	b := start(t, false, map[string]string{"orilla.yaml": "site: corvane\n", "out/a.html": "1"},
		func(o *devserver.Options) {
			o.Build, o.Folder = false, filepath.Join(o.Project.Root, "out")
		})
	b.await("shown")
	assert.Equal(t, "200 1", b.get("/a"))
	b.write(map[string]string{"out/a.html": "2", "out/deep/er/b.html": "b"})
	b.await("shown a.html")
	assert.Eventually(t, func() bool { return b.get("/deep/er/b") == "200 b" }, 30*time.Second,
		10*time.Millisecond)
	require.NoError(t, os.RemoveAll(filepath.Join(b.folder, "out")))
	b.await("failed no-output")
	assert.Equal(t, 0, b.count("building"))
}

func TestUpstreamsOfTheEnvironmentAndOfTheCommandLine(t *testing.T) {
	t.Parallel()
	var asked []string
	answering := func(name string) *httptest.Server {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked = append(asked, name+r.URL.Path)
			io.WriteString(w, name) //nolint:errcheck // the test tells
		}))
		t.Cleanup(server.Close)
		return server
	}
	tides, fares := answering("tides"), answering("fares")
	b := start(t, false, map[string]string{
		"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {output: dist}\nenvironments: " +
			"{staging: {upstreams: {tides: '" + tides.URL + "', fares: 'https://never.example'}}}\n",
		"site.rules":      "proxy /tides/{x:all} -> tides:/{x}\nproxy /fares/{x:all} -> fares:/v2/{x}\n",
		"dist/index.html": "1",
	}, func(o *devserver.Options) {
		o.Environment, o.Upstreams = "staging", map[string]string{"fares": fares.URL}
	})
	assert.Equal(t, "200 tides", b.get("/tides/today"))
	assert.Equal(t, "200 fares", b.get("/fares/adult"))
	assert.Equal(t, []string{"tides/today", "fares/v2/adult"}, asked)
}

// TestWhatADeployWouldRefuseIsToldAtOnce and once, and
// that it would not any more.
func TestWhatADeployWouldRefuseIsToldAtOnce(t *testing.T) {
	t.Parallel()
	b := start(t, false, map[string]string{"orilla.yaml": "site: corvane\nrules: [site.rules]\n",
		"site.rules": "", "index.html": "<link rel=icon href=data:,><script src=/app.js></script>",
		"app.js": "1"}, nil)
	b.write(map[string]string{"site.rules": "rewrite /{rest:all} -> /\n"})
	require.Eventually(t, func() bool { return b.count("refused hidden-asset home-broken") == 1 },
		30*time.Second, 5*time.Millisecond)
	b.write(map[string]string{"fares.html": "<link rel=icon href=data:,>"})
	require.Eventually(t, func() bool { return b.count("shown fares.html") == 1 }, 30*time.Second,
		5*time.Millisecond)
	assert.Equal(t, 1, b.count("refused hidden-asset"), "it is told once")
	b.write(map[string]string{"site.rules": "fallback /{rest:all} -> /\n"})
	require.Eventually(t, func() bool { return b.count("refused ") == 2 }, 30*time.Second, 5*time.Millisecond)
}
