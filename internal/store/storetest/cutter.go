package storetest

import (
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
)

// Cutter passes connections on to a server, and cuts each after some bytes.
type Cutter struct {
	Listen string
	Cuts   atomic.Int64

	target   string
	listener net.Listener
	mutex    sync.Mutex
	random   *rand.Rand
	least    int64
	most     int64
	open     map[net.Conn]bool
	ended    bool
}

// StartCutter stands before a server. Each connection is cut after a number of
// bytes from the client between least and most, which the seed decides; 0 for
// never. The caller stops it.
func StartCutter(target string, least, most int64, seed uint64) (*Cutter, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	c := &Cutter{Listen: listener.Addr().String(), target: target, listener: listener,
		random: rand.New(rand.NewPCG(seed, 11)), least: least, most: most, open: map[net.Conn]bool{}}
	go c.accept()
	return c, nil
}

// After changes where connections are cut that are made from now on.
func (c *Cutter) After(least, most int64) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.least, c.most = least, most
}

// Stop ends it and every connection.
func (c *Cutter) Stop() {
	c.listener.Close() //nolint:errcheck // it ends
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.ended = true
	for conn := range c.open {
		conn.Close() //nolint:errcheck // it ends
	}
}

// accept passes connections on until the listener is closed.
func (c *Cutter) accept() {
	for {
		client, err := c.listener.Accept()
		if err != nil {
			return
		}
		server, err := net.Dial("tcp", c.target)
		if err != nil {
			client.Close() //nolint:errcheck // nothing to pass on to
			continue
		}

		c.mutex.Lock()
		limit := int64(1) << 62
		if c.most > 0 {
			limit = c.least + c.random.Int64N(c.most-c.least+1)
		}

		c.open[client], c.open[server] = true, true
		ended := c.ended
		c.mutex.Unlock()
		if ended {
			c.Stop()
			return
		}

		go func() {
			io.Copy(client, server) //nolint:errcheck // it ends when either does
			c.close(client, server)
		}()
		go func() {
			if _, err := io.CopyN(server, client, limit); err == nil {
				c.Cuts.Add(1)
			}
			c.close(client, server)
		}()
	}
}

// close ends the two sides of a connection, and forgets them.
func (c *Cutter) close(conns ...net.Conn) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for _, conn := range conns {
		conn.Close() //nolint:errcheck // it ends
		delete(c.open, conn)
	}
}
