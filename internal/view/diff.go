package view

import (
	"fmt"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/source"
)

// AddressesReport is what diff --addresses prints with --json.
type AddressesReport struct {
	Addresses []string `json:"addresses"`
	Rules     []string `json:"rules,omitempty"` // with placeholders, that only one side has
}

// diffCommits lists the commits between two sides, newest first.
func diffCommits(c *console.Console, report DiffReport) {
	if len(report.Commits) == 0 {
		return
	}
	c.Print("\n%s", console.Strong(console.Count(int64(len(report.Commits)+report.More), "commit between",
		"commits between")))

	for _, commit := range report.Commits {
		c.Print("  %s  %s", c.Link(console.Accent(source.Short(commit.Commit)), commit.Address),
			commit.Subject)
	}
	if report.More > 0 {
		c.Print("  %s", console.Faint(fmt.Sprintf("and %d older", report.More)))
	}
}

// diffItems lists pages or assets, with their counts by kind in the heading.
// name makes what stands for an item: pages are known by their address, assets
// by their path.
func diffItems(c *console.Console, what string, items []difference.Item, limit int,
	name func(difference.Item) string,
) {
	if len(items) == 0 {
		return
	}
	counts := map[difference.Kind]int{}
	for _, item := range items {
		counts[item.Kind]++
	}

	var parts []string
	for _, kind := range []difference.Kind{difference.Added, difference.Removed, difference.Moved,
		difference.Changed} {
		if counts[kind] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[kind], kind))
		}
	}

	c.Print("\n%s  %s", console.Strong(what), strings.Join(parts, ", "))
	rows := [][]string{}
	for i, item := range items {
		if i == limit {
			break
		}
		var size, about string

		switch item.Kind {
		case difference.Added:
			size = console.Size(item.After)
		case difference.Removed:
			size = console.Size(item.Before)
		default:
			size, about = console.Size(item.After), grown(item.Before, item.After)
		}

		if item.Kind == difference.Moved {
			from := item
			from.Address, from.Path = answer.Address(item.From), item.From
			about = console.Faint(fmt.Sprintf("from %s, %d %% the same", name(from), item.Alike))
		}
		rows = append(rows, []string{"  " + diffMark(item.Kind), name(item), size, about})
	}
	console.Columns(c, rows, 2)
	// moreLines says how many of n lines were left out.
	moreLines(c, len(items), limit)
}

// diffRules lists rules and settings; of rules that only changed their places
// it says just that.
func diffRules(c *console.Console, report DiffReport, limit int) {
	if len(report.Rules)+len(report.Settings) == 0 && !report.Ordered {
		return
	}
	c.Print("\n%s", console.Strong("rules and settings"))

	for i, rule := range report.Rules {
		if i == limit {
			break
		}
		c.Print("  %s %s", diffMark(rule.Kind), rule.Text)
	}

	moreLines(c, len(report.Rules), limit)
	if report.Ordered {
		c.Print("  %s same rules in another order", diffMark(difference.Changed))
	}
	for _, line := range report.Settings {
		c.Print("  %s %s", diffMark(difference.Changed), line)
	}
}

// diffWeights lists pages that load more or less than before, the largest
// difference first.
func diffWeights(c *console.Console, report DiffReport, limit int) {
	if len(report.Weights) == 0 {
		return
	}
	about := "of pages with everything they load"
	if report.Partial {
		about += "; of the changed pages"
	}

	c.Print("\n%s  %s", console.Strong("weight"), console.Faint(about))
	var rows [][]string
	for i, weight := range report.Weights {
		if i == limit/2 {
			break
		}
		before := ""
		if weight.Before > 0 {
			before = console.Size(weight.Before)
		}
		sent := ""
		isSmaller := weight.SentAfter != weight.After || weight.SentBefore != weight.Before
		if isSmaller && weight.SentAfter > 0 && (weight.SentBefore > 0 || weight.Before == 0) {
			sent = console.Faint("sent ") + console.Size(weight.SentAfter) + "  " +
				grown(weight.SentBefore, weight.SentAfter)
		}
		rows = append(rows, []string{"   ", weight.Address, before, console.Faint("->"),
			console.Size(weight.After), grown(weight.Before, weight.After), sent})
	}
	console.Columns(c, rows, 2, 4)
	moreLines(c, len(report.Weights), limit/2)
}

func moreLines(c *console.Console, n, limit int) {
	if n > limit {
		c.Print("  %s", console.Faint(fmt.Sprintf("and %d more; --all shows them", n-limit)))
	}
}

// ShowDiff writes a whole comparison, in the order in which a reviewer asks:
// which commits, which pages, which assets, which rules, how heavy. all lifts
// the limit on the lengths of lists.
func ShowDiff(c *console.Console, report DiffReport, all bool) {
	about := func(side DiffSide) string {
		text := console.Strong(side.Name)
		if side.Commit != "" && source.Short(side.Commit) != side.Name {
			text += " " + console.Accent(source.Short(side.Commit))
		}
		return text + "  " + Shorten(side.Subject, 50)
	}

	c.Print("%s %s", console.Faint("before"), about(report.Before))
	c.Print("%s  %s", console.Faint("after"), about(report.After))
	if report.Same() {
		c.Print("%s", console.Good("no difference for visitors"))
	}

	limit := diffLines
	if all {
		limit = 1 << 30
	}
	diffCommits(c, report)
	diffItems(c, "pages", report.Pages, limit, func(item difference.Item) string { return item.Address })
	diffItems(c, "assets", report.Assets, limit, func(item difference.Item) string { return "/" + item.Path })
	diffRules(c, report, limit)
	diffWeights(c, report, limit)
	if len(report.Pages) > 0 {
		c.Note("%s %s", console.Faint("next:"),
			c.Command("orilla diff "+report.Before.Name+" "+report.After.Name+" --open"))
	}
}

// CommitReport is one commit.
type CommitReport struct {
	Commit  string `json:"commit"`
	Subject string `json:"subject"`
	Address string `json:"commit_address,omitempty"`
}

// diffLines is how many lines of each part are shown, unless all are asked for.
const diffLines = 20

// diffMark writes the kind of a change.
func diffMark(kind difference.Kind) string {
	switch kind {
	case difference.Added:
		return console.Good("+")
	case difference.Removed:
		return console.Bad("-")
	case difference.Moved:
		return console.Accent(">")
	}
	return console.Warn("~")
}

// DiffReport is what diff prints with --json.
type DiffReport struct {
	Before  DiffSide       `json:"before"`
	After   DiffSide       `json:"after"`
	Commits []CommitReport `json:"commits,omitempty"` // that after has and before does not, the newest first
	More    int            `json:"more_commits,omitempty"`
	difference.Report
}

// DiffSide is one of the two that are compared.
type DiffSide struct {
	Name    string `json:"name"` // what can be typed
	Release string `json:"release,omitempty"`
	Commit  string `json:"commit,omitempty"`
	Subject string `json:"subject,omitempty"`

	Side  difference.Side `json:"-"`
	Build string          `json:"-"` // that it came from; "" if that is not known
}

// grown writes by how much a size changed.
func grown(before, after int64) string {
	switch {
	case after > before:
		return console.Warn("+" + console.Size(after-before))
	case after < before:
		return console.Good("-" + console.Size(before-after))
	}
	return console.Faint("same size")
}

// TextReport is what diff --text prints with --json.
type TextReport struct {
	Before string   `json:"before"` // the path on that side
	After  string   `json:"after"`
	Lines  []string `json:"lines"`
}
