package view

import (
	"orilla.example/orilla/internal/core/storage"
)

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
