//go:build unix

package test

import (
	"bytes"
	"context"
	"io"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// terminal is the program in a terminal of 100 columns, with somebody who reads
// and types.
type terminal struct {
	t       *testing.T
	command *exec.Cmd
	keys    io.Writer
	ended   chan struct{} // once all that it printed was read
	mutex   sync.Mutex
	printed bytes.Buffer
}

// terminal starts the program.
func (p *place) terminal(args ...string) *terminal {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.t.Context(), 2*time.Minute)
	p.t.Cleanup(cancel)
	s := &terminal{t: p.t, command: p.command(ctx, args...), ended: make(chan struct{})}
	s.command.Env = append(s.command.Env, "TERM=xterm-256color", "COLORTERM=")
	file, err := pty.StartWithSize(s.command, &pty.Winsize{Rows: 40, Cols: 100})
	require.NoError(p.t, err)
	s.keys = file

	go func() {
		defer close(s.ended)
		defer file.Close() //nolint:errcheck // read to its end
		buffer := make([]byte, 4096)
		for {
			n, err := file.Read(buffer)
			s.mutex.Lock()
			s.printed.Write(buffer[:n])
			s.mutex.Unlock()
			if err != nil { // on Linux a terminal that was closed is an error
				return
			}
		}
	}()
	return s
}

var controls = regexp.MustCompile(`\x1b(\[[0-9;?>=]*[a-zA-Z]|\][^\x07\x1b]*(\x07|\x1b\\)|[=>()].?)`)

// text is what was printed so far, without colours and movements.
func (s *terminal) text() string {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return controls.ReplaceAllString(s.printed.String(), "")
}

// raw is what was printed so far.
func (s *terminal) raw() string {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.printed.String()
}

// reads waits until something was printed.
func (s *terminal) reads(text string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool { return strings.Contains(s.text(), text) }, patience, tick,
		"waiting for %q in:\n%s", text, s.text())
}

// types presses keys.
func (s *terminal) types(keys string) {
	s.t.Helper()
	_, err := io.WriteString(s.keys, keys)
	require.NoError(s.t, err)
}

// ends waits for the end, and returns what was printed.
func (s *terminal) ends(status int) string {
	s.t.Helper()
	err := s.command.Wait()
	<-s.ended
	assert.Equal(s.t, status, s.command.ProcessState.ExitCode(), "%v:\n%s", err, s.text())
	assert.NotContains(s.t, s.text(), "goroutine ", "it crashed")
	return s.text()
}

// TestInATerminal goes through what looks or asks otherwise where somebody sits.
func TestInATerminal(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First sailing", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: [sh build.sh], " +
		"output: out, trust: [winter]}\n", "build.sh": "mkdir out; for i in 1 2 3; do echo line $i; done; cp index.html out/",
		"index.html": "first"})

	deploy := p.terminal("deploy")
	text := deploy.ends(0)
	assert.Contains(t, text, "production:1")
	assert.Contains(t, deploy.raw(), "\x1b[", "with colours")
	assert.NotRegexp(t, `(?m)^\s*\| line`, text, "what steps print folds into the line of progress")
	_, notes, _ := p.run("deploy", "--rebuild")
	assert.Regexp(t, `(?m)^\s*\| line`, notes, "and streams into a pipe")

	p.git("checkout", "-q", "-b", "winter")
	p.commit("Winter", map[string]string{"index.html": "winter"})
	p.terminal("deploy").ends(0)
	text = p.terminal("promote", "preview/winter", "--to", "production", "--wait-for", "echo looked").ends(0)
	assert.Contains(t, text, "production:2")

	t.Run("a question can be answered no", func(t *testing.T) {
		asked := p.terminal("preview", "remove", "winter")
		asked.reads("winter")
		asked.reads("yes")
		asked.types("n")
		asked.ends(0)
		assert.Contains(t, p.ok("preview"), "winter")
	})
	t.Run("a question can be interrupted", func(t *testing.T) {
		asked := p.terminal("preview", "remove", "winter")
		asked.reads("yes")
		asked.types("\x03")
		assert.Contains(t, asked.ends(1), "nothing changed")
		assert.Contains(t, p.ok("preview"), "winter")
	})
	t.Run("and yes", func(t *testing.T) {
		asked := p.terminal("preview", "remove", "winter")
		asked.reads("yes")
		asked.types("y")
		asked.ends(0)
		assert.NotContains(t, p.ok("preview"), "preview/winter ")
	})
	t.Run("a failed build shows what it printed", func(t *testing.T) {
		p.git("checkout", "-q", "main")
		p.commit("Fails", map[string]string{"build.sh": "echo no such island; exit 3"})
		assert.Contains(t, p.terminal("deploy").ends(5), "no such island")
	})
	t.Run("serve ends with a key", func(t *testing.T) {
		p.write(map[string]string{"build.sh": "mkdir -p out; cp index.html out/"})
		served := p.terminal("serve", "--listen", freeAddress(t))
		served.reads("q quit")
		served.types("q")
		served.ends(0)
	})
}

// TestWhatIsTooWideIsCutAsOneSees: "ends in 30 days" is not "ends in 3".
func TestWhatIsTooWideIsCutAsOneSees(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First sailing", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\nenvironments: {production: {addresses: ['https://www.corvane.example/']}}\npreviews: {addresses: ['https://{preview}.preview.corvane.example/']}\n",
		"out/index.html": "one"})
	p.ok("deploy")
	p.git("checkout", "-qb", "a-branch-with-a-name-of-forty-characters")
	p.commit("Fares", map[string]string{"out/index.html": "two"})
	p.ok("deploy")
	cut := 0
	for line := range strings.Lines(p.terminal("status").ends(0)) {
		line = strings.TrimRight(line, "\r\n ")
		assert.LessOrEqual(t, len([]rune(line)), 100, line)
		if strings.HasSuffix(line, "…") {
			cut++
		}
	}
	assert.Positive(t, cut)
	for line := range strings.Lines(p.terminal("doctor").ends(0)) {
		line = strings.TrimRight(line, "\r\n ")
		if !strings.Contains(line, "fix: ") { // it is copied
			assert.LessOrEqual(t, len([]rune(line)), 100, line)
		}
	}
}
