package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/view"
)

// storeInitCmd is what orilla store init does.
type storeInitCmd struct{ *app }

func newStoreInitCommand(a *app) *cobra.Command {
	c := &storeInitCmd{app: a}
	var policy, yes bool
	var o policyOptions
	cmd := &cobra.Command{
		Use: "init [STORE]", Short: "Test a server and create a store on it",
		Args: cobra.MaximumNArgs(1),
		Long: "Init creates a store after a test: sixteen writers race for the same record, twenty " +
			"times, and exactly one must win each time. It also warns about bucket settings that " +
			"would harm a store, and prints the permissions for deploying, serving and pruning.",
		Example: "orilla store init 's3://corvane/sites?endpoint=https://storage.example'\n" +
			"orilla store init sftp://deploy@edge.corvane.example/srv/orilla",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				a.store = args[0]
			}
			return c.storeInit(cmd.Context(), policy, yes, o)
		},
	}

	cmd.Flags().BoolVar(&policy, "policy", false, "only print the access policies")
	cmd.Flags().StringVar(&o.site, "site", "", "with --policy: for deploying this `SITE` only")
	cmd.Flags().StringArrayVar(&o.principals, "principal", nil,
		"with --policy: print a bucket policy for `ROLE=WHO`; ROLE is deployer, edge or pruner (repeatable)")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "create the bucket too, if needed")
	return a.jsonFlag(dryFlag(a, cmd))
}

// storeInit is orilla store init: it makes a store where sixteen writers who
// race for one record, twenty times, leave exactly one winner each time. A
// server that takes If-None-Match for a hint would pass any single try. With
// policy it prints the rights that each role needs, and makes nothing.
func (a *storeInitCmd) storeInit(ctx context.Context, policy, yes bool, o policyOptions) error {
	var p *site.Project
	if a.store == "" {
		var err error
		if p, err = a.load(ctx); err != nil {
			return err
		}
	}

	// A store can be made before there is a project: whoever runs the server
	// may have none.
	address, root := a.storeAddress(p)
	if !policy && (o.site != "" || len(o.principals) > 0) {
		return fault.New(fault.Usage, "usage", "--site and --principal go with --policy")
	}
	if policy {
		return a.printPolicies(address, o)
	}

	store, made, err := store.At(ctx, address, root, a.places.Data)
	if err != nil {
		return err
	}
	report := view.StoreInitReport{Store: store.Address(), Place: store.Address(), Made: made}
	remote, isRemote := store.(storage.Remote)
	if isRemote {
		report.Place, report.Account = remote.Place(), remote.Account()
	}

	if report.Policies, err = policies(address, ""); err != nil {
		return err
	}
	a.Note("%s", console.Strong(report.Place))
	if report.Account != "" {
		a.Row(a.Err, "as", report.Account)
	}

	if err := a.makeStore(ctx, store, &report, yes); err != nil {
		return err
	}
	return a.Result(report, func() {
		for _, advice := range report.Advice {
			a.Row(a.Err, "warn", console.Warn(advice))
		}
		view.ListPolicies(a.Console, report.Policies)
		if a.store != "" { // else orilla.yaml names it already
			a.Hint("next:", "write in orilla.yaml: store: "+report.Store)
		}
		a.Hint("next:", "publish to it: orilla deploy")
	})
}

// policyOptions say for whom rights are printed.
type policyOptions struct {
	site       string
	principals []string
}

// who reads what was given as ROLE=WHO, several of a role together.
func (o policyOptions) who() (map[storage.Role][]string, error) {
	who := map[storage.Role][]string{}
	for _, text := range o.principals {
		role, name, ok := strings.Cut(text, "=")
		if !ok || name == "" || !slices.Contains(storage.Roles, storage.Role(role)) {
			return nil, fault.New(fault.Usage, "usage",
				"--principal %s: write ROLE=WHO, the role being deployer, edge or pruner", text)
		}
		who[storage.Role(role)] = append(who[storage.Role(role)], name)
	}
	return who, nil
}

// printPolicies prints the rights that are needed, without
// asking or making anything.
func (a *storeInitCmd) printPolicies(address string, o policyOptions) error {
	if o.site != "" && !project.IsLabel(o.site) {
		return fault.New(fault.Usage, "bad-site", "not a site name: %q", o.site)
	}
	who, err := o.who()
	if err != nil {
		return err
	}

	all, err := policies(address, o.site)
	if err != nil {
		return err
	}
	if len(who) > 0 {
		config, err := s3.Parse(address, os.Getenv)
		if err != nil || !strings.HasPrefix(address, "s3://") {
			return fault.New(fault.Usage, "usage", "--principal works only for buckets").At("%s", address).
				Because(err)
		}
		all = map[string]string{"bucket": config.BucketPolicy(who, o.site)}
	}

	return a.Result(view.StoreInitReport{Store: address, Place: address, Policies: all}, func() {
		view.ListPolicies(a.Console, all)
	})
}

// makeStore makes sure that a store can be, and makes it.
func (a *storeInitCmd) makeStore(ctx context.Context, made storage.Store, report *view.StoreInitReport,
	yes bool,
) error {
	bucket, isBucket := made.(*s3.Store)
	if a.dry { // a race can only be run by writing
		a.Row(a.Err, "race", "would be run, and the store created if exactly one of "+
			"16 writers wins each time")
		report.Made = false
		return nil
	}
	if isBucket {
		if err := a.ensureBucket(ctx, bucket, yes); err != nil {
			return err
		}
	}

	remote, isRemote := made.(storage.Remote)
	if isRemote {
		var err error
		report.ID, err = storage.Marked(ctx, remote)
		if report.Made = errors.Is(err, storage.ErrNone); err != nil && !report.Made {
			return store.NotOpen(made.Address(), err)
		}
	}

	tell, end := a.working()
	// Raced also in a store that is there: a server may have been exchanged for
	// another one.
	err := maintenance.Race(ctx, made, tell)
	end()
	if err != nil {
		return err
	}

	a.Row(a.Err, "race", console.Good("of 16 writers at once exactly one created each of 20 records"))
	// The mark comes last: without it, nothing takes the place for a store.
	if report.Made && isRemote {
		if report.ID, err = storage.MakeMark(ctx, remote, strings.ToLower(rand.Text())); err != nil {
			return err
		}
	}

	outcome := "is one"
	if report.Made {
		outcome = console.Good("made") + ", format " + view.Itoa(storage.Format)
	}
	a.Row(a.Err, "store", outcome)
	if isBucket {
		// What the bucket's own settings would do to a store is found out now,
		// and not after the first month.
		report.Advice = bucket.Advise(ctx)
		if readable, err := bucket.Stranger(ctx); err == nil && readable {
			report.Advice = append(report.Advice,
				"anyone can read it without credentials: disable public access")
		}
	}

	return nil
}

// ensureBucket makes a bucket that is not there, after asking: a misspelled
// name would otherwise become one.
func (a *storeInitCmd) ensureBucket(ctx context.Context, bucket *s3.Store, yes bool) error {
	there, err := bucket.Exists(ctx)
	if err != nil || there {
		return err
	}
	name := s3.ConfigOf(bucket).Bucket

	if !yes {
		ok, err := a.Confirm(ctx, "Create the bucket "+name+"?", "It does not exist at "+
			s3.ConfigOf(bucket).Endpoint.Host+".", false)
		if errors.Is(err, console.ErrNobody) || err == nil && !ok {
			return fault.New(fault.Refused, "no-bucket", "no such bucket").At("%s", bucket.Place()).
				Then("add --yes to create it").Then("or check its name and the endpoint")
		}
		if err != nil {
			return err
		}
	}

	if err := bucket.MakeBucket(ctx); err != nil {
		return err
	}
	a.Row(a.Err, "bucket", console.Good("made")+" "+name)
	return nil
}

// policies returns, by role, the narrowest rights that do; for a site, those of
// whoever deploys that one only.
func policies(address, site string) (map[string]string, error) {
	roles := storage.Roles
	if site != "" {
		roles = []storage.Role{storage.Deployer} // nodes and prunes have to do with all sites
	}
	all := map[string]string{}

	if !strings.HasPrefix(address, "s3://") {
		for _, role := range roles {
			all[string(role)] = view.FolderRights(role, site)
		}
		return all, nil
	}

	config, err := s3.Parse(address, os.Getenv)
	if err != nil {
		return nil, fault.New(fault.Usage, "store-address",
			"invalid store address").At("%s", address).Because(err)
	}

	for _, role := range roles {
		all[string(role)] = config.Policy(role, site)
	}
	return all, nil
}
