// Package coding knows the content codings in which answers may travel (RFC 9110, section
// 8.4.1): what gains by them, which a client takes, and how variants are made and proved.
//
//	coding.Accepted("gzip, deflate, br, zstd")   // br, zstd, gzip: the best first
//	coding.Gains("text/css; charset=utf-8", size) // true
//	data, err := coding.Encode(coding.Brotli, coding.Best, css)
//	err = coding.Verify(coding.Brotli, data, digest.Of(css), int64(len(css)))
//
// A variant is an encoded copy of one object. Its name says which object and which coding,
// and not which bytes: another program, or another version of a library, makes others that
// mean the same. So nothing relies on a variant before it was decoded and its source's
// digest was found.
package coding

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/digest"
)

// Coding is a content coding.
type Coding uint8

// The codings that are made, those first that make text the smallest.
const (
	Identity Coding = iota // none
	Brotli                 // RFC 7932
	Zstd                   // RFC 8878, RFC 9659
	Gzip                   // RFC 1952
)

// All are the codings that are made.
var All = []Coding{Brotli, Zstd, Gzip}

// names are the codings as they stand in Content-Encoding, and in keys.
var names = [...]string{Identity: "identity", Brotli: "br", Zstd: "zstd", Gzip: "gzip", Dictionary: "dcz"}

// String is the name of a coding in header fields.
func (c Coding) String() string { return names[c] }

// Parse returns the coding of a name; false for one that is not made. Names are compared
// without regard to case, and x-gzip is gzip (RFC 9110, section 8.4.1.3).
func Parse(name string) (Coding, bool) {
	for c, own := range names[:Dictionary] {
		if strings.EqualFold(name, own) {
			return Coding(c), true
		}
	}
	return Gzip, strings.EqualFold(name, "x-gzip")
}

// Folder is where variants lie in a store.
const Folder = "variants"

// Key is where the variant of an object lies in a store:
// variants/<first two digits>/<all 64 digits>.<coding>.
func Key(d digest.Digest, c Coding) string {
	text := d.String()
	return Folder + "/" + text[:2] + "/" + text + "." + c.String()
}

// FromKey returns what a key of a store is a variant of; false for any other key.
func FromKey(key string) (digest.Digest, Coding, bool) {
	name, extension, _ := strings.Cut(key[strings.LastIndexByte(key, '/')+1:], ".")
	d, err := digest.Parse(name)
	c, ok := Parse(extension)
	if err != nil || !ok || Key(d, c) != key {
		return digest.Digest{}, Identity, false
	}
	return d, c, true
}

// The sizes, in bytes, of content that is encoded: less gains nothing against the fields
// that say so; more is kept in parts.
const (
	Least = 256
	Most  = 8 << 20
)

// types are the media types besides text/ of which content gains.
var types = []string{
	"application/javascript", "application/wasm", "application/xml", "application/yaml", "application/toml",
	"application/x-javascript", "application/x-subrip", "application/x-pem-file", "application/pgp-signature",
	"application/rtf", "application/vnd.ms-fontobject", "font/ttf", "font/otf", "image/svg+xml", "image/bmp",
	"image/vnd.microsoft.icon", "image/x-icon", "model/obj", "model/gltf+json", "model/stl",
}

// Gains reports whether content of a media type and size is worth encoding: text and
// what is like it. Pictures, films, archives and woff2 are compressed already.
func Gains(mediaType string, size int64) bool {
	if size < Least || size > Most {
		return false
	}
	mediaType, _, _ = strings.Cut(mediaType, ";")
	mediaType = strings.TrimSpace(mediaType)
	return strings.HasPrefix(mediaType, "text/") || strings.HasSuffix(mediaType, "json") ||
		strings.HasSuffix(mediaType, "+xml") || slices.Contains(types, mediaType)
}

// usual are the values of Accept-Encoding that browsers and common tools send. Nearly
// every request has one of them.
var usual = map[string][]Coding{
	"":                        nil,
	"identity":                nil,
	"gzip":                    {Gzip},
	"gzip, deflate":           {Gzip},
	"gzip, deflate, br":       {Brotli, Gzip},
	"gzip, deflate, br, zstd": {Brotli, Zstd, Gzip},
	"deflate, gzip, br, zstd": {Brotli, Zstd, Gzip},
	// from whoever has a dictionary, see AcceptsDictionary
	"gzip, deflate, br, zstd, dcb, dcz": {Brotli, Zstd, Gzip},
}

// Set is a set of codings, in the order in which they are preferred where it is a usual one.
type Set uint8

// Usual returns the codings of a value of Accept-Encoding that is among those that browsers
// and common tools send; false for others.
func Usual(fields string) (set Set, ok bool) {
	list, ok := usual[fields]
	for _, c := range list {
		set |= 1 << c
	}
	return set, ok
}

// Accepted lists the codings that a client takes, of those that are made, in the order
// in which it prefers them, and of those that it takes alike the smallest first. fields is
// the value of Accept-Encoding (RFC 9110, section 12.5.3), lines joined by commas. What it
// would rather not have than no coding at all is left out; so is all of a field that
// says nothing that can be understood.
//
// The caller must not change the result.
func Accepted(fields string) []Coding {
	if known, ok := usual[fields]; ok {
		return known
	}
	const unsaid = -1
	var quality [len(names)]float64
	for c := range quality {
		quality[c] = unsaid
	}
	others := float64(unsaid)
	for element := range strings.SplitSeq(fields, ",") {
		name, parameters, _ := strings.Cut(element, ";")
		q, ok := weight(parameters)
		if name = strings.TrimSpace(name); !ok {
			continue
		}
		if name == "*" {
			others = q
		} else if c, ok := Parse(name); ok {
			quality[c] = q
		}
	}

	// "*" stands for what is not named. No coding is always taken, but comes first only for
	// whoever names it.
	var list []Coding
	for _, c := range All {
		if quality[c] == unsaid {
			quality[c] = others
		}
		if quality[c] > 0 && quality[c] >= quality[Identity] {
			list = append(list, c)
		}
	}
	slices.SortStableFunc(list, func(a, b Coding) int { return cmp.Compare(quality[b], quality[a]) })
	return list
}

// weight reads the parameters of an element: none, or q=0 to q=1 with three decimals
// (RFC 9110, section 12.4.2).
func weight(parameters string) (float64, bool) {
	parameters = strings.TrimSpace(parameters)
	if parameters == "" {
		return 1, true
	}
	name, value, ok := strings.Cut(parameters, "=")
	if !ok || !strings.EqualFold(strings.TrimSpace(name), "q") {
		return 0, false
	}
	const longest = len("0.123")
	value = strings.TrimSpace(value)
	if len(value) > longest || strings.Trim(value, "0123456789.") != "" {
		return 0, false
	}
	q, err := strconv.ParseFloat(value, 64)
	return q, err == nil && q <= 1
}
