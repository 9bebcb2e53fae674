package view

import (
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/deploy"
)

// What is reserved is told in one line for each environment: many sites have one or two, and
// whoever has set records wants to know only that they lead somewhere now.

// The states of addresses that were to be reserved.
const (
	Reserved        = "reserved"
	AlreadyReserved = "already"
	ReservedLive    = "live" // something is served: other addresses come with its next deploy
)

// ReservedReport is an environment whose addresses edge nodes know.
type ReservedReport struct {
	Environment string   `json:"environment"`
	State       string   `json:"state"`
	Addresses   []string `json:"addresses"`       // of "previews": patterns, with "*" for the label
	Entry       string   `json:"entry,omitempty"` // that says so
}

// ReportReserved reports one environment.
func ReportReserved(r deploy.Reservation) ReservedReport {
	report := ReservedReport{Environment: journal.DisplayName(r.Environment), State: AlreadyReserved,
		Addresses: r.Addresses}
	switch {
	case r.Live:
		report.State = ReservedLive
	case r.New:
		report.State = Reserved
	}
	if r.Entry.Number > 0 {
		report.Entry = r.Entry.Label()
	}
	return report
}

// Line says in one line what edge nodes answer now.
func (r ReservedReport) Line() string {
	what := "waits for its first deploy"
	switch {
	case r.State == ReservedLive:
		what = "is live; other addresses come with its next deploy"
	case r.Environment == journal.Previews:
		what = "appear there"
	}
	state := console.Good(r.State)
	if r.State != Reserved {
		state = console.Faint(r.State)
	}
	return state + ": " + console.Strong(strings.Join(r.Addresses, ", ")) + "  " +
		console.Faint(r.Environment+" "+what)
}

// PrintReserved lists what was reserved, and what comes next.
func PrintReserved(c *console.Console, list []ReservedReport) {
	for _, r := range list {
		c.Print("%s", r.Line())
	}
	c.Note("%s %s lists the records that lead there", console.Accent("next:"),
		c.Command("orilla domains records"))
}
