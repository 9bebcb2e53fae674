// Package address reads and writes the part of a URL behind the host: the
// segments of a path, each decoded once, and the parameters of a query. It follows
// RFC 3986; names are in Unicode normal form C everywhere.
//
//	p, _, err := address.Split("/quays/t%C3%B3rshavn/")
//	// p.Names is ["quays" "tórshavn"], p.Slash is true
//	p.String() // "/quays/t%C3%B3rshavn/"
//
// A Path is split before it is decoded, and never put together again before it is
// encoded, so that an escaped slash stays inside its segment:
//
//	/a%2Fb    one segment, "a/b"
//	/a/b      two segments
//	//a       one segment; repeated is true, and the caller redirects
//	/a/%2e./  ErrDot, however it is spelled
//	/a/%zz    ErrEscape
//
// A query keeps the spelling in which it was sent: what a rule does not take out
// of it reaches the target byte for byte.
package address

import (
	"errors"
	"net/url"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Path is a path that was split at its slashes.
type Path struct {
	Names []string // decoded, NFC, none empty
	Slash bool     // it ends in a slash, or is the root
}

// Name joins the segments to the name that a file at this path would have.
func (p Path) Name() string { return strings.Join(p.Names, "/") }

// String writes the path escaped.
func (p Path) String() string { return Encode(p.Names, p.Slash) }

// What keeps a text from being a path.
var (
	ErrEscape  = errors.New("has a broken escape")
	ErrUTF8    = errors.New("is not UTF-8")
	ErrDot     = errors.New("has a dot segment")
	ErrControl = errors.New("has a control character")
)

// Split decodes an escaped path that begins with a slash. repeated tells that
// it had several slashes in a row, which are taken as one.
func Split(escaped string) (p Path, repeated bool, err error) {
	rest := strings.TrimPrefix(escaped, "/")
	if n := strings.Count(rest, "/"); n > 0 || rest != "" {
		p.Names = make([]string, 0, n+1)
	}
	for {
		segment, after, more := strings.Cut(rest, "/")
		if segment == "" {
			p.Slash = p.Slash || !more
			repeated = repeated || more
		} else {
			name, err := Decode(segment)
			if err != nil {
				return Path{}, false, err
			}
			p.Names = append(p.Names, name)
		}

		if !more {
			return p, repeated, nil
		}
		rest = after
	}
}

// Decode unescapes one segment, once.
func Decode(segment string) (string, error) {
	name, plain := segment, true
	for i := range len(segment) {
		if c := segment[i]; c == '%' || c < ' ' || c >= 0x7f {
			plain = false
			break
		}
	}

	if !plain {
		var err error
		if name, err = url.PathUnescape(segment); err != nil {
			return "", ErrEscape
		}
		if !utf8.ValidString(name) {
			return "", ErrUTF8
		}

		if HasControl(name) {
			return "", ErrControl
		}
		name = norm.NFC.String(name)
	}

	if isDot(name) {
		return "", ErrDot
	}
	return name, nil
}

// isDot reports whether a decoded segment is a dot segment,
// also with parameters (RFC 3986, section 3.3): some servers
// that requests are passed on to take "..;x" for "..".
func isDot(name string) bool {
	name, _, _ = strings.Cut(name, ";")
	return name == "." || name == ".."
}

// HasControl reports whether a text has a control character of ASCII.
func HasControl(text string) bool {
	return strings.ContainsFunc(text, func(c rune) bool { return c < ' ' || c == 0x7f })
}

// Climbs reports whether a decoded value is or holds a dot segment, with
// slashes of either kind: put into a path, it could lead elsewhere.
func Climbs(value string) bool {
	if !strings.Contains(value, "..") && value != "." && !strings.Contains(value, "./") &&
		!strings.Contains(value, "/.") &&
		!strings.Contains(value, `.\`) && !strings.Contains(value, `\.`) {
		return false
	}

	for segment := range strings.FieldsFuncSeq(value, func(c rune) bool { return c == '/' || c == '\\' }) {
		if isDot(segment) {
			return true
		}
	}
	return false
}

const (
	// inSegment has the bytes besides letters and digits that a segment shows
	// as they are: pchar of RFC 3986 without the percent sign.
	inSegment = "-._~!$&'()*+,;=:@"
	// inValue has those of a name or value in a query: what neither divides
	// parameters nor stands for a blank.
	inValue = "-._~!$'()*,;:@/"
	// inFragment has those of a fragment.
	inFragment = inSegment + "/?"
)

// appendEscaped appends text with every byte escaped (RFC 3986, section 2.1)
// that is neither a letter, a digit nor one of plain. Escapes are written in
// capitals, as section 6.2.2.1 recommends, so that equal paths have one
// spelling.
func appendEscaped(out []byte, text, plain string) []byte {
	for i := range len(text) {
		c := text[i]
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
			strings.IndexByte(plain, c) >= 0 {
			out = append(out, c)
			continue
		}
		out = append(out, '%', "0123456789ABCDEF"[c>>4], "0123456789ABCDEF"[c&15])
	}
	return out
}

// Encode writes segments as an escaped path. It begins with exactly one slash,
// and no slash or backslash follows that.
func Encode(names []string, slash bool) string {
	var out []byte
	for _, name := range names {
		out = appendEscaped(append(out, '/'), name, inSegment)
	}
	if slash || len(names) == 0 {
		out = append(out, '/')
	}
	return string(out)
}

// EncodeSegment writes one segment.
func EncodeSegment(name string) string { return string(appendEscaped(nil, name, inSegment)) }

// EncodeValue writes a name or a value of a query.
func EncodeValue(value string) string { return string(appendEscaped(nil, value, inValue)) }

// EncodeFragment writes a part of a fragment.
func EncodeFragment(text string) string { return string(appendEscaped(nil, text, inFragment)) }

// OfFile returns the address of the file at name: the one address of a page, or
// the path itself. other tells that the address is not the file's own name.
func OfFile(names []string) (p Path, other bool) {
	last := names[len(names)-1]
	if last == "index.html" {
		return Path{names[:len(names)-1], true}, true
	}
	if stem, ok := strings.CutSuffix(last, ".html"); ok && stem != "" {
		return Path{append(append(make([]string, 0, len(names)), names[:len(names)-1]...), stem), false}, true
	}
	return Path{names, false}, false
}
