package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// This file reads arguments that are a folder or an archive, where others would be
// a commit, a release or an environment, and finds what to look at where nothing
// was built here.

// folderOr reports whether a typed word means a folder or a file here: it must be
// one, and no environment or commit may have the name, unless it is written as a
// path.
func folderOr(ctx context.Context, a *app, p *site.Project, typed string) bool {
	if typed == "" || typed == "-" {
		return false
	}
	if _, err := os.Stat(a.path(filepath.FromSlash(typed))); err != nil {
		return false
	}
	if filepath.IsAbs(typed) || strings.HasPrefix(typed, ".") || strings.HasSuffix(typed, "/") {
		return true
	}
	if slices.Contains(p.EnvironmentNames(), typed) {
		return false
	}
	if p.Repository == nil {
		return true
	}
	_, err := p.Repository.Commit(ctx, typed)
	return err != nil
}

// An archive is unpacked where its content can be read as often as it is needed, since
// a check reads every page. It is told by its first bytes and not by its name, and what
// it unpacks to has the bounds of the site, whoever made it.

// given opens ready output that was typed: a folder as it is, an archive unpacked
// into a temporary folder, which goes when the command ends. It fails with no-output
// if there is neither.
func given(ctx context.Context, a *app, p *site.Project, typed string) (folder string, err error) {
	name := a.path(filepath.FromSlash(typed))
	info, err := os.Stat(name)
	if err != nil {
		return "", fault.New(fault.Usage, "no-output", "no such folder or archive").At("%s", name)
	}
	if info.IsDir() {
		return name, nil
	}

	file, err := os.Open(name)
	if err != nil {
		return "", fault.New(fault.Failed, "unreadable", "cannot read the archive").At("%s", name).
			Because(err)
	}
	defer file.Close() //nolint:errcheck // read only
	scratch, err := os.MkdirTemp("", "orilla-output-")
	if err != nil {
		return "", fault.New(fault.Failed, "unwritable", "cannot create a temporary folder").Because(err)
	}

	// The archive is anybody's: what it may unpack to has the bounds of a release.
	//nolint:errcheck // a temporary folder
	a.atEnd = append(a.atEnd, func() { os.RemoveAll(scratch) })
	limits := source.Limits{Files: p.LocalConfig.Limits.Files, Bytes: int64(p.LocalConfig.Limits.Size)}
	return source.Unpack(ctx, file, name, filepath.Join(scratch, "output"), limits)
}

// A project that is published as it is puts its sources, and whatever lies beside them,
// on the web. That is seldom meant, and never by a word that could be a commit.

// refuseProject refuses a folder that is a project and not its output. The word
// stood where a commit is expected, so it was not said that it is ready output.
func refuseProject(folder, typed string) error {
	for _, sign := range []string{".git", project.FileName} {
		if _, err := os.Stat(filepath.Join(folder, sign)); err != nil {
			continue
		}
		return fault.New(fault.Usage, "project-folder", "%s is a project, not a finished site: it has %s",
			typed, sign).
			Then("to build and publish that project: orilla deploy -C %s", shellWord(typed)).
			Then("to publish the folder as it is: orilla deploy --from %s", shellWord(typed))
	}
	return nil
}

// A fresh clone has no output, and still there is a release of every branch that was
// ever built, somewhere in the store. Looking at it is what people mean when they ask
// what a check would say, and building for a question would take minutes.

// newest finds the release to look at where the working tree has no output: the
// newest of this branch, else what production serves. about says which, for
// people. It fails with errNothingMade if there is none.
func newest(ctx context.Context, a *app, p *site.Project, siteName string) (s *session, found journal.Entry,
	about string, err error,
) {
	s, err = a.session(ctx, siteName)
	if err != nil {
		return nil, found, "", errNothingMade
	}
	if p.Repository != nil {
		branch := p.Repository.Branch(ctx)
		last, err := s.runs().Last(ctx, s.hints(ctx)[journal.RunsHint])
		if err != nil {
			return nil, found, "", err
		}
		// Builds of other branches may lie between, but not a year of them.
		looked := 0
		_, err = s.runs().Back(ctx, last, 0, func(run builds.Run) bool {
			if run.Branch == branch && run.Ended != nil && !run.Ended.Release.IsZero() {
				found = originOf(run)
				about = "the newest release of " + branch + ", " + found.Release.Short() +
					" (" + run.Label() + ")"
			}
			looked++
			return about == "" && looked < 200
		})
		if err != nil || about != "" {
			return s, found, about, err
		}
	}

	head, err := s.head(ctx, project.Production)
	if errors.Is(err, journal.ErrEmpty) || err == nil && head.Release.IsZero() {
		return nil, found, "", errNothingMade
	}
	return s, head, "what is live, " + head.Label(), err
}

// errNothingMade: no release of a site is there to look at.
var errNothingMade = errors.New("no release yet")

// withoutOutput looks at a release in the place of an output that is not there, and
// says which. missing is what to say if there is none either.
func withoutOutput(ctx context.Context, a *app, p *site.Project, siteName string, missing error,
) (*inspect.Subject, *session, error) {
	s, entry, about, err := newest(ctx, a, p, siteName)
	if errors.Is(err, errNothingMade) {
		return nil, nil, missing
	}
	if err != nil {
		return nil, nil, err
	}
	a.Note("%s", console.Faint("nothing was built in this folder yet; looking at the files of "+about))
	subject, err := inspect.WorkingTreeOn(ctx, p, s.store, s.site, entry.Release, entry.Build)
	return subject, s, err
}
