package journal

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
)

// Document is what an environment is, apart from the release it serves. It is
// kept as an object, and entries name it by its digest.
type Document struct {
	Digest digest.Digest
	Commit string // that it was read from; "" if from no commit
	Data   []byte // canonical JSON; nil for an environment of which nothing was said
	DocumentContent
}

// DocumentContent is the record.
type DocumentContent struct {
	Format int `json:"format"`
	// Needs names what whoever answers must know of to answer as the document
	// says: from format 2 on, in which it may say more than this program knows.
	Needs     []string `json:"needs,omitempty"`
	Addresses []string `json:"addresses,omitempty"` // absolute URLs ending in "/"; the first is canonical
	// Upstreams are the addresses, by name, of what proxy
	// rules pass requests on to.
	Upstreams map[string]string `json:"upstreams,omitempty"`
	// Retention says which releases of the environment are
	// kept; nil for the default.
	Retention *Retention `json:"retention,omitempty"`
	// Settings is a JSON document that the environment answers with at
	// SettingsPath, so that one and the same release knows where it runs.
	Settings json.RawMessage `json:"settings,omitempty"`
	// SettingsPath is an absolute path, escaped; "" without settings.
	SettingsPath string `json:"settings_path,omitempty"`
}

// Retention says which releases of an environment a prune
// keeps besides the one that is live.
type Retention struct {
	Releases int      `json:"releases"`       // the last so many different ones
	Seconds  int64    `json:"seconds"`        // and all that were live within this time
	Keep     []string `json:"keep,omitempty"` // and those whose ids begin so: ten digits or more
}

// DefaultRetention holds where an environment says
// nothing: ten releases, thirty days.
var DefaultRetention = Retention{Releases: 10, Seconds: 30 * 24 * 60 * 60}

// NewDocument makes the document of an environment of which a commit says
// content. If that is nothing, there is none: the zero Document.
//
// The document is kept as an object and named by its digest, so entries that
// say the same name the same.
func NewDocument(content DocumentContent, commit string) (Document, error) {
	if len(content.Addresses) == 0 && len(content.Upstreams) == 0 && content.Retention == nil &&
		content.Settings == nil {
		return Document{Commit: commit}, nil
	}
	content.Format = Format
	data, err := canon.Marshal(content)
	return Document{Digest: digest.Of(data), Commit: commit, Data: data, DocumentContent: content}, err
}

// Changes lists, one line each, how a document differs from the one before.
func (d DocumentContent) Changes(before DocumentContent) []string {
	var lines []string
	changed := func(what, from, to string) {
		if from == "" {
			from = "none"
		}
		if to == "" {
			to = "none"
		}

		if from != to {
			lines = append(lines, what+": "+from+" -> "+to)
		}
	}

	changed("addresses", strings.Join(before.Addresses, ", "), strings.Join(d.Addresses, ", "))
	for _, name := range slices.Sorted(maps.Keys(merged(before.Upstreams, d.Upstreams))) {
		changed("upstream "+name, before.Upstreams[name], d.Upstreams[name])
	}
	if changed("settings", string(before.Settings), string(d.Settings)); d.Settings != nil &&
		before.Settings != nil {
		changed("settings are at", before.SettingsPath, d.SettingsPath)
	}
	changed("retention", before.Retention.String(), d.Retention.String())
	return lines
}

// merged returns what both maps say; where they differ, b has the last word.
func merged(a, b map[string]string) map[string]string {
	all := maps.Clone(a)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, b)
	return all
}

// String writes what is kept; "" for nil.
func (r *Retention) String() string {
	if r == nil {
		return ""
	}
	return fmt.Sprintf("%d releases, and those of the last %s", r.Releases,
		time.Duration(r.Seconds)*time.Second)
}

// DecodeDocument reads the object of a document. The
// caller has verified the bytes.
func DecodeDocument(data []byte) (DocumentContent, error) {
	var version struct{ Format int }
	if err := json.Unmarshal(data, &version); err != nil {
		return DocumentContent{}, fmt.Errorf("environment document: %w: %w", ErrDamaged, err)
	}
	if version.Format != Format && version.Format != Format2 {
		return DocumentContent{}, fmt.Errorf("environment document: %w (format %d)", ErrUnknown,
			version.Format)
	}

	var content DocumentContent
	if version.Format == Format2 {
		return content, content.lenient(data)
	}
	err := canon.Unmarshal(data, &content)
	if err == nil && content.Needs != nil {
		err = errors.New("format 1 needs nothing")
	}
	if err != nil {
		return DocumentContent{}, fmt.Errorf("environment document: %w: %w", ErrDamaged, err)
	}

	return content, nil
}

// knownNeeds are what documents of format 2 may need of this program.
var knownNeeds = []string{}

// lenient reads a document of format 2: what it says
// besides is passed over, unless it needs it.
func (d *DocumentContent) lenient(data []byte) error {
	if err := canon.Check(data); err != nil {
		return fmt.Errorf("environment document: %w: %w", ErrDamaged, err)
	}
	if err := json.Unmarshal(data, d); err != nil {
		return fmt.Errorf("environment document: %w: %w", ErrDamaged, err)
	}

	for _, need := range d.Needs {
		if !slices.Contains(knownNeeds, need) {
			return fmt.Errorf("environment document: %w: it needs %q", ErrUnknown, need)
		}
	}
	return nil
}
