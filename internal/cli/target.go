package cli

import (
	"context"
	"errors"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
)

// nodesOf returns the edge nodes that were there a moment ago. An error is
// none: who asks wants to add a line to a report, not to fail.
func nodesOf(ctx context.Context, s *session) []edge.Presence {
	nodes, _ := edge.Reached(ctx, s.store, storage.KnownAhead(s.store))
	return nodes
}

// rollbackTarget reads what a rollback is asked to do: an environment, what to
// bring back, or both in either form. wanted is empty for the release before.
func rollbackTarget(ctx context.Context, s *session, args []string,
) (environment string, wanted journal.Back, err error) {
	// One argument is an environment or what to bring back; an environment's
	// name wins.
	typed, what := argument(args, 0), argument(args, 1)
	if what == "" {
		if typed == "" {
			return project.Production, wanted, nil
		}
		stored, _, exact, err := s.exactly(ctx, typed)
		if err != nil || exact {
			return stored, wanted, err
		}
		typed, what = "", typed // the only argument names what to bring back

		if name, number, ok := strings.Cut(what, ":"); ok && name != "build" {
			if _, err := strconv.ParseInt(number, 10, 64); err == nil {
				typed = name
			}
		}

		// A branch that Git does not know here may have a preview.
		if !meansSomething(ctx, s, what) {
			environment, err = s.named(ctx, what)
			return environment, wanted, err
		}
	}

	if environment, err = s.named(ctx, typed); err != nil {
		return "", wanted, err
	}
	if name, number, ok := strings.Cut(what, ":"); ok && name != "build" {
		wanted, err = entryNamed(ctx, s, environment, what, name, number)
		return environment, wanted, err
	}
	wanted.To, err = entryTest(ctx, s, environment, what)
	return environment, wanted, err
}

// meansSomething reports whether what names an entry, a release or a commit.
func meansSomething(ctx context.Context, s *session, what string) bool {
	if strings.HasPrefix(what, "r-") || strings.Contains(what, ":") || isHex(what) {
		return true
	}
	if s.project.Repository == nil {
		return false
	}
	_, err := s.project.Repository.Commit(ctx, what)
	return err == nil
}

// isHex reports whether a text can be the beginning of a hash, with four digits
// at least.
func isHex(text string) bool { return len(text) >= 4 && strings.Trim(text, "0123456789abcdef") == "" }

// entryNamed is what goes back to an entry that was typed as NAME:NUMBER, or to the
// nearest one before it that put the same release live: rollbacks point behind
// themselves. No later one is read.
func entryNamed(ctx context.Context, s *session, environment, what, name, number string,
) (journal.Back, error) {
	n, err := strconv.ParseInt(number, 10, 64)
	if stored, nameErr := s.named(ctx, name); err != nil || nameErr != nil || stored != environment {
		return journal.Back{}, fault.New(fault.Usage, "bad-entry", "%q is not an entry of %s", what,
			journal.DisplayName(environment)).Then("orilla history")
	}

	target, err := s.journal(environment).Get(ctx, n)
	if errors.Is(err, storage.ErrNotFound) || err == nil && target.Release.IsZero() {
		return journal.Back{}, fault.New(fault.Usage, "bad-entry", "there is no entry %s with a release",
			what).Then("orilla history")
	}
	same := func(e journal.Entry) bool { return e.Release == target.Release }
	return journal.Back{To: same, From: n}, err
}

// entryTest turns what was typed into a test of entries.
func entryTest(ctx context.Context, s *session, environment, what string) (func(journal.Entry) bool, error) {
	if strings.HasPrefix(what, "build:") {
		entry, _, err := findBuilt(ctx, s, what)
		return func(e journal.Entry) bool { return e.Release == entry.Release }, err
	}
	if digits, ok := strings.CutPrefix(what, "r-"); ok {
		return func(e journal.Entry) bool {
			return strings.HasPrefix(e.Release.String(), digits) &&
				digits != ""
		}, nil
	}

	if s.project.Repository != nil {
		if commit, err := s.project.Repository.Commit(ctx, what); err == nil {
			return func(e journal.Entry) bool { return e.Commit == commit.Hash }, nil
		}
	}

	if isHex(what) {
		return func(e journal.Entry) bool { return strings.HasPrefix(e.Commit, what) }, nil
	}
	return nil, fault.New(fault.Usage, "bad-target", "no entry, release, commit or tag is called %q",
		what).Then("orilla history %s", journal.DisplayName(environment))
}

// rollbackRefused puts into words why an environment cannot go back, with the
// command that helps.
func rollbackRefused(s *session, environment string, err error) error {
	name := journal.DisplayName(environment)
	refusal, ok := errors.AsType[*journal.Refusal](err)
	switch {
	case errors.Is(err, journal.ErrEmpty):
		return fault.New(fault.Refused, "nothing-live", "%s of %s has no deploys yet", name,
			s.site).Then("orilla deploy")
	case !ok:
		return err
	case errors.Is(err, journal.ErrGone):
		return fault.New(fault.Refused, "nothing-live", "%s of %s serves nothing", name, s.site).
			At("%s", refusal.Entry.Label()).Then("orilla deploy --to %s", name)
	case errors.Is(err, journal.ErrNothingBefore):
		return fault.New(fault.Refused, "nothing-before", "there is no earlier release").
			At("%s", refusal.Entry.Label()).
			Then("orilla history %s", name)
	case errors.Is(err, journal.ErrNeverThere):
		return fault.New(fault.Refused, "never-live", "that release was never live in %s", name).
			Then("orilla history %s", name).
			Then("to publish another commit: orilla deploy COMMIT --to %s", name)
	case errors.Is(err, journal.ErrAlready):
		return fault.New(fault.Refused, "already-live", "that release is already live").
			At("%s", refusal.Entry.Label())
	}

	return err
}
