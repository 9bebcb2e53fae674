package view_test

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/lost"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/view"
)

// wholeReport is a report of a site in which a lot has happened, by people who write anything.
func wholeReport(entries, previews int) view.WholeReport {
	const hostile = `"><script>alert(1)</script><img src=x onerror=alert(2)>`
	made := time.Date(2026, 11, 29, 6, 0, 0, 0, time.UTC)
	r := view.WholeReport{Site: "corvane", Made: made, Alarms: []string{"a certificate ends " + hostile},
		Status: view.StatusReport{EdgeNodes: []edge.Presence{{}}}}
	for i := range previews {
		r.Status.Environments = append(r.Status.Environments, view.EnvironmentReport{Environment: fmt.Sprint("preview/pr-", i),
			State: "live", Entry: fmt.Sprintf("preview/pr-%d:1", i), Release: "r-" + strings.Repeat("a", 64), Subject: hostile,
			Commit: strings.Repeat("b", 40), CommitAddress: "javascript:alert(3)", Who: hostile, When: &made,
			Frozen: &view.FrozenReport{Who: hostile, Why: hostile}, Address: "https://www.corvane.example/"})
	}
	for i := range entries {
		r.History = append(r.History, view.StepEntry{EntryReport: view.EntryReport{Entry: fmt.Sprint("production:", entries-i),
			Kind: "deploy", Who: "Ines <ines@corvane.example>", Subject: hostile, Why: hostile, When: made,
			Outcome: &environments.Outcome{Passed: i%2 == 0}}, Step: &view.EntryStep{Before: "production:0", Files: 1000, Bytes: 1 << 20,
			Changed: &notices.Changed{Added: 1000, Paths: []string{hostile}}, Build: &view.BuildRow{Build: hostile, Milliseconds: 2000},
			Page: &view.PageWeight{Wire: int64(50000 - i/2*100), Requests: 7}}})
	}
	r.Failing = []view.EntryReport{{Entry: "production:2", Outcome: &environments.Outcome{
		Probes: []environments.Probe{{What: hostile, Text: hostile}}}}}
	r.Builds = []view.BuildRow{{Build: "build:2", State: "succeeded", Branch: hostile, Sent: 1234, Phases: []builds.Phase{
		{Name: "checkout", Milliseconds: 50}, {Name: "step", Milliseconds: 150}, {Name: "upload", Milliseconds: 100}}},
		{Build: "build:1", State: "failed", Phases: []builds.Phase{{Name: "step", Milliseconds: 600}}}}
	days := []traffic.Slot{}
	for i := range 14 {
		day := traffic.Slot{Begin: made.Truncate(24*time.Hour).AddDate(0, 0, i-13), Visitors: int64(i)}
		day.Requests, day.Statuses = int64(100*i), map[string]int64{"404": int64(i)}
		days = append(days, day)
	}
	r.Traffic = &view.TrafficReport{Environment: "production", Days: days,
		Lost:    []lost.Address{{Path: hostile, Requests: 3, Rule: "redirect /a -> /b", Why: hostile}},
		Deploys: []view.TrafficMark{{Entry: "production:2", When: made}, {Entry: "production:1", When: made.AddDate(0, 0, -3)}}}
	return r
}

func TestTheReportLoadsNothingAndRunsNothing(t *testing.T) {
	t.Parallel()
	var page bytes.Buffer
	require.NoError(t, view.WriteReport(&page, wholeReport(20, 10)))
	root, err := html.Parse(bytes.NewReader(page.Bytes()))
	require.NoError(t, err)
	charts, tables := 0, 0
	var walk func(n *html.Node)
	walk = func(n *html.Node) {
		if n.Type == html.ElementNode {
			assert.NotContains(t, []string{"script", "img", "link", "iframe", "object", "embed", "base", "form"}, n.Data)
			switch n.Data {
			case "svg":
				charts++
			case "table":
				tables++
			}
			for _, attribute := range n.Attr {
				assert.False(t, strings.HasPrefix(attribute.Key, "on"), attribute.Key)
				assert.NotContains(t, []string{"src", "srcset", "data", "action"}, attribute.Key)
				if attribute.Key == "href" {
					assert.False(t, strings.HasPrefix(attribute.Val, "javascript:"), attribute.Val)
				}
			}
		}
		for child := range n.ChildNodes() {
			walk(child)
		}
	}
	walk(root)
	assert.Equal(t, 1, charts)
	assert.Equal(t, 6, tables)
	assert.Equal(t, 9, strings.Count(page.String(), `<td class="n">&#43;100 B</td>`), "ten weights, each of two deploys")
	for _, text := range []string{"1,000 new", "home page 50 kB"} {
		assert.Positive(t, strings.Count(page.String(), text), text)
	}
	assert.NotRegexp(t, `url\(|@import`, page.String())
	// The names of days are drawn, and the numbers of the table are those of the chart.
	assert.Len(t, regexp.MustCompile(`<rect class="bar"`).FindAllString(page.String(), -1), 13, "days before the first visit are left out")
	assert.Len(t, regexp.MustCompile(`<rect class="mark"`).FindAllString(page.String(), -1), 2)
	assert.Contains(t, page.String(), `<td class="n">1,300</td><td class="n">13</td><td class="n">13</td><td>production:2</td>`)
}

// TestAReportOfALargeSiteIsSmall: the report lists a part of what there is, and says so.
func TestAReportOfALargeSiteIsSmall(t *testing.T) {
	t.Parallel()
	var page bytes.Buffer
	began := time.Now()
	require.NoError(t, view.WriteReport(&page, wholeReport(150, 100)))
	assert.Less(t, page.Len(), 1_000_000)
	assert.Less(t, time.Since(began), 30*time.Second, "it is text")
}
