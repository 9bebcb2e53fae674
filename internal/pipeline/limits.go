package pipeline

import (
	"context"
	"fmt"
	"os"
	"time"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/storage"
)

// timeLimit is how long the steps may take, and whether the production branch's limit is what counts.
func (r *Run) timeLimit() (time.Duration, bool) {
	limit := time.Duration(r.Plan.Config.Build.TimeLimit)
	if standing := time.Duration(r.Plan.Project.ProductionConfig.Build.TimeLimit); r.Plan.Untrusted() && !r.Plan.ByHand && standing > 0 && standing < limit {
		limit = standing // what a branch says of itself is no bound
	}
	if most := time.Duration(r.Plan.Project.ProductionConfig.Limits.BuildTime); most > 0 && most < limit {
		return most, true
	}
	return limit, false
}

// nearTimeLimit tells of a build that took nearly as long as the production branch allows.
func (r *Run) nearTimeLimit(took time.Duration) {
	limit := time.Duration(r.Plan.Project.ProductionConfig.Limits.BuildTime)
	if publish.NearLimit(int64(took), int64(limit)) {
		r.Report.Notice(fault.Notice{Code: "near-limit", What: fmt.Sprintf("over 80 %% of limits.build_time: %s of %s", took.Round(time.Second), limit), Next: "at 100 % a build is ended"})
	}
}

// withinMonth refuses a build when the month's build time is used up, and tells when it nearly is.
func (r *Run) withinMonth(ctx context.Context) error {
	limit := time.Duration(r.Plan.Project.ProductionConfig.Limits.BuildTimePerMonth)
	if limit == 0 || len(r.Plan.Config.Build.Steps()) == 0 {
		return nil
	}
	used, err := buildTimeOfMonth(ctx, r.Store, r.Plan.Site, r.Now())
	if err != nil {
		return err
	}
	if used >= limit {
		return fault.New(fault.Refused, "build-time-used", "the build time of this month is used up: %s of %s", used.Round(time.Second), limit).At("orilla.yaml: limits.build_time_per_month").
			Then("orilla usage shows what used it").Then("what was built before can go live without a build: orilla deploy COMMIT, orilla rollback").
			Then("or raise the limit on the production branch")
	}
	if publish.NearLimit(int64(used), int64(limit)) {
		r.Report.Notice(fault.Notice{Code: "near-limit", What: fmt.Sprintf("over 80 %% of limits.build_time_per_month: %s of %s", used.Round(time.Second), limit), Next: "at 100 % builds are refused"})
	}
	return nil
}

// buildTimeOfMonth adds up how long the steps of all builds of a site ran that began in the month of now, in UTC.
func buildTimeOfMonth(ctx context.Context, store storage.Store, site string, now time.Time) (time.Duration, error) {
	now = now.UTC()
	month := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC)
	runs := builds.Runs{Store: store, Site: site}
	last, err := runs.Last(ctx, journal.ReadHints(ctx, store, site)[journal.RunsHint])
	if err != nil {
		return 0, err
	}
	found, err := runs.Back(ctx, last, 0, func(run builds.Run) bool { return !run.When.Before(month) })
	used := time.Duration(0)
	for _, run := range found {
		if run.Ended != nil {
			used += run.Ended.BuildTime()
		}
	}
	return used, err
}

// fullDisk is how little room there is left on a disk that counts as full, in bytes.
const fullDisk = 1 << 20

// diskFull returns the folder whose disk has no room left, or "".
func (r *Run) diskFull(folder string) string {
	if free, known := builder.FreeSpace(folder); known && free < fullDisk {
		return folder
	}
	if free, known := builder.FreeSpace(os.TempDir()); known && free < fullDisk {
		return os.TempDir()
	}
	return ""
}

// checkPaused refuses automatic builds that somebody paused.
func (r *Run) checkPaused(ctx context.Context) error {
	if !r.Automatic {
		return nil
	}
	pause, err := ReadPause(ctx, r.Store, r.Plan.Site)
	if pause == nil || err != nil {
		return err
	}
	return PausedRefusal(pause)
}
