package main

import (
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// link emulates the way to a visitor: a connection takes a round trip to be made, bytes
// come one after another at a rate that all connections share, and each half a round trip
// later. How TCP finds the rate of a link is not emulated.
type link struct {
	name     string
	trip     time.Duration
	down, up float64 // bits a second
}

// way is one direction of a link in use.
type way struct {
	mutex sync.Mutex
	free  time.Time // when the last byte so far will have left
	rate  float64   // bytes a second
	late  time.Duration
	bytes atomic.Int64
}

// due tells when so many bytes that are sent now will be there.
func (w *way) due(n int) time.Time {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	now := time.Now()
	if w.free.Before(now) {
		w.free = now
	}
	w.free = w.free.Add(time.Duration(float64(n) / w.rate * float64(time.Second)))
	w.bytes.Add(int64(n))
	return w.free.Add(w.late)
}

// carry passes on what comes from one end, each piece when it is due.
func (w *way) carry(to, from net.Conn) {
	type piece struct {
		data []byte
		due  time.Time
	}
	// What is under way at once is bounded, as the buffers of routers are.
	const inFlight, size = 64, 4 << 10
	pieces := make(chan piece, inFlight)
	go func() {
		defer close(pieces)
		for {
			data := make([]byte, size)
			n, err := from.Read(data)
			if n > 0 {
				pieces <- piece{data[:n], w.due(n)}
			}
			if err != nil {
				return
			}
		}
	}()
	// In order, each when it is due; what comes later is due later.
	for p := range pieces {
		time.Sleep(time.Until(p.due))
		if _, err := to.Write(p.data); err != nil {
			io.Copy(io.Discard, from) //nolint:errcheck // until it is closed
			break
		}
	}
	to.Close() //nolint:errcheck // nothing more comes
	for range pieces {
	}
}

// emulated is a listener through which a server is reached over a link.
type emulated struct {
	net.Listener
	to       string
	mutex    sync.Mutex
	link     *link
	down, up *way
	open     map[net.Conn]bool
}

// emulate listens on an address for a server at another.
func emulate(address, to string) (*emulated, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	e := &emulated{Listener: listener, to: to, open: map[net.Conn]bool{}}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go e.serve(conn)
		}
	}()
	return e, nil
}

// use has everything that begins from now on go over a link, and ends what goes on.
func (e *emulated) use(l *link) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	e.link = l
	e.down = &way{rate: l.down / 8, late: l.trip / 2}
	e.up = &way{rate: l.up / 8, late: l.trip / 2}
	for conn := range e.open {
		conn.Close() //nolint:errcheck // the visitor has gone
	}
	clear(e.open)
}

// serve carries one connection.
func (e *emulated) serve(conn net.Conn) {
	e.mutex.Lock()
	l, down, up := e.link, e.down, e.up
	e.open[conn] = true
	e.mutex.Unlock()
	if l == nil {
		conn.Close() //nolint:errcheck // nobody is meant to come yet
		return
	}
	time.Sleep(l.trip) // the handshake of TCP
	server, err := net.Dial("tcp", e.to)
	if err != nil {
		conn.Close() //nolint:errcheck // nobody answers
		return
	}
	if debug {
		before := down.bytes.Load()
		fmt.Println("      a connection to", e.Addr())
		defer func() { fmt.Println("      its end, after", down.bytes.Load()-before, "bytes") }()
	}
	go up.carry(server, conn)
	down.carry(conn, server)
}
