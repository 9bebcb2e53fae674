//go:build !linux

package steps

import (
	"context"
	"errors"
	"io"
	"os/exec"
	"sync"
	"time"

	"orilla.example/orilla/internal/process"
)

// Session runs the steps of one build, one after the other, each with a
// guardian that ends its process group if this process dies.
type Session struct{ options Options }

// KeeperIfAsked does nothing: here steps are children of this process.
func KeeperIfAsked() {}

// Open starts a session. Here nothing can be isolated or bounded.
func Open(o Options) (*Session, error) {
	if o.Cell != nil {
		return nil, errors.New("this system cannot isolate builds")
	}
	return &Session{options: o}, nil
}

// Wait returns at once.
func (*Session) Wait(context.Context) error { return nil }

// Close does nothing: each step has ended.
func (*Session) Close() {}

// Run runs one command in a folder, and writes all that it and its children
// print to out. exit is -1 if a signal ended it.
func (s *Session) Run(ctx context.Context, line []string, folder string, environment []string, out io.Writer,
) (exit int, err error) {
	command := exec.Command(line[0], line[1:]...) //nolint:noctx // its whole tree is ended, below
	command.Dir, command.Env, command.Stdout, command.Stderr = folder, environment, out, out

	// A process that the step left behind may keep its
	// output open; it is ended once the shell is gone.
	command.WaitDelay = 500 * time.Millisecond
	tree := prepare(command, s.options.ID)
	if err := process.Start(command); err != nil {
		tree.release()
		return -1, err
	}
	defer process.Done(command)
	tree.guard(command)

	done := make(chan struct{})
	var watch sync.WaitGroup
	watch.Go(func() {
		select {
		case <-ctx.Done():
			tree.end(command)
		case <-done:
		}
	})

	err = command.Wait()
	close(done)
	watch.Wait()
	tree.end(command)
	tree.release()

	if _, exited := errors.AsType[*exec.ExitError](err); exited || errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	return command.ProcessState.ExitCode(), err
}

// Probe finds that nothing here isolates builds.
func Probe(context.Context, string) Means {
	return Means{Why: "only Linux can isolate builds",
		Hint: "build on Linux, or list trusted branches in build.trust"}
}
