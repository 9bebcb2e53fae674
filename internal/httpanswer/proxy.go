package httpanswer

import (
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

// Proxies pass requests on to upstreams, over connections that they share. It
// is safe for concurrent use.
type Proxies struct {
	transport *http.Transport
	pseudonym string // in Via fields
}

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
	return &Proxies{pseudonym: newPseudonym(), transport: &http.Transport{
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

	if r, err = p.outgoing(r); err != nil {
		respondUpstreamError(w, r, a, http.StatusBadGateway, "proxy_loop_detected")
		return fmt.Errorf("upstream %s: %w", base.Host, err)
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
	case kind == "proxy_loop_detected":
		line = "This address is passed on to where it came from."
	case kind == "proxy_internal_error":
		line = "This address is passed on to another server, and nothing says where that is."
	}
	respondText(w, r, answer.Answer{Status: status, Text: line + "\n"})
}
