package pipeline

import (
	"context"
	"errors"

	"orilla.example/orilla/internal/core/journal"
)

// ErrSame: what should go live is live already.
var ErrSame = errors.New("live already")

// unlessNewer refuses to replace what an environment serves if that was made of a newer commit of the same branch, and to put a
// commit live that its branch no longer has: a force-push took it away. Ancestry decides, never a clock.
func (r *Run) unlessNewer(ctx context.Context, decide journal.Decide) journal.Decide {
	return func(head *journal.Entry) (journal.Entry, error) {
		if head != nil && r.Plan.Commit != nil && r.Plan.Origin.Source != journal.FromWorkingTree { // built here or elsewhere
			if err := r.Plan.wanted(ctx, *head); err != nil {
				return journal.Entry{}, err
			}
		}
		return decide(head)
	}
}

// unlessSame leaves an environment alone that serves just what is to go live, of the same commit and under the same document.
func (r *Run) unlessSame(move journal.Move, decide journal.Decide) journal.Decide {
	return func(head *journal.Entry) (journal.Entry, error) {
		if head == nil || head.Gone(r.now()) || head.Release != move.Release || head.Commit != move.Commit || head.Source != move.Source ||
			!move.KeepDocument && head.Document != move.Document.Digest || r.ExpireAfter != 0 {
			return decide(head)
		}
		r.result.Entry, r.result.Same = head, true
		return journal.Entry{}, ErrSame
	}
}
