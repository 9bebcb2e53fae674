package view

import (
	"fmt"
	"slices"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/names"
)

// Records are shown in three forms: as the forms of providers ask for them (names without
// the zone, "@" for the zone itself), as lines of a zone file, and as a difference with + and
// - where Orilla changes them itself.

// ZoneReport is what a zone needs, or what was changed in it.
type ZoneReport struct {
	Zone    string         `json:"zone,omitempty"`
	Server  string         `json:"server,omitempty"` // that was changed
	Records []RecordReport `json:"records"`
	Removed []names.Record `json:"removed,omitempty"`
}

// RecordReport is a record.
type RecordReport struct {
	names.Record

	// there, missing, unknown; of a change: added, kept
	State string `json:"state"`
	Note  string `json:"note,omitempty"`
}

// ReportRecords says which of the records that are needed are there.
func ReportRecords(needs []names.Need, there []names.Record) []RecordReport {
	list := []RecordReport{}
	for _, need := range needs {
		state := "missing"
		switch {
		case slices.ContainsFunc(there, need.Is):
			state = "there"
		case need.Zone == "":
			state = "unknown"
		}
		list = append(list, RecordReport{need.Record, state, need.Note})
	}
	return list
}

// ReportChange says what is done to a zone. Marks are how, and nobody needs to read them.
func ReportChange(change names.Change, server string) ZoneReport {
	report := ZoneReport{Zone: change.Zone, Server: server, Records: []RecordReport{},
		Removed: names.Visible(change.Remove)}
	for _, r := range change.Keep {
		report.Records = append(report.Records, RecordReport{r, "kept", ""})
	}
	for _, r := range names.Visible(change.Add) {
		report.Records = append(report.Records, RecordReport{r, "added", ""})
	}
	return report
}

// PrintRecords lists records as forms of providers ask for them.
func PrintRecords(c *console.Console, reports []ZoneReport) {
	missing, total := 0, 0
	for i, report := range reports {
		if i > 0 {
			c.Print("")
		}
		if report.Zone != "" {
			c.Print("%s %s", console.Faint("zone"), console.Strong(report.Zone))
		}
		rows := [][]string{{"NAME", "TYPE", "VALUE", "TTL", ""}}
		var notes []string
		for _, r := range report.Records {
			total++
			state := console.Good("there")
			switch r.State {
			case "missing":
				missing++
				state = console.Warn("missing")
			case "unknown":
				missing++
				state = ""
			}
			name := r.Relative(report.Zone)
			if report.Zone == "" {
				name = r.Name + "."
			}
			rows = append(rows, []string{console.Strong(name), r.Type, r.Value, fmt.Sprint(r.TTL), state})
			if r.Note != "" && !slices.Contains(notes, r.Note) {
				notes = append(notes, r.Note)
			}
		}
		c.Table(rows)
		for _, note := range notes {
			c.Print("%s", console.Faint(note))
		}
	}
	// What to do next depends on whether anything is missing.
	switch {
	case total == 0:
		c.Note("the site has no addresses that DNS leads to: add environments.production.addresses " +
			"to orilla.yaml")
	case missing == 0:
		c.Note("%s", console.Good("all records are there"))
	default:
		c.Note("%s set what is missing where the domain is managed, then %s", console.Accent("next:"),
			c.Command("orilla domains --wait"))
		c.Note("      %s", console.Faint("or, if its name server takes dynamic updates: "+
			c.Complete("orilla domains records --apply --key FILE")))
	}
}

// Lines of a zone file name everything whole, so they mean the same in any file, whatever its
// origin; the comment says which one they are for.

// PrintZoneFile prints records as lines of a zone file (RFC 1035, section 5).
func PrintZoneFile(c *console.Console, reports []ZoneReport) {
	for _, report := range reports {
		if report.Zone != "" {
			c.Print("; zone %s", report.Zone)
		}
		for _, r := range report.Records {
			c.Print("%s", r.Line())
		}
	}
}

// PrintChange shows what would be done to a zone.
func PrintChange(c *console.Console, report ZoneReport) {
	c.Print("%s %s %s", console.Faint("zone"), console.Strong(report.Zone), console.Faint(
		"at "+report.Server))
	for _, r := range report.Removed {
		c.Print("  %s %s", console.Bad("-"), r.Line())
	}
	for _, r := range report.Records {
		switch r.State {
		case "added":
			c.Print("  %s %s", console.Good("+"), r.Line())
		default:
			c.Print("    %s", console.Faint(r.Line()))
		}
	}
}

// PrintChanged says what was done, or would be: the difference of each zone, and below it how
// many records it was. What somebody else had set is among those that stay as they are.
func PrintChanged(c *console.Console, reports []ZoneReport, removed, dry bool) {
	added, gone := 0, 0
	for _, report := range reports {
		PrintChange(c, report)
		gone += len(report.Removed)
		for _, r := range report.Records {
			if r.State == "added" {
				added++
			}
		}
	}
	var did []string
	set, taken := " set", " removed"
	if dry {
		set, taken = " to set", " to remove"
	}
	if added > 0 {
		did = append(did, console.Count(int64(added), "record", "records")+set)
	}
	if gone > 0 {
		did = append(did, console.Count(int64(gone), "record", "records")+taken)
	}
	switch {
	case len(did) > 0:
		c.Print("%s", console.Good(strings.Join(did, ", ")))
	case removed:
		c.Print("nothing to remove: Orilla set no records for this site")
	default:
		c.Print("nothing to change: all records are there")
	}
	if added > 0 && !dry {
		c.Note("%s %s", console.Accent("next:"), c.Command("orilla domains --wait"))
	}
}
