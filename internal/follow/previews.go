package follow

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
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

	there  map[string]bool // with Only: the refs that the remote has; nil if that is not known
	before string          // with Only, of the production branch: the commit that was live
}

// endPreviews removes the previews of branches that were deleted or merged
// since the last look, and now and then those that expired.
func endPreviews(ctx context.Context, l *loop) error {
	// One commit of CI says nothing about the other branches; the remote does,
	// which is asked once, before the end.
	last := l.Remote && l.queue.Idle() && !l.refs.retries() && l.previews.swept.IsZero()
	moved := len(l.previews.deleted)+len(l.previews.landed) > 0 || time.Since(l.previews.swept) >= sweepEvery
	if l.Only != nil && !last || l.Only == nil && !moved {
		return nil
	}

	states, err := environments.States(ctx, l.Store, l.Project.Site(), nil, journal.IsPreview)
	if err != nil {
		return err
	}
	// Asked after the previews were listed: what is pushed meanwhile is in
	// neither.
	if l.Only != nil {
		if err := askRemote(ctx, l); err != nil {
			l.previews.swept = time.Now()
			return err
		}
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

// askRemote finds out what the remote of a checkout has. A remote that has not the
// very ref that is followed, or not the production branch, is another repository:
// nothing is known from it.
func askRemote(ctx context.Context, l *loop) error {
	names, err := source.RemoteRefs(ctx, l.repository(), strings.TrimPrefix(l.Only.Name, "refs/heads/"),
		l.Project.ProductionConfig.Previews.Refs)
	if errors.Is(err, source.ErrNoRemote) {
		return nil
	}
	if err != nil {
		return fault.New(fault.Failed, "remote", "cannot ask which branches are gone").Because(err).
			Then("previews of deleted branches stay until they expire; to remove one now: orilla " +
				"preview remove BRANCH")
	}
	if !slices.Contains(names, l.Only.Name) || !slices.Contains(names, l.mainRef()) {
		return nil
	}

	l.previews.there = map[string]bool{}
	for _, name := range names {
		l.previews.there[name] = true
	}
	if l.Only.Name == l.mainRef() && l.previews.before != "" {
		l.previews.landed = []move{{l.previews.before, l.Only.Commit}}
	}
	return nil
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
	ref := refOf(l.Project, head)
	if ref == "" {
		return nil, nil
	}

	merged := &journal.Ended{Reason: journal.Merged, Commit: head.Commit, Into: project.Production}
	if hasLanded(ctx, l, head.Commit) && !isKept(l.Project, head) {
		byHand, err := madeByHand(ctx, l, head)
		if err != nil || !byHand {
			return merged, err
		}
	}
	// A person may show a branch that was never pushed.
	missing := l.previews.there != nil && !l.previews.there[ref] && head.Cause != "command"
	if !missing && !slices.Contains(l.previews.deleted, ref) {
		return nil, ctx.Err()
	}

	tips, err := l.repository().Tips(ctx, "", l.mainRef())
	if err != nil {
		return nil, err
	}
	if l.Only != nil {
		tips = append(tips, l.Only.Commit)
	}
	if in, err := l.repository().InAny(ctx, tips, head.Commit); err == nil && in {
		return merged, nil
	}
	return &journal.Ended{Reason: journal.Deleted, Commit: head.Commit}, ctx.Err()
}

// refOf returns the full name of the ref whose preview an environment is; "" if it
// is nobody's to end but a person's: somebody made it by hand, under another name
// or of what is no commit.
func refOf(p *site.Project, head journal.Entry) string {
	switch change := "refs/" + head.Branch; {
	case head.Source == journal.FromCommit && head.Environment == p.Preview(head.Branch):
		return "refs/heads/" + head.Branch
	// Output of a proposed change, which another job has built, is of its ref.
	case head.Source != journal.FromWorkingTree && head.Environment == p.RefPreview(change):
		return change
	}
	return ""
}

// madeByHand reports whether a person made a preview, and no follower: a branch
// that is shown for long may be merged many times. It is asked of the first entry
// since the preview was last removed.
func madeByHand(ctx context.Context, l *loop, head journal.Entry) (bool, error) {
	j := environments.JournalOf(l.Store, l.Project.Site(), head.Environment, time.Now)
	first := head
	for entry, err := range j.Back(ctx, head.Number-1) {
		if err != nil {
			return false, err
		}
		if entry.Release.IsZero() {
			break
		}
		first = entry
	}
	return first.Cause == "command", nil
}

// isKept reports whether somebody said that a preview lasts: a branch that is
// merged again and again, and shown all the time.
func isKept(p *site.Project, head journal.Entry) bool {
	expire := p.ProductionConfig.Previews.Expire
	return head.Expires == nil && expire != nil && *expire != 0
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
		return "it expired"
	case journal.Merged:
		return "its branch was merged"
	case journal.Deleted:
		return "its branch was deleted"
	case journal.Room:
		return "it made room for newer previews"
	}
	return "it was removed"
}
