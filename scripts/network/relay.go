package main

import (
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// A relay stands for a way through the world. It accepts at once and connects late, so that a
// handshake costs a turn; what is sent waits in a queue for half of one, so that much can be on
// its way at the same time, as it can in the world.

// relay passes connections on to another address, late.
type relay struct {
	address string
	to      string
	delay   time.Duration // one way
	loss    float64
	silent  atomic.Bool // nothing is passed on, and nothing is refused

	mutex sync.Mutex
	open  map[net.Conn]bool
}

// again is how long a lost packet takes to be sent again (RFC 6298: a second at first, and in
// practice what kernels take as the least).
const again = 200 * time.Millisecond

// relay begins to pass connections on.
func (n *network) relay(listen, to string) *relay {
	listener, err := net.Listen("tcp", listen)
	check(err)
	r := &relay{address: listener.Addr().String(), to: to, delay: n.latency / 2, loss: n.loss,
		open: map[net.Conn]bool{}}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go r.pass(conn)
		}
	}()
	return r
}

// pass connects, after the time that this takes, and passes both directions on.
func (r *relay) pass(near net.Conn) {
	defer near.Close()      //nolint:errcheck // nothing is left
	time.Sleep(2 * r.delay) // the handshake
	far, err := net.DialTimeout("tcp", r.to, 2*time.Second)
	if err != nil {
		return
	}
	defer far.Close() //nolint:errcheck // nothing is left
	r.mutex.Lock()
	r.open[near] = true
	r.mutex.Unlock()
	defer func() {
		r.mutex.Lock()
		delete(r.open, near)
		r.mutex.Unlock()
	}()
	var group sync.WaitGroup
	group.Go(func() { r.stream(far, near) })
	group.Go(func() { r.stream(near, far) })
	group.Wait()
}

// drop ends all connections, as a network does that comes back with other addresses.
func (r *relay) drop() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	for conn := range r.open {
		conn.Close() //nolint:errcheck // that is what is wanted
	}
}

// late is what is on its way.
type late struct {
	data []byte
	due  time.Time
}

// stream passes one direction on: what comes in goes out after the delay, however much is on
// its way meanwhile.
func (r *relay) stream(to, from net.Conn) {
	way := make(chan late, 1024)
	go func() {
		defer close(way)
		for buffer := make([]byte, 32<<10); ; {
			count, err := from.Read(buffer)
			if count > 0 {
				delay := r.delay
				if rand.Float64() < r.loss {
					delay += again
				}
				way <- late{append([]byte(nil), buffer[:count]...), time.Now().Add(delay)}
			}
			if err != nil {
				return
			}
		}
	}()
	for piece := range way {
		time.Sleep(time.Until(piece.due))
		for r.silent.Load() {
			time.Sleep(10 * time.Millisecond)
		}
		if _, err := to.Write(piece.data); err != nil {
			break
		}
	}
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		half.CloseWrite() //nolint:errcheck // it may be closed
	}
	for range way { // so that the reader ends
	}
}
