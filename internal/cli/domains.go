package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// Two things are called a name here, and they are kept apart: whether the world finds the site (DNS,
// certificates, redirects), which is looked at from outside and changed at others; and which site of
// the store a host belongs to, which is a record of the store, changed here and at once.
//
//	orilla domains                     both, host by host
//	domains records                    what DNS needs
//	domains give, release, allow       whose a host is

// domainsCmd shows and changes whom hosts belong to.
type domainsCmd struct{ *app }

func newDomainsCommand(a *app) *cobra.Command {
	c := &domainsCmd{app: a}
	var site string
	var look lookOptions
	cmd := &cobra.Command{
		Use: "domains", Short: "Check the names of a site: DNS, certificates, redirects",
		Args: cobra.NoArgs,
		Long: "Domains shows for each address of the site where its name leads, whether an edge " +
			"node of this store answers there, and what http and https answer. What is wrong " +
			"comes with the record or the command that fixes it.\n\n" +
			"A host belongs to the first site that was published on it. Orilla refuses other " +
			"sites of the store there, unless the owner allows them a path. *.NAME covers all " +
			"names one label below NAME that have no owner of their own.",
		Example: "orilla domains\n" +
			"orilla domains --wait\n" +
			"orilla domains reserve\n" +
			"orilla domains records\n" +
			"orilla domains give www.corvane.example --to harbour\n" +
			"orilla domains allow www.corvane.example/news/ --to harbour",
		RunE: func(cmd *cobra.Command, _ []string) error { return c.domains(cmd.Context(), site, look) },
	}

	siteFlag(cmd.PersistentFlags(), &site)
	look.flags(cmd)
	records, reserve := newRecordsCommand(c, &site), newReserveCommand(c, &site)
	var o domainOptions
	give := &cobra.Command{
		Example: "orilla domains give www.corvane.example --to harbour",
		Use:     "give HOST", Short: "Hand a host over to another site", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.moveHost(cmd.Context(), site, args[0], o, true)
		},
	}

	release := &cobra.Command{
		Example: "orilla domains release www.corvane.example",
		Use:     "release HOST", Short: "Release a host for other sites", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.moveHost(cmd.Context(), site, args[0], o, false)
		},
	}

	allow := &cobra.Command{
		Example: "orilla domains allow www.corvane.example/news/ --to harbour",
		Use:     "allow HOST/PATH", Short: "Allow another site to use a path on a host",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.allowPath(cmd.Context(), site, args[0],
				o)
		},
	}

	for _, sub := range []*cobra.Command{give, release, allow} {
		sub.Flags().StringVarP(&o.why, "message", "m", "", "the `REASON`, kept in the history")
		if sub != release {
			sub.Flags().StringVar(&o.to, "to", "", "the other `SITE`")
		}
		if sub != allow {
			sub.Flags().BoolVarP(&o.yes, "yes", "y", false, "assume yes to every prompt")
		}
		a.jsonFlag(dryFlag(a, sub))
	}
	inOrder(cmd, reserve, records, give, allow, release)
	allow.Flags().BoolVar(&o.revoke, "revoke", false, "withdraw the permission")
	return a.jsonFlag(cmd)
}

// domainOptions are what the commands about hosts take.
type domainOptions struct {
	to, why     string
	yes, revoke bool
}

// hostsInUse returns the hosts that the environments of a site answer at now,
// and which environments those are, as people write them.
func hostsInUse(ctx context.Context, s *session) (map[string][]string, error) {
	states, err := environments.States(ctx, s.store, s.site, nil, nil)
	if err != nil {
		return nil, err
	}
	on := map[string][]string{}
	for _, state := range states {
		if state.Head == nil {
			continue
		}
		name := journal.DisplayName(state.Name)
		for _, address := range s.live(ctx, state.Head.Document) {
			if host, _, err := hosts.Of(address); err == nil && !slices.Contains(on[host], name) {
				on[host] = append(on[host], name)
			}
		}
	}

	return on, nil
}

// mine opens the store for whoever owns the site.
func (a *domainsCmd) mine(ctx context.Context, name string) (*session, *environments.Operator, error) {
	s, err := a.session(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	// Whoever can write to the store could hand over anything; this keeps
	// mistakes out, and the store's rights keep out the rest.
	if _, err := site.CheckClaim(ctx, s.project, s.store, s.site, false,
		func() error { return nil }); err != nil {
		return nil, nil, err
	}
	operator, err := environments.NewOperator(ctx, s.project, s.store, s.site, "command", "domains")
	return s, operator, err
}

// otherSite makes sure that a site that is to have something is one.
func otherSite(ctx context.Context, s *session, to string) error {
	switch {
	case to == "":
		return fault.New(fault.Usage, "usage", "name the other site").
			Then("add --to SITE; to list sites: orilla sites")
	case !project.IsLabel(to) || to == s.site:
		return fault.New(fault.Usage, "bad-site", "%q is not another site", to).
			Then("orilla sites")
	}

	_, err := s.store.Stat(ctx, storage.ClaimKey(to))
	if errors.Is(err, storage.ErrNotFound) {
		return fault.New(fault.Usage, "unknown-site", "the store has no site %q", to).
			At("%s", s.store.Address()).Then("orilla sites")
	}
	return err
}

// moveHost hands a host to another site (give), or gives it up. Either is one
// entry in the host's journal, and it asks first: the other site replaces this
// one there.
func (a *domainsCmd) moveHost(ctx context.Context, site, host string, o domainOptions, give bool) error {
	s, operator, err := a.mine(ctx, site)
	if err != nil {
		return err
	}
	defer operator.Close(ctx)

	if give {
		if err := otherSite(ctx, s, o.to); err != nil {
			return err
		}
	}

	if !o.yes {
		question, consequence := "Hand "+host+" over to "+o.to+"?", o.to+" replaces "+s.site+
			" there with its next deploy."
		if !give {
			question, consequence = "Give up "+host+"?", "The next site that deploys to it becomes its owner."
		}

		ok, err := a.Confirm(ctx, question, consequence, false)
		if errors.Is(err, console.ErrNobody) || err == nil && !ok {
			return fault.New(fault.Refused, "not-confirmed",
				"changing the owner of a host needs a confirmation").At("%s", host).
				Then("run it on a terminal, or add --yes")
		}
		if err != nil {
			return err
		}
	}

	entry, err := operator.AppendHost(ctx, host, hosts.HandOver(s.site, o.to, operator.Who, o.why,
		operator.Now()))
	if err != nil {
		return err
	}

	if a.JSON {
		return a.Document(view.ReportHost(entry))
	}
	if give {
		a.Print("%s: %s now belongs to %s", console.Good("handed over"), console.Strong(host), o.to)
		a.Note("%s add the address to orilla.yaml of %s and deploy there; until then %s stays live",
			console.Accent("next:"), o.to, s.site)
		return nil
	}
	a.Print("%s: %s has no owner", console.Good("given up"), console.Strong(host))
	return nil
}

// allowPath lets another site have HOST/PATH, or takes that back. The owner
// stays the owner: it can always take back, and serves what is left.
func (a *domainsCmd) allowPath(ctx context.Context, site, where string, o domainOptions) error {
	host, path, ok := strings.Cut(where, "/")
	if !ok || strings.Trim(path, "/") == "" {
		return fault.New(fault.Usage, "usage", "%s: write HOST/PATH, such as www.corvane.example/news/",
			where).Then("to give the whole host: orilla domains give HOST --to SITE")
	}

	s, operator, err := a.mine(ctx, site)
	if err != nil {
		return err
	}
	defer operator.Close(ctx)

	if !o.revoke {
		if err := otherSite(ctx, s, o.to); err != nil {
			return err
		}
	}

	entry, err := operator.AppendHost(ctx, host, hosts.Allow(s.site, hosts.Grant{Site: o.to, Path: path},
		o.revoke, operator.Who, o.why, operator.Now()))
	if err != nil {
		return err
	}

	if a.JSON {
		return a.Document(view.ReportHost(entry))
	}
	if o.revoke {
		a.Print("%s: %s may no longer use %s", console.Good("revoked"), o.to, where)
		return nil
	}
	a.Print("%s: %s may use %s", console.Good("allowed"), o.to, console.Strong(where))
	return nil
}
