package edge

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fingerprint"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/core/wake"
	"orilla.example/orilla/internal/httpanswer"
)

// visit is how a node deals with visitors.
type visit struct{ *Node }

// ServeHTTP answers a visitor.
func (n *Node) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	v := visit{n}
	if n.options.Visited == nil {
		respond(v, w, r)
		return
	}
	began := time.Now()
	c := &counted{CountingWriter: httpanswer.CountingWriter{ResponseWriter: w}}
	// Also of one that ends in a panic, by which net/http ends what cannot be finished.
	defer visited(v, r, c, began)
	respond(v, c, r)
}

// respond answers a visitor, or whoever else asks the node itself.
func respond(n visit, w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == HealthPath {
		n.health(w, r)
		return
	}
	if strings.HasPrefix(r.URL.Path, names.ProofPath) {
		prove(n, w, r)
		return
	}
	if r.URL.Path == wake.Path {
		awake(n, w, r)
		return
	}
	if challenged(n, w, r) {
		return
	}
	n.noticeProxy(r)
	if n.sendReady(w, r) {
		return
	}
	r = watched(w, r)
	counting := noted(w)
	if counting == nil {
		counting = &counted{CountingWriter: httpanswer.CountingWriter{ResponseWriter: w}}
	}
	by := n.serve(counting, r)
	judged(counting, r)
	n.log(r, counting.Status, counting.Bytes, by)
}

// log tells of a request that was answered, if somebody wants to know of each.
func (n *Node) log(r *http.Request, status int, bytes int64, by string) {
	if n.settings.Load().Requests {
		n.tell(httpanswer.Event{Kind: "request", Method: r.Method, Host: r.Host, Path: r.URL.EscapedPath(),
			Status: status, Bytes: bytes, By: by})
	}
}

// serve answers a request and returns what decided, in a word or two, for
// whoever watches requests.
func (n visit) serve(w http.ResponseWriter, r *http.Request) string {
	// Nothing is answered before it is known what there is: "no such site" would be
	// a lie.
	if !n.waitReady(r.Context()) {
		return n.finish(w, r, answer.Answer{}, errStarting, nil)
	}
	// Configured addresses first; what every node answers for besides are names
	// below .localhost.
	host := httpanswer.HostName(r.Host)
	if place, ok := n.routing.table.Load().find(host, r.URL.EscapedPath()); ok {
		if place.serves.journal.Environment == journal.Previews {
			return noPreview(w, r)
		}
		// A form that is sent to the old address must arrive; only reading is
		// led to the new one.
		if place.canonical != nil && rightMethod(r) {
			return toCanonical(n, w, r, place)
		}
		if s := place.serves.current.Load(); place.canonical == nil && place.isBelow(r.URL.EscapedPath()) &&
			leadsToSecure(n.Node, r, s) {
			place.canonical = s.addresses[0]
			return toCanonical(n, w, r, place)
		}
		return n.serveEnvironment(w, r, place.serves, place.base)
	}

	// RFC 9110, section 15.5.20: the connection is right and the host is not
	// one of this server's.
	meant, ok := parseLocal(host)
	if !ok || !n.answersLocally(r) {
		return httpanswer.Say(w, r, http.StatusMisdirectedRequest, "This edge node has no site at "+
			httpanswer.Printable(host)+".")
	}

	if meant.release != "" {
		return n.serveRelease(w, r, meant)
	}
	e := n.all.known(meant.site, meant.environment)
	if e == nil || e.current.Load() == nil || meant.environment == journal.Previews ||
		e.current.Load().entry.NeverLive() {
		return n.serveWaiting(w, r, meant)
	}

	s := e.current.Load()
	// A site at /ferries/ is built for that path. Locally it is there too, and
	// the root leads to it, so that people find it.
	if base := s.base(); base != "" && r.URL.Path == "/" {
		if n.guard(e, s) == nil {
			s.mark(w)
		} else {
			s.hide(w)
		}
		return httpanswer.RedirectToBase(w, base)
	}

	return n.serveEnvironment(w, r, e, s.base())
}

// serveEnvironment answers from what the environment serves now.
func (n visit) serveEnvironment(w http.ResponseWriter, r *http.Request, e *environment, base string) string {
	s := e.current.Load()
	answers(w, e, s)
	if s.entry.NeverLive() {
		return notYet(w, r, e)
	}
	if s.entry.Gone(n.clock.now()) {
		return n.serveGone(w, r, e, s)
	}
	// Links that open are answered before rules: no rule may take their path.
	guard := n.guard(e, s)
	if path, ok := strings.CutPrefix(r.URL.EscapedPath(), base+access.LinkPath); ok {
		says(w, visits.ByAccess)
		return n.followLink(w, r, e, guard, path, base)
	}

	req := n.request(r, base, journal.DisplayName(e.journal.Environment))
	if n.isStale(guard != nil || strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix)) {
		s.hide(w)
		return n.finish(w, r, answer.Answer{}, errStale, nil)
	}
	// Whoever may not look learns nothing: not which release is live, nor
	// whether the address exists.
	asked := r
	admitted, err := n.admits(asked, e, guard)
	if req.Admitted = admitted; !admitted {
		s.hide(w)
		says(w, visits.ByAccess)
		return n.refuse(w, r, e.journal.Site, journal.DisplayName(e.journal.Environment), err)
	}
	if guard != nil || n.routing.table.Load().guarded(n.Node, httpanswer.HostName(r.Host), e) {
		r = withoutKeys(r)
	} else {
		r = withoutLink(r)
	}

	if by, is := pageDictionary(n, w, r, e, s, base); is && guard == nil {
		return by
	}
	pages := s.pages.Load() // before it is decided: it may come meanwhile
	decide := func(s *serving, guard *access.Gate) (answer.Answer, error) {
		site := s.site(req.Now)
		if guard != nil {
			site.Realm = e.label()
		}
		site.Dictionaries = offered{n.objects.library, e, s}
		return answer.Decide(r.Context(), req, site)
	}

	a, err := decide(s, guard)
	// A page that another node has sent may name an asset that this one does
	// not know yet. Before it answers 404, which a browser would not try again,
	// it looks.
	if err == nil && a.By == answer.ByMissing &&
		n.newer(r.Context(), e, s, strings.TrimPrefix(req.Path, base)) {
		newer := e.current.Load()
		if may, _ := n.admits(asked, e, n.guard(e, newer)); may && newer.reader != nil {
			s, pages = newer, newer.pages.Load()
			a, err = decide(newer, n.guard(e, newer))
		}
	}
	s.mark(w)
	by := n.finish(w, r, a, err, s.upstreams)
	if err == nil && guard == nil {
		n.makeReady(r, e, s, a, pages)
	}
	return by
}

// mark says in the header what an answer comes from.
func (s *serving) mark(w http.ResponseWriter) { w.Header().Set(httpanswer.ReleaseField, s.label()) }

// label names a release, an entry and a commit.
func (s *serving) label() string {
	field := fmt.Sprintf("%s;entry=%s", s.entry.Release.Short(), s.entry.Label())
	if s.entry.Commit != "" {
		field += fmt.Sprintf(";commit=%q", s.entry.Commit)
	}
	return field
}

// hide says in the header which entry an answer would come from, and nothing of
// what it holds: the visitor may not look.
func (s *serving) hide(w http.ResponseWriter) {
	w.Header().Set(httpanswer.ReleaseField, "hidden;entry="+s.entry.Label())
}

// ended reports whether what was live is live no more: it was removed, or has expired.
func (s *serving) ended(now time.Time) bool {
	return s.entry.Gone(now) && (s.entry.Ended != nil || !s.entry.Release.IsZero())
}

// newer looks at the journal when what a page loads is missing: the page that
// names it may come from another node, which has seen a newer entry. It reports
// whether the environment serves another entry now.
func (n visit) newer(ctx context.Context, e *environment, s *serving, path string) bool {
	// Not for everything: pages link to pictures that were removed years ago, and
	// requests for nonsense must not cost the store a look each. A page breaks
	// without its scripts and style sheets, whatever they are called.
	class := media.ClassOf(path)
	if class != media.Script && class != media.Style && !fingerprint.Possible(strings.TrimPrefix(path, "/")) {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, n.options.Patience)
	defer cancel()
	//nolint:errcheck // whatever came of it, what is served says
	e.look.missing.wait(ctx, func(ctx context.Context) (bool, error) {
		// Each look counts, and not each of the many requests that share it.
		if !n.asked.strangers.Allow() {
			return false, nil
		}
		flipped := n.tracker.refresh(ctx, e, 0, false)
		if flipped {
			n.route(ctx)
		}
		return flipped, nil
	})
	return e.current.Load() != s
}

// serveRelease answers from one release, whatever is live.
func (n visit) serveRelease(w http.ResponseWriter, r *http.Request, meant local) string {
	id, site, err := n.release(r.Context(), meant.site, meant.release)
	if c := noted(w); c != nil && !id.IsZero() { // what strangers make up is no site
		c.site = meant.site
	}
	if err == nil && id.IsZero() {
		return httpanswer.Say(w, r, http.StatusNotFound, "There is no such release of "+meant.site+".")
	}
	var open openness
	var guessed error
	if err == nil {
		open, guessed, err = n.openTo(r, meant.site, id)
	}
	if err != nil {
		return n.finish(w, r, answer.Answer{}, err, nil)
	}

	switch open {
	case closed:
		return httpanswer.Say(w, r, http.StatusNotFound, "This release of "+meant.site+
			" was never live; its address answers only on the edge node's own machine.")
	case withdrawn:
		return httpanswer.Say(w, r, http.StatusNotFound, "This release of "+meant.site+
			" was only shown behind a password, which is gone.")
	case locked:
		return n.refuse(w, r, meant.site, ReleaseEnvironment, guessed)
	case unlocked:
		if n.isStale(true) {
			return n.finish(w, r, answer.Answer{}, errStale, nil)
		}
		site.Realm, r = meant.site+" "+ReleaseEnvironment, withoutKeys(r)
	}

	// A release has no address of its own, so it is shown below production's
	// path and with production's upstreams, for which it was built.
	base, upstreams := "", map[string]string{}
	if e := n.all.known(meant.site, project.Production); e != nil && e.current.Load() != nil {
		base, upstreams = e.current.Load().base(), e.current.Load().upstreams
	}
	if base != "" && r.URL.Path == "/" {
		return httpanswer.RedirectToBase(w, base)
	}

	req := n.request(r, base, ReleaseEnvironment)
	req.Admitted = true
	a, err := answer.Decide(r.Context(), req, site)
	w.Header().Set(httpanswer.ReleaseField, id.Short())
	return n.finish(w, r, a, err, upstreams)
}

// finish sends an answer, or 500 with a line in the log that names the object.
func (n visit) finish(w http.ResponseWriter, r *http.Request, a answer.Answer, err error,
	upstreams map[string]string,
) string {
	if err == nil {
		decided(w, a)
	} else {
		says(w, visits.ByTrouble)
	}
	if err == nil && a.Upstream != nil {
		// A visitor who has gone is no trouble, and that an upstream is busy is told
		// once in a while.
		if err := n.proxies.Pass(w, r, a, upstreams); err != nil && !errors.Is(err, context.Canceled) &&
			(!errors.Is(err, httpanswer.ErrBusy) || n.asked.passing.Allow()) {
			n.tell(httpanswer.Event{Kind: "trouble", Method: r.Method, Host: r.Host,
				Path: r.URL.EscapedPath(), Status: http.StatusBadGateway, Text: err.Error()})
		}
		return httpanswer.Describe(a)
	}
	connections.Unwanted(w, r)
	if err != nil {
		status := httpanswer.Fail(w, r, err)
		if r.Context().Err() == nil {
			n.failed(r, status, err)
		}
		return "trouble"
	}

	if err := httpanswer.Respond(w, r, a, n.objects); err != nil && !errors.Is(err, context.Canceled) {
		if c := noted(w); c != nil {
			c.by = visits.ByTrouble
		}
		n.failed(r, http.StatusInternalServerError, err)
		return "trouble"
	}
	return httpanswer.Describe(a)
}

// failed tells of an answer that could not be given. While the store does not answer,
// that is told once and not with each request.
func (n visit) failed(r *http.Request, status int, err error) {
	if httpanswer.Passing(err) && !n.asked.passing.Allow() {
		return
	}
	n.tell(httpanswer.Event{Kind: "trouble", Method: r.Method, Host: r.Host, Path: r.URL.EscapedPath(),
		Status: status, Text: err.Error()})
}

// ReleaseEnvironment is what rules see as the environment
// at the address of a release.
const ReleaseEnvironment = "release"

// request is what decides an answer, of a request to an environment below a
// base path.
func (n visit) request(r *http.Request, base, environment string) answer.Request {
	return httpanswer.RequestOf(r, base, environment, n.clock.now())
}

// rightMethod reports whether a redirect to the canonical address makes sense:
// it must not lose the body of a form.
func rightMethod(r *http.Request) bool {
	return r.Method == http.MethodGet || r.Method == http.MethodHead
}

// toCanonical redirects from an address that is not the canonical one to where
// the same place below the one that is leads.
func toCanonical(n visit, w http.ResponseWriter, r *http.Request, p place) string {
	// One slash, whatever the path began with: two would make the location lead
	// to another host.
	rest := strings.TrimPrefix(strings.TrimPrefix(r.URL.EscapedPath(), p.base), "/")
	base := strings.TrimSuffix(p.canonical.EscapedPath(), "/")
	req := n.request(r, base, journal.DisplayName(p.serves.journal.Environment))
	req.Path = base + "/" + strings.TrimLeft(rest, "/")
	req.Host, req.Scheme = p.canonical.Host, p.canonical.Scheme

	// Whoever may not look learns nothing, not even what redirects. Of a path that
	// leads to another environment nothing is known here.
	s, site := p.serves.current.Load(), answer.Site{Realm: p.serves.label()}
	answers(w, p.serves, s)
	there, _ := n.routing.table.Load().find(strings.ToLower(p.canonical.Hostname()), req.Path)
	shown := s.reader != nil && !s.entry.Gone(req.Now) && n.guard(p.serves, s) == nil
	if shown && there.serves == p.serves {
		site = s.site(req.Now)
	}
	a, err := answer.Moved(r.Context(), req, site, p.canonical.Scheme+"://"+p.canonical.Host)
	n.finish(w, r, a, err, nil)
	return "address"
}

// serveWaiting answers for an environment that has no release yet.
func (n visit) serveWaiting(w http.ResponseWriter, r *http.Request, meant local) string {
	connections.Unwanted(w, r)
	claimed, err := n.claimed(r.Context(), meant.site)
	if err != nil {
		return n.finish(w, r, answer.Answer{}, err, nil)
	}
	name := journal.DisplayName(meant.environment)
	switch {
	case claimed && meant.environment == project.Production:
		return waiting(w, r, http.StatusServiceUnavailable, meant.site, name, "orilla deploy")
	case claimed && (isFixed(meant.environment) || strings.HasPrefix(meant.environment,
		journal.PreviewPrefix)):
		return waiting(w, r, http.StatusServiceUnavailable, meant.site, name, "orilla deploy --to "+name)
	}
	return waiting(w, r, http.StatusNotFound, meant.site, name, "orilla deploy --site "+meant.site)
}
