package pipeline

import (
	"cmp"
	"context"
	"io/fs"
	"slices"
	"sync"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// fewPages is how many new or changed pages a deploy reads, unless the configuration stops on what is found: then it reads all. Reading
// a large site's pages takes longer than sending them.
const fewPages = 2000

// look finds what would break in what changes against the live release. open reads the content of a file; it is nil if no file is new.
func (r *Run) look(ctx context.Context, in check.Input, changes []release.Change, live *release.Reader, open func(context.Context, release.File) ([]byte, error)) error {
	var found finding.List
	changed := map[string]bool{}
	var removed []release.File
	for _, change := range changes {
		switch {
		case change.After == nil:
			removed = append(removed, *change.Before)
		default:
			changed[change.Path] = true
		}
	}
	only, err := r.pagesToRead(ctx, changed, live)
	if err != nil {
		return err
	}
	if open == nil && (only == nil || r.result.Ruled) { // what was built before is looked at as it will be answered now
		open = opener(r.load)
	}
	if open != nil {
		if in.Files == nil {
			if in.Files, err = filesOf(ctx, in.Site.Files.(*release.Reader)); err != nil {
				return err
			}
		}
		out := check.Output{Input: in, Base: BaseOf(r.Plan.Project.ProductionConfig, cmp.Or(r.Plan.Environment, project.Production)), Open: open, Only: only}
		more, err := check.Pages(ctx, out)
		if err != nil {
			return err
		}
		found = append(found, more...)
	}
	if live != nil {
		before := answer.Site{Files: live, Settings: live.Root.Settings}
		if r.result.Ruled { // rules that stay the same lose no address
			var err error
			if before, err = answer.Open(ctx, live); err != nil {
				return err
			}
		}
		more, err := check.Lost(ctx, check.Input{Site: before, Files: removed}, in)
		if err != nil {
			return err
		}
		found = append(found, more...)
	}
	r.result.Findings = Accepted(found, r.Plan.Config)
	return r.result.Findings.Problem()
}

// pagesToRead tells which pages are read; nil for all. Those that changed are, and the home page always, since what is live answers for the
// others. All are if other addresses or rules may break any of them, or the configuration stops on what is found. Of a large site, that goes for
// addresses only.
func (r *Run) pagesToRead(ctx context.Context, changed map[string]bool, live *release.Reader) (func(release.File) bool, error) {
	moved, err := r.moves(ctx)
	if err != nil || moved || len(r.Plan.Config.Check.StopOn) > 0 {
		return nil, err
	}
	few := len(changed) <= fewPages
	if few && (live == nil || r.result.Ruled && live.Root.Files <= fewPages) {
		return nil, nil
	}
	return func(file release.File) bool { return few && changed[file.Path] || file.Path == "index.html" }, nil
}

// moves reports whether the plan's environment gets other addresses than it has.
func (r *Run) moves(ctx context.Context) (bool, error) {
	before := r.result.Before
	if before == nil || before.Release.IsZero() || !r.Plan.Project.Configured && r.Plan.Project.ProductionCommit == "" {
		return false, nil
	}
	content, err := documentOf(ctx, r.Store, *before)
	return err == nil && !slices.Equal(content.Addresses, r.documentContent().Addresses), err
}

// content reads the files of an output.
func content(output publish.Output, scan *publish.Scan) func(context.Context, release.File) ([]byte, error) {
	sources := sync.OnceValue(func() map[string]string {
		sources := make(map[string]string, len(scan.Files))
		for _, found := range scan.Files {
			sources[found.Path] = found.Source
		}
		return sources
	})
	return func(_ context.Context, file release.File) ([]byte, error) {
		return fs.ReadFile(output.FS, sources()[file.Path])
	}
}

// without is the input of a site without rules.
func (r *Run) without(list []release.File) (check.Input, error) {
	in, err := NewCheck(&rules.Program{}, list, r.Plan.Config, r.Plan.Project.ProductionConfig)
	in.Now = r.Now()
	return in, err
}
