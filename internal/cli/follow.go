package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"github.com/spf13/cobra"
	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/courier"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// followOptions are the flags of follow.
type followOptions struct {
	transferOptions
	writeOptions
	waitOptions
	repository, branch, project, wake, why, site string
	every                                        time.Duration
	builds                                       int
	once, pause, resume                          bool
}

// wakeSecret is the variable that holds the secret with
// which calls to --wake are signed.
const wakeSecret = "ORILLA_WAKE_SECRET"

// followCmd runs a follower in this process, or pauses all of a site's.
type followCmd struct{ *app }

func newFollowCommand(a *app) *cobra.Command {
	c := &followCmd{app: a}
	o := &followOptions{}
	cmd := &cobra.Command{
		Use:   "follow [REPOSITORY]",
		Short: "Build and publish every new commit",
		Long: "Follow watches a repository: this project's, or with an argument another one (a " +
			"folder, an address or a remote's name), which it fetches into its own copy. It builds " +
			"each new commit once and publishes it to its environment, and says what it skips and " +
			"why. Stopped and started again, it continues where it was.",
		Example: "orilla follow                           this repository, until Ctrl-C\n" +
			"orilla follow origin --every 30s        what others push\n" +
			"orilla follow --once --branch main      in CI: this checkout, then exit\n" +
			"orilla follow --pause -m \"moving house\"",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.repository = argument(args, 0)
			err := c.follow(cmd.Context(), o)
			if fault.Code(err) == "commits-failed" { // each was written when it failed
				return err
			}
			return o.record("", err)
		},
	}

	flags := cmd.Flags()
	flags.BoolVar(&o.once, "once", false, "process new commits once and exit (for CI)")
	flags.StringVar(&o.branch, "branch", "",
		"the `BRANCH` of a detached checkout (default: as the CI system says)")
	flags.DurationVar(&o.every, "every", 0,
		"poll the repository every `DURATION`, such as 30s (default: follow.every in orilla.yaml)")

	flags.IntVar(&o.builds, "parallel", 0,
		"build at most this `NUMBER` of branches at once (default: follow.parallel in orilla.yaml)")
	flags.StringVar(&o.project, "project", "",
		"without a working tree: the `FOLDER` in the repository that holds orilla.yaml")
	flags.StringVar(&o.wake, "wake", "",
		"listen at `ADDRESS` for signed webhooks; the secret is in "+
			wakeSecret)

	flags.StringVar(&o.site, "site", "",
		"with --pause or --resume: the site's `NAME` (default: as in orilla.yaml)")
	flags.BoolVar(&o.pause, "pause", false, "stop automatic builds of the site on all machines")
	flags.BoolVar(&o.resume, "resume", false, "resume automatic builds")
	flags.StringVarP(&o.why, "message", "m", "", "with --pause: the `REASON`")
	o.waitOptions.flags(cmd)
	o.writeOptions.flags(cmd)
	o.rateFlag(cmd)
	cmd.RegisterFlagCompletionFunc("branch", completion{a}.branches) //nolint:errcheck // the flag exists
	cmd = dryFlag(a, cmd)
	cmd.Flag("dry-run").Usage = "with --pause or --resume: show what would change, without doing it"
	return a.jsonFlag(cmd)
}

// follow is orilla follow: it deploys every new commit until it is ended. Ended
// and started again, here or elsewhere, it goes on where it was.
func (a *followCmd) follow(ctx context.Context, o *followOptions) error {
	if a.dry && !o.pause && !o.resume {
		return fault.New(fault.Usage, "usage", "--dry-run needs --pause or --resume").
			Then("to see what a commit would publish: orilla deploy --dry-run")
	}
	if o.pause || o.resume {
		return a.setPause(ctx, o)
	}
	if err := o.check(); err != nil {
		return err
	}
	lasting()
	p, mirror, err := a.followed(ctx, o)
	if err != nil {
		return err
	}

	f := &follow.Follower{Project: p, Mirror: mirror, Once: o.once,
		Every: time.Duration(p.ProductionConfig.Follow.Every)}
	if o.every > 0 {
		f.Every = o.every
	}

	if o.builds < 0 || o.every < 0 {
		return fault.New(fault.Usage, "usage", "--parallel and --every must not be negative")
	}
	f.Builds = o.builds
	if f.WaitFor, err = o.list(a.app); err != nil {
		return err
	}

	if err := a.onlyHere(ctx, f, o.branch); err != nil {
		return err
	}
	limit, err := o.limiter()
	if err != nil {
		return err
	}

	if f.Store, err = a.openStore(ctx, p, true); err != nil {
		return err
	}
	lock, err := lockFollower(f)
	if err != nil {
		return err
	}
	defer lock.Unlock() //nolint:errcheck // the end of the process does it too
	ctx, cancel := context.WithCancel(ctx)
	var owned sync.WaitGroup
	defer owned.Wait()
	defer cancel()
	wake := make(chan struct{}, 1)
	f.Trigger = wake

	if !o.once {
		if err := a.wakers(ctx, &owned, f, o.wake, wake); err != nil {
			return err
		}
	}
	return a.run(ctx, o, f, limit)
}

// lockFollower makes sure that nobody else on this machine
// follows the same repository for the same store. The lock
// is held until it is unlocked, or the process ends.
func lockFollower(f *follow.Follower) (*flock.Flock, error) {
	if err := os.MkdirAll(filepath.Dir(f.LockFile()), 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(f.LockFile())

	if locked, err := lock.TryLock(); err != nil || !locked {
		return nil, fault.New(fault.Refused, "followed-already",
			"another orilla follow already follows this repository on this machine").
			At("%s", f.LockFile()).Because(err).
			Then("stop the other one, or watch its work: orilla builds")
	}
	return lock, nil
}

// run follows, and shows what comes of it.
func (a *followCmd) run(ctx context.Context, o *followOptions, f *follow.Follower, limit *rate.Limiter,
) error {
	show := &followReport{app: a.app, follower: f, files: o.writeOptions}
	f.Tell = show.tell
	f.Job = func(plan *site.Plan) deploy.Job {
		var report deploy.Reporter = quietReporter{a.app, plan.Origin.Branch}
		if f.Only != nil && !a.JSON {
			report = &reporter{app: a.app}
		}
		return deploy.Job{Plan: plan, Report: report, Now: time.Now, Rate: limit}
	}

	noteDoubt(a.app, f.Project, nil)
	stop := a.tellFollowed(ctx, f, show)
	show.begin()
	err := f.Run(ctx)
	stop()
	if !o.once && errors.Is(err, context.Canceled) {
		err = nil
	}
	show.end(err)
	return errors.Join(err, show.failed)
}

// tellFollowed has notices sent beside following: of what the follower does, and of what others
// who share the store could not send.
func (a *followCmd) tellFollowed(ctx context.Context, f *follow.Follower, show *followReport) (stop func()) {
	options, ok := noticeOptions(ctx, f.Project, f.Store, f.Project.Site())
	if !ok {
		noteUncounted(a.app, f.Project)
		return func() {}
	}
	options.Lasting = !f.Once
	sending := courier.Begin(ctx, options)
	before := options.Config
	f.Configured = func(config project.Config) {
		if !reflect.DeepEqual(config.Notices, before.Notices) || config.Mail != before.Mail {
			before = config
			sending.Configure(config)
		}
	}
	f.Tell = func(event follow.Event) {
		show.tell(event)
		if event.Environment == "" {
			sending.Look()
			return
		}
		sending.Look(journal.StoredName(event.Environment))
	}
	return func() {
		summary := sending.Finish(ctx, noticePatience)
		if !a.JSON {
			view.PrintNoticeSummary(a.Console, summary)
		}
	}
}

// followed finds the project and, if another repository is
// to be followed, a mirror of it.
func (a *followCmd) followed(ctx context.Context, o *followOptions) (*site.Project, *source.Mirror, error) {
	// A follower that is started anew goes on as the one before it did: what is wrong
	// with the production branch it tells with its first look.
	p, _, err := site.LoadAnyway(ctx, a.folder, a.places)
	if errors.Is(err, site.ErrNotConfigured) && o.project != "" {
		if repository, missing := source.FindRepository(ctx, a.folder); missing == nil {
			p, err = site.LoadFrom(ctx, repository, o.project,
				&site.Project{Root: repository.Top, Places: a.places})
		}
	}
	if err != nil {
		return nil, nil, err
	}

	if o.repository == "" {
		switch {
		case p.Repository == nil:
			return nil, nil, fault.New(fault.Usage, "no-repository",
				"no Git repository here to follow").At("%s", p.Root).
				Then("change to one, use -C FOLDER, or name one: orilla follow ADDRESS")
		case !p.Configured && p.ProductionConfig.Site == "":
			return nil, nil, fault.New(fault.Usage, "no-site",
				"no orilla.yaml here, so the site has no name").At("%s", p.Root).
				Then("orilla init")
		}
		return p, nil, nil
	}

	from := o.repository
	if p.Repository != nil {
		if address := source.RemoteAddress(ctx, p.Repository, from); address != "" {
			from = address
		}
	}

	// Whatever has a colon is an address (git-clone(1)).
	if !strings.Contains(from, ":") { // a folder
		from = a.path(from)
		if from, err = filepath.Abs(from); err != nil {
			return nil, nil, err
		}
	}

	folder := o.project
	if folder == "" {
		folder = p.Prefix
	}

	// One for each site: two followers must not fetch into the same at once.
	mirror, err := source.OpenMirror(ctx, filepath.Join(a.places.Cache, "mirrors", digest.Short(from, folder)+
		".git"), from, p.Repository)
	if err == nil {
		err = mirror.Fetch(ctx, p.ProductionConfig.Previews.Refs)
	}
	if err != nil {
		return nil, nil, fault.New(fault.Failed, "fetch-failed", "cannot fetch the repository").
			At("%s", from).Because(err).Then("check that it is reachable: git ls-remote %s", from)
	}
	p, err = site.LoadFrom(ctx, mirror.Repository, folder, p)
	return p, mirror, err
}

// onlyHere narrows following to this checkout, where it is one of CI: without a
// branch, or with one that was named.
func (a *followCmd) onlyHere(ctx context.Context, f *follow.Follower, branch string) error {
	repository := f.Project.Repository
	if f.Mirror != nil || repository.Bare || branch == "" && (!f.Once || repository.Branch(ctx) != "") {
		return nil
	}
	if branch == "" {
		var variable string
		change := site.CIChange(os.Getenv, f.Project.ProductionConfig.Previews)
		if change.Ref != "" {
			a.Note("%s", console.Faint("proposed change "+change.Ref+", as "+change.Variable+" says"))
			f.Checkout = change.Checkout
			return a.onlyRef(ctx, f, change.Ref)
		}
		if branch, variable = site.CIBranch(os.Getenv); branch == "" {
			return fault.New(fault.Usage, "no-branch",
				"HEAD is detached, so the branch of this checkout is unknown").
				At("%s", repository.Top).
				Then("orilla follow --once --branch NAME")
		}

		a.Note("%s", console.Faint("branch "+branch+", as "+variable+" says"))
		if err := site.RefuseProposal(f.Project, branch, variable); err != nil {
			return err
		}
	}

	branch, name, err := site.OtherRef(f.Project, branch)
	if err != nil {
		return err
	}
	if name == "" {
		name = "refs/heads/" + branch
	}
	return a.onlyRef(ctx, f, name)
}

// onlyRef narrows following to the commit that is checked out, as one of a ref.
func (a *followCmd) onlyRef(ctx context.Context, f *follow.Follower, name string) error {
	head, err := f.Project.Repository.Commit(ctx, "HEAD")
	if err != nil {
		return err
	}
	// CI says what is to be built: this commit, and not what the branch has
	// become since.
	f.Only = &source.Ref{Name: name, Commit: head.Hash, When: head.When}
	f.Once = true
	// A clone of somebody's own may come from a fork, which lacks most branches.
	_, isBranch := f.Only.Branch()
	f.Remote = isBranch && site.InCI(os.Getenv)
	return nil
}

// wakers start what tells of new commits sooner than asking again would.
func (a *followCmd) wakers(ctx context.Context, owned *sync.WaitGroup, f *follow.Follower, address string,
	wake chan<- struct{},
) error {
	// A channel with room for one: any number of hints that come together cause
	// one look.
	nudge := func() {
		select {
		case wake <- struct{}{}:
		default: // it will look anyway
		}
	}

	place := f.Project.Repository.Dir
	if f.Mirror != nil {
		place = ""
		if other, err := source.FindRepository(ctx, f.Mirror.From); err == nil {
			place = other.Dir // of this machine: its hook, and its refs, can be seen
		}
	}

	if place != "" {
		refs := filepath.Join(place, "refs")
		// Git writes a ref as a file, so a commit in a folder of this machine
		// is seen without a hook.
		changes := devserver.Changes(ctx, place, func(folder string) bool {
			return folder != refs && !strings.HasPrefix(folder, refs+string(filepath.Separator))
		})
		owned.Go(func() {
			for range changes {
				nudge()
			}
		})
	}

	if address == "" {
		return nil
	}
	secret := os.Getenv(wakeSecret)
	// Whoever can wake a follower can make it fetch without end.
	if len(secret) < 16 {
		return fault.New(fault.Usage, "wake-secret",
			"--wake needs a secret of 16 characters or more in %s", wakeSecret).
			Then("create one and give it to the caller too: %s=$(openssl rand -hex 32)", wakeSecret)
	}

	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err != nil {
		return fault.New(fault.Failed, "listen", "cannot listen for webhooks there").At("%s", address).
			Because(err).Then("--wake 127.0.0.1:7450, or another one")
	}

	a.Note("%s for signed webhooks at http://%s/", console.Faint("listening:"),
		edge.Reachable(listener.Addr()))
	// Calls come from anywhere, so each has a bound in time as well as in size.
	server := &http.Server{Handler: &follow.Webhook{Secret: []byte(secret), Notify: nudge,
		Told: func(remote string, status int) {
			if status == http.StatusForbidden {
				a.Note("%s refused a webhook from %s: wrong signature", console.Warn("note:"), remote)
			}
		}}, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute}

	owned.Go(func() { server.Serve(listener) })       //nolint:errcheck // ends when it is closed
	context.AfterFunc(ctx, func() { server.Close() }) //nolint:errcheck // nothing to lose
	return nil
}

// setPause keeps all followers of a site from building, or lets them go on. It
// is a record in the store, since a follower may run on another machine.
func (a *followCmd) setPause(ctx context.Context, o *followOptions) error {
	if o.pause && o.resume {
		return fault.New(fault.Usage, "usage", "either --pause or --resume")
	}
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}

	before, err := environments.ReadPause(ctx, s.store, s.site)
	if err == nil {
		var pause *environments.Pause
		if o.pause {
			pause = &environments.Pause{Who: s.project.Person(ctx), When: a.Now().UTC().Truncate(time.Second),
				Why: o.why}
		}
		err = environments.SetPause(ctx, s.store, s.site, pause)
	}

	switch {
	case err != nil:
		return err
	case a.JSON:
		return a.Document(view.PausedReport{Site: s.site, Paused: o.pause})
	case o.pause:
		a.Print("automatic builds of %s are %s until %s; manual deploys still work", s.site,
			console.Warn("paused"), a.Command("orilla follow --resume"))
	case before == nil:
		a.Print("automatic builds of %s were not paused", s.site)
	default:
		a.Print("automatic builds of %s resumed; %s had paused them, %s", s.site, before.Who,
			a.Age(before.When))
	}

	return nil
}

// quietReporter tells of a run that goes on beside others
// only what a person should know.
type quietReporter struct {
	app    *app
	branch string
}

func (quietReporter) Begin(string, string)                  {}
func (quietReporter) Line(string)                           {}
func (quietReporter) Step(builds.Step)                      {}
func (quietReporter) Uploaded(publish.Progress, int, int64) {}

// Notice implements deploy.Reporter.
func (q quietReporter) Notice(notice fault.Notice) {
	notice.What = q.branch + ": " + notice.What
	q.app.Notice(notice)
}

// followReport shows a follower's events, as lines for people or as JSON, and
// writes what later steps of CI read.
type followReport struct {
	*app
	follower *follow.Follower
	files    writeOptions
	failed   error
}

// begin says what is followed, from where to where, and how to end it.
func (r *followReport) begin() {
	f := r.follower
	from, where := f.Project.Repository.Top, f.Store.Address()
	if f.Mirror != nil {
		from = f.Mirror.From
	}

	if remote, ok := f.Store.(storage.Remote); ok {
		where = remote.Place()
	}
	w := r.Err

	//nolint:errcheck // nobody to tell
	fmt.Fprintf(w, "%s %s\n", console.Strong(f.Project.Site()), console.Faint("follows "+from))
	r.Row(w, "store", where)
	standing := f.Project.ProductionConfig
	for _, name := range f.Project.EnvironmentNames() {
		if branch := standing.Environments[name].Follows; branch != "" {
			r.Row(w, branch, console.Faint("-> ")+name)
		}
	}

	if patterns := append(append([]string{}, standing.Previews.Follows...),
		standing.Previews.Refs...); len(patterns) > 0 {
		r.Row(w, strings.Join(patterns, " "), console.Faint("-> ")+"previews")
	}
	if !f.Once {
		r.Note("%s", console.Faint("until Ctrl-C; next time it continues from here"))
	}
}

// tell shows one event, with its address or its error beneath.
func (r *followReport) tell(event follow.Event) {
	if event.Kind == follow.Live {
		s := &session{project: r.follower.Project, store: r.follower.Store, site: r.follower.Project.Site()}
		nodes, _ := edge.Reached(context.Background(), s.store, storage.KnownAhead(s.store))
		// Told even when the follower is just ending: it is live.
		addresses := s.addresses(context.Background(), event.Head.Environment, event.Head.Document, nodes)
		event.Address = addresses[0]
		values := view.MovedValues(s.site, *event.Head, event.Address, nodes)
		values.Took, values.Reused = event.Took, event.Reused
		r.failed = errors.Join(r.failed, r.files.save(values))
	}

	if (event.Kind == follow.Nothing || event.Kind == follow.Unchanged) && r.follower.Only != nil {
		r.failed = errors.Join(r.failed,
			r.files.save(view.OutputValues{Outcome: view.OutcomeUnchanged, Environment: event.Environment,
				Commit: event.Commit, Why: event.Why, Subject: event.Subject}))
	}
	if event.Kind == follow.Failed || event.Kind == follow.Trouble && event.Ref != "" {
		r.failed = errors.Join(r.failed,
			r.files.save(view.OutputValues{Outcome: view.OutcomeFailed, Environment: event.Environment,
				Commit: event.Commit, Subject: event.Subject, Why: fault.Line(event.Error)}))
	}

	if r.JSON {
		r.tellJSON(event)
		return
	}
	text := view.EventText(event)
	if m := r.follower.Mirror; m != nil { // what others push is there, and not yet here
		text = strings.Replace(text, "git log ", "git -C "+m.Dir+" log ", 1)
	}

	if event.Ref == "" && event.Kind != follow.Ended {
		if event.Error != nil {
			r.Problem(event.Error)
			if fault.KindOf(event.Error) == fault.Usage {
				r.Note("%s", console.Faint("until that is fixed, the previous configuration counts"))
			} else {
				r.Note("%s", console.Faint("Orilla tries again"))
			}
		}
		return
	}

	r.Print("%s  %-16s %s  %-34s  %s", console.Faint(event.When.Local().Format("15:04:05")), event.Branch,
		console.Accent(source.Short(event.Commit)), view.Shorten(event.Subject, 34), text)
	switch event.Kind {
	case follow.Live:
		r.Print("%s%s", strings.Repeat(" ", 72), console.Accent(event.Address))
		if len(event.Findings) > 0 {
			r.Print("%s%s", strings.Repeat(" ", 72), view.CountFindings(event.Findings))
			for i, f := range event.Findings {
				if i == 5 {
					break
				}
				r.Print("%s%s", strings.Repeat(" ", 72), console.Faint(f.Position.String()+": "+f.What))
			}
		}
	case follow.Failed, follow.Trouble:
		r.Problem(event.Error)
	}
}

// tellJSON writes an event as one line of JSON (JSON Lines), so that a program
// can read while it goes on.
func (r *followReport) tellJSON(event follow.Event) {
	report := view.EventReport{Event: event, Milliseconds: event.Took.Milliseconds(),
		Code: fault.Code(event.Error)}
	if event.Error != nil {
		report.Problem = event.Error.Error()
	}
	r.Line(report) //nolint:errcheck // nobody to tell
}

// end counts, on one line, what became of all commits. err is why it ended before
// everything was done; nil if it was.
func (r *followReport) end(err error) {
	c := r.follower.Counts
	var parts []string
	for _, part := range []struct {
		n    int
		what string
	}{{c.Built, "built"}, {c.Reused, "live without a build"}, {c.Superseded, "superseded"},
		{c.Failed, "failed"}, {c.Waiting, "waiting"}, {c.Nothing, "skipped"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.what))
		}
	}

	if len(parts) == 0 {
		if err != nil {
			return // whether there is anything new is not known
		}
		parts = []string{"nothing new"}
	}
	r.Note("%s", console.Faint(strings.Join(parts, ", ")))
}
