// Package steps runs the steps of a build, each in a shell of its own, and leaves
// nothing running behind them.
//
//	$ npm ci            12.4 s
//	$ npm run build      8.1 s
//
// Output is cut into lines, with secrets masked, and kept to a size. A step ends
// by itself, by a limit of time or memory, or because the build is cancelled;
// however it does, the processes that it started are ended with it. How that is
// done differs: on Linux a keeper process inherits orphans (prctl(2),
// PR_SET_CHILD_SUBREAPER), other systems have the files tree_*.go.
package steps

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/sandbox"
)

// Spec is what to run, where, with what in its environment, and who is told how
// it goes.
type Spec struct {
	Folder      string            // where the steps start
	Steps       []string          // shell commands, in order
	First       int               // how many steps of the build ran before them
	Used        time.Duration     // how much of the time limit those took
	Environment []string          // NAME=value; nothing else is inherited
	Secrets     []string          // values that neither log nor lines show
	Session     *Session          // in which they run; nil for one of their own, which ends with them
	TimeLimit   time.Duration     // for all steps of the build
	Log         io.Writer         // takes all that the steps print; its errors are its own affair
	Line        func(line string) // is told each line, without its end; may be nil
	Begin       func(i int)       // is told before step i begins; may be nil
	End         func(builds.Step) // is told how each step ended; may be nil
}

// tail is how many of the last lines an error shows.
const tail = 40

// Run runs the steps until one fails. When the context ends or the time is up,
// all processes that the step started end. The error is a fault.Error of kind
// BuildFailed with the last lines, or the context's.
func Run(ctx context.Context, spec Spec) ([]builds.Step, error) {
	if spec.Session == nil {
		session, err := Open(Options{ID: strings.ToLower(rand.Text())})
		if err != nil {
			return nil, fault.New(fault.Failed, "keeper",
				"cannot start the process that runs the build steps").Because(err)
		}
		defer session.Close()
		spec.Session = session
	}

	// The limit is for all steps of the build together; Used is what earlier
	// ones took.
	limited, cancel := context.WithTimeout(ctx, spec.TimeLimit-spec.Used)
	defer cancel()

	var steps []builds.Step
	for i, command := range spec.Steps {
		if spec.Begin != nil {
			spec.Begin(i)
		}
		lines := &lineWriter{tell: spec.Line}
		step, err := runStep(limited, spec, command, lines)
		lines.flush()
		steps = append(steps, step)
		if spec.End != nil {
			spec.End(step)
		}

		switch {
		// Cancelled by somebody, which is neither the step's fault nor the
		// limit's.
		case ctx.Err() != nil:
			return steps, ctx.Err()
		case limited.Err() != nil:
			problem := stepFailed(lines, spec.First+i, command, "was ended: the build took longer than %s",
				spec.TimeLimit).
				Then("if it needs longer, raise build.time_limit in orilla.yaml")
			problem.Code = "time-limit"
			return steps, problem.Marked(ErrTimeLimit)
		case err != nil:
			return steps, notRun(err, lines, spec.First+i, command, spec.Session.options.Bounds)
		case step.Exit != 0:
			return steps, stepFailed(lines, spec.First+i, command, "ended with status %d", step.Exit)
		}
	}

	return steps, nil
}

// Errors that callers decide on, by errors.Is: how a step ended.
var (
	// ErrStepFailed: a step ended with a status other than
	// 0, or could not be run.
	ErrStepFailed = errors.New("step failed")
	// ErrTimeLimit: the steps took longer than they may.
	ErrTimeLimit = errors.New("time limit")
)

// notRun says why a step has no status: this machine could
// not run it, or it took more than it may.
func notRun(err error, lines *lineWriter, i int, command string, bounds sandbox.Bounds) error {
	over, is := errors.AsType[*OverError](err)
	if !is {
		problem := stepFailed(lines, i, command, "could not run: %v", err)
		problem.Kind = fault.Failed // not the commit's fault

		return problem
	}

	allowed := fmt.Sprintf("%d processes and threads", bounds.Tasks)
	switch over.What {
	case "memory":
		allowed = humanize.Bytes(uint64(bounds.Memory)) + " of memory"
	case "disk":
		allowed = humanize.Bytes(uint64(bounds.Disk)) + " on the disk, or all that is free"
	}

	problem := stepFailed(lines, i, command, "was ended: it took more than %s", allowed)
	problem.Code = "over-limit"

	return problem.Marked(nil).
		Then("if it needs more, raise limits.build_%s in orilla.yaml on the production branch", over.What)
}

// stepFailed is the error of a step, with the last lines that it printed.
func stepFailed(lines *lineWriter, i int, command, format string, args ...any) *fault.Error {
	what := fmt.Sprintf("step %d of the build ", i+1) + fmt.Sprintf(format, args...)
	problem := fault.New(fault.BuildFailed, "step-failed", "%s", what).Marked(ErrStepFailed).At("%s", command)
	for _, line := range lines.last() {
		problem = problem.With("| " + line)
	}
	return problem
}

// runStep runs one command, and returns how it ended. The error is one of this
// machine; that the command failed is in its status.
func runStep(ctx context.Context, spec Spec, command string, lines *lineWriter) (builds.Step, error) {
	started := time.Now()
	name, args := shell(command)
	// Masked before it goes anywhere: neither the log nor the terminal sees a
	// secret.
	printed := newMasker(io.MultiWriter(spec.Log, lines), spec.Secrets)

	exit, err := spec.Session.Run(ctx, append([]string{name}, args...), spec.Folder, spec.Environment,
		printed)
	printed.flush() //nolint:errcheck // the log's errors are its own affair

	return builds.Step{Command: command, Milliseconds: time.Since(started).Milliseconds(), Exit: exit}, err
}

// shell returns the command line that runs a command in a shell: sh where there
// is one, as on every Unix and beside Git on Windows.
func shell(command string) (string, []string) {
	// Projects are written for a POSIX shell; Git for Windows brings one.
	if runtime.GOOS == "windows" {
		if found, err := exec.LookPath("sh"); err == nil {
			return found, []string{"-c", command}
		}
		return "cmd", []string{"/C", command}
	}
	return "/bin/sh", []string{"-c", command}
}
