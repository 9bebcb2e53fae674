package pipeline

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/source"
)

// ruleSources reads the rules files of a configuration, joined in order. beside reads those that lie in the site's folder, made those
// that the build leaves in the output; without it they are passed over.
func ruleSources(config project.Config, beside, made func(file string) ([]byte, error)) ([]rules.Source, error) {
	var files []rules.Source
	for _, file := range config.Rules {
		read, at := beside, file
		if inside, ok := config.InOutput(file); ok {
			read, at = made, inside
		}
		if read == nil {
			continue
		}
		text, err := read(at)
		if err != nil {
			return nil, noRulesFile(file, err)
		}
		files = append(files, rules.Source{Name: path.Join(config.Build.Folder, file), Text: text})
	}
	return files, nil
}

// readIn returns what reads files of a folder, by their paths with slashes, and nothing outside it.
func readIn(folder string) func(file string) ([]byte, error) {
	return func(file string) ([]byte, error) {
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, err
		}
		defer root.Close() //nolint:errcheck // read only
		return root.ReadFile(filepath.FromSlash(file))
	}
}

func noRulesFile(file string, err error) error {
	if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, source.ErrNoFile) {
		return fault.New(fault.Failed, "unreadable", "the rules file %s cannot be read", file).Because(err)
	}
	return fault.New(fault.Usage, "no-rules-file", "there is no rules file %q", file).At("%s: rules", project.FileName).
		Then("add the file (and commit it), or take it out of rules")
}

// RulesBeside reads the rules files that lie beside the command, those in the output too.
func (p *Project) RulesBeside(output string) ([]rules.Source, error) {
	return ruleSources(p.Beside, readIn(p.SiteFolder()), readIn(output))
}

// readRules reads the rules that are known before the build, so that a mistake in them costs no build.
func (r *Run) readRules(ctx context.Context) error {
	plan := r.Plan
	r.readBeside = readIn(filepath.Join(plan.Project.Root, filepath.FromSlash(plan.Config.Build.Folder)))
	if plan.Commit != nil && plan.Origin.Source == journal.FromCommit && plan.ConfigNote == "" {
		read := map[string][]byte{} // they are read before the build and after it
		r.readBeside = func(file string) ([]byte, error) {
			text, known := read[file]
			if known {
				return text, nil
			}
			text, err := plan.Project.Repository.File(ctx, plan.Commit.Hash, path.Join(plan.Project.Prefix, plan.Config.Build.Folder, file))
			if err == nil {
				read[file] = text
			}
			return text, err
		}
	}
	files, err := ruleSources(plan.Config, r.readBeside, nil)
	if err != nil {
		return err
	}
	_, found := rules.Parse(files, r.ruleOptions())
	return found.Problem()
}

func (r *Run) ruleOptions() rules.Options { return r.Plan.Config.RuleOptions(r.Plan.Project.Standing) }

// ruled is what the rules of a release are.
type ruled struct {
	record  []builds.RulesFile
	set     *release.RuleSet
	objects []release.Chunk // to be kept: the normalised rules, and their sources
	in      check.Input     // the site that they make with the files
}

// timedRules is rule, told as a phase.
func (r *Run) timedRules(ctx context.Context, files []rules.Source, list []release.File) (out *ruled, err error) {
	if len(files) == 0 {
		return r.rule(ctx, files, list)
	}
	err = r.timed("rules", files[0].Name, func() error {
		out, err = r.rule(ctx, files, list)
		return err
	})
	return out, err
}

// rule parses all rules and checks them against the files of the release.
func (r *Run) rule(ctx context.Context, files []rules.Source, list []release.File) (*ruled, error) {
	out := &ruled{}
	if len(files) == 0 {
		var err error
		out.in, err = r.without(list)
		return out, err
	}
	program, found := rules.Parse(files, r.ruleOptions())
	if err := found.Problem(); err != nil {
		return nil, err
	}
	data := rules.Encode(program.Rules)
	out.set, out.objects = release.CutRules(len(program.Rules), data)
	for _, file := range files {
		kept := builds.RulesFile{Path: file.Name}
		for part := range slices.Chunk(file.Text, release.PartSize) {
			kept.Objects = append(kept.Objects, digest.Of(part))
			out.objects = append(out.objects, release.Chunk{Digest: digest.Of(part), Data: part})
		}
		out.record = append(out.record, kept)
	}
	in, err := NewCheck(program, list, r.Plan.Config, r.Plan.Project.Standing)
	if err != nil {
		return nil, err
	}
	in.Now = r.Now()
	out.in = in
	if found, err = CheckRules(ctx, in); err != nil {
		return nil, err
	}
	found = Accepted(found, r.Plan.Config)
	if err := found.Problem(); err != nil {
		return nil, err
	}
	r.warn(found)
	r.result.Rules = RuleCounts{Rules: rules.Counts(program.Rules), Expectations: len(program.Expectations)}
	return out, nil
}

// warn tells of what was found and stops nothing.
func (r *Run) warn(found finding.List) {
	for i, f := range found {
		if i == 5 {
			r.Report.Notice(fault.Notice{Code: "more-findings", What: "there is more to look at in the rules", Next: "orilla check lists everything"})
			return
		}
		r.Report.Notice(fault.Notice{Code: f.Code, What: f.Position.String() + ": " + f.What, Paths: f.More, Next: f.Next})
	}
}

// NewCheck prepares the check of a program against the files of a release.
func NewCheck(program *rules.Program, list []release.File, config, standing project.Config) (check.Input, error) {
	set, err := program.Compile()
	if err != nil {
		return check.Input{}, err
	}
	in := check.Input{
		Site:    answer.Site{Files: check.Map(list), Rules: set, Settings: config.Settings()},
		Program: program, Files: list,
	}
	in.Site.Own = ownOf(standing, project.Production)
	for _, environment := range standing.Environments {
		in.Own = append(in.Own, environment.Addresses...)
	}
	slices.Sort(in.Own)
	if !slices.Contains(config.Build.Tell, "address") && !slices.Contains(config.Build.Tell, "environment") {
		in.Places = placesOf(standing)
	}
	return in, nil
}

// ownOf returns what an environment, by its stored name, answers with of itself, as it is configured.
func ownOf(config project.Config, environment string) *answer.Own {
	document := config.Document(environment)
	return answer.OwnOf(document.Settings, document.SettingsPath)
}

// placesOf returns the hosts of a site's environments, as they are configured and as they are on developers' machines.
func placesOf(standing project.Config) []check.Place {
	var places []check.Place
	add := func(host, environment string) {
		if place := (check.Place{Host: host, Environment: environment}); host != "" && !slices.Contains(places, place) {
			places = append(places, place)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(standing.Environments)) {
		for _, address := range standing.Environments[name].Addresses {
			if at, err := url.Parse(address); err == nil {
				add(at.Hostname(), name)
			}
		}
	}
	for _, address := range standing.Previews.Addresses {
		_, rest, _ := strings.Cut(address, project.LabelPlace)
		if host, _, _ := strings.Cut(rest, "/"); strings.HasPrefix(host, ".") {
			host, _, _ = strings.Cut(host, ":")
			add(host, "previews")
		}
	}
	if standing.Site != "" {
		add(standing.Site+".localhost", "a developer's machine")
		add("."+standing.Site+".localhost", "a developer's machine")
	}
	return places
}

// CheckRules finds mistakes in rules, and expectations that fail.
func CheckRules(ctx context.Context, in check.Input) (finding.List, error) {
	found, err := check.Rules(ctx, in)
	if err != nil {
		return nil, err
	}
	failed, err := check.Expectations(ctx, in)
	found = append(found, failed...)
	found.Sort()
	return found, err
}

// RuleCounts says what rules a release has.
type RuleCounts struct {
	Rules        map[rules.Verb]int
	Expectations int
}

// rulesOfBuild reads a rules file, by its path in the output, as an earlier build kept it.
func (r *Run) rulesOfBuild(ctx context.Context, record builds.Record, file string) ([]byte, error) {
	name := path.Join(r.Plan.Config.Build.Folder, r.Plan.Config.Build.Output, file)
	for _, kept := range record.Rules {
		if kept.Path == name {
			return kept.Load(ctx, r.load)
		}
	}
	return nil, fs.ErrNotExist
}

// sameLeftOut reports whether the rules files in the output, which are not published, are those that they were in an earlier build.
func (r *Run) sameLeftOut(record builds.Record) bool {
	build := r.Plan.Config.Build
	output := path.Join(build.Folder, build.Output)
	var now, then []string
	for _, file := range r.Plan.Config.RulesInOutput() {
		now = append(now, path.Join(output, file))
	}
	for _, file := range record.Rules {
		if output == "." || strings.HasPrefix(file.Path, output+"/") {
			then = append(then, file.Path)
		}
	}
	slices.Sort(now)
	slices.Sort(then)
	return slices.Equal(now, then)
}

// sameRules reports whether a build was recorded with the same rules files.
func sameRules(a, b []builds.RulesFile) bool {
	return slices.EqualFunc(a, b, func(x, y builds.RulesFile) bool { return x.Path == y.Path && slices.Equal(x.Objects, y.Objects) })
}

// keep adds objects to a batch.
func keep(ctx context.Context, put publish.Putter, objects []release.Chunk) error {
	for _, object := range objects {
		if _, err := put.Add(ctx, object.Digest.Key(), object.Data); err != nil {
			return err
		}
	}
	return nil
}

// filesOf lists a release.
func filesOf(ctx context.Context, reader *release.Reader) ([]release.File, error) {
	var list []release.File
	for file, err := range reader.Files(ctx) {
		if err != nil {
			return nil, err
		}
		list = append(list, file)
	}
	return list, nil
}
