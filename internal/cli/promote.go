package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// promoteOptions are the flags of promote.
type promoteOptions struct {
	waitOptions
	writeOptions
	site, to, why string
	yes, dryRun   bool
	again         bool
}

// promoteCmd puts a release live in another environment.
type promoteCmd struct{ activator }

func newPromoteCommand(a *app) *cobra.Command {
	c := &promoteCmd{activator{a}}
	var o promoteOptions
	cmd := &cobra.Command{
		Use:   "promote FROM --to ENVIRONMENT",
		Short: "Publish an existing release to another environment",
		Long: "Promote moves an environment to the release that another one serves, or to the " +
			"release you name: nothing is built or uploaded. Orilla first checks the release's " +
			"rules and pages as they would be there. It refuses a release whose build used its " +
			"environment (build.tell) anywhere else.",
		Example: "orilla promote staging --to production\n" +
			"orilla promote preview/winter-times --to production -m \"reviewed by Tobias\"\n" +
			"orilla promote staging --to production --wait-for /fares/",
		Args: cobra.ExactArgs(1), ValidArgsFunction: completion{a}.environments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return o.record(o.to, c.promote(cmd.Context(), o, args[0]))
		},
	}

	flags := cmd.Flags()
	flags.StringVar(&o.to, "to", "", "the `ENVIRONMENT` to move")
	siteFlag(flags, &o.site)
	flags.StringVarP(&o.why, "message", "m", "", "the `REASON`, kept in the history")
	flags.BoolVarP(&o.yes, "yes", "y", false, "assume yes to every prompt")
	o.waitOptions.flags(cmd)
	o.writeOptions.flags(cmd)
	flags.BoolVar(&o.again, "again", false, "publish it again even if it is already live")
	flags.BoolVar(&o.dryRun, "dry-run", false, "show what would go live, without doing it")
	cmd.RegisterFlagCompletionFunc("to", completion{a}.environments) //nolint:errcheck // the flag exists
	return a.jsonFlag(cmd)
}

// promote is orilla promote: it puts a release that is live in one environment
// live in another, the same bytes, built once. typed is an environment, a
// release or a commit.
func (a *promoteCmd) promote(ctx context.Context, o promoteOptions, typed string) error {
	if err := o.check(); err != nil {
		return err
	}
	s, err := a.session(ctx, o.site)
	if err == nil {
		_, err = a.load(ctx) // what production accepts must be known
	}
	if err != nil {
		return err
	}
	if o.to == "" {
		problem := fault.New(fault.Usage, "no-target", "--to is missing: which environment should "+
			"serve it?")
		for _, name := range s.project.EnvironmentNames() {
			problem = problem.Then("orilla promote %s --to %s", typed, name)
		}
		return problem
	}
	environment, err := s.project.Target(o.to, "")
	if err != nil {
		return err
	}
	from, err := findOrigin(ctx, s, typed)
	if err != nil {
		return err
	}

	// A plan without steps: where the release comes from is said by the entry
	// or the build that made it.
	plan := &site.Plan{Project: s.project, Site: s.site, Environment: environment, Origin: from.Origin,
		Message: o.why, Config: s.project.LocalConfig}
	a.Row(a.Err, "promote", console.Accent(from.Release.Short())+"  "+
		console.Accent(source.Short(from.Commit))+"  "+from.Subject+console.Faint("  -> ")+
		console.Strong(o.to))

	report := &reporter{app: a.app}
	tells(ctx, a.app, s.project, s.store, s.site, environment)
	job := a.promotion(ctx, plan, s, o, typed, report)
	if job.WaitFor, err = a.probes(plan, o.waitOptions); err != nil {
		return err
	}
	// Counted from here: what was typed at questions is not the promotion's
	// time.
	started := time.Now()
	prepared, err := deploy.PreparePromotion(ctx, job)
	if err != nil {
		return err
	}
	defer prepared.Close(ctx)
	done := deployed{job: job, report: report}
	if done.release, err = prepared.Promote(ctx, from.Release); err != nil {
		return err
	}

	if o.dryRun {
		view.ReportPromoted(a.Console, done.release)
		a.Note("%s", console.Faint("--dry-run changed nothing"))
		return nil
	}

	if done.live, err = done.release.Activate(ctx); err != nil {
		return err
	}
	view.ReportPromoted(a.Console, done.release)
	if done.verified, err = a.verify(ctx, done); err != nil {
		return err
	}
	return a.reportLive(ctx, &deployOptions{writeOptions: o.writeOptions}, done, started, started)
}

// promotion is the same job as a deploy's, but for what is asked: a promotion
// has nobody to ask about the site's name.
func (a *promoteCmd) promotion(ctx context.Context, plan *site.Plan, s *session, o promoteOptions,
	typed string, report *reporter,
) deploy.Job {
	return deploy.Job{
		Plan: plan, Store: s.store, Report: report, Now: time.Now, Cause: "command",
		Automatic: !a.Asks && !o.yes, SkipSame: !o.again,
		Ask: deploy.Questions{
			Frozen: func(head journal.Entry) error { return a.askFrozen(ctx, head, o.yes) },
			Uncontained: func(record builds.Record) error {
				return a.askUncontained(ctx, record, plan.Environment, typed, o)
			},
		},
	}
}

// askUncontained asks whether to put live what an
// untrusted branch built without isolation.
func (a *promoteCmd) askUncontained(ctx context.Context, record builds.Record, environment, typed string,
	o promoteOptions,
) error {
	refusal := deploy.UncontainedRefusal(record, environment).
		Then("or, if you have reviewed it: orilla promote %s --to %s --yes", typed, o.to)
	if o.yes {
		a.Note("%s built on the untrusted branch %s, without isolation", console.Warn("note:"), record.Branch)
		return nil
	}

	if !a.Asks {
		return refusal
	}
	agreed, err := a.Confirm(ctx, "Publish it anyway?", "It was built on the untrusted branch "+
		record.Branch+" without isolation: its files may differ from what its commit builds.", false)
	if err != nil || agreed {
		return err
	}

	return refusal
}
