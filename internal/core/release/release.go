// Package release is the immutable content of one site: which file is at which
// path, by which rules, and how pages are served.
//
// A release is a small Merkle tree. Its files, sorted by path, are written one
// a line into chunks; its root lists the chunks and the settings. The SHA-256
// of the root is the release's id, so equal content has an equal id wherever,
// whenever and from whichever commit it was made.
//
//	root      {"bytes":1300000,"chunks":[["404.html","style.css","5f3a…",48]],"files":48,
//	           "format":1,"semantics":1}
//	chunk     ["404.html","0b77…",812,"text/html; charset=utf-8"]
//	          ["about/index.html","c9e1…",2210,"text/html; charset=utf-8"]
//
// docs/store-format.md has the details.
package release

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
)

// Format is the version of the record layout. Semantics are the versions of how
// a URL is answered (docs/answers.md): new releases are given the second, or
// the third if they list files that the second would not carry over. A reader
// that does not know a version refuses the release.
const (
	Format     = 1
	Semantics1 = 1
	Semantics2 = 2
	Semantics3 = 3
)

// PartSize is the length of each part but the last of a
// file that is too long for one object: 8 MiB.
const PartSize = 8 << 20

// Errors that callers decide on.
var (
	// ErrUnknown: the record was made by a version of
	// Orilla with other formats or semantics.
	ErrUnknown = errors.New("made by another version of Orilla")
	// ErrDamaged: the bytes are not what their name or their form says.
	ErrDamaged = errors.New("damaged")
)

// ID is the SHA-256 of a release's root. It is a type of its own, so that it is
// not taken for the digest of an object.
type ID digest.Digest

// ParseID reads the 64 hexadecimal digits of an id, with
// or without the prefix "r-".
//
// It takes whole ids only; what people abbreviate is found by listing.
func ParseID(text string) (ID, error) {
	d, err := digest.Parse(strings.TrimPrefix(text, "r-"))
	return ID(d), err
}

// String returns the 64 hexadecimal digits.
func (id ID) String() string { return digest.Digest(id).String() }

// Short returns the form that people read and type: "r-" and ten digits.
//
// Ten digits are enough to tell the releases of a store from each other, and
// too few to be relied on as a hash.
func (id ID) Short() string { return "r-" + id.String()[:10] }

// IsZero reports whether id was never set.
func (id ID) IsZero() bool { return id == ID{} }

// MarshalText gives the 64 digits, or nothing for an unset id.
func (id ID) MarshalText() ([]byte, error) { return digest.Digest(id).MarshalText() }

// UnmarshalText reads what MarshalText wrote.
func (id *ID) UnmarshalText(text []byte) error { return (*digest.Digest)(id).UnmarshalText(text) }

// File is one file of a release.
type File struct {
	Path   string          // slash-separated, no leading slash, Unicode NFC
	Digest digest.Digest   // of the whole content
	Size   int64           // in bytes
	Type   string          // the value of Content-Type
	Parts  []digest.Digest // of each PartSize bytes, for content longer than that
}

// Objects lists the objects that hold the content: the parts, or the one whole.
func (f File) Objects() []digest.Digest {
	if len(f.Parts) > 0 {
		return f.Parts
	}
	return []digest.Digest{f.Digest}
}

// PartLength is the size in bytes of the i-th object of the file.
func (f File) PartLength(i int) int64 {
	if len(f.Parts) == 0 {
		return f.Size
	}
	return min(PartSize, f.Size-int64(i)*PartSize)
}

// Settings is what a site's configuration says about the
// answers of all its pages. A value equal to the default
// of the semantics is left out of the record.
type Settings struct {
	// OneAddress redirects /a.html and /a/index.html to the page's one address.
	OneAddress bool `json:"one_address,omitempty"`
	// KeepAssets is for how many seconds fingerprinted assets of earlier
	// releases go on being answered; nil means a day.
	KeepAssets *int64 `json:"keep_assets,omitempty"`
	// Fingerprinted and Plain are globs that say which files are, and are not,
	// fingerprinted, whatever their names: when the release is made, or, of
	// semantics 1, when a request is answered.
	Fingerprinted []string `json:"fingerprinted,omitempty"`
	Plain         []string `json:"plain,omitempty"`
	// Languages are those that the site has, the first the
	// default; rules may ask for them.
	Languages []string `json:"languages,omitempty"`
}

// DefaultKeepAssets is how many seconds assets of earlier releases are kept
// when Settings does not say.
const DefaultKeepAssets = 24 * 60 * 60

// AssetSeconds is KeepAssets with its default.
func (s Settings) AssetSeconds() int64 {
	if s.KeepAssets == nil {
		return DefaultKeepAssets
	}
	return *s.KeepAssets
}

// Root is the record that a release consists of, besides
// the chunks that it names.
type Root struct {
	Format    int      `json:"format"`
	Semantics int      `json:"semantics"`
	Files     int64    `json:"files"`           // how many
	Bytes     int64    `json:"bytes"`           // their sizes added up
	Depth     int      `json:"depth,omitempty"` // levels of chunks between this list and the chunks of files
	Chunks    []Ref    `json:"chunks"`
	Rules     *RuleSet `json:"rules,omitempty"` // nil for none
	// Immutable names the files whose content never changes at their address:
	// from semantics 2 on. It is kept as rules are, as JSON strings of their
	// paths, one a line, in order.
	Immutable *RuleSet `json:"immutable,omitempty"`
	Settings  Settings `json:"settings,omitzero"`
}

// Objects lists the objects that a root names besides its chunks.
func (r Root) Objects() []digest.Digest { return append(r.Rules.Objects(), r.Immutable.Objects()...) }

// RuleSet names the objects that hold the normalised rules, of which
// docs/store-format.md says how they are written.
type RuleSet struct {
	Count  int64           `json:"count"`
	Digest digest.Digest   `json:"digest"` // of all the bytes
	Size   int64           `json:"size"`   // in bytes
	Parts  []digest.Digest `json:"parts,omitempty"`
}

// Objects lists the objects that hold the rules, in order.
func (r *RuleSet) Objects() []digest.Digest {
	if r == nil {
		return nil
	}
	return File{Digest: r.Digest, Parts: r.Parts}.Objects()
}

// CutRules returns the record of count rules whose normalised form is data, and
// the objects that hold it. No rules have no record.
func CutRules(count int, data []byte) (*RuleSet, []Chunk) {
	if count == 0 {
		return nil, nil
	}
	set := &RuleSet{Count: int64(count), Digest: digest.Of(data), Size: int64(len(data))}
	if len(data) <= PartSize {
		return set, []Chunk{{set.Digest, data}}
	}

	var chunks []Chunk
	for part := range slices.Chunk(data, PartSize) {
		chunks = append(chunks, Chunk{digest.Of(part), part})
		set.Parts = append(set.Parts, digest.Of(part))
	}
	return set, chunks
}

// Ref names a chunk. Its record is the array [first path, last path, digest,
// number of files below it]. The last path is there so that a path that lies
// between two chunks is known to be missing without loading either.
type Ref struct {
	First, Last string
	Digest      digest.Digest
	Files       int64
}

// MarshalJSON writes the array.
func (r Ref) MarshalJSON() ([]byte, error) { return r.appendLine(nil), nil }

// UnmarshalJSON reads the array.
func (r *Ref) UnmarshalJSON(data []byte) error {
	var fields []json.RawMessage
	if err := json.Unmarshal(data, &fields); err != nil {
		return err
	}
	if len(fields) != 4 {
		return fmt.Errorf("a reference to a chunk has 4 fields, not %d", len(fields))
	}

	return errors.Join(json.Unmarshal(fields[0], &r.First), json.Unmarshal(fields[1], &r.Last),
		json.Unmarshal(fields[2], &r.Digest),
		json.Unmarshal(fields[3], &r.Files))
}

// appendLine appends a reference as it stands in a root or chunk, in the
// canonical form of JSON.
func (r Ref) appendLine(out []byte) []byte {
	out = canon.AppendString(append(out, '['), r.First)
	out = canon.AppendString(append(out, ','), r.Last)
	return fmt.Appendf(out, `,"%s",%d]`, r.Digest, r.Files)
}

// Encode returns the root's bytes, and the id that they give the release.
func (r Root) Encode() ([]byte, ID, error) {
	data, err := canon.Marshal(r)
	return data, ID(digest.Of(data)), err
}

// DecodeRoot reads a root. The error is ErrDamaged if the bytes do not hash to
// id or do not parse, ErrUnknown if they are of another version.
//
// The id is compared before anything is parsed, so no parser ever sees bytes
// that nobody has vouched for.
func DecodeRoot(data []byte, id ID) (Root, error) {
	if ID(digest.Of(data)) != id {
		return Root{}, fmt.Errorf("release %s: %w: its bytes have another hash", id.Short(), ErrDamaged)
	}
	var version struct{ Format, Semantics int }
	if err := json.Unmarshal(data, &version); err != nil {
		return Root{}, fmt.Errorf("release %s: %w: %w", id.Short(), ErrDamaged, err)
	}

	if version.Format != Format || version.Semantics < Semantics1 || version.Semantics > Semantics3 {
		return Root{}, fmt.Errorf("release %s: %w (format %d, semantics %d)", id.Short(), ErrUnknown,
			version.Format, version.Semantics)
	}
	var root Root
	if err := canon.Unmarshal(bytes.Clone(data), &root); err != nil {
		return Root{}, fmt.Errorf("release %s: %w: %w", id.Short(), ErrDamaged, err)
	}

	if root.Immutable != nil && root.Semantics < Semantics2 {
		return Root{}, fmt.Errorf("release %s: %w: semantics %d has no list of immutable files", id.Short(),
			ErrDamaged, root.Semantics)
	}
	for what, set := range map[string]*RuleSet{"rules": root.Rules, "immutable files": root.Immutable} {
		if set == nil {
			continue
		}
		if err := checkParts(File{Path: what, Digest: set.Digest, Size: set.Size,
			Parts: set.Parts}); err != nil || set.Count < 1 {
			return Root{}, fmt.Errorf("release %s: %w: its %s: %w", id.Short(), ErrDamaged, what,
				canon.Cause(err))
		}
	}

	return root, nil
}
