package cli

import (
	"context"
	"errors"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/view"
)

// pruneOptions are the flags of store prune.
type pruneOptions struct {
	releases            int
	younger, unfinished string
	keep                []string
	dryRun, yes         bool
}

// storePruneCmd is what orilla store prune does.
type storePruneCmd struct{ *app }

func newStorePruneCommand(a *app) *cobra.Command {
	c := &storePruneCmd{app: a}
	var o pruneOptions
	cmd := &cobra.Command{
		Use: "prune", Short: "Remove old releases and unused objects",
		Args: cobra.NoArgs,
		Long: "Prune keeps what is live, the last releases of each environment, releases that were " +
			"live lately, those whose assets still answer (assets.keep), and the releases named " +
			"with --keep; retention in orilla.yaml sets numbers and times (10, and 30 days). It " +
			"removes everything else. It waits for running deploys, and they wait for it if needed.",
		Example: "orilla store prune --dry-run\norilla store prune --releases 3 --younger-than 7d",
		RunE:    func(cmd *cobra.Command, _ []string) error { return c.prune(cmd.Context(), cmd, o) },
	}

	flags := cmd.Flags()
	flags.IntVar(&o.releases, "releases", journal.DefaultRetention.Releases,
		"keep the last `NUMBER` releases of each environment")
	flags.StringVar(&o.younger, "younger-than", "",
		"keep what was live within this `DURATION`, such as 7d")

	flags.StringArrayVar(&o.keep, "keep", nil, "keep this `RELEASE` too (repeatable)")
	flags.StringVar(&o.unfinished, "unfinished", "24h",
		"keep objects of unfinished uploads for this `DURATION`")
	flags.BoolVar(&o.dryRun, "dry-run", false, "show what would be removed, without doing it")
	flags.BoolVarP(&o.yes, "yes", "y", false, "assume yes to every prompt")
	return a.jsonFlag(cmd)
}

// policy makes a policy of the flags; given tells which were really typed,
// since their defaults must not override what environments say.
func (o pruneOptions) policy(given func(flag string) bool) (maintenance.Policy, error) {
	grace, err := project.ParseDuration(o.unfinished)
	if err != nil {
		return maintenance.Policy{}, fault.New(fault.Usage, "usage",
			"--unfinished %s: not a duration, such as 24h", o.unfinished)
	}

	policy := maintenance.Policy{Keep: o.keep, Grace: time.Duration(grace)}
	for _, name := range o.keep {
		if len(name) < 12 || name[:2] != "r-" {
			return policy, fault.New(fault.Usage, "usage",
				"--keep %s: write a release as r- and ten digits or more", name).
				Then("orilla history")
		}
	}

	if given("releases") || given("younger-than") {
		// Said on the command line, it counts for every environment, whatever
		// each says itself.
		retention := journal.DefaultRetention
		retention.Releases = o.releases
		if o.releases < 1 {
			return policy, fault.New(fault.Usage, "usage",
				"--releases %d: the minimum is 1, the live release", o.releases)
		}

		if o.younger != "" {
			age, err := project.ParseDuration(o.younger)
			if err != nil {
				return policy, fault.New(fault.Usage, "usage", "--younger-than %s: not a duration, "+
					"such as 7d",
					o.younger)
			}
			retention.Seconds = int64(time.Duration(age) / time.Second)
		}
		policy.Retention = &retention
	}

	return policy, nil
}

// prune is orilla store prune: it removes what no release that is kept needs.
// It waits for deploys that are at work, and they for it if they need what goes
// (package pins).
func (a *storePruneCmd) prune(ctx context.Context, cmd *cobra.Command, o pruneOptions) error {
	policy, err := o.policy(cmd.Flags().Changed)
	if err != nil {
		return err
	}
	p, err := a.load(ctx)
	if err != nil {
		return err
	}

	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	tell, end := a.working()
	plan, err := maintenance.Plan(ctx, store, p.Person(ctx), policy, tell)
	end()
	if err != nil {
		return view.Unprunable(store, err)
	}

	// Shown before it is asked about, so that the answer is about something.
	planned := plan.Result()
	if !a.JSON {
		view.PrintPruned(a.Console, planned, "would be removed")
	}
	nothing := planned.Objects+planned.Variants+planned.Builds+len(planned.Releases)+planned.TrafficDays+
		planned.TrafficGone+planned.Pictures == 0
	if o.dryRun || nothing {
		if a.JSON {
			return a.Document(view.NewPruneReport(planned, o.dryRun))
		}
		if o.dryRun {
			a.Note("%s", console.Faint("--dry-run changed nothing"))
		}
		return nil
	}

	if !o.yes {
		if err := a.confirmPrune(ctx); err != nil {
			return err
		}
	}
	return a.carryOut(ctx, store, plan)
}

// confirmPrune asks whether to remove what was shown.
func (a *storePruneCmd) confirmPrune(ctx context.Context) error {
	ok, err := a.Confirm(ctx, "Delete it for good?", "You cannot roll back to deleted releases.", false)
	if errors.Is(err, console.ErrNobody) || err == nil && !ok {
		return fault.New(fault.Refused, "not-confirmed", "nothing removed").Then("add --yes to delete it")
	}
	return err
}

// What is shown before and what is told after need not be the same: a deploy that began meanwhile may
// need again what was to go.

// carryOut removes what a plan says, and tells what was removed.
func (a *storePruneCmd) carryOut(ctx context.Context, store storage.Store, plan *maintenance.Pruning) error {
	tell, end := a.working()
	waits := func(waiting []pins.Waiting) { view.ShowWaiting(a.Console, waiting) }
	done, err := plan.CarryOut(ctx, waits, tell)
	end()
	if err != nil {
		return view.Unprunable(store, err)
	}

	return a.Result(view.NewPruneReport(done, false), func() {
		view.PrintRemoved(a.Console, done)
	})
}
