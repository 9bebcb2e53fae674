// Package view turns results into text, tables and JSON. Its functions take what
// they show and write to a console; they ask no store, no clock and no network, so
// that a test can hand them anything.
//
//	view.Status(c, report)   // a table for a terminal, a line each for a pipe, JSON with --json
//
// Records that are printed as JSON are declared here, with their field names:
// docs/json.md lists them, and a test compares the two.
package view

import (
	"orilla.example/orilla/internal/core/storage"
)

// VersionReport is the JSON document of orilla version.
type VersionReport struct {
	Version   string `json:"version"`
	Commit    string `json:"commit,omitempty"`
	Go        string `json:"go"`
	System    string `json:"system"`
	Releases  int    `json:"release_format"`
	Semantics int    `json:"semantics"`
	Journals  int    `json:"journal_format"`
	// Reads are the highest formats that are read.
	Reads storage.Formats `json:"reads"`
}
