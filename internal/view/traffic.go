package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/lost"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/source"
)

// ByHours is up to how long a time is shown hour by hour; more is shown by days.
const ByHours = 48 * time.Hour

// TrafficReport is what visitors of an environment asked for.
type TrafficReport struct {
	Site        string         `json:"site"`
	Environment string         `json:"environment"`
	From        time.Time      `json:"from"`
	To          time.Time      `json:"to"`             // exclusive
	Until       time.Time      `json:"until,omitzero"` // of the last visit that was counted
	Nodes       int            `json:"nodes"`          // that counted, as far as records say
	Visitors    int64          `json:"visitors"`       // of each day, added up
	Apart       bool           `json:"visitors_apart"` // nodes could not know each other's visitors
	Total       traffic.Totals `json:"total"`
	Days        []traffic.Slot `json:"days"`
	Hours       []traffic.Slot `json:"hours,omitempty"` // of up to two days
	Paths       traffic.Names  `json:"paths"`
	Referrers   traffic.Names  `json:"referrers"`
	Lost        []lost.Address `json:"lost"`
	Deploys     []TrafficMark  `json:"deploys"` // the newest first
	Unreadable  int            `json:"unreadable,omitempty"`
}

// TrafficMark is when another release became live.
type TrafficMark struct {
	Entry   string    `json:"entry"`
	When    time.Time `json:"when"`
	Kind    string    `json:"kind"`
	Commit  string    `json:"commit,omitempty"`
	Subject string    `json:"subject,omitempty"`
}

// LostRule is a redirect for an address that visitors missed.
type LostRule struct {
	Path    string `json:"path"`
	Rule    string `json:"rule"`
	Comment string `json:"comment"`
}

// NewTraffic describes sums.
func NewTraffic(site, environment string, sum *traffic.Sum) TrafficReport {
	r := TrafficReport{Site: site, Environment: environment, From: sum.From, To: sum.To, Until: sum.Until,
		Nodes: len(sum.Nodes), Visitors: sum.Visitors(), Apart: sum.Apart(), Total: sum.Totals(),
		Days: sum.Days(), Paths: sum.Paths(), Referrers: sum.Referrers()}
	if sum.To.Sub(sum.From) <= ByHours {
		r.Hours = sum.Hours()
	}
	return r
}

// Limited is the report with as many names as were asked for; 0 for all.
func (r TrafficReport) Limited(limit int) TrafficReport {
	if limit > 0 {
		r.Paths.List = r.Paths.List[:min(limit, len(r.Paths.List))]
		r.Referrers.List = r.Referrers.List[:min(limit, len(r.Referrers.List))]
		r.Lost = r.Lost[:min(limit, len(r.Lost))]
	}
	r.Paths.List, r.Referrers.List = append([]traffic.Name{}, r.Paths.List...),
		append([]traffic.Name{}, r.Referrers.List...)
	return r
}

// LostRules are the redirects for addresses that were missed, each once.
func LostRules(list []lost.Address) []LostRule {
	lines, seen := []LostRule{}, map[string]bool{}
	for _, a := range list {
		if a.Rule != "" && !seen[a.Rule] {
			seen[a.Rule] = true
			lines = append(lines, LostRule{a.Path, a.Rule, a.Comment()})
		}
	}
	return lines
}

// The report is read from its end: what is printed last stays on the screen, and is what somebody
// can do something about. So the sums come first, then the time, then what was asked for, and then
// what was not found, with the command that mends it.

// PrintTraffic shows a report: the sums, the time in bars, and what was asked for most.
func PrintTraffic(c *console.Console, r TrafficReport, limit int) {
	c.Print("%s %s  %s", console.Strong(r.Site), r.Environment, console.Faint(r.spanText()))
	if r.Total.Requests == 0 {
		c.Note("nothing was counted in this time; edge nodes write what they count every few minutes " +
			"(orilla edge, without --traffic=false)")
		printLost(c, r, limit)
		return
	}
	r.printSums(c)
	r.printSlots(c)
	pages, files := r.Paths, r.Paths
	pages.List = slices.DeleteFunc(slices.Clone(r.Paths.List), func(n traffic.Name) bool {
		return !traffic.IsPage(n.Name)
	})
	files.List = slices.DeleteFunc(slices.Clone(r.Paths.List), func(n traffic.Name) bool {
		return traffic.IsPage(n.Name)
	})
	printAsked(c, "PAGE", pages, limit, true)
	printAsked(c, "FILE", files, limit/2, true)
	if r.Paths.Missed > 0 {
		c.Print("%s", console.Faint(fmt.Sprintf("more addresses came than are kept: up to %s requests of "+
			"each may be missing here", number(r.Paths.Missed))))
	}
	printAsked(c, "CAME FROM", r.Referrers, limit/2, false)
	printLost(c, r, limit)
	if r.Unreadable > 0 {
		c.Note("%s %s could not be read: of a later version, or damaged", console.Warn("note:"),
			console.Count(int64(r.Unreadable), "record", "records"))
	}
}

// spanText says of when a report is.
func (r TrafficReport) spanText() string {
	last := r.To.Add(-time.Second)
	text := r.From.Format("2 Jan") + " to " + last.Format("2 Jan 2006")
	switch {
	case len(r.Hours) == 0:
	case traffic.DayOf(r.From) == traffic.DayOf(last):
		text = r.From.Format("2 Jan 2006, 15:04") + " to " + r.To.Format("15:04")
	default:
		text = r.From.Format("2 Jan 15:04") + " to " + r.To.Format("2 Jan 2006 15:04")
	}
	text += ", UTC"
	if r.Nodes > 0 {
		text += "; " + console.Count(int64(r.Nodes), "edge node", "edge nodes") + ", last visit " +
			r.Until.Format("2 Jan 15:04")
	}
	return text
}

// Shares are told so that nothing that is there reads as nothing, and nothing that is not whole as
// whole: "< 0.1 %", and "99.9 %" at most.

// percent is a share; small ones are not rounded to nothing.
func percent(part, of int64) string {
	if of == 0 || part == 0 {
		return "0 %"
	}
	share := float64(part) * 100 / float64(of)
	switch {
	case share < 0.1:
		return "< 0.1 %"
	case share < 10 || share > 99 && part < of:
		return fmt.Sprintf("%.1f %%", min(share, 99.9))
	}
	return fmt.Sprintf("%.0f %%", share)
}

// number is a number with its thousands apart.
func number(n int64) string {
	text := fmt.Sprint(n)
	for at := len(text) - 3; at > 0; at -= 3 {
		text = text[:at] + "," + text[at:]
	}
	return text
}

// printSums shows what came of all requests.
func (r TrafficReport) printSums(c *console.Console) {
	t := r.Total
	visitors := "about " + number(r.Visitors)
	if len(r.Days) > 1 {
		visitors += console.Faint(", each day by itself")
	}
	if r.Apart {
		visitors += console.Faint("; edge nodes share no secret, so one who came to two counts twice")
	}
	c.Row(c.Out, "requests", number(t.Requests)+console.Faint(fmt.Sprintf(
		"  %s pages to people, %s by programs", number(t.Pages), percent(t.Programs, t.Requests))))
	c.Row(c.Out, "visitors", visitors)
	missing, failed := t.Status(404, 404)+t.Status(410, 410), t.Status(500, 599)
	well := t.Status(200, 299) + t.Status(304, 304)
	moved := t.Status(300, 399) - t.Status(304, 304)
	answers := fmt.Sprintf("well %s, led on %s", percent(well, t.Requests), percent(moved, t.Requests))
	missed := "missing " + percent(missing, t.Requests)
	if missing > 0 {
		missed = console.Warn(missed)
	}
	failing := "failed " + percent(failed, t.Requests)
	if failed > 0 {
		failing = console.Bad(failing)
	}
	answers += ", " + missed + ", " + failing
	if rest := t.Requests - well - moved - missing - failed; rest > 0 {
		answers += ", refused " + percent(rest, t.Requests)
	}
	c.Row(c.Out, "answers", answers)
	sent := console.Size(t.Bytes)
	if all := t.Cache["hit"] + t.Cache["miss"]; all > 0 {
		sent += console.Faint("  from memory " + percent(t.Cache["hit"], all))
	}
	if text := shares(t.Encodings); text != "" {
		sent += console.Faint("; " + text)
	}
	c.Row(c.Out, "sent", sent)
}

// encodingNames are what encodings are called.
var encodingNames = map[string]string{"identity": "as it is", "dcb": "br with a dictionary",
	"dcz": "zstd with a dictionary"}

// Encodings go by the names of Content-Encoding, which is what people look for in a browser; those
// few that say nothing get words.

// shares tells the shares of names.
func shares(counts map[string]int64) string {
	var all int64
	names := make([]string, 0, len(counts))
	for name, n := range counts {
		all += n
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), strings.Compare(a, b))
	})
	for i, name := range names {
		names[i] = cmp.Or(encodingNames[name], name) + " " + percent(counts[name], all)
	}
	return strings.Join(names, ", ")
}

// longestBar is how wide the longest bar is.
const longestBar = 32

// A bar is drawn in blocks of an eighth, so that days that are nearly alike look so, and one that
// had a single request is not empty:
//
//	Fri 27 Nov   130,800  ██████████████████████▏
//	Sat 28 Nov   188,400  ████████████████████████████████

// bar draws a part of a whole, in eighths of a character.
func bar(part, of int64) string {
	if of == 0 || part == 0 {
		return ""
	}
	eighths := max(1, part*longestBar*8/of)
	text := strings.Repeat("█", int(eighths/8))
	if rest := eighths % 8; rest > 0 {
		text += string([]rune("▏▎▍▌▋▊▉")[rest-1])
	}
	return text
}

// printSlots shows days or hours, with what became live in them.
func (r TrafficReport) printSlots(c *console.Console) {
	slots, each, form, head := r.Days, 24*time.Hour, "Mon 2 Jan", "DAY"
	if len(r.Hours) > 0 {
		slots, each, form, head = r.Hours, time.Hour, "Mon 15:04", "HOUR"
	}
	var most int64
	for _, s := range slots {
		most = max(most, s.Requests)
	}
	rows := [][]string{{head, "REQUESTS", "", "VISITORS", "MISSING", "FAILED"}}
	for _, s := range slots {
		failed := number(s.Status(500, 599))
		if failed != "0" {
			failed = console.Bad(failed)
		}
		missing := number(s.Status(404, 404) + s.Status(410, 410))
		drawn := bar(s.Requests, most)
		rows = append(rows, []string{s.Begin.Format(form), number(s.Requests),
			console.Accent(drawn) + strings.Repeat(" ", longestBar-len([]rune(drawn))),
			number(s.Visitors), missing, failed})
	}
	c.Print("")
	// Marks stand below the time in which they were; the table is laid out without them.
	marks := map[int][]string{}
	for i, s := range slots {
		marks[i] = r.marks(s.Begin, s.Begin.Add(each))
	}
	console.TableWith(c, rows, func(row int) []string { return marks[row-1] }, 1, 3, 4, 5)
}

// marks are the lines for what became live between two times: the last ones, in order.
func (r TrafficReport) marks(from, to time.Time) (lines []string) {
	const shown = 3
	var within []TrafficMark // the newest first
	for _, m := range r.Deploys {
		if !m.When.Before(from) && m.When.Before(to) {
			within = append(within, m)
		}
	}
	if more := len(within) - shown; more > 0 {
		within = within[:shown]
		lines = append(lines, console.Faint(fmt.Sprintf("  and %d before them: orilla history", more)))
	}
	for _, m := range slices.Backward(within) {
		text := fmt.Sprintf("  %s %s %s", m.When.UTC().Format("15:04"), console.Good(m.Entry), m.Kind)
		if m.Commit != "" {
			text += " " + source.Short(m.Commit)
		}
		lines = append(lines, text+" "+console.Faint(console.Safe(m.Subject)))
	}
	return lines
}

// printAsked lists names by how often they came.
func printAsked(c *console.Console, head string, all traffic.Names, limit int, sizes bool) {
	list := all.List
	if limit > 0 {
		list = list[:min(limit, len(list))]
	}
	if len(list) == 0 {
		return
	}
	first := []string{"REQUESTS", head}
	if sizes {
		first = []string{"REQUESTS", "SENT", head}
	}
	rows := [][]string{first}
	for _, n := range list {
		row := []string{number(n.Requests), console.Safe(n.Name)}
		if sizes {
			row = []string{number(n.Requests), console.Size(n.Bytes), console.Safe(n.Name)}
		}
		rows = append(rows, row)
	}
	c.Print("")
	right := []int{0}
	if sizes {
		right = []int{0, 1}
	}
	c.Table(rows, right...)
	if more := len(all.List) - len(list); more > 0 {
		c.Print("%s", console.Faint(fmt.Sprintf("and %s more: --limit 0", number(int64(more)))))
	}
}

// Who leads to an address decides what to do: of your own pages a link is wrong, which only the
// pages can mend; others' links a redirect leads on; and where nobody leads, nobody was promised
// anything.

// printLost lists the addresses that visitors missed: those that somebody can do something about
// first, and of what only strangers try how many there are.
func printLost(c *console.Console, r TrafficReport, limit int) {
	var told, rest []lost.Address
	for _, a := range r.Lost {
		if a.IsLinked() || a.Why != "" {
			told = append(told, a)
		} else {
			rest = append(rest, a)
		}
	}
	if limit == 0 {
		told, rest = append(told, rest...), nil
	}
	if len(told) > 0 {
		rows := [][]string{{"REQUESTS", "NOT FOUND", "WHO LEADS THERE", "WHERE IT SHOULD LEAD"}}
		shown := told
		if limit > 0 {
			shown = told[:min(limit, len(told))]
		}
		for _, a := range shown {
			to := console.Faint(a.Why)
			if a.To != "" {
				to = console.Accent(console.Safe(a.To)) + "  " + to
			}
			rows = append(rows, []string{number(a.Requests), console.Safe(a.Path), leads(a), to})
		}
		c.Print("")
		c.Table(rows, 0)
		if more := len(told) - len(shown); more > 0 {
			c.Print("%s", console.Faint(fmt.Sprintf("and %d more: --limit 0", more)))
		}
	}
	if len(rest) > 0 {
		var requests int64
		for _, a := range rest {
			requests += a.Requests
		}
		c.Print("%s", console.Faint(fmt.Sprintf("and %s to which nothing leads, asked for %s times, "+
			"mostly by programs that look for holes: --limit 0",
			console.Count(int64(len(rest)), "address", "addresses"), number(requests))))
	}
	if lines := LostRules(r.Lost); len(lines) > 0 {
		c.Print("")
		c.Hint("redirects for "+console.Count(int64(len(lines)), "of them:", "of them:"),
			"orilla traffic"+EnvironmentArgument(r.Environment)+" --rules >> site.rules")
	}
}

// A column that is empty says that nobody is known to lead there: browsers and pages may keep to
// themselves where a visitor comes from.

// leads says who leads to an address that is not there.
func leads(a lost.Address) string {
	var list []string
	if a.Own > 0 {
		list = append(list, console.Warn(fmt.Sprintf("your pages %s", number(a.Own))))
	}
	if a.Elsewhere > 0 {
		list = append(list, fmt.Sprintf("others %s", number(a.Elsewhere)))
	}
	return strings.Join(list, ", ")
}
