package view

import "time"

// PasswordReport is what password prints with --json.
type PasswordReport struct {
	Environment string `json:"environment"`
	Entry       string `json:"entry"`
	Protected   bool   `json:"protected"`
	User        string `json:"user,omitempty"`
	Password    string `json:"password,omitempty"` // only if it was generated
}

// RemovedReport is what preview remove prints with --json.
type RemovedReport struct {
	Removed []EntryReport `json:"removed"`
}

// ShareReport is what preview share prints with --json.
type ShareReport struct {
	Environment string    `json:"environment"`
	Entry       string    `json:"entry"`
	Links       []string  `json:"links,omitempty"` // shown once
	Until       time.Time `json:"until,omitzero"`
	Revoked     int       `json:"revoked,omitempty"`
	Share       string    `json:"share,omitempty"` // the first digits of what is kept of the link
}
