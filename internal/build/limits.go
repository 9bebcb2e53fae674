package build

import (
	"context"
	"fmt"
	"os"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/steps"
)

// timeLimit is how long the steps of a plan may take, and whether
// limits.build_time of the production branch is what counts.
func timeLimit(plan *site.Plan) (limit time.Duration, byProduction bool) {
	production := plan.Project.ProductionConfig
	limit = time.Duration(plan.Config.Build.TimeLimit)
	if trusted := time.Duration(production.Build.TimeLimit); plan.Untrusted() && !plan.ByHand &&
		trusted > 0 && trusted < limit {
		limit = trusted // what a branch says of itself is no bound
	}

	if most := time.Duration(production.Limits.BuildTime); most > 0 && most < limit {
		return most, true
	}
	return limit, false
}

// noteNearLimit tells of steps that took nearly as long as
// the production branch allows.
func noteNearLimit(request Request, took time.Duration) {
	limit := time.Duration(request.Plan.Project.ProductionConfig.Limits.BuildTime)
	if publish.NearLimit(int64(took), int64(limit)) {
		request.Report.Notice(fault.Notice{
			Code: "near-limit", What: fmt.Sprintf("over 80 %% of limits.build_time: %s of %s",
				took.Round(time.Second), limit),
			Next: "at 100 % Orilla ends the build",
		})
	}
}

// withinMonth refuses a build when the month's build time
// is used up, and tells when it nearly is.
func withinMonth(ctx context.Context, request Request) error {
	plan := request.Plan
	limit := time.Duration(plan.Project.ProductionConfig.Limits.BuildTimePerMonth)
	if limit == 0 || len(plan.Config.Build.Steps()) == 0 {
		return nil
	}

	// By the records in the store, so that all machines count together.
	used, err := timeOfMonth(ctx, request.Store, plan.Site, request.Now())
	if err != nil {
		return err
	}

	if used >= limit {
		return fault.New(fault.Refused, "build-time-used",
			"this month's build time is used up: %s of %s",
			used.Round(time.Second), limit).Marked(builds.ErrMachine).
			At("orilla.yaml: limits.build_time_per_month").
			Then("orilla usage").
			Then("existing builds can still go live: orilla deploy COMMIT").
			Then("so can output built elsewhere: orilla deploy --from FOLDER").
			Then("or raise the limit on the production branch")
	}

	if publish.NearLimit(int64(used), int64(limit)) {
		request.Report.Notice(fault.Notice{
			Code: "near-limit",
			What: fmt.Sprintf("over 80 %% of limits.build_time_per_month: %s of %s", used.Round(time.Second),
				limit),
			Next: "at 100 % Orilla refuses builds",
		})
	}

	return nil
}

// timeOfMonth adds up how long the steps of all builds of a site ran that began
// in the month of now, in UTC.
func timeOfMonth(ctx context.Context, store storage.Store, site string, now time.Time,
) (time.Duration, error) {
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

// tooLittle is how many bytes are free on a disk that counts as full.
const tooLittle = 1 << 20

// fullDisk returns the folder whose disk has no room left: the one that a build
// runs in, or that of temporary files; "" for none.
func fullDisk(folder string) string {
	for _, place := range []string{folder, os.TempDir()} {
		if free, known := steps.FreeSpace(place); known && free < tooLittle {
			return place
		}
	}
	return ""
}
