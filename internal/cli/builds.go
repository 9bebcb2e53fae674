package cli

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// buildsCmd lists builds: running, waiting and ended.
type buildsCmd struct{ *app }

func newBuildsCommand(a *app) *cobra.Command {
	c := &buildsCmd{app: a}
	var site, branch string
	var limit int
	cmd := &cobra.Command{
		Example: "orilla builds\norilla builds --branch winter-times --limit 0",
		Use:     "builds", Short: "List builds: running, waiting, finished, and their times",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return c.builds(cmd.Context(), site, branch,
				limit)
		},
	}

	siteFlag(cmd.Flags(), &site)
	cmd.Flags().StringVar(&branch, "branch", "", "only builds of this `BRANCH`")
	cmd.Flags().IntVarP(&limit, "limit", "n", 12, "show the last `NUMBER` builds; 0 for all")
	cmd.RegisterFlagCompletionFunc("branch", completion{a}.branches) //nolint:errcheck // the flag exists
	return a.jsonFlag(cmd)
}

// runs are the numbered builds of the site: what was begun, by whom, and how it
// ended.
func (s *session) runs() builds.Runs { return builds.Runs{Store: s.store, Site: s.site} }

// lastRuns returns the newest runs, of a branch if one is named.
func lastRuns(ctx context.Context, s *session, branch string, limit int) ([]builds.Run, error) {
	last, err := s.runs().Last(ctx, s.hints(ctx)[journal.RunsHint])
	if err != nil {
		return nil, err
	}
	if branch == "" {
		found, err := s.runs().Back(ctx, last, limit, func(builds.Run) bool { return true })
		return found, err
	}

	var found []builds.Run
	_, err = s.runs().Back(ctx, last, 0, func(run builds.Run) bool {
		if run.Branch == branch {
			found = append(found, run)
		}
		return limit == 0 || len(found) < limit
	})
	return found, err
}

// Newest first, and only those of this site: whoever waits for a build looks at the first line.

// builds is orilla builds: what goes on, what waits at a follower, and the last
// that ended, newest first. What waits has no number yet, so it comes from the
// followers' own records and not from the runs.
func (a *buildsCmd) builds(ctx context.Context, site, branch string, limit int) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	rows := []view.BuildRow{}
	followers, err := follow.Followers(ctx, s.store, s.site)
	if err != nil {
		return err
	}

	for _, follower := range followers {
		for _, waiting := range follower.Waiting {
			if branch == "" || branch == waiting.Branch {
				rows = append(rows, view.BuildRow{State: "waiting", Branch: waiting.Branch,
					Commit: waiting.Commit, Subject: s.subject(ctx, waiting.Commit), Where: follower.Where,
					Why: waiting.Why})
			}
		}
	}

	running, err := build.List(ctx, s.store, s.site)
	if err != nil {
		return err
	}
	runs, err := lastRuns(ctx, s, branch, limit)
	if err != nil {
		return err
	}

	for _, run := range runs {
		row := view.DescribeRun(a.Console, run)
		if at := slices.IndexFunc(running,
			func(r build.Running) bool { return r.Number == run.Number }); at >= 0 && run.Ended == nil {
			row.State, row.Now = "running", running[at].Now
			if running[at].Lost(a.Now()) {
				row.State, row.Why = "lost", "its builder is gone; the next build of this content "+
					"takes over"
				row.Milliseconds = max(0, running[at].Said.Sub(run.When).Milliseconds())
			}
		}
		rows = append(rows, row)
	}

	if a.JSON {
		return a.Document(rows)
	}
	if len(rows) == 0 {
		a.Note("no builds of %s yet; orilla deploy builds one commit, orilla follow every commit", s.site)
	} else {
		view.PrintBuilds(a.Console, rows, runs)
	}

	if err := a.notePaused(ctx, s); err != nil {
		return err
	}
	for _, follower := range followers {
		a.Note("%s", console.Faint("followed by "+source.PersonName(follower.Who)+" on "+follower.Where+": "+
			follower.From))
	}
	return nil
}

// subject is the first line of a commit's message, as far as it is known here.
func (s *session) subject(ctx context.Context, commit string) string {
	if s.project.Repository != nil {
		if found, err := s.project.Repository.Commit(ctx, commit); err == nil {
			return found.Subject
		}
	}
	return ""
}

// findRun finds the build that was typed: build:41, 41, a
// branch or the beginning of a commit's hash; without
// anything the one that is being built, or the last one.
func findRun(ctx context.Context, s *session, typed string) (builds.Run, error) {
	digits := strings.TrimPrefix(typed, "build:")
	if n, err := strconv.ParseInt(digits, 10, 64); err == nil && (typed != digits || len(digits) < 7) {
		run, err := s.runs().Get(ctx, n)
		if err != nil {
			return run, fault.New(fault.Usage, "no-build", "there is no build %s of %s", typed, s.site).
				Because(notFoundIsNoReason(err)).Then("orilla builds")
		}
		return run, nil
	}

	last, err := s.runs().Last(ctx, s.hints(ctx)[journal.RunsHint])
	if err != nil {
		return builds.Run{}, err
	}
	var found *builds.Run
	named := "" // what the repository here calls so: HEAD, a tag
	if s.project.Repository != nil && typed != "" {
		if commit, err := s.project.Repository.Commit(ctx, typed); err == nil {
			named = commit.Hash
		}
	}

	_, err = s.runs().Back(ctx, last, 0, func(run builds.Run) bool {
		if found == nil && (typed == "" || run.Branch == typed || named != "" && run.Commit == named ||
			len(typed) >= 7 && strings.HasPrefix(run.Commit, typed)) {
			found = &run
		}
		return found == nil
	})
	if err != nil {
		return builds.Run{}, err
	}

	if found == nil && typed == "" {
		return builds.Run{}, fault.New(fault.Usage, "no-build", "no builds of %s yet", s.site).
			Then("orilla deploy")
	}
	if found == nil {
		return builds.Run{}, fault.New(fault.Usage, "no-build",
			"%s has no build %q, and no build of a branch or commit of that name", s.site, typed).
			Then("orilla builds")
	}

	return *found, nil
}
