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
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"orilla.example/orilla/internal/connections"
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
	bounds    atomic.Pointer[bounds]
	upstreams sync.Map // *atomic.Int64: how many requests each host has, by scheme://host
}

// bounds are what the operator allows.
type bounds struct {
	reach Reach
	most  int // requests at once to one upstream; 0 for no bound
}

// Set says what may be reached, and how many requests one upstream gets at once.
func (p *Proxies) Set(reach Reach, most int) { p.bounds.Store(&bounds{reach, most}) }

// NewProxies returns proxies that reach nothing inside the server's own network until
// Set says otherwise. wait is how long an upstream may take to begin its answer; 0: 30 s.
func NewProxies(wait time.Duration) *Proxies {
	p := &Proxies{pseudonym: newPseudonym()}
	p.Set(Reach{}, 0)
	dialer := &net.Dialer{Timeout: connectTimeout, Control: func(_, address string, _ syscall.RawConn) error {
		// After names were resolved, so that no name leads
		// to where no address may.
		to, err := netip.ParseAddrPort(address)
		if err != nil || !p.bounds.Load().reach.Allows(to.Addr()) {
			return errProhibited
		}
		return nil
	}}

	if wait == 0 {
		wait = AnswerTimeout
	}
	p.transport = &http.Transport{
		DialContext: dialer.DialContext, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 32,
		IdleConnTimeout: 90 * time.Second,
		// bytes go as they come
		TLSHandshakeTimeout: connectTimeout, ResponseHeaderTimeout: wait, DisableCompression: true,
		MaxResponseHeaderBytes: 64 << 10,
	}
	return p
}

// enter counts a request to an upstream, and reports whether it may have one more.
// leave ends it.
func (p *Proxies) enter(origin string) (leave func(), ok bool) {
	found, _ := p.upstreams.LoadOrStore(origin, new(atomic.Int64))
	count := found.(*atomic.Int64)
	leave = func() { count.Add(-1) }
	if most := p.bounds.Load().most; count.Add(1) > int64(most) && most > 0 {
		leave()
		return nil, false
	}
	return leave, true
}

// Pass sends a request to its upstream and the response back. An upstream that
// cannot answer becomes 502 or 504; the error then says why, for the log.
func (p *Proxies) Pass(w http.ResponseWriter, r *http.Request, a answer.Answer, upstreams map[string]string,
) error {
	// Which server a name means is the environment's matter, so one release
	// goes to staging and to production.
	base, target, err := targetOf(a.Upstream, upstreams)
	if err != nil {
		respondUpstreamError(w, r, a, http.StatusBadGateway, "proxy_internal_error")
		return err
	}

	if r, err = p.outgoing(r); err != nil {
		respondUpstreamError(w, r, a, http.StatusBadGateway, "proxy_loop_detected")
		return fmt.Errorf("upstream %s: %w", base.Host, err)
	}
	leave, ok := p.enter(base.Scheme + "://" + base.Host)
	if !ok {
		respondUpstreamError(w, r, a, http.StatusServiceUnavailable, "connection_limit_reached")
		return fmt.Errorf("upstream %s: %w", base.Host, ErrBusy)
	}
	defer leave()
	sent := &sentBody{ReadCloser: r.Body}
	if r.Body != nil && r.Body != http.NoBody {
		r.Body = sent
	}

	//nolint:errcheck // HTTP/2 always is; else a body is read whole before the answer
	http.NewResponseController(w).EnableFullDuplex()
	var failed error
	proxy := httputil.ReverseProxy{
		Transport: p.transport, FlushInterval: -1, ErrorLog: log.New(io.Discard, "", 0),
		Rewrite: func(pr *httputil.ProxyRequest) {
			pr.Out.URL, pr.Out.Host = target, target.Host
			// What the visitor sent under these names has been taken away.
			pr.SetXForwarded()
			pr.Out.Header.Set("X-Forwarded-Proto", Scheme(pr.In))
			pr.Out.Header.Set("Forwarded", forwarded(pr.In))
		},
		ModifyResponse: func(response *http.Response) error {
			finish(a.Upstream, base, response)
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			// What the visitor sends, or does not, is the visitor's fault. This comes
			// first: net/http takes one who sends nothing for one who has gone.
			if broke := sent.broke(); broke != nil {
				failed = context.Canceled
				respondBroken(w, r, broke)
				return
			}
			// The visitor has gone. That is not the upstream's fault, and without a
			// status it would be written as 200.
			if r.Context().Err() != nil {
				failed = context.Canceled
				w.WriteHeader(http.StatusBadGateway)
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

// finish changes the header of an upstream's response as visitors are to see it.
func finish(from *answer.Upstream, base *url.URL, response *http.Response) {
	if location := response.Header.Get("Location"); location != "" {
		origin := base.Scheme + "://" + base.Host
		response.Header.Set("Location",
			from.Back(location, origin, strings.TrimSuffix(base.EscapedPath(), "/")))
	}
	// Only this node says what it serves.
	response.Header.Del(ReleaseField)
	from.Finish(response.StatusCode, response.Header)
}

// targetOf returns the address below which an upstream's paths lie, and the one that a
// request goes to.
func targetOf(to *answer.Upstream, upstreams map[string]string) (base, target *url.URL, err error) {
	if base, err = upstreamURL(to, upstreams); err == nil {
		target, err = url.Parse(strings.TrimSuffix(base.String(), "/") + to.Path)
	}
	return base, target, err
}

// ErrBusy: an upstream has as many requests as it may have.
var ErrBusy = errors.New("it has as many requests as --upstream-requests allows")

// sentBody is the body of a request, and remembers why reading it failed.
type sentBody struct {
	io.ReadCloser
	failed atomic.Pointer[error]
}

// Read implements io.Reader.
func (b *sentBody) Read(data []byte) (int, error) {
	n, err := b.ReadCloser.Read(data)
	if err != nil && !errors.Is(err, io.EOF) {
		b.failed.Store(&err)
	}
	return n, err
}

// broke is why reading failed, nil if it did not.
func (b *sentBody) broke() error {
	if failed := b.failed.Load(); failed != nil {
		return *failed
	}
	return nil
}

// respondBroken answers a request whose body did not come, or not as it should.
func respondBroken(w http.ResponseWriter, r *http.Request, err error) {
	status, line := http.StatusBadRequest, "The body of the request is broken."
	var network net.Error
	if errors.As(err, &network) && network.Timeout() {
		status, line = http.StatusRequestTimeout, "The body of the request did not come in time."
	}
	w.Header().Set("Connection", "close")
	Say(w, r, status, line)
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
func Scheme(r *http.Request) string { return connections.VisitorOf(r).Scheme }

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
	case status == http.StatusServiceUnavailable:
		line = "Too many requests are passed on at the moment. Please try again in a few seconds."
		header.Set("Retry-After", retryAfter)
	case kind == "proxy_loop_detected":
		line = "This address is passed on to where it came from."
	case kind == "proxy_internal_error":
		line = "This address is passed on to another server, and nothing says where that is."
	}
	respondText(w, r, answer.Answer{Status: status, Text: line + "\n"})
}
