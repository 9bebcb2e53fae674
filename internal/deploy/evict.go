package deploy

import (
	"context"
	"fmt"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/environments"
)

// crowded returns the previews that have to make room for one more, the one
// that was moved the longest ago first.
func crowded(ctx context.Context, p *Prepared) ([]environments.State, error) {
	// Only a preview that is new needs room.
	most := int(p.Plan.Project.ProductionConfig.Previews.Most)
	isNew := p.head == nil || p.head.Gone(p.now())
	if most == 0 || !journal.IsPreview(p.Plan.Environment) || !isNew {
		return nil, nil
	}

	states, err := environments.States(ctx, p.Store, p.Plan.Site, nil, journal.IsPreview)
	if err != nil {
		return nil, err
	}
	states = slices.DeleteFunc(states, func(s environments.State) bool {
		return s.Head == nil || s.Head.Gone(p.now()) || s.Name == p.Plan.Environment
	})
	// Moved the longest ago, not made the longest ago: a branch of last spring
	// that somebody pushed to today is in use.
	slices.SortFunc(states, func(a, b environments.State) int { return a.Head.When.Compare(b.Head.When) })
	return states[:max(0, len(states)+1-most)], nil
}

// announceEvictions says, before anything happens, which
// previews will make room.
func announceEvictions(ctx context.Context, p *Prepared) (err error) {
	if p.evicted, err = crowded(ctx, p); err != nil || len(p.evicted) == 0 {
		return err
	}
	notice := fault.Notice{
		Code: "previews-full",
		What: fmt.Sprintf("at most %d previews are allowed; Orilla removes the oldest:",
			p.Plan.Project.ProductionConfig.Previews.Most),
		Next: "change previews.most in orilla.yaml, or remove others: orilla preview remove NAME",
	}

	for _, state := range p.evicted {
		notice.Paths = append(notice.Paths, journal.DisplayName(state.Name))
	}
	p.Report.Notice(notice)
	return nil
}

// evict removes the previews that were announced, unless they have moved since.
func evict(ctx context.Context, p *Prepared) error {
	operator := &environments.Operator{
		Store: p.Store, Site: p.Plan.Site, Who: p.Plan.Project.Person(ctx), Cause: p.Cause, Hold: p.hold,
		Hints: p.hints,
	}
	defer operator.Told()
	why := "room for " + journal.DisplayName(p.Plan.Environment)
	for _, state := range p.evicted {
		// Minutes may lie between the announcement and this. What was deployed
		// to meanwhile is in use, and stays.
		unmoved := func(head journal.Entry) bool { return head.Number == state.Head.Number }
		if _, _, err := operator.Remove(ctx, state.Name, journal.Ended{Reason: journal.Room}, why,
			unmoved); err != nil {
			return err
		}
	}
	return nil
}

// outsideExpires is how long the preview of a change from outside lasts at
// most: anybody may propose any number.
const outsideExpires = 7 * 24 * time.Hour

// expires returns when the plan's environment ends if it
// is activated now; nil for never.
func expires(p *Prepared) *time.Time {
	after := p.ExpireAfter
	configured := p.Plan.Project.ProductionConfig.Previews.Expire
	if after == 0 && configured != nil && journal.IsPreview(p.Plan.Environment) {
		after = time.Duration(*configured)
	}

	if p.Plan.Outside() && (after <= 0 || after > outsideExpires) {
		after = outsideExpires
	}
	if after <= 0 {
		return nil
	}
	// By the store's clock: nodes and followers have clocks of their own, and
	// all must agree on the moment.
	end := p.now().Add(after).UTC().Truncate(time.Second)
	return &end
}
