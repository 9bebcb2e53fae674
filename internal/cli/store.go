package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/upkeep"
	"orilla.example/orilla/internal/pipeline"
	"orilla.example/orilla/internal/store/s3"
)

func (a *app) storeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "store", Short: "What the store holds and what you may do there; make, copy, verify and prune it", Args: cobra.NoArgs,
		Long: "Store shows where the store is, whether it answers, what you may do there, whether strangers can read it, and what it holds.\n" +
			"It writes a small record to try that, and takes it away again.",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.showStore(cmd.Context()) },
	}
	cmd.AddCommand(a.storeInitCommand(), a.storeCopyCommand(), a.storeVerifyCommand(), a.storePruneCommand())
	return a.jsonFlag(cmd)
}

// working shows how far work on a store is.
func (a *app) working() (upkeep.Tell, func()) {
	progress := a.Busy("store", "")
	return func(what string, done, of int64) {
		text := fmt.Sprintf("%s: %s", what, console.Count(done, "", ""))
		if done == 1 {
			text = what + ": 1"
		}
		if of > 0 {
			text = fmt.Sprintf("%s: %d of %d", what, done, of)
		}
		progress.Text(text)
	}, progress.End
}

// storeReport is what store prints with --json.
type storeReport struct {
	Store     string          `json:"store"`
	Place     string          `json:"place"`
	Account   string          `json:"account,omitempty"`
	ID        string          `json:"id,omitempty"`
	Answers   int64           `json:"answers_in"` // milliseconds
	Rights    []upkeep.Right  `json:"rights"`
	Strangers *bool           `json:"strangers_can_read,omitempty"` // unset where that means nothing
	Advice    []string        `json:"advice,omitempty"`
	Holdings  upkeep.Holdings `json:"holdings"`
	Sites     []storeSite     `json:"sites"`
}

type storeSite struct {
	Site         string `json:"site"`
	Releases     int    `json:"releases"`
	Environments int    `json:"environments"`
	Damage       string `json:"damage,omitempty"`
}

func (a *app) showStore(ctx context.Context) error {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return err
	}
	started := time.Now()
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	report := storeReport{Store: store.Address(), Place: store.Address(), Answers: time.Since(started).Milliseconds(), Sites: []storeSite{}}
	if remote, ok := store.(storage.Remote); ok {
		report.Place, report.Account = remote.Place(), remote.Account()
	}
	tell, end := a.working()
	err = a.examine(ctx, store, &report, tell)
	end()
	if err != nil {
		return pipeline.StoreTrouble(store, err)
	}
	if a.JSON {
		err = a.Document(report)
	} else {
		a.printStore(report)
	}
	if err == nil && report.Strangers != nil && *report.Strangers {
		err = &exitError{int(fault.Findings)}
	}
	return err
}

// examine fills in what the store says of itself.
func (a *app) examine(ctx context.Context, store storage.Store, report *storeReport, tell upkeep.Tell) (err error) {
	data, err := store.Get(ctx, storage.MarkKey)
	if err != nil {
		return err
	}
	report.ID, _ = storage.CheckMark(data)
	if report.Rights, err = upkeep.Rights(ctx, store); err != nil {
		return err
	}
	if bucket, ok := store.(*s3.Store); ok {
		readable, err := bucket.Stranger(ctx)
		if err != nil {
			return err
		}
		report.Strangers, report.Advice = &readable, bucket.Advise(ctx)
	}
	if report.Holdings, err = upkeep.Measure(ctx, store, tell); err != nil {
		return err
	}
	sites, err := upkeep.Sites(ctx, store)
	for _, site := range sites {
		row := storeSite{Site: site}
		for folder, count := range map[string]*int{storage.ReleasesKey(site): &row.Releases, storage.EnvironmentsKey(site): &row.Environments} {
			for _, err := range store.List(ctx, folder) {
				if err != nil {
					return err
				}
				*count++
			}
		}
		report.Sites = append(report.Sites, row)
	}
	return err
}

func (a *app) printStore(report storeReport) {
	a.Row(a.Out, "store", console.Strong(report.Place))
	if report.Account != "" {
		a.Row(a.Out, "as", report.Account)
	}
	a.Row(a.Out, "answers", "in "+console.Took(time.Duration(report.Answers)*time.Millisecond))
	var has, lacks []string
	for _, right := range report.Rights {
		if right.Has {
			has = append(has, right.Name)
		} else {
			lacks = append(lacks, right.Name)
		}
	}
	a.Row(a.Out, "may", console.Good(strings.Join(has, ", ")))
	if len(lacks) > 0 {
		a.Row(a.Out, "may not", console.Warn(strings.Join(lacks, ", ")))
		for _, right := range report.Rights {
			if right.Why != "" {
				a.Row(a.Out, "", console.Faint(right.Name+": "+right.Why))
			}
		}
	}
	if report.Strangers != nil {
		text := console.Good("strangers without credentials cannot read it")
		if *report.Strangers {
			text = console.Bad("anybody can read it without credentials, also what passwords should protect: take public access away")
		}
		a.Row(a.Out, "public", text)
	}
	for _, advice := range report.Advice {
		a.Row(a.Out, "look", console.Warn(advice))
	}
	a.Row(a.Out, "holds", console.Count(report.Holdings.Objects, "object", "objects")+", "+console.Size(report.Holdings.Bytes))
	for i, site := range report.Sites {
		a.Row(a.Out, []string{"sites", ""}[min(i, 1)], fmt.Sprintf("%s  %s in %s", console.Strong(site.Site),
			console.Count(int64(site.Releases), "release", "releases"), console.Count(int64(site.Environments), "environment", "environments")))
	}
	if len(report.Sites) == 0 {
		a.Row(a.Out, "sites", "none yet; orilla deploy makes the first")
	}
}

func (a *app) storeInitCommand() *cobra.Command {
	var policy, yes bool
	cmd := &cobra.Command{
		Use: "init [STORE]", Short: "Make a store, once its server has shown that it can hold one", Args: cobra.MaximumNArgs(1),
		Long: "Init lets sixteen writers race for the same record, twenty times, and makes the store only if each time exactly one won. It then\n" +
			"says which settings of a bucket would work against a store, and which rights whoever deploys, serves and prunes needs.",
		Example: "  orilla store init s3://corvane/stores?endpoint=https://storage.example&region=north\n" +
			"  orilla store init sftp://deploy@edge.corvane.example/srv/orilla",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				a.store = args[0]
			}
			return a.storeInit(cmd.Context(), policy, yes)
		},
	}
	cmd.Flags().BoolVar(&policy, "policy", false, "only print the rights that are needed")
	cmd.Flags().BoolVar(&yes, "yes", false, "make the bucket too, if there is none")
	return a.jsonFlag(cmd)
}

type storeInitReport struct {
	Store    string            `json:"store"`
	Place    string            `json:"place"`
	Account  string            `json:"account,omitempty"`
	ID       string            `json:"id"`
	Made     bool              `json:"made"` // not there before
	Advice   []string          `json:"advice,omitempty"`
	Policies map[string]string `json:"policies,omitempty"` // by role
}

func (a *app) storeInit(ctx context.Context, policy, yes bool) error {
	var p *pipeline.Project
	if a.store == "" {
		var err error
		if p, err = a.load(ctx); err != nil {
			return err
		}
	}
	address, root := a.storeAddress(p)
	store, made, err := pipeline.StoreAt(ctx, address, root, a.places)
	if err != nil {
		return err
	}
	report := storeInitReport{Store: store.Address(), Place: store.Address(), Made: made}
	remote, isRemote := store.(storage.Remote)
	if isRemote {
		report.Place, report.Account = remote.Place(), remote.Account()
	}
	report.Policies = policies(store)
	if !policy {
		a.Note("%s", console.Strong(report.Place))
		if report.Account != "" {
			a.Row(a.Err, "as", report.Account)
		}
		if err := a.makeStore(ctx, store, &report, yes); err != nil {
			return pipeline.StoreTrouble(store, err)
		}
	}
	if a.JSON {
		return a.Document(report)
	}
	for _, advice := range report.Advice {
		a.Row(a.Err, "look", console.Warn(advice))
	}
	for _, role := range []string{"deployer", "edge", "pruner"} {
		if text := report.Policies[role]; text != "" {
			a.Print("%s\n%s", console.Faint("# what "+map[string]string{"deployer": "whoever deploys", "edge": "an edge node", "pruner": "whoever prunes"}[role]+" needs"), text)
		}
	}
	if !policy {
		a.Note("next: store: %s in orilla.yaml, then %s", report.Store, console.Accent("orilla deploy"))
	}
	return nil
}

// makeStore makes sure that a store can be, and makes it.
func (a *app) makeStore(ctx context.Context, store storage.Store, report *storeInitReport, yes bool) error {
	bucket, isBucket := store.(*s3.Store)
	if isBucket {
		if err := a.ensureBucket(ctx, bucket, yes); err != nil {
			return err
		}
	}
	remote, isRemote := store.(storage.Remote)
	if isRemote {
		var err error
		report.ID, err = storage.Marked(ctx, remote)
		if report.Made = errors.Is(err, storage.ErrNone); err != nil && !report.Made {
			return pipeline.NotOpen(store.Address(), err)
		}
	}
	tell, end := a.working()
	err := upkeep.Race(ctx, store, tell)
	end()
	if err != nil {
		return err
	}
	a.Row(a.Err, "race", console.Good("of 16 writers at once exactly one created each of 20 records"))
	switch {
	case report.Made && !isRemote:
		a.Row(a.Err, "store", console.Good("made")+", format "+itoa(storage.Format))
	case report.Made:
		if report.ID, err = storage.MakeMark(ctx, remote, strings.ToLower(rand.Text())); err != nil {
			return err
		}
		a.Row(a.Err, "store", console.Good("made")+", format "+itoa(storage.Format))
	default:
		a.Row(a.Err, "store", "is one")
	}
	if isBucket {
		report.Advice = bucket.Advise(ctx)
		if readable, err := bucket.Stranger(ctx); err == nil && readable {
			report.Advice = append(report.Advice, "anybody can read it without credentials: take public access away")
		}
	}
	return nil
}

func (a *app) ensureBucket(ctx context.Context, bucket *s3.Store, yes bool) error {
	there, err := bucket.Exists(ctx)
	if err != nil || there {
		return err
	}
	name := bucket.Config().Bucket
	if !yes {
		ok, err := a.Confirm(ctx, "Make the bucket "+name+"?", "There is none of that name at "+bucket.Config().Endpoint.Host+".", false)
		if errors.Is(err, console.ErrNobody) || err == nil && !ok {
			return fault.New(fault.Refused, "no-bucket", "there is no such bucket").At("%s", bucket.Place()).Then("add --yes to make it").Then("or look at its name and at the endpoint")
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

// policies returns, by role, the narrowest rights that do.
func policies(store storage.Store) map[string]string {
	roles := []string{"deployer", "edge", "pruner"}
	all := map[string]string{}
	if bucket, ok := store.(*s3.Store); ok {
		for _, role := range roles {
			all[role] = bucket.Config().Policy(role)
		}
		return all
	}
	all["deployer"] = "read and write in the whole folder, as a user of its own; over SSH: Match User, ForceCommand internal-sftp, and no forwarding"
	all["edge"] = "read in the whole folder; write in edges/ and tmp/"
	all["pruner"] = "as whoever deploys"
	return all
}

// Limits of an upload.
type transferOptions struct {
	parallel int
	rate     string
}

func (o *transferOptions) flags(cmd *cobra.Command) {
	cmd.Flags().IntVar(&o.parallel, "parallel", 0, "how many requests at once, at most `N` (default: as many as the store is good for)")
	cmd.Flags().StringVar(&o.rate, "rate", "", "send at most so much a second, such as `2MB`")
}

// limiter reads --rate; nil for no limit.
func (o *transferOptions) limiter() (*rate.Limiter, error) {
	if o.parallel < 0 {
		return nil, fault.New(fault.Usage, "usage", "--parallel %d: write a number from 1", o.parallel)
	}
	if o.rate == "" {
		return nil, nil
	}
	size, err := project.ParseSize(o.rate)
	if err != nil || size < 1 {
		return nil, fault.New(fault.Usage, "usage", "--rate %s: write an amount such as 500kB or 2MB", o.rate)
	}
	return rate.NewLimiter(rate.Limit(size), int(max(min(size/4, 1<<20), 16<<10))), nil
}

func (a *app) storeCopyCommand() *cobra.Command {
	var site string
	var o transferOptions
	cmd := &cobra.Command{
		Use: "copy STORE", Short: "Copy sites to another store, verified; what is there already is not sent again", Args: cobra.ExactArgs(1),
		Long: "Copy brings sites with their whole history from this store to another one, of any kind. Each object is compared with its hash on\n" +
			"the way. Run it again to go on after an interruption, or to bring what was added since.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.storeCopy(cmd.Context(), args[0], site, o) },
	}
	cmd.Flags().StringVar(&site, "site", "", "only this site (default: all)")
	o.flags(cmd)
	return a.jsonFlag(cmd)
}

func (a *app) storeCopy(ctx context.Context, address, site string, o transferOptions) error {
	limit, err := o.limiter()
	if err != nil {
		return err
	}
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	from, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	to, err := pipeline.OpenStore(ctx, address, a.folder, a.places, true)
	if err != nil {
		return err
	}
	sites, err := a.chosenSites(ctx, from, site)
	if err != nil {
		return err
	}
	var hold *pins.Hold // in the end that of the target
	for _, store := range []storage.Store{from, to} {
		if hold, err = p.Pin(ctx, store, site, "copy"); err != nil {
			return pipeline.StoreTrouble(store, err)
		}
		defer hold.Drop(ctx)
	}
	tell, end := a.working()
	copied, err := upkeep.Copy(ctx, from, to, sites, limit, func(put func(string) bool) (bool, error) {
		return hold.Settle(ctx, put, func(who string) { a.Note("waiting for %s, who is removing something there", personName(who)) })
	}, tell)
	end()
	if errors.Is(err, upkeep.ErrDiverged) {
		return fault.New(fault.Refused, "diverged", "the other store has a history of its own").At("%s", to.Address()).Because(err).
			Then("copy to another store, or take the site out there: orilla remove-site --store %s", to.Address())
	}
	if err != nil {
		return pipeline.StoreTrouble(to, err)
	}
	if a.JSON {
		return a.Document(copied)
	}
	a.Print("%s: %s, %s, %s (%s) sent, %s there already", console.Good("copied"), console.Count(int64(copied.Sites), "site", "sites"),
		console.Count(int64(copied.Releases), "release", "releases"), console.Count(copied.Objects, "object", "objects"), console.Size(copied.Bytes),
		console.Count(copied.Present, "object", "objects"))
	a.Note("%s orilla store verify --store %s", console.Faint("to be sure:"), to.Address())
	return nil
}

// chosenSites returns all sites of a store, or the one that was named.
func (a *app) chosenSites(ctx context.Context, store storage.Store, site string) ([]string, error) {
	sites, err := upkeep.Sites(ctx, store)
	if err != nil || site == "" {
		return sites, pipeline.StoreTrouble(store, err)
	}
	for _, name := range sites {
		if name == site {
			return []string{site}, nil
		}
	}
	return nil, fault.New(fault.Failed, "unknown-site", "the store has no site %q", site).At("%s", store.Address()).Then("orilla sites lists those that are there")
}

func (a *app) storeVerifyCommand() *cobra.Command {
	var site, from string
	cmd := &cobra.Command{
		Use: "verify", Short: "Read and hash everything that any release needs, and say what is damaged", Args: cobra.NoArgs,
		Long: "Verify reads every journal, release, record and object that anything leads to and compares it with its hash. It names what is\n" +
			"damaged and what that affects; the status is 4 then. With --repair-from, what is damaged is brought back from another store.",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.storeVerify(cmd.Context(), site, from) },
	}
	cmd.Flags().StringVar(&site, "site", "", "only this site (default: all)")
	cmd.Flags().StringVar(&from, "repair-from", "", "bring what is damaged back from another `STORE`")
	return a.jsonFlag(cmd)
}

func (a *app) storeVerify(ctx context.Context, site, from string) error {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return err
	}
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	sites, err := a.chosenSites(ctx, store, site)
	if err != nil {
		return err
	}
	started := time.Now()
	tell, end := a.working()
	found, err := upkeep.Verify(ctx, store, sites, tell)
	if err == nil && from != "" && len(found.Damage) > 0 {
		err = a.repair(ctx, store, from, &found, tell)
	}
	end()
	if err != nil {
		return pipeline.StoreTrouble(store, err)
	}
	if a.JSON {
		err = a.Document(found)
	} else {
		a.printVerified(found, time.Since(started), from)
	}
	for _, damage := range found.Damage {
		if err == nil && !damage.Repaired {
			err = &exitError{int(fault.Findings)}
		}
	}
	return err
}

func (a *app) repair(ctx context.Context, store storage.Store, from string, found *upkeep.Verified, tell upkeep.Tell) error {
	other, err := pipeline.OpenStore(ctx, from, a.folder, a.places, false)
	if err != nil {
		return err
	}
	return upkeep.Repair(ctx, store, other, found, tell)
}

func (a *app) printVerified(found upkeep.Verified, took time.Duration, from string) {
	left := 0
	for _, damage := range found.Damage {
		state := console.Bad("damaged")
		switch {
		case damage.Repaired:
			state = console.Good("repaired")
		default:
			left++
		}
		a.Print("%s %s: %s", state, damage.Key, damage.What)
		for _, affected := range damage.Affects {
			a.Print("         %s %s", console.Faint("affects"), affected)
		}
		if damage.Remains != "" {
			a.Print("         %s", damage.Remains)
		}
	}
	gone := ""
	if found.Gone > 0 {
		gone = "; " + console.Count(int64(found.Gone), "entry names a release that was", "entries name releases that were") + " pruned"
	}
	a.Print("%s, %s, %s; %s (%s) read in %s%s", console.Count(int64(found.Sites), "site", "sites"), console.Count(int64(found.Releases), "release", "releases"),
		console.Count(int64(found.Entries), "entry", "entries"), console.Count(found.Objects, "object", "objects"), console.Size(found.Bytes), console.Took(took), gone)
	switch {
	case left > 0:
		a.Print("%s", console.Bad(console.Count(int64(left), "thing is", "things are")+" damaged"))
		if from == "" {
			a.Note("%s orilla store verify --repair-from STORE, if there is a copy; else go back to a release that is not affected", console.Accent("next:"))
		}
	case len(found.Damage) > 0:
		a.Print("%s", console.Good("all that was damaged is repaired"))
	default:
		a.Print("%s", console.Good("all of it is whole"))
	}
}
