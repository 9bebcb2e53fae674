package deploy

import (
	"context"
	"errors"
	"slices"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
)

// reuse finds a release that was already built from the same inputs, and gives
// it the rules and settings of the plan: those are no reason to build again.
// The result is nil if there is none; seen is what was looked through.
func reuse(ctx context.Context, p *Prepared) (made *Made, seen lookup, err error) {
	// Only a commit has inputs that can be named; a working tree is what it is at
	// this moment.
	if p.Rebuild || p.Plan.Origin.Source != journal.FromCommit {
		return nil, lookup{}, nil
	}
	key, err := p.Plan.Inputs.Key()
	if err != nil {
		return nil, lookup{}, err
	}

	untrusted := false // one was passed over since untrusted steps made it
	// The newest record that may be used, not the newest one: a failed build of
	// the same inputs says nothing against an earlier one that succeeded.
	usable := func(b builds.Record) bool {
		if b.Outcome != builds.Succeeded {
			return false
		}
		may := mayShow(p.Plan, b)
		untrusted = untrusted || !may
		return may
	}

	record, newest, found, err := builds.Last(ctx, p.Store, p.Plan.Site, key, usable)
	seen = lookup{key, newest}
	if err != nil {
		return nil, seen, err
	}

	if !found {
		if untrusted {
			noteBuiltAgain(p.Report)
		}
		return nil, seen, nil
	}

	// A prune has condemned it, and may have removed half of it by now.
	// Building it again is slower, and right.
	doomed := p.hold.Doomed(storage.ReleaseKey(p.Plan.Site, record.Release.String())) ||
		p.hold.Doomed(recordKey(p, record))
	if doomed || !sameLeftOut(p.Plan, record) {
		return nil, seen, nil
	}

	reader, err := openRelease(ctx, p, record.Release)
	if errors.Is(err, storage.ErrNotFound) {
		return nil, seen, nil
	}
	if err != nil {
		return nil, seen, err
	}
	made, err = adapt(ctx, p, record, reader, seen)
	return made, seen, err
}

// noteBuiltAgain tells why something is built that a branch has built already.
func noteBuiltAgain(report Reporter) {
	report.Notice(fault.Notice{
		Code: "built-again", What: "an untrusted branch built the same without isolation, so " +
			"Orilla rebuilds it",
		Next: "to avoid that, install bubblewrap on the build machine, or set build.trust in " +
			"orilla.yaml",
	})
}

// mayShow reports whether a plan may put live what an earlier build made. What
// an untrusted build made without isolation may hold anything that runs on this
// machine, so only untrusted previews show it.
func mayShow(plan *site.Plan, record builds.Record) bool {
	preview := plan.Environment == "" || journal.IsPreview(plan.Environment)
	return record.Untrusted.Contained() || plan.Untrusted() && preview
}

// adapt gives the output of an earlier build the rules and settings of the
// plan. If they are those it has, nothing is written.
func adapt(ctx context.Context, p *Prepared, record builds.Record, reader *release.Reader, seen lookup,
) (*Made, error) {
	next, err := readKeptRules(ctx, p, record, reader)
	if err != nil {
		return nil, err
	}
	if err := noteOrigins(ctx, p, next.in.Site.Rules); err != nil {
		return nil, err
	}
	root, lists, err := reroot(ctx, reader, next, p.Plan.Config.Settings())
	if err != nil {
		return nil, err
	}
	data, id, err := root.Encode()
	if err != nil {
		return nil, err
	}

	made := &Made{Trial: p.Trial,
		ID: id, Files: root.Files, Bytes: root.Bytes, Build: record, Rules: next.counts,
		Reused: true, semantics: root.Semantics}
	made.comparison, err = compare(ctx, p, release.NewReader(id, root, p.objects.load), next.in, nil)
	if err != nil {
		return nil, err
	}

	if id == reader.ID && sameRules(next.record, record.Rules) {
		return made, nil
	}

	err = untilKept(ctx, p, func(put *putting) error {
		put.root = storage.ReleaseKey(p.Plan.Site, id.String())
		return put.addAll(ctx, slices.Concat(next.objects, lists))
	})
	if err != nil {
		return nil, err
	}

	// Always the build that really ran, so that a log can be found in one step.
	if record.Reuses == "" {
		record.Reuses = record.Name()
	}
	record.Release, record.Rules = id, next.record
	made.Build, err = keepRecord(ctx, p, record, data, seen)
	return made, err
}

// reroot returns the root of a release with other rules and settings, and the
// objects that hold its list of immutable files if that is a new one. The files
// are the same: rules and settings are not among the inputs of a build.
func reroot(ctx context.Context, reader *release.Reader, next *ruled, settings release.Settings,
) (release.Root, []release.Chunk, error) {
	root, before := reader.Root, reader.Root.Settings
	root.Settings, root.Rules = settings, next.set
	_, id, err := root.Encode()
	if err != nil || id == reader.ID {
		return root, nil, err
	}

	// Which files are immutable depends on two settings only, and releases of
	// semantics 1 have no list yet.
	if root.Semantics > release.Semantics1 && slices.Equal(before.Fingerprinted, settings.Fingerprinted) &&
		slices.Equal(before.Plain, settings.Plain) {
		return root, nil, nil
	}
	files := next.in.Files
	if files == nil {
		if files, err = inspect.FilesOf(ctx, reader); err != nil {
			return root, nil, err
		}
	}
	root, lists := root.Relist(files, settings)
	return root, lists, nil
}

// readKeptRules reads and checks the rules that go with
// the output of an earlier build.
func readKeptRules(ctx context.Context, p *Prepared, record builds.Record, reader *release.Reader,
) (*ruled, error) {
	// Most sites have no rules; theirs are adapted without reading one chunk.
	if len(p.Plan.Config.Rules) == 0 { // nothing to check against the list of files, which may be long
		in, err := withoutRules(p, nil)
		in.Site.Files = reader
		return &ruled{in: in}, err
	}

	kept := inspect.KeptRules(ctx, p.Plan.Config, record, p.objects.load)
	sources, err := site.RuleSources(p.Plan.Config, p.beside, kept)
	if err != nil {
		return nil, err
	}

	files, err := inspect.FilesOf(ctx, reader)
	if err != nil {
		return nil, err
	}
	return readRules(ctx, p, sources, files)
}
