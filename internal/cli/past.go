package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/past"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/view"
)

// Two questions are asked of the past, mostly in this order: since when is it like that, and which
// deploy was it. Both are answered from the store alone, with the releases as visitors had them.

// pastOf opens the walk through an environment that was typed.
func pastOf(ctx context.Context, a *app, site, typed string) (*session, string, *past.Walk, error) {
	s, err := a.session(ctx, site)
	if err != nil {
		return nil, "", nil, err
	}
	environment, err := s.named(ctx, typed)
	if err != nil {
		return nil, "", nil, err
	}
	return s, environment, past.New(s.store, s.site, environment, a.Now()), nil
}

// pastPath reads a path that was typed, or the path of an address.
func pastPath(typed string) (string, error) {
	if at, err := url.Parse(typed); err == nil && at.IsAbs() && at.Host != "" {
		return at.RequestURI(), nil
	}
	if !strings.HasPrefix(typed, "/") || strings.ContainsAny(typed, " \t\n") {
		return "", fault.New(fault.Usage, "usage", "not a path: %q", typed).Then("write one such as /fares")
	}
	return typed, nil
}

// pathHistory is orilla history --path: which entries changed what an address answers.
func (a *historyCmd) pathHistory(ctx context.Context, o historyOptions, typed string) error {
	path, err := pastPath(o.path)
	if err != nil {
		return err
	}
	s, environment, walk, err := pastOf(ctx, a.app, o.site, typed)
	if err != nil {
		return err
	}
	busy := a.Busy("history", "")
	found, err := walk.Changes(ctx, path, o.limit, func(done, of int64) {
		busy.Text(fmt.Sprintf("%d of %s", done, console.Count(of, "entry", "entries")))
	})
	busy.End()
	if err != nil {
		return err
	}
	report := view.NewPathHistory(s.site, environment, path, found)
	for i, change := range found.Changes {
		lines, err := walk.Lines(ctx, change)
		if err != nil {
			return err
		}
		report.Changes[i].Lines = view.ChangedLines(lines)
	}
	return a.Result(report, func() { view.PrintPathHistory(a.Console, report, o.lines) })
}

// bisectOptions are the flags of bisect.
type bisectOptions struct {
	site, environment, good, bad, test string
}

// bisectCmd finds the entry that broke something.
type bisectCmd struct{ *app }

func newBisectCommand(a *app) *cobra.Command {
	c := &bisectCmd{app: a}
	var o bisectOptions
	cmd := &cobra.Command{
		Use: "bisect PATH", Short: "Find the deploy that broke an address", Args: cobra.ExactArgs(1),
		Long: "Bisect finds the entry of an environment's history from which on a test fails, in a few " +
			"steps: each release is served on this machine as it was live, and nothing is built. " +
			"Without --test, the address must answer with 2xx.\n\n" +
			"The test is a command. It gets the address in ORILLA_ADDRESS, and ends with 0 if that " +
			"is good, 125 if it cannot tell, and anything else if it is bad.",
		Example: "orilla bisect /fares\n" +
			"orilla bisect /fares --test 'curl -fsS \"$ORILLA_ADDRESS\" | grep -q 42.00'\n" +
			"orilla bisect / --test ./audit.sh --good production:12",
		RunE: func(cmd *cobra.Command, args []string) error { return c.bisect(cmd.Context(), o, args[0]) },
	}
	flags := cmd.Flags()
	flags.StringVar(&o.test, "test", "", "the `COMMAND` that tells good from bad")
	flags.StringVar(&o.good, "good", "", "an `ENTRY` that is known to be good (default: found by going back)")
	flags.StringVar(&o.bad, "bad", "", "an `ENTRY` that is known to be bad (default: the newest)")
	flags.StringVar(&o.environment, "environment", "", "the `ENVIRONMENT` (default: production)")
	//nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("environment", completion{a}.environments)
	siteFlag(flags, &o.site)
	return a.jsonFlag(cmd)
}

// entryNumber reads an entry that was typed: production:12, or 12. of is the environment that it
// must be of, by its stored name.
func entryNumber(typed, of string) (number int64, err error) {
	name, digits, both := strings.Cut(typed, ":")
	if !both {
		name, digits = "", typed
	}
	number, err = strconv.ParseInt(digits, 10, 64)
	if err != nil || number < 1 || both && of != "" && journal.StoredName(name) != of {
		return 0, fault.New(fault.Usage, "usage", "not an entry of %s: %q",
			journal.DisplayName(of), typed).Then("write one such as production:12").Then("orilla history")
	}
	return number, nil
}

// bisect is orilla bisect.
func (a *bisectCmd) bisect(ctx context.Context, o bisectOptions, typed string) error {
	path, err := pastPath(typed)
	if err != nil {
		return err
	}
	// An entry says its environment.
	for _, entry := range []string{o.good, o.bad} {
		if name, _, both := strings.Cut(entry, ":"); both && o.environment == "" {
			o.environment = name
		}
	}
	s, environment, walk, err := pastOf(ctx, a.app, o.site, o.environment)
	if err != nil {
		return err
	}
	var good, bad int64
	if o.good != "" {
		if good, err = entryNumber(o.good, environment); err != nil {
			return err
		}
	}
	if o.bad != "" {
		if bad, err = entryNumber(o.bad, environment); err != nil {
			return err
		}
	}
	if good > 0 && bad > 0 && good >= bad {
		return fault.New(fault.Usage, "usage", "--good %s is not before --bad %s", o.good, o.bad)
	}

	test := answersWell(path)
	if o.test != "" {
		test = a.runsWell(s.project.Root, path, o.test)
	}
	report := view.BisectReport{Site: s.site, Environment: journal.DisplayName(environment), Path: path,
		Tested: []view.BisectTest{}}
	culprit, err := walk.Bisect(ctx, good, bad, test, func(t past.Tested) {
		one := view.NewBisectTest(t)
		report.Tested = append(report.Tested, one)
		if !a.JSON {
			view.PrintTested(a.Console, one)
		}
	})
	if refused := bisectRefused(err, o, environment); refused != nil {
		return refused
	}
	if err != nil {
		return err
	}
	report.Found(culprit)
	return a.Result(report, func() { view.PrintCulprit(a.Console, report) })
}

// That nothing is broken, or everything always was, is an answer too. It has the status of findings,
// since whoever runs this in a script wants to know that nothing was found.

// bisectRefused says what to do where there is nothing to find.
func bisectRefused(err error, o bisectOptions, environment string) error {
	name := journal.DisplayName(environment)
	switch {
	case errors.Is(err, past.ErrNeverBad):
		what := "the newest entry of " + name
		if o.bad != "" {
			what = o.bad
		}
		return fault.New(fault.Findings, "not-broken", "%s passes the test: nothing is broken there", what).
			Then("name one that fails: --bad %s:NUMBER", name)
	case errors.Is(err, past.ErrNeverGood):
		return fault.New(fault.Findings, "never-good", "every earlier entry that was tested fails too").
			Because(err).Then("name one that was good: --good %s:NUMBER", name)
	}
	return nil
}

// Without a command the question is the simplest one: does it answer. That needs no server, since what
// a release answers is decided without one.

// answersWell is the test of an address without a command.
func answersWell(path string) past.Test {
	return func(ctx context.Context, m *past.Moment, _ string) (past.Verdict, string, error) {
		a, err := m.Ask(ctx, path)
		if err != nil {
			return "", "", err
		}
		text := view.AnswerText(a)
		if a.Upstream != nil {
			return past.Skipped, text, nil // what answers there, and how it did then, is not known
		}
		if a.Status/100 == 2 {
			return past.Good, text, nil
		}
		return past.Bad, text, nil
	}
}

const (
	// cannotTell is the status by which a test says that it cannot tell, as with git bisect run.
	cannotTell = 125
	// bisectTime bounds one test.
	bisectTime = 10 * time.Minute
)

// A command says good or bad of what it gets, and must not say bad of what it is itself: one that the
// shell cannot find, or may not run, ends the search, before it names an innocent deploy.

// runsWell is a test that is a command.
func (a *bisectCmd) runsWell(folder, path, command string) past.Test {
	return func(ctx context.Context, m *past.Moment, address string) (past.Verdict, string, error) {
		entry := m.Entry
		last := "" // line that says something
		ran, err := steps.Run(ctx, steps.Spec{
			Folder: folder, Steps: []string{command}, TimeLimit: bisectTime, Log: io.Discard,
			Environment: append(process.Environment(process.Network...), "ORILLA_ADDRESS="+address+path,
				"ORILLA_ENTRY="+entry.Label(), "ORILLA_RELEASE="+entry.Release.Short(),
				"ORILLA_COMMIT="+entry.Commit),
			Line: func(line string) {
				if strings.TrimSpace(line) != "" {
					last = line
				}
			},
		})
		switch {
		case ctx.Err() != nil:
			return "", "", ctx.Err()
		case err == nil:
			return past.Good, last, nil
		case errors.Is(err, steps.ErrTimeLimit):
			return past.Skipped, "it took longer than " + console.Took(bisectTime), nil
		case len(ran) == 0:
			return "", "", err
		}
		status := ran[len(ran)-1].Exit
		text := fmt.Sprintf("status %d", status)
		if last != "" {
			text += ": " + last
		}
		switch status {
		case cannotTell:
			return past.Skipped, text, nil
		case 126, 127: // the shell's: it cannot be run, so no release is bad for it
			return "", "", fault.New(fault.Usage, "test-not-run", "the test cannot be run: %s", text).
				At("%s", command).Then("try it alone: %s", command)
		}
		return past.Bad, text, nil
	}
}
