package deploy

import (
	"context"
	"errors"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/storage"
)

// lookup is the highest number seen among the records of a build key. The zero
// lookup knows nothing.
type lookup struct {
	key    string
	newest int
}

// keepRecord keeps the record of a build and, of one that succeeded, the root
// of its release; root is nil for one that did not. seen is what an earlier
// look at the records of the key found. It returns the record as it is kept.
func keepRecord(ctx context.Context, p *Prepared, record builds.Record, root []byte, seen lookup,
) (builds.Record, error) {
	record, err := describe(ctx, p, record)
	if err != nil {
		return record, err
	}
	if root != nil {
		if err := p.name.take(ctx, p.writer()); err != nil {
			return record, err
		}
	}

	// The fast way: one request that creates the next number. Only if that is
	// taken, the numbers there are are read.
	given := p.Plan.Origin.Source == journal.FromOutput
	if root != nil && record.Key == seen.key || given {
		// the next one is free, unless somebody was faster
		// or the same output is published again
		record.Number = seen.newest + 1
		if taken, err := commitRecord(ctx, p, record, root); err != nil || !taken {
			return record, err
		}
	}

	// Output that somebody made elsewhere has no inputs but itself, so
	// publishing it twice is one fact and not two.
	same := func(b builds.Record) bool {
		return given && !p.hold.Doomed(recordKey(p, b)) && b.Outcome == builds.Succeeded &&
			b.Release == record.Release &&
			sameRules(b.Rules, record.Rules)
	}

	last, newest, found, err := builds.Last(ctx, p.Store, p.Plan.Site, record.Key, same)
	if err != nil {
		return record, err
	}
	if found && root != nil { // the same output again: how it came to be is recorded already
		err := p.writer().Create(ctx, storage.ReleaseKey(p.Plan.Site, record.Release.String()), root)
		if errors.Is(err, storage.ErrExists) {
			err = nil
		}
		return last, err
	}

	// Others may take numbers at the same time; each try that loses goes one
	// further.
	for record.Number = newest + 1; ; record.Number++ {
		taken, err := commitRecord(ctx, p, record, root)
		if err != nil || !taken {
			return record, err
		}
	}
}

// recordKey is where a build of the plan's site is recorded.
func recordKey(p *Prepared, record builds.Record) string {
	return storage.BuildKey(p.Plan.Site, record.Key, record.Number)
}

// commitRecord writes a record, with the root if there is one, and reports
// whether the number is taken: by another build of the same key meanwhile, or
// by one whose record is on its way out and may be removed again.
func commitRecord(ctx context.Context, p *Prepared, record builds.Record, root []byte,
) (taken bool, err error) {
	key := recordKey(p, record)
	if p.hold.Doomed(key) {
		return true, nil
	}
	// Root and record in one batch: an engine that can make both appear
	// together does so, and one that cannot names the record first.
	batch, err := p.writer().Begin(ctx)
	if err != nil {
		return false, err
	}
	defer batch.Discard()
	data, err := record.Encode()
	if err != nil {
		return false, err
	}

	added, err := batch.Add(ctx, key, data)
	if err != nil {
		return false, err
	}
	if root != nil {
		if _, err := batch.Add(ctx, storage.ReleaseKey(p.Plan.Site, record.Release.String()),
			root); err != nil {
			return false, err
		}
	}

	names, err := batch.Commit(ctx)
	for _, name := range names {
		taken = taken || name == key
	}
	return taken || !added, err
}

// describe fills in what the plan knows of a build.
func describe(ctx context.Context, p *Prepared, record builds.Record) (builds.Record, error) {
	plan, origin := p.Plan, p.Plan.Origin
	record.Source, record.Branch = origin.Source, origin.Branch
	record.Subject, record.Commit = origin.Subject, origin.Commit
	record.Who = plan.Project.Person(ctx)
	if plan.Commit != nil {
		record.Tree, record.Author = plan.Commit.Tree, plan.Commit.Author
	}

	// Of output and of a working tree nothing is known but the bytes, so those
	// are the inputs.
	record.Told = plan.Told
	inputs := plan.Inputs
	if origin.Source != journal.FromCommit {
		inputs = builds.Inputs{Source: origin.Source, Release: record.Release, Commit: origin.Commit}
	}

	if origin.Source == journal.FromWorkingTree {
		record.Changed = plan.Uncommitted()
	}
	var err error
	record.Key, err = inputs.Key()
	return record, err
}

// keepFailure keeps the log of a build that did not succeed and, unless it was
// interrupted, its record, as far as the store allows: the build's own error is
// what people must see. It returns the parts of the log.
func (p *Prepared) keepFailure(ctx context.Context, record builds.Record, log string, interrupted bool,
) []digest.Digest {
	batch, err := p.Store.Begin(ctx)
	if err != nil {
		return nil
	}
	defer batch.Discard()
	// The log is worth more than the record: it is kept also if the build was
	// interrupted.
	if record.Log, err = addLog(ctx, batch, log); err != nil {
		return nil
	}

	if _, err = batch.Commit(ctx); err == nil && !interrupted {
		keepRecord(ctx, p, record, nil, lookup{}) //nolint:errcheck // see above
	}
	return record.Log
}

// addLog adds the log of a build to a batch, in parts.
func addLog(ctx context.Context, put publish.Putter, log string) ([]digest.Digest, error) {
	var parts []digest.Digest
	err := build.LogParts(log, func(data []byte) error {
		d := digest.Of(data)
		parts = append(parts, d)
		_, err := put.Add(ctx, d.Key(), data)
		return err
	})
	return parts, err
}
