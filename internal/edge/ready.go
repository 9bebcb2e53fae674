package edge

import (
	"net/http"
	"strings"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/httpanswer"
)

// made remembers answers that were made ready, so that the next who asks the same costs
// little more than HTTP does. Only what host, path and codings alone decide is remembered;
// it counts as long as the environment serves the same entry, and nothing was routed
// otherwise.
type made struct {
	*generations[question, *known]
}

// question is all that decides an answer that is made ready.
type question struct {
	host, path string
	codings    coding.Set
	plain      bool // the connection is: some fields are not sent over it
}

// known is an answer that was made ready, and when it counts.
type known struct {
	ready *httpanswer.Ready
	by    string // what decided, for the log
	e     *environment
	// what it serves and how hosts lead there, by their serial numbers: an answer that nobody
	// asks for any more holds neither
	s, routed int64
	pages     *digest.Digest // the dictionary of pages that it names
	local     bool           // at a name below .localhost
	fallback  bool           // a rule answers with a page of another address
}

// readyCosts is about what a ready answer takes, in bytes.
const readyCosts = 2048

// newMade returns a memory of answers that takes a part of so many bytes at most.
func newMade(memory int64) *made {
	const part = 16
	return &made{newGenerations[question, *known](max(64, int(memory/part/readyCosts/2)))}
}

// remember remembers an answer. Its texts are copied: they may be parts of a large request.
func (m *made) remember(q question, k *known) {
	q.host, q.path = strings.Clone(q.host), strings.Clone(q.path)
	m.put(q, k)
}

// deciding are the fields that can change an answer which nothing else decides.
var deciding = []string{"Range", "If-None-Match", "If-Match", "If-Range", "Available-Dictionary"}

// questionOf is what a request asks, if an answer to it could have been made ready.
func questionOf(r *http.Request) (question, bool) {
	// A path that is written in an unusual way, a query, a body: those are rare, and others
	// decide about them.
	if r.Method != http.MethodGet && r.Method != http.MethodHead ||
		r.URL.RawQuery != "" || r.URL.ForceQuery || r.URL.RawPath != "" || r.ContentLength != 0 {
		return question{}, false
	}
	for _, name := range deciding {
		if len(r.Header[name]) > 0 {
			return question{}, false
		}
	}
	accept := r.Header["Accept-Encoding"]
	if len(accept) > 1 {
		return question{}, false
	}
	q := question{host: r.Host, path: r.URL.Path, plain: r.TLS == nil}
	if len(accept) == 1 {
		var usual bool
		if q.codings, usual = coding.Usual(accept[0]); !usual {
			return question{}, false
		}
	}
	return q, true
}

// sendReady answers a request whose answer is known, and reports whether it did.
func (n visit) sendReady(w http.ResponseWriter, r *http.Request) bool {
	q, ok := questionOf(r)
	if !ok {
		return false
	}
	k, ok := n.objects.made.get(q)
	if !ok {
		return false
	}
	s := k.e.current.Load()
	sent := s != nil && s.serial == k.s && k.routed == n.routing.serial.Load() && !n.isStale(false) &&
		k.pages == s.pages.Load() && (!q.plain || k.local || !leadsToSecure(n.Node, r, s)) &&
		(!k.local || n.answersLocally(r)) && n.objects.Send(w, r, k.ready)
	if sent {
		s.crowd.Answered()
		if c := noted(w); c != nil {
			c.by, c.entry, c.e = visits.ByFile, s.entry.Number, k.e
			c.cache.Note(httpanswer.FromMemory)
			if k.fallback {
				c.by = visits.ByFallback
			}
		}
		n.log(r, http.StatusOK, k.ready.Bytes(r.Method), k.by)
	}
	return sent
}

// makeReady remembers an answer for those who ask the same, if nothing else could have
// decided it.
func (n visit) makeReady(r *http.Request, e *environment, s *serving, a answer.Answer,
	pages *digest.Digest,
) {
	q, ok := questionOf(r)
	if !ok || a.Timed || a.Status != http.StatusOK || s.entry.Expires != nil ||
		strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix) {
		return
	}
	// What an earlier release answers ends with time, and what the environment says of
	// itself is no content.
	if a.By != answer.ByFile && a.By != answer.By(rules.Fallback) {
		return
	}
	for _, field := range a.Header {
		// Whether it is sent is asked of each connection.
		if q.plain && httpanswer.OnlySecure(field.Name) {
			return
		}
		if strings.EqualFold(field.Name, "Vary") && field.Value != "Accept-Encoding" &&
			field.Value != "Accept-Encoding, Available-Dictionary" {
			return
		}
	}
	// Whether it may be answered to everybody is asked again for names below .localhost.
	routed := n.routing.serial.Load()
	t := n.routing.table.Load()
	place, configured := t.find(httpanswer.HostName(r.Host), r.URL.EscapedPath())
	// It may be routed otherwise since the answer was decided: to another site even.
	if configured && (place.serves != e || place.canonical != nil) ||
		n.all.known(e.journal.Site, e.journal.Environment) != e {
		return
	}
	more := http.Header{}
	more[httpanswer.ReleaseField] = []string{s.label()}
	if ready := n.objects.Make(a, more); ready != nil {
		n.objects.made.remember(q, &known{ready: ready, by: httpanswer.Describe(a), e: e, s: s.serial,
			routed: routed, pages: pages, local: !configured, fallback: a.By != answer.ByFile})
	}
}
