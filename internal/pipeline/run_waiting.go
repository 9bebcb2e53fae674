package pipeline

import (
	"context"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
)

// wait records that the release waits.
func (r *Run) wait(ctx context.Context) error {
	origin := r.Plan.Origin
	origin.Build = r.result.Build.Name()
	if origin.Subject == "" {
		origin.Subject = r.result.Build.Subject
	}
	waits := PendingRelease{Format: waitsFormat, Environment: r.Plan.Environment, Release: r.result.Release, Origin: origin, Who: r.Plan.Project.Person(ctx),
		When: r.now().UTC().Truncate(time.Millisecond), Why: r.Plan.Message}
	if err := r.behindWaiting(ctx, origin.Commit); err != nil {
		return err
	}
	data, err := record.Encode(waits)
	if err != nil {
		return err
	}
	if err := r.Store.Replace(ctx, storage.WaitingKey(r.Plan.Site, r.Plan.Environment)+"/"+waits.Release.String(), data); err != nil {
		return err
	}
	r.result.Waits = &waits
	return nil
}

// behindWaiting refuses an older commit than one that waits already.
func (r *Run) behindWaiting(ctx context.Context, commit string) error {
	repository := r.Plan.Project.Repository
	if repository == nil || commit == "" {
		return nil
	}
	head, err := r.journal().Head(ctx, 0)
	if err != nil {
		return err
	}
	waiting, err := WaitingFor(ctx, r.Store, r.Plan.Site, head)
	if err != nil {
		return err
	}
	for _, other := range waiting {
		if newer, err := repository.Contains(ctx, other.Commit, commit); err == nil && newer && other.Commit != commit {
			return fault.New(fault.Refused, "superseded", "%s is older than what waits for the thaw, %s", source.Short(commit), source.Short(other.Commit)).At("%s", head.Label())
		}
	}
	return nil
}

// frozenWhileBuilt is the refusal of a release that waits from now on.
func (r *Run) frozenWhileBuilt(ctx context.Context, head journal.Entry) error {
	refusal := FrozenRefusal(head)
	if r.kind == journal.Promotion {
		return refusal
	}
	problem, _ := errors.AsType[*fault.Error](refusal)
	same := func(e journal.Entry) bool { return e.Release == r.result.Release && e.Commit == r.Plan.Origin.Commit }
	if _, was, left := r.journal().LeftBy(ctx, head, same); left {
		return problem.With("this was live as " + was.Label() + " and was rolled back, so it does not wait for the thaw")
	}
	if err := r.wait(ctx); err != nil {
		return StoreTrouble(r.Store, err)
	}
	problem.Next = nil
	return problem.With("the release "+r.result.Release.Short()+" is made, and waits for the thaw").
		Then("orilla thaw %s shows what would go live, and asks", journal.DisplayName(head.Environment))
}
