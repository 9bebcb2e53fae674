package httpanswer

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"

	"orilla.example/orilla/internal/core/answer"
)

// How long an upstream may take. A response that has begun may go on for as
// long as it likes: it may be a stream.
const (
	connectTimeout = 5 * time.Second
	AnswerTimeout  = 30 * time.Second
)

// Reach says which upstreams inside the edge's own network may be asked. The
// zero Reach allows addresses of the public internet only: else whoever may
// deploy could ask the edge for what only its network can see.
type Reach struct {
	All      bool
	Networks []netip.Prefix
}

// errProhibited: the upstream's address is inside the edge's own network.
var errProhibited = errors.New(
	"the address is inside the edge's own network, and its operator has not allowed it")

// sharedSpace is the range between customers and their providers (RFC 6598),
// which netip does not count among the private ones.
var sharedSpace = netip.MustParsePrefix("100.64.0.0/10")

// String writes the networks as they can be given to ParseReach, "public" for none.
func (r Reach) String() string {
	if r.All {
		return reachAll
	}
	names := make([]string, len(r.Networks))
	for i, network := range r.Networks {
		names[i] = network.String()
	}
	return cmp.Or(strings.Join(names, " "), reachPublic)
}

// What networks can be called besides their prefixes.
const (
	reachAll    = "all"
	reachPublic = "public"
)

// ParseReach reads networks, each a prefix (10.1.0.0/16), an address, "all" or
// "public". The error names the one that is none.
func ParseReach(networks []string) (Reach, error) {
	var reach Reach
	for _, text := range networks {
		switch text {
		case reachAll:
			reach.All = true
			continue
		case reachPublic:
			continue
		}
		network, err := netip.ParsePrefix(text)
		// One address is a network of one.
		if address, addressErr := netip.ParseAddr(text); err != nil && addressErr == nil {
			network, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		if err != nil {
			return reach, fmt.Errorf("not a network: %q", text)
		}
		reach.Networks = append(reach.Networks, network)
	}
	return reach, nil
}

// Allows reports whether an upstream at an address may be asked. IPv4 addresses
// in the form of IPv6 count as what they are.
func (r Reach) Allows(address netip.Addr) bool {
	address = address.Unmap()
	for _, network := range r.Networks {
		if network.Contains(address) {
			return true
		}
	}
	// A rule is written by whoever may push to the repository; the edge's
	// network is somebody else's.
	inside := !address.IsGlobalUnicast() || address.IsPrivate() || sharedSpace.Contains(address)
	return r.All || !inside
}

// Proxies pass requests on to upstreams, over connections that they share. It
// is safe for concurrent use.
type Proxies struct{ transport *http.Transport }

// NewProxies returns proxies that reach what the operator allows.
func NewProxies(reach Reach, wait time.Duration) *Proxies {
	dialer := &net.Dialer{Timeout: connectTimeout, Control: func(_, address string, _ syscall.RawConn) error {
		// After names were resolved, so that no name leads
		// to where no address may.
		to, err := netip.ParseAddrPort(address)
		if err != nil || !reach.Allows(to.Addr()) {
			return errProhibited
		}
		return nil
	}}

	if wait == 0 {
		wait = AnswerTimeout
	}
	return &Proxies{&http.Transport{
		DialContext: dialer.DialContext, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 32,
		IdleConnTimeout: 90 * time.Second,
		// bytes go as they come
		TLSHandshakeTimeout: connectTimeout, ResponseHeaderTimeout: wait, DisableCompression: true,
		MaxResponseHeaderBytes: 64 << 10,
	}}
}

// Pass sends a request to its upstream and the response back. An upstream that
// cannot answer becomes 502 or 504; the error then says why, for the log.
func (p *Proxies) Pass(w http.ResponseWriter, r *http.Request, a answer.Answer, upstreams map[string]string,
) error {
	// Which server a name means is the environment's matter, so one release
	// goes to staging and to production.
	base, err := upstreamURL(a.Upstream, upstreams)
	if err != nil {
		respondUpstreamError(w, r, a, http.StatusBadGateway, "proxy_internal_error")
		return err
	}

	target, err := url.Parse(strings.TrimSuffix(base.String(), "/") + a.Upstream.Path)
	if err != nil {
		respondUpstreamError(w, r, a, http.StatusBadGateway, "proxy_internal_error")
		return err
	}

	//nolint:errcheck // HTTP/2 always is; else a body is read whole before the answer
	http.NewResponseController(w).EnableFullDuplex()
	var failed error
	proxy := httputil.ReverseProxy{
		Transport: p.transport, FlushInterval: -1, ErrorLog: log.New(io.Discard, "", 0),
		Rewrite: func(pr *httputil.ProxyRequest) {
			pr.Out.URL, pr.Out.Host = target, target.Host
			pr.SetXForwarded() // what the visitor sent under these names has been taken away
			pr.Out.Header.Set("Forwarded", forwarded(pr.In))
		},
		ModifyResponse: func(response *http.Response) error {
			if location := response.Header.Get("Location"); location != "" {
				origin := base.Scheme + "://" + base.Host
				response.Header.Set("Location",
					a.Upstream.Back(location, origin, strings.TrimSuffix(base.EscapedPath(), "/")))
			}
			// Only this node says what it serves.
			response.Header.Del(ReleaseField)
			a.Upstream.Finish(response.StatusCode, response.Header)
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			// The visitor has gone. That is not the upstream's fault.
			if r.Context().Err() != nil {
				failed = context.Canceled
				return
			}
			status, kind := upstreamTrouble(err)
			respondUpstreamError(w, r, a, status, kind)
			failed = fmt.Errorf("upstream %s: %w", base.Host, err)
		},
	}
	proxy.ServeHTTP(w, r)
	return failed
}

// upstreamURL returns the address below which an upstream's paths lie.
func upstreamURL(to *answer.Upstream, upstreams map[string]string) (*url.URL, error) {
	text := to.Origin
	if to.Name != "" {
		if text = upstreams[to.Name]; text == "" {
			return nil, fmt.Errorf("this environment has no address for the upstream %s", to.Name)
		}
	}
	return url.Parse(text)
}

// forwarded is the value of a Forwarded field (RFC 7239).
func forwarded(r *http.Request) string {
	from, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		from = "unknown"
	}
	// RFC 7239, section 6: an IPv6 address stands in brackets and quotation
	// marks.
	if strings.Contains(from, ":") {
		from = `"[` + from + `]"`
	}
	return fmt.Sprintf("for=%s;host=%q;proto=%s", from, Printable(r.Host), Scheme(r))
}

// Scheme is how a request came, as visitors see it in their address.
func Scheme(r *http.Request) string {
	if r.TLS != nil {
		return "https"
	}
	return "http"
}

// upstreamTrouble says which status an error of an upstream becomes, and its
// type in Proxy-Status (RFC 9209, section 2.3).
func upstreamTrouble(err error) (status int, kind string) {
	var dns *net.DNSError
	var network net.Error
	var operation *net.OpError
	switch {
	case errors.Is(err, errProhibited):
		return http.StatusBadGateway, "destination_ip_prohibited"
	case errors.As(err, &dns):
		return http.StatusBadGateway, "dns_error"
	case errors.Is(err, syscall.ECONNREFUSED):
		return http.StatusBadGateway, "connection_refused"
	case isTLS(err):
		return http.StatusBadGateway, "tls_certificate_error"
	case errors.As(err, &network) && network.Timeout() && errors.As(err, &operation) &&
		operation.Op == "dial":
		return http.StatusGatewayTimeout, "connection_timeout"
	case errors.As(err, &network) && network.Timeout():
		return http.StatusGatewayTimeout, "http_response_timeout"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return http.StatusBadGateway, "connection_terminated"
	}

	return http.StatusBadGateway, "http_protocol_error"
}

// isTLS reports whether an upstream failed to prove its identity.
func isTLS(err error) bool {
	var verification *tls.CertificateVerificationError
	var authority x509.UnknownAuthorityError
	var name x509.HostnameError
	return errors.As(err, &verification) || errors.As(err, &authority) || errors.As(err, &name)
}

// respondUpstreamError answers for an upstream that does
// not, without its address.
func respondUpstreamError(w http.ResponseWriter, r *http.Request, a answer.Answer, status int, kind string) {
	header := w.Header()
	// RFC 9209 has a name for each way in which it can go wrong.
	header.Set("Proxy-Status", "orilla; error="+kind)
	header.Set("Cache-Control", "no-store")
	header.Set("X-Content-Type-Options", "nosniff")
	a.Upstream.Finish(status, header)
	header.Set("Cache-Control", "no-store")
	line := "What this address is passed on to cannot be reached at the moment. Please try again later."
	switch {
	case status == http.StatusGatewayTimeout:
		line = "What this address is passed on to takes too long to answer. Please try again later."
	case kind == "proxy_internal_error":
		line = "This address is passed on to another server, and nothing says where that is."
	}
	respondText(w, r, answer.Answer{Status: status, Text: line + "\n"})
}
