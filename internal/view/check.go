package view

import (
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/finding"
)

// ShowCheck writes what was found, each finding with its place, the line it is
// on and what to do, and at the end how much was looked at: "0 findings" of
// nothing is no good news.
func ShowCheck(c *console.Console, r CheckReport) {
	for _, f := range r.Findings {
		showFinding(c, f)
	}
	checked := console.Count(int64(r.Files), "file", "files") + ", " + console.Count(int64(r.Rules), "rule",
		"rules") + ", " +
		console.Count(int64(r.Expectations), "expectation", "expectations")

	about := console.Faint("checked " + checked + " of " + r.On)
	if r.Compared != "" {
		about += console.Faint(", against " + r.Compared)
	}
	switch {
	case r.Errors > 0:
		c.Print("%s  %s", console.Bad(console.Count(int64(r.Errors), "error", "errors"))+", "+
			console.Count(int64(r.Warnings), "warning", "warnings"), about)
	case r.Warnings > 0:
		c.Print("%s  %s", console.Warn(console.Count(int64(r.Warnings), "warning", "warnings")), about)
	default:
		c.Print("%s  %s", console.Good("no problems found"), about)
	}
}

// showFinding prints what was found, where, and what to do.
func showFinding(c *console.Console, f finding.Finding) {
	level := console.Warn("warning")
	if f.Level == finding.Error {
		level = console.Bad("error")
	}
	where := ""
	if at := f.Position.String(); at != "" {
		where = console.Accent(at+":") + " "
	}

	c.Print("%s%s %s", where, level+": "+f.What, console.Faint("["+f.Code+"]"))
	for _, line := range f.Excerpt() {
		c.Print("    %s", line)
	}
	for _, line := range f.More {
		c.Print("    %s", console.Faint(line))
	}

	if f.Next != "" {
		c.Print("  %s %s", console.Accent("next:"), c.Complete(f.Next))
	}
	c.Print("")
}

// CheckReport is what check prints with --json.
type CheckReport struct {
	On           string            `json:"on"`
	Files        int               `json:"files"`
	Rules        int               `json:"rules"`
	Expectations int               `json:"expectations"`
	Errors       int               `json:"errors"`
	Warnings     int               `json:"warnings"`
	Compared     string            `json:"compared,omitempty"` // with what is live
	Findings     []finding.Finding `json:"findings"`
}
