package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/store/trial"
	"orilla.example/orilla/internal/view"
)

// attempt returns the random mark by which a writer knows its own entry after
// an answer that was lost.
func attempt() string { return strings.ToLower(rand.Text()) }

// deployOptions are the flags of deploy, and, but for the target, of build.
type deployOptions struct {
	site.Order
	transferOptions
	writeOptions
	waitOptions
	keepFor, archive                                             string
	cause                                                        string // what moves it; "" for a command
	watch                                                        bool
	dryRun, rebuild, rehash, noIndex, takeOver, yes, open, again bool
	encode, pictures                                             bool
}

// flags adds what deploy and build have in common.
func (o *deployOptions) flags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&o.WorkingTree, "working-tree", false,
		"publish the working tree as it is now, not a commit")
	flags.StringVar(&o.From, "from", "",
		"publish a finished `FOLDER`, an archive (ZIP, tar, tar.gz), or - for an archive on "+
			"standard input")

	flags.StringVar(&o.SaidCommit, "commit", "", "with --from: the `COMMIT` that the output was "+
		"built from")
	flags.StringVarP(&o.Message, "message", "m", "", "the `REASON`, kept in the history")
	flags.StringVar(&o.Branch, "branch", "", "the `BRANCH`, if Git cannot tell")
	siteFlag(flags, &o.Site)
	flags.BoolVar(&o.again, "again", false, "publish it again even if it is already live")
	flags.BoolVar(&o.rebuild, "rebuild", false, "rebuild even if unchanged")
	flags.BoolVar(&o.rehash, "rehash", false, "rehash every file, ignoring the cache")
	flags.BoolVar(&o.noIndex, "without-index", false, "allow an output without index.html at the top")
	flags.BoolVar(&o.takeOver, "take-over", false, "take the site's name over from another repository")
	flags.BoolVarP(&o.yes, "yes", "y", false, "assume yes to every prompt")
	o.transferOptions.flags(cmd)
	flags.BoolVar(&o.encode, "encode", false,
		"then compress text here (br, zstd, gzip), so that no edge node has to")
	flags.BoolVar(&o.dryRun, "dry-run", false, "show what would be published, without doing it")
}

// deployCmd puts a commit, a working tree or ready output live; build, which
// puts it nowhere, is the same command with less.
type deployCmd struct{ activator }

func newDeployCommand(a *app) *cobra.Command {
	c := &deployCmd{activator{a}}
	o := &deployOptions{}
	cmd := &cobra.Command{
		Use:   "deploy [COMMIT|FOLDER|ARCHIVE]",
		Short: "Build a commit and publish it",
		Long: "Deploy builds a commit in a clean checkout (default: HEAD), uploads new files, and " +
			"then moves an environment to the new release in one step. Without --to, that is the " +
			"environment that follows the branch, or else the branch's own preview.\n" +
			"\nA FOLDER or ARCHIVE is published as it is, without a build.",
		Example: "orilla deploy                    the last commit of this branch\n" +
			"orilla deploy --working-tree     the working tree, committed or not\n" +
			"orilla deploy dist               a finished folder\n" +
			"orilla deploy v1.4 --to staging  a tag, to the environment staging\n" +
			"orilla deploy --working-tree --to preview/strike --for 2d\n" +
			"orilla deploy --working-tree --to preview/ines --watch",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.commits,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				o.Commit = args[0]
			}
			return o.record(o.To, c.deploy(cmd.Context(), o))
		},
	}

	cmd.Flags().StringVar(&o.To, "to", "",
		"publish to this `ENVIRONMENT`: production, another one of orilla.yaml, or preview/NAME")
	cmd.RegisterFlagCompletionFunc("to", completion{a}.environments) //nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("branch", completion{a}.branches) //nolint:errcheck // the flag exists
	o.flags(cmd)
	o.writeOptions.flags(cmd)
	cmd.Flags().StringVar(&o.keepFor, "for", "",
		"with --to preview/NAME: keep it for this `DURATION`, such as 8h or 2d; never for no end "+
			"(default: previews.expire_after)")
	cmd.Flags().StringVar(&o.keepFor, "expires", "", "the same as --for")
	cmd.Flags().MarkHidden("expires") //nolint:errcheck // the flag exists; scripts of 0.1 use it

	o.waitOptions.flags(cmd)
	cmd.Flags().StringVar(&o.Ref, "proposed", "",
		"with --from: publish to the preview of the proposed change with this full `REF`")
	cmd.Flags().BoolVar(&o.watch, "watch", false,
		"with --working-tree: publish again at each save, until Ctrl-C")
	cmd.Flags().BoolVar(&o.open, "open", false, "open the URL in the browser afterwards")
	cmd.Flags().BoolVar(&o.pictures, "pictures", false, "take pictures of its pages afterwards")
	return a.jsonFlag(cmd)
}

func newBuildCommand(a *app) *cobra.Command {
	c := &deployCmd{activator{a}}
	o := &deployOptions{}
	cmd := &cobra.Command{
		Use:   "build [COMMIT]",
		Short: "Build a release without publishing it",
		Long: "Build makes a release from a commit, in a clean checkout, without publishing it. " +
			"With --archive it writes the output to a file and needs no store and no credentials, " +
			"so a CI job that builds a proposed change holds nothing that the change could steal. " +
			"Another job publishes the archive: orilla deploy --from FILE --proposed REF.",
		Example: "orilla build winter-times\norilla build HEAD --archive site.tar.gz",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.commits,
		RunE: func(cmd *cobra.Command, args []string) error {
			o.NoTarget, o.Apart = true, o.archive != ""
			if len(args) > 0 {
				o.Commit = args[0]
			}
			return c.deploy(cmd.Context(), o)
		},
	}

	o.flags(cmd)
	cmd.Flags().StringVar(&o.archive, "archive", "",
		"write the output to `FILE` (.zip, .tar or .tar.gz) and use no store")
	return a.jsonFlag(cmd)
}

// wouldAsk says that a deploy would ask about a freeze, where somebody is there.
func (a *activator) wouldAsk(head journal.Entry) error {
	a.Note("%s", console.Warn(journal.DisplayName(head.Environment)+" is frozen by "+
		source.PersonName(head.Frozen.Who)+"; a deploy would ask"))
	return nil
}

// wouldClaim says that a deploy would take the site's name.
func (a *activator) wouldClaim(plan *site.Plan) error {
	a.Note("%s", console.Faint("the name "+plan.Site+" is free; a deploy would take it for "+
		plan.Project.Root))
	return nil
}

// deploy carries out both deploy and build: what they have in common is nearly
// everything.
func (a *deployCmd) deploy(ctx context.Context, o *deployOptions) error {
	a.dry = o.dryRun
	if _, err := o.limiter(); err != nil { // before anything is read
		return err
	}
	if err := o.check(); err != nil {
		return err
	}
	// Paths are relative to where the command was run, not to the project's
	// root.
	if o.From != "" && o.From != "-" {
		o.From = a.path(o.From)
	}
	if o.Ref != "" && o.From == "" {
		return fault.New(fault.Usage, "usage", "--proposed needs --from").
			Then("build it first: orilla build --archive site.tar.gz")
	}

	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	if err := a.readyOutput(ctx, p, o); err != nil {
		return err
	}
	// Everything that may have to be asked is asked here, before anything takes
	// time.
	if p, err = a.ensureConfigured(ctx, p, o); err != nil {
		return err
	}

	if err := a.branchOfCI(ctx, p, o); err != nil {
		return err
	}
	o.ByHand = a.Asks || o.yes
	if o.watch {
		return a.watch(ctx, p, o)
	}
	return a.deployOnce(ctx, p, o)
}

// noteDoubt says that it is not known which branch is the main one, and so none counts as it.
// Whoever names the environment knows it. The rest is told before the build and not after it: what
// goes to a preview by mistake costs a build, and what is thought to be live, and is not, an evening.
func noteDoubt(a *app, p *site.Project, o *deployOptions) {
	next := "git remote set-head --auto origin"
	if o != nil {
		next = "orilla deploy --to production"
	}
	if p.Doubt != "" && p.ProductionCommit == "" && (o == nil || o.To == "" && !o.NoTarget) {
		a.Notice(fault.Notice{Code: "main-unknown", Next: next,
			What: p.Doubt + "; so no branch is published to production by itself"})
	}
}

// nameIt is what to do about a site without a name: of ready output the deploy again
// with a name, else the configuration that a build needs anyway.
func nameIt(p *site.Project, o *deployOptions) string {
	if o.From == "" || o.From == "-" {
		return "orilla init"
	}
	folder := o.From
	if within, err := filepath.Rel(p.Root, o.From); err == nil {
		folder = within
	}
	return "orilla deploy " + shellWord(folder) + " --site " + project.Label(filepath.Base(p.Root)) + " --yes"
}

// readyOutput takes an argument that is a folder or an archive here, and no commit,
// as ready output.
func (a *deployCmd) readyOutput(ctx context.Context, p *site.Project, o *deployOptions) error {
	if o.From != "" || o.WorkingTree || !folderOr(ctx, a.app, p, o.Commit) {
		return nil
	}
	typed := o.Commit
	o.From, o.Commit = a.path(filepath.FromSlash(typed)), ""
	return refuseProject(o.From, typed)
}

// deployOnce carries out one deploy or build of a project.
func (a *deployCmd) deployOnce(ctx context.Context, p *site.Project, o *deployOptions) error {
	if err := a.learnSecret(ctx, p, o); err != nil {
		return err
	}
	plan, err := a.plan(ctx, p, o)
	if err != nil {
		return err
	}

	expires, err := o.expireAfter(plan)
	if err != nil {
		return err
	}
	// From here on the order is what people want to read: what and where, then how it
	// was built, then what changed, then what is live and how to undo it.
	//
	// What will happen, before it does. Counting uncommitted files takes a
	// while in a large tree, so that is shown when it is known.
	later := view.ShowPlan(a.Console, plan)
	noteDoubt(a.app, p, o)

	limit, err := o.limiter()
	if err != nil {
		return err
	}
	if o.Apart {
		return a.buildApart(ctx, plan, o)
	}

	// Credentials are used before the build, and not for the first time after
	// it.
	store, err := a.openStore(ctx, p, true)
	if err != nil {
		return err
	}
	if remote, ok := trial.Beneath(store).(storage.Remote); ok {
		a.Row(a.Err, "store", remote.Place()+console.Faint("  as "+remote.Account()))
	}

	// Uploading makes garbage fast. With a limit, the collector runs sooner
	// instead of doubling the process.
	debug.SetMemoryLimit(uploadMemory)
	report := &reporter{app: a.app}
	// Automatic is what nobody can be asked about: it never overrides a person.
	job := deploy.Job{
		Plan: plan, Store: store, Report: report, Now: time.Now, Cause: cmp.Or(o.cause, "command"),
		Trial:     o.dryRun,
		Automatic: !a.Asks && !o.yes, Stdin: os.Stdin, Rebuild: o.rebuild, Rehash: o.rehash,
		NoIndex:  o.noIndex,
		TakeOver: o.takeOver, SkipSame: !o.again, Parallel: o.parallel, Rate: limit, ExpireAfter: expires,
		Ask: deploy.Questions{
			Frozen:    func(head journal.Entry) error { return a.askFrozen(ctx, head, o.yes) },
			Unclaimed: func() error { return a.askClaim(ctx, plan, o.yes) },
		},
	}

	if o.dryRun {
		job.Ask.Frozen, job.Rate = a.wouldAsk, nil
		if a.Asks { // without a terminal a deploy would refuse
			job.Ask.Unclaimed = func() error { return a.wouldClaim(plan) }
		}
	}
	if job.WaitFor, err = a.probes(plan, o.waitOptions); err != nil {
		return err
	}
	tells(ctx, a.app, p, store, plan.Site, plan.Environment)
	return a.carryOut(ctx, o, job, report, later)
}

// carryOut builds a release and puts it live, if the plan says where. later, if
// not nil, tells what took longer to find out than what goes live should wait.
func (a *deployCmd) carryOut(ctx context.Context, o *deployOptions, job deploy.Job, report *reporter,
	later func(),
) error {
	started := time.Now()
	job.Began = func(number int64) {
		report.build = number
		a.courier.Look()
	}
	prepared, err := deploy.Prepare(ctx, job)
	if err != nil {
		return a.failed(err)
	}
	defer prepared.Close(ctx)
	release, err := prepared.Build(ctx)
	report.end()
	if err != nil && ctx.Err() != nil && !errors.Is(err, builds.ErrCancelled) {
		return report.interrupted(job.Plan)
	}
	if err != nil {
		return a.failed(err)
	}
	defer release.Close(ctx)
	if o.dryRun {
		release.Number = 0 // no build of that number is kept
	}

	// The report on the release comes before it is live, so that a failure
	// afterwards is read with it.
	done := deployed{job: job, report: report, release: release}
	if later != nil {
		later()
	}
	view.ReportRelease(a.Console, job.Plan, release)

	if job.Plan.Environment == "" {
		err = a.reportBuilt(ctx, done)
	} else {
		err = a.failed(a.putLive(ctx, o, done, started))
	}
	// Only now: what goes live does not wait for it.
	if err == nil && o.encode && !o.dryRun {
		a.encode(ctx, job, release.ID)
	}
	return err
}

// deployed is a release on its way: what was asked for,
// and what came of it so far.
type deployed struct {
	job      deploy.Job
	report   *reporter // the job's
	release  *deploy.Release
	live     *deploy.Activation
	prepared *deploy.Prepared     // of checks alone
	verified *deploy.Verification // nil if nothing was
}

// putLive activates a release, verifies it, and tells what is live.
func (a *activator) putLive(ctx context.Context, o *deployOptions, done deployed, started time.Time) error {
	// From here to what edge nodes say is what "live in 40 ms" means.
	flip := time.Now()
	var err error
	if done.live, err = done.release.Activate(ctx); err != nil {
		return err
	}
	if o.dryRun {
		return a.reportDry(ctx, done)
	}

	if done.verified, err = a.verify(ctx, done); err != nil {
		return err
	}
	plan := done.job.Plan
	rememberTarget(a.app, plan.Project.Root, plan.Site, journal.DisplayName(plan.Environment))
	return a.reportLive(ctx, o, done, flip, started)
}

// learnSecret reads what labels of previews are made with, where they are to be
// unguessable; the site's name is claimed first.
func (a *deployCmd) learnSecret(ctx context.Context, p *site.Project, o *deployOptions) error {
	if !p.ProductionConfig.Previews.Unguessable || o.NoTarget {
		return nil
	}
	name := cmp.Or(o.Site, p.Site())
	store, err := a.openStore(ctx, p, !o.dryRun)
	if errors.Is(err, storage.ErrNone) && o.dryRun {
		return nil // the label will have its unguessable part once there is a store
	}
	if err != nil {
		return err
	}

	// The secret is in the site's claim, so the name has to be taken first.
	claim := func() error {
		ask := func() error { return a.askClaim(ctx, &site.Plan{Project: p, Site: name}, o.yes) }
		mine, err := site.CheckClaim(ctx, p, store, name, o.takeOver, ask)
		if err != nil {
			return err
		}
		return mine.Take(ctx, store, o.takeOver)
	}

	if o.dryRun {
		claim = func() error { return nil }
	}
	err = p.LearnSecret(ctx, store, name, claim)
	if errors.Is(err, storage.ErrNotFound) && o.dryRun {
		err = nil
	}
	return err
}

// expireAfter reads --for; 0 if it was not given, and deploy.Never for never.
func (o *deployOptions) expireAfter(plan *site.Plan) (time.Duration, error) {
	if o.keepFor == "" {
		return 0, nil
	}
	if !journal.IsPreview(plan.Environment) {
		return 0, fault.New(fault.Usage, "usage", "only previews can expire; %s is not a preview",
			cmp.Or(journal.DisplayName(plan.Environment), "a release without "+
				"publishing it")).Then("--to preview/NAME")
	}

	if o.keepFor == project.Never {
		return deploy.Never, nil
	}
	after, err := project.ParseDuration(o.keepFor)
	if err == nil && after < project.Duration(time.Minute) {
		err = fmt.Errorf("%q is too short; the minimum is 1m", o.keepFor)
	}
	if err != nil {
		return 0, fault.New(fault.Usage, "bad-time", "--for: %s", err)
	}
	return time.Duration(after), nil
}

// branchOfCI takes the branch of a detached checkout from
// what the CI system says.
func (a *deployCmd) branchOfCI(ctx context.Context, p *site.Project, o *deployOptions) error {
	if strings.HasPrefix(o.Branch, "refs/") {
		var err error
		o.Branch, o.Ref, err = site.OtherRef(p, o.Branch)
		return err
	}
	if a.Asks || p.Repository == nil || o.Branch != "" || o.To != "" || o.From != "" ||
		o.Commit != "" && o.Commit != "HEAD" {
		return nil
	}
	change := site.CIChange(os.Getenv, p.ProductionConfig.Previews)
	if change.Ref != "" && p.Repository.Branch(ctx) == "" {
		a.Note("%s", console.Faint("proposed change "+change.Ref+", as "+change.Variable+" says"))
		o.Ref, o.To, o.cause = change.Checkout, p.PreviewOf(change.Ref), "follow"
		o.Branch = strings.TrimPrefix(change.Ref, "refs/")
		return nil
	}
	// CI checks out a commit and no branch; its variables say which one it was.
	branch, variable := site.CIBranch(os.Getenv)
	if branch == "" || p.Repository.Branch(ctx) != "" {
		return nil
	}

	// What CI deploys of a branch ends as what a follower deploys does.
	o.Branch, o.cause = branch, "follow"
	a.Note("%s", console.Faint("branch "+branch+", as "+variable+" says"))
	if o.Apart { // it goes nowhere
		return nil
	}
	return site.RefuseProposal(p, branch, variable)
}

// uploadMemory is how much memory an upload may take
// before the collector works harder.
const uploadMemory = 150 << 20

// plan finds out what the order means. Where nothing says which environment
// should move, a terminal is asked.
func (a *deployCmd) plan(ctx context.Context, p *site.Project, o *deployOptions) (*site.Plan, error) {
	last, known := lastTarget(a.app, p.Root)
	preview := strings.HasPrefix(last.Environment, "preview/")
	again := func() { // before anything else is printed
		o.To = last.Environment
		a.Note("%s", console.Faint("to "+o.To+", as last time from this folder; --to chooses another one"))
	}
	// What is worked on goes on going to its preview. A commit has a branch that
	// says where it belongs.
	if known && preview && o.To == "" && (o.WorkingTree || o.From != "" || p.Repository == nil) {
		again()
	}
	plan, err := site.MakePlan(ctx, p, o.Order)
	if !errors.Is(err, site.ErrNoTarget) {
		return plan, err
	}
	switch {
	case known && last.Environment != "":
		again()
		return site.MakePlan(ctx, p, o.Order)
	case p.Repository == nil && len(p.EnvironmentNames()) == 1:
		o.To = project.Production // there is no other
		return site.MakePlan(ctx, p, o.Order)
	case !a.Asks || o.yes:
		return nil, err
	}
	o.To, err = a.Select(ctx, "Which environment?", "", p.EnvironmentNames())
	if err != nil {
		return nil, err
	}
	return site.MakePlan(ctx, p, o.Order)
}

// failed adds to a build's error what to do. Where the step's output was
// streamed, its last lines are not shown again.
func (a *deployCmd) failed(err error) error {
	problem, ok := errors.AsType[*fault.Error](err)
	// Whoever typed it did not mean to be a machine.
	if ok && !a.Asks && (errors.Is(err, environments.ErrPaused) || errors.Is(err, environments.ErrFrozen)) {
		problem = problem.With("no terminal to ask on, so this deploy counts as automatic")
		if errors.Is(err, environments.ErrFrozen) {
			problem = problem.Then("to decide it yourself, add --yes")
		}
		return problem
	}
	if !ok || !errors.Is(err, steps.ErrStepFailed) && !errors.Is(err, steps.ErrTimeLimit) {
		return err
	}
	// In a log of CI the output of the steps stands right above; on a terminal
	// it was replaced by progress.
	if !a.ErrTerm {
		problem.Detail = []string{"its output is above"}
	}
	return problem.Then("fix it, commit, and deploy again; nothing changed live")
}

// ensureConfigured asks the questions of init when there is no orilla.yaml, and
// the name of a site for ready output.
func (a *deployCmd) ensureConfigured(ctx context.Context, p *site.Project, o *deployOptions,
) (*site.Project, error) {
	if p.Configured || o.Site != "" || p.ProductionConfig.Site != "" {
		return p, nil
	}
	if !a.Asks {
		return nil, fault.New(fault.Usage, "no-site",
			"no orilla.yaml here, so the site has no name").At("%s", p.Root).With(
			"a site needs a name: it becomes part of its addresses").
			Then("%s", nameIt(p, o))
	}

	if o.From != "" {
		// The folder's name does; whoever wants another one is told how when the name
		// is taken.
		o.Site = project.Label(filepath.Base(p.Root))
		if last, ok := lastTarget(a.app, p.Root); ok {
			o.Site = last.Site
		}
		return p, nil
	}

	if err := (&initCmd{a.app}).init(ctx, p, initOptions{goesOn: true}); err != nil {
		return nil, err
	}
	return a.load(ctx)
}

// reportDry tells what a deploy would have put live: it was done on a store that
// forgets, so everything that the deploy would refuse was refused by then.
func (a *activator) reportDry(ctx context.Context, done deployed) error {
	plan := done.job.Plan
	before := done.live.Before
	if a.JSON {
		report := view.NewDeployReport(plan, done.release)
		report.DryRun, report.Environment = true, journal.DisplayName(plan.Environment)
		return a.Document(report)
	}
	// What else the entry would change: addresses, upstreams, settings.
	var head journal.Entry
	if before != nil {
		head = *before
	}
	changes, err := environments.DocumentChanges(ctx, plan, done.job.Store, head)
	if err != nil {
		return err
	}
	for i, line := range changes {
		a.Row(a.Err, console.Label("settings", i), line)
	}
	for i, what := range done.job.WaitFor {
		a.Row(a.Err, console.Label("wait for", i), what)
	}

	view.ReportDry(a.Console, done.release, done.live)
	a.Note("%s", console.Faint("--dry-run changed nothing"))
	return nil
}

// askFrozen asks whether a command may move an environment that somebody froze.
// A freeze keeps automation out at once; a person who reads who froze it and
// why may decide otherwise.
func (a *activator) askFrozen(ctx context.Context, head journal.Entry, yes bool) error {
	refusal := environments.FrozenRefusal(head)
	if yes {
		return nil
	}
	name := journal.DisplayName(head.Environment)
	about := "by " + head.Frozen.Who + ", " + a.Age(head.Frozen.When)
	if head.Frozen.Why != "" {
		about += ": " + head.Frozen.Why
	}

	ok, err := a.Confirm(ctx, name+" is frozen. Deploy anyway? It stays frozen.", about, false)
	if err == nil && !ok {
		err = refusal
	}
	return err
}

// askClaim asks before a folder without Git takes a site's name.
func (a *deployCmd) askClaim(ctx context.Context, plan *site.Plan, yes bool) error {
	if yes {
		return nil
	}
	what := "a folder without Git"
	if plan.Project.Repository != nil {
		what = "a repository without commits"
	}
	ok, err := a.Confirm(ctx, "Take the name "+plan.Site+" for this folder?",
		"Orilla will refuse later deploys from other folders or repositories. Another name: "+
			"--site NAME.", true)
	if errors.Is(err, console.ErrNobody) || err == nil && !ok {
		return fault.New(fault.Refused, "name-free",
			"the name %s is free; to take it for %s, Orilla needs your confirmation", plan.Site,
			what).
			At("%s", plan.Project.Root).Then("add --yes")
	}
	return err
}

// edgeWait is how long a deploy waits for edge nodes to show what is live.
const edgeWait = 3 * time.Second

// flipped has the edge nodes look for an entry, and returns what each says, once all serve
// it or edgeWait is over: a deploy does not wait longer because there are more of them.
func flipped(ctx context.Context, s *session, entry journal.Entry) view.Flip {
	return view.NewFlip(s.calls(ctx).Flipped(ctx, entry, edgeWait), entry)
}

// calls returns what calls the edge nodes of the site.
func (s *session) calls(ctx context.Context) *edge.Waker {
	if s.waker == nil {
		s.waker = edge.NewWaker(ctx, s.store, s.site, storage.KnownAhead(s.store),
			s.project.ProductionConfig.EdgeKeys)
	}
	return s.waker
}
