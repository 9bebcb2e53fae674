package cli

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/view"
)

// What orilla domains reserve does, in its order:
//
//	load      orilla.yaml as the production branch has it: what a deploy would say
//	typed     which environments; without any, all that have addresses, and previews
//	deploy    takes the hosts, and writes one entry for each environment
//	view      what nodes answer there now
//
// Nothing of it needs a build, a node, or a name server.

// reserveCmd makes edge nodes answer at the addresses of a site before its first deploy.
type reserveCmd struct{ *domainsCmd }

func newReserveCommand(d *domainsCmd, site *string) *cobra.Command {
	c := &reserveCmd{d}
	var why string
	var yes bool
	cmd := &cobra.Command{
		Use: "reserve [ENVIRONMENT...]", Short: "Have edge nodes answer at addresses before the first deploy",
		Long: "Reserve takes the hosts of orilla.yaml for this site and tells edge nodes of its " +
			"addresses, and of the pattern of its previews: before anything is deployed there, " +
			"they answer with a page that says so, and have certificates issued. Deploying does " +
			"all of that too. \"" + journal.Previews + "\" stands for all previews.",
		Example: "orilla domains reserve\n" +
			"orilla domains reserve production --dry-run",
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := c.load(cmd.Context())
			if err != nil {
				return err
			}
			store, err := c.openStore(cmd.Context(), p, true)
			if err != nil {
				return err
			}
			list, err := c.reserve(cmd.Context(), planOf(p, *site, why), store, args, yes)
			if err != nil {
				return err
			}
			return c.Result(list, func() { view.PrintReserved(c.Console, list) })
		},
	}
	cmd.Flags().StringVarP(&why, "message", "m", "", "the `REASON`, kept in the history")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "assume yes to every prompt")
	return d.jsonFlag(dryFlag(d.app, cmd))
}

// planOf is the plan of a job that builds nothing.
func planOf(p *site.Project, name, why string) *site.Plan {
	if name == "" {
		name = p.Site()
	}
	return &site.Plan{Project: p, Site: name, Config: p.LocalConfig, Message: why}
}

// reserve reserves the addresses of environments, of all where none is named.
func (a *domainsCmd) reserve(ctx context.Context, plan *site.Plan, store storage.Store, typed []string,
	yes bool,
) ([]view.ReservedReport, error) {
	p := plan.Project
	all := append(p.EnvironmentNames(), journal.Previews)
	for _, name := range typed {
		if !slices.Contains(all, name) {
			return nil, fault.New(fault.Usage, "unknown-environment", "unknown environment %q", name).
				Then("one of: %s", strings.Join(all, ", "))
		}
	}
	if len(typed) == 0 {
		typed = all
	}
	typed = slices.DeleteFunc(slices.Clone(typed), func(name string) bool {
		return len(p.ProductionConfig.Document(name).Addresses) == 0
	})
	if len(typed) == 0 {
		problem := fault.New(fault.Usage, "no-addresses", "orilla.yaml has no addresses to reserve").
			At("%s", p.Root).Then("add environments.production.addresses: [https://www.corvane.example/]")
		if p.ProductionCommit != "" {
			problem = problem.With("addresses count once they are on the branch " +
				p.ProductionConfig.MainBranch(p.Main))
		}
		return nil, problem
	}

	job := deploy.Job{Plan: plan, Store: store, Report: &reporter{app: a.app}, Now: time.Now,
		Trial: a.dry, Cause: "command", Automatic: !a.Asks && !yes, Ask: deploy.Questions{
			Unclaimed: func() error { return (&deployCmd{activator{a.app}}).askClaim(ctx, plan, yes) },
		}}
	done, err := deploy.Reserve(ctx, job, typed)
	var list []view.ReservedReport
	for _, r := range done {
		list = append(list, view.ReportReserved(r))
	}
	return list, err
}

// Who sets records need not be who may deploy: a key for the zone and rights to the store are
// different things. So what keeps names from being reserved does not keep records from being
// set, but for a name that is somebody else's.

// reserveFirst reserves the addresses that records are going to lead here: else another site
// of the store could take a name that visitors come to already. A host that is another
// site's is an error; whatever else keeps it from being done is told.
func (a *recordsCmd) reserveFirst(ctx context.Context, n *named, yes bool) error {
	p := n.project
	if _, none := n.store.(*memory.Store); none || n.site != p.Site() {
		return nil // there is no store yet, or this folder is none of the site's
	}
	list, err := a.reserve(ctx, planOf(p, n.site, ""), n.store, nil, yes)
	switch code := fault.Code(err); {
	case err == nil:
		for _, r := range list {
			if r.State == view.Reserved {
				a.Note("%s", r.Line())
			}
		}
	case code == "host-taken", errors.Is(err, context.Canceled):
		return err
	default:
		next := "orilla domains reserve"
		if code == "no-addresses" {
			next = "commit orilla.yaml, then: orilla domains reserve"
		}
		a.Notice(fault.Notice{Code: "not-reserved", Next: next,
			What: "until the first deploy, edge nodes do not answer at these names: " + err.Error()})
	}
	return nil
}
