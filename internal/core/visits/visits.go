// Package visits is what an edge node notes of each request: one record, written as a line of
// the combined log format or as a line of JSON, without what is nobody's business.
//
//	203.0.113.0 - - [01/Nov/2026:12:00:00 +0000] "GET /fares HTTP/2.0" 200 5120 "-" "Mozilla/5.0 …"
//
// Who asked is shortened to a network, so that a line names no person: IPv4 addresses to /24,
// IPv6 addresses to /48. Links that open what is behind a password, and queries that are
// passed on to others, are secrets of their owners, and masked in what was asked and in where
// it came from.
package visits

import (
	"cmp"
	"net/netip"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"orilla.example/orilla/internal/core/access"
)

// Visit is one request, and what came of it.
type Visit struct {
	Time   time.Time
	Took   time.Duration
	Client netip.Addr // unset if it is not known
	ID     string     // by which the request is found in other logs
	Secure bool       // the visitor came over TLS

	Method   string
	Host     string
	Path     string // escaped, as it came
	Query    string // without "?"
	Protocol string // HTTP/1.1
	Referrer string
	Fetch    string // Sec-Fetch-Site (Fetch Metadata): what the browser says of who asks
	Agent    string

	Status int   // 0 for a connection that ended without an answer
	Bytes  int64 // of content, as they were sent
	// Encoding is how content was sent; "identity" for as it is, "" without content.
	Encoding string

	Site        string
	Environment string // as people write it
	Entry       int64
	By          By
	Cache       Cache
	Proxied     bool   // the query went on to somebody else
	Upstream    string // to whom: a name of orilla.yaml, or the origin that a rule names
}

// By is what answered.
type By string

// What answers.
const (
	ByFile     By = "file"
	ByFallback By = "fallback" // a page for what has no file of its own
	ByRedirect By = "redirect"
	ByProxy    By = "proxy" // an upstream
	ByRule     By = "rule"  // a status that a rule says
	BySettings By = "settings"
	ByMissing  By = "missing"
	ByMethod   By = "method" // only reading is answered
	ByAccess   By = "access" // who may not look, or a link that opens
	ByNode     By = "node"   // the node itself: health, pages of its own, a host that no site has
	ByRefusal  By = "refusal"
	ByTrouble  By = "trouble" // what should have been answered could not be read
)

// Cache is where content came from.
type Cache string

// Where content comes from.
const (
	NoContent Cache = ""
	Hit       Cache = "hit"  // from memory
	Miss      Cache = "miss" // from the node's disk, or the store
)

// Form is how visits are written.
type Form string

// The forms.
const (
	Combined Form = "combined" // as most servers write it
	JSON     Form = "json"     // JSON Lines: an object a line
)

// Writing says how a visit is written.
type Writing struct {
	Form Form
	// Whole writes addresses of visitors whole.
	Whole bool
}

// The networks that addresses are shortened to.
const (
	bits4 = 24
	bits6 = 48
)

// Shorten returns the network of an address, as its first address.
func Shorten(address netip.Addr) netip.Addr {
	address = address.Unmap().WithZone("")
	bits := bits6
	if address.Is4() {
		bits = bits4
	}
	network, err := address.Prefix(bits)
	if err != nil {
		return netip.Addr{}
	}
	return network.Addr()
}

// masked stands for what is not written.
const masked = "…"

// Mask takes secrets out of a path: what follows access.LinkPath opens something.
func Mask(path string) string {
	before, rest, found := strings.Cut(path, access.LinkPath)
	if !found {
		return path
	}
	_, after, more := strings.Cut(rest, "/")
	if !more {
		return before + access.LinkPath + masked
	}
	return before + access.LinkPath + masked + Mask("/"+after)
}

// Texts are given in parts, and written one after the other: nothing is put together before.

// target is the path, a question mark, and the query, as they are written.
func (v *Visit) target() (path, mark, query string) {
	path = Mask(v.Path)
	switch {
	case v.Query == "":
		return path, "", ""
	case v.Proxied:
		return path, "?", masked
	}
	return path, "?", v.Query
}

// referrer is where the visitor came from, without what may be a secret there.
func (v *Visit) referrer() (path, query string) {
	path, _, has := strings.Cut(v.Referrer, "?")
	path, _, _ = strings.Cut(path, "#")
	if path = Mask(path); has {
		return path, "?" + masked
	}
	return path, ""
}

// appendClient writes who asked.
func (v *Visit) appendClient(to []byte, w Writing) []byte {
	switch {
	case !v.Client.IsValid():
		return append(to, '-')
	case w.Whole:
		return v.Client.Unmap().AppendTo(to)
	}
	return Shorten(v.Client).AppendTo(to)
}

// combinedTime is the form of times in the combined format, in UTC.
const combinedTime = "02/Jan/2006:15:04:05 +0000"

// Both forms are made by hand: they are written for every request, and a general encoder takes
// longer than the answer of a small page. Whatever a stranger sends stays within its field and
// on its line; that is fuzzed.

// written is a second as the formats have it.
type written struct {
	unix           int64
	combined, json string
}

// last is the second that was written last: thousands of lines share one.
var last atomic.Pointer[written]

// second writes a time to the second, in UTC.
func second(t time.Time) *written {
	unix := t.Unix()
	if w := last.Load(); w != nil && w.unix == unix {
		return w
	}
	utc := t.UTC()
	w := &written{unix, utc.Format(combinedTime), utc.Format("2006-01-02T15:04:05.")}
	last.Store(w)
	return w
}

// Append writes a visit and a line's end.
func (w Writing) Append(to []byte, v *Visit) []byte {
	if w.Form == JSON {
		return w.appendJSON(to, v)
	}
	return w.appendCombined(to, v)
}

// appendCombined writes the combined log format. What could be taken for its end, or for
// another line, is escaped.
func (w Writing) appendCombined(to []byte, v *Visit) []byte {
	to = v.appendClient(to, w)
	to = append(to, " - - ["...)
	to = append(to, second(v.Time).combined...)
	to = append(to, `] "`...)
	to = appendEscaped(to, v.Method)
	to = append(to, ' ')
	path, mark, query := v.target()
	to = appendEscaped(append(appendEscaped(to, path), mark...), query)
	to = append(to, ' ')
	to = appendEscaped(to, v.Protocol)
	to = append(to, `" `...)
	to = strconv.AppendInt(to, int64(v.Status), 10)
	to = append(to, ' ')
	if v.Bytes == 0 {
		to = append(to, '-')
	} else {
		to = strconv.AppendInt(to, v.Bytes, 10)
	}
	from, query := v.referrer()
	to = append(to, ` "`...)
	to = append(appendEscaped(to, cmp.Or(from, "-")), query...)
	to = append(to, `" "`...)
	to = appendEscaped(to, cmp.Or(v.Agent, "-"))
	return append(to, "\"\n"...)
}

// isPlain reports whether a text is written as it is, as nearly all are.
func isPlain(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// appendEscaped writes a text for between quotes: control characters, quotes, backslashes and
// what is no UTF-8 as \xHH.
func appendEscaped(to []byte, text string) []byte {
	const digits = "0123456789abcdef"
	if isPlain(text) {
		return append(to, text...)
	}
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		if r == utf8.RuneError && size < 2 || r < ' ' || r == '"' || r == '\\' || r == 0x7f ||
			0x80 <= r && r < 0xa0 || r == 0x2028 || r == 0x2029 {
			for _, b := range []byte(text[i : i+size]) {
				to = append(to, '\\', 'x', digits[b>>4], digits[b&15])
			}
		} else {
			to = append(to, text[i:i+size]...)
		}
		i += size
	}
	return to
}

// appendJSON writes an object. Fields without a value are left out.
func (w Writing) appendJSON(to []byte, v *Visit) []byte {
	to = append(to, `{"time":"`...)
	to = append(to, second(v.Time).json...)
	milli := v.Time.Nanosecond() / int(time.Millisecond)
	to = append(to, byte('0'+milli/100), byte('0'+milli/10%10), byte('0'+milli%10))
	to = append(to, `Z","milliseconds":`...)
	micro := v.Took.Microseconds()
	to = strconv.AppendInt(to, micro/1000, 10)
	if rest := micro % 1000; rest != 0 {
		to = append(to, '.', byte('0'+rest/100), byte('0'+rest/10%10), byte('0'+rest%10))
	}
	to = append(to, `,"client":"`...)
	to = append(v.appendClient(to, w), '"')
	to = appendField(to, `,"id":`, v.ID)
	to = appendField(to, `,"method":`, v.Method)
	to = appendField(to, `,"host":`, v.Host)
	if path, mark, query := v.target(); path != "" {
		to = append(appendInside(append(to, `,"target":"`...), path), mark...)
		to = append(appendInside(to, query), '"')
	}
	to = appendField(to, `,"protocol":`, v.Protocol)
	if from, query := v.referrer(); from != "" {
		to = append(appendInside(append(to, `,"referrer":"`...), from), query...)
		to = append(to, '"')
	}
	to = appendField(to, `,"agent":`, v.Agent)
	to = appendField(to, `,"site":`, v.Site)
	to = appendField(to, `,"environment":`, v.Environment)
	to = appendField(to, `,"by":`, string(v.By))
	to = appendField(to, `,"upstream":`, v.Upstream)
	to = appendField(to, `,"cache":`, string(v.Cache))
	to = strconv.AppendInt(append(to, `,"status":`...), int64(v.Status), 10)
	to = strconv.AppendInt(append(to, `,"bytes":`...), v.Bytes, 10)
	if v.Entry != 0 {
		to = strconv.AppendInt(append(to, `,"entry":`...), v.Entry, 10)
	}
	if v.Secure {
		to = append(to, `,"tls":true`...)
	}
	return append(to, "}\n"...)
}

// appendField writes a field of an object with its name, unless it is empty.
func appendField(to []byte, name, text string) []byte {
	if text == "" {
		return to
	}
	to = append(append(to, name...), '"')
	return append(appendInside(to, text), '"')
}

// appendInside writes what is between the quotes of a string of JSON (RFC 8259). What is no UTF-8
// becomes U+FFFD.
func appendInside(to []byte, text string) []byte {
	const digits = "0123456789abcdef"
	if isPlain(text) {
		return append(to, text...)
	}
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == '"' || r == '\\':
			to = append(to, '\\', byte(r))
		case r < ' ' || r == 0x7f || r == 0x2028 || r == 0x2029:
			to = append(to, '\\', 'u', digits[r>>12&15], digits[r>>8&15], digits[r>>4&15], digits[r&15])
		default:
			to = utf8.AppendRune(to, r)
		}
		i += size
	}
	return to
}
