package pipeline

import (
	"context"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
)

// sweepEvery is how often a follower removes the previews whose time is over. They answer 410 from that moment on, swept or not.
const sweepEvery = 10 * time.Minute

// mainRef is the ref that decides what environments there are.
func (f *Follower) mainRef() string {
	return "refs/heads/" + f.Project.ProductionConfig.MainBranch(f.Project.Main)
}

// learn reads what labels of previews are made with; the name of the site is claimed first where nobody has it.
func (f *Follower) learn(ctx context.Context) error {
	p := f.Project
	return p.LearnSecret(ctx, f.Store, p.Site(), func() error {
		return p.takeName(ctx, f.Store, p.Site())
	})
}

// waitFor returns what is looked at after an activation of a plan's environment.
func (f *Follower) waitFor(plan *Plan) []string {
	if f.WaitFor != nil {
		return f.WaitFor
	}
	return plan.Project.ProductionConfig.WaitFor(plan.Environment)
}

// endPreviews removes the previews of branches that were deleted or merged since the last look, and now and then those that expired.
func (f *Follower) endPreviews(ctx context.Context) error {
	sweep := f.Only == nil && time.Since(f.swept) >= sweepEvery
	if len(f.deleted)+len(f.landed) == 0 && !sweep {
		return nil
	}
	if f.Only != nil {
		f.deleted, f.landed = nil, nil
		return nil
	}
	states, err := States(ctx, f.Store, f.Project.Site(), nil, journal.IsPreview)
	if err != nil {
		return StoreTrouble(f.Store, err)
	}
	ends := map[string]journal.Ended{}
	for _, state := range states {
		if state.Head == nil || state.Head.Release.IsZero() {
			continue
		}
		ended, err := f.ends(ctx, *state.Head)
		if err != nil {
			return err
		}
		if ended != nil {
			ends[state.Name] = *ended
		}
	}
	if len(ends) > 0 {
		err = f.end(ctx, ends)
	}
	if err == nil { // else it is tried again
		f.deleted, f.landed, f.swept = nil, nil, time.Now()
	}
	return err
}

// end removes previews, each unless it has moved meanwhile.
func (f *Follower) end(ctx context.Context, ends map[string]journal.Ended) error {
	steward, err := NewSteward(ctx, f.Project, f.Store, f.Project.Site(), "follow", "follow")
	if err != nil {
		return err
	}
	defer steward.Close(ctx)
	for name, ended := range ends {
		entry, removed, err := steward.Remove(ctx, name, ended, "", func(head journal.Entry) bool {
			return ended.Reason != journal.Expired && head.Commit == ended.Commit || head.HasExpired(steward.Now())
		})
		if err != nil {
			return err
		}
		if removed {
			f.tell(Event{Kind: "ended", Branch: entry.Ended.Branch, Commit: entry.Ended.Commit, Environment: journal.DisplayName(name), Why: EndedText(*entry.Ended), Entry: entry.Label(), Head: &entry})
		}
	}
	return nil
}

// ends returns why a preview ends; nil if it does not.
func (f *Follower) ends(ctx context.Context, head journal.Entry) (*journal.Ended, error) {
	if head.HasExpired(f.now()) {
		return &journal.Ended{Reason: journal.Expired, Commit: head.Commit}, nil
	}
	made := head.Environment == f.Project.preview(head.Branch) || head.Environment == f.Project.refPreview("refs/"+head.Branch)
	if head.Source != journal.FromCommit || !made {
		return nil, nil // somebody made it by hand
	}
	merged := &journal.Ended{Reason: journal.Merged, Commit: head.Commit, Into: project.Production}
	repository := f.repository()
	for _, move := range f.landed {
		before, err := repository.Contains(ctx, move[0], head.Commit)
		if err != nil || before {
			continue
		}
		if now, err := repository.Contains(ctx, move[1], head.Commit); err == nil && now {
			return merged, nil
		}
	}
	for _, ref := range f.deleted {
		label, isBranch := strings.CutPrefix(ref, "refs/heads/")
		if isBranch && f.Project.preview(label) != head.Environment || !isBranch && f.Project.refPreview(ref) != head.Environment {
			continue
		}
		tips, err := repository.Tips(ctx, "", f.mainRef())
		if err != nil {
			return nil, err
		}
		if in, err := repository.InAny(ctx, tips, head.Commit); err == nil && in {
			return merged, nil
		}
		return &journal.Ended{Reason: journal.Deleted, Commit: head.Commit}, nil
	}
	return nil, ctx.Err()
}

// EndedText says why an environment ended.
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
