// Package builder runs the steps of a build, each in a shell of its own.
package builder

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
)

// Spec is what to run.
type Spec struct {
	Folder      string   // where the steps start
	Steps       []string // shell commands, in order
	Environment []string // NAME=value; nothing else is inherited
	TimeLimit   time.Duration
	Log         io.Writer         // takes all that the steps print
	Line        func(line string) // is told each line, without its end; may be nil
	Begin       func(i int)       // is told before step i begins; may be nil
	End         func(builds.Step) // is told how each step ended; may be nil
}

// tail is how many of the last lines an error shows.
const tail = 40

// Run runs the steps until one fails. When the context ends or the time is up, all processes that the step started end. The
// error is a fault.Error of kind BuildFailed with the last lines, or the context's.
func Run(ctx context.Context, spec Spec) ([]builds.Step, error) {
	limited, cancel := context.WithTimeout(ctx, spec.TimeLimit)
	defer cancel()
	var steps []builds.Step
	for i, command := range spec.Steps {
		if spec.Begin != nil {
			spec.Begin(i)
		}
		lines := &lineWriter{tell: spec.Line}
		step, err := runStep(limited, spec, command, lines)
		steps = append(steps, step)
		if spec.End != nil {
			spec.End(step)
		}
		switch {
		case ctx.Err() != nil:
			return steps, ctx.Err()
		case limited.Err() != nil:
			return steps, stepFailed(lines, i, command, "was ended: the build took longer than %s", spec.TimeLimit).
				Then("raise build.time_limit in orilla.yaml if it needs longer")
		case err != nil:
			return steps, stepFailed(lines, i, command, "could not be run: %v", err)
		case step.Exit != 0:
			return steps, stepFailed(lines, i, command, "ended with status %d", step.Exit)
		}
	}
	return steps, nil
}

func stepFailed(lines *lineWriter, i int, command, format string, args ...any) *fault.Error {
	what := fmt.Sprintf("step %d of the build ", i+1) + fmt.Sprintf(format, args...)
	problem := fault.New(fault.BuildFailed, "step-failed", "%s", what).At("%s", command)
	for _, line := range lines.last() {
		problem = problem.With("| " + line)
	}
	return problem
}

func runStep(ctx context.Context, spec Spec, command string, lines *lineWriter) (builds.Step, error) {
	started := time.Now()
	name, args := shell(command)
	process := exec.Command(name, args...)
	process.Dir, process.Env = spec.Folder, spec.Environment
	both := io.MultiWriter(spec.Log, lines)
	process.Stdout, process.Stderr = both, both
	// A process that the step left behind may keep its output open; it is ended once the shell is gone.
	process.WaitDelay = 500 * time.Millisecond
	tree := prepare(process)
	err := process.Start()
	if err != nil {
		return builds.Step{Command: command, Exit: -1}, err
	}
	done := make(chan struct{})
	var watch sync.WaitGroup
	watch.Go(func() {
		select {
		case <-ctx.Done():
			tree.end(process)
		case <-done:
		}
	})
	err = process.Wait()
	close(done)
	watch.Wait()
	tree.end(process)
	lines.flush()
	step := builds.Step{Command: command, Milliseconds: time.Since(started).Milliseconds(), Exit: process.ProcessState.ExitCode()}
	if _, exited := errors.AsType[*exec.ExitError](err); exited || errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	return step, err
}

// Environment makes what the steps see: where programs and the user's files are, the language, CI=true, and what the
// configuration tells them. The rest of this process's environment stays outside, so that a build does not depend on it.
func Environment(variables map[string]string, secrets []string) ([]string, error) {
	var environment []string
	inherited := []string{"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LC_ALL", "LC_CTYPE", "TMPDIR", "TZ",
		"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "http_proxy", "https_proxy", "no_proxy", "SSL_CERT_FILE", "SSL_CERT_DIR"}
	if runtime.GOOS == "windows" {
		inherited = append(inherited, "SystemRoot", "SystemDrive", "ComSpec", "PATHEXT", "TEMP", "TMP", "USERPROFILE", "APPDATA",
			"LOCALAPPDATA", "ProgramData", "ProgramFiles", "ProgramFiles(x86)", "NUMBER_OF_PROCESSORS", "PROCESSOR_ARCHITECTURE")
	}
	for _, name := range inherited {
		if value, ok := os.LookupEnv(name); ok {
			environment = append(environment, name+"="+value)
		}
	}
	environment = append(environment, "CI=true")
	names := make([]string, 0, len(variables))
	for name := range variables {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		environment = append(environment, name+"="+variables[name])
	}
	var missing []string
	for _, name := range secrets {
		value, ok := os.LookupEnv(name)
		if !ok {
			missing = append(missing, name)
			continue
		}
		environment = append(environment, name+"="+value)
	}
	if len(missing) > 0 {
		return nil, fault.New(fault.Usage, "secret-missing", "the build needs secrets that are not set: %s", strings.Join(missing, ", ")).
			At("orilla.yaml: build.secrets").Then("set them in the environment of this command: %s=... orilla deploy", missing[0])
	}
	return environment, nil
}

// Ready makes what the steps see, and makes sure that the programs they begin with are here. The error is a fault.Error.
func Ready(ctx context.Context, steps []string, variables map[string]string, secrets []string) (environment []string, err error) {
	environment, err = Environment(variables, secrets)
	if err != nil {
		return nil, err
	}
	if missing := Missing(ctx, steps, environment); len(missing) > 0 {
		return nil, fault.New(fault.BuildFailed, "program-missing", "the build needs programs that are not here: %s", strings.Join(missing, ", ")).
			At("orilla.yaml: build").Then("install them; orilla doctor looks again")
	}
	return environment, nil
}

// Missing returns the programs that steps begin with and that are neither in PATH nor known to the shell.
func Missing(ctx context.Context, steps []string, environment []string) []string {
	var missing []string
	for _, step := range steps {
		program := firstWord(step)
		if program == "" || slices.Contains(missing, program) {
			continue
		}
		name, args := shell("command -v " + program)
		if filepath.Base(name) != "sh" && filepath.Base(name) != "sh.exe" {
			continue // another shell: its built-in commands are not known
		}
		check := exec.CommandContext(ctx, name, args...)
		check.Env = environment
		if err := check.Run(); err != nil && ctx.Err() == nil {
			missing = append(missing, program)
		}
	}
	return missing
}

// firstWord returns the program that a step begins with, if that is plain to see: not a path, an assignment or shell syntax.
func firstWord(step string) string {
	words := strings.Fields(step)
	if len(words) == 0 || strings.ContainsAny(words[0], "/\\=$`\"'(){}<>|&;!*?[]~#") {
		return ""
	}
	return words[0]
}

// shell returns the command line that runs a command in a shell: sh where there is one, as on every Unix and beside Git on
// Windows.
func shell(command string) (string, []string) {
	if runtime.GOOS == "windows" {
		if found, err := exec.LookPath("sh"); err == nil {
			return found, []string{"-c", command}
		}
		return "cmd", []string{"/C", command}
	}
	return "/bin/sh", []string{"-c", command}
}

// lineWriter cuts what is written into lines, tells them, and keeps the last ones. Standard output and error of a step reach
// it one write at a time.
type lineWriter struct {
	tell    func(string)
	partial []byte
	kept    []string
}

// maxLine is how much of a line is shown; logs hold all of it.
const maxLine = 2000

func (w *lineWriter) Write(data []byte) (int, error) {
	n := len(data)
	for {
		line, rest, whole := bytes.Cut(data, []byte("\n"))
		if room := maxLine - len(w.partial); room > 0 {
			w.partial = append(w.partial, line[:min(len(line), room)]...)
		}
		if !whole {
			return n, nil
		}
		w.flush()
		data = rest
	}
}

func (w *lineWriter) flush() {
	if len(w.partial) == 0 {
		return
	}
	line := readable(w.partial)
	w.partial = w.partial[:0]
	w.kept = append(w.kept, line)
	if len(w.kept) > 2*tail {
		w.kept = slices.Clone(w.kept[len(w.kept)-tail:])
	}
	if w.tell != nil {
		w.tell(line)
	}
}

func (w *lineWriter) last() []string { return w.kept[max(0, len(w.kept)-tail):] }

// readable takes out what would move the cursor or change colours, and what a carriage return has overwritten.
func readable(line []byte) string {
	line = bytes.TrimRight(line, "\r")
	if at := bytes.LastIndexByte(line, '\r'); at >= 0 {
		line = line[at+1:]
	}
	var out strings.Builder
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case c == 0x1b && i+1 < len(line) && line[i+1] == '[':
			for i += 2; i < len(line) && (line[i] < 0x40 || line[i] > 0x7e); i++ {
			}
		case c == '\t':
			out.WriteString("    ")
		case c >= ' ' && c != 0x7f:
			out.WriteByte(c)
		}
	}
	return strings.ToValidUTF8(out.String(), "?")
}
