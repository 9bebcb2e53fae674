package view

import (
	"time"

	"orilla.example/orilla/internal/core/hosts"
)

// domainReport is a host with whom it belongs to.
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

func ReportHost(entry hosts.Entry) DomainReport {
	report := DomainReport{Host: entry.Host, Owner: entry.Site, Entry: entry.Number, Who: entry.Who,
		Why: entry.Why, Grants: entry.Grants}
	if entry.Number > 0 {
		report.When = &entry.When
	}
	return report
}
