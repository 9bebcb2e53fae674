// Package connections keeps an address open to visitors, whatever strangers do with
// theirs: it bounds how many connections there are, in all and of each client, ends
// those that take or send nothing, and lets a server stop without dropping anybody.
//
//	accept --> admission --> PROXY protocol --> net/http --> trust --> handler
//	           in all, and   from trusted       HTTP/1.1     who asks
//	           per client    networks only
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
	"context"
	"errors"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/pires/go-proxyproto"
)

// Limits bound what clients may use. Zero values are no bound.
type Limits struct {
	Total     int // connections at once
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

	admission admission
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

// Serve answers on listeners until the context ends, and then drains. It closes the
// listeners. hurry ends draining before its time; nil for never.
func (s *Server) Serve(ctx context.Context, hurry <-chan struct{}, listeners ...net.Listener) error {
	if s.limits.Load() == nil {
		s.SetLimits(Limits{})
	}
	if s.trust.Load() == nil {
		s.SetTrust(Trust{})
	}

	server := &http.Server{
		Handler: http.HandlerFunc(s.handle), ReadHeaderTimeout: headerTimeout, IdleTimeout: idleTimeout,
		MaxHeaderBytes: 64 << 10, ConnState: s.changed,
		BaseContext: func(net.Listener) context.Context { return context.WithoutCancel(ctx) },
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			return context.WithValue(ctx, connectionKey{}, c)
		},
	}

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
	return &admitting{Listener: &proxyproto.Listener{
		Listener: inner, ReadHeaderTimeout: headerTimeout,
		ConnPolicy: func(options proxyproto.ConnPolicyOptions) (proxyproto.Policy, error) {
			if address, ok := addressOf(options.Upstream); ok && s.trust.Load().Includes(address) {
				return proxyproto.USE, nil
			}
			// The bytes of a stranger are a request, and a bad one.
			return proxyproto.SKIP, nil
		},
	}, server: s}
}

// handle tells the handler who asks, and lets no body wait for ever.
func (s *Server) handle(w http.ResponseWriter, r *http.Request) {
	upgrades := r.Header.Get("Upgrade") != ""
	if s.draining.Load() && !upgrades {
		w.Header().Set("Connection", "close")
	}
	// RFC 9112, section 6.1: of a request with Content-Length and Transfer-Encoding,
	// the length is not to be believed, and the connection must end. net/http takes
	// the length away, so every chunked request ends its connection.
	if len(r.TransferEncoding) > 0 && r.ProtoMajor == 1 && !upgrades {
		w.Header().Set("Connection", "close")
	}

	r = s.trust.Load().asVisitor(r)
	if r.Body != nil && r.Body != http.NoBody {
		// In a copy: net/http looks at the body in the request that it made.
		r = r.WithContext(r.Context())
		r.Body = s.incoming(w, r)
	}
	s.Handler.ServeHTTP(w, r)
}
