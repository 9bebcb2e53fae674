package devserver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/steps"
)

// Server is a generator's own development server that is started, and started
// again when it ends: by a mistake in its configuration, for want of memory, or by
// somebody who thought it was another one. Whoever works goes on where they were.
//
//	start -> answers -> ends by itself -> a pause that doubles -> start ...
//	      -> ends before it ever answered: that is an error
type Server struct {
	Command     string
	Folder      string
	Environment []string
	Front       *Front
	Line        func(text string) // of what it prints
	// Ended is told that it ended by itself, why, and after what pause it is
	// started again.
	Ended func(err error, pause time.Duration)

	again    chan struct{}
	answered atomic.Bool
}

// How long the pause after a server's end is at first and at most, and after what
// time it counts as one that works.
const (
	shortPause = time.Second
	longPause  = 30 * time.Second
	works      = 30 * time.Second
)

// NewServer returns a server that is not started yet.
func NewServer(command, folder string, environment []string, front *Front) *Server {
	return &Server{Command: command, Folder: folder, Environment: environment, Front: front,
		again: make(chan struct{}, 1)}
}

// Restart ends the server and starts it again. It does not wait.
func (s *Server) Restart() {
	select {
	case s.again <- struct{}{}:
	default: // it is asked for already
	}
}

// Run keeps the server running until the context ends. The error says that it
// ended before it answered for the first time.
func (s *Server) Run(ctx context.Context) error {
	for pause := shortPause; ; {
		began := time.Now()
		asked, how := s.once(ctx)
		switch {
		case ctx.Err() != nil:
			return nil //nolint:nilerr // it was to end
		case asked:
			continue
		case !s.answered.Load():
			return s.failed(how)
		case time.Since(began) > works:
			pause = shortPause
		}

		s.Ended(s.failed(how), pause)
		select {
		case <-ctx.Done():
			return nil
		case <-s.again:
		case <-time.After(pause):
		}
		pause = min(2*pause, longPause)
	}
}

// ending is how a server ended by itself, which it mostly says itself just before.
type ending struct {
	how   string
	lines []string // the last that it printed
}

// once runs the server until it ends, and reports whether somebody asked for that.
func (s *Server) once(ctx context.Context) (asked bool, how ending) {
	running, end := context.WithCancel(ctx)
	defer end()
	ended := make(chan ending, 1)
	go func() { // it is waited for below, whatever happens
		done, err := steps.Run(running, steps.Spec{Folder: s.Folder, Steps: []string{s.Command},
			Environment: s.Environment, TimeLimit: 365 * 24 * time.Hour, Log: io.Discard, Line: s.Line})
		how := ending{how: "could not be started"}
		if len(done) > 0 {
			how.how = fmt.Sprintf("ended with status %d", done[0].Exit)
		}
		if problem, ok := errors.AsType[*fault.Error](err); ok {
			how.lines = problem.Detail
		}
		ended <- how
	}()

	ticker := time.NewTicker(100 * time.Millisecond)
	defer ticker.Stop()
	for {
		select {
		case how := <-ended:
			return false, how
		case <-s.again:
			end()
			<-ended
			return true, ending{}
		// A generator takes seconds to answer, and says nothing about when it does.
		case <-ticker.C:
			if !s.answered.Load() && s.Front.Answers(running) {
				s.answered.Store(true)
			}
		}
	}
}

// Answered reports whether the server has answered.
func (s *Server) Answered() bool { return s.answered.Load() }

// failed says that the server ended by itself, with the last lines that it printed.
func (s *Server) failed(how ending) error {
	what := "the development server " + how.how
	if !s.answered.Load() {
		what += fmt.Sprintf(" before it answered at %s", s.Front.server)
	}
	return fault.New(fault.Failed, "server-ended", "%s", what).At("%s", s.Command).With(how.lines...).
		Then("cd %s && %s", s.Folder, s.Command)
}
