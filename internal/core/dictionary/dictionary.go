// Package dictionary knows what visitors who come again have already, and how that is told
// (RFC 9842): of a script or a style sheet that never changes, an earlier version is the
// dictionary of the next; of pages, what they have in common.
//
//	assets/index-4-jA9vrI.js    Use-As-Dictionary: match="/assets/index-*.js",
//	                              id="r-0f3a9c2b11/assets/index-4-jA9vrI.js"
//	a page                      Link: </.orilla/dictionary/5f3a…>; rel="compression-dictionary"
//
// A browser sends both back with what it asks for next: the digest, by which what it has is
// known, and the id, which says where to find it. So nothing has to be kept, and no node
// needs to know what another one sent.
package dictionary

import (
	"encoding/base64"
	"strings"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fingerprint"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Least is the size, in bytes, from which on the fields cost less than they save.
const Least = 4096

// idMost is how long an id may be (RFC 9842, section 2.1.3).
const idMost = 1024

// folder is where, below the path of a site, the dictionaries of its pages are.
const folder = "/.orilla/dictionary/"

// PagePath is the path of a dictionary of pages below that of its site. It names its content,
// so that it may be kept for ever.
func PagePath(d digest.Digest) string { return folder + d.String() }

// ParsePagePath returns which dictionary of pages a path means; false for any other path.
func ParsePagePath(path string) (digest.Digest, bool) {
	text, ok := strings.CutPrefix(path, folder)
	if !ok {
		return digest.Digest{}, false
	}
	d, err := digest.Parse(text)
	return d, err == nil
}

// Match is the pattern of the addresses at which later versions of a file will be, below
// the base path of its site; false for a file whose name tells none, or has characters that
// mean something else in a pattern (URL Pattern, WHATWG).
func Match(base, path string) (string, bool) {
	before, behind, ok := fingerprint.Family(path)
	if !ok || !plain(base) || !plain(path) {
		return "", false
	}
	return base + "/" + before + "*" + behind, true
}

// OfPages is the pattern of the addresses of pages.
func OfPages(base string) (string, bool) { return base + "/*", plain(base) }

// plain reports whether a path is in a pattern, in a string of a structured field, and
// escaped in an address, what it is here.
func plain(path string) bool {
	return !strings.ContainsFunc(path, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') &&
			!strings.ContainsRune("/-._~@", c)
	})
}

// Same reports whether two files are versions of one script or style sheet, by their paths.
func Same(a, b string) bool {
	before, behind, ok := fingerprint.Family(a)
	otherBefore, otherBehind, other := fingerprint.Family(b)
	return ok && other && before == otherBefore && behind == otherBehind
}

// UseAs is the value of Use-As-Dictionary (RFC 9842, section 2.1) of a file of a release at
// a path, or of the pages of the release where path is ""; false if it would not fit. What
// is no release yet has no id.
func UseAs(match string, id release.ID, path string) (string, bool) {
	if id.IsZero() {
		return `match="` + match + `"`, true
	}
	text := ID(id, path)
	if path == "" {
		return `match="` + match + `", match-dest=("document"), id="` + text + `"`, len(text) <= idMost
	}
	return `match="` + match + `", id="` + text + `"`, len(text) <= idMost
}

// ID says where a dictionary is from: a release, and a file of it; none of its pages.
func ID(id release.ID, path string) string {
	if path == "" {
		return id.Short()
	}
	return id.Short() + "/" + path
}

// Offer is what a client says that it has (RFC 9842, sections 2.2 and 2.3).
type Offer struct {
	Digest  digest.Digest
	Release string // its first digits; "" if the id is not one of ours
	Path    string // of the file; "" of pages
}

// Offered reads the fields Available-Dictionary and Dictionary-ID. It returns false where
// nothing is offered that could be known here. Both are from strangers: they are compared
// with what there is, and decide nothing else.
func Offered(available, id string) (Offer, bool) {
	const length = len(":") + 44 + len(":") // of 32 bytes in base64
	if len(available) != length || available[0] != ':' || available[length-1] != ':' {
		return Offer{}, false
	}
	sum, err := base64.StdEncoding.Strict().DecodeString(available[1 : length-1])
	if err != nil || len(sum) != len(digest.Digest{}) {
		return Offer{}, false
	}
	offer := Offer{Digest: digest.Digest(sum)}
	text, ok := strings.CutPrefix(id, `"r-`)
	if !ok || len(id) > idMost+2 || !strings.HasSuffix(text, `"`) {
		return offer, true
	}
	digits, path, file := strings.Cut(strings.TrimSuffix(text, `"`), "/")
	const short = 10 // digits
	if file == (path != "") && len(digits) == short && strings.Trim(digits, "0123456789abcdef") == "" &&
		plain(path) {
		offer.Release, offer.Path = digits, path
	}
	return offer, true
}

// Is reports whether a file may become one: a script or a style sheet that is large enough.
func Is(file release.File) bool {
	class := media.ClassOf(file.Path)
	return (class == media.Script || class == media.Style) && file.Size >= Least && len(file.Parts) == 0
}
