package view

import (
	"time"
)

// SiteReport is one site of a store.
type SiteReport struct {
	Site    string     `json:"site"`
	Owner   []string   `json:"owner"` // the first commits of the repository, or one folder
	Who     string     `json:"claimed_by,omitempty"`
	When    time.Time  `json:"claimed,omitzero"`
	Entry   string     `json:"production,omitempty"`
	Release string     `json:"release,omitempty"`
	Commit  string     `json:"commit,omitempty"`
	Subject string     `json:"subject,omitempty"`
	Since   *time.Time `json:"since,omitempty"`
	Damage  string     `json:"damage,omitempty"`
}
