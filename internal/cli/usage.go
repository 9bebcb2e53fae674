package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/upkeep"
)

// usageRow is what one branch used in one month.
type usageRow struct {
	Month        string `json:"month"` // 2026-11, in UTC
	Branch       string `json:"branch"`
	Builds       int    `json:"builds"`
	Failed       int    `json:"failed,omitempty"`
	BuildSeconds int64  `json:"build_seconds"` // of steps
	Sent         int64  `json:"sent"`          // bytes that the store did not have
}

type usageReport struct {
	Site   string          `json:"site"`
	Months []usageRow      `json:"months"`
	Store  upkeep.Holdings `json:"store"` // all sites together
	Limits []limitRow      `json:"limits"`
}

// limitRow is a limit and how much of it is used.
type limitRow struct {
	Limit string `json:"limit"`
	Used  int64  `json:"used"` // bytes, files, seconds
	Most  int64  `json:"most"`
	text  string
}

func (a *app) usageCommand() *cobra.Command {
	var site string
	var months int
	cmd := &cobra.Command{
		Use: "usage", Short: "Build minutes and bytes by month and branch, against the limits", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.usage(cmd.Context(), site, months) },
	}
	cmd.Flags().StringVar(&site, "site", "", "the site's name (default: as orilla.yaml says)")
	cmd.Flags().IntVar(&months, "months", 3, "how many `MONTHS` back")
	return a.jsonFlag(cmd)
}

func (a *app) usage(ctx context.Context, site string, months int) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	now := a.Now().UTC()
	since := time.Date(now.Year(), now.Month()-time.Month(max(1, months)-1), 1, 0, 0, 0, 0, time.UTC)
	last, err := s.runs().Last(ctx, s.hints(ctx)[journal.RunsHint])
	if err != nil {
		return err
	}
	runs, err := s.runs().Back(ctx, last, 0, func(run builds.Run) bool { return !run.When.Before(since) })
	if err != nil {
		return err
	}
	report := usageReport{Site: s.site, Months: addUp(runs)}
	tell, end := a.working()
	report.Store, err = upkeep.Measure(ctx, s.store, tell)
	end()
	if err != nil {
		return err
	}
	report.Limits = s.limits(runs, now)
	if a.JSON {
		return a.Document(report)
	}
	a.printUsage(report)
	return nil
}

// addUp sums runs by month and branch, the newest month first and in it the most build time first.
func addUp(runs []builds.Run) []usageRow {
	sums := map[[2]string]*usageRow{}
	for _, run := range runs {
		key := [2]string{run.When.UTC().Format("2006-01"), run.Branch}
		row := sums[key]
		if row == nil {
			row = &usageRow{Month: key[0], Branch: key[1]}
			sums[key] = row
		}
		row.Builds++
		if run.Ended != nil {
			row.BuildSeconds += int64(run.Ended.BuildTime().Round(time.Millisecond) / time.Millisecond)
			row.Sent += run.Ended.Sent
			if run.Ended.Outcome == builds.Failed {
				row.Failed++
			}
		}
	}
	rows := []usageRow{}
	for _, row := range sums {
		rows = append(rows, *row)
	}
	slices.SortFunc(rows, func(a, b usageRow) int {
		switch {
		case a.Month != b.Month:
			return strings.Compare(b.Month, a.Month)
		case a.BuildSeconds != b.BuildSeconds:
			return int(b.BuildSeconds - a.BuildSeconds)
		}
		return strings.Compare(a.Branch, b.Branch)
	})
	for i := range rows {
		rows[i].BuildSeconds = (rows[i].BuildSeconds + 500) / 1000
	}
	return rows
}

// limits compares what is used with the limits of the configuration.
func (s *session) limits(runs []builds.Run, now time.Time) []limitRow {
	limits := s.project.ProductionConfig.Limits
	rows := []limitRow{}
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
	span := func(name string, used, most time.Duration) {
		if most > 0 {
			rows = append(rows, limitRow{name, int64(used / time.Second), int64(most / time.Second), console.Took(used) + " of " + console.Took(most)})
		}
	}
	span("build_time_per_month", month, time.Duration(limits.BuildTimePerMonth))
	span("build_time", longest, time.Duration(limits.BuildTime))
	if newest != nil {
		rows = append(rows, limitRow{"size", newest.Size, int64(limits.Size), console.Size(newest.Size) + " of " + console.Size(int64(limits.Size))},
			limitRow{"files", newest.Files, limits.Files, fmt.Sprintf("%d of %d", newest.Files, limits.Files)})
	}
	return rows
}

func (a *app) printUsage(report usageReport) {
	a.Print("%s  %s", console.Strong(report.Site), console.Faint("the store holds "+console.Size(report.Store.Bytes)+" in "+console.Count(report.Store.Objects, "object", "objects")+", of all its sites"))
	rows := [][]string{{"MONTH", "BRANCH", "BUILDS", "FAILED", "BUILD TIME", "SENT"}}
	month, total := "", usageRow{}
	sum := func() {
		if month != "" && total.Builds > 0 {
			rows = append(rows, []string{"", console.Strong("together"), fmt.Sprint(total.Builds), failedCount(total.Failed), console.Took(time.Duration(total.BuildSeconds) * time.Second), console.Size(total.Sent)})
		}
		total = usageRow{}
	}
	for _, row := range report.Months {
		name := ""
		if row.Month != month {
			sum()
			month, name = row.Month, row.Month
		}
		branch := row.Branch
		if branch == "" {
			branch = console.Faint("no branch")
		}
		rows = append(rows, []string{name, branch, fmt.Sprint(row.Builds), failedCount(row.Failed), console.Took(time.Duration(row.BuildSeconds) * time.Second), console.Size(row.Sent)})
		total.Builds, total.Failed, total.BuildSeconds, total.Sent = total.Builds+row.Builds, total.Failed+row.Failed, total.BuildSeconds+row.BuildSeconds, total.Sent+row.Sent
	}
	sum()
	if len(report.Months) == 0 {
		a.Note("nothing was built in these months")
	} else {
		a.Table(rows, 2, 3, 4, 5)
	}
	if len(report.Limits) == 0 {
		return
	}
	a.Print("")
	table := [][]string{{"LIMIT", "USED", ""}}
	for _, limit := range report.Limits {
		used := limit.Used * 100 / max(1, limit.Most)
		text := fmt.Sprintf("%d %%", used)
		switch {
		case used >= 100:
			text = console.Bad(text)
		case publish.NearLimit(limit.Used, limit.Most):
			text = console.Warn(text)
		}
		table = append(table, []string{"limits." + limit.Limit, text, console.Faint(limit.text)})
	}
	a.Table(table, 1)
}

func failedCount(n int) string {
	if n == 0 {
		return ""
	}
	return console.Bad(fmt.Sprint(n))
}
