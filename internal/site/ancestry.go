package site

import (
	"context"
	"errors"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/source"
)

// Superseded returns why the plan's commit should not follow an entry, as
// builds.ErrSuperseded; nil if it should.
func (plan *Plan) Superseded(ctx context.Context, head journal.Entry) error {
	mine, live := plan.Origin.Commit, head.Commit
	if live == mine || live == "" || head.Source == journal.FromWorkingTree || head.Release.IsZero() {
		return nil
	}
	onBranch, tips, err := plan.onBranch(ctx, mine)
	if err != nil {
		return err
	}

	// of ready output, the branch is only the one that is checked out
	if !onBranch && plan.Origin.Source == journal.FromCommit {
		return fault.New(fault.Refused, "superseded", "%s is no longer on %s: it was replaced there",
			source.Short(mine), plan.Origin.Branch).Marked(builds.ErrSuperseded).At("%s", head.Label()).
			Then("to publish it anyway: orilla deploy %s --to %s --yes",
				source.Short(mine), journal.DisplayName(plan.Environment))
	}

	// By ancestry and never by a clock: commits carry whatever time their
	// author's machine showed.
	older, err := plan.older(ctx, mine, live, tips)
	if err != nil || !older {
		return err
	}
	return fault.New(fault.Refused, "superseded", "%s is older than what is live, %s", source.Short(mine),
		source.Short(live)).Marked(builds.ErrSuperseded).At("%s", head.Label()).
		Then("to go back to it: orilla rollback %s %s", journal.DisplayName(plan.Environment),
			source.Short(mine)).
		Then("or, if it was never live there: orilla deploy %s --to %s --yes", source.Short(mine),
			journal.DisplayName(plan.Environment))
}

// onBranch reports whether the plan's commit is on its branch, as far as
// anything here or the branch's remote says otherwise.
func (plan *Plan) onBranch(ctx context.Context, mine string) (on bool, tips []string, err error) {
	repository := plan.Project.Repository
	for fetched := false; ; fetched = true {
		if tips, err = repository.Tips(ctx, plan.Origin.Branch, plan.Ref); err != nil {
			return false, nil, err
		}
		if len(tips) == 0 {
			return true, []string{mine}, nil
		}

		if on, err = repository.InAny(ctx, tips, mine); err != nil || on {
			return on, tips, err
		}
		if plan.Ref != "" || repository.IsBranch(ctx, plan.Origin.Branch) || fetched {
			return false, tips, nil // what is here has the last word
		}

		if err := repository.FetchMore(ctx, plan.Origin.Branch, plan.Ref, 0); err != nil {
			return true, append(tips, mine), ctx.Err() // a checkout of CI, and nothing that says otherwise
		}
	}
}

// deepen is how much more history is fetched at first, in
// commits; after that, all of it.
const deepen = 200

// older reports whether live descends from mine and is still on the branch.
// Where history is too short to tell, more of it is fetched.
func (plan *Plan) older(ctx context.Context, mine, live string, tips []string) (bool, error) {
	repository := plan.Project.Repository
	// Two hundred commits more, then all of them, and then there is nothing
	// left to fetch.
	for _, depth := range []int{deepen, 0, -1} {
		behind, err := repository.Contains(ctx, mine, live)
		if behind || ctx.Err() != nil {
			return false, ctx.Err()
		}
		if err == nil {
			newer, err := repository.Contains(ctx, live, mine)
			if err != nil {
				return false, err
			}
			// What is live contains this commit. It is newer only if its branch
			// still has it: else it was taken away, and this one may replace
			// it.
			if newer {
				again, err := repository.Tips(ctx, plan.Origin.Branch, plan.Ref)
				if err != nil {
					return false, err
				}
				return repository.InAny(ctx, append(tips, again...), live)
			}

			if !repository.IsShallow(ctx) {
				return false, nil
			}
		}

		if depth < 0 {
			break
		}
		if err := repository.FetchMore(ctx, plan.Origin.Branch, plan.Ref, depth); err != nil {
			return false, plan.tooShort(live, err)
		}
	}

	// The whole history of the branch is here, and what is live is not in it:
	// it was taken away, or is of another branch.
	return false, nil
}

// tooShort is the refusal to guess which commit is newer where the history here
// does not tell.
func (plan *Plan) tooShort(live string, err error) error {
	if errors.Is(err, source.ErrNoRemote) {
		return fault.New(fault.Refused, "history-short",
			"the live commit, %s, is not in this repository, so Orilla cannot tell which is newer",
			source.Short(live)).
			At("%s", plan.Project.Repository.Top).Then("git fetch, then run it again").
			Then("or, to publish this one anyway, deploy on a terminal or add --yes")
	}
	return fault.New(fault.Refused, "history-short",
		"the history here is too short to tell whether %s is newer than the live commit, %s, and "+
			"fetching more failed",
		source.Short(plan.Origin.Commit), source.Short(live)).At("%s", plan.Project.Repository.Top).
		Because(err).
		Then("before this command: git fetch --unshallow origin").
		Then("or check out the full history: in most CI systems a depth of 0")
}
