package httpanswer

import (
	"time"

	"orilla.example/orilla/internal/core/release"
)

// Event is something that an edge node tells whoever runs it.
type Event struct {
	Time        time.Time  `json:"time"`
	Kind        string     `json:"kind"` // "flip", "trouble", "store", "refused", "request", "certificates"
	Site        string     `json:"site,omitempty"`
	Environment string     `json:"environment,omitempty"`
	Entry       int64      `json:"entry,omitempty"`
	Release     release.ID `json:"release,omitzero"`
	Commit      string     `json:"commit,omitempty"`
	Text        string     `json:"text,omitempty"`

	Method string `json:"method,omitempty"` // of a request
	Host   string `json:"host,omitempty"`
	Path   string `json:"path,omitempty"`
	Status int    `json:"status,omitempty"`
	Bytes  int64  `json:"bytes,omitempty"`
	By     string `json:"by,omitempty"`     // what answered
	Client string `json:"client,omitempty"` // who asked, of one that was refused
	Rule   string `json:"rule,omitempty"`   // the place of the rule that did, file:line
}
