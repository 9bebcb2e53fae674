package view

import "orilla.example/orilla/internal/core/finding"

// InitReport is what init prints with --json.
type InitReport struct {
	File    string   `json:"file"`    // the configuration that was written
	Site    string   `json:"site"`    // its name
	Prepare []string `json:"prepare"` // steps that fetch dependencies
	Run     []string `json:"run"`     // steps that build
	Output  string   `json:"output"`  // the folder that they leave
	Notes   []string `json:"notes"`   // what to check by hand
}

// OpenReport is what open prints with --json.
type OpenReport struct {
	Address   string `json:"address"`
	EdgeNodes int    `json:"edge_nodes"` // that say they are there
}

// PausedReport is what follow --pause and follow --resume print with --json.
type PausedReport struct {
	Site   string `json:"site"`
	Paused bool   `json:"paused"`
}

// ServeEvent is a line that serve prints with --json, besides those of requests.
type ServeEvent struct {
	// "serving", "building", "built", "shown", "failed" or "refused"
	Kind    string `json:"kind"`
	Address string `json:"address,omitempty"` // of serving
	Files   *int   `json:"files,omitempty"`   // of serving
	// of serving how many, of shown whether they changed
	Rules        any      `json:"rules,omitempty"`
	Environment  string   `json:"environment,omitempty"`  // of serving
	Why          string   `json:"why,omitempty"`          // of building
	Milliseconds *int64   `json:"milliseconds,omitempty"` // of built
	Changed      []string `json:"changed,omitempty"`      // of shown: paths
	Text         string   `json:"text,omitempty"`         // of failed
	Code         string   `json:"code,omitempty"`         // of failed
	// of refused: none when a deploy would accept it again
	Findings *finding.List `json:"findings,omitempty"`
}
