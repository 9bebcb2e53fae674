package deploy

import (
	"context"

	"orilla.example/orilla/internal/core/journal"
)

// PrepareChecks is Prepare for a check of what somebody else's entry put live, as a
// thaw or a rollback does: nothing is made, and what the job waits for must be
// checkable before the entry is written. Close what it returns.
func PrepareChecks(ctx context.Context, job Job) (*Prepared, error) {
	p, err := pin(ctx, job, journal.Deploy, "check")
	if err != nil {
		return nil, err
	}
	if err := p.checkProbes(ctx); err != nil {
		p.Close(ctx)
		return nil, err
	}
	p.hints = journal.ReadHints(ctx, p.Store, p.Plan.Site)
	return p, nil
}

// A thaw and a rollback write entries of their own, without a release being made, so
// there is no activation that could be verified. Here one is made of the entry.

// Entered returns an entry that was written elsewhere as an activation, to be
// verified. before is what is gone back to if a check fails, nil to stay: a rollback
// that fails its check is not undone, since what it left was worse.
func Entered(p *Prepared, entry journal.Entry, before *journal.Entry) *Activation {
	return &Activation{Entry: entry, Before: before, stay: before == nil, release: &Release{prepared: p}}
}
