package follow

import (
	"context"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/environments"
)

// sweepEvery is how often a follower removes the previews whose time is over.
// They answer 410 from that moment on, swept or not.
const sweepEvery = 10 * time.Minute

// move is what a branch was before, and is now.
type move struct{ before, now string }

// previews is what may end previews, and was not looked at yet.
type previews struct {
	landed  []move    // of the production branch
	deleted []string  // refs
	swept   time.Time // when previews were last looked at for their expiry
}

// endPreviews removes the previews of branches that were deleted or merged
// since the last look, and now and then those that expired.
func endPreviews(ctx context.Context, l *loop) error {
	// One commit of CI says nothing about the other branches.
	if l.Only != nil {
		l.previews.deleted, l.previews.landed = nil, nil
		return nil
	}
	if len(l.previews.deleted)+len(l.previews.landed) == 0 && time.Since(l.previews.swept) < sweepEvery {
		return nil
	}

	states, err := environments.States(ctx, l.Store, l.Project.Site(), nil, journal.IsPreview)
	if err != nil {
		return err
	}
	ends := map[string]journal.Ended{}
	for _, state := range states {
		if state.Head == nil || state.Head.Release.IsZero() {
			continue
		}
		ended, err := whyEnds(ctx, l, *state.Head)
		if err != nil {
			return err
		}

		if ended != nil {
			ends[state.Name] = *ended
		}
	}

	if len(ends) > 0 {
		err = removeEnded(ctx, l, ends)
	}
	if err == nil { // else it is tried again
		l.previews = previews{swept: time.Now()}
	}
	return err
}

// removeEnded removes previews, each unless it has moved meanwhile.
func removeEnded(ctx context.Context, l *loop, ends map[string]journal.Ended) error {
	operator, err := environments.NewOperator(ctx, l.Project, l.Store, l.Project.Site(), "follow", "follow")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)

	for name, ended := range ends {
		// Decided on the head at that moment: a push meanwhile keeps the
		// preview.
		still := func(head journal.Entry) bool {
			return ended.Reason != journal.Expired && head.Commit == ended.Commit ||
				head.HasExpired(operator.Now())
		}
		entry, removed, err := operator.Remove(ctx, name, ended, "", still)
		if err != nil {
			return err
		}

		if removed {
			l.tell(Event{
				Kind: Ended, Branch: entry.Ended.Branch, Commit: entry.Ended.Commit,
				Environment: journal.DisplayName(name),
				Why:         EndedText(*entry.Ended), Entry: entry.Label(), Head: &entry,
			})
		}
	}

	return nil
}

// whyEnds returns why a preview ends; nil if it does not, or was made by hand.
func whyEnds(ctx context.Context, l *loop, head journal.Entry) (*journal.Ended, error) {
	if head.HasExpired(time.Now()) {
		return &journal.Ended{Reason: journal.Expired, Commit: head.Commit}, nil
	}
	p := l.Project
	// A preview that somebody made by hand under another name is not the
	// branch's to end.
	followed := head.Environment == p.Preview(head.Branch) ||
		head.Environment == p.RefPreview("refs/"+head.Branch)
	if head.Source != journal.FromCommit || !followed {
		return nil, nil
	}

	merged := &journal.Ended{Reason: journal.Merged, Commit: head.Commit, Into: project.Production}
	if hasLanded(ctx, l, head.Commit) {
		return merged, nil
	}
	for _, name := range l.previews.deleted {
		if previewOf(l, name) != head.Environment {
			continue
		}
		tips, err := l.repository().Tips(ctx, "", l.mainRef())
		if err != nil {
			return nil, err
		}

		if in, err := l.repository().InAny(ctx, tips, head.Commit); err == nil && in {
			return merged, nil
		}
		return &journal.Ended{Reason: journal.Deleted, Commit: head.Commit}, nil
	}

	return nil, ctx.Err()
}

// previewOf returns the stored name of the preview of a ref, by its full name.
func previewOf(l *loop, name string) string {
	if branch, isBranch := strings.CutPrefix(name, "refs/heads/"); isBranch {
		return l.Project.Preview(branch)
	}
	return l.Project.RefPreview(name)
}

// hasLanded reports whether the production branch got a
// commit since the last look.
func hasLanded(ctx context.Context, l *loop, commit string) bool {
	// As a transition: it was not in production before, and is now. A branch
	// that has no commit of its own was always in it.
	for _, move := range l.previews.landed {
		before, err := l.repository().Contains(ctx, move.before, commit)
		if err != nil || before {
			continue
		}
		if now, err := l.repository().Contains(ctx, move.now, commit); err == nil && now {
			return true
		}
	}
	return false
}

// EndedText puts into words why an environment ended, to follow its name and a
// colon.
func EndedText(ended journal.Ended) string {
	switch ended.Reason {
	case journal.Expired:
		return "its time was over"
	case journal.Merged:
		return "its branch was merged"
	case journal.Deleted:
		return "its branch was deleted"
	case journal.Room:
		return "it made room for newer previews"
	}
	return "it was removed"
}
