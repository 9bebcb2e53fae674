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
	expires, archive                                             string
	cause                                                        string // what moves it; "" for a command
	watch                                                        bool
	dryRun, rebuild, rehash, noIndex, takeOver, yes, open, again bool
}

// flags adds what deploy and build have in common.
func (o *deployOptions) flags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&o.WorkingTree, "working-tree", false,
		"publish the working tree as it is now, not a commit")
	flags.StringVar(&o.From, "from", "",
		"publish ready output: a `FOLDER`, a ZIP, tar or tar.gz archive, or - for one on standard input")

	flags.StringVar(&o.SaidCommit, "commit", "", "with --from: the commit that the output was built from")
	flags.StringVarP(&o.Message, "message", "m", "", "say why")
	flags.StringVar(&o.Branch, "branch", "", "the branch, where Git does not say it")
	siteFlag(flags, &o.Site)
	flags.BoolVar(&o.again, "again", false, "publish it again even if it is already live")
	flags.BoolVar(&o.rebuild, "rebuild", false, "build although the same was built before")
	flags.BoolVar(&o.rehash, "rehash", false, "read every file, whatever is remembered of it")
	flags.BoolVar(&o.noIndex, "without-index", false, "allow an output that has no index.html at the top")
	flags.BoolVar(&o.takeOver, "take-over", false, "take the site's name from the repository that has it")
	flags.BoolVar(&o.yes, "yes", false, "answer yes to what would be asked")
	o.transferOptions.flags(cmd)
	flags.BoolVar(&o.dryRun, "dry-run", false, "say what would go where, and stop")
}

// deployCmd puts a commit, a working tree or ready output live; build, which
// puts it nowhere, is the same command with less.
type deployCmd struct{ activator }

func newDeployCommand(a *app) *cobra.Command {
	c := &deployCmd{activator{a}}
	o := &deployOptions{}
	cmd := &cobra.Command{
		Use:   "deploy [COMMIT]",
		Short: "Build a commit and put it live",
		Long: "Deploy builds a commit in a clean checkout (default: HEAD), uploads what the store lacks, " +
			"and then points an environment\n" +
			"at the new release in one step. Which one: --to, else the one that follows the " +
			"branch, else the branch's preview.",
		Example: "  orilla deploy                        the last commit of this branch\n" +
			"  orilla deploy --working-tree         what is here now, committed or not\n" +
			"  orilla deploy --from dist            a folder that is already built\n" +
			"  orilla deploy v1.4 --to staging      a tag, to the environment staging\n" +
			"  orilla deploy --working-tree --to preview/strike --expires 2d      a preview " +
			"of what is here, for two days\n" +
			"  orilla deploy --working-tree --to preview/ines --watch             and again at each save",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.commits,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				o.Commit = args[0]
			}
			return o.record(o.To, c.deploy(cmd.Context(), o))
		},
	}

	cmd.Flags().StringVar(&o.To, "to", "",
		"the `ENVIRONMENT` to move: production, another one of orilla.yaml, or preview/NAME")
	cmd.RegisterFlagCompletionFunc("to", completion{a}.environments) //nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("branch", completion{a}.branches) //nolint:errcheck // the flag exists
	o.flags(cmd)
	o.writeOptions.flags(cmd)
	cmd.Flags().StringVar(&o.expires, "expires", "",
		"with --to preview/NAME: when it ends, after a `TIME` such as 8h or 2d "+
			"(default: previews.expire_after)")

	o.waitOptions.flags(cmd)
	cmd.Flags().StringVar(&o.Ref, "proposed", "",
		"with --from: the output is of a proposed change, whose full `REF` this is; "+
			"it goes to a preview of its own")
	cmd.Flags().BoolVar(&o.watch, "watch", false,
		"with --working-tree: publish again at each save, until Ctrl-C")
	cmd.Flags().BoolVar(&o.open, "open", false, "open the address in the browser afterwards")
	return a.jsonFlag(cmd)
}

func newBuildCommand(a *app) *cobra.Command {
	c := &deployCmd{activator{a}}
	o := &deployOptions{}
	cmd := &cobra.Command{
		Use:   "build [COMMIT]",
		Short: "Build a commit into a release that is live nowhere, with an address of its own",
		Long: "Build makes a release in a clean checkout, as deploy does, and puts it nowhere. With " +
			"--archive it needs no store and no credentials:\n" +
			"a job that builds a proposed change in CI holds nothing that the change could steal. Another " +
			"job, which runs none of the change's\n" +
			"code, publishes the archive: orilla deploy --from FILE --proposed REF.",
		Example: "  orilla build winter-times\n  orilla build HEAD --archive site.tar.gz",
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
		"write the output to `FILE`, ending in .zip, .tar or .tar.gz, and nothing to a store")
	return a.jsonFlag(cmd)
}

// deploy carries out both deploy and build: what they have in common is nearly
// everything.
func (a *deployCmd) deploy(ctx context.Context, o *deployOptions) error {
	if err := o.check(); err != nil {
		return err
	}
	// Paths are relative to where the command was run, not to the project's
	// root.
	if o.From != "" && o.From != "-" {
		o.From = a.path(o.From)
	}
	if o.Ref != "" && o.From == "" {
		return fault.New(fault.Usage, "usage", "--proposed goes with --from").
			Then("orilla build --archive site.tar.gz, then orilla deploy --from site.tar.gz --proposed %s",
				o.Ref)
	}

	p, err := a.load(ctx)
	if err != nil {
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
	// What will happen, before it does. Counting uncommitted files takes a
	// while in a large tree, so that is shown when it is known.
	later := view.ShowPlan(a.Console, plan)

	if o.dryRun {
		if later != nil {
			later()
		}
		return a.dryRun(ctx, plan)
	}

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
	if remote, ok := store.(storage.Remote); ok {
		a.Row(a.Err, "store", remote.Place()+console.Faint("  as "+remote.Account()))
	}

	// Uploading makes garbage fast. With a limit, the collector runs sooner
	// instead of doubling the process.
	debug.SetMemoryLimit(uploadMemory)
	report := &reporter{app: a.app}
	// Automatic is what nobody can be asked about: it never overrides a person.
	job := deploy.Job{
		Plan: plan, Store: store, Report: report, Now: time.Now, Cause: cmp.Or(o.cause, "command"),
		Automatic: !a.Asks && !o.yes, Stdin: os.Stdin, Rebuild: o.rebuild, Rehash: o.rehash,
		NoIndex:  o.noIndex,
		TakeOver: o.takeOver, SkipSame: !o.again, Parallel: o.parallel, Rate: limit, ExpireAfter: expires,
		Ask: deploy.Questions{
			Frozen:    func(head journal.Entry) error { return a.askFrozen(ctx, head, o.yes) },
			Unclaimed: func() error { return a.askClaim(ctx, plan, o.yes) },
		},
	}

	if job.WaitFor, err = a.probes(plan, o.waitOptions); err != nil {
		return err
	}
	return a.carryOut(ctx, o, job, report, later)
}

// carryOut builds a release and puts it live, if the plan says where. later, if
// not nil, tells what took longer to find out than what goes live should wait.
func (a *deployCmd) carryOut(ctx context.Context, o *deployOptions, job deploy.Job, report *reporter,
	later func(),
) error {
	started := time.Now()
	job.Began = func(number int64) { report.build = number }
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

	// The report on the release comes before it is live, so that a failure
	// afterwards is read with it.
	done := deployed{job: job, report: report, release: release}
	view.ReportRelease(a.Console, job.Plan, release)
	if later != nil {
		defer later()
	}

	if job.Plan.Environment == "" {
		return a.reportBuilt(ctx, done)
	}
	return a.failed(a.putLive(ctx, o, done, started))
}

// deployed is a release on its way: what was asked for,
// and what came of it so far.
type deployed struct {
	job      deploy.Job
	report   *reporter // the job's
	release  *deploy.Release
	live     *deploy.Activation
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

	if done.verified, err = a.verify(ctx, done); err != nil {
		return err
	}
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

// expireAfter reads --expires; 0 if it was not given.
func (o *deployOptions) expireAfter(plan *site.Plan) (time.Duration, error) {
	if o.expires == "" {
		return 0, nil
	}
	if !journal.IsPreview(plan.Environment) {
		return 0, fault.New(fault.Usage, "usage", "only previews can expire; %s is not a preview",
			cmp.Or(journal.DisplayName(plan.Environment), "a release of its own")).Then("--to preview/NAME")
	}

	after, err := project.ParseDuration(o.expires)
	if err == nil && after < project.Duration(time.Minute) {
		err = fmt.Errorf("%q is too short; a minute is the least", o.expires)
	}
	if err != nil {
		return 0, fault.New(fault.Usage, "bad-time", "--expires: %s", err)
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
	plan, err := site.MakePlan(ctx, p, o.Order)
	if !errors.Is(err, site.ErrNoTarget) || !a.Asks || o.yes {
		return plan, err
	}
	o.To, err = a.Select(ctx, "Where should it go?", "", p.EnvironmentNames())
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
		problem = problem.With("without a terminal nobody can be asked, so this deploy counts as automatic")
		if errors.Is(err, environments.ErrFrozen) {
			problem = problem.Then("if you decide it yourself, say so: --yes")
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
	return problem.Then("correct it, commit, and deploy again; what is live is as it was")
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
			"there is no orilla.yaml here, so the site has no name").At("%s", p.Root).
			Then("orilla init writes one").Then("or name the site: --site NAME")
	}

	if o.From != "" {
		name, err := (&initCmd{a.app}).askSite(ctx, project.Label(filepath.Base(p.Root)))
		o.Site = name
		return p, err
	}

	if err := (&initCmd{a.app}).init(ctx, p, initOptions{goesOn: true}); err != nil {
		return nil, err
	}
	return a.load(ctx)
}

// dryRun says what a deploy would do, and does nothing of it: neither a build,
// which may have effects of its own, nor a write to the store.
func (a *deployCmd) dryRun(ctx context.Context, plan *site.Plan) error {
	a.foresee(ctx, plan)
	if a.JSON {
		return a.Document(view.DeployReport{Site: plan.Site,
			Environment: journal.DisplayName(plan.Environment), Source: string(plan.Origin.Source),
			Commit: plan.Origin.Commit, Branch: plan.Origin.Branch, DryRun: true})
	}

	steps := plan.Config.Build.Steps()
	if plan.Origin.Source == journal.FromOutput || len(steps) == 0 {
		a.Row(a.Err, "build", "no steps")
	}
	for i, step := range steps {
		if plan.Origin.Source == journal.FromOutput {
			break
		}
		a.Row(a.Err, console.Label("build", i), step)
	}
	a.Note("%s", console.Faint("nothing was done: --dry-run"))
	return nil
}

// foresee says what a deploy would change of the environment itself, and who
// froze it, as far as there is a store to ask.
func (a *deployCmd) foresee(ctx context.Context, plan *site.Plan) {
	store, err := a.openStore(ctx, plan.Project, false)
	if err != nil || plan.Environment == "" {
		return
	}
	s := &session{project: plan.Project, store: store, site: plan.Site}
	head, err := s.head(ctx, plan.Environment)
	if err != nil {
		return
	}

	if changes, err := environments.DocumentChanges(ctx, plan, store, head); err == nil {
		for i, line := range changes {
			a.Row(a.Err, console.Label("changes", i), line)
		}
	}

	if head.Frozen.At(a.Now()) {
		a.Row(a.Err, "frozen", console.Warn("by "+source.PersonName(head.Frozen.Who)+", "+
			a.Age(head.Frozen.When)))
	}
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

	ok, err := a.Confirm(ctx, name+" is frozen. Deploy all the same? It stays frozen.", about, false)
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
	ok, err := a.Confirm(ctx, "Take the name "+plan.Site+" for this folder?",
		"Later deploys from another folder or repository will be refused.", true)
	if errors.Is(err, console.ErrNobody) || err == nil && !ok {
		return fault.New(fault.Refused, "name-free",
			"the name %s is free, and a folder without Git takes one only when told to", plan.Site).
			At("%s", plan.Project.Root).Then("add --yes to take it for this folder")
	}
	return err
}

// edgeWait is how long a deploy waits for edge nodes to show what is live.
const edgeWait = 3 * time.Second

// flipped asks the edge nodes until each serves the entry, and returns how many
// do, of how many, and which were asked.
func flipped(ctx context.Context, s *session, entry journal.Entry) (serving int, nodes []edge.Presence) {
	nodes, err := edge.Reached(ctx, s.store, storage.KnownAhead(s.store))
	if err != nil {
		return 0, nil
	}
	// One deadline for all nodes: a deploy does not wait longer because there
	// are more of them.
	deadline := time.Now().Add(edgeWait)
	for _, node := range nodes {
		for {
			_, label, err := node.Serves(ctx, project.LocalName(s.site, entry.Environment))
			if err == nil && label == entry.Label() {
				serving++
				break
			}
			if err != nil || time.Now().After(deadline) || ctx.Err() != nil {
				break
			}
			time.Sleep(2 * time.Millisecond)
		}
	}

	return serving, nodes
}
