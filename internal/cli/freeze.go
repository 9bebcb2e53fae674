package cli

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// freezeOptions are the flags of freeze and thaw.
type freezeOptions struct {
	writeOptions
	waitOptions
	site, why              string
	until, length          string // one of them, or neither
	dryRun, yes, leaveLive bool
}

// flags adds what freeze and thaw have in common; why is what the message is
// for.
func (o *freezeOptions) flags(cmd *cobra.Command, why string) {
	siteFlag(cmd.Flags(), &o.site)
	cmd.Flags().StringVarP(&o.why, "message", "m", "", why)
	cmd.Flags().BoolVar(&o.dryRun, "dry-run", false, "show what would change, without doing it")
}

// checkEnd refuses an end that is no time, before the store is asked. Whether it is
// past depends on the site's time zone, which is not known by then.
func (o *freezeOptions) checkEnd(now time.Time) error {
	if o.until != "" && o.length != "" {
		return fault.New(fault.Usage, "usage", "--for and --until exclude each other").
			Then("leave one of them out")
	}
	if o.length != "" {
		if length, err := project.ParseDuration(o.length); err != nil || length == 0 {
			return fault.New(fault.Usage, "bad-time", "--for: not a duration: %q", o.length).
				Then("write 90m, 2h or 3d")
		}
	}
	if o.until != "" {
		if _, err := project.ParseMoment(o.until, now.AddDate(0, 0, -2), time.UTC); err != nil {
			return fault.New(fault.Usage, "bad-time", "--until: %s", err)
		}
	}
	return nil
}

// freezeCmd keeps automation out of an environment, and lets it in again.
type freezeCmd struct{ activator }

func newFreezeCommand(a *app) *cobra.Command {
	c := &freezeCmd{activator{a}}
	var o freezeOptions
	cmd := &cobra.Command{
		Use: "freeze [ENVIRONMENT]", Short: "Stop automatic deploys to an environment",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.environments,
		Long: "Freeze keeps the live release in place: over holidays, or during an incident. " +
			"Orilla still builds new commits; they wait, and thaw shows them. A person on a " +
			"terminal can still deploy, after a warning.",
		Example: "orilla freeze -m \"the queue at the ticket office\"\n" +
			"orilla freeze --until 2026-12-27T08:00 -m \"nobody is here over Christmas\"\n" +
			"orilla freeze staging --for 2h",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.freeze(cmd.Context(), o,
				argument(args, 0))
		},
	}

	o.flags(cmd, "the `REASON`, shown to everyone who is refused")
	cmd.Flags().StringVar(&o.length, "for", "", "freeze for this `DURATION`, such as 2h or 3d")
	cmd.Flags().StringVar(&o.until, "until", "",
		"freeze until this `TIME`, such as 2026-12-27 or 2026-12-27T08:00")
	return a.jsonFlag(cmd)
}

func newThawCommand(a *app) *cobra.Command {
	c := &freezeCmd{activator{a}}
	var o freezeOptions
	cmd := &cobra.Command{
		Example: "orilla thaw\norilla thaw production --leave-live",
		Use:     "thaw [ENVIRONMENT]", Short: "Accept automatic deploys again",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.environments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return o.record(argument(args, 0), c.thaw(cmd.Context(), o, argument(args, 0)))
		},
	}

	o.flags(cmd, "the `REASON`, kept in the history")
	o.waitOptions.flags(cmd)
	o.writeOptions.flags(cmd)
	cmd.Flags().BoolVarP(&o.yes, "yes", "y", false, "publish the pending release without asking")
	cmd.Flags().BoolVar(&o.leaveLive, "leave-live", false,
		"only thaw, publish nothing now (a running orilla follow publishes the newest commit)")
	return a.jsonFlag(cmd)
}

// operator returns who changes environments for a command.
func (s *session) operator(ctx context.Context, what string) (*environments.Operator, error) {
	operator, err := environments.NewOperator(ctx, s.project, s.store, s.site, "command", what)
	if err == nil {
		s.waker = operator.Waker() // what nodes said to it need not be asked again
	}
	return operator, err
}

// operatorOf opens the site's store for a command that changes the environment
// that was typed. The caller closes the operator.
func (a *app) operatorOf(ctx context.Context, site, typed, what string,
) (s *session, environment string, operator *environments.Operator, err error) {
	if s, err = a.session(ctx, site); err == nil {
		environment, err = s.named(ctx, typed)
	}
	if err != nil {
		return s, environment, nil, err
	}
	var unfinished []environments.Checking
	var unknown error
	var asking sync.WaitGroup
	asking.Go(func() {
		unfinished, unknown = environments.RecordUnfinished(ctx, s.store, s.site,
			time.Now().Add(storage.KnownAhead(s.store)))
	})
	operator, err = s.operator(ctx, what)
	asking.Wait()
	for _, one := range unfinished {
		a.Notice(one.Notice())
	}
	if err == nil && unknown != nil {
		operator.Close(ctx)
		err = unknown
	}
	if err == nil {
		tells(ctx, a, s.project, s.store, s.site, environment)
	}
	return s, environment, operator, err
}

// A freeze is an entry like any other: it is in the history, with who did it and why, and edge nodes
// need not know of it.

// freeze is orilla freeze: from its entry on, no automatic deploy moves the
// environment. What is built meanwhile waits, and is put live by a thaw.
func (a *freezeCmd) freeze(ctx context.Context, o freezeOptions, typed string) error {
	if err := o.checkEnd(a.Now()); err != nil {
		return err
	}
	s, environment, operator, err := a.operatorOf(ctx, o.site, typed, "freeze")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)
	frozen := &journal.Frozen{Who: operator.Who, When: operator.Now().UTC().Truncate(time.Millisecond),
		Why: o.why}

	until := ""
	if o.length != "" {
		o.until = o.length
	}
	if o.until != "" {
		zone := s.project.ProductionConfig.Zone()
		end, err := project.ParseMoment(o.until, operator.Now(), zone)
		if err != nil {
			return fault.New(fault.Usage, "bad-time", "--until: %s", err)
		}
		frozen.Until, until = &end, " until "+view.Moment(end)
	}

	name := journal.DisplayName(environment)
	if o.dryRun {
		a.Note("%s would be frozen%s; --dry-run changed nothing", name, until)
		return nil
	}

	entry, err := operator.Append(ctx, environment, journal.SetFrozen(frozen, "command", operator.Who, o.why,
		operator.Now()))
	if err != nil {
		return rollbackRefused(s, environment, err)
	}

	return a.Result(view.DescribeEntry(entry, nil, entry.Number), func() {
		a.Print("%s is %s%s; automatic deploys wait until %s", name, console.Warn("frozen"), until,
			a.Command("orilla thaw "+name))
	})
}

// thaw is orilla thaw: it ends a freeze and, if releases wait, asks whether the
// newest of them goes live in the same entry. There is no moment between the
// two at which another could step in.
func (a *freezeCmd) thaw(ctx context.Context, o freezeOptions, typed string) error {
	if err := o.check(); err != nil {
		return err
	}
	s, environment, operator, err := a.operatorOf(ctx, o.site, typed, "thaw")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)
	head, err := s.head(ctx, environment)
	if err != nil {
		return rollbackRefused(s, environment, err)
	}

	waiting, err := environments.WaitingFor(ctx, s.store, s.site, head)
	if err != nil {
		return err
	}
	waits := environments.Thawing(waiting)
	if err := a.showWaiting(ctx, s, head, waiting); err != nil {
		return err
	}

	name := journal.DisplayName(environment)
	if o.dryRun {
		a.Note("%s would be thawed; --dry-run changed nothing", name)
		return nil
	}

	if o.leaveLive {
		waits = nil
	}
	if waits != nil && !o.yes {
		about := "It replaces " + head.Release.Short() +
			". \"no\" changes nothing; --leave-live thaws without publishing."
		sure, err := a.Confirm(ctx, "Thaw "+name+" and publish "+source.Short(waits.Commit)+"?", about, true)
		if errors.Is(err, console.ErrNobody) {
			return fault.New(fault.Refused, "build-waits", "a thaw would publish %s", waits.Release.Short()).
				At("%s", name).
				Then("to publish it: orilla thaw %s --yes", name).
				Then("to only thaw: orilla thaw %s --leave-live", name)
		}
		if err != nil || !sure {
			return err
		}
	}

	return a.thawNow(ctx, s, o, operator, head, waits)
}

// thawNow ends a freeze and publishes what waits, nil for nothing. Then it is checked, as
// any release that goes live: what does not pass goes back, and freezes again.
func (a *freezeCmd) thawNow(ctx context.Context, s *session, o freezeOptions, operator *environments.Operator,
	head journal.Entry, waits *environments.PendingRelease,
) error {
	environment, name := head.Environment, journal.DisplayName(head.Environment)
	list, err := o.list(a.app)
	if list == nil && err == nil {
		list = s.project.ProductionConfig.WaitFor(environment)
	}
	if err != nil {
		return err
	}
	if waits == nil {
		list = nil // nothing moves
	}
	checks, end, err := a.checks(ctx, s, environment, list)
	if err != nil {
		return err
	}
	defer end()
	began := time.Now()
	entry, err := operator.Thaw(ctx, head, o.why, waits)
	if errors.Is(err, journal.ErrAlready) {
		a.Note("%s is not frozen", name)
		return nil
	}
	if err != nil {
		return rollbackRefused(s, environment, err)
	}

	took := time.Since(began)
	if checks != nil {
		checks.live = deploy.Entered(checks.prepared, entry, &head)
		if _, err := a.verify(ctx, *checks); err != nil {
			return err
		}
	}
	return a.reportThawed(ctx, s, o, entry, waits != nil, took)
}

// reportThawed tells that an environment accepts automatic deploys again, and
// what went live with that.
func (a *freezeCmd) reportThawed(ctx context.Context, s *session, o freezeOptions, entry journal.Entry,
	moved bool, took time.Duration,
) error {
	flip := flipped(ctx, s, entry)
	nodes := flip.Nodes
	name := journal.DisplayName(entry.Environment)
	if moved {
		address := s.addresses(ctx, entry.Environment, entry.Document, nodes)[0]
		values := view.MovedValues(s.site, entry, address, nodes)
		values.Took = took
		if err := o.save(values); err != nil {
			return err
		}
	}
	if a.JSON {
		return a.Document(view.DescribeEntry(entry, nil, entry.Number))
	}
	if !moved {
		a.Print("%s accepts automatic deploys again; live is %s", name, entry.Release.Short())
		return nil
	}

	a.Row(a.Err, "live", console.Good(entry.Label())+flip.Text(took))
	a.Print("%s accepts automatic deploys again; live is %s  %s  %s", name, entry.Release.Short(),
		source.Short(entry.Commit), entry.Subject)
	a.Hint("undo:", "orilla rollback"+view.EnvironmentArgument(entry.Environment))
	return nil
}

// showWaiting tells what waits for a thaw, and how the
// newest differs from what is live.
func (a *freezeCmd) showWaiting(ctx context.Context, s *session, head journal.Entry,
	waiting []environments.PendingRelease,
) error {
	if len(waiting) == 0 {
		return nil
	}
	a.Row(a.Err, "now", head.Release.Short()+"  "+console.Accent(source.Short(head.Commit))+"  "+head.Subject)

	for i, waits := range waiting {
		text := waits.Release.Short() + "  " + console.Accent(source.Short(waits.Commit)) + "  " +
			waits.Subject + console.Faint("  built "+a.Age(waits.When)+" by "+source.PersonName(waits.Who))
		a.Row(a.Err, console.Label("next", i), text)
		if i == 0 {
			changes, err := compared(ctx, s, head.Release, waits.Release)
			if err != nil {
				return err
			}
			a.Row(a.Err, "", console.Faint(a.Complete(changes)))
		}
	}

	if n := len(waiting) - 1; n > 0 {
		a.Note("  %s", console.Faint(fmt.Sprintf("the %d below are older and will not go live",
			n)))
	}
	return nil
}

// compared counts how the files of two releases differ.
func compared(ctx context.Context, s *session, before, after release.ID) (string, error) {
	old, err := release.Read(ctx, s.store, s.site, before)
	if err != nil {
		return "", err
	}
	next, err := release.Read(ctx, s.store, s.site, after)
	if err != nil {
		return "", err
	}

	changes, err := release.Compare(ctx, old, next)
	if err != nil {
		return "", err
	}
	if len(changes) == 0 {
		return "the same files; rules or settings differ", nil
	}
	return view.Changed(deploy.CountChanges(changes)) + "; compare: orilla diff " + before.Short() + " " +
		after.Short(), nil
}
