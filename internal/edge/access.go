package edge

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/httpanswer"
)

// clock tells the time of the store, whatever this machine's clock says
// meanwhile: from one reading to the next it goes on by what cannot jump.
type clock struct {
	fixed   func() time.Time // if set, nothing else counts
	reading atomic.Pointer[reading]
}

// reading is what the clock of the store was once, and when, by the part of
// this machine's clock that does not jump.
type reading struct{ store, at time.Time }

// now is the time of the store, as far as it is known.
func (c *clock) now() time.Time {
	if c.fixed != nil {
		return c.fixed()
	}
	// time.Since is monotonic: a jump of this machine's clock brings no preview
	// back and ends none.
	if r := c.reading.Load(); r != nil {
		return r.store.Add(time.Since(r.at))
	}
	return time.Now()
}

// SetAhead says how far the store's clock is before this machine's right now.
func (n *Node) SetAhead(ahead time.Duration) {
	now := time.Now()
	// Round strips the monotonic reading from what is kept as the store's time.
	n.clock.reading.Store(&reading{store: now.Round(0).Add(ahead), at: now})
}

// gate is who may look at an environment, as long as
// nothing changes that decides it.
type gate struct {
	own, all *serving // the environment's own, and of previews that of all of them
	*access.Gate
}

// guard returns who may look at what an environment
// serves, as own says; nil where everybody may.
func (n *Node) guard(e *environment, own *serving) *access.Gate {
	var all *serving
	if strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix) {
		if previews := n.all.known(e.journal.Site, journal.Previews); previews != nil {
			all = previews.current.Load()
		}
	}

	// The same gate as long as both entries stay, so that passwords which were
	// right are remembered.
	if now := e.gate.Load(); now != nil && now.own == own && now.all == all {
		return now.Gate
	}
	lookings := []*journal.Looking{own.entry.Access}
	if all != nil {
		lookings = append(lookings, all.entry.Access)
	}

	next := &gate{own: own, all: all, Gate: access.NewGate(e.journal.Environment, lookings...)}
	// Every deploy makes a new entry. Without this, each would cost every
	// visitor of a protected site a slow hash again.
	if before := e.gate.Load(); before != nil {
		next.Remember(before.Gate)
	}
	e.gate.Store(next)
	return next.Gate
}

// key returns the random part of a site's claim, by which
// passes are signed; "" if it cannot be read.
func (n *Node) key(ctx context.Context, site string) string {
	if key, ok := n.asked.keys.Load(site); ok {
		return key.(string)
	}
	// A visitor waits for it no longer than for content.
	ctx, cancel := context.WithTimeout(ctx, n.options.Patience)
	defer cancel()
	claim, err := record.ReadClaim(ctx, n.store, site)
	if err != nil {
		return ""
	}
	n.asked.keys.Store(site, claim.Incarnation)
	return claim.Incarnation
}

// followLink answers a link that opens an environment: the secret goes into a
// cookie, so that addresses stay as they are.
func (n visit) followLink(w http.ResponseWriter, r *http.Request, e *environment, guard *access.Gate, path,
	base string,
) string {
	// What follows the secret is the page that was shared.
	secret, rest, _ := strings.Cut(path, "/")
	if guard != nil {
		until, ok := guard.Opens(secret, n.key(r.Context(), e.journal.Site), n.clock.now())
		if !ok {
			return httpanswer.Say(w, r, http.StatusForbidden,
				"This link has expired or was revoked. Ask for a new one.")
		}

		// For this site's path only, out of reach of its scripts, and not sent
		// along from other sites but by links.
		http.SetCookie(w, &http.Cookie{
			Name: access.Cookie, Value: secret, Path: base + "/", HttpOnly: true,
			SameSite: http.SameSiteLaxMode, Secure: httpanswer.Scheme(r) == "https",
			MaxAge: max(1, int(until.Sub(n.clock.now())/time.Second)),
		})
	}

	w.Header().Set("Location", base+"/"+strings.TrimLeft(rest, "/"))
	w.Header().Set("Cache-Control", "no-store")
	// The address holds a secret, so no page that is opened from here may learn
	// it, and no cache may keep the answer.
	w.Header().Set("Referrer-Policy", "no-referrer")
	w.Header().Set("X-Robots-Tag", "noindex")
	w.Header().Set("Content-Length", "0")
	w.WriteHeader(http.StatusSeeOther)
	return "link"
}

// admits reports whether a visitor may look at what a gate keeps. The error is as that
// of access.Gate.Admits.
func (n visit) admits(r *http.Request, e *environment, guard *access.Gate) (bool, error) {
	if guard == nil {
		return true, nil
	}
	return guard.Admits(r.Context(), access.Attempt{
		Authorization: r.Header.Get("Authorization"), Cookies: r.Cookies(),
		Client: connections.VisitorOf(r).Client(), Key: n.key(r.Context(), e.journal.Site),
		Now: n.clock.now(),
	}, n.asked.guesses)
}

// refuse answers a visitor who may not look. Passwords that were wrong are told, without
// the passwords.
func (n visit) refuse(w http.ResponseWriter, r *http.Request, site, environment string, err error) string {
	visitor := connections.VisitorOf(r)
	event := httpanswer.Event{Kind: "refused", Site: site, Environment: environment, Method: r.Method,
		Host: r.Host, Path: r.URL.EscapedPath(), Status: http.StatusUnauthorized, Text: "wrong password",
		Client: visitor.Address.String()}
	switch {
	case errors.Is(err, access.ErrTooMany):
		connections.Unwanted(w, r)
		wait := max(time.Second, n.asked.guesses.Wait(visitor.Client()))
		w.Header().Set("Retry-After", strconv.Itoa(int((wait+time.Second-1)/time.Second)))
		event.Status, event.Text = http.StatusTooManyRequests, "too many wrong passwords"
		if n.asked.passing.Allow() {
			n.tell(event)
		}
		return httpanswer.Say(w, r, http.StatusTooManyRequests,
			"Too many passwords were tried. Please wait a moment and try again.")
	case errors.Is(err, access.ErrWrong):
		n.tell(event)
	}
	return n.finish(w, r, answer.Refuse(site+" "+environment), nil, nil)
}

// withoutLink takes out of a request what a link that opens environments left: no
// upstream may learn it.
func withoutLink(r *http.Request) *http.Request {
	if !strings.Contains(strings.Join(r.Header.Values("Cookie"), ";"), access.Cookie) {
		return r
	}
	r = r.Clone(r.Context())
	takeOutLinks(r)
	return r
}

// withoutKeys takes out of a request what opens environments, so that no upstream
// learns it.
func withoutKeys(r *http.Request) *http.Request {
	r = r.Clone(r.Context())
	takeOutLinks(r)
	if authorization := r.Header.Get("Authorization"); len(authorization) > 6 &&
		strings.EqualFold(authorization[:6], "Basic ") {
		r.Header.Del("Authorization")
	}
	return r
}

// takeOutLinks takes the cookies of links out of a request.
func takeOutLinks(r *http.Request) {
	// What is not ours passes byte for byte: a cookie may hold what net/http would
	// leave out or write in another way.
	lines := r.Header.Values("Cookie")
	r.Header.Del("Cookie")
	for _, line := range lines {
		if rest := withoutKey(line); rest != "" {
			r.Header.Add("Cookie", rest)
		}
	}
}

// withoutKey takes the cookie that opens an environment out of a Cookie field.
func withoutKey(line string) string {
	others := slices.DeleteFunc(strings.Split(line, ";"), func(pair string) bool {
		name, _, _ := strings.Cut(pair, "=")
		return strings.TrimSpace(name) == access.Cookie
	})
	return strings.TrimLeft(strings.Join(others, ";"), " ")
}

// openness says to whom the address of a release answers.
type openness int

const (
	closed    openness = iota // not to this visitor, since nobody was ever shown it
	withdrawn                 // to nobody: it was shown behind a password that there is no more
	locked                    // to whoever has the password of an environment that serves it, or has
	unlocked                  // it does: this visitor has
	open                      // to everybody: an environment without a password serves it, or has
)

// openTo reports whether a release answers at its own address. One that was
// never live is shown on the machine of the edge node only.
//
// guessed is what came of a password that was sent, as access.Gate.Admits says it.
func (n visit) openTo(r *http.Request, site string, id release.ID) (found openness, guessed, err error) {
	found = closed
	for _, e := range of(n.Node, site) {
		openly, guarded, err := e.served(r.Context(), id)
		if err != nil {
			return closed, nil, err
		}
		if !openly && !guarded {
			continue
		}

		guard := n.guard(e, e.current.Load())
		preview := strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix)
		switch {
		case openly && (!preview || guard == nil):
			return open, nil, nil // also where it has a password by now: this was shown to everybody
		case guard == nil:
			found = max(found, withdrawn)
		default:
			may, err := n.admits(r, e, guard)
			if may {
				found = unlocked
				break
			}
			found, guessed = max(found, locked), err
		}
	}

	// Who sits at the machine may look at what was built and never live: it is
	// how a build is reviewed.
	if found == closed && n.here(r) {
		found = open
	}
	return found, guessed, nil
}

// here reports whether a request comes from this machine, and from nobody behind it.
// Once anything has come through a proxy on this machine, nobody is believed to be
// here: the next request may be a stranger's, and say nothing of it.
func (n visit) here(r *http.Request) bool {
	visitor := connections.VisitorOf(r)
	return visitor.Here && !n.is.proxied.Load()
}

// noticeProxy notices from what comes that a proxy stands in front of the node, and
// tells once if it is not trusted: all its visitors count as one then.
func (n visit) noticeProxy(r *http.Request) {
	// Nearly no request says that somebody else asks.
	if !connections.Claims(r) {
		return
	}
	visitor := connections.VisitorOf(r)
	if visitor.Claims && visitor.Address.IsLoopback() {
		n.is.proxied.Store(true)
	}
	if visitor.Claims && (visitor.Address.IsLoopback() || visitor.Address.IsPrivate()) &&
		!n.is.untrusted.Swap(true) {
		n.trouble(nil, fmt.Sprintf("a proxy at %s passes requests on and is not trusted, so its visitors "+
			"count as one client; if it is yours, start the node with --trust %s",
			visitor.Address, visitor.Address))
	}
}

// of returns the environments of a site that were read.
func of(n *Node, site string) (list []*environment) {
	for _, e := range n.all.list() {
		if e.journal.Site == site && e.current.Load() != nil {
			list = append(list, e)
		}
	}
	return list
}

// history is what an environment has served, as far as anybody has asked.
type history struct {
	mutex    sync.Mutex
	upTo     int64
	releases map[release.ID]bool // true: when everybody could look
}

// served reports whether an environment serves a release, or has, when
// everybody could look, or behind a password. Of a preview, a password for all
// of them does not count here.
func (e *environment) served(ctx context.Context, id release.ID) (openly, guarded bool, err error) {
	h := &e.history
	h.mutex.Lock()
	defer h.mutex.Unlock()
	if h.releases == nil {
		h.releases = map[release.ID]bool{}
	}

	// Each entry is read once. Who was shown what never changes afterwards.
	for last := e.current.Load().entry.Number; h.upTo < last; h.upTo++ {
		entry, err := e.journal.Get(ctx, h.upTo+1)
		if errors.Is(err, journal.ErrDamaged) || errors.Is(err, journal.ErrUnknown) {
			continue // it opens nothing
		}
		if err != nil {
			return false, false, err
		}

		if !entry.Release.IsZero() {
			h.releases[entry.Release] = h.releases[entry.Release] || !entry.Access.Protects()
		}
	}
	openly, found := h.releases[id]
	return openly, found && !openly, nil
}
