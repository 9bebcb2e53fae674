package cli

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// errUnknownRelease: what was typed names no release.
var errUnknownRelease = errors.New("unknown release")

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
		Short: "Put live elsewhere what an environment serves: the same release, without a build",
		Long: "Promote points an environment at the very release that another one serves, or that is " +
			"named: nothing is built or uploaded. What is\n" +
			"expected of the release's rules and pages is looked at first, as it would be there. A " +
			"release whose build was told where it goes\n" +
			"(build.tell) is refused elsewhere.",
		Example: "  orilla promote staging --to production\n" +
			"  orilla promote preview/winter-times --to production -m \"reviewed by Tobias\"\n" +
			"  orilla promote staging --to production --wait-for /fares/ --wait-for \"npm run audit\"",
		Args: cobra.ExactArgs(1), ValidArgsFunction: completion{a}.environments,
		RunE: func(cmd *cobra.Command, args []string) error { return c.promote(cmd.Context(), o, args[0]) },
	}

	flags := cmd.Flags()
	flags.StringVar(&o.to, "to", "", "the `ENVIRONMENT` to move")
	siteFlag(flags, &o.site)
	flags.StringVarP(&o.why, "message", "m", "", "say why")
	flags.BoolVar(&o.yes, "yes", false, "answer yes to what would be asked")
	o.waitOptions.flags(cmd)
	o.writeOptions.flags(cmd)
	flags.BoolVar(&o.again, "again", false, "publish it again even if it is already live there")
	flags.BoolVar(&o.dryRun, "dry-run", false, "say what would be live, and stop")
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
	if err != nil {
		return err
	}
	if o.to == "" {
		problem := fault.New(fault.Usage, "no-target", "say which environment should serve it")
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
		a.Note("%s", console.Faint("nothing was done: --dry-run"))
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
		Then("or, if you have looked at it: orilla promote %s --to %s --yes", typed, o.to)
	if o.yes {
		a.Note("%s built on the untrusted branch %s, without isolation", console.Warn("note:"), record.Branch)
		return nil
	}

	if !a.Asks {
		return refusal
	}
	agreed, err := a.Confirm(ctx, "Put it live anyway?", "It was built on the untrusted branch "+
		record.Branch+" without isolation: its files may be something else than its commit makes.", false)
	if err != nil || agreed {
		return err
	}

	return refusal
}

// findOrigin finds the release that was typed, and where
// it came from: an environment, an entry, a release, or a
// commit or branch whose release was live somewhere.
func findOrigin(ctx context.Context, s *session, typed string) (journal.Entry, error) {
	// production:12 is an entry only if production is an environment; a commit
	// can be named HEAD:12 or so as well.
	if name, number, ok := strings.Cut(typed, ":"); ok {
		n, err := strconv.ParseInt(number, 10, 64)
		environment, named := s.named(ctx, name)
		if err == nil && named == nil {
			entry, err := s.journal(environment).Get(ctx, n)
			if errors.Is(err, storage.ErrNotFound) || err == nil && entry.Release.IsZero() {
				return entry, fault.New(fault.Usage, "bad-entry", "there is no entry %s with a release",
					typed).Then("orilla history %s lists them", name)
			}
			return entry, err
		}
	}

	// What is live comes before what was built: it has been looked at.
	if environment, err := s.named(ctx, typed); err == nil {
		head, err := s.head(ctx, environment)
		if errors.Is(err, journal.ErrEmpty) || err == nil && head.Release.IsZero() {
			return head, fault.New(fault.Failed, "nothing-live", "%s serves nothing yet", typed).
				Then("orilla deploy --to %s", typed)
		}
		return head, err
	}

	var id release.ID
	commit := typed
	if strings.HasPrefix(typed, "r-") {
		var err error
		if id, err = s.findRelease(ctx, typed); err != nil {
			return journal.Entry{}, err
		}
	} else if s.project.Repository != nil {
		if found, err := s.project.Repository.Commit(ctx, typed); err == nil {
			commit = found.Hash
		}
	}

	// A commit or a release that was never live anywhere is found among the
	// builds.
	runs, err := lastRuns(ctx, s, "", 0)
	if err != nil {
		return journal.Entry{}, err
	}
	for _, run := range runs {
		if run.Ended == nil || run.Ended.Release.IsZero() ||
			run.Ended.Release != id &&
				(!id.IsZero() || len(commit) < 7 || !strings.HasPrefix(run.Commit, commit)) {
			continue
		}
		return journal.Entry{Release: run.Ended.Release, Origin: journal.Origin{Source: run.Source,
			Commit: run.Commit, Branch: run.Branch, Subject: run.Subject, Build: run.Ended.Build}}, nil
	}

	return journal.Entry{}, fault.New(fault.Usage, "unknown-release",
		"%q is neither an environment nor an entry, and no build made a release of it", typed).
		Marked(errUnknownRelease).
		Then("orilla status lists environments, orilla builds what was built").
		Then("to build a commit and put it there: orilla deploy %s --to ENVIRONMENT", typed)
}
