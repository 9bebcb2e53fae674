package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/golden"
)

// session is a series of commands as somebody types them. What the program answers
// is written below each, as in a terminal whose output goes to a pipe.
type session struct {
	*place
	text  strings.Builder
	tried map[string]bool // of the commands that were printed
	runs  int
}

// types runs the program and takes down what it says; it may fail.
func (s *session) types(args ...string) {
	s.t.Helper()
	out, err := s.command(s.t.Context(), args...).CombinedOutput()
	fmt.Fprintf(&s.text, "$ orilla %s\n%s", strings.Join(args, " "), s.steady(string(out)))
	if err != nil {
		fmt.Fprintf(&s.text, "(%s)\n", err)
	}
	s.text.WriteString("\n")
	for _, match := range proposed.FindAllStringSubmatch(string(out), -1) {
		s.tries(match[1])
	}
}

// proposed finds the commands at the ends of lines that propose something.
var proposed = regexp.MustCompile(`(?m)(?:^ ?(?:next|undo|fix): |: |until )orilla ([a-z].*?)\r?$`)

// placeholder stands in a command for what a person fills in.
var placeholder = regexp.MustCompile(`(^| )[A-Z]{3,}( |$)`)

// goesOn are the commands that run until somebody ends them.
var goesOn = []string{"edge", "serve", "follow", "demo"}

// tries runs a command that was printed, as it was printed, on a copy of everything: it
// may be refused, and must not be wrong usage.
func (s *session) tries(command string) {
	s.t.Helper()
	if s.tried[command] || placeholder.MatchString(command) {
		return
	}
	s.tried[command] = true
	copied := s.t.TempDir()
	for from, to := range map[string]string{s.folder: "corvane", s.home: "home"} {
		if _, err := os.Stat(from); err == nil {
			require.NoError(s.t, os.CopyFS(filepath.Join(copied, to), os.DirFS(from)))
		}
	}
	q := &place{t: s.t, folder: filepath.Join(copied, "corvane"), home: filepath.Join(copied, "home"), env: s.env}
	require.NoError(s.t, os.MkdirAll(q.folder, 0o755))
	limit := 20 * time.Second
	if slices.Contains(goesOn, strings.Fields(command)[0]) || strings.HasSuffix(command, " --open") {
		limit = time.Second
	}
	ctx, cancel := context.WithTimeout(s.t.Context(), limit)
	defer cancel()
	// A shell reads it, as a person would have it read, and becomes it: what goes on is ended
	// with it.
	run := q.command(ctx)
	shell := exec.CommandContext(ctx, "sh", "-c", "exec "+shellQuote(program)+" "+command)
	shell.Dir, shell.Env, shell.WaitDelay = q.folder, run.Env, time.Second
	out, err := shell.CombinedOutput()
	if ctx.Err() == nil && err != nil && !needsAPerson.Match(out) {
		assert.NotEqual(s.t, 2, shell.ProcessState.ExitCode(), "orilla %s: %s", command, out)
		assert.NotContains(s.t, string(out), "[unknown-", "orilla %s", command)
	}
	s.runs++
}

// needsAPerson is what is refused where nobody can answer, or where a project is empty.
var needsAPerson = regexp.MustCompile(`\[(no-password|not-recognised|no-site)\]`)

// shellQuote writes a text as one word of a shell command.
func shellQuote(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// unsteady is what differs from run to run, and what is written instead.
var unsteady = []struct {
	pattern *regexp.Regexp
	instead string
}{
	{regexp.MustCompile(`\b\d+(\.\d+)? (ms|s)\b`), "N s"},
	{regexp.MustCompile(`\b\d{4}-\d\d-\d\d \d\d:\d\d [A-Z+0-9]+`), "DATE"},
	{regexp.MustCompile(`\b[0-9a-f]{40}\b`), "COMMIT"},
	{regexp.MustCompile(`/[?]orilla-pass=\S+|#\S{20,}`), "SECRET"},
	{regexp.MustCompile(`(share/|orilla_share=)\S+`), "${1}SECRET"},
	{regexp.MustCompile(`(user \S+, password |password +)[a-z0-9-]{12,}`), "${1}SECRET"},
	{regexp.MustCompile(`-rw[-r]+ \S+`), "MODE"},
	{regexp.MustCompile(`\b(on|by \S+ on) [a-z0-9.-]+, (process|since)`), "$1 HOST, $2"},
	{regexp.MustCompile(`\b(\d+ [a-z]+|N s) ago|just now`), "SOME TIME ago"},
	{regexp.MustCompile(` \([+-]N s\)`), ""},
	{regexp.MustCompile(`, activate N s\b`), ""}, // it may take less than a millisecond, and is left out then
	{regexp.MustCompile(`(?m)^\d{4}-\d\d  `), "MONTH  "},
	{regexp.MustCompile(`(?m) +$`), ""},
	// Columns are as wide as what is in them.
	{regexp.MustCompile(`(\S) {3,}`), "$1  "},
}

// steady takes out of a text what differs from run to run.
func (s *session) steady(text string) string {
	folder := strings.TrimSuffix(s.folder, "/corvane")
	text = strings.NewReplacer(folder, "/projects", s.home, "/home/ines/.local/share/orilla", program, "orilla").Replace(text)
	for _, one := range unsteady {
		text = one.pattern.ReplaceAllString(text, one.instead)
	}

	// Names of commits and releases are hashes, the same in each run.
	return shortHash.ReplaceAllStringFunc(text, func(short string) string {
		if !strings.ContainsAny(short, "0123456789") {
			return short // a word
		}
		return "HASH"
	})
}

var shortHash = regexp.MustCompile(`\b[0-9a-f]{7,12}\b`)

// TestSessions holds what the program says in the course of some days' work. Run it
// with -update after a sentence has changed, and review the difference.
func TestSessions(t *testing.T) {
	t.Parallel()
	for name, run := range map[string]func(s *session){
		"publishing": publishing, "previews": previewing, "rules": ruling, "mistakes": erring, "store": storing,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &session{place: newPlace(t), tried: map[string]bool{}}
			s.env = []string{"TZ=UTC", "GIT_AUTHOR_DATE=2026-11-02T06:30:00Z", "GIT_COMMITTER_DATE=2026-11-02T06:30:00Z"}
			run(s)
			golden.Equal(t, name, s.text.String())
			assert.True(t, s.runs > 1 || name == "rules", "commands are printed, and tried: %d", s.runs)
		})
	}
}

const firstConfig = "site: corvane\nrules: site.rules\nbuild: {output: .}\n"

func (s *session) firstSailing() {
	s.commit("First sailing", map[string]string{
		"orilla.yaml": firstConfig, "site.rules": "redirect /prices -> /fares\nexpect /prices 301 /fares\n",
		"index.html": "<title>Corvane Ferries</title><a href=/fares>Fares</a>", "fares.html": "<title>Fares</title>42.00",
	})
	s.git("config", "user.name", "Ines Marrow")
	s.git("config", "user.email", "ines@corvane.example")
}

func publishing(s *session) {
	s.types("deploy", "--from", "dist", "--site", "corvane", "--to", "production")
	s.firstSailing()
	s.types("check")
	s.types("files")
	s.types("deploy", "--dry-run")
	s.types("deploy")
	s.types("deploy")
	s.commit("Fares of the winter", map[string]string{"fares.html": "<title>Fares</title>43.00", "boats.html": "Dunlin"})
	s.types("deploy", "-m", "from December")
	s.types("status")
	s.types("history")
	s.types("diff", "production:1", "production:2")
	s.types("rollback", "-m", "the fares were wrong")
	s.types("deploy")
	s.types("status")
	s.types("thaw", "--leave-live")
	s.types("builds")
	s.types("usage")
	s.types("sites")
	s.types("freeze", "-m", "a holiday")
	s.types("thaw")
}

func previewing(s *session) {
	s.firstSailing()
	s.ok("deploy")
	s.git("checkout", "-q", "-b", "winter-times")
	s.commit("Winter times", map[string]string{"winter.html": "Every two hours"})
	s.types("deploy")
	s.types("preview")
	s.types("preview", "extend", "winter-times", "--for", "3d")
	s.types("preview", "share", "winter-times")
	s.types("diff", "production", "preview/winter-times")
	s.types("promote", "preview/winter-times", "--to", "production")
	s.types("promote", "preview/winter-times", "--to", "production", "--yes", "--wait-for", "true")
	s.types("preview", "remove", "winter-times")
	s.types("preview", "remove", "winter-times", "--yes")
	s.types("status")
}

func ruling(s *session) {
	s.firstSailing()
	s.ok("deploy")
	s.types("explain", "/prices")
	s.types("explain", "/nowhere", "--on", "production")
	s.write(map[string]string{"site.rules": "redirect /prices -> /tariffs\nredirekt /a -> /b\nexpect /prices 301 /fares\n"})
	s.types("check")
	s.write(map[string]string{"site.rules": "redirect /prices -> /tariffs\nexpect /prices 301 /fares\n"})
	s.types("check")
	s.types("rules", "format")
}

func erring(s *session) {
	s.types("deplyo")
	s.types("deploy", "--form", "dist")
	s.types("deploy")
	s.write(map[string]string{"orilla.yaml": "site: corvane\nbiuld:\n  output: dist\n"})
	s.types("check")
	s.write(map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: [exit 3], output: dist}\n"})
	s.types("status")
	s.types("rollback")
	s.types("history", "nowhere")
	s.types("log", "77")
	s.commit("Fails", nil)
	s.types("deploy")
	s.types("deploy", "no-such-commit")
	s.types("freeze", "--until", "yesterday-ish")
	s.types("status", "--store", "ftp://corvane.example/")
	s.types("remove-site", "corvane")
}

func storing(s *session) {
	s.firstSailing()
	s.ok("deploy")
	s.types("store")
	s.types("store", "verify")
	s.types("store", "prune", "--dry-run")
	s.types("store", "copy", "../copy")
	s.types("store", "init", "../copy")
	s.types("domains")
	require.NotEmpty(s.t, s.objects())
}
