package site

import (
	"context"
	"errors"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/source"
)

// Order is what a user asked for.
type Order struct {
	Commit      string // a name of a commit; "" for HEAD
	WorkingTree bool   // the working tree as it is now
	From        string // ready output: a folder, an archive, or "-" for an archive on standard input
	SaidCommit  string // where ready output is said to come from
	To          string // the environment
	Branch      string
	Site        string // overrides the configuration
	Message     string
	NoTarget    bool   // build only: nothing will be live
	Ref         string // a followed ref that is no branch, by its full name; Branch is its name for people
	ByHand      bool   // somebody asks for it, in a clone of their own: it runs with their rights
	Apart       bool   // nothing goes into a store that others use, and the build is given no secrets
}

// Plan is what will be done: it is known before anything is built.
type Plan struct {
	Project     *Project
	Site        string
	Environment string // stored name; "" if nothing will be live
	Origin      journal.Origin
	Commit      *source.Commit // nil if there is none
	Config      project.Config // of what is published: build, pages, assets
	ConfigNote  string         // set if the configuration is not that of the commit
	From        string
	// Uncommitted counts the files whose changes are not in
	// this deploy, or, of a working tree, are. In a large tree
	// that takes a while; only the first call does the work.
	Uncommitted func() int
	Message     string
	Inputs      builds.Inputs
	Told        map[string]string // what the build is told of where it goes
	Ref         string            // the full name of the ref, where it is no branch
	ByHand      bool              // somebody asked for it
	Apart       bool              // it is built for an archive

	trusted bool // the commit is
}

// MakePlan finds out what an order means.
//
// It asks Git and reads files, and changes nothing; its errors are fault.Errors
// of kind Usage or Refused, with the command that would do.
func MakePlan(ctx context.Context, p *Project, order Order) (*Plan, error) {
	plan := &Plan{Project: p, Site: order.Site, From: order.From, Message: order.Message,
		Config: p.LocalConfig, Ref: order.Ref, ByHand: order.ByHand || order.Apart, Apart: order.Apart,
		Uncommitted: func() int { return 0 }}
	if plan.Site == "" {
		plan.Site = p.Site()
	}

	// Contradictions are told before anything is read.
	if err := checkOrder(p, order, plan.Site); err != nil {
		return nil, err
	}
	branch := order.Branch
	var err error
	if order.Ref != "" && order.To == "" {
		branch = strings.TrimPrefix(order.Ref, "refs/")
		order.To, order.Branch = p.PreviewOf(order.Ref), branch
	}

	switch {
	case order.From != "":
		err = plan.fromOutput(ctx, order)
	case order.WorkingTree || p.Repository == nil:
		plan.fromWorkingTree(ctx)
	default:
		branch, err = plan.fromCommit(ctx, order)
	}

	if err != nil {
		return nil, err
	}
	// Output and a working tree belong to the branch that is checked out,
	// unless somebody says otherwise.
	if branch == "" && order.Commit == "" && p.Repository != nil && plan.Origin.Source != journal.FromCommit {
		branch = p.Repository.Branch(ctx)
	}

	plan.Origin.Branch = branch
	if !order.NoTarget {
		plan.Environment, err = p.Target(order.To, branch)
		if errors.Is(err, ErrNoTarget) {
			return nil, noTarget(p, order)
		}
	}

	// What the build is told depends on the target, and its inputs on what it
	// is told: in this order.
	if plan.Origin.Source != journal.FromOutput {
		plan.tell()
	}
	if err == nil && plan.Origin.Source == journal.FromCommit {
		err = plan.trust(ctx, order)
	}
	if err == nil && plan.Origin.Source == journal.FromCommit {
		err = plan.inputs(ctx)
	}

	return plan, err
}

// inputs finds out what the build can see.
func (plan *Plan) inputs(ctx context.Context) error {
	p, build := plan.Project, plan.Config.Build
	folder := path.Join(p.Prefix, build.Folder)
	// Git's id of the folder, without rules and configuration, which change no
	// output. What else is named comes beside it.
	tree, err := p.Repository.Tree(ctx, plan.Commit.Hash, folder, notBuilt(plan.Config)...)
	if err != nil {
		return fault.New(fault.Usage, "no-build-folder", "the commit has no folder %q", folder).
			At("%s: build.folder", plan.Commit.Short()).Because(ctx.Err())
	}

	plan.Inputs = builds.Inputs{
		Source: journal.FromCommit, Tree: tree, Folder: folder, Prepare: build.Prepare, Run: build.Run,
		Output:   build.Output,
		LeaveOut: plan.Config.LeaveOut, Variables: build.Variables, Secrets: plan.Secrets(),
		Needs: build.Needs,
	}

	for _, also := range build.Also {
		id, err := p.Repository.Object(ctx, plan.Commit.Hash, also)
		if err != nil {
			return fault.New(fault.Usage, "no-also", "the commit has no folder or file %q", also).
				At("%s: build.also", plan.Commit.Short()).Because(ctx.Err()).
				Then("write paths in build.also from the top of the repository")
		}

		if plan.Inputs.Also == nil {
			plan.Inputs.Also = map[string]string{}
		}
		plan.Inputs.Also[strings.TrimSuffix(also, "/")] = id
	}
	plan.Inputs.Told = plan.Told
	return nil
}

// tell finds out what the build is told.
func (plan *Plan) tell() {
	for _, what := range plan.Config.Build.Tell {
		if plan.Told == nil {
			plan.Told = map[string]string{}
		}
		plan.Told[what] = plan.about(what)
	}
}

// Variables returns what the build is told, as the
// variables that its steps see.
//
//	ORILLA_COMMIT   ORILLA_BRANCH   ORILLA_ENVIRONMENT   ORILLA_ADDRESS
//
// Only what build.tell asks for is told: each becomes a part of the build key.
func (plan *Plan) Variables() map[string]string {
	variables := map[string]string{}
	for name, value := range plan.Told {
		if name != "history" {
			variables["ORILLA_"+strings.ToUpper(name)] = value
		}
	}
	return variables
}

// about returns what a build is told of where it goes.
func (plan *Plan) about(what string) string {
	switch what {
	case "commit", "history":
		return plan.Origin.Commit
	case "branch":
		return plan.Origin.Branch
	case "environment":
		return journal.DisplayName(plan.Environment)
	}

	if plan.Environment == "" {
		return "" // it goes nowhere
	}
	if addresses := plan.Project.ProductionConfig.Document(plan.Environment).Addresses; len(addresses) > 0 {
		return addresses[0]
	}
	// Where every node answers for it: what a page says of itself must not be
	// empty. The port is the usual one, since a node may have any.
	return "http://" + project.LocalName(plan.Site, plan.Environment) + ":" + project.UsualPort + "/"
}

// Secrets returns the names of the secrets that the build is given: none for
// branches that the production branch's configuration excludes.
func (plan *Plan) Secrets() []string {
	if plan.Apart {
		return nil
	}
	// A working tree runs as the user who has it, and so with what that user
	// has anyway.
	given := plan.Origin.Source != journal.FromCommit ||
		plan.Project.ProductionConfig.GivesSecrets(plan.FullRef(), plan.ByHand)
	if given || plan.FullRef() == "" && plan.trusted {
		return plan.Config.Build.Secrets
	}
	return nil
}

// FullRef returns the full name of what is built: of a commit that no branch is
// known of, a name that no pattern matches.
func (plan *Plan) FullRef() string {
	if plan.Ref != "" {
		return plan.Ref
	}
	if plan.Origin.Branch == "" {
		return ""
	}
	return "refs/heads/" + plan.Origin.Branch
}

// Untrusted reports whether the plan builds a commit that
// is not trusted; see docs/trust.md.
//
// What is not trusted is built apart, with the limits of the production branch
// and without its secrets (docs/trust.md).
func (plan *Plan) Untrusted() bool {
	return plan.Origin.Source == journal.FromCommit && !plan.trusted
}

// trust finds out whether the plan's commit is trusted. Its
// branch says so. Of a tag or a hash, of which no branch is
// known, it is if the production branch has it, or if whoever
// runs the command names the fixed environment that it is for.
func (plan *Plan) trust(ctx context.Context, order Order) error {
	p := plan.Project
	// The branch decides, not the author: who may push to it is checked by the
	// code host.
	if ref := plan.FullRef(); ref != "" {
		plan.trusted = p.ProductionConfig.Trusts(ref)
		return nil
	}

	if plan.trusted = order.To != "" && !journal.IsPreview(plan.Environment); plan.trusted ||
		p.ProductionCommit == "" {
		return nil
	}
	// A commit of no branch is trusted if production has it already.
	contained, err := p.Repository.Contains(ctx, p.ProductionCommit, plan.Commit.Hash)
	plan.trusted = err == nil && contained

	return ctx.Err()
}

// Outside reports whether what is built was proposed from outside the
// repository: strangers may have written it.
func (plan *Plan) Outside() bool { return plan.Ref != "" }

// checkOrder refuses orders that contradict themselves, before anything is
// asked of Git or a store.
func checkOrder(p *Project, order Order, site string) error {
	switch {
	case order.From != "" && (order.WorkingTree || order.Commit != ""):
		return fault.New(fault.Usage, "one-source",
			"--from cannot be combined with a commit or --working-tree").
			Then("to record which commit the output is from: --commit HASH")
	case order.WorkingTree && order.Commit != "":
		return fault.New(fault.Usage, "one-source", "--working-tree cannot be combined with the "+
			"commit %s",
			order.Commit).
			Then("orilla deploy %s", order.Commit).Then("orilla deploy --working-tree")
	case order.SaidCommit != "" && order.From == "":
		return fault.New(fault.Usage, "one-source",
			"--commit needs --from").
			Then("to publish that commit: orilla deploy %s", order.SaidCommit)
	case order.Ref != "" && order.From != "" && order.To != "":
		return fault.New(fault.Usage, "one-target",
			"--proposed cannot be combined with --to").
			Then("leave out --to; publish it elsewhere after review: orilla promote %s --to %s",
				p.PreviewOf(order.Ref), order.To)
	case order.Ref != "" && order.From != "" &&
		(!strings.HasPrefix(order.Ref, "refs/") || strings.HasPrefix(order.Ref, "refs/heads/")):
		return fault.New(fault.Usage, "bad-ref", "not the full ref of a proposed change: %q",
			order.Ref).Then("write it as your code host does: --proposed refs/proposed/7/head")
	case site == "":
		return fault.New(fault.Usage, "no-site", "the site has no name yet").At("%s", p.Root).
			Then("orilla init").Then("or add --site NAME")
	case !project.IsLabel(site):
		return fault.New(fault.Usage, "bad-site", "%q is not a site's name: it becomes part of an address",
			site).Then("use --site %s", project.Label(site))
	case p.Repository == nil && order.Commit != "":
		return fault.New(fault.Usage, "no-repository",
			"there is no folder or archive %q here, and no Git repository with such a commit", order.Commit).
			At("%s", p.Root)
	}
	return nil
}

// noTarget says which ways there are to name a target.
func noTarget(p *Project, order Order) error {
	reason := "there is no branch here"
	switch {
	case order.Commit != "":
		reason = order.Commit + " is not a branch"
	case p.Repository != nil:
		reason = "HEAD is detached"
	}

	problem := fault.New(fault.Usage, "no-target", "%s, so the environment is unknown",
		reason).Marked(ErrNoTarget)
	for _, name := range p.EnvironmentNames() {
		problem = problem.Then("--to %s", name)
	}
	return problem.Then("--branch NAME, for the environment or the preview of that branch")
}

// fromOutput plans publishing output that somebody else has built. Its commit
// is what they say it is.
func (plan *Plan) fromOutput(ctx context.Context, order Order) error {
	plan.Origin.Source = journal.FromOutput
	plan.Origin.Subject = firstLine(order.Message)
	if order.SaidCommit == "" {
		// Nothing else says later what it was.
		name := filepath.Base(order.From)
		if order.From == "-" {
			name = "standard input"
		}
		if plan.Origin.Subject != "" {
			name = plan.Origin.Subject + " (" + name + ")"
		}
		plan.Origin.Subject = name
		return nil
	}

	plan.Origin.Commit = order.SaidCommit
	if plan.Project.Repository == nil {
		if !isHash(order.SaidCommit) {
			return fault.New(fault.Usage, "bad-commit", "%q is not the hash of a commit", order.SaidCommit)
		}
		return nil
	}

	commit, err := plan.Project.Repository.Commit(ctx, order.SaidCommit)
	if err != nil && plan.Outside() && isHash(order.SaidCommit) {
		return nil // it is in somebody else's repository
	}
	if err != nil {
		return noCommit(ctx, plan.Project, order.SaidCommit)
	}
	plan.setCommit(commit)
	return nil
}

// setCommit notes what is published, and why if nobody said.
func (plan *Plan) setCommit(commit source.Commit) {
	plan.Commit, plan.Origin.Commit = &commit, commit.Hash
	if plan.Origin.Subject == "" {
		plan.Origin.Subject = commit.Subject
	}
}

// fromWorkingTree plans publishing the files as they are now.
func (plan *Plan) fromWorkingTree(ctx context.Context) {
	plan.Origin.Source = journal.FromWorkingTree
	plan.Origin.Subject = firstLine(plan.Message)
	if repository := plan.Project.Repository; repository != nil {
		if commit, err := repository.Commit(ctx, "HEAD"); err == nil {
			plan.setCommit(commit)
		}
		plan.Uncommitted = sync.OnceValue(func() int { return source.Uncommitted(ctx, repository) })
	}
}

// fromCommit returns the branch that the commit was named by, or that is
// checked out when it was named relative to HEAD.
func (plan *Plan) fromCommit(ctx context.Context, order Order) (branch string, err error) {
	p := plan.Project
	name := order.Commit
	if name == "" {
		name = "HEAD"
	}

	commit, err := p.Repository.Commit(ctx, name)
	if err != nil {
		return "", noCommit(ctx, p, name)
	}
	plan.Origin.Source = journal.FromCommit
	plan.setCommit(commit)
	plan.Uncommitted = sync.OnceValue(func() int { return source.Uncommitted(ctx, p.Repository) })
	branch = order.Branch
	switch {
	case branch != "":
	case name != "HEAD" && p.Repository.IsBranch(ctx, name):
		branch = name
	case name == "HEAD" || strings.HasPrefix(name, "HEAD~") || strings.HasPrefix(name, "HEAD^") ||
		name == "@" || strings.HasPrefix(name, "@~"):
		branch = p.Repository.Branch(ctx)
	}

	config, err := p.ConfigAt(ctx, commit.Hash)
	switch {
	case err == nil:
		plan.Config = config
	case errors.Is(err, source.ErrNoFile):
		if p.Configured {
			plan.ConfigNote = "the commit has no " + project.FileName +
				"; the one beside this command is used"
		}
	default:
		return "", err
	}

	return branch, nil
}

// notBuilt lists the files that decide nothing about the build, relative to the
// folder that the site lies in: rules, and the configuration, of which the
// build's part is among its inputs.
func notBuilt(config project.Config) []string {
	files := slices.Clone(config.Rules)
	if config.Build.Folder == "." {
		files = append(files, project.FileName)
	}
	return files
}

// noCommit is the error of a name that means no commit, with the branch that it
// may have meant.
func noCommit(ctx context.Context, p *Project, name string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if name == "HEAD" {
		return fault.New(fault.Usage, "no-commit", "the repository has no commit yet").
			At("%s", p.Repository.Top).
			Then("git add . && git commit").Then("or publish what is here: orilla deploy --working-tree")
	}

	problem := fault.New(fault.Usage, "no-commit", "there is no commit %q", name).At("%s", p.Repository.Top)
	if nearest := spelling.Nearest(name, p.Repository.Branches(ctx)); nearest != "" {
		problem = problem.Then("did you mean %s?", nearest)
	}
	return problem.Then("git log --oneline lists commits, git branch the branches")
}

// firstLine is the first line of a message: what is shown of it in lists.
func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	return line
}

// isHash reports whether a text looks like the hash of a commit, or the
// beginning of one.
func isHash(text string) bool {
	return len(text) >= 7 && len(text) <= 64 && strings.Trim(text, "0123456789abcdef") == ""
}

// Named is what people call what is built.
func (plan *Plan) Named() string {
	switch {
	case plan.Ref != "":
		return plan.Ref
	case plan.Origin.Branch == "":
		return "a commit of no branch"
	}
	return plan.Origin.Branch
}

// Limits returns the limits on what the plan publishes: of an untrusted build
// no more than the production branch allows.
func (plan *Plan) Limits() project.Limits {
	limits := plan.Config.Limits
	if !plan.Untrusted() || plan.ByHand {
		return limits
	}
	// A branch that is not trusted can make its own limits smaller, and not
	// larger.
	production := plan.Project.ProductionConfig.Limits
	limits.Files, limits.Size = min(limits.Files, production.Files), min(limits.Size, production.Size)
	if production.FileSize > 0 && (limits.FileSize == 0 || limits.FileSize > production.FileSize) {
		limits.FileSize = production.FileSize
	}
	return limits
}
