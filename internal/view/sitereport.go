package view

import (
	"cmp"
	_ "embed" // for the page below
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/source"
)

// WholeReport is all that there is to say of a site at a moment, for whoever looks at nothing else.
type WholeReport struct {
	Site     string          `json:"site"`
	Made     time.Time       `json:"made"`
	Status   StatusReport    `json:"status"`
	Alarms   []string        `json:"alarms"`             // what edge nodes say that somebody has to do
	Expiring []ExpiringEntry `json:"expiring"`           // previews that end soon, the next one first
	History  []StepEntry     `json:"history"`            // of all environments, the newest first
	More     bool            `json:"more"`               // there are older entries
	Builds   []BuildRow      `json:"builds"`             // the newest first
	Traffic  *TrafficReport  `json:"traffic,omitempty"`  // of production; none if nothing was counted
	Notices  *NoticesReport  `json:"notices,omitempty"`  // none if nobody is to be told of anything
	Failing  []EntryReport   `json:"failing,omitempty"`  // entries that did not pass their checks
	Previews int             `json:"previews,omitempty"` // that are not listed
	// Pictures are home pages by environment, as data: addresses (RFC 2397).
	Pictures map[string]template.URL `json:"-"`
}

// StepEntry is an entry of a journal, with what it changed. Steps are unset for entries that made
// nothing else live, and for releases that were pruned.
type StepEntry struct {
	EntryReport
	Step *EntryStep `json:"step,omitempty"`
}

// EntryStep is what an entry changed, and what it weighs. Sizes are in bytes.
type EntryStep struct {
	Files   int64            `json:"files"` // of the release
	Bytes   int64            `json:"bytes"`
	Before  string           `json:"before,omitempty"`    // the entry that was live before
	Changed *notices.Changed `json:"changed,omitempty"`   // none if the release before was pruned
	Page    *PageWeight      `json:"home_page,omitempty"` // none if / answers with no page
	Build   *BuildRow        `json:"build,omitempty"`     // the build that made it, if it is known still
}

// PageWeight is what a browser loads for a page: bytes on the wire, text as gzip sends it.
type PageWeight struct {
	Wire     int64 `json:"wire"`
	Requests int64 `json:"requests"`
}

// WeightBar is one deploy of production in the chart of what the home page weighs.
type WeightBar struct {
	StepEntry
	Percent float64 // of the heaviest
	More    int64   // than the one before it in the chart, in bytes
	First   bool    // there is none before it
}

// mostWeights is how many deploys the chart of weights has.
const mostWeights = 20

// weightBars lays out what the home page of production weighed, the newest first. Entries in a row that
// weigh the same are one: what is looked for is when it grew.
func weightBars(history []StepEntry) (bars []WeightBar) {
	most := int64(1)
	for _, entry := range history {
		if entry.Step == nil || entry.Step.Page == nil ||
			!strings.HasPrefix(entry.Entry, project.Production+":") {
			continue
		}
		wire := entry.Step.Page.Wire
		if last := len(bars) - 1; last >= 0 {
			bars[last].More, bars[last].First = bars[last].Step.Page.Wire-wire, false
			if bars[last].More == 0 && len(bars) > 1 {
				bars = bars[:last]
			}
		}
		if len(bars) == mostWeights {
			break
		}
		most = max(most, wire)
		bars = append(bars, WeightBar{StepEntry: entry, First: true})
	}
	for i := range bars {
		bars[i].Percent = float64(bars[i].Step.Page.Wire) / float64(most) * 100
	}
	return bars
}

// ExpiringEntry is a preview that ends by itself.
type ExpiringEntry struct {
	Environment string    `json:"environment"`
	Until       time.Time `json:"until"`
}

// The report is one file that needs nothing else: it is mailed, kept, opened on a telephone in the
// harbour. So it has no script, loads nothing, and takes its colours from what the reader's system
// asks for. Every chart has a table beside it, which says the same to whoever cannot see it; what is
// told by a colour is told by a word too.
//
//	what is live          a table of environments
//	what waits, what ends
//	weights               a bar for each deploy that changed what the home page weighs
//	deploys               the last ones: what changed, what it weighs, how long it took, what was checked
//	builds                a bar for each: how long, and with what
//	visitors              a bar for each day, with the deploys that fall on it
//	lost addresses        with the redirect that would lead them on

//go:embed sitereport.html
var siteReportHTML string

var siteReportPage = template.Must(template.New("report").Funcs(template.FuncMap{
	"time":  func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") },
	"day":   func(t time.Time) string { return t.UTC().Format("Mon 2 Jan") },
	"stamp": func(t time.Time) string { return t.UTC().Format(time.RFC3339) },
	"size":  console.Size,
	"took": func(milliseconds int64) string {
		return console.Took(time.Duration(milliseconds) * time.Millisecond)
	},
	"short":   source.Short,
	"person":  source.PersonName,
	"release": ShortRelease,
	"number":  func(n int64) string { return humanize.Comma(n) },
	"more":    more,
	"changed": changedText,
	"slowest": slowest,
	"few":     func(paths []string) []string { return paths[:min(len(paths), mostNamed)] },
	"percent": func(v float64) string { return fmt.Sprintf("%.3g", v) },
}).Parse(siteReportHTML))

// An id of sixty-four digits would push everything else off a telephone; ten are what is typed.

// ShortRelease is a release as people write it.
func ShortRelease(id string) string {
	const length = 12 // r- and ten digits
	return id[:min(length, len(id))]
}

// more is how much something grew or shrank, with its sign.
func more(bytes int64) string {
	switch {
	case bytes > 0:
		return "+" + console.Size(bytes)
	case bytes < 0:
		return "\u2212" + console.Size(-bytes)
	}
	return "the same"
}

// changedText says in words how many files differ.
func changedText(c *notices.Changed) string {
	var parts []string
	for _, part := range []struct {
		n    int
		word string
	}{{c.Changed, "changed"}, {c.Added, "new"}, {c.Removed, "gone"}} {
		if part.n > 0 {
			parts = append(parts, humanize.Comma(int64(part.n))+" "+part.word)
		}
	}
	return cmp.Or(strings.Join(parts, ", "), "none")
}

// slowest names the kind of phase that took the most of a build's time; "" for none.
func slowest(phases []builds.Phase) string {
	var most time.Duration
	name := ""
	for _, kind := range phaseKinds {
		if took := (builds.Ended{Phases: phases}).Took(kind.of...); took > most {
			most, name = took, kind.Name
		}
	}
	if name == "" {
		return ""
	}
	return name + " " + console.Took(most)
}

// WriteReport writes the report as one HTML file.
func WriteReport(w io.Writer, r WholeReport) error {
	return siteReportPage.Execute(w, struct {
		WholeReport
		Bars    []TrafficBar
		Stretch []BuildBar
		Kinds   []phaseKind
		Weights []WeightBar
	}{r, trafficBars(r.Traffic), buildBars(r.Builds), phaseKinds, weightBars(r.History)})
}

// A picture is laid out here and not in the page, where numbers cannot be tested: where a bar begins, how
// high it is, which days have a name below them. All of it is in the units of the picture, which is as
// wide as there is room.

// TrafficBar is one day in the chart of visits.
type TrafficBar struct {
	Begin           time.Time
	Requests, Lost  int64
	Visitors, Bytes int64
	X, Y, Height    float64 // of the bar, in a picture of 700 by 200
	Width           float64
	Deploys         []TrafficMark // that fall on it
	Marked          string
	Label           string
	ShowLabel       bool
}

// The picture of visits.
const (
	chartWidth, chartHeight = 700.0, 180.0
)

// mostNamed is how many entries are named of one day, and files of one entry.
const mostNamed = 3

// trafficBars lays the days out.
func trafficBars(r *TrafficReport) (bars []TrafficBar) {
	if r == nil || len(r.Days) == 0 {
		return nil
	}
	// Days before the first visit are left out, but for a week: a site that is new has no history.
	days := r.Days
	for len(days) > 7 && days[0].Requests == 0 {
		days = days[1:]
	}
	most := int64(1)
	for _, day := range days {
		most = max(most, day.Requests)
	}
	step := chartWidth / float64(len(days))
	for i, day := range days {
		b := TrafficBar{Begin: day.Begin, Requests: day.Requests, Visitors: day.Visitors, Bytes: day.Bytes,
			X: float64(i)*step + step*0.12, Width: step * 0.76,
			Height:    float64(day.Requests) / float64(most) * chartHeight,
			Label:     day.Begin.UTC().Format("2 Jan"),
			ShowLabel: len(days) <= 10 || i%(len(days)/7+1) == 0}
		b.Y = chartHeight - b.Height
		var names []string
		for _, mark := range r.Deploys {
			if !mark.When.Before(day.Begin) && mark.When.Before(day.Begin.AddDate(0, 0, 1)) {
				b.Deploys = append(b.Deploys, mark)
				names = append(names, mark.Entry)
			}
		}
		if b.Marked = strings.Join(names, ", "); len(names) > mostNamed {
			b.Marked = fmt.Sprintf("%s and %d before it", names[0], len(names)-1)
		}
		for status, count := range day.Statuses {
			if status == "404" {
				b.Lost += count
			}
		}
		bars = append(bars, b)
	}
	return bars
}

// Five kinds can be told apart by colour, and by most people who see colours otherwise; twelve phases
// cannot. Those that follow each other, and are mostly short, are one.

// phaseKind is what the time of builds is divided into.
type phaseKind struct {
	Name  string
	Class string
	of    []string
}

// phaseKinds are those that the chart tells apart, in the order in which they come.
var phaseKinds = []phaseKind{{"wait", "p0", []string{"wait"}},
	{"checkout", "p1", []string{"checkout", "unpack"}},
	{"prepare", "p2", []string{"prepare"}}, {"steps", "p3", []string{"step"}},
	{"upload", "p4", []string{"scan", "upload", "rules", "check", "commit", "activate"}}}

// The bars are as long as the longest build, so that one sees at once which took long, and with what.
// The same is said in words below each, for whoever sees no colours.

// BuildBar is one build in the chart of builds.
type BuildBar struct {
	BuildRow
	Parts []BuildPart
	Total int64 // milliseconds
}

// BuildPart is one part of its bar.
type BuildPart struct {
	phaseKind
	Percent      float64 // of the longest build
	Milliseconds int64
}

// mostBars is how many builds the chart shows.
const mostBars = 20

// A build without phases, such as one that was refused before it began, has a row and no bar. Of one that
// failed the bar ends where it did.

// buildBars lays builds out.
func buildBars(rows []BuildRow) (bars []BuildBar) {
	longest := int64(1)
	for _, row := range rows[:min(len(rows), mostBars)] {
		bar := BuildBar{BuildRow: row}
		for _, kind := range phaseKinds {
			took := (builds.Ended{Phases: row.Phases}).Took(kind.of...).Milliseconds()
			if took > 0 {
				bar.Parts = append(bar.Parts, BuildPart{phaseKind: kind, Milliseconds: took})
				bar.Total += took
			}
		}
		longest = max(longest, bar.Total)
		bars = append(bars, bar)
	}
	for i := range bars {
		for j := range bars[i].Parts {
			bars[i].Parts[j].Percent = float64(bars[i].Parts[j].Milliseconds) / float64(longest) * 100
		}
	}
	return bars
}
