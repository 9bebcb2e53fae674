package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/soak"
)

// These tests are about hours of work: what is told, what stays, what is left behind.
// How pages behave in a browser is in scripts/projects, and how changes are told from
// builds in internal/devserver.

// serveEvent is a line that serve prints with --json.
type serveEvent struct {
	Kind, Address, Text, Code, Why string
	Changed                        []string
	Findings                       []struct{ Code string }
}

// serving is a running orilla serve.
type serving struct {
	t       *testing.T
	command *exec.Cmd
	address string // without a slash at the end
	mutex   sync.Mutex
	events  []serveEvent
	notes   strings.Builder
	news    chan struct{}
}

// Write takes what it notes.
func (s *serving) Write(data []byte) (int, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.notes.Write(data)
}

// said is what there was so far.
func (s *serving) said() string {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return fmt.Sprintf("%+v %s", s.events, s.notes.String())
}

// serve runs serve until the test ends, and returns when it serves.
func (p *place) serve(args ...string) *serving {
	p.t.Helper()
	s := &serving{t: p.t, news: make(chan struct{}, 1)}
	s.command = p.command(context.Background(), append([]string{"serve", "--listen", "127.0.0.1:0", "--json"}, args...)...)
	out, err := s.command.StdoutPipe()
	require.NoError(p.t, err)
	s.command.Stderr = s
	require.NoError(p.t, s.command.Start())
	read := make(chan struct{})
	go func() {
		defer close(read)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			var one serveEvent
			if json.Unmarshal(lines.Bytes(), &one) != nil {
				continue
			}
			s.mutex.Lock()
			s.events = append(s.events, one)
			s.mutex.Unlock()
			select {
			case s.news <- struct{}{}:
			default:
			}
		}
	}()
	p.t.Cleanup(func() {
		s.command.Process.Signal(os.Interrupt) //nolint:errcheck // it may have ended
		<-read
		s.command.Wait() //nolint:errcheck // it may have been killed
	})
	s.address = strings.TrimSuffix(strings.Replace(s.seen("serving").Address, "localhost", "127.0.0.1", 1), "/")
	return s
}

// seen waits for an event that was not seen yet, and forgets it and those before.
func (s *serving) seen(kind string) serveEvent {
	s.t.Helper()
	for deadline := time.After(time.Minute); ; {
		s.mutex.Lock()
		for i, one := range s.events {
			if one.Kind == kind {
				s.events = s.events[i+1:]
				s.mutex.Unlock()
				return one
			}
		}
		s.mutex.Unlock()
		select {
		case <-s.news:
		case <-deadline:
			require.Fail(s.t, "not told: "+kind, "%s", s.said())
		}
	}
}

// body asks for a path as a browser asks for a page.
func (s *serving) body(path string) string {
	s.t.Helper()
	request, err := http.NewRequest(http.MethodGet, s.address+path, nil)
	require.NoError(s.t, err)
	request.Header.Set("Accept", "text/html,*/*;q=0.8")
	response, err := http.DefaultClient.Do(request)
	require.NoError(s.t, err)
	defer response.Body.Close() //nolint:errcheck // read
	data, err := io.ReadAll(response.Body)
	require.NoError(s.t, err)
	return string(data)
}

// notesOfPages returns what open pages are told just now.
func (s *serving) notesOfPages() string {
	s.t.Helper()
	response, err := http.Get(regexp.MustCompile(`^http://[^/]*`).FindString(s.address) + "/.orilla/changes")
	require.NoError(s.t, err)
	defer response.Body.Close() //nolint:errcheck // ended
	line, err := bufio.NewReader(response.Body).ReadString('\n')
	require.NoError(s.t, err)
	var state struct {
		Notes []struct{ About, Head, Text string }
	}
	require.NoError(s.t, json.Unmarshal([]byte(strings.TrimPrefix(line, "data: ")), &state))
	return fmt.Sprint(state.Notes)
}

// TestServe looks at a folder, changes it, and takes it away and back.
func TestServe(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.fails(2, "no such folder or archive", "serve", "dist")
	p.write(map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: dist}\nenvironments: " +
		"{production: {addresses: ['https://islands.example/ferries/']}}\n",
		"dist/index.html": "<body>one</body>", "dist/fares.html": "42.00"})
	s := p.serve()
	assert.Regexp(t, `^http://127.0.0.1:\d+/ferries$`, s.address, "below the base path of production")
	assert.Regexp(t, `^<body>one<script src="/.orilla/reload.js" data-at="\w+.1" defer></script></body>$`, s.body("/"))
	assert.Contains(t, s.body("/fares"), "42.00")
	p.write(map[string]string{"dist/fares.html": "43.00", "dist/new/index.html": "new"})
	assert.Eventually(t, func() bool {
		return strings.Contains(s.body("/fares"), "43.00") && strings.Contains(s.body("/new/"), "new")
	}, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, os.RemoveAll(filepath.Join(p.folder, "dist")))
	p.write(map[string]string{"dist/index.html": "built anew"})
	assert.Eventually(t, func() bool { return strings.Contains(s.body("/"), "built anew") }, 30*time.Second,
		20*time.Millisecond, "a folder that was made anew is found again")
}

// memoryOf is how much memory a process takes at most so far, in MB.
func memoryOf(t *testing.T, command *exec.Cmd) int {
	t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", command.Process.Pid))
	require.NoError(t, err)
	found := regexp.MustCompile(`VmHWM:\s*(\d+) kB`).FindSubmatch(status)
	require.NotNil(t, found, "%s", status)
	kilobytes, err := strconv.Atoi(string(found[1]))
	require.NoError(t, err)
	return kilobytes / 1000
}

// noise is content of a size, the same for the same seed and
// another for any other: nothing is known of it already. It is
// what pictures and films are to a store; text would pack.
func noise(seed, size int) string {
	var text strings.Builder
	for n := uint64(seed)*2654435761 + 1; text.Len() < size; n = n*6364136223846793005 + 1442695040888963407 {
		fmt.Fprintf(&text, "%x", n)
	}
	return text.String()[:size]
}

// TestAThousandSaves leaves serve running while somebody works: memory and the
// folder for temporary files stay as they are, and what is shown is kept while a
// build empties its output.
func TestAThousandSaves(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("memory is read from /proc")
	}
	t.Parallel()
	p := newPlace(t)
	files := map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['rm -rf dist && cp -r src dist'], output: dist}\n",
		".gitignore": "dist\n", "src/index.html": "<link rel=icon href=data:,>"}
	for i := range 60 {
		files[fmt.Sprintf("src/boat-%d.txt", i)] = noise(i, 200_000)
	}
	p.commit("Boats", files)
	temporary := t.TempDir()
	p.env = append(p.env, "TMPDIR="+temporary)
	s := p.serve()
	saves := soak.Rounds(15, 1000)
	for i := range saves {
		p.write(map[string]string{"src/timetable.txt": noise(1000+i, 1_350_000)})
		s.seen("shown")
	}
	assert.Less(t, memoryOf(t, s.command), 150, "MB after %d saves", saves)
	t.Logf("%d saves: %d MB at most", saves, memoryOf(t, s.command))
	require.NoError(t, s.command.Process.Kill())
	left, err := os.ReadDir(temporary)
	require.NoError(t, err)
	assert.Empty(t, left, "a process that is killed leaves nothing")
}

// TestAThousandBuilds leaves follow running while others push.
func TestAThousandBuilds(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("memory is read from /proc")
	}
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['sh build.sh'], output: out}\n" +
		"environments: {production: {follows: main}}\n", "page.html": "0",
		"build.sh": "mkdir out && cp page.html out/index.html\n" +
			"for i in 1 2 3 4 5 6; do (cat page.html; head -c 2000000 /dev/urandom) > out/boat-$i.bin; done\n"})
	f := p.follow("--every", "1h")
	f.seen(t, "live", "main", "")
	builds := soak.Rounds(12, 1000)
	for i := range builds {
		f.seen(t, "live", "main", p.commit(fmt.Sprint("Commit ", i), map[string]string{"page.html": fmt.Sprint(i + 1)}))
		if i%50 == 49 { // what a thousand builds leave is no matter here, and would fill the disk
			p.ok("store", "prune", "--yes", "--releases", "1", "--younger-than", "0s", "--unfinished", "1s")
		}
	}
	assert.Less(t, memoryOf(t, f.command), 150, "MB after %d builds", builds)
	t.Logf("%d builds: %d MB at most", builds, memoryOf(t, f.command))
}

// TestMistakesStayUntilTheyAreMended in the page, each by itself.
func TestMistakesStayUntilTheyAreMended(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {run: ['sh build.sh'], output: dist}\n",
		"site.rules": "redirect /old -> /fares\n", ".gitignore": "dist\n",
		"build.sh":       "mkdir -p dist && cp src/* dist/\n",
		"src/index.html": "<link rel=icon href=data:,>", "src/fares.html": "<link rel=icon href=data:,>42.00"})
	s := p.serve()
	p.write(map[string]string{"build.sh": "echo 'fares.md:7: no such island'; exit 2\n"})
	assert.Equal(t, "step-failed", s.seen("failed").Code)
	assert.Contains(t, s.notesOfPages(), "fares.md:7: no such island", "the last lines of the build")
	p.write(map[string]string{"site.rules": "redirect /old ->\n"})
	s.seen("failed")
	assert.Contains(t, s.notesOfPages(), "fares.md:7")
	assert.Contains(t, s.notesOfPages(), "site.rules:1")
	p.write(map[string]string{"site.rules": "redirect /old -> /nowhere\nexpect /fares 404\nredirect /a -> /b\nredirect /b -> /a\n"})
	s.seen("shown")
	found := s.seen("refused").Findings
	assert.Len(t, found, 4)
	assert.Contains(t, s.notesOfPages(), "A deploy would refuse this")
	assert.Contains(t, s.notesOfPages(), "site.rules:1")
	assert.Contains(t, s.notesOfPages(), "fares.md:7", "other rules mend no build")
	p.write(map[string]string{"build.sh": "mkdir -p dist && cp src/* dist/\n"})
	s.seen("shown")
	assert.NotContains(t, s.notesOfPages(), "fares.md")
	p.write(map[string]string{"site.rules": "expect /fares 200\n"})
	s.seen("refused")
	assert.Equal(t, "[]", s.notesOfPages())
}

// TestServeAtAnotherTime and with a policy that lets no script run.
func TestServeAtAnotherTime(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {output: dist}\ntime_zone: Europe/Lisbon\n",
		"site.rules": "rewrite /fares -> /holidays when from 2026-12-24 through 2026-12-26\n" +
			"header /strict content-security-policy: script-src 'nonce-1'\n",
		"dist/index.html": "home", "dist/fares.html": "42.00", "dist/holidays.html": "no boats",
		"dist/strict.html": "strict", "dist/meta.html": `<meta http-equiv=content-security-policy content="connect-src 'none'">`})
	p.fails(2, "is not a time", "serve", "--at", "Christmas")
	assert.Contains(t, p.serve("--at", "2026-12-25T12:00Z").body("/fares"), "no boats")
	s := p.serve("--at", "2026-11-25T12:00Z")
	assert.Contains(t, s.body("/fares"), "42.00")
	s.body("/strict")
	s.body("/meta")
	for _, directive := range []string{"script-src", "connect-src"} {
		assert.Eventually(t, func() bool {
			return strings.Contains(s.said(), directive+", so such pages do not reload by themselves")
		}, 30*time.Second, 5*time.Millisecond)
	}
}

// TestInFrontOfADevelopmentServer that is started, dies, and answers with its one
// page whatever it does not know.
func TestInFrontOfADevelopmentServer(t *testing.T) {
	t.Parallel()
	p, other := newPlace(t), newPlace(t)
	other.write(map[string]string{"index.html": "home"})
	p.write(map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\n", "site.rules": "",
		"pid": "", "dev.sh": "echo $$ > pid; exec " + program + " -C " + other.folder + " serve . --no-reload --listen \"$1\"\n"})
	address := freeAddress(t)
	front := []string{"--in-front-of", "http://" + address}
	notes := p.fails(1, "ended with status 127 before it answered", append(front, "serve", "--listen", "127.0.0.1:0",
		"--run", "no-such-server-anywhere")...)
	assert.NotContains(t, notes, "build")
	s := p.serve(append(front, "--run", "sh dev.sh "+address)...)
	assert.Regexp(t, `^home<script src="/.orilla/reload.js" defer></script>$`, s.body("/"))
	p.write(map[string]string{"site.rules": "redirect /old -> /nowhere\nexpect / 404\n"})
	s.seen("refused")
	assert.Contains(t, s.notesOfPages(), "site.rules:1")
	assert.Contains(t, s.notesOfPages(), "site.rules:2")
	p.write(map[string]string{"site.rules": "expect / 200\n"})
	s.seen("refused")
	assert.Equal(t, "[]", s.notesOfPages())

	pid, err := os.ReadFile(filepath.Join(p.folder, "pid"))
	require.NoError(t, err)
	number, err := strconv.Atoi(strings.TrimSpace(string(pid)))
	require.NoError(t, err)
	process, err := os.FindProcess(number)
	require.NoError(t, err)
	require.NoError(t, process.Kill())
	require.Eventually(t, func() bool { return strings.Contains(s.body("/"), "is the development server running?") },
		10*time.Second, 5*time.Millisecond)
	require.Eventually(t, func() bool { return strings.HasPrefix(s.body("/"), "home") }, 30*time.Second,
		20*time.Millisecond, "it is started again: %s", s.said())
	assert.Contains(t, s.said(), "Orilla restarts it in 1.0 s")
}

// TestAPageInThePlaceOfAFile is what development servers of applications answer
// with; the edge does not.
func TestAPageInThePlaceOfAFile(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		io.WriteString(w, "the application") //nolint:errcheck // the test tells
	}))
	defer server.Close()
	p := newPlace(t)
	p.write(map[string]string{"orilla.yaml": "site: corvane\n"})
	s := p.serve("--in-front-of", server.URL)
	for range 2 {
		assert.Contains(t, s.body("/nope.js"), "the application")
		assert.Contains(t, s.body("/"), "the application")
	}
	require.Eventually(t, func() bool { return strings.Contains(s.said(), "the edge would answer 404") }, 30*time.Second,
		5*time.Millisecond)
	assert.Equal(t, 1, strings.Count(s.said(), "the edge would answer 404"), s.said())
}
