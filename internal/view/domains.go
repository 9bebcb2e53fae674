package view

import (
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/hosts"
)

// DomainReport is a host and its owner.
type DomainReport struct {
	Host         string        `json:"host"`
	Owner        string        `json:"owner,omitempty"`
	Entry        int64         `json:"number,omitempty"`
	Who          string        `json:"who,omitempty"`
	When         *time.Time    `json:"when,omitempty"`
	Why          string        `json:"why,omitempty"`
	Grants       []hosts.Grant `json:"grants,omitempty"`
	Environments []string      `json:"environments,omitempty"` // of the site, that have an address there
}

// ReportHost makes the row of a host. Number 0 is a host that nobody has taken.
func ReportHost(entry hosts.Entry) DomainReport {
	report := DomainReport{Host: entry.Host, Owner: entry.Site, Entry: entry.Number, Who: entry.Who,
		Why: entry.Why, Grants: entry.Grants}
	if entry.Number > 0 {
		report.When = &entry.When
	}
	return report
}

// PrintDomains lists the hosts a site answers at, with the owner of each.
func PrintDomains(c *console.Console, site string, reports []DomainReport) {
	if len(reports) == 0 {
		c.Note("%s has no addresses yet: add environments.production.addresses to orilla.yaml, then %s",
			site, c.Command("orilla deploy"))
		return
	}

	rows := [][]string{{"HOST", "OWNER", "SINCE", "USED BY", "SHARED PATHS"}}
	for _, report := range reports {
		since := ""
		if report.When != nil {
			since = c.Age(*report.When)
		}
		var grants []string
		for _, grant := range report.Grants {
			grants = append(grants, grant.Path+" "+grant.Site)
		}

		rows = append(rows, []string{
			console.Strong(report.Host), ownerText(report, site), since,
			strings.Join(report.Environments, ", "), strings.Join(grants, ", "),
		})
	}
	c.Table(rows)
}

// ownerText names the owner of a host, by its colour as
// the site at hand or another one.
func ownerText(report DomainReport, site string) string {
	switch report.Owner {
	case "":
		return console.Faint("no owner yet")
	case site:
		return console.Good(report.Owner)
	}
	return console.Warn(report.Owner)
}
