// Package connections keeps an address open to visitors, whatever strangers do with
// theirs: it bounds how many connections there are, in all and of each client, ends
// those that take or send nothing, and lets a server stop without dropping anybody.
//
//	accept --> admission --> PROXY protocol --> TLS, if --> net/http --> trust --> handler
//	           in all, and   from trusted       it is one   HTTP/1.1,    who asks
//	           per client    networks only      with it     HTTP/2
//
// Bounds are of three kinds. Of how many: in all and for each client, where a connection
// that waits makes room for one that has something to say. Of how slow: a client must take
// and send at a rate on the average, and may rest in between. Of how long: a header has ten
// seconds, and a connection without a request two minutes. An answer itself has none, since
// it may be a stream, or large.
//
// Who asks is the other end of the connection, unless that is in a network that the
// operator trusts: then it is whom the proxy there names, by the PROXY protocol or
// in a header (Forwarded, RFC 7239; X-Forwarded-For). VisitorOf tells it.
package connections

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"log"
	"net"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pires/go-proxyproto"
)

// Limits bound what clients may use. Zero values are no bound.
type Limits struct {
	Total     int // connections at once, and so many requests over HTTP/2
	PerClient int // of one client: an IPv4 address, or an IPv6 network of 64 bits

	// Rate is how many bytes a second a client must take of an answer, or send of a
	// body, on the average. What it does not use in Grace it may use up later.
	Rate  int64
	Grace time.Duration // 0: 20 s
}

// How long a connection may be silent.
const (
	headerTimeout = 10 * time.Second // from the first byte of a header to its last
	idleTimeout   = 2 * time.Minute  // between requests
	usualGrace    = 20 * time.Second
	pendingPoll   = 2 * time.Millisecond // when the server stops
)

// Server answers on listeners. Set its fields before Serve is called; SetLimits and
// SetTrust may be called at any time.
type Server struct {
	Handler http.Handler

	// Drain is how long the server goes on answering when it is to stop, so that
	// whoever sends visitors here has time to see it. Answers then say that the
	// connection ends.
	Drain time.Duration
	// Finish is how long requests that have begun may take after that; 0: 5 s.
	Finish time.Duration
	// Draining is called when draining begins; nil for nobody.
	Draining func()
	// Serves reports whether a connection that was opened for a name over TLS, "" for
	// none, may carry requests for a host; nil: every host.
	Serves func(name, host string) bool
	// Refused is told what HTTP refused before it was a request; nil for nobody.
	Refused func(Refusal)

	admission admission
	turned    atomic.Int64 // connections for which there was no room
	streams   streams
	limits    atomic.Pointer[Limits]
	trust     atomic.Pointer[Trust]
	draining  atomic.Bool
}

// SetLimits sets what clients may use from now on.
func (s *Server) SetLimits(limits Limits) {
	if limits.Grace == 0 {
		limits.Grace = usualGrace
	}
	s.limits.Store(&limits)
}

// SetTrust sets whose word on who asks is taken.
func (s *Server) SetTrust(trust Trust) { s.trust.Store(&trust) }

// Open returns how many connections there are.
func (s *Server) Open() int { return s.admission.open() }

// Turned returns for how many connections there was no room so far.
func (s *Server) Turned() int64 { return s.turned.Load() }

// Serve answers on listeners until the context ends, and then drains. It closes the
// listeners. hurry ends draining before its time; nil for never.
func (s *Server) Serve(ctx context.Context, hurry <-chan struct{}, listeners ...net.Listener) error {
	if s.limits.Load() == nil {
		s.SetLimits(Limits{})
	}
	if s.trust.Load() == nil {
		s.SetTrust(Trust{})
	}

	server := s.http(ctx)
	watching, done := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { s.watch(watching) })
	defer owned.Wait()
	defer done()
	ended := make(chan error, len(listeners))
	for i, listener := range listeners {
		listeners[i] = s.listener(listener)
		go func() { ended <- server.Serve(listeners[i]) }()
	}

	var failed error
	running := len(listeners)
	select {
	case <-ctx.Done():
	case failed = <-ended: // the listener broke; the others cannot go on alone
		running--
	}
	s.drain(server, hurry, listeners)

	for range running {
		err := <-ended
		if failed == nil && !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
			failed = err
		}
	}
	return failed
}

// http is how net/http serves the connections.
func (s *Server) http(ctx context.Context) *http.Server {
	// HTTP/2 without TLS begins with its preface (RFC 9113, section 3.3): so do proxies that
	// stand in front.
	protocols := &http.Protocols{}
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	protocols.SetUnencryptedHTTP2(true)
	return &http.Server{
		Handler: http.HandlerFunc(s.handle), ReadHeaderTimeout: headerTimeout, IdleTimeout: idleTimeout,
		MaxHeaderBytes: 64 << 10, ConnState: s.changed,
		Protocols: protocols, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: streamsMost,
			MaxReadFrameSize: 16 << 10, MaxReceiveBufferPerStream: 64 << 10,
			MaxReceiveBufferPerConnection: 128 << 10},
		ErrorLog:    log.New(quiet{}, "", log.LstdFlags),
		BaseContext: func(net.Listener) context.Context { return context.WithoutCancel(ctx) },
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			return context.WithValue(ctx, connectionKey{}, connectionOf(c))
		},
	}
}

// quiet leaves out of net/http's log what strangers can cause at will: handshakes that
// fail, frames that are no HTTP/2. What stays is what somebody must mend.
type quiet struct{}

// Write implements io.Writer.
func (quiet) Write(line []byte) (int, error) {
	for _, kept := range []string{"panic", "Accept error", "superfluous"} {
		if bytes.Contains(line, []byte(kept)) {
			return os.Stderr.Write(line)
		}
	}
	return len(line), nil
}

// drain lets visitors go: first they are still answered, and told that their
// connection ends; then nobody new comes in, and what has begun is finished.
func (s *Server) drain(server *http.Server, hurry <-chan struct{}, listeners []net.Listener) {
	s.draining.Store(true)
	if s.Draining != nil {
		s.Draining()
	}
	if s.Drain > 0 {
		select {
		case <-time.After(s.Drain):
		case <-hurry:
		}
	}

	finish := s.Finish
	if finish == 0 {
		finish = 5 * time.Second
	}
	// Not the context that has ended: what has begun is to finish.
	grace, cancel := context.WithTimeout(context.Background(), finish)
	defer cancel()
	// From its Shutdown on, net/http answers no request that it has not read whole. So
	// first nobody new comes, and whoever has come is answered.
	for _, listener := range listeners {
		listener.Close() //nolint:errcheck // it may have broken
	}
	for s.admission.pending() > 0 && grace.Err() == nil {
		time.Sleep(pendingPoll)
	}
	if server.Shutdown(grace) != nil {
		server.Close() //nolint:errcheck // it ends either way
	}
}

// Serve answers on one listener without limits, for one's own browser, until the
// context ends.
func Serve(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := Server{Handler: handler}
	return server.Serve(ctx, nil, listener)
}

// listener wraps a listener: connections are admitted, and what trusted proxies say
// at their beginning is read.
func (s *Server) listener(inner net.Listener) net.Listener {
	secured, isSecured := inner.(*secure)
	admitted := &admitting{Listener: &proxyproto.Listener{
		Listener: inner, ReadHeaderTimeout: headerTimeout,
		ConnPolicy: func(options proxyproto.ConnPolicyOptions) (proxyproto.Policy, error) {
			if address, ok := addressOf(options.Upstream); ok && s.trust.Load().Includes(address) {
				return proxyproto.USE, nil
			}
			// The bytes of a stranger are a request, and a bad one.
			return proxyproto.SKIP, nil
		},
	}, server: s}
	if isSecured {
		return tls.NewListener(admitted, secured.config)
	}
	return admitted
}

// hostOf takes the port off the value of a Host field.
func hostOf(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		return name
	}
	return host
}

// secure is a listener whose connections speak TLS.
type secure struct {
	net.Listener
	config *tls.Config
}

// Secure returns a listener for Serve whose connections speak TLS, and HTTP/2 if the client
// can (ALPN, RFC 7301).
func Secure(listener net.Listener, config *tls.Config) net.Listener {
	config = config.Clone()
	config.NextProtos = append([]string{"h2", "http/1.1"}, config.NextProtos...)
	return &secure{listener, config}
}

// IsSecure reports whether the connections of a listener speak TLS.
func IsSecure(listener net.Listener) bool {
	_, is := listener.(*secure)
	return is
}

// handle tells the handler who asks, and lets no body wait for ever.
func (s *Server) handle(w http.ResponseWriter, r *http.Request) {
	c := connectionIn(r)
	if c != nil {
		c.unread.Store(false)
		c.asks(r)
		if r.ProtoMajor == 2 {
			c.running.Add(1)
			defer func() {
				c.answered.Store(tick())
				c.running.Add(-1)
			}()
		}
	}
	upgrades := len(r.Header["Upgrade"]) > 0
	if s.draining.Load() && !upgrades {
		w.Header().Set("Connection", "close")
	}
	// RFC 9112, section 6.1: of a request with Content-Length and Transfer-Encoding,
	// the length is not to be believed, and the connection must end. net/http takes
	// the length away, so every chunked request ends its connection.
	if len(r.TransferEncoding) > 0 && r.ProtoMajor == 1 && !upgrades {
		w.Header().Set("Connection", "close")
	}

	// A browser sends requests for one site over a connection to another one where both
	// have the same certificate. Of whom they do not, nobody could tell (RFC 9110, section
	// 7.4): they get another connection.
	if r.TLS != nil && s.Serves != nil && !s.Serves(r.TLS.ServerName, hostOf(r.Host)) {
		w.Header().Set("Cache-Control", "no-store")
		http.Error(w, "This connection is not for this host.", http.StatusMisdirectedRequest)
		return
	}
	r = s.trust.Load().asVisitor(r)
	if r.ProtoMajor == 2 {
		if !s.enter(r, c) {
			w.Header().Set("Retry-After", "5")
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		w = s.stream(w)
	}
	if r.ContentLength != 0 { // -1: a body of which nobody says how long it is
		// In a copy: net/http looks at the body in the request that it made.
		r = r.WithContext(r.Context())
		r.Body = s.incoming(w, r)
	}
	s.Handler.ServeHTTP(w, r)
}
