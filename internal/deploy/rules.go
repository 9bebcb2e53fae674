package deploy

import (
	"context"
	"path"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
)

// ruled is what the rules of a release are. A release without rules has an
// input to check, and nothing else.
type ruled struct {
	record  []builds.RulesFile
	set     *release.RuleSet
	objects []release.Chunk // to be kept: the normalised rules, and their sources
	in      check.Input     // the site that they make with the files
	counts  inspect.RuleCounts
}

// readRules parses all rules and checks them against the
// files of the release, as a phase.
func readRules(ctx context.Context, p *Prepared, sources []rules.Source, files []release.File,
) (out *ruled, err error) {
	if len(sources) == 0 {
		in, err := withoutRules(p, files)
		return &ruled{in: in}, err
	}
	err = p.phases.Time("rules", sources[0].Name, func() error {
		out, err = parseRules(ctx, p, sources, files)
		return err
	})
	return out, err
}

// parseRules parses and checks rules. What they hold is kept as objects: the
// normalised rules for edge nodes, the sources for people.
func parseRules(ctx context.Context, p *Prepared, sources []rules.Source, files []release.File,
) (*ruled, error) {
	config, production := p.Plan.Config, p.Plan.Project.ProductionConfig
	program, found := rules.Parse(sources, config.RuleOptions(production))
	if err := found.Problem(); err != nil {
		return nil, err
	}

	in, err := inspect.NewCheck(program, files, config, production)
	if err != nil {
		return nil, err
	}
	in.Now = p.Now()
	if found, err = inspect.CheckRules(ctx, in); err != nil {
		return nil, err
	}

	// What the configuration accepts is dropped before it can stop anything,
	// and what it stops on has become an error.
	found = inspect.Accepted(found, config)
	if err := found.Problem(); err != nil {
		return nil, err
	}
	// warn reports the first few findings that stop nothing.
	warn(p.Report, found)

	counts := inspect.RuleCounts{Rules: rules.Counts(program.Rules), Expectations: len(program.Expectations)}
	out := &ruled{in: in, counts: counts}
	// Edge nodes get the normalised rules. What people wrote, with comments and
	// positions, is kept too: explain and promote quote it later, when the
	// commit may be gone.
	out.set, out.objects = release.CutRules(len(program.Rules), rules.Encode(program.Rules))
	for _, source := range sources {
		kept := builds.RulesFile{Path: source.Name}
		for part := range slices.Chunk(source.Text, release.PartSize) {
			d := digest.Of(part)
			kept.Objects = append(kept.Objects, d)
			out.objects = append(out.objects, release.Chunk{Digest: d, Data: part})
		}
		out.record = append(out.record, kept)
	}

	return out, nil
}

// withoutRules is the input of a site without rules.
func withoutRules(p *Prepared, files []release.File) (check.Input, error) {
	in, err := inspect.NewCheck(&rules.Program{}, files, p.Plan.Config, p.Plan.Project.ProductionConfig)
	in.Now = p.Now()
	return in, err
}

// fewFindings is how many findings are told that stop nothing.
const fewFindings = 5

// warn tells of what was found and stops nothing.
func warn(report Reporter, found finding.List) {
	for i, f := range found {
		if i == fewFindings {
			report.Notice(fault.Notice{
				Code: "more-findings", What: "the rules have warnings",
				Next: "orilla check",
			})
			return
		}
		report.Notice(fault.Notice{Code: f.Code, What: f.Position.String() + ": " + f.What, Paths: f.More,
			Next: f.Next})
	}
}

// sameLeftOut reports whether the rules files in the output
// of a plan, which are not published, are those that they
// were in an earlier build: else the output has other files.
func sameLeftOut(plan *site.Plan, record builds.Record) bool {
	build := plan.Config.Build
	output := path.Join(build.Folder, build.Output)
	var now, then []string
	for _, file := range plan.Config.RulesInOutput() {
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

// sameRules reports whether two builds were recorded with the same rules files.
func sameRules(a, b []builds.RulesFile) bool {
	return slices.EqualFunc(a, b,
		func(x, y builds.RulesFile) bool { return x.Path == y.Path && slices.Equal(x.Objects, y.Objects) })
}
