package edge

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/httpanswer"
)

// leadsToSecure reports whether a visitor who came over plain HTTP is led to the same page
// over TLS: the address begins with https, and something here or in front speaks it. One
// page so has one address.
//
//	no proxy, a certificate of ours for the host      led there
//	a trusted proxy that says "http"                  led there: the proxy speaks TLS too
//	a trusted proxy that does not say                 answered: it may have ended TLS itself
//	a proxy that nobody trusts                        answered: its visitors may use TLS, and
//	                                                  would be led back to where they are
//	a proxy that does not show, and a browser that    answered: browsers send Sec-Fetch-Site to
//	says it came over TLS                             https only (W3C Fetch Metadata, section 3)
//
// Only reading is led there: a form that is sent must arrive.
func leadsToSecure(n *Node, r *http.Request, s *serving) bool {
	// Most requests end here: they came over TLS, or the site has no https address.
	if s == nil || len(s.addresses) == 0 || s.addresses[0].Scheme != "https" || !rightMethod(r) {
		return false
	}
	visitor := connections.VisitorOf(r)
	switch {
	case visitor.Scheme != "http" || visitor.Claims || r.Header.Get("Sec-Fetch-Site") != "":
		return false
	case visitor.Passed:
		return visitor.Told
	}
	return n.options.Secures != nil && n.options.Secures(httpanswer.HostName(r.Host))
}

// isBelow reports whether a path is that of a place, or below it.
func (p place) isBelow(path string) bool {
	rest, ok := strings.CutPrefix(path, p.base)
	return ok && (rest == "" || rest[0] == '/')
}

// Which names are secured follows from what is configured and served, each time that hosts are
// routed anew. A name that is in no environment any more is in no list any more, and nothing
// is ordered or renewed for it; what a stranger asks for never gets here.

// securedNames lists the hosts that certificates are wanted for: those of addresses that
// begin with https and that DNS can lead to. All previews below one name share a wildcard,
// which only validation by DNS can have.
func securedNames(environments []*environment, now time.Time) (list []string) {
	for _, e := range environments {
		s := e.current.Load()
		if s == nil || s.ended(now) {
			continue
		}
		for _, address := range s.addresses {
			host := strings.ToLower(address.Hostname())
			// Previews come and go: an order for each would be more than any authority grants.
			if e.journal.Environment == journal.Previews {
				host, _ = pattern(host)
			} else if label, is := strings.CutPrefix(e.journal.Environment, journal.PreviewPrefix); is {
				// One that is told apart by its path has its host's own.
				if !strings.Contains(address.EscapedPath(), "/"+label+"/") {
					host = hosts.Wildcard(host)
				}
			}
			if address.Scheme != "https" || !names.IsPublic(strings.TrimPrefix(host, "*.")) {
				continue
			}
			if host != "" && !slices.Contains(list, host) {
				list = append(list, host)
			}
		}
	}
	slices.Sort(list)
	return list
}

// challengePath begins the path at which authorities ask whether an order is ours (RFC 8555,
// section 8.3). No release, rule or proxy answers there: whoever did could have certificates
// issued for the name.
const challengePath = "/.well-known/acme-challenge/"

// challenged answers an authority, and reports whether the path is one of its own.
func challenged(n visit, w http.ResponseWriter, r *http.Request) bool {
	if !strings.HasPrefix(r.URL.Path, challengePath) {
		return false
	}
	connections.Unwanted(w, r)
	if n.options.Challenge == nil || !n.options.Challenge(w, r, httpanswer.HostName(r.Host)) {
		httpanswer.Say(w, r, http.StatusNotFound, "No certificate is being ordered.")
	}
	return true
}
