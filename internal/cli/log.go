package cli

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/view"
)

// logCmd shows what builds printed, and cancels them.
type logCmd struct{ *app }

func newLogCommand(a *app) *cobra.Command {
	c := &logCmd{app: a}
	var site string
	cmd := &cobra.Command{
		Example: "orilla log\norilla log build:41",
		Use:     "log [BUILD]", ValidArgsFunction: completion{a}.builds, Short: "Show the output of a build",
		Args: cobra.MaximumNArgs(1),
		Long: "Log prints the output of a build, with secrets masked. BUILD is build:41 or 41, as " +
			"orilla builds, or a branch or commit for its last build; the default is the newest " +
			"build. It follows a running build to its end.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.log(cmd.Context(), site, argument(args, 0))
		},
	}
	siteFlag(cmd.Flags(), &site)
	return cmd
}

// notFoundIsNoReason makes a missing part of a log an empty one: a build may
// not have written any yet.
func notFoundIsNoReason(err error) error {
	if errors.Is(err, storage.ErrNotFound) {
		return nil
	}
	return err
}

// log is orilla log: the output of a build, by its number, or the last one of a
// commit or a branch. While the build runs, here or elsewhere, it is followed
// to its end.
func (a *logCmd) log(ctx context.Context, site, typed string) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	run, err := findRun(ctx, s, typed)
	if err != nil {
		return err
	}

	a.Note("%s  %s  %s  %s", console.Strong(run.Label()), console.Accent(source.Short(run.Commit)),
		run.Subject, console.Faint("("+run.Branch+", "+a.Age(run.When)+")"))
	// First what comes while it runs, and then, once it has ended, the rest
	// from the store: the writer knows how much was shown.
	out := &logWriter{app: a.app}
	if run.Ended == nil {
		run, err = a.followLog(ctx, s, run, out)
		if ctx.Err() != nil { // whoever leaves has seen enough
			out.flush()
			a.Note("%s is still running: %s follows it again", run.Label(),
				a.Command("orilla log "+run.Label()))
			return nil //nolint:nilerr // see above
		}
		if err != nil {
			return err
		}
	}

	if run.Ended == nil {
		a.Note("%s", console.Warn("its builder, on "+run.Where+
			", is gone: there is no log, and its result is unknown"))
		return nil
	}

	for _, part := range run.Ended.Log {
		data, err := release.Object(ctx, s.store, part)
		if errors.Is(err, storage.ErrNotFound) {
			return fault.New(fault.Failed, "log-gone", "the log of %s was pruned", run.Label()).
				Then("a prune keeps the logs of the releases it keeps, and of the last weeks")
		}
		if err != nil {
			return err
		}
		out.rest(data)
	}

	out.flush()
	view.ReportEnd(a.Console, run)
	return nil
}

// followLog prints the log of a running build until it ends.
func (a *logCmd) followLog(ctx context.Context, s *session, run builds.Run, out *logWriter,
) (builds.Run, error) {
	next, began, number := 0, time.Now(), run.Number
	for {
		running, err := build.List(ctx, s.store, s.site)
		if err != nil {
			return run, err
		}
		at := slices.IndexFunc(running, func(r build.Running) bool { return r.Number == number })
		if at >= 0 {
			var text []byte
			if text, next, err = build.LiveLog(ctx, s.store, running[at], next); err != nil {
				return run, err
			}
			out.write(text)
		}

		if run, err = s.runs().Get(ctx, number); err != nil {
			return run, err
		}
		if run.Ended != nil || at < 0 && time.Since(began) > 3*time.Second ||
			at >= 0 && running[at].Lost(a.Now()) {
			return run, nil
		}

		select {
		case <-ctx.Done():
			return run, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// logWriter prints a log line by line: on a terminal with
// its colours, elsewhere without.
type logWriter struct {
	app     *app
	written int // how much of the log has come
	passed  int // how much of it the record has told again
	partial []byte
}

// write takes a piece of a log, which may end in the middle of a line or of a
// character, and passes on whole lines.
func (w *logWriter) write(data []byte) {
	w.written += len(data)
	w.partial = append(w.partial, data...)
	for {
		line, rest, whole := bytes.Cut(w.partial, []byte("\n"))
		if !whole {
			return
		}
		if w.app.OutTerm {
			w.app.Print("%s", steps.Painted(line))
		} else {
			w.app.Print("%s", steps.Readable(line))
		}
		w.partial = rest
	}
}

// rest prints of the whole log what has not come while it ran.
func (w *logWriter) rest(data []byte) {
	skip := min(len(data), max(0, w.written-w.passed))
	w.passed += len(data)
	if skip < len(data) {
		w.write(data[skip:])
	}
}

// flush passes on a last line that has no end.
func (w *logWriter) flush() {
	if len(w.partial) > 0 {
		w.write([]byte("\n"))
	}
}

func newCancelCommand(a *app) *cobra.Command {
	c := &logCmd{app: a}
	var site string
	cmd := &cobra.Command{
		Example: "orilla cancel\norilla cancel build:41",
		Use:     "cancel [BUILD]", ValidArgsFunction: completion{a}.builds,
		Short: "Stop a running build, on any machine",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.cancelBuild(cmd.Context(), site, argument(args, 0))
		},
	}
	siteFlag(cmd.Flags(), &site)
	return a.jsonFlag(dryFlag(a, cmd))
}

// cancelWait is how long it is waited for whoever builds to end.
const cancelWait = 30 * time.Second

// cancelBuild is orilla cancel: it asks whoever runs a build to end it. Asking
// is a record beside the build's lease, since they may be on another machine;
// it waits until they have.
func (a *logCmd) cancelBuild(ctx context.Context, site, typed string) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	running, err := build.List(ctx, s.store, s.site)
	if err != nil {
		return err
	}

	one, err := a.chooseRunning(ctx, s, running, typed)
	if err != nil {
		return err
	}
	if one.Lost(a.Now()) {
		return fault.New(fault.Refused, "not-running",
			"%s seems to be gone: no sign of it on %s for a while", one.Label(), one.Where).
			Then("the next build of this content takes over")
	}

	if a.dry {
		return a.Result(view.DescribeRun(a.Console, builds.Run{Begun: one.Begun}), func() {
			a.Print("would stop %s  %s  %s", one.Label(), source.Short(one.Commit), one.Branch)
		})
	}
	if err := build.Cancel(ctx, s.store, one, s.project.Person(ctx)); err != nil {
		return err
	}
	for wait := time.Now(); time.Since(wait) < cancelWait; {
		run, err := s.runs().Get(ctx, one.Number)
		if err != nil {
			return err
		}
		if run.Ended != nil {
			if a.JSON {
				return a.Document(view.DescribeRun(a.Console, run))
			}
			a.Print("%s %s", run.Label(), run.Ended.Outcome)
			return nil
		}

		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}

	return fault.New(fault.Failed, "not-ended", "%s did not react to the request to end", one.Label()).
		At("%s", one.Where).Then("orilla builds")
}

// chooseRunning returns the running build that was typed or, without anything, the
// only one. Nobody means one that is gone, unless there is no other.
func (a *logCmd) chooseRunning(ctx context.Context, s *session, running []build.Running, typed string,
) (build.Running, error) {
	lost := func(one build.Running) bool { return one.Lost(a.Now()) }
	if typed == "" && slices.ContainsFunc(running, func(one build.Running) bool { return !lost(one) }) {
		running = slices.DeleteFunc(running, lost)
	}

	switch {
	case len(running) == 0:
		return build.Running{}, fault.New(fault.Refused, "not-running",
			"no build of %s is running", s.site).
			Then("orilla builds")
	case typed == "" && len(running) > 1:
		problem := fault.New(fault.Usage, "which-build", "%d builds are running", len(running))
		for _, one := range running {
			problem = problem.Then("%[2]s %[3]s: orilla cancel %[1]s", one.Label(), source.Short(one.Commit),
				one.Branch)
		}
		return build.Running{}, problem
	case typed != "":
		run, err := findRun(ctx, s, typed)
		if err != nil {
			return build.Running{}, err
		}
		at := slices.IndexFunc(running, func(r build.Running) bool { return r.Number == run.Number })
		if at < 0 {
			return build.Running{}, fault.New(fault.Refused, "not-running", "%s is not running", run.Label()).
				Then("orilla builds")
		}
		return running[at], nil
	}

	return running[0], nil
}
