package cli

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/pipeline"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

func nodesOf(ctx context.Context, s *session) []edge.Presence {
	nodes, _ := edge.Nodes(ctx, s.store)
	return nodes
}

// rollbackTarget reads what a rollback is asked to do: an environment, what to bring back, or both in either form. wanted is nil
// for the release before.
func (s *session) rollbackTarget(ctx context.Context, args []string) (environment string, wanted func(journal.Entry) bool, err error) {
	typed, what := argument(args, 0), argument(args, 1)
	if what == "" {
		stored, envErr := s.named(ctx, typed)
		if envErr == nil {
			return stored, nil, nil
		}
		typed, what = "", typed // the only argument names what to bring back
		if name, number, ok := strings.Cut(what, ":"); ok {
			if _, err := strconv.ParseInt(number, 10, 64); err == nil {
				typed = name
			}
		}
		if !s.meansSomething(ctx, what) {
			return "", nil, envErr
		}
	}
	if environment, err = s.named(ctx, typed); err != nil {
		return "", nil, err
	}
	wanted, err = s.wanted(ctx, environment, what)
	return environment, wanted, err
}

// meansSomething reports whether what names an entry, a release or a commit.
func (s *session) meansSomething(ctx context.Context, what string) bool {
	if strings.HasPrefix(what, "r-") || strings.Contains(what, ":") || isHex(what) {
		return true
	}
	if s.project.Repository == nil {
		return false
	}
	_, err := s.project.Repository.Commit(ctx, what)
	return err == nil
}

func isHex(text string) bool { return len(text) >= 4 && strings.Trim(text, "0123456789abcdef") == "" }

// wanted turns what was typed into a test of entries.
func (s *session) wanted(ctx context.Context, environment, what string) (func(journal.Entry) bool, error) {
	if name, number, ok := strings.Cut(what, ":"); ok {
		n, err := strconv.ParseInt(number, 10, 64)
		if err != nil || journal.StoredName(name) != environment {
			return nil, fault.New(fault.Usage, "bad-entry", "%q is not an entry of %s", what, journal.DisplayName(environment)).Then("orilla history lists them")
		}
		target, err := s.journal(environment).Get(ctx, n)
		if errors.Is(err, storage.ErrNotFound) || err == nil && target.Release.IsZero() {
			return nil, fault.New(fault.Usage, "bad-entry", "there is no entry %s with a release", what).Then("orilla history lists them")
		}
		if err != nil {
			return nil, pipeline.StoreTrouble(s.store, err)
		}
		return func(e journal.Entry) bool { return e.Number <= n && e.Release == target.Release }, nil
	}
	if digits, ok := strings.CutPrefix(what, "r-"); ok {
		return func(e journal.Entry) bool { return strings.HasPrefix(e.Release.String(), digits) && digits != "" }, nil
	}
	if s.project.Repository != nil {
		if commit, err := s.project.Repository.Commit(ctx, what); err == nil {
			return func(e journal.Entry) bool { return e.Commit == commit.Hash }, nil
		}
	}
	if isHex(what) {
		return func(e journal.Entry) bool { return strings.HasPrefix(e.Commit, what) }, nil
	}
	return nil, fault.New(fault.Usage, "bad-target", "%q is neither an entry, a release, a commit nor a tag", what).Then("orilla history %s lists what was live", journal.DisplayName(environment))
}

// whole makes sure, before anything changes, that the release that an entry would bring back can be read. Its root implies the
// rest, so no object is read.
func (s *session) whole(ctx context.Context, entry journal.Entry) error {
	_, err := pipeline.OpenRelease(ctx, s.store, s.site, entry.Release)
	if errors.Is(err, storage.ErrNotFound) || errors.Is(err, release.ErrDamaged) {
		return fault.New(fault.Refused, "release-lost", "the release %s is no longer whole in the store", entry.Release.Short()).Because(err).
			Then("name an earlier one: orilla history lists them")
	}
	return err
}

func (s *session) rollbackRefused(environment string, err error) error {
	name := journal.DisplayName(environment)
	refusal, ok := errors.AsType[*journal.Refusal](err)
	switch {
	case errors.Is(err, journal.ErrEmpty):
		return fault.New(fault.Refused, "nothing-live", "nothing was ever deployed to %s of %s", name, s.site).Then("orilla deploy")
	case !ok:
		return pipeline.StoreTrouble(s.store, err)
	case errors.Is(err, journal.ErrNothingBefore):
		return fault.New(fault.Refused, "nothing-before", "there is no release before the one that is live").At("%s", refusal.Entry.Label()).
			Then("orilla history %s shows what was live", name)
	case errors.Is(err, journal.ErrNeverThere):
		return fault.New(fault.Refused, "never-live", "what you named was never live in %s", name).
			Then("orilla history %s lists what was", name).Then("to put a commit live that was not: orilla deploy COMMIT --to %s", name)
	case errors.Is(err, journal.ErrAlready):
		return fault.New(fault.Refused, "already-live", "that is what is live already").At("%s", refusal.Entry.Label())
	}
	return err
}

func (a *app) freezeCommand() *cobra.Command {
	var o freezeOptions
	cmd := &cobra.Command{
		Use: "freeze [ENVIRONMENT]", Short: "Refuse automatic deploys to an environment", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			o.freeze = true
			return a.setFrozen(cmd.Context(), o, argument(args, 0))
		},
	}
	o.flags(cmd, "say why; it is shown to whoever is refused")
	return a.jsonFlag(cmd)
}

func (a *app) thawCommand() *cobra.Command {
	var o freezeOptions
	cmd := &cobra.Command{
		Use: "thaw [ENVIRONMENT]", Short: "Accept automatic deploys again", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.setFrozen(cmd.Context(), o, argument(args, 0))
		},
	}
	o.flags(cmd, "say why")
	return a.jsonFlag(cmd)
}

// freezeOptions are the flags of freeze and thaw.
type freezeOptions struct {
	site, why      string
	freeze, dryRun bool
}

func (o *freezeOptions) flags(cmd *cobra.Command, why string) {
	cmd.Flags().StringVar(&o.site, "site", "", "the site's name (default: as orilla.yaml says)")
	cmd.Flags().StringVarP(&o.why, "message", "m", "", why)
	cmd.Flags().BoolVar(&o.dryRun, "dry-run", false, "say what would change, and stop")
}

func (a *app) setFrozen(ctx context.Context, o freezeOptions, typed string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	environment, err := s.named(ctx, typed)
	if err != nil {
		return err
	}
	who := s.project.Person(ctx)
	var frozen *journal.Frozen
	if o.freeze {
		frozen = &journal.Frozen{Who: who, When: a.Now().UTC().Truncate(time.Millisecond), Why: o.why}
	}
	decide := journal.SetFrozen(frozen, "command", who, o.why)
	entry, err := s.journal(environment).Append(ctx, journal.Entry{Number: s.hints(ctx)[environment]}, func(head *journal.Entry) (journal.Entry, error) {
		next, err := decide(head)
		if err == nil && o.dryRun {
			err = errDryRun
		}
		return next, err
	})
	name := journal.DisplayName(environment)
	switch {
	case errors.Is(err, journal.ErrAlready):
		a.Note("%s is not frozen", name)
		return nil
	case errors.Is(err, errDryRun):
		a.Note("%s would be %s; nothing was done: --dry-run", name, map[bool]string{true: "frozen", false: "thawed"}[o.freeze])
		return nil
	case err != nil:
		return s.rollbackRefused(environment, err)
	}
	s.hints(ctx).Pulse(ctx, s.store, entry)
	switch {
	case a.JSON:
		return a.Document(describeEntry(entry, nil, entry.Number))
	case o.freeze:
		a.Print("%s is %s; automatic deploys are refused until %s", name, console.Warn("frozen"), console.Accent("orilla thaw "+name))
	default:
		a.Print("%s accepts automatic deploys again; live is %s", name, entry.Release.Short())
	}
	return nil
}
