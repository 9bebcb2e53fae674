package answer

import (
	"net/http"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/text/unicode/norm"

	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// path is the path of a request, split and decoded.
type path struct {
	names    []string // decoded once, NFC, none empty
	slash    bool     // it ends in a slash (or is the root)
	repeated bool     // it had slashes in a row
	findable bool     // no segment holds a slash, so a file can have this path
}

func (p path) name() string { return strings.Join(p.names, "/") }

// split takes the base path off and decodes each segment once. What cannot be understood is refused with an answer.
func split(req Request) (path, *Answer) {
	if len(req.Path) > MaxPath {
		answer := text(http.StatusRequestURITooLong, ByRequest, "The address is too long.")
		return path{}, &answer
	}
	rest, ok := strings.CutPrefix(req.Path, req.Base)
	if !ok || rest == "" || rest[0] != '/' {
		if ok && rest == "" {
			answer := redirect(req, nil, true)
			return path{}, &answer
		}
		answer := text(http.StatusNotFound, ByMissing, "There is no site at this path; it begins at "+req.Base+"/.")
		return path{}, &answer
	}
	p := path{findable: true}
	segments := strings.Split(rest[1:], "/")
	for i, segment := range segments {
		last := i == len(segments)-1
		if segment == "" {
			p.slash = p.slash || last
			p.repeated = p.repeated || !last
			continue
		}
		name, why := decode(segment)
		if why != "" {
			answer := text(http.StatusBadRequest, ByRequest, "The address "+why+".")
			return path{}, &answer
		}
		p.findable = p.findable && !strings.Contains(name, "/")
		p.names = append(p.names, name)
	}
	return p, nil
}

// decode unescapes one segment. why is set for one that no address of a site has.
func decode(segment string) (name, why string) {
	name, err := url.PathUnescape(segment)
	switch {
	case err != nil:
		return "", "has a broken escape"
	case !utf8.ValidString(name):
		return "", "is not UTF-8"
	case name == "." || name == "..":
		return "", "has a dot segment"
	}
	for _, c := range name {
		if c < ' ' || c == 0x7f {
			return "", "has a control character"
		}
	}
	return norm.NFC.String(name), ""
}

// unescaped has the bytes besides letters and digits that a segment of a Location shows as they are: pchar of RFC 3986
// without the percent sign.
const unescaped = "-._~!$&'()*+,;=:@"

// encode writes segments as the path of a Location. It begins with exactly one slash, and no slash or backslash follows that.
func encode(names []string, slash bool) string {
	var out strings.Builder
	for _, name := range names {
		out.WriteByte('/')
		for i := range len(name) {
			c := name[i]
			if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(unescaped, c) >= 0 {
				out.WriteByte(c)
				continue
			}
			out.WriteByte('%')
			out.WriteByte("0123456789ABCDEF"[c>>4])
			out.WriteByte("0123456789ABCDEF"[c&15])
		}
	}
	if slash || len(names) == 0 {
		out.WriteByte('/')
	}
	return out.String()
}

// Address returns the escaped path at which a visitor opens the file at name: the one address of a page, or the file itself.
func Address(name string) string {
	names, slash, _ := address(strings.Split(name, "/"))
	return encode(names, slash)
}

// Immutable reports whether the file at name is sent as one that never changes: its name tells its content, by the rule of
// media.Fingerprinted or by the site's own globs, of which plain has the last word.
func Immutable(name string, settings release.Settings) bool {
	switch {
	case matches(settings.Plain, name):
		return false
	case matches(settings.Fingerprinted, name):
		return true
	}
	return media.Fingerprinted(name)
}

func matches(globs []string, name string) bool {
	for _, glob := range globs {
		if doublestar.MatchUnvalidated(glob, name) {
			return true
		}
	}
	return false
}
