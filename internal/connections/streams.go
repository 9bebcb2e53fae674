package connections

import (
	"context"
	"net/http"
	"net/netip"
	"sync"
	"time"
)

// A request over HTTP/2 costs a goroutine, its header, and what waits of its answer: some
// ten kB. What ends one:
//
//	its answer was taken                      the count goes down
//	its answer is taken too slowly            reset, by the deadline of its stream
//	a small answer is not taken at all        the connection ends; see Server.watch
//	its client goes                           net/http notices
//
// streams counts requests over HTTP/2. There may be many on one connection, and each costs
// about what a connection does, so the same bounds are for both.
type streams struct {
	mutex   sync.Mutex
	total   int
	clients map[netip.Prefix]int
}

const (
	// streamsMost is how many requests one connection may have at once: the least that
	// RFC 9113, section 6.5.2, recommends.
	streamsMost = 100
	// streamsPerClient is how many requests a client may have at once for each connection
	// that it may have: a page asks for dozens of files at once.
	streamsPerClient = 4
)

// enter counts a request until its stream has ended, and reports whether there is room
// for it.
func (s *Server) enter(r *http.Request, c *connection) bool {
	limits := s.limits.Load()
	if limits.Total <= 0 && limits.PerClient <= 0 {
		return true
	}
	client := s.clientOf(r, c)
	// Counted at once for both bounds: of two requests that come together, one must not
	// take what the other was promised.
	t := &s.streams
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if limits.Total > 0 && t.total >= limits.Total {
		return false
	}
	if client.IsValid() {
		if limits.PerClient > 0 && t.clients[client] >= limits.PerClient*streamsPerClient {
			return false
		}
		if t.clients == nil {
			t.clients = map[netip.Prefix]int{}
		}
		t.clients[client]++
	}
	t.total++
	// The handler may have ended long before the client has taken its answer.
	context.AfterFunc(r.Context(), func() { t.leave(client) })
	return true
}

// clientOf is whose request is counted; not valid for one from this machine, or from a
// proxy that does not say.
func (s *Server) clientOf(r *http.Request, c *connection) netip.Prefix {
	// What was found out once for the connection holds for its requests, but for those that
	// a proxy passes on.
	if c != nil && !s.trust.Load().Includes(c.peer) {
		return c.client
	}
	if address := VisitorOf(r).Address; s.counts(address) {
		return ClientOf(address)
	}
	return netip.Prefix{}
}

// leave takes a request out of the count.
func (t *streams) leave(client netip.Prefix) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.total--
	if !client.IsValid() {
		return
	}
	// A client that has gone leaves nothing: strangers come from many addresses.
	if t.clients[client]--; t.clients[client] <= 0 {
		delete(t.clients, client)
	}
}

// stream sends an answer over HTTP/2, as connection does over HTTP/1.1: a client may let
// a stream wait by granting nothing (RFC 9113, section 5.2), while the connection goes on.
type stream struct {
	http.ResponseWriter
	limits   *Limits
	sent     int
	credit   time.Duration
	deadline time.Time
}

// smallAnswer is how much of an answer net/http holds until the handler has ended: nobody
// waits for the client while it is written. Server.watch looks after what stays there.
const smallAnswer = 4096

// stream returns how an answer is sent as the limits allow.
func (s *Server) stream(w http.ResponseWriter) http.ResponseWriter {
	limits := s.limits.Load()
	if limits.Rate <= 0 {
		return w
	}
	return &stream{ResponseWriter: w, limits: limits, credit: limits.Grace}
}

// Write implements io.Writer.
func (s *stream) Write(data []byte) (int, error) {
	if s.sent += len(data); s.sent <= smallAnswer && s.deadline.IsZero() {
		return s.ResponseWriter.Write(data)
	}
	began := time.Now()
	// Setting one costs about as much as a small answer, so it is moved only when it has
	// come nearer by a quarter.
	deadline := began.Add(s.credit + worth(len(data), s.limits.Rate))
	if s.deadline.IsZero() || deadline.Before(s.deadline) || deadline.Sub(s.deadline) > s.limits.Grace/4 {
		s.deadline = deadline
		//nolint:errcheck // without deadlines, it waits
		http.NewResponseController(s.ResponseWriter).SetWriteDeadline(deadline)
	}
	n, err := s.ResponseWriter.Write(data)
	s.credit = min(s.limits.Grace, s.credit-time.Since(began)+worth(n, s.limits.Rate))
	return n, err
}

// Unwrap lets http.ResponseController reach the writer below.
func (s *stream) Unwrap() http.ResponseWriter { return s.ResponseWriter }
