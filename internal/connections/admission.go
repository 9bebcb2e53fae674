package connections

import (
	"container/list"
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
	idle    list.List // of *connection, between two requests, the longest first
	fresh   list.List // of *connection, that have not sent a whole header yet
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
	count = a.total - a.idle.Len() - a.taken
	for place := a.fresh.Front(); place != nil; place = place.Next() {
		if time.Since(place.Value.(*connection).since) > freshFor {
			count-- // it has not sent anything, and may never
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
	c.place, c.waits = a.fresh.PushBack(c), &a.fresh
	c.since = time.Now()
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
	for c := range own {
		if c.waits == &a.idle && (oldest == nil || c.since.Before(oldest.since)) {
			oldest = c
		}
	}
	if oldest == nil {
		return false
	}
	a.end(oldest)
	return true
}

// endOne ends the connection that has waited the longest, if one does.
func (a *admission) endOne() bool {
	if first := a.idle.Front(); first != nil {
		a.end(first.Value.(*connection))
		return true
	}
	// Of those that have not said what they want, only those who take their time.
	if first := a.fresh.Front(); first != nil && time.Since(first.Value.(*connection).since) > freshFor {
		a.end(first.Value.(*connection))
		return true
	}
	return false
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
	a.busy(c)
	if own := a.clients[c.client]; own != nil {
		if delete(own, c); len(own) == 0 {
			delete(a.clients, c.client)
		}
	}
}

// busy takes a connection off the list on which it waits.
func (a *admission) busy(c *connection) {
	if c.waits != nil {
		c.waits.Remove(c.place)
		c.waits, c.place = nil, nil
	}
}

// changed is told by net/http what becomes of a connection.
func (s *Server) changed(inner net.Conn, state http.ConnState) {
	c := connectionOf(inner)
	if c == nil {
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
		a.busy(c)
		// Whom a proxy names at the beginning is known only now.
		if c.proxied && !c.client.IsValid() {
			if named, ok := addressOf(c.RemoteAddr()); ok && s.counts(named) {
				if !a.roomFor(ClientOf(named), s.limits.Load().PerClient) {
					a.end(c)
					return
				}
				a.belongs(c, ClientOf(named))
			}
		}
	case http.StateIdle:
		a.busy(c)
		c.place, c.waits, c.since = a.idle.PushBack(c), &a.idle, time.Now()
	case http.StateClosed:
		a.leave(c)
	case http.StateHijacked:
		a.busy(c) // it counts until it is closed
		c.taken = true
		a.taken++
	}
}
