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

// AddUp adds up what is sent, if that is known of each file.
func (r *FilesReport) AddUp() {
	for _, file := range r.Files {
		if file.Sent == 0 && file.Size > 0 {
			r.Sent = 0
			return
		}
		r.Sent += file.Sent
	}
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
	Sent      int64  `json:"sent,omitempty"` // bytes on the wire, compressed; 0 if that is not known
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
	Sent    int64             `json:"sent,omitempty"` // bytes on the wire; 0 if that is not known
	LeftOut []publish.LeftOut `json:"left_out,omitempty"`
	Notices []fault.Notice    `json:"notices,omitempty"`
}
