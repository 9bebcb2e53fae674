package view

import (
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/export"
)

// DescribeFile makes the row of a file: where visitors find it, and for how
// long they may keep it.
func DescribeFile(file release.File, site answer.Site) FileReport {
	return FileReport{Path: file.Path, Address: answer.Address(file.Path), Size: file.Size, Type: file.Type,
		SHA256:    file.Digest.String(),
		Immutable: site.Immutable(file.Path)}
}

// ExportReport is what files --export prints with --json.
type ExportReport struct {
	Release string `json:"release"`
	export.Exported
}

// FileReport is one file of files with --json.
type FileReport struct {
	Path      string `json:"path"`
	Address   string `json:"address"`
	Size      int64  `json:"size"`
	Type      string `json:"type"`
	SHA256    string `json:"sha256"`
	Immutable bool   `json:"immutable"`
}

// FilesReport is the JSON document of orilla files: of a release or of a
// folder.
type FilesReport struct {
	Release string            `json:"release,omitempty"`
	Folder  string            `json:"folder,omitempty"`
	Files   []FileReport      `json:"files"`
	Bytes   int64             `json:"bytes"`
	LeftOut []publish.LeftOut `json:"left_out,omitempty"`
	Notices []fault.Notice    `json:"notices,omitempty"`
}
