package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/storage"
)

// What is typed means the same in every command:
//
//	production, preview/winter-times    an environment, by the name that status lists
//	production:12                       an entry
//	r-3f9a2c1b7e, build:5               a release, a build
//	4be21c7, v1.4, main                 a commit, a tag, a branch: what was built from it
//	winter-times, fix/fares             the preview of that branch
//	refs/proposed/7/head                the preview of that change
//
// in this order. An environment's name wins, then what Git knows, then previews
// by the name of their branch or by their label.

// errUnknownRelease: what was typed names no release.
var errUnknownRelease = errors.New("unknown release")

// exactly returns the stored name of an environment by the name that status
// lists; ok is false if the site has none of that name.
func (s *session) exactly(ctx context.Context, typed string,
) (stored string, names []string, ok bool, err error) {
	// What is configured, or has moved lately, need not be looked for.
	stored = journal.StoredName(typed)
	moved := s.hints(ctx)[stored] > 0 && stored != journal.RunsHint
	if names = s.fixed(); moved || slices.Contains(names, stored) {
		return stored, names, true, nil
	}
	if names, err = s.environments(ctx); err != nil {
		return "", nil, false, err
	}
	return stored, names, slices.Contains(names, stored), nil
}

// named returns the stored name of an environment that was typed: as status lists
// it, or a preview by its label, its branch or its ref. "" is production.
func (s *session) named(ctx context.Context, typed string) (string, error) {
	if typed == "" {
		return project.Production, nil
	}
	stored, names, ok, err := s.exactly(ctx, typed)
	if err != nil || ok {
		return stored, err
	}
	err = s.project.LearnSecret(ctx, s.store, s.site, nil)
	if err != nil && !errors.Is(err, storage.ErrNotFound) {
		return "", err
	}

	// A label and the name of a branch may mean two previews.
	var found []string
	label := strings.TrimPrefix(typed, "preview/")
	// status shows a ref without refs/.
	for _, name := range []string{journal.PreviewPrefix + label,
		journal.StoredName(s.project.PreviewOf(label)), s.project.RefPreview("refs/" + label)} {
		if slices.Contains(names, name) && !slices.Contains(found, name) {
			found = append(found, name)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 2, 3:
		return "", fault.New(fault.Usage, "ambiguous-environment", "%q matches two previews", typed).
			With(journal.DisplayName(found[0]) + "  by its label").
			With(journal.DisplayName(found[1]) + "  of the branch").Then("name one of them")
	}

	var shown []string
	for _, name := range names {
		shown = append(shown, journal.DisplayName(name))
	}
	problem := fault.New(fault.Usage, "unknown-environment", "%s has no environment %q", s.site, typed)
	nearest := cmp.Or(spelling.Nearest(typed, shown), spelling.Nearest("preview/"+label, shown))
	if nearest != "" {
		problem = problem.Then("did you mean %s?", nearest)
	}
	return "", problem.Then("orilla status")
}

// namedUnlessGit is named for where a commit could be meant as well: what Git
// knows comes before previews by other names.
func (s *session) namedUnlessGit(ctx context.Context, typed string) (string, error) {
	stored, _, ok, err := s.exactly(ctx, typed)
	if err != nil || ok {
		return stored, err
	}
	if s.project.Repository != nil {
		if _, err := s.project.Repository.Commit(ctx, typed); err == nil {
			return "", fault.New(fault.Usage, "unknown-environment", "%q is a commit", typed)
		}
	}
	return s.named(ctx, typed)
}

// findOrigin finds the release that was typed, and where it came from.
func findOrigin(ctx context.Context, s *session, typed string) (journal.Entry, error) {
	entry, is, err := findEntry(ctx, s, typed)
	if is || err != nil {
		return entry, err
	}

	// What is live comes before what was built: it has been looked at.
	stored, _, ok, err := s.exactly(ctx, typed)
	if err != nil {
		return journal.Entry{}, err
	}
	if ok {
		return serves(ctx, s, stored)
	}
	if entry, is, err = findBuilt(ctx, s, typed); is || err != nil {
		return entry, err
	}
	if preview, err := s.named(ctx, typed); err == nil {
		return serves(ctx, s, preview)
	} else if fault.Code(err) == "ambiguous-environment" {
		return journal.Entry{}, err
	}

	return journal.Entry{}, unknownRelease(ctx, s, typed)
}

// unknownRelease is the error of a word that names no release: it may be a commit that
// was not built, or a word that was mistyped.
func unknownRelease(ctx context.Context, s *session, typed string) error {
	problem := fault.New(fault.Usage, "unknown-release", "no environment, entry or built commit is called %q",
		typed).Marked(errUnknownRelease)
	names, _ := s.environments(ctx)
	if repository := s.project.Repository; repository != nil {
		if commit, err := repository.Commit(ctx, typed); err == nil {
			problem.What = fmt.Sprintf("%s was not built yet", commit.Short())
			return problem.Then("to build it: orilla build %s", typed).
				Then("to build and publish it: orilla deploy %s --to ENVIRONMENT", typed)
		}
		names = append(names, repository.Branches(ctx)...)
	}
	if nearest := spelling.Nearest(typed, names); nearest != "" {
		problem = problem.Then("did you mean %s?", journal.DisplayName(nearest))
	}
	return problem.Then("to list environments: orilla status").Then("to list builds: orilla builds")
}

// findEntry reads ENVIRONMENT:NUMBER. is tells whether it is one: a commit can be
// named HEAD:12 or so as well.
func findEntry(ctx context.Context, s *session, typed string) (entry journal.Entry, is bool, err error) {
	name, number, ok := strings.Cut(typed, ":")
	n, notNumber := strconv.ParseInt(number, 10, 64)
	if !ok || notNumber != nil || name == "build" {
		return journal.Entry{}, false, nil //nolint:nilerr // then it is something else
	}
	environment, unknown := s.named(ctx, name)
	if unknown != nil {
		return journal.Entry{}, false, nil //nolint:nilerr // then it is something else
	}

	entry, err = s.journal(environment).Get(ctx, n)
	if errors.Is(err, storage.ErrNotFound) || err == nil && entry.Release.IsZero() {
		return entry, true, fault.New(fault.Usage, "bad-entry", "there is no entry %s with a release", typed).
			Then("orilla history %s", name)
	}
	return entry, true, err
}

// serves returns the entry by which an environment serves what it does.
func serves(ctx context.Context, s *session, environment string) (journal.Entry, error) {
	head, err := s.head(ctx, environment)
	if errors.Is(err, journal.ErrEmpty) || err == nil && head.Release.IsZero() {
		name := journal.DisplayName(environment)
		return head, fault.New(fault.Failed, "nothing-live", "%s serves nothing yet", name).
			Then("orilla deploy --to %s", name)
	}
	return head, err
}

// findBuilt finds a release by its id, by its build, or by the commit that it was
// built from, among what was ever built.
func findBuilt(ctx context.Context, s *session, typed string) (entry journal.Entry, is bool, err error) {
	var id release.ID
	commit := typed
	switch {
	case strings.HasPrefix(typed, "r-"):
		if id, err = s.releaseByID(ctx, typed); err != nil {
			return journal.Entry{}, true, err
		}
	case strings.HasPrefix(typed, "build:"):
		run, err := findRun(ctx, s, typed)
		if err != nil {
			return journal.Entry{}, true, err
		}
		if run.Ended == nil || run.Ended.Release.IsZero() {
			return journal.Entry{}, true, fault.New(fault.Failed, "no-release", "%s has no release",
				run.Label()).Then("orilla log %s", run.Label())
		}
		return originOf(run), true, nil
	case s.project.Repository != nil:
		if found, err := s.project.Repository.Commit(ctx, typed); err == nil {
			commit = found.Hash
		}
	}

	// A commit or a release that was never live anywhere is found among the
	// builds.
	runs, err := lastRuns(ctx, s, "", 0)
	if err != nil {
		return journal.Entry{}, false, err
	}
	for _, run := range runs {
		made := run.Ended != nil && !run.Ended.Release.IsZero()
		if made && (run.Ended.Release == id ||
			id.IsZero() && len(commit) >= 7 && isHex(commit) && strings.HasPrefix(run.Commit, commit)) {
			return originOf(run), true, nil
		}
	}
	// Of a release that no build is known of, there is nothing but itself.
	if !id.IsZero() {
		return journal.Entry{Release: id}, true, nil
	}
	return journal.Entry{}, false, nil
}

// originOf is what a run made, as if it was an entry.
func originOf(run builds.Run) journal.Entry {
	return journal.Entry{Release: run.Ended.Release, Origin: journal.Origin{Source: run.Source,
		Commit: run.Commit, Branch: run.Branch, Subject: run.Subject, Build: run.Ended.Build}}
}

// findRelease returns the release that was typed.
func (s *session) findRelease(ctx context.Context, what string) (release.ID, error) {
	if strings.HasPrefix(what, "r-") {
		return s.releaseByID(ctx, what)
	}
	entry, err := findOrigin(ctx, s, what)
	return entry.Release, err
}

// releaseByID finds a release by r- and the beginning of its id.
func (s *session) releaseByID(ctx context.Context, what string) (release.ID, error) {
	digits := strings.TrimPrefix(what, "r-")
	var found []release.ID
	for item, err := range s.store.List(ctx, storage.ReleasesKey(s.site)) {
		if err != nil {
			return release.ID{}, err
		}
		if id, err := release.ParseID(item.Name()); err == nil && strings.HasPrefix(item.Name(), digits) &&
			digits != "" {
			found = append(found, id)
		}
	}

	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return release.ID{}, fault.New(fault.Usage, "unknown-release", "%s has no release %q", s.site, what).
			Marked(errUnknownRelease).Then("orilla history")
	}

	problem := fault.New(fault.Usage, "ambiguous-release", "%q matches %d releases", what,
		len(found))
	for _, id := range found {
		problem = problem.With("r-" + id.String())
	}
	return release.ID{}, problem
}
