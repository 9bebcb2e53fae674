package deploy

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sync"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/fingerprint"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/inspect"
)

// Changes counts how a release differs from the one that was live.
type Changes struct {
	Added, Changed, Removed int
	First                   bool // nothing was live
}

// CountChanges counts files, not chunks: what was added, changed and removed
// between two releases.
func CountChanges(changes []release.Change) (c Changes) {
	for _, change := range changes {
		switch {
		case change.Before == nil:
			c.Added++
		case change.After == nil:
			c.Removed++
		default:
			c.Changed++
		}
	}
	return c
}

// opener reads the content of a file of a release.
type opener func(ctx context.Context, file release.File) ([]byte, error)

// comparison is what a release would change of what visitors have, and what of
// that would break.
type comparison struct {
	Changes      Changes
	Differences  []release.Change // of which Changes is the count
	RulesChanged bool             // the rules differ from those that were live
	Findings     finding.List     // what would break in what changes
}

// liveRelease returns the release that the plan's environment serves, or that
// production serves if nothing will be live; nil for none, and for one that
// cannot be read, which is told.
func liveRelease(ctx context.Context, p *Prepared) (*release.Reader, error) {
	head := p.head
	if head == nil && p.Plan.Environment != "" {
		return nil, nil
	}
	// A release that will be live nowhere is compared with what visitors of
	// production have.
	if head == nil {
		production := environments.JournalOf(p.Store, p.Plan.Site, project.Production, p.now)
		entry, err := production.Head(ctx, journal.ReadHints(ctx, p.Store, p.Plan.Site)[project.Production])
		if errors.Is(err, journal.ErrEmpty) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		head = &entry
	}

	if head.Release.IsZero() {
		return nil, nil
	}

	// Comparing is a service. A live release that is damaged, or that a later
	// version made, must not keep the deploy out that would mend it.
	reader, err := openRelease(ctx, p, head.Release)
	if errors.Is(err, release.ErrUnknown) || errors.Is(err, release.ErrDamaged) ||
		errors.Is(err, storage.ErrNotFound) {
		p.Report.Notice(fault.Notice{
			Code: "live-unreadable", What: "cannot compare with the live release: " + err.Error(),
		})
		return nil, nil
	}

	return reader, err
}

// openRelease reads the root of a release of the plan's site.
func openRelease(ctx context.Context, p *Prepared, id release.ID) (*release.Reader, error) {
	if known, ok := p.objects.roots.Load(id); ok {
		return known.(*release.Reader), nil
	}
	reader, err := release.Open(ctx, p.Store, p.Plan.Site, id, p.objects.load)
	if err == nil {
		p.objects.roots.Store(id, reader)
	}
	return reader, err
}

// compare finds what a release that is in the store changes of
// what is live, and what would break. open reads the content of
// its files; nil if they were looked at when they were uploaded.
// The error is a problem if something breaks that may not.
func compare(ctx context.Context, p *Prepared, next *release.Reader, in check.Input, open opener,
) (comparison, error) {
	live, err := liveRelease(ctx, p)
	if err != nil {
		return comparison{}, err
	}
	// The first release at the root of a host, checked when it was built: there
	// is nothing that could have changed.
	if live == nil && open == nil && basePath(p) == "" {
		return comparison{Changes: Changes{First: true, Added: int(next.Root.Files)}}, nil
	}

	changes, err := release.Compare(ctx, live, next)
	if err != nil {
		return comparison{}, err
	}
	if live == nil {
		c := comparison{Changes: Changes{First: true, Added: int(next.Root.Files)}}
		c.Findings, err = findBroken(ctx, p, in, changes, nil, false, open)
		return c, err
	}

	c := comparison{Changes: CountChanges(changes), Differences: changes,
		RulesChanged: !release.SameSet(live.Root.Rules, next.Root.Rules)}
	if err := refuseUnchanging(ctx, changes, live, next.Root.Settings); err != nil {
		return c, err
	}

	// Whether an address is lost takes the whole list of files, which is read
	// only if something goes.
	removes := slices.ContainsFunc(changes, func(c release.Change) bool { return c.After == nil })
	if in.Files == nil && removes {
		if in.Files, err = inspect.FilesOf(ctx, next); err != nil {
			return c, err
		}
	}
	c.Findings, err = findBroken(ctx, p, in, changes, live, c.RulesChanged, open)
	return c, err
}

// basePath is the base path of the plan's environment:
// that of its first address.
func basePath(p *Prepared) string {
	return inspect.BaseOf(p.Plan.Project.ProductionConfig, cmp.Or(p.Plan.Environment, project.Production))
}

// findBroken finds what would break in what changes against the live release,
// nil for none. open reads the content of a file; it is nil if no file is new.
// The error is a problem if something breaks that may not.
func findBroken(ctx context.Context, p *Prepared, in check.Input, changes []release.Change,
	live *release.Reader, ruled bool,
	open opener,
) (finding.List, error) {
	changed := map[string]bool{}
	var removed []release.File
	for _, change := range changes {
		if change.After == nil {
			removed = append(removed, *change.Before)
		} else {
			changed[change.Path] = true
		}
	}

	// Reading every page of a large site would cost more than the deploy.
	only, err := pagesToRead(ctx, p, changed, live, ruled)
	if err != nil {
		return nil, err
	}

	var found finding.List
	// what was built before is looked at as it will be answered now
	if open == nil && (only == nil || ruled) {
		open = inspect.Opener(p.objects.load)
	}

	if open != nil {
		if in.Files == nil {
			if in.Files, err = inspect.FilesOf(ctx, in.Site.Files.(*release.Reader)); err != nil {
				return nil, err
			}
		}

		more, err := check.Pages(ctx, check.Output{Input: in, Base: basePath(p), Open: open, Only: only})
		if err != nil {
			return nil, err
		}
		found = append(found, more...)
		whole := check.Output{Input: in, Base: basePath(p), Open: open}
		if more, err = overBudget(ctx, p, whole, live); err != nil {
			return nil, err
		}
		found = append(found, more...)
	}

	if live != nil {
		more, err := findLost(ctx, in, live, removed, ruled)
		if err != nil {
			return nil, err
		}
		found = append(found, more...)
	}
	found = inspect.Accepted(found, p.Plan.Config)
	return found, found.Problem()
}

// A release that was built before was weighed then, and is not read again from a store that may be far
// away: a budget that was lowered since is told by orilla check, and by the next build.

// overBudget finds what is over its budget, and what of it grew since what is live. All pages are
// weighed that a budget is of, also those that did not change: what they load may have.
func overBudget(ctx context.Context, p *Prepared, out check.Output, live *release.Reader,
) (finding.List, error) {
	if len(p.Plan.Config.Check.Budget) == 0 {
		return nil, nil
	}
	if live == nil {
		return inspect.Budgets(ctx, out, nil, p.Plan.Config)
	}
	site, err := answer.Open(ctx, live)
	if err != nil {
		return nil, err
	}
	name := "what is live"
	if p.head != nil {
		name = p.head.Label()
	}
	before := &inspect.Subject{Name: name, Output: check.Output{
		Input: check.Input{Site: site, Now: out.Now}, Base: out.Base, Open: inspect.Opener(p.objects.load)}}
	return inspect.Budgets(ctx, out, before, p.Plan.Config)
}

// findLost finds the addresses that are answered now and would not be any more.
func findLost(ctx context.Context, in check.Input, live *release.Reader, removed []release.File, ruled bool,
) (finding.List, error) {
	if len(removed) == 0 && !ruled {
		return nil, nil
	}
	before, err := answer.Open(ctx, live)
	if err != nil {
		return nil, err
	}
	if !ruled { // rules that stay the same lose no address
		before.Rules = nil
	}
	return check.Lost(ctx, check.Input{Site: before, Files: removed}, in)
}

// pagesToRead tells which pages are read; nil for all. Those that changed are,
// and the home page always, since what is live answers for the others. All are
// if other addresses or rules may break any of them, or the configuration stops
// on what is found. Of a large site, that goes for addresses only.
func pagesToRead(ctx context.Context, p *Prepared, changed map[string]bool, live *release.Reader,
	ruled bool) (
	func(release.File) bool, error,
) {
	moved, err := moves(ctx, p)
	// With another base path any link of any page may lead elsewhere; and who
	// stops on findings wants to know of all of them.
	if err != nil || moved || len(p.Plan.Config.Check.StopOn) > 0 {
		return nil, err
	}
	few := len(changed) <= inspect.FewPages
	if few && (live == nil || ruled && live.Root.Files <= inspect.FewPages) {
		return nil, nil
	}
	return func(file release.File) bool { return few && changed[file.Path] || file.Path == "index.html" }, nil
}

// moves reports whether the plan's environment gets other
// addresses than it has.
func moves(ctx context.Context, p *Prepared) (bool, error) {
	if p.head == nil || p.head.Release.IsZero() || !saysEnvironments(p.Plan.Project) {
		return false, nil
	}
	content, err := environments.DocumentOf(ctx, p.Store, *p.head)
	return err == nil && !slices.Equal(content.Addresses, documentContent(p).Addresses), err
}

// openOutput reads the files of an output, as a scan found them.
func openOutput(output publish.Output, scan *publish.Scan) opener {
	// Most checks read a few pages of many, so the map is made when the first
	// one is read.
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

// refuseUnchanging refuses other bytes at a path whose answers visitors keep for
// a year, as the live release (nil for none) has sent them. What the new settings
// call plain is the site's own decision.
func refuseUnchanging(ctx context.Context, changes []release.Change, live *release.Reader,
	settings release.Settings,
) error {
	var paths []string
	var before answer.Earlier
	if live != nil {
		before = answer.EarlierOf(live)
	}
	for _, change := range changes {
		// A browser that has the old bytes will not ask again for a year. No
		// later deploy can mend that.
		replaced := change.Before != nil && change.After != nil && change.Before.Digest != change.After.Digest
		if !replaced || fingerprint.Matches(settings.Plain, change.Path) {
			continue
		}
		kept, err := before.Immutable(ctx, change.Path)
		if err != nil {
			return err
		}
		if kept {
			paths = append(paths, change.Path)
		}
	}

	if len(paths) == 0 {
		return nil
	}
	problem := fault.New(fault.Refused, "immutable-changed",
		"changed content at addresses that browsers cache for a year, because the names look like "+
			"fingerprints")

	for i, path := range paths {
		if i == 10 {
			problem = problem.With(fmt.Sprintf("and %d more", len(paths)-i))
			break
		}
		problem = problem.With(path)
	}
	return problem.Then("rename them; or, if the names are not fingerprints, add to orilla.yaml: "+
		"assets: {plain: [%q]}", paths[0])
}
