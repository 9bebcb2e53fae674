package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/view"
)

// usageCmd adds up what building and sending took.
type usageCmd struct{ *app }

func newUsageCommand(a *app) *cobra.Command {
	c := &usageCmd{app: a}
	var site string
	var months int
	cmd := &cobra.Command{
		Example: "orilla usage --months 12",
		Use:     "usage", Short: "Show build minutes and bytes against the limits",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return c.usage(cmd.Context(), site, months) },
	}

	siteFlag(cmd.Flags(), &site)
	cmd.Flags().IntVar(&months, "months", 3, "show this `NUMBER` of months")
	return a.jsonFlag(cmd)
}

// usage is orilla usage: how much building and sending the last months took, by
// branch, and how near that is to the limits.
func (a *usageCmd) usage(ctx context.Context, site string, months int) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	now := a.Now().UTC()
	// Months in UTC, as limits count them.
	since := time.Date(now.Year(), now.Month()-time.Month(max(1, months)-1), 1, 0, 0, 0, 0, time.UTC)
	last, err := s.runs().Last(ctx, s.hints(ctx)[journal.RunsHint])
	if err != nil {
		return err
	}

	runs, err := s.runs().Back(ctx, last, 0, func(run builds.Run) bool { return !run.When.Before(since) })
	if err != nil {
		return err
	}
	report := view.UsageReport{Site: s.site, Months: view.AddUp(runs)}
	tell, end := a.working()
	report.Store, err = maintenance.Measure(ctx, s.store, tell)
	end()
	if err != nil {
		return err
	}

	report.Limits = limitRows(s, runs, now)
	return a.Result(report, func() {
		view.PrintUsage(a.Console, report)
	})
}

// limitRows compares what is used with the limits of the configuration.
func limitRows(s *session, runs []builds.Run, now time.Time) []view.LimitRow {
	limits := s.project.ProductionConfig.Limits
	rows := []view.LimitRow{}
	month := time.Duration(0)
	var newest *builds.Ended
	longest := time.Duration(0)
	for _, run := range runs {
		if run.Ended == nil {
			continue
		}
		if run.When.UTC().Format("2006-01") == now.Format("2006-01") {
			month += run.Ended.BuildTime()
			longest = max(longest, run.Ended.BuildTime())
		}

		if newest == nil && run.Ended.Outcome == builds.Succeeded {
			newest = run.Ended
		}
	}

	// A limit that is not set has no row.
	span := func(name string, used, most time.Duration) {
		if most > 0 {
			rows = append(rows, view.LimitRow{Limit: name, Used: int64(used / time.Second),
				Most: int64(most / time.Second), Text: console.Took(used) + " of " + console.Took(most)})
		}
	}

	span("build_time_per_month", month, time.Duration(limits.BuildTimePerMonth))
	span("build_time", longest, time.Duration(limits.BuildTime))
	if newest != nil {
		rows = append(rows, view.LimitRow{Limit: "size", Used: newest.Size, Most: int64(limits.Size),
			Text: console.Size(newest.Size) + " of " + console.Size(int64(limits.Size))},
			view.LimitRow{Limit: "files", Used: newest.Files, Most: limits.Files,
				Text: fmt.Sprintf("%d of %d", newest.Files, limits.Files)})
	}

	return rows
}
