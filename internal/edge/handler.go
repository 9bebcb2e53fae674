package edge

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
)

// ReleaseField is the header field that says what an answer comes from. Its value is a structured item (RFC 9651): the
// release, with the parameters entry (environment:number) and commit.
const ReleaseField = "Orilla-Release"

// ServeHTTP answers a visitor.
func (n *Node) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	counted := &countingWriter{ResponseWriter: w}
	by := n.serve(counted, r)
	if n.options.Requests {
		n.tell(Event{Kind: "request", Method: r.Method, Host: r.Host, Path: r.URL.EscapedPath(), Status: counted.status, Bytes: counted.bytes, By: by})
	}
}

// serve answers and says what decided.
func (n *Node) serve(w http.ResponseWriter, r *http.Request) string {
	host := hostName(r.Host)
	if place, ok := n.hosts.Load().find(host, r.URL.EscapedPath()); ok {
		if place.canonical != nil && rightMethod(r) {
			return toCanonical(w, r, place)
		}
		return n.serveEnvironment(w, r, place.serves, place.base)
	}
	meant, ok := parseLocal(host)
	if !ok {
		return say(w, r, http.StatusMisdirectedRequest, "This edge node has no site at "+printable(host)+".")
	}
	if meant.release != "" {
		return n.serveRelease(w, r, meant)
	}
	e := n.known(meant.site, meant.environment)
	if e == nil || e.current.Load() == nil || meant.environment == journal.Previews || e.current.Load().neverLive() {
		return n.serveWaiting(w, r, meant)
	}
	s := e.current.Load()
	if base := s.base(); base != "" && r.URL.Path == "/" {
		if n.guard(e, s) == nil {
			s.mark(w)
		} else {
			s.hide(w)
		}
		return toBase(w, base)
	}
	return n.serveEnvironment(w, r, e, s.base())
}

// serveEnvironment answers from what the environment serves now.
func (n *Node) serveEnvironment(w http.ResponseWriter, r *http.Request, e *environment, base string) string {
	s := e.current.Load()
	if s.entry.Gone(n.clock.now()) {
		return n.serveGone(w, r, e, s)
	}
	guard := n.guard(e, s)
	if path, ok := strings.CutPrefix(r.URL.EscapedPath(), base+access.LinkPath); ok {
		return n.followLink(w, r, e, guard, path, base)
	}
	req := n.request(r, base, journal.DisplayName(e.journal.Environment))
	asked := r
	admits := func(guard *access.Gate) bool {
		return guard == nil || guard.Admits(asked.Header.Get("Authorization"), asked.Cookies(), n.key(asked.Context(), e.journal.Site), req.Now)
	}
	if req.Admitted = admits(guard); !req.Admitted {
		s.hide(w)
		return n.finish(w, r, answer.Refuse(e.label()), nil, nil)
	}
	if guard != nil {
		r = withoutKeys(r)
	}
	decide := func() (answer.Answer, error) {
		site := s.site(req.Now)
		if guard != nil {
			site.Realm = e.label()
		}
		return answer.Decide(r.Context(), req, site)
	}
	a, err := decide()
	if err == nil && a.By == answer.ByMissing && n.newer(r.Context(), e, s, strings.TrimPrefix(req.Path, base)) {
		if newer := e.current.Load(); newer.reader != nil && admits(n.guard(e, newer)) {
			s, guard = newer, n.guard(e, newer)
			a, err = decide()
		}
	}
	s.mark(w)
	return n.finish(w, r, a, err, s.upstreams)
}

// mark says in the header what an answer comes from.
func (s *serving) mark(w http.ResponseWriter) {
	field := fmt.Sprintf("%s;entry=%s", s.entry.Release.Short(), s.entry.Label())
	if s.entry.Commit != "" {
		field += fmt.Sprintf(";commit=%q", s.entry.Commit)
	}
	w.Header().Set(ReleaseField, field)
}

// hide says in the header which entry an answer would come from, and nothing of what it holds: the visitor may not look.
func (s *serving) hide(w http.ResponseWriter) {
	w.Header().Set(ReleaseField, "hidden;entry="+s.entry.Label())
}

// neverLive reports whether nothing was ever live: there is only a word on who may look.
func (s *serving) neverLive() bool {
	return s.entry.Release.IsZero() && s.entry.Kind == journal.Access && s.entry.Ended == nil
}

// newer looks at the journal when a fingerprinted asset is missing: the page that names it may come from another node, which
// has seen a newer entry. It reports whether the environment serves another entry now.
func (n *Node) newer(ctx context.Context, e *environment, s *serving, path string) bool {
	if !s.answers.Carries(strings.TrimPrefix(path, "/")) {
		return false
	}
	e.looks.wait(ctx, func(ctx context.Context) {
		if n.refresh(ctx, e) {
			n.route(ctx)
		}
	})
	return e.current.Load() != s
}

// serveRelease answers from one release, whatever is live.
func (n *Node) serveRelease(w http.ResponseWriter, r *http.Request, meant local) string {
	id, site, err := n.release(r.Context(), meant.site, meant.release)
	if err == nil && id.IsZero() {
		return say(w, r, http.StatusNotFound, "There is no such release of "+meant.site+".")
	}
	var open openness
	if err == nil {
		open, err = n.openTo(r, meant.site, id)
	}
	if err != nil {
		return n.finish(w, r, answer.Answer{}, err, nil)
	}
	switch open {
	case closed:
		return say(w, r, http.StatusNotFound, "This release of "+meant.site+" was never live; its address answers on the edge node's own machine only.")
	case shut:
		return say(w, r, http.StatusNotFound, "This release of "+meant.site+" was shown behind a password only, which is gone.")
	case locked:
		return n.finish(w, r, answer.Refuse(meant.site+" "+ReleaseEnvironment), nil, nil)
	case unlocked:
		site.Realm, r = meant.site+" "+ReleaseEnvironment, withoutKeys(r)
	}
	base, upstreams := "", map[string]string{}
	if e := n.known(meant.site, project.Production); e != nil && e.current.Load() != nil {
		base, upstreams = e.current.Load().base(), e.current.Load().upstreams
	}
	if base != "" && r.URL.Path == "/" {
		return toBase(w, base)
	}
	req := n.request(r, base, ReleaseEnvironment)
	req.Admitted = true
	a, err := answer.Decide(r.Context(), req, site)
	w.Header().Set(ReleaseField, id.Short())
	return n.finish(w, r, a, err, upstreams)
}

// finish sends an answer, or 500 with a line in the log that names the object.
func (n *Node) finish(w http.ResponseWriter, r *http.Request, a answer.Answer, err error, upstreams map[string]string) string {
	if err == nil && a.Upstream != nil {
		if err := n.proxies.pass(w, r, a, upstreams); err != nil && !errors.Is(err, context.Canceled) {
			n.tell(Event{Kind: "trouble", Method: r.Method, Host: r.Host, Path: r.URL.EscapedPath(), Status: http.StatusBadGateway, Text: err.Error()})
		}
		return describe(a)
	}
	if err != nil {
		if r.Context().Err() == nil {
			n.tell(Event{Kind: "trouble", Method: r.Method, Host: r.Host, Path: r.URL.EscapedPath(), Status: 500, Text: err.Error()})
		}
		fail(w, r)
		return "trouble"
	}
	if err := respond(w, r, a, n.objects); err != nil && !errors.Is(err, context.Canceled) {
		n.tell(Event{Kind: "trouble", Method: r.Method, Host: r.Host, Path: r.URL.EscapedPath(), Status: 500, Text: err.Error()})
		return "trouble"
	}
	return describe(a)
}

// describe says in a few words what answered.
func describe(a answer.Answer) string {
	switch {
	case a.Location != "":
		return "-> " + a.Location
	case a.Upstream != nil:
		return "-> " + a.Upstream.Where()
	case a.File != nil && a.By == answer.ByFile:
		return a.File.Path
	case a.File != nil:
		return string(a.By) + " " + a.File.Path
	}
	return string(a.By)
}

// ReleaseEnvironment is what rules see as the environment at the address of a release.
const ReleaseEnvironment = "release"

func (n *Node) request(r *http.Request, base, environment string) answer.Request {
	return request(r, base, environment, n.clock.now())
}

func request(r *http.Request, base, environment string, now time.Time) answer.Request {
	return answer.Request{
		Method: r.Method, Path: r.URL.EscapedPath(), Query: r.URL.RawQuery, Base: base, Environment: environment, Now: now,
		Scheme: scheme(r), Host: strings.ToLower(r.Host),
		AcceptLanguage: strings.Join(r.Header.Values("Accept-Language"), ","), Cookie: strings.Join(r.Header.Values("Cookie"), "; "),
	}
}

// rightMethod reports whether a redirect to the canonical address makes sense: it must not lose the body of a form.
func rightMethod(r *http.Request) bool {
	return r.Method == http.MethodGet || r.Method == http.MethodHead
}

// toCanonical redirects from an address that is not the canonical one to the same place below the one that is.
func toCanonical(w http.ResponseWriter, r *http.Request, p place) string {
	target := *p.canonical
	rest := strings.TrimPrefix(strings.TrimPrefix(r.URL.EscapedPath(), p.base), "/")
	location := strings.TrimSuffix(target.String(), "/") + "/" + strings.TrimLeft(rest, "/")
	if r.URL.RawQuery != "" {
		location += "?" + r.URL.RawQuery
	}
	w.Header().Set("Location", location)
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("Content-Length", "0")
	w.WriteHeader(http.StatusMovedPermanently)
	return "address"
}

// toBase leads from the root of a local name to where the site begins.
func toBase(w http.ResponseWriter, base string) string {
	w.Header().Set("Location", base+"/")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusFound)
	return "address"
}

// say answers with one line of plain text.
func say(w http.ResponseWriter, r *http.Request, status int, line string) string {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Robots-Tag", "noindex")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	respondText(w, r, answer.Answer{Status: status, Text: line + "\n"})
	return "nothing"
}

// hostName takes the port and the final dot off the value of a Host field.
func hostName(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return strings.ToLower(strings.TrimSuffix(host, "."))
}

// printable keeps what a visitor sent from doing harm in an answer.
func printable(host string) string {
	host = strings.Map(func(c rune) rune {
		if c > ' ' && c < 0x7f {
			return c
		}
		return -1
	}, host)
	return host[:min(len(host), 100)]
}

// countingWriter remembers what was sent, for the log.
type countingWriter struct {
	http.ResponseWriter
	status int
	bytes  int64
}

// WriteHeader implements http.ResponseWriter.
func (w *countingWriter) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
	w.ResponseWriter.WriteHeader(status)
}

func (w *countingWriter) Write(data []byte) (int, error) {
	if w.status == 0 {
		w.status = http.StatusOK
	}
	n, err := w.ResponseWriter.Write(data)
	w.bytes += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach the writer below.
func (w *countingWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// serveWaiting answers for an environment that has no release yet.
func (n *Node) serveWaiting(w http.ResponseWriter, r *http.Request, meant local) string {
	claimed, err := n.claimed(r.Context(), meant.site)
	if err != nil {
		return n.finish(w, r, answer.Answer{}, err, nil)
	}
	name := journal.DisplayName(meant.environment)
	switch {
	case claimed && meant.environment == project.Production:
		return waiting(w, r, http.StatusServiceUnavailable, meant.site, name, "orilla deploy")
	case claimed && (isFixed(meant.environment) || strings.HasPrefix(meant.environment, journal.PreviewPrefix)):
		return waiting(w, r, http.StatusServiceUnavailable, meant.site, name, "orilla deploy --to "+name)
	}
	return waiting(w, r, http.StatusNotFound, meant.site, name, "orilla deploy --site "+meant.site)
}
