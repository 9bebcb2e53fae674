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

// target is the path and query as they are written.
func (v *Visit) target() string {
	path := Mask(v.Path)
	switch {
	case v.Query == "":
		return path
	case v.Proxied:
		return path + "?" + masked
	}
	return path + "?" + v.Query
}

// referrer is where the visitor came from, without what may be a secret there.
func (v *Visit) referrer() string {
	path, _, query := strings.Cut(v.Referrer, "?")
	path, _, _ = strings.Cut(path, "#")
	if path = Mask(path); query {
		path += "?" + masked
	}
	return path
}

// client is who asked, as it is written.
func (v *Visit) client(w Writing) string {
	if !v.Client.IsValid() {
		return "-"
	}
	if w.Whole {
		return v.Client.Unmap().String()
	}
	return Shorten(v.Client).String()
}

// combinedTime is the form of times in the combined format, in UTC.
const combinedTime = "02/Jan/2006:15:04:05 +0000"

// Both forms are made by hand: they are written for every request, and a general encoder takes
// longer than the answer of a small page. Whatever a stranger sends stays within its field and
// on its line; that is fuzzed.

// written is a second as the combined format has it.
type written struct {
	unix int64
	text string
}

// last is the second that was written last: thousands of lines share one.
var last atomic.Pointer[written]

// second writes a time to the second, in UTC.
func second(t time.Time) string {
	unix := t.Unix()
	if w := last.Load(); w != nil && w.unix == unix {
		return w.text
	}
	w := &written{unix, t.UTC().Format(combinedTime)}
	last.Store(w)
	return w.text
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
	to = append(to, v.client(w)...)
	to = append(to, " - - ["...)
	to = append(to, second(v.Time)...)
	to = append(to, `] "`...)
	to = appendEscaped(to, v.Method)
	to = append(to, ' ')
	to = appendEscaped(to, v.target())
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
	for _, text := range []string{v.referrer(), v.Agent} {
		to = append(to, ` "`...)
		if text == "" {
			text = "-"
		}
		to = appendEscaped(to, text)
		to = append(to, '"')
	}
	return append(to, '\n')
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
	to = v.Time.UTC().AppendFormat(to, "2006-01-02T15:04:05.000Z")
	to = append(to, `","milliseconds":`...)
	micro := v.Took.Microseconds()
	to = strconv.AppendInt(to, micro/1000, 10)
	if rest := micro % 1000; rest != 0 {
		to = append(to, '.', byte('0'+rest/100), byte('0'+rest/10%10), byte('0'+rest%10))
	}
	to = append(to, `,"client":`...)
	to = appendString(to, v.client(w))
	for _, f := range []struct{ name, value string }{
		{"id", v.ID}, {"method", v.Method}, {"host", v.Host}, {"target", v.target()},
		{"protocol", v.Protocol}, {"referrer", v.referrer()}, {"agent", v.Agent}, {"site", v.Site},
		{"environment", v.Environment}, {"by", string(v.By)}, {"cache", string(v.Cache)},
	} {
		if f.value != "" {
			to = append(to, `,"`...)
			to = append(to, f.name...)
			to = append(to, `":`...)
			to = appendString(to, f.value)
		}
	}
	for _, f := range []struct {
		name  string
		value int64
	}{{"status", int64(v.Status)}, {"bytes", v.Bytes}, {"entry", v.Entry}} {
		if f.value != 0 || f.name != "entry" {
			to = append(to, `,"`...)
			to = append(to, f.name...)
			to = append(to, `":`...)
			to = strconv.AppendInt(to, f.value, 10)
		}
	}
	if v.Secure {
		to = append(to, `,"tls":true`...)
	}
	return append(to, "}\n"...)
}

// appendString writes a string of JSON (RFC 8259). What is no UTF-8 becomes U+FFFD.
func appendString(to []byte, text string) []byte {
	const digits = "0123456789abcdef"
	to = append(to, '"')
	if isPlain(text) {
		to = append(to, text...)
		return append(to, '"')
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
	return append(to, '"')
}
