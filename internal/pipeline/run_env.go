package pipeline

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
)

// crowded returns the previews that have to make room for one more, the one that was moved the longest ago first.
func (r *Run) crowded(ctx context.Context) ([]State, error) {
	most := r.Plan.Project.ProductionConfig.Previews.Most
	if most == 0 || !journal.IsPreview(r.Plan.Environment) || r.result.Before != nil && !r.result.Before.Gone(r.now()) {
		return nil, nil
	}
	states, err := States(ctx, r.Store, r.Plan.Site, nil, journal.IsPreview)
	if err != nil {
		return nil, err
	}
	states = slices.DeleteFunc(states, func(s State) bool { return s.Head == nil || s.Head.Gone(r.now()) || s.Name == r.Plan.Environment })
	slices.SortFunc(states, func(a, b State) int { return a.Head.When.Compare(b.Head.When) })
	return states[:max(0, len(states)+1-int(most))], nil
}

// announceRoom says, before anything happens, which previews will make room.
func (r *Run) announceRoom(ctx context.Context) (err error) {
	if r.room, err = r.crowded(ctx); err != nil || len(r.room) == 0 {
		return err
	}
	notice := fault.Notice{Code: "previews-full", What: fmt.Sprintf("there may be %d previews; to make room, what was moved the longest ago will be removed:", r.Plan.Project.ProductionConfig.Previews.Most),
		Next: "previews.most in orilla.yaml says how many; orilla preview remove chooses others"}
	for _, state := range r.room {
		notice.Paths = append(notice.Paths, journal.DisplayName(state.Name))
	}
	r.Report.Notice(notice)
	return nil
}

// makeRoom removes the previews that were announced, unless they have moved since.
func (r *Run) makeRoom(ctx context.Context) error {
	s := &Steward{Store: r.Store, Site: r.Plan.Site, Who: r.Plan.Project.Person(ctx), Cause: r.Cause, hold: r.hold, hints: r.hints}
	for _, state := range r.room {
		why := "room for " + journal.DisplayName(r.Plan.Environment)
		if _, _, err := s.Remove(ctx, state.Name, journal.Ended{Reason: journal.Room}, why, func(head journal.Entry) bool { return head.Number == state.Head.Number }); err != nil {
			return err
		}
	}
	return nil
}

// expires returns when the plan's environment ends if it is activated now; nil for never.
func (r *Run) expires() *time.Time {
	after := r.ExpireAfter
	if configured := r.Plan.Project.ProductionConfig.Previews.Expire; after == 0 && configured != nil && journal.IsPreview(r.Plan.Environment) {
		after = time.Duration(*configured)
	}
	if r.Plan.Outside() && (after == 0 || after > outsideExpires) {
		after = outsideExpires
	}
	if after == 0 {
		return nil
	}
	end := r.now().Add(after).UTC().Truncate(time.Second)
	return &end
}

// outsideExpires is how long the preview of a change from outside lasts at most: anybody may propose any number.
const outsideExpires = 7 * 24 * time.Hour

// now is by the store's clock.
func (r *Run) now() time.Time {
	if r.hold == nil {
		return r.Now()
	}
	return r.Now().Add(r.hold.Ahead)
}

// changeDocument writes, as an entry of its own, that the environment's document is another one, after it was shown. It returns the
// entry that was last then.
func (r *Run) changeDocument(ctx context.Context, before journal.Entry, document journal.Document) (journal.Entry, error) {
	old, err := documentOf(ctx, r.Store, before)
	if err != nil {
		return before, err
	}
	notice := fault.Notice{Code: "environment-changes", What: journal.DisplayName(r.Plan.Environment) + " changes, as orilla.yaml says on " + r.Plan.Project.ProductionConfig.MainBranch(r.Plan.Project.Main) + ":",
		Paths: document.Changes(old)}
	r.Report.Notice(notice)
	decide := journal.SetDocument(document, r.Automatic && !r.overFreeze, r.Cause, r.Plan.Project.Person(ctx), "", r.now())
	entry, err := r.journal().Append(ctx, before, decide)
	if errors.Is(err, journal.ErrAlready) { // somebody else has just done it
		refusal, _ := errors.AsType[*journal.Refusal](err)
		return refusal.Entry, nil
	}
	return entry, err
}
