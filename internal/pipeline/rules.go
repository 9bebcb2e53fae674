package pipeline

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
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// readRules reads the rules that are known before the build, so that a mistake in them costs no build.
func (r *Run) readRules(ctx context.Context) error {
	plan := r.Plan
	r.readBeside = plan.RulesReader(ctx)
	files, err := ruleSources(plan.Config, r.readBeside, nil)
	if err != nil {
		return err
	}
	_, found := rules.Parse(files, r.ruleOptions())
	return found.Problem()
}

func (r *Run) ruleOptions() rules.Options {
	return r.Plan.Config.RuleOptions(r.Plan.Project.ProductionConfig)
}

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
	in, err := NewCheck(program, list, r.Plan.Config, r.Plan.Project.ProductionConfig)
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
