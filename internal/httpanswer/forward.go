package httpanswer

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"orilla.example/orilla/internal/connections"
)

// errLoop: a request came that these proxies have passed on before.
var errLoop = errors.New(
	"it leads back to this edge node; the proxy rule or its upstream must name another server")

// newPseudonym returns a name for one server in Via fields, which no other has.
func newPseudonym() string { return "orilla-" + strings.ToLower(rand.Text()[:10]) }

// forwarding are the fields by which proxies say who asked, besides those that
// begin with X-Forwarded-. Upstreams believe them, so a visitor's do not pass.
var forwarding = []string{"Forwarded", "X-Real-Ip", "X-Client-Ip", "X-Cluster-Client-Ip", "True-Client-Ip",
	"X-Original-Url", "X-Rewrite-Url", "X-Original-Host"}

// outgoing is a request as it may be passed on: with the proxy's name in Via (RFC
// 9110, section 7.6.3), without what a visitor says of the way it came, and
// without the wish to speak anything but HTTP and websockets. The error is errLoop.
func (p *Proxies) outgoing(r *http.Request) (*http.Request, error) {
	via := r.Header.Values("Via")
	// Each turn of a loop holds a connection and a visitor's request open.
	if strings.Contains(strings.Join(via, ","), p.pseudonym) {
		return r, errLoop
	}

	out := r.WithContext(r.Context())
	out.Header = r.Header.Clone()
	out.Header.Set("Via", strings.Join(append(via, fmt.Sprintf("%d.%d %s", r.ProtoMajor, r.ProtoMinor,
		p.pseudonym)), ", "))
	for name := range out.Header {
		if strings.HasPrefix(name, "X-Forwarded-") {
			out.Header.Del(name)
		}
	}
	for _, name := range forwarding {
		out.Header.Del(name)
	}
	if !strings.EqualFold(out.Header.Get("Upgrade"), "websocket") {
		out.Header.Del("Upgrade")
	}
	return out, nil
}

// forwarded is the value of a Forwarded field (RFC 7239).
func forwarded(r *http.Request) string {
	from := "unknown"
	if address := connections.VisitorOf(r).Address; address.IsValid() {
		from = address.String()
	}
	// RFC 7239, section 6: an IPv6 address stands in brackets and quotation
	// marks.
	if strings.Contains(from, ":") {
		from = `"[` + from + `]"`
	}
	return fmt.Sprintf("for=%s;host=%q;proto=%s", from, Printable(r.Host), Scheme(r))
}
