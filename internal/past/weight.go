package past

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
)

// Two releases are compared by the chunks of their lists, so that one of 100,000 files that differs in
// one costs two chunks. What a page weighs costs the reading of its text; what earlier releases had as
// well was weighed with them.

// Compare counts how the files of two entries' releases differ. The error is storage.ErrNotFound where
// one of them was pruned.
func Compare(
	ctx context.Context,
	store storage.Store,
	before, after journal.Entry,
) (*notices.Changed, error) {
	old, err := release.Read(ctx, store, before.Site, before.Release)
	if err != nil {
		return nil, err
	}
	next, err := release.Read(ctx, store, after.Site, after.Release)
	if err != nil {
		return nil, err
	}
	return compare(ctx, old, next)
}

// compare counts how two releases differ; the first may be nil.
func compare(ctx context.Context, old, next *release.Reader) (*notices.Changed, error) {
	changes, err := release.Compare(ctx, old, next)
	if err != nil {
		return nil, err
	}
	count := &notices.Changed{Paths: pathsOf(changes)}
	count.Added, count.Changed, count.Removed = changes.Count()
	return count, nil
}

// A few names say more than a number, and pages more than assets: "fares.html and two others".

// pathsOf names the first few files that differ, pages first: those are what people know.
func pathsOf(changes release.Changes) (paths []string) {
	for _, change := range changes {
		paths = append(paths, change.Path)
	}
	isPage := func(path string) int {
		if media.ClassOf(path) == media.Page {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(paths, func(a, b string) int {
		if d := isPage(a) - isPage(b); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	return paths[:min(len(paths), notices.MostPaths)]
}

// Step is what an entry put live, and how that differs from what was live before it.
type Step struct {
	Files, Bytes int64            // of the release
	Before       journal.Entry    // what was live before; its release is unset for nothing
	Changed      *notices.Changed // nil where the release before was pruned
	// Wire is what the home page weighs on the wire with all that it loads, and Requests in how many
	// requests; 0 if / answers with something else than a page.
	Wire, Requests int64
}

// A step is asked for by whoever shows many of them: what is not there any more is left out, and only a
// store that does not answer is an error.

// What changed and what the page weighs are asked for side by side: each is a handful of reads, one after the
// other, of a store that may be far away.

// Step tells what an entry put live; nil if that was pruned. wires are shared by the steps of a site.
func (w *Walk) Step(ctx context.Context, entry journal.Entry, wires *check.Wires) (*Step, error) {
	m, err := w.At(ctx, entry)
	if err != nil || m.Gone {
		return nil, present(err)
	}
	s := &Step{Files: m.reader.Root.Files, Bytes: m.reader.Root.Bytes}
	group, asking := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		s.Changed, err = w.changed(asking, entry, m.reader, s)
		return present(err)
	})
	group.Go(func() (err error) {
		s.Wire, s.Requests, err = w.home(asking, m, wires)
		return present(err)
	})
	return s, group.Wait()
}

// present is an error of a store that does not answer; nil for what it answers with nothing, or with
// something that cannot be read.
func present(err error) error {
	for _, known := range []error{storage.ErrNotFound, journal.ErrDamaged, journal.ErrUnknown,
		release.ErrDamaged, release.ErrUnknown, rules.ErrDamaged} {
		if errors.Is(err, known) {
			return nil
		}
	}
	return err
}

// changed compares a release with the one that was live before its entry.
func (w *Walk) changed(ctx context.Context, entry journal.Entry, next *release.Reader, s *Step,
) (*notices.Changed, error) {
	if entry.Number > 1 {
		before, err := w.journal.Get(ctx, entry.Number-1)
		if err != nil {
			return nil, err
		}
		s.Before = before
	}
	if s.Before.Release.IsZero() {
		return compare(ctx, nil, next)
	}
	old, err := release.Read(ctx, w.store, entry.Site, s.Before.Release)
	if err != nil {
		return nil, err
	}
	return compare(ctx, old, next)
}

// home weighs what / answers with, if that is a page.
func (w *Walk) home(ctx context.Context, m *Moment, wires *check.Wires) (wire, requests int64, err error) {
	a, err := m.Ask(ctx, "/")
	if err != nil || a.Status != http.StatusOK || a.File == nil || media.ClassOf(a.File.Path) != media.Page {
		return 0, 0, err
	}
	out := check.Output{Input: check.Input{Site: m.site, Now: m.now}, Base: m.base, Open: w.open}
	return wires.Weigh(ctx, out, *a.File)
}
