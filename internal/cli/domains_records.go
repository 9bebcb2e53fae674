package cli

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"maps"
	"net"
	"os"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/domains"
	"orilla.example/orilla/internal/nameservers"
	"orilla.example/orilla/internal/view"
)

// How records are set:
//
//	named, zones   what is needed, by the zones that it belongs into
//	inZone         what the primary has at those names, and the marks of what Orilla made
//	names.Compare  the difference, and what of others is in the way
//	Confirm        unless it was said beforehand
//	update         all of it or nothing, if the zone is still as it was read
//	Records        what the server answers afterwards: that counts, whatever it said
//
// Where a zone takes no updates, the same list is printed for pasting.

// recordsCmd says which records the names of a site need, and sets them where that can be
// done.
type recordsCmd struct{ *domainsCmd }

// recordOptions are what the command takes.
type recordOptions struct {
	look                          lookOptions
	key, server, issuer, delegate string
	ttl                           int64
	apply, remove, file           bool
	yes, takeOver                 bool
}

// keyVariable names the file of the key where no option does.
const keyVariable = "ORILLA_TSIG_KEY"

func newRecordsCommand(d *domainsCmd, site *string) *cobra.Command {
	c := &recordsCmd{d}
	var o recordOptions
	cmd := &cobra.Command{
		Use: "records [HOST...]", Short: "List the DNS records that the names need, or set them",
		Long: "Records lists what DNS needs to have: to paste where the domain is managed, as lines " +
			"of a zone file (--zone-file), or as JSON. Where the name server takes dynamic updates " +
			"(RFC 2136), --apply sets them with a TSIG key, and --remove takes back what --apply " +
			"set. Records of others are never touched.",
		Example: "orilla domains records\n" +
			"orilla domains records --zone-file >> corvane.example.zone\n" +
			"orilla domains records --apply --key orilla.key\n" +
			"orilla domains records --remove --key orilla.key",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.records(cmd.Context(), *site, args, o)
		},
	}
	flags := cmd.Flags()
	flags.BoolVar(&o.file, "zone-file", false, "print lines of a zone file")
	flags.BoolVar(&o.apply, "apply", false, "set the records at the name server")
	flags.BoolVar(&o.remove, "remove", false, "remove all records that --apply set for this site")
	flags.StringVar(&o.key, "key", "", "with --apply and --remove: the TSIG key in this `FILE` (default: $"+
		keyVariable+")")
	flags.StringVar(&o.server, "server", "",
		"the name server to change, `HOST[:PORT]` (default: the primary of the zone)")
	flags.Int64Var(&o.ttl, "ttl", names.DefaultTTL, "let caches keep the records for these `SECONDS`")
	flags.StringVar(&o.issuer, "issuer", "",
		"add CAA records that let only this `AUTHORITY` issue certificates")
	flags.StringVar(&o.delegate, "delegate", "",
		"have validation records of wildcards written in this `ZONE`")
	flags.BoolVar(&o.takeOver, "take-over", false,
		"count records that the site set from another store as its own")
	flags.BoolVarP(&o.yes, "yes", "y", false, "assume yes to every prompt")
	o.look.askFlags(cmd)
	cmd.MarkFlagsMutuallyExclusive("apply", "remove", "zone-file")
	return d.jsonFlag(dryFlag(d.app, cmd))
}

// wanted is what one zone is to have.
type wanted struct {
	zone  string
	needs []names.Need
}

// records lists the records, or sets them.
func (a *recordsCmd) records(ctx context.Context, site string, only []string, o recordOptions) error {
	// Less is a burden for name servers, more makes every later change take a day.
	const least, most = 30, 86400
	if o.ttl < least || o.ttl > most {
		return fault.New(fault.Usage, "usage", "--ttl %d: write %d to %d seconds", o.ttl, least, most)
	}
	if o.delegate != "" {
		zone, err := names.ASCII(o.delegate)
		if err != nil {
			return fault.New(fault.Usage, "usage", "--delegate %s: %s", o.delegate, err)
		}
		o.delegate = zone
	}
	n, err := a.named(ctx, site)
	if err != nil {
		return err
	}
	if err := n.only(only); err != nil {
		return err
	}
	looker, err := lookerOf(ctx, a.app, o.look, n.store)
	if err != nil {
		return err
	}
	if len(n.hosts) > 0 && !o.remove && n.edge.Name == "" && len(n.edge.Addresses) == 0 {
		return fault.New(fault.Usage, "no-edge-addresses",
			"orilla.yaml does not say where the edge nodes are").
			At("%s", n.project.Root).
			Then("add edge_addresses: [192.0.2.10], with the addresses of your edge nodes, or " +
				"one name that leads to them")
	}
	if looker == nil {
		return a.unasked(n, o)
	}

	// One plan for listing and for changing: what is printed is what would be set.
	plan := a.plan(ctx, n, looker, o.issuer)
	plan.TTL, plan.Delegate = o.ttl, o.delegate
	zones, err := a.zones(ctx, n, looker, plan)
	if err != nil {
		return err
	}
	if o.apply || o.remove {
		return a.change(ctx, n, looker, zones, o)
	}
	return a.list(ctx, looker, zones, o)
}

// only keeps the hosts that were named.
func (n *named) only(typed []string) error {
	var kept []names.Host
	for _, text := range typed {
		name, err := names.ASCII(text)
		at := slices.IndexFunc(n.hosts, func(h names.Host) bool { return h.Name == name })
		if err != nil || at < 0 {
			var all []string
			for _, host := range n.hosts {
				all = append(all, host.Name)
			}
			return fault.New(fault.Usage, "unknown-host", "the site has no address at %s", text).
				Then("one of: %s", strings.Join(all, ", "))
		}
		kept = append(kept, n.hosts[at])
	}
	if len(typed) > 0 {
		n.hosts = kept
	}
	return nil
}

// Without a resolver nobody knows where one zone ends and the next begins, so names are
// printed whole, and a domain's own name gets no more than others: who pastes them knows.

// unasked lists records without asking anybody: which zone they belong into is not known.
func (a *recordsCmd) unasked(n *named, o recordOptions) error {
	if o.apply || o.remove {
		return fault.New(fault.Usage, "usage",
			"--resolver none: name servers cannot be found without a resolver")
	}
	plan := names.Plan{Hosts: n.hosts, Edge: n.edge, TTL: o.ttl, Issuer: o.issuer,
		Delegate: o.delegate, Zone: func(string) string { return "" }}
	return a.printed([]view.ZoneReport{{Records: view.ReportRecords(plan.Records(), nil)}}, o)
}

// zones arranges what is needed by zones. Names in no zone are an error: there is nowhere
// to put their records.
func (a *recordsCmd) zones(ctx context.Context, n *named, looker *domains.Looker, plan names.Plan,
) (list []wanted, err error) {
	by := map[string][]names.Need{}
	for _, need := range plan.Records() {
		by[need.Zone] = append(by[need.Zone], need)
	}
	// Also zones in which nothing is needed any more may have what was made.
	for _, host := range n.hosts {
		zone, _, err := looker.Zone(ctx, host.Name)
		switch {
		case errors.Is(err, nameservers.ErrNoZone):
			continue
		case err != nil:
			return nil, fault.New(fault.Failed, "no-resolver", "cannot find the zone of %s", host.Name).
				Because(err).Then("check the network, or name another resolver: --resolver 192.0.2.53").
				Then("to list the records anyway: orilla domains records --resolver none")
		}
		by[zone] = append(by[zone], nil...)
	}
	for _, zone := range slices.Sorted(maps.Keys(by)) {
		list = append(list, wanted{zone, by[zone]})
	}
	return list, nil
}

// list prints what is needed, with what of it is there.
func (a *recordsCmd) list(ctx context.Context, looker *domains.Looker, zones []wanted,
	o recordOptions) error {
	var reports []view.ZoneReport
	for _, w := range zones {
		var there []names.Record
		for _, need := range w.needs {
			_, servers, err := looker.Zone(ctx, need.Name)
			if err != nil || len(servers) == 0 {
				continue
			}
			// A server that does not answer leaves open what is there.
			found, err := looker.Asker.Records(ctx, servers[0].At.String(), need.Name, need.Type, false)
			if err == nil {
				there = append(there, found...)
			}
		}
		reports = append(reports, view.ZoneReport{Zone: w.zone, Records: view.ReportRecords(w.needs, there)})
	}
	return a.printed(reports, o)
}

// printed prints records in the form that was asked for.
func (a *recordsCmd) printed(reports []view.ZoneReport, o recordOptions) error {
	return a.Result(reports, func() {
		if o.file {
			view.PrintZoneFile(a.Console, reports)
			return
		}
		view.PrintRecords(a.Console, reports)
	})
}

// change sets or removes records.
func (a *recordsCmd) change(ctx context.Context, n *named, looker *domains.Looker, zones []wanted,
	o recordOptions,
) error {
	key, err := a.key(o)
	if err != nil {
		return err
	}
	if o.apply {
		if err := a.reserveFirst(ctx, n, o.yes); err != nil {
			return err
		}
	}
	// Marks name the store by the beginning of a digest: its id proves nodes to be ours, so
	// it is not for a public zone.
	owner := names.Owner{Site: n.site, Store: "-"}
	if looker.Store != "" {
		const digits = 12
		owner.Store = digest.Of([]byte(looker.Store)).String()[:digits]
	}
	reports := []view.ZoneReport{}
	for _, w := range zones {
		if w.zone == "" {
			return fault.New(fault.Failed, "no-zone", "no name server has %s", w.needs[0].Name).
				Then("register the domain, and have the registry name its servers")
		}
		// Nothing is needed any more: the difference is all that was made.
		if o.remove {
			w.needs = nil
		}
		report, err := a.changeZone(ctx, looker, w, owner, key, o)
		if err != nil {
			return err
		}
		reports = append(reports, report)
	}
	return a.Result(reports, func() { view.PrintChanged(a.Console, reports, o.remove, a.dry) })
}

// key reads the key for updates.
func (a *recordsCmd) key(o recordOptions) (nameservers.Key, error) {
	file := cmp.Or(o.key, os.Getenv(keyVariable))
	if file == "" {
		return nameservers.Key{}, fault.New(fault.Usage, "no-key", "changing a zone takes a TSIG key").
			Then("name its file: --key FILE (as tsig-keygen of BIND prints it), or set $%s", keyVariable).
			Then("or paste the records where the zone is managed: orilla domains records")
	}
	file = a.path(file)
	data, err := os.ReadFile(file)
	if err != nil {
		return nameservers.Key{}, fault.New(fault.Usage, "no-key", "cannot read the key").At("%s",
			file).Because(err)
	}
	const others = fs.FileMode(0o077)
	if info, err := os.Stat(file); err == nil && runtime.GOOS != "windows" && info.Mode()&others != 0 {
		a.Notice(fault.Notice{Code: "key-readable", What: "others on this machine can read the key " + file,
			Next: "chmod 600 " + file})
	}
	key, err := nameservers.ParseKey(data)
	if err != nil {
		return key, fault.New(fault.Usage, "bad-key", "%s", err).At("%s", file)
	}
	return key, nil
}

// changeZone changes one zone: it reads what is there, shows the difference, asks, and
// looks afterwards whether the server has done it.
func (a *recordsCmd) changeZone(ctx context.Context, looker *domains.Looker, w wanted, owner names.Owner,
	key nameservers.Key, o recordOptions,
) (report view.ZoneReport, err error) {
	server := o.server
	switch server {
	case "":
		if server, err = looker.Asker.Primary(ctx, w.zone); err != nil {
			return report, fault.New(fault.Failed, "no-primary",
				"cannot find the name server that takes changes of %s",
				w.zone).Because(err).Then("name it: --server HOST[:PORT]")
		}
	default:
		if _, _, err := net.SplitHostPort(server); err != nil {
			server = net.JoinHostPort(strings.Trim(server, "[]"), "53")
		}
	}
	var records []names.Record
	for _, need := range w.needs {
		records = append(records, need.Record)
	}
	there, err := inZone(ctx, &looker.Asker, server, w.zone, owner, records, o.takeOver)
	if err != nil {
		return report, fault.New(fault.Failed, "name-server", "cannot read the zone %s", w.zone).At("%s",
			server).
			Because(err)
	}
	// Refused before anybody is asked: whoever says yes expects it to be done.
	change := names.Compare(w.zone, owner, records, there, o.takeOver)
	report = view.ReportChange(change, server)
	if len(change.InTheWay) > 0 {
		return report, inTheWay(change, server)
	}
	if change.Empty() || a.dry {
		return report, nil
	}
	if !o.yes {
		view.PrintChange(a.Console, report)
		ok, err := a.Confirm(ctx, "Change the zone "+w.zone+" at "+server+"?", "", true)
		if errors.Is(err, console.ErrNobody) || err == nil && !ok {
			return report, fault.New(fault.Refused, "not-confirmed", "changing a zone needs a confirmation").
				At("%s", w.zone).Then("run it on a terminal, or add --yes")
		}
		if err != nil {
			return report, err
		}
	}
	return report, a.update(ctx, looker, server, key, change)
}

// inTheWay says which records of others keep ours from working.
func inTheWay(change names.Change, server string) error {
	problem := fault.New(fault.Refused, "records-in-the-way",
		"%s has records that Orilla did not set, and that lead visitors elsewhere", change.Zone).At("%s",
		server)
	for _, r := range change.InTheWay {
		problem = problem.With(r.Line())
	}
	return problem.Then("remove them where the zone is managed, then run this again")
}

// inZone reads what a zone has at the names that matter.
func inZone(ctx context.Context, asker *nameservers.Asker, server, zone string, owner names.Owner,
	wanted []names.Record, takeOver bool,
) (there []names.Record, err error) {
	read := func(name, kind string) error {
		found, err := asker.Records(ctx, server, name, kind, false)
		there = append(there, found...)
		return err
	}
	// Marks first: they tell of names that orilla.yaml has no more.
	if err := read(names.MarksName(zone), "TXT"); err != nil {
		return nil, err
	}
	at := map[string]bool{}
	for _, r := range slices.Concat(wanted, names.Marked(zone, owner, there, takeOver)) {
		at[r.Name] = true
	}
	// What can stand beside a CNAME is nothing, so everything usual is looked for.
	for _, name := range slices.Sorted(maps.Keys(at)) {
		for _, kind := range []string{"A", "AAAA", "CNAME", "CAA", "MX", "NS", "TXT"} {
			if err := read(name, kind); err != nil {
				return nil, err
			}
		}
	}
	return there, nil
}

// update makes a change, and looks whether it is there.
func (a *recordsCmd) update(ctx context.Context, looker *domains.Looker, server string, key nameservers.Key,
	change names.Change,
) error {
	err := looker.Asker.Update(ctx, server, key, change)
	if refused, ok := errors.AsType[*nameservers.Refusal](err); ok {
		problem := fault.New(fault.Refused, "update-refused", "the zone %s was not changed: %s",
			change.Zone, refused).
			At("%s", server)
		// What the codes mean for who typed the command (RFC 2136 section 2.2, RFC 8945 section
		// 5.2).
		switch {
		case refused.Moved():
			return problem.Then("somebody changed it meanwhile; run this again")
		case refused.Code == "NOTAUTH" || refused.Code == "BADKEY" || refused.Code == "BADSIG":
			return problem.Then("check that the server knows the key %s, with the same secret", key.Name)
		case refused.Code == "BADTIME":
			return problem.Then("the clocks of this machine and the server differ by more than five minutes")
		}
		return problem.Then("let the key %s change this zone (BIND: update-policy)", key.Name)
	}
	// Whatever was said: what counts is what the server answers now.
	for _, r := range change.Add {
		found, read := looker.Asker.Records(ctx, server, r.Name, r.Type, false)
		if read == nil && slices.ContainsFunc(found, r.Is) {
			continue
		}
		problem := fault.New(fault.Failed, "update-unclear", "%s does not answer with the new record",
			server).
			With(r.Line())
		if err = errors.Join(err, read); err != nil {
			problem = problem.Because(err)
		}
		return problem.Then("run this again: what is there already stays as it is")
	}
	return nil
}
