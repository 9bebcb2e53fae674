package edge

import (
	"net/http"
	"strings"

	"orilla.example/orilla/internal/connections"
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
//
// Only reading is led there: a form that is sent must arrive.
func leadsToSecure(n *Node, r *http.Request, s *serving) bool {
	if s == nil || len(s.addresses) == 0 || s.addresses[0].Scheme != "https" || !rightMethod(r) {
		return false
	}
	visitor := connections.VisitorOf(r)
	switch {
	case visitor.Scheme != "http" || visitor.Claims:
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
