package cli

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/domains"
	"orilla.example/orilla/internal/nameservers"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/store/trial"
	"orilla.example/orilla/internal/view"
)

// What orilla domains does, in its order:
//
//	named    the site, its orilla.yaml, and which hosts there are
//	owners   whose each host is in the store: the command's rows
//	watch    what name servers, edge nodes, http and https say, again and again with --wait
//	view     the rows, what is wrong, and what mends it
//
// A site need not have been deployed, and its store need not be there: records are set
// before either. Who does not want anybody to be asked names the resolver "none".

// lookOptions are how names are looked at.
type lookOptions struct {
	resolver, roots, lasts string
	wait                   bool
}

// nobody is the resolver of those who do not want to ask any.
const nobody = "none"

// resolverVariable names the resolver where no option does.
const resolverVariable = "ORILLA_RESOLVER"

// flags adds the options.
func (o *lookOptions) flags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&o.wait, "wait", false, "wait until all name servers and caches agree")
	cmd.Flags().StringVar(&o.lasts, "for", "30m", "with --wait: give up after this `TIME`")
	o.askFlags(cmd)
}

// askFlags adds what says whom to ask.
func (o *lookOptions) askFlags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.resolver, "resolver", "",
		"ask the resolver at this `ADDRESS` (HOST[:PORT]; default: this machine's); on another port "+
			"than 53, name servers are asked there too; \""+nobody+"\" asks nobody")
	cmd.Flags().StringVar(&o.roots, "authority", "",
		"trust certificates of the authority in this PEM `FILE` as well")
}

// askerOf returns who asks name servers; nil to ask nobody.
func askerOf(o lookOptions) (*nameservers.Asker, error) {
	resolver := cmp.Or(o.resolver, os.Getenv(resolverVariable))
	switch resolver {
	case nobody:
		return nil, nil //nolint:nilnil // nobody is asked
	case "":
		found, err := nameservers.Resolver()
		if err != nil {
			return nil, fault.New(fault.Failed, "no-resolver",
				"cannot find out which resolver this machine uses").
				Because(err).Then("name one: --resolver 192.0.2.53")
		}
		return &nameservers.Asker{Resolver: found}, nil
	}
	host, port, err := net.SplitHostPort(resolver)
	if err != nil {
		host, port = strings.Trim(resolver, "[]"), "53"
	}
	if net.ParseIP(host) == nil {
		return nil, fault.New(fault.Usage, "usage", "--resolver %s: not an address", resolver).
			Then("write one such as 192.0.2.53, or 127.0.0.1:7453")
	}
	// A resolver on another port is none of the world's: neither are the servers it knows. So
	// one option is enough to try everything without a network.
	return &nameservers.Asker{Resolver: net.JoinHostPort(host, port), Port: port}, nil
}

// lookerOf returns who looks at names; nil where nobody is to be asked.
func lookerOf(ctx context.Context, a *app, o lookOptions, store storage.Store) (*domains.Looker, error) {
	asker, err := askerOf(o)
	if err != nil || asker == nil {
		return nil, err
	}
	// Without the store's mark nothing can be proved; that is told with each address, and
	// keeps nobody from seeing the rest.
	l := &domains.Looker{Asker: *asker, Now: a.Now}
	if data, err := store.Get(ctx, storage.MarkKey); err == nil {
		l.Store, _ = storage.CheckMark(data) // without an id nothing is proved
	}
	if o.roots == "" {
		return l, nil
	}
	data, err := os.ReadFile(a.path(o.roots))
	if err != nil {
		return nil, fault.New(fault.Usage, "usage", "--authority: cannot read the file").At("%s",
			o.roots).Because(err)
	}
	if l.Roots, err = x509.SystemCertPool(); err != nil {
		l.Roots = x509.NewCertPool() // there is none on this machine
	}
	if !l.Roots.AppendCertsFromPEM(data) {
		return nil, fault.New(fault.Usage, "usage", "--authority: no certificate in the file").At("%s",
			o.roots)
	}
	return l, nil
}

// named is a site whose names are looked at: also one that was never deployed.
type named struct {
	*session
	config project.Config
	edge   names.Edge
	hosts  []names.Host
}

// named opens the store and finds the names of a site: of orilla.yaml as it is here, and of
// what is live.
func (a *domainsCmd) named(ctx context.Context, name string) (*named, error) {
	loaded, mistakes, err := site.LoadAnyway(ctx, a.folder, a.places)
	if err != nil {
		return nil, err
	}
	// Records are set before the first deploy, so what is here counts; a mistake in it is
	// told, as far as it is about this site.
	if len(mistakes) > 0 && name == "" {
		return nil, mistakes[0]
	}
	own := loaded.Site()
	n := &named{}
	switch there, err := a.session(ctx, name); {
	case err == nil:
		n.session = there
	case own != "" && (name == "" || name == own) && slices.Contains([]string{"unknown-site", "no-store"},
		fault.Code(err)):
		// Records are set before there is a site, or even a store: nothing is live then.
		store, err := a.openStore(ctx, loaded, false)
		if errors.Is(err, storage.ErrNone) {
			store, err = &memory.Store{}, nil
		}
		if err != nil {
			return nil, err
		}
		n.session = &session{project: loaded, store: store, site: own}
	default:
		return nil, err
	}
	if n.site == own {
		n.config = loaded.LocalConfig
	}
	if n.hosts, err = n.config.Hosts(); err != nil {
		return nil, fault.New(fault.Usage, "config", "%s", err).At("%s", project.FileName)
	}
	n.edge, err = names.ParseEdge(n.config.EdgeAddresses)
	return n, err
}

// domains looks at the names of a site.
func (a *domainsCmd) domains(ctx context.Context, name string, o lookOptions) error {
	// Mistakes in options are told before anybody is asked.
	lasts, err := project.ParseDuration(o.lasts)
	if err != nil {
		return fault.New(fault.Usage, "usage", "--for: %s", err)
	}
	n, err := a.named(ctx, name)
	if err != nil {
		return err
	}
	looker, err := lookerOf(ctx, a.app, o, n.store)
	if err != nil {
		return err
	}
	reports, err := a.owners(ctx, n)
	if err != nil {
		return err
	}
	open := readableByStrangers(ctx, n.store)
	if open {
		a.Notice(fault.Notice{Code: "store-readable",
			What: "anyone can read " + n.store.Address() +
				" without credentials, even password-protected sites",
			Next: "disable public access of the bucket"})
	}
	gaveUp := false
	if looker != nil && len(n.hosts) > 0 {
		if reports, gaveUp, err = a.watch(ctx, n, looker, reports, o.wait, time.Duration(lasts)); err != nil {
			return err
		}
	}
	if err := a.Result(reports, func() { view.PrintDomains(a.Console, n.site, reports) }); err != nil {
		return err
	}
	// A name that waits is no mistake of the site's: only who wanted to wait for it has
	// something to be told.
	if gaveUp {
		return fault.New(fault.Failed, "still-waiting", "gave up after %s", console.Took(time.Duration(
			lasts))).
			Then("orilla domains --wait --for 2h")
	}
	if open || slices.ContainsFunc(reports,
		func(r view.DomainReport) bool { return r.State == names.Bad }) {
		return &exitError{int(fault.Findings)}
	}
	return nil
}

// readableByStrangers reports whether a store answers whoever has no credentials.
func readableByStrangers(ctx context.Context, store storage.Store) bool {
	bucket, ok := trial.Beneath(store).(*s3.Store)
	if !ok {
		return false
	}
	readable, err := bucket.Stranger(ctx)
	return err == nil && readable
}

// owners lists the hosts of a site with whose they are: those that it uses, or is going to.
// Whose the others of the store are is their matter.
func (a *domainsCmd) owners(ctx context.Context, n *named) ([]view.DomainReport, error) {
	on, err := hostsInUse(ctx, n.session)
	if err != nil {
		return nil, err
	}
	// What orilla.yaml says counts beside what is live: a name is looked at before it is used.
	for _, host := range n.hosts {
		for _, use := range host.Uses {
			if !slices.Contains(on[host.Name], use.Environment) {
				on[host.Name] = append(on[host.Name], use.Environment)
			}
		}
	}
	// Live hosts that orilla.yaml has no more are looked at too: visitors come there.
	for host, environments := range on {
		covered := slices.ContainsFunc(n.hosts, func(h names.Host) bool {
			return h.Name == host || h.Name == hosts.Wildcard(host)
		})
		if !covered && names.IsPublic(host) {
			n.hosts = append(n.hosts, names.Host{Name: host, Uses: []names.Use{{Environment: environments[0],
				Address: "https://" + host + "/"}}})
		}
	}

	reports := []view.DomainReport{}
	listed := slices.SortedFunc(maps.Keys(on), func(a, b string) int {
		// Patterns of previews come last.
		return cmp.Or(cmp.Compare(strings.Count(a, "*"), strings.Count(b, "*")), cmp.Compare(a, b))
	})
	for _, host := range listed {
		// Names of previews are covered by the pattern's.
		if wildcard := hosts.Wildcard(host); on[wildcard] != nil &&
			!slices.ContainsFunc(n.hosts, func(h names.Host) bool { return h.Name == host }) {
			continue
		}
		owner, err := hosts.Owner(ctx, n.store, host)
		if err != nil {
			return nil, err
		}
		report := view.ReportHost(owner)
		report.Host, report.Environments = host, on[host]
		reports = append(reports, report)
	}
	return reports, nil
}

// watch looks at the names, once or until there is nothing to wait for.
func (a *domainsCmd) watch(ctx context.Context, n *named, looker *domains.Looker,
	reports []view.DomainReport, wait bool, lasts time.Duration,
) (now []view.DomainReport, gaveUp bool, err error) {
	began := a.Now()
	told := ""
	for {
		progress := a.Busy("names", "asking name servers")
		seen := looker.Look(ctx, n.hosts, func(done int) {
			progress.Text(fmt.Sprintf("%d of %d looked at", done, len(n.hosts)))
		})
		progress.End()
		if ctx.Err() != nil {
			return nil, false, ctx.Err()
		}
		// What is needed is found anew each time: an edge's own name may lead elsewhere by now.
		plan := a.plan(ctx, n, looker, "")
		now = slices.Clone(reports)
		for _, s := range seen {
			verdict := names.Judge(names.Case{Seen: s, Needs: plan.Records(), Now: a.Now()})
			for i := range now {
				if now[i].Host == s.Host.Name {
					now[i].AddSeen(s, verdict)
				}
			}
		}
		what, next := a.unfinished(now)
		if !wait || what == "" {
			return now, false, nil
		}
		if a.Now().Sub(began) > lasts {
			return now, true, nil
		}
		if what != told {
			told = what
			a.Note("%s %s", console.Accent("waiting:"), what)
		}
		if err := a.pause(ctx, next); err != nil {
			return nil, false, err
		}
		// A zone may have got other servers meanwhile: that is what some wait for.
		looker.Forget()
	}
}

// settling are the findings that end by themselves once the records are set.
var settling = []string{"servers-differ", "cached", "leads-elsewhere", "leads-nowhere", "no-wildcard",
	"no-zone", "cname-loop", "resolver-fails", "certificate-ordered"}

// unfinished says which names are waited for, and when to look again; "" for none.
func (a *domainsCmd) unfinished(reports []view.DomainReport) (what string, next time.Duration) {
	// Often enough to see a record soon after it was set, and not so often that a name server
	// would mind.
	const most = 10 * time.Second
	next = most
	var reasons []string
	waited := map[string][]string{} // names, by what they wait for
	for _, report := range reports {
		for _, f := range report.Findings {
			if !slices.Contains(settling, f.Code) {
				continue
			}
			reason := "no record leads here yet"
			switch {
			case f.Code == "certificate-ordered":
				reason = "the certificate is ordered"
			case f.Code == "servers-differ":
				reason = "name servers differ"
			case f.Until != nil:
				reason = "caches may have the old record until " + f.Until.Local().Format(time.TimeOnly)
				next = min(next, max(time.Second, f.Until.Sub(a.Now())+time.Second))
			}
			if waited[reason] == nil {
				reasons = append(reasons, reason)
			}
			waited[reason] = append(waited[reason], report.Host)
			break
		}
	}
	for i, reason := range reasons {
		names := strings.Join(waited[reason], ", ")
		if many := len(waited[reason]); many > 3 {
			names = fmt.Sprintf("%s and %d more", waited[reason][0], many-1)
		}
		reasons[i] = reason + ": " + names
	}
	return strings.Join(reasons, "; "), next
}

// pause waits, and counts down on a terminal.
func (a *domainsCmd) pause(ctx context.Context, lasts time.Duration) error {
	progress := a.Busy("wait", "")
	defer progress.End()
	// A second at a time: whoever waits sees that something happens, and when it will again.
	for end := a.Now().Add(lasts); ; {
		left := end.Sub(a.Now())
		if left <= 0 {
			return nil
		}
		progress.Text(fmt.Sprintf("looking again in %d s", int(left.Seconds())+1))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(left, time.Second)):
		}
	}
}

// plan says which records the names need. What an edge's own name leads to is asked for.
func (a *domainsCmd) plan(ctx context.Context, n *named, looker *domains.Looker, issuer string) names.Plan {
	edge := n.edge
	if edge.Name != "" {
		edge.Addresses = looker.Asker.Resolve(ctx, edge.Name).Addresses
	}
	return names.Plan{Hosts: n.hosts, Edge: edge, Issuer: issuer, Zone: func(name string) string {
		zone, _, err := looker.Zone(ctx, name)
		if err != nil && !errors.Is(err, nameservers.ErrNoZone) {
			return ""
		}
		return zone
	}}
}
