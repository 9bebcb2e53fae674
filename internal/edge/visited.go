package edge

import (
	"cmp"
	"crypto/rand"
	"encoding/binary"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/httpanswer"
)

// What is noted of a request follows it through the node in the writer of its answer: whoever
// decides says there who did. When nobody wants to know of requests, none of this costs
// anything.

// Two things are noted by others than who answers: the connection tells what was no request
// (Refused), and the objects of an answer tell where they came from, in the context of the
// request (httpanswer.Came).

// counted writes an answer and remembers what is noted of it.
type counted struct {
	httpanswer.CountingWriter

	by      visits.By
	e       *environment // that answered; nil for the node itself
	s       *serving     // what it served then
	site    string       // of a release that answers at its own address
	entry   int64
	proxied bool
	to      string // the upstream
	cache   httpanswer.Came

	visit visits.Visit // what is told in the end; here, so that it costs nothing more
}

// noted returns what a writer notes, if it does.
func noted(w http.ResponseWriter) *counted {
	c, _ := w.(*counted)
	return c
}

// answers notes which environment answers.
func answers(w http.ResponseWriter, e *environment, s *serving) {
	if c := noted(w); c != nil {
		c.e, c.s, c.entry = e, s, s.entry.Number
	}
}

// judged counts what a visitor got, by which the release is judged. A page of the site asked
// if the browser says so, or names one as where it came from.
func judged(c *counted, r *http.Request) {
	if c.s == nil || c.s.entry.Release.IsZero() || r.Context().Err() != nil {
		return
	}
	// Who asked matters only for what is not there.
	own := false
	if c.Status == http.StatusNotFound || c.Status == http.StatusGone {
		own = r.Header.Get("Sec-Fetch-Site") == "same-origin"
		if from := r.Referer(); !own && from != "" {
			at, err := url.Parse(from)
			own = err == nil && strings.EqualFold(at.Host, r.Host)
		}
	}
	c.s.crowd.Count(r.URL.EscapedPath(), c.Status, own)
}

// decided notes what decided an answer.
func decided(w http.ResponseWriter, a answer.Answer) {
	c := noted(w)
	if c == nil {
		return
	}
	switch {
	case a.Upstream != nil:
		c.by, c.proxied, c.to = visits.ByProxy, true, cmp.Or(a.Upstream.Name, a.Upstream.Origin)
	case a.Location != "":
		c.by = visits.ByRedirect
	case a.By == answer.ByFile || a.By == answer.ByRecent || a.By == answer.ByDictionary:
		c.by = visits.ByFile
	case a.By == answer.By(rules.Fallback):
		c.by = visits.ByFallback
	case a.By == answer.ByMissing:
		c.by = visits.ByMissing
	case a.By == answer.ByMethod || a.By == answer.ByRequest:
		c.by = visits.ByMethod
	case a.By == answer.ByAccess:
		c.by = visits.ByAccess
	case a.By == answer.BySetting:
		c.by = visits.BySettings
	default:
		c.by = visits.ByRule
	}
}

// says notes that something besides a release answers.
func says(w http.ResponseWriter, by visits.By) {
	if c := noted(w); c != nil && c.by == "" {
		c.by = by
	}
}

// serial numbers requests of this process; its beginning is random.
var serial = func() *atomic.Uint64 {
	var data [8]byte
	rand.Read(data[:])
	counter := &atomic.Uint64{}
	counter.Store(binary.BigEndian.Uint64(data[:]))
	return counter
}()

// requestField is how proxies say by what they know a request.
const requestField = "X-Request-Id"

// identified returns by what a request is found in other logs: what a proxy that is trusted
// calls it, or a number of this node's.
func identified(r *http.Request, visitor connections.Visitor) string {
	const longest = 64
	if given := r.Header.Get(requestField); visitor.Passed && given != "" && len(given) <= longest &&
		strings.IndexFunc(given, func(c rune) bool { return c <= ' ' || c > '~' }) < 0 {
		return given
	}
	return numbered()
}

// numbered returns the next number of this node's.
func numbered() string {
	const base = 36
	return strconv.FormatUint(serial.Add(1), base)
}

// visited tells of a request that was answered. The visit counts until the call returns.
func visited(n visit, r *http.Request, c *counted, began time.Time) {
	visitor := connections.VisitorOf(r)
	c.visit = visits.Visit{Time: began, Took: time.Since(began), Client: visitor.Address,
		ID: identified(r, visitor), Secure: visitor.Scheme == "https", Method: r.Method,
		Host: httpanswer.HostName(r.Host), Path: r.URL.EscapedPath(), Query: r.URL.RawQuery,
		Protocol: r.Proto, Referrer: r.Referer(), Fetch: r.Header.Get("Sec-Fetch-Site"),
		Agent: r.UserAgent(), Status: c.Status, Bytes: c.Bytes, By: c.by, Proxied: c.proxied,
		Upstream: c.to, Entry: c.entry}
	v := &c.visit
	if v.Encoding = c.Header().Get("Content-Encoding"); v.Encoding == "" && c.Bytes > 0 {
		v.Encoding = "identity"
	}
	if v.Status == 0 {
		v.Status = http.StatusOK // nothing was written: net/http says so
	}
	if r.Context().Err() != nil && c.Status == 0 {
		v.Status = 0 // the visitor has gone
	}
	if v.By == "" {
		v.By = visits.ByNode
	}
	if v.Site = c.site; c.e != nil {
		v.Site, v.Environment = c.e.journal.Site, journal.DisplayName(c.e.journal.Environment)
	}
	switch c.cache.From() {
	case httpanswer.FromMemory:
		v.Cache = visits.Hit
	case httpanswer.FromBeyond:
		v.Cache = visits.Miss
	}
	n.options.Visited(v)
}

// watched returns a request in whose context it is noted where content comes from, if the
// writer of its answer notes that. Answers that are ready do without.
func watched(w http.ResponseWriter, r *http.Request) *http.Request {
	if c := noted(w); c != nil {
		return r.WithContext(httpanswer.WithCame(r.Context(), &c.cache))
	}
	return r
}

// Refused tells of a request that HTTP refused, before anybody could read it.
func Refused(n *Node, refusal connections.Refusal) {
	if n.options.Visited == nil {
		return
	}
	n.options.Visited(&visits.Visit{Time: time.Now(), Client: refusal.Client, Method: "-", Path: "-",
		Protocol: "HTTP/1.1", Status: refusal.Status, By: visits.ByRefusal,
		ID: numbered()})
}
