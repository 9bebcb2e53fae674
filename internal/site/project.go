package site

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
)

// Project is a site's project on this machine: its
// configuration and, if there is one, its repository.
type Project struct {
	Root        string             // the folder of orilla.yaml, or the one the command was run in
	Repository  *source.Repository // nil without Git
	Prefix      string             // of Root in the repository, with slashes; "" at its top
	Main        string             // the repository's main branch; "" if that is not known
	Doubt       string             // why it is not, and so whose word counts; "" if it is
	Configured  bool               // there is an orilla.yaml at Root
	LocalConfig project.Config     // from the file at Root, with defaults
	// from the head of the production branch, or LocalConfig: environments and store
	ProductionConfig project.Config
	ProductionCommit string // the commit that ProductionConfig comes from; "" if from the file at Root
	Places           Places

	findings
}

// findings are what was found out of a project once.
type findings struct {
	secret  string // that labels of previews are made with; "" for none
	person  *remembered[string]
	configs *remembered[map[string]parsedConfig]
}

// newFindings has found out nothing.
func newFindings() findings {
	return findings{person: &remembered[string]{}, configs: &remembered[map[string]parsedConfig]{}}
}

// remembered is what was found out once. It is shared by copies of a project.
type remembered[T any] struct {
	mutex sync.Mutex
	known bool
	value T
}

// parsedConfig is the configuration in a commit.
type parsedConfig struct {
	config project.Config
	err    error
}

// Load finds the project that folder is in: upwards to the
// nearest orilla.yaml, not beyond the repository. Without
// one, the project is folder itself, not configured.
//
// The folder may lie anywhere in the project; the file is looked for upwards,
// as Git does for its own.
func Load(ctx context.Context, folder string, places Places) (*Project, error) {
	p, mistakes, err := LoadAnyway(ctx, folder, places)
	if err == nil && len(mistakes) > 0 {
		return nil, mistakes[0]
	}
	return p, err
}

// LoadAnyway is Load for what must go on when an orilla.yaml is wrong: to look what
// is live, and to go back. In the place of one that cannot be read counts the last
// of the production branch that can; mistakes say what is wrong.
func LoadAnyway(ctx context.Context, folder string, places Places) (p *Project, mistakes []error, err error) {
	p, wrong, err := find(ctx, folder, places)
	if err != nil || p.Repository == nil {
		return p, nil, errors.Join(wrong, err)
	}
	if p.Repository.Bare {
		mistake, err := p.fromRepository(ctx)
		if mistake != nil {
			mistakes = []error{mistake}
		}
		return p, mistakes, err
	}
	if wrong != nil {
		mistakes = append(mistakes, wrong)
	}

	err = p.ReadProduction(ctx)
	if err != nil && fault.KindOf(err) == fault.Usage {
		mistakes = append(mistakes, err)
		err = p.readEarlier(ctx)
	}
	if err == nil && wrong != nil {
		if p.ProductionCommit == "" { // there is no other
			return nil, nil, wrong
		}
		p.LocalConfig = p.ProductionConfig
	}
	return p, mistakes, err
}

// earlierVersions is how many earlier versions of an orilla.yaml are looked at.
//
// Who broke the file mostly did so with the last change to it, so few are enough.
const earlierVersions = 20

// readEarlier reads the last orilla.yaml of the production branch that can be read.
func (p *Project) readEarlier(ctx context.Context) error {
	_, head, _ := productionHead(ctx, p) // the error is what is wrong with it
	if head.Hash == "" {
		return ctx.Err()
	}
	commits, err := source.Touching(ctx, p.Repository, head.Hash, path.Join(p.Prefix, project.FileName),
		earlierVersions)
	if err != nil {
		return err
	}
	for _, commit := range commits {
		if config, err := p.ConfigAt(ctx, commit); err == nil {
			p.ProductionConfig, p.ProductionCommit = config, commit
			return nil
		}
	}
	return ctx.Err() // the file at hand counts
}

// find finds a project, and reads the file at hand. wrong says what is wrong with
// that.
func find(ctx context.Context, folder string, places Places) (p *Project, wrong, err error) {
	folder, err = filepath.Abs(folder)
	if err != nil {
		return nil, nil, err
	}
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return nil, nil, fault.New(fault.Usage, "no-folder", "no such folder").At("%s", folder)
	}

	p = &Project{Root: folder, Places: places, findings: newFindings()}
	// No Git and no repository are fine: a folder can be published.
	p.Repository, err = source.FindRepository(ctx, folder)
	if err != nil && !errors.Is(err, source.ErrNoRepository) && !errors.Is(err, source.ErrNoGit) {
		return nil, nil, err
	}

	root, data, err := p.findFile()
	if err != nil {
		return nil, nil, err
	}
	if data != nil {
		p.Root, p.Configured = root, true
		if p.LocalConfig, wrong = project.Parse(data, project.FileName); wrong != nil {
			p.LocalConfig = project.Config{}
		}
	}

	// Not what the file at hand says that production follows: whoever may push a branch writes it.
	if p.Repository == nil {
		p.LocalConfig = p.LocalConfig.WithDefaults(p.LocalConfig.MainBranch(""))
		p.ProductionConfig = p.LocalConfig
		return p, wrong, nil
	}
	p.Main, p.Doubt = source.FindMain(ctx, p.Repository, InCI(os.Getenv))
	p.LocalConfig = p.LocalConfig.WithDefaults(p.Main)
	p.ProductionConfig = p.LocalConfig
	return p, wrong, p.findPrefix()
}

// LoadFrom is the project in folder of a repository that has no working tree,
// such as a mirror. beside is the project of the folder that the command runs
// in: relative addresses are relative to it. Of a production branch whose orilla.yaml
// is wrong the last one counts that can be read.
func LoadFrom(ctx context.Context, repository *source.Repository, folder string, beside *Project,
) (*Project, error) {
	p := *beside
	p.findings = newFindings()
	p.Repository, p.Main = repository, repository.MainBranch(ctx)
	if folder != "" {
		p.Prefix = path.Clean(folder)
	}

	if p.Prefix == "." {
		p.Prefix = ""
	}
	p.Configured, p.LocalConfig = false, project.Config{}
	p.LocalConfig = p.LocalConfig.WithDefaults(p.Main)
	p.ProductionConfig = p.LocalConfig
	_, err := p.fromRepository(ctx)
	return &p, err
}

// fromRepository reads the configuration from the production branch, where there is
// no file to read. mistake says what is wrong with the newest one, if an earlier one
// is taken.
func (p *Project) fromRepository(ctx context.Context) (mistake, err error) {
	for range 2 { // it may name another production branch than the main one
		err := p.ReadProduction(ctx)
		if fault.KindOf(err) == fault.Usage {
			mistake = err
			if err = p.readEarlier(ctx); err == nil && p.ProductionCommit == "" {
				return nil, mistake
			}
		}
		if err != nil {
			return nil, err
		}
		if p.ProductionCommit == "" {
			break
		}
		p.LocalConfig, p.Configured = p.ProductionConfig, true
	}

	if p.Configured {
		return mistake, nil
	}
	problem := fault.New(fault.Usage, "no-config", "the branch %s has no %s", p.Main,
		path.Join(p.Prefix, project.FileName)).
		Marked(ErrNotConfigured).At("%s", p.Repository.Top)

	for _, place := range source.Named(ctx, p.Repository, p.Main, project.FileName) {
		problem = problem.Then("there is one in %s: --project %s", path.Dir(place), path.Dir(place))
	}
	return nil, problem.Then("commit one to that branch; to write it: orilla init")
}

// findPrefix finds where in the repository the project lies. Links are resolved
// first: Git names a repository by its real path.
func (p *Project) findPrefix() error {
	// On macOS the temporary folder is a link, and Git shows where it leads.
	top, err := filepath.EvalSymlinks(p.Repository.Top)
	if err != nil {
		return err
	}
	root, err := filepath.EvalSymlinks(p.Root)
	if err != nil {
		return err
	}

	if prefix, err := filepath.Rel(top, root); err == nil && prefix != "." &&
		!strings.HasPrefix(prefix, "..") && !p.Repository.Bare {
		p.Prefix = filepath.ToSlash(prefix)
	}
	return nil
}

// findFile looks for orilla.yaml from the project's folder upwards.
func (p *Project) findFile() (root string, data []byte, err error) {
	top := ""
	if p.Repository != nil {
		top, _ = filepath.EvalSymlinks(p.Repository.Top)
	}
	// Upwards to the top of the repository and no further: a file beyond it
	// belongs to something else.
	for folder := p.Root; ; folder = filepath.Dir(folder) {
		data, err := os.ReadFile(filepath.Join(folder, project.FileName))
		if err == nil {
			return folder, data, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return "", nil, fault.New(fault.Failed, "unreadable", "cannot read the configuration").
				At("%s", filepath.Join(folder, project.FileName)).Because(err)
		}

		resolved, _ := filepath.EvalSymlinks(folder)
		if resolved == top || filepath.Dir(folder) == folder || p.Repository == nil {
			return p.Root, nil, nil
		}
	}
}

// ReadProduction reads what only the production branch may say.
func (p *Project) ReadProduction(ctx context.Context) error {
	config, head, err := productionHead(ctx, p)
	switch {
	case err == nil:
		p.ProductionConfig, p.ProductionCommit = config, head.Hash
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case !errors.Is(err, source.ErrNoCommit) && !errors.Is(err, source.ErrNoFile):
		return err
	case p.ProductionCommit == "" && p.Doubt != "":
		// The file at hand counts; but where nobody knows whose it is, it decides nothing that only
		// the production branch may.
		p.ProductionConfig = p.LocalConfig.Doubtful()
	}
	return nil
}

// From one branch to the other there is one step, and no more: what the main branch says decides which
// one counts, and that one decides everything else, also what production follows from then on. Two
// branches that each name the other are no circle, since the second one is not asked again.

// productionHead returns the configuration of the production branch, and its newest commit, also
// where that has a configuration that cannot be read. Environments and the store are those of that
// branch: no other can move production by editing a file. It is the main branch, or the one of
// which that says that production follows it. The error is source.ErrNoCommit or
// source.ErrNoFile where there is none yet.
func productionHead(ctx context.Context, p *Project) (config project.Config, head source.Commit, err error) {
	if p.Main == "" {
		return config, head, source.ErrNoCommit
	}
	if head, err = source.Head(ctx, p.Repository, p.Main); err != nil {
		return config, head, err
	}
	if config, err = p.ConfigAt(ctx, head.Hash); err != nil {
		return config, head, err
	}
	follows := config.MainBranch(p.Main)
	if follows == p.Main {
		return config, head, nil
	}
	// It may not be there yet, or have no configuration of its own: then that of the main branch
	// counts.
	other, err := source.Head(ctx, p.Repository, follows)
	if err != nil {
		return config, head, ctx.Err()
	}
	its, err := p.ConfigAt(ctx, other.Hash)
	if errors.Is(err, source.ErrNoFile) {
		return config, head, nil
	}
	return its, other, err
}

// ConfigAt returns the configuration in a commit, by its full hash, with
// defaults, or source.ErrNoFile.
func (p *Project) ConfigAt(ctx context.Context, commit string) (project.Config, error) {
	p.configs.mutex.Lock()
	defer p.configs.mutex.Unlock()
	if found, ok := p.configs.value[commit]; ok {
		return found.config, found.err
	}

	config, err := p.readConfig(ctx, commit)
	if ctx.Err() == nil {
		if p.configs.value == nil || len(p.configs.value) > 20 {
			p.configs.value = map[string]parsedConfig{}
		}
		p.configs.value[commit] = parsedConfig{config, err}
	}
	return config, err
}

// readConfig reads the configuration in a commit. Mistakes in it are told with
// the commit, as 4be21c7:orilla.yaml:12:5.
func (p *Project) readConfig(ctx context.Context, commit string) (project.Config, error) {
	data, err := p.Repository.File(ctx, commit, path.Join(p.Prefix, project.FileName))
	if err != nil {
		return project.Config{}, err
	}
	config, err := project.Parse(data, source.Short(commit)+":"+project.FileName)
	return config.WithDefaults(p.Main), err
}

// Site returns the site's name, as the working tree says, or else the
// production branch; "" if neither does.
func (p *Project) Site() string {
	if p.LocalConfig.Site != "" {
		return p.LocalConfig.Site
	}
	return p.ProductionConfig.Site
}

// Person returns who runs the command: Git's user.name and user.email, in CI who
// that says or the author of the commit, else the user and the machine.
func (p *Project) Person(ctx context.Context) string {
	if p.person == nil { // a project that was not loaded
		return p.findPerson(ctx)
	}
	p.person.mutex.Lock()
	defer p.person.mutex.Unlock()
	if !p.person.known {
		p.person.value, p.person.known = p.findPerson(ctx), ctx.Err() == nil
	}
	return p.person.value
}

// findPerson asks Git who works here, and if it does not know, the system.
func (p *Project) findPerson(ctx context.Context) string {
	if p.Repository != nil {
		if who := source.Person(ctx, p.Repository.Top); who != "" {
			return who
		}
	}
	// On a machine of CI everything is done by root, which tells nobody anything.
	if InCI(os.Getenv) {
		if who := ciPerson(os.Getenv); who != "" {
			return who
		}
		if p.Repository != nil {
			if commit, err := p.Repository.Commit(ctx, "HEAD"); err == nil {
				return commit.Author
			}
		}
	}

	host, _ := os.Hostname()
	if current, err := user.Current(); err == nil {
		return current.Username + "@" + host
	}
	return "somebody@" + host
}

// ErrNotConfigured: the production branch has no configuration.
var ErrNotConfigured = errors.New("not configured")

// ErrNoTarget: neither an argument nor the current branch
// says which environment is meant.
var ErrNoTarget = errors.New("no target")

// Target returns the environment that a deploy moves, by
// its stored name: the one that was asked for, else the
// one that follows the branch, else the branch's preview.
func (p *Project) Target(to, branch string) (string, error) {
	if to != "" {
		return p.namedTarget(to)
	}
	if branch == "" {
		return "", ErrNoTarget
	}

	if environment := p.ProductionConfig.Following(branch); environment != "" {
		return environment, nil
	}
	if !p.ProductionConfig.Previews.FollowsBranch(branch) {
		return "", fault.New(fault.Refused, "not-followed",
			"no environment follows the branch %s, and previews.follows leaves it out", branch).
			Then("add --to ENVIRONMENT (%s)", strings.Join(p.EnvironmentNames(), ", "))
	}

	return p.Preview(branch), nil
}

// Preview returns the stored name of a branch's preview.
func (p *Project) Preview(branch string) string {
	return journal.PreviewPrefix + p.ProductionConfig.Previews.LabelOf("refs/heads/"+branch, p.secret)
}

// LearnSecret reads what labels of previews are made with, where the
// configuration wants them unguessable. It is random, and in the site's claim;
// without one yet, claim makes it.
func (p *Project) LearnSecret(ctx context.Context, store storage.Store, site string, claim func() error,
) error {
	if !p.ProductionConfig.Previews.Unguessable {
		return nil
	}
	found, err := ReadClaim(ctx, store, site)
	if errors.Is(err, storage.ErrNotFound) && claim != nil {
		if err = claim(); err == nil {
			found, err = ReadClaim(ctx, store, site)
		}
	}
	p.secret = found.Incarnation
	return err
}

// PreviewOf returns what people call the preview of a branch, or of another ref
// by its full name: preview/LABEL.
func (p *Project) PreviewOf(branch string) string {
	if strings.HasPrefix(branch, "refs/") {
		return journal.DisplayName(p.RefPreview(branch))
	}
	return journal.DisplayName(p.Preview(branch))
}

// RefPreview returns the stored name of the preview of a ref that is no branch.
func (p *Project) RefPreview(ref string) string {
	return journal.PreviewPrefix + p.ProductionConfig.Previews.LabelOf(ref, p.secret)
}

// namedTarget returns the environment that was asked for by name. Only those of
// the production branch count: a branch cannot make itself one.
func (p *Project) namedTarget(to string) (string, error) {
	if label, ok := strings.CutPrefix(to, "preview/"); ok {
		if !project.IsLabel(label) {
			return "", fault.New(fault.Usage, "bad-environment",
				"not a preview name: %q (it becomes part of an address)", to).
				Then("use --to preview/%s", project.Label(label))
		}
		return journal.StoredName(to), nil
	}

	if _, ok := p.ProductionConfig.Environments[to]; ok {
		return to, nil
	}
	problem := fault.New(fault.Usage, "unknown-environment", "unknown environment %q", to)
	if nearest := spelling.Nearest(to, p.EnvironmentNames()); nearest != "" {
		problem = problem.Then("did you mean --to %s?", nearest)
	}

	problem = problem.Then("add it under environments: in orilla.yaml, or create a preview: "+
		"--to preview/%s", project.Label(to))
	if p.ProductionCommit != "" {
		problem = problem.With("Orilla reads environments from the branch " +
			p.ProductionConfig.MainBranch(p.Main))
	}
	return "", problem
}

// EnvironmentNames returns the fixed environments in order, production first.
func (p *Project) EnvironmentNames() []string {
	names := []string{project.Production}
	for name := range p.ProductionConfig.Environments {
		if name != project.Production {
			names = append(names, name)
		}
	}
	sortAfterFirst(names)
	return names
}

// sortAfterFirst sorts names, but for the first one.
func sortAfterFirst(names []string) { slices.Sort(names[1:]) }

// Pin takes a pin in a store for whoever works for a project.
func (p *Project) Pin(ctx context.Context, store storage.Store, site, what string) (*pins.Hold, error) {
	return pins.Take(ctx, store, strings.ToLower(rand.Text()), pins.Pin{Site: site, Who: p.Person(ctx),
		What: what})
}
