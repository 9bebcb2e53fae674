package connections

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"
)

// admission counts connections, and knows which of them wait.
type admission struct {
	mutex   sync.Mutex
	total   int
	taken   int // of them, for websockets and the like
	clients map[netip.Prefix]map[*connection]bool
	all     []*connection // in any order
}

// freshFor is how long a connection may take over its first header before it has to
// make room for another one.
const freshFor = time.Second

// admitting accepts the connections that there is room for.
type admitting struct {
	net.Listener
	server *Server
}

// Accept implements net.Listener.
func (l *admitting) Accept() (net.Conn, error) {
	for {
		inner, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if c := l.server.admit(inner); c != nil {
			return c, nil
		}
		l.server.turned.Add(1)
		inner.Close() //nolint:errcheck // there is no room for it
	}
}

// open returns how many connections there are.
func (a *admission) open() int {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	return a.total
}

// pending returns how many connections have a request, or may have one in a moment.
func (a *admission) pending() (count int) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	for _, c := range a.all {
		// One that has not sent anything for a while may never.
		idle, fresh := c.waits()
		if !c.taken && idle == 0 && fresh <= freshFor {
			count++
		}
	}
	return count
}

// admit takes a connection in, if need be in place of one that waits; nil if there
// is no room.
func (s *Server) admit(inner net.Conn) *connection {
	limits, a := s.limits.Load(), &s.admission
	c := &connection{Conn: inner, server: s}
	c.credit = limits.Grace
	raw, proxied := rawOf(inner)
	c.proxied = proxied
	c.peer, _ = addressOf(raw.RemoteAddr()) // whomever it speaks for
	boundUnsent(raw, unsent)

	// The client's own bound first: it makes room among its own, and nobody else loses a
	// connection to it.
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if s.counts(c.peer) && !a.roomFor(ClientOf(c.peer), limits.PerClient) {
		return nil
	}
	if limits.Total > 0 && a.total >= limits.Total && !a.endOne() {
		return nil
	}

	a.total++
	c.at = len(a.all)
	a.all = append(a.all, c)
	c.state.Store(-tick())
	if s.counts(c.peer) {
		a.belongs(c, ClientOf(c.peer))
	}
	return c
}

// counts reports whether connections from an address are those of one client. From
// this machine and from proxies come those of many.
func (s *Server) counts(peer netip.Addr) bool {
	return peer.IsValid() && !peer.IsLoopback() && !s.trust.Load().Includes(peer)
}

// belongs counts a connection as one of a client.
func (a *admission) belongs(c *connection, client netip.Prefix) {
	if a.clients == nil {
		a.clients = map[netip.Prefix]map[*connection]bool{}
	}
	if a.clients[client] == nil {
		a.clients[client] = map[*connection]bool{}
	}
	a.clients[client][c] = true
	c.client = client
}

// roomFor reports whether a client may have one more connection. If need be, one of
// its own that waits is ended for it.
func (a *admission) roomFor(client netip.Prefix, most int) bool {
	own := a.clients[client]
	if most <= 0 || len(own) < most {
		return true
	}
	var oldest *connection
	var longest time.Duration
	for c := range own {
		if idle, _ := c.waits(); idle > longest {
			oldest, longest = c, idle
		}
	}
	if oldest == nil {
		return false
	}
	a.end(oldest)
	return true
}

// endOne ends the connection that has waited the longest, if one does: between two requests,
// or else, of those that have not said what they want, one that takes its time.
func (a *admission) endOne() bool {
	var idlest, freshest *connection
	longest, slowest := time.Duration(0), freshFor
	for _, c := range a.all {
		idle, fresh := c.waits()
		if idle > longest {
			idlest, longest = c, idle
		}
		if fresh > slowest {
			freshest, slowest = c, fresh
		}
	}
	if idlest == nil {
		idlest = freshest
	}
	if idlest == nil {
		return false
	}
	a.end(idlest)
	return true
}

// end ends a connection and takes it out of the count at once: net/http notices a
// moment later.
func (a *admission) end(c *connection) {
	a.leave(c)
	c.Conn.Close() //nolint:errcheck // it made room
}

// leave takes a connection out of the count.
func (a *admission) leave(c *connection) {
	if c.gone {
		return
	}
	c.gone = true
	a.total--
	if c.taken {
		a.taken--
	}
	// The last one takes its place in the list.
	last := a.all[len(a.all)-1]
	a.all[c.at], last.at = last, c.at
	a.all = a.all[:len(a.all)-1]
	if own := a.clients[c.client]; own != nil {
		if delete(own, c); len(own) == 0 {
			delete(a.clients, c.client)
		}
	}
}

// changed is told by net/http what becomes of a connection. It is told twice with each
// request, so it takes no lock for that.
func (s *Server) changed(inner net.Conn, state http.ConnState) {
	c := connectionOf(inner)
	if c == nil {
		return
	}
	switch state {
	case http.StateClosed:
		if refusal, is := c.refused(inner); is && s.Refused != nil {
			s.Refused(refusal)
		}
	case http.StateActive:
		c.begins()
		c.state.Store(0)
		c.answered.Store(0) // over HTTP/2: nothing waits of what was asked before
		if !c.proxied || c.named.Swap(true) {
			return
		}
	case http.StateIdle:
		// What has come already, behind the request before, begins without a word.
		c.begins()
		c.state.Store(tick())
		return
	}

	a := &s.admission
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if c.gone {
		return
	}
	switch state {
	case http.StateActive:
		// Whom a proxy names at the beginning is known only now.
		if named, ok := addressOf(c.RemoteAddr()); !c.client.IsValid() && ok && s.counts(named) {
			if !a.roomFor(ClientOf(named), s.limits.Load().PerClient) {
				a.end(c)
				return
			}
			a.belongs(c, ClientOf(named))
		}
	case http.StateClosed:
		a.leave(c)
	case http.StateHijacked:
		c.state.Store(0) // it counts until it is closed
		c.taken = true
		a.taken++
	}
}

// watchEvery is how exactly deadlines of reading are kept.
const watchEvery = 250 * time.Millisecond

// watch looks after all connections until the context ends: it stops those that read for
// longer than they may, and ends those whose client does not take what it asked for.
func (s *Server) watch(ctx context.Context) {
	ticker := time.NewTicker(watchEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			s.look(now, s.limits.Load())
		}
	}
}

// look is one round of watch.
func (s *Server) look(now time.Time, limits *Limits) {
	s.admission.mutex.Lock()
	defer s.admission.mutex.Unlock()
	var ended []*connection
	for _, c := range s.admission.all {
		c.expire(now)
		if limits.Rate > 0 && c.isStalled(limits) {
			ended = append(ended, c)
		}
	}
	for _, c := range ended {
		s.admission.end(c)
	}
}

// isStalled reports whether all requests of a connection over HTTP/2 were answered, and its
// client has not taken the answers for longer than it may: small answers wait where no
// deadline is.
func (c *connection) isStalled(limits *Limits) bool {
	answered := c.answered.Load()
	return answered != 0 && c.state.Load() == 0 && c.running.Load() == 0 &&
		time.Duration(tick()-answered) > limits.Grace+worth(smallAnswer, limits.Rate)
}
