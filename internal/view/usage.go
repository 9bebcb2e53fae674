package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/publish"
)

// AddUp sums runs by month and branch, the newest month
// first and in it the most build time first.
func AddUp(runs []builds.Run) []UsageRow {
	sums := map[[2]string]*UsageRow{}
	for _, run := range runs {
		key := [2]string{run.When.UTC().Format("2006-01"), run.Branch}
		row := sums[key]
		if row == nil {
			row = &UsageRow{Month: key[0], Branch: key[1]}
			sums[key] = row
		}

		row.Builds++
		if run.Ended != nil {
			row.BuildTime += run.Ended.BuildTime()
			row.Sent += run.Ended.Sent
			if run.Ended.Outcome == builds.Failed {
				row.Failed++
			}
		}
	}

	rows := []UsageRow{}
	for _, row := range sums {
		rows = append(rows, *row)
	}
	slices.SortFunc(rows, func(a, b UsageRow) int {
		switch {
		case a.Month != b.Month:
			return strings.Compare(b.Month, a.Month)
		case a.BuildTime != b.BuildTime:
			return cmp.Compare(b.BuildTime, a.BuildTime)
		}
		return strings.Compare(a.Branch, b.Branch)
	})

	for i := range rows {
		rows[i].BuildSeconds = int64(rows[i].BuildTime.Round(time.Second) / time.Second)
	}
	return rows
}

// Times are added up by month, as limits are, and in UTC, so that two machines say the same.

// PrintUsage writes months and branches as a table with totals, and how near
// the limits are.
func PrintUsage(c *console.Console, report UsageReport) {
	c.Print("%s  %s", console.Strong(report.Site),
		console.Faint("the store holds "+console.Size(report.Store.Bytes)+" in "+
			console.Count(report.Store.Objects, "object", "objects")+", for all its sites"))
	rows := [][]string{{"MONTH", "BRANCH", "BUILDS", "FAILED", "BUILD TIME", "SENT"}}
	month, total := "", UsageRow{}

	sum := func() {
		if month != "" && total.Builds > 0 {
			rows = append(rows, []string{"", console.Strong("total"), fmt.Sprint(total.Builds),
				failedCount(total.Failed), console.Took(total.BuildTime),
				console.Size(total.Sent)})
		}
		total = UsageRow{}
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
		rows = append(rows, []string{name, branch, fmt.Sprint(row.Builds), failedCount(row.Failed),
			console.Took(row.BuildTime), console.Size(row.Sent)})
		total.Builds, total.Failed = total.Builds+row.Builds, total.Failed+row.Failed
		total.BuildTime, total.Sent = total.BuildTime+row.BuildTime, total.Sent+row.Sent
	}

	sum()
	if len(report.Months) == 0 {
		c.Note("no builds in these months")
	} else {
		c.Table(rows, 2, 3, 4, 5)
	}

	if len(report.Limits) == 0 {
		return
	}
	c.Print("")
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
		table = append(table, []string{"limits." + limit.Limit, text, console.Faint(limit.Text)})
	}
	c.Table(table, 1)
}

// failedCount is a number of failures, or nothing for none: zeros hide what is
// not zero.
func failedCount(n int) string {
	if n == 0 {
		return ""
	}
	return console.Bad(fmt.Sprint(n))
}

// LimitRow is a limit and how much of it is used.
type LimitRow struct {
	Limit string `json:"limit"`
	Used  int64  `json:"used"` // bytes, files, seconds
	Most  int64  `json:"most"`
	Text  string `json:"-"` // what of what, for people
}

// UsageReport is the JSON document of orilla usage.
type UsageReport struct {
	Site   string               `json:"site"`
	Months []UsageRow           `json:"months"`
	Store  maintenance.Holdings `json:"store"` // all sites together
	Limits []LimitRow           `json:"limits"`
}

// UsageRow is what one branch used in one month.
type UsageRow struct {
	Month        string `json:"month"` // 2026-11, in UTC
	Branch       string `json:"branch"`
	Builds       int    `json:"builds"`
	Failed       int    `json:"failed,omitempty"`
	BuildSeconds int64  `json:"build_seconds"` // of steps
	Sent         int64  `json:"sent"`          // bytes that the store did not have

	BuildTime time.Duration `json:"-"` // of steps
}
