// Package inspect reads what is to be looked at closely, wherever it is, and asks
// package check about it.
//
//	inspect.WorkingTree(ctx, project)             what lies in the output folder now
//	inspect.Commit(ctx, project, store, …)        what a commit was built into
//	inspect.Release(ctx, project, store, …)       a release by its id
//	inspect.Live(ctx, project, store, journal)    what visitors get
//
// All give a Subject: files, rules, settings, and how to read a file. `orilla
// check`, `explain` and `diff`, and the gate of a deploy, ask a Subject and do not
// care where it came from, so the same question has the same answer before and
// after a deploy.
package inspect

import (
	"context"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
)

// Subject is a site that can be asked and checked: a
// working tree, a commit, a release.
type Subject struct {
	check.Output
	Name     string         // "the working tree", "4be21c7", "r-3f9a2c1b7e"
	Mistakes finding.List   // of the rules' text: rules with mistakes are not part of the site
	Config   project.Config // that the site goes with
	// the text of the rules means something else than the rules that are kept,
	// so its expectations are left out
	Reworded bool
}

// ErrNoOutput is what errors.Is finds where a working tree has no output.
var ErrNoOutput = errors.New("no output")

// WorkingTree returns what the working tree would publish. It builds nothing:
// the output is what the last build left, and without one the error is
// ErrNoOutput.
func WorkingTree(ctx context.Context, p *site.Project) (*Subject, error) {
	folder := site.Output(p)
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		problem := fault.New(fault.Failed, "no-output",
			"nothing was built here yet: there is no output folder").
			At("build.output: %s (%s)", p.LocalConfig.Build.Output, project.FileName).Marked(ErrNoOutput)
		if len(p.LocalConfig.Build.Run) > 0 {
			problem = problem.Then("%s", strings.Join(p.LocalConfig.Build.Run, " && "))
		}
		return nil, problem.Then("build and look at it here: orilla serve")
	}
	return Folder(ctx, p, folder, "the working tree")
}

// WorkingTreeOn returns the rules of the working tree as they are now, with the
// files of a release: for a working tree that was never built.
func WorkingTreeOn(ctx context.Context, p *site.Project, store storage.Store, siteName string, id release.ID,
	build string,
) (*Subject, error) {
	s, err := Release(ctx, p, store, siteName, id, build)
	if err != nil {
		return nil, err
	}
	record, err := BuildRecord(ctx, store, siteName, build)
	if err != nil {
		return nil, err
	}
	if record == nil {
		record = &builds.Record{}
	}

	// Rules files in the output are those of the build; the others lie here.
	texts, err := site.RuleSources(p.LocalConfig, site.RulesIn(site.Folder(p)),
		KeptRules(ctx, p.LocalConfig, *record, release.LoadFrom(store)))
	if err != nil {
		return nil, err
	}
	on, err := subject(p, texts, s.Files, p.LocalConfig,
		"the working tree's rules, with the files of "+id.Short())
	if err != nil {
		return nil, err
	}
	on.Open = s.Open
	return on, nil
}

// Folder returns what a folder of ready output would publish, with the rules that
// lie beside the command. name is what it is called.
func Folder(ctx context.Context, p *site.Project, folder, name string) (*Subject, error) {
	// Fingerprinted as a deploy would, so that every answer is the one that the
	// release would give.
	_, scan, list, err := site.Fingerprint(ctx, p, folder, nil)
	if err != nil {
		return nil, err
	}
	texts, err := site.LocalRules(p, folder)
	if err != nil {
		return nil, err
	}

	s, err := subject(p, texts, list, p.LocalConfig, name)
	if err != nil {
		return nil, err
	}
	sources := map[string]string{}
	for _, found := range scan.Files {
		sources[found.Path] = found.Source
	}

	s.Open = func(_ context.Context, file release.File) ([]byte, error) {
		return os.ReadFile(filepath.Join(folder, filepath.FromSlash(sources[file.Path])))
	}
	return s, nil
}

// Refused finds what a deploy of files and the rules beside them would refuse. open
// reads the content of a file. Of a large site only the home page is read.
func Refused(ctx context.Context, p *site.Project, folder string, list []release.File,
	open func(ctx context.Context, file release.File) ([]byte, error),
) (finding.List, error) {
	texts, err := site.LocalRules(p, folder)
	if err != nil {
		return nil, err
	}
	s, err := subject(p, texts, list, p.LocalConfig, "the working tree")
	if err != nil {
		return nil, err
	}

	s.Base = BaseOf(p.ProductionConfig, project.Production)
	s.Open = open
	if len(list) > FewPages && len(p.LocalConfig.Check.StopOn) == 0 {
		s.Only = func(file release.File) bool { return file.Path == "index.html" }
	}
	found, err := Check(ctx, s, nil, nil)
	return slices.DeleteFunc(found, func(f finding.Finding) bool { return f.Level != finding.Error }), err
}

// RefusedRules finds what a deploy of the rules of a working tree would refuse,
// where files tells which files there are, and nobody can list them.
func RefusedRules(ctx context.Context, p *site.Project, folder string, files answer.Files,
) (finding.List, error) {
	texts, err := site.LocalRules(p, folder)
	if err != nil {
		return nil, err
	}
	s, err := subject(p, texts, nil, p.LocalConfig, "the working tree")
	if err != nil {
		return nil, err
	}
	s.Site.Files = files
	found, err := CheckRules(ctx, s.Input)
	return slices.DeleteFunc(found, func(f finding.Finding) bool { return f.Level != finding.Error }), err
}

// subject puts files and the text of rules together.
func subject(p *site.Project, texts []rules.Source, list []release.File, config project.Config, name string,
) (*Subject, error) {
	// Rules with mistakes are left out, and the rest is looked at.
	program, found := rules.Parse(texts, config.RuleOptions(p.ProductionConfig))
	in, err := NewCheck(program, list, config, p.ProductionConfig)
	if err != nil {
		return nil, err
	}
	in.Now = time.Now()
	return &Subject{Output: check.Output{Input: in}, Name: name, Mistakes: found, Config: config}, nil
}

// Release returns a release as it is kept. build names the build that it came
// from, which knows where its rules were written; "" if that is not known.
func Release(ctx context.Context, p *site.Project, store storage.Store, site string, id release.ID,
	build string,
) (*Subject, error) {
	reader, err := release.Read(ctx, store, site, id)
	if err != nil {
		return nil, err
	}
	list, err := FilesOf(ctx, reader)
	if err != nil {
		return nil, err
	}

	opened, err := answer.Open(ctx, reader)
	if err != nil {
		return nil, err
	}
	texts, err := rulesTexts(ctx, store, site, build)
	if err != nil {
		return nil, err
	}

	s, err := subject(p, texts, list, p.LocalConfig, id.Short())
	if err != nil {
		return nil, err
	}

	// The rules are those of the release; the text tells where they were
	// written, and what was expected of them.
	if kept := opened.Rules; kept != nil {
		if !slices.Equal(rules.Encode(s.Program.Rules), rules.Encode(kept.Rules)) {
			s.Reworded = len(s.Program.Rules) > 0
			s.Program = &rules.Program{Rules: kept.Rules}
		}
	}

	if s.Site.Rules, err = s.Program.Compile(); err != nil {
		return nil, err
	}
	s.Mistakes = nil
	s.Site.Settings = opened.Settings
	s.Site.Semantics, s.Site.Unchanging = opened.Semantics, opened.Unchanging
	s.Open = s.opener(store)
	return s, nil
}

// opener reads the files of a subject that lies in a store.
func (s *Subject) opener(store storage.Store) func(context.Context, release.File) ([]byte, error) {
	return Opener(release.LoadFrom(store))
}

// Opener reads files of releases, as load reads objects.
func Opener(load func(context.Context, digest.Digest) ([]byte, error),
) func(context.Context, release.File) ([]byte, error) {
	return func(ctx context.Context, file release.File) ([]byte, error) {
		var all []byte
		for _, object := range file.Objects() {
			data, err := load(ctx, object)
			if err != nil {
				return nil, err
			}
			all = append(all, data...)
		}
		return all, nil
	}
}

// rulesTexts returns the rules files that a build kept.
func rulesTexts(ctx context.Context, store storage.Store, site, build string) ([]rules.Source, error) {
	record, err := BuildRecord(ctx, store, site, build)
	if err != nil || record == nil {
		return nil, err
	}
	var texts []rules.Source
	for _, file := range record.Rules {
		text, err := file.Load(ctx, func(ctx context.Context, d digest.Digest) ([]byte,
			error) {
			return release.Object(ctx, store, d)
		})
		if err != nil {
			return nil, err
		}
		texts = append(texts, rules.Source{Name: file.Path, Text: text})
	}

	return texts, nil
}

// BuildRecord returns a build by its name, or nil if it is not there any more.
func BuildRecord(ctx context.Context, store storage.Store, site, name string) (*builds.Record, error) {
	if name == "" {
		return nil, nil
	}
	data, err := store.Get(ctx, storage.BuildsKey(site, "")+name)
	if errors.Is(err, storage.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}

	// A record that cannot be read has no text to show; the release is looked
	// at without.
	record, err := builds.Decode(data)
	if err != nil {
		return nil, nil //nolint:nilerr // see above
	}
	return &record, nil
}

// Live returns what an environment serves, and the entry
// that says so; nil if it serves nothing.
func Live(ctx context.Context, p *site.Project, store storage.Store, j *journal.Journal,
) (*Subject, *journal.Entry, error) {
	head, err := j.Head(ctx, 0)
	if errors.Is(err, journal.ErrEmpty) || err == nil && head.Release.IsZero() {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}

	s, err := Release(ctx, p, store, j.Site, head.Release, head.Build)
	if err != nil {
		return nil, nil, err
	}
	s.Name = head.Label()
	document, err := environments.DocumentOf(ctx, store, head)
	s.Site.Config = answer.EnvironmentConfigOf(document.Settings, document.SettingsPath)
	return s, &head, err
}

// As has the subject answer with the settings of another environment than its
// own, as they are configured.
func (s *Subject) As(p *site.Project, environment string) {
	s.Site.Config = environmentConfig(p.ProductionConfig, journal.StoredName(environment))
}

// Commit returns what a commit would publish: the output
// of a build of it, with the commit's own rules.
func Commit(ctx context.Context, p *site.Project, store storage.Store, siteName, name string,
) (*Subject, error) {
	plan, err := site.MakePlan(ctx, p, site.Order{Commit: name, NoTarget: true, Site: siteName})
	if err != nil {
		return nil, err
	}
	key, err := plan.Inputs.Key()
	if err != nil {
		return nil, err
	}

	record, _, found, err := builds.Last(ctx, store, siteName, key,
		func(b builds.Record) bool { return b.Outcome == builds.Succeeded })
	if err != nil {
		return nil, err
	}

	if !found {
		return nil, fault.New(fault.Failed, "not-built",
			"%s was not built yet, so it has no output", plan.Commit.Short()).
			Then("orilla build %s", name)
	}

	s, err := Release(ctx, p, store, siteName, record.Release, record.Name())
	if err != nil {
		return nil, err
	}
	// The output is that of the build; the rules are those of the commit, since
	// changing them builds nothing.
	beside := plan.RulesReader(ctx)
	if err := CheckSyntax(plan, beside); err != nil {
		return nil, err
	}

	texts, err := site.RuleSources(plan.Config, beside,
		KeptRules(ctx, plan.Config, record, release.LoadFrom(store)))
	if err != nil {
		return nil, err
	}

	again, err := subject(p, texts, s.Files, plan.Config, plan.Commit.Short())
	if err != nil {
		return nil, err
	}
	again.Open = s.Open
	return again, nil
}

// Check finds everything that checking finds in a subject, and, if live is
// given, the addresses that would be lost.
func Check(ctx context.Context, s, live *Subject, done func(pages int)) (finding.List, error) {
	found := slices.Clone(s.Mistakes)
	more, err := CheckRules(ctx, s.Input)
	if err != nil {
		return nil, err
	}

	found = append(found, more...)
	out := s.Output
	out.Done = done
	if more, err = check.Pages(ctx, out); err != nil {
		return nil, err
	}

	found = append(found, more...)
	if more, err = Budgets(ctx, out, live, s.Config); err != nil {
		return nil, err
	}
	found = append(found, more...)
	if live != nil {
		if more, err = check.Lost(ctx, live.Input, s.Input); err != nil {
			return nil, err
		}
		found = append(found, more...)
	}
	return Accepted(found, s.Config), nil
}

// Budgets finds what is over the budgets of a configuration. live tells what grew; nil for nothing.
func Budgets(ctx context.Context, out check.Output, live *Subject, config project.Config,
) (finding.List, error) {
	var budgets []check.Budget
	for _, b := range config.Check.Budget {
		budgets = append(budgets, check.Budget{Page: b.Page, File: b.File, Total: int64(b.Total),
			Pages: int64(b.Pages), Scripts: int64(b.Scripts), Styles: int64(b.Styles),
			Images: int64(b.Images), Fonts: int64(b.Fonts), Requests: b.Requests, Size: int64(b.Size)})
	}
	if live == nil {
		return check.Budgets(ctx, out, budgets, nil, "")
	}
	return check.Budgets(ctx, out, budgets, &live.Output, live.Name)
}

// alwaysStop are the warnings that stop a deploy unless they are ignored:
// visitors would see nothing that works.
var alwaysStop = []string{"home-broken", "hidden-asset"}

// Accepted leaves out what the configuration accepts, and
// makes errors of what it stops on.
func Accepted(found finding.List, config project.Config) finding.List {
	var accepted []check.Accepted
	for _, one := range config.Check.Ignore {
		accepted = append(accepted, check.Accepted{Code: one.Code, Path: one.Path})
	}
	found = check.Without(found, accepted)
	check.Stop(found, config.Check.StopOn)
	check.Stop(found, alwaysStop)
	return found
}

// BaseOf returns the base path of an environment: that of its first address.
func BaseOf(config project.Config, environment string) string {
	addresses := config.Document(environment).Addresses
	if len(addresses) == 0 {
		return ""
	}
	at, err := url.Parse(addresses[0])
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(at.EscapedPath(), "/")
}

// Side is the subject as one side of a comparison.
func (s *Subject) Side() difference.Side {
	return difference.Side{Files: s.Files, Site: s.Site, Rules: s.Program.Rules, Base: s.Base, Open: s.Open,
		Now: s.Now}
}

// KeptRules returns what reads a rules file, by its path
// in the output, as an earlier build kept it. The error is
// fs.ErrNotExist for a file that was not there then.
func KeptRules(ctx context.Context, config project.Config, record builds.Record, load release.Load,
) func(file string) ([]byte, error) {
	return func(file string) ([]byte, error) {
		name := path.Join(config.Build.Folder, config.Build.Output, file)
		for _, kept := range record.Rules {
			if kept.Path == name {
				return kept.Load(ctx, load)
			}
		}
		return nil, fs.ErrNotExist
	}
}

// CheckSyntax parses the rules that are known before a build, so that a mistake
// in them costs no build. beside reads them, as that of RulesReader does.
func CheckSyntax(plan *site.Plan, beside func(file string) ([]byte, error)) error {
	files, err := site.RuleSources(plan.Config, beside, nil)
	if err != nil {
		return err
	}
	_, found := rules.Parse(files, plan.Config.RuleOptions(plan.Project.ProductionConfig))
	return found.Problem()
}
