// Package dictionary knows what visitors who come again have already, and how that is told
// (RFC 9842): of a script or a style sheet that never changes, an earlier version is the
// dictionary of the next; of pages, what they have in common.
//
//	assets/index-4-jA9vrI.js    Use-As-Dictionary: match="/assets/index-*.js",
//	                              id="r-0f3a9c2b11/4-jA9vrI"
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

// idMost is how long an id of ours may be, with quotes; RFC 9842, section 2.1.3, has 1024.
const idMost = 128

// folder is where, below the path of a site, the dictionaries of its pages are.
const folder = "/.orilla/dictionary/"

// Name is by what an address names a dictionary of pages: half of its digest, in hexadecimal
// digits. Each of its pages says it, and it is compared with what is known only.
func Name(d digest.Digest) string { return d.String()[:len(d)] }

// PagePath is the path of a dictionary of pages below that of its site. It names its content,
// so that it may be kept for ever.
func PagePath(d digest.Digest) string { return folder + Name(d) }

// ParsePagePath returns the name of the dictionary of pages that a path means; false for any
// other path.
func ParsePagePath(path string) (name string, ok bool) {
	name, ok = strings.CutPrefix(path, folder)
	return name, ok && len(name) == len(digest.Digest{}) && strings.Trim(name, "0123456789abcdef") == ""
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

// UseAs is the value of Use-As-Dictionary (RFC 9842, section 2.1) of a file of a release at
// a path, or of the pages of the release where path is ""; false if it would not fit. What
// is no release yet has no id.
func UseAs(match string, id release.ID, path string) (string, bool) {
	if id.IsZero() {
		return `match="` + match + `"`, true
	}
	if path == "" {
		return `match="` + match + `", match-dest=("document" ""), id="` + id.Short() + `"`, true
	}
	before, behind, _ := fingerprint.Family(path)
	text := id.Short() + "/" + path[len(before):len(path)-len(behind)]
	return `match="` + match + `", id="` + text + `"`, len(text) <= idMost
}

// Link is the value of the Link field that has a browser fetch a dictionary of pages.
func Link(base string, d digest.Digest) string { return "<" + base + PagePath(d) + ">" + linkEnd }

// linkEnd is how the value of Link ends.
const linkEnd = `; rel="compression-dictionary"`

// IsLink reports whether a value of Link is one of a dictionary of pages.
func IsLink(value string) bool { return strings.HasSuffix(value, linkEnd) }

// WithoutID is a value of Use-As-Dictionary without what is different in each release.
func WithoutID(value string) string {
	value, _, _ = strings.Cut(value, `, id="`)
	return value
}

// Offer is what a client says that it has (RFC 9842, sections 2.2 and 2.3).
type Offer struct {
	Digest  digest.Digest
	Release string // its first digits; "" if the id is not one of ours
	Mark    string // the digest in the name of the file; "" of pages
}

// Path is the path of what is offered, if it is another version of the file at a path.
func (o Offer) Path(of string) (string, bool) {
	before, behind, ok := fingerprint.Family(of)
	return before + o.Mark + behind, ok && o.Mark != ""
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
	if !ok || len(id) > idMost || !strings.HasSuffix(text, `"`) {
		return offer, true
	}
	digits, mark, file := strings.Cut(strings.TrimSuffix(text, `"`), "/")
	const short = 10 // digits
	if file == (mark != "") && len(digits) == short && strings.Trim(digits, "0123456789abcdef") == "" &&
		plain(mark) && !strings.ContainsAny(mark, "/.") {
		offer.Release, offer.Mark = digits, mark
	}
	return offer, true
}

// Is reports whether a file may become one: a script or a style sheet that is large enough.
func Is(file release.File) bool {
	class := media.ClassOf(file.Path)
	return (class == media.Script || class == media.Style) && file.Size >= Least && len(file.Parts) == 0
}
