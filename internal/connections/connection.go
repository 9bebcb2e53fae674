package connections

import (
	"errors"
	"io"
	"math"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pires/go-proxyproto"
)

// connection is one that was admitted. Whoever takes an answer more slowly than
// Limits.Rate loses it.
//
// Time is an account: waiting for the client takes from it, each byte that the client takes
// adds to it, and it holds Limits.Grace at most. So a client may rest, and may not be slow
// for ever.
type connection struct {
	net.Conn
	server  *Server
	peer    netip.Addr // the other end, whoever it speaks for
	proxied bool       // it may begin with the PROXY protocol

	// of the admission, under its mutex
	client netip.Prefix
	at     int // in the list of all
	gone   bool
	taken  bool // by a handler: it is no longer net/http's

	progress
	deadlines
	account
}

// progress is what a connection does at the moment.
type progress struct {
	// state is 0 while it does something; since when it waits for a request; or, with a
	// minus, since when it has not sent its first header.
	state    atomic.Int64
	named    atomic.Bool  // whoever a proxy speaks for was looked at
	running  atomic.Int32 // requests over HTTP/2 that are being answered
	answered atomic.Int64 // when the last of them was

	unread atomic.Bool  // something came, and is no request yet
	reply  atomic.Int64 // bytes that were sent meanwhile, and above them a status, if it could be read
}

// waits returns for how long a connection has waited between two requests, or for its
// first header; 0 for neither.
func (p *progress) waits() (idle, fresh time.Duration) {
	switch since := p.state.Load(); {
	case since > 0:
		return time.Duration(tick()-since) + 1, 0
	case since < 0:
		return 0, time.Duration(tick()+since) + 1
	}
	return 0, 0
}

// begun is when this process began.
var begun = time.Now()

// tick is the time since then, in nanoseconds, whatever becomes of the clock.
func tick() int64 { return int64(time.Since(begun)) + 1 }

// account is what a client may yet do, of waiting and of sending.
type account struct {
	writing sync.Mutex
	credit  time.Duration // how long it may yet do nothing; of whoever is writing
	limit   time.Time     // until when writing must have got on; of whoever is writing
	unasked atomic.Int64  // bytes that came and belong to no request; see Read
}

// A client may send frames without end that are no request: pings, settings, headers that
// are never finished. Of these it gets an allowance, which grows with what it asks and takes.
const (
	unaskedMost = 1 << 20   // bytes ahead of all that was earned
	perRequest  = 128 << 10 // header and framing, and the window of a body that is not read
	perWritten  = 16        // one byte for so many that were sent: window updates
	savedMost   = 4 << 20   // that it can have earned before
)

// errFlood ends a connection on which more came than any client needs to send.
var errFlood = errors.New("more frames than requests need")

// Read implements net.Conn. It fails once far more has come than what was asked for needs.
func (c *connection) Read(data []byte) (int, error) {
	n, err := c.Conn.Read(data)
	// Without a rate nothing is bounded, nor counted as earned.
	if c.unasked.Add(int64(n)) > unaskedMost && c.server.limits.Load().Rate > 0 {
		c.Conn.Close() //nolint:errcheck // it is over
		return 0, errFlood
	}
	return n, err
}

// deadlines are when reading must have got on. net/http sets five for each request, and
// setting one costs as much as a part of the header: so those to come are only noted, and
// looked after by Server.watch, to a quarter of a second. Only who is to stop at once is
// told at once.
type deadlines struct {
	reading sync.Mutex
	wanted  time.Time
	stopped bool // the connection below was told
}

// SetReadDeadline implements net.Conn.
func (c *connection) SetReadDeadline(t time.Time) error {
	c.reading.Lock()
	defer c.reading.Unlock()
	c.wanted = t
	switch now := !t.IsZero() && t.Before(begun); {
	case now && !c.stopped:
		c.stopped = true
		return c.Conn.SetReadDeadline(stop)
	case !now && c.stopped:
		c.stopped = false
		return c.Conn.SetReadDeadline(time.Time{})
	}
	return nil
}

// expire stops whoever reads for longer than they may.
func (c *connection) expire(now time.Time) {
	c.reading.Lock()
	defer c.reading.Unlock()
	if !c.wanted.IsZero() && c.wanted.Before(now) && !c.stopped {
		c.stopped = true
		c.Conn.SetReadDeadline(stop) //nolint:errcheck // it may be closed
	}
}

// stop is the deadline of who is to stop reading at once: long before this process began, as
// net/http has it.
var stop = time.Unix(1, 0)

// SetDeadline implements net.Conn.
func (c *connection) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// earn lets the client send so many bytes more.
func (c *connection) earn(bytes int64) {
	if now := c.unasked.Add(-bytes); now < -savedMost {
		c.unasked.CompareAndSwap(now, -savedMost)
	}
}

// asks counts a request. HTTP/1.1 has nothing besides requests, which net/http bounds.
func (c *connection) asks(r *http.Request) {
	if r.ProtoMajor == 1 {
		c.unasked.Store(math.MinInt64 / 2)
		return
	}
	c.earn(perRequest)
}

// unsent is how many bytes of an answer may wait in the system.
const unsent = 256 << 10

// connectionKey is under what the context of a request holds its connection.
type connectionKey struct{}

// connectionIn returns the connection of a request; nil without a Server around it.
func connectionIn(r *http.Request) *connection {
	c, _ := r.Context().Value(connectionKey{}).(*connection)
	return c
}

// connectionOf returns what was admitted, of what net/http knows: TLS may lie over it.
func connectionOf(c net.Conn) *connection {
	if over, ok := c.(interface{ NetConn() net.Conn }); ok {
		c = over.NetConn()
	}
	admitted, _ := c.(*connection)
	return admitted
}

// Write implements net.Conn. It fails once the client has taken less than it must.
func (c *connection) Write(data []byte) (int, error) {
	if c.unread.Load() {
		c.replies(data)
	}
	limits := c.server.limits.Load()
	if limits.Rate <= 0 {
		return c.Conn.Write(data)
	}
	c.earn(int64(len(data) / perWritten))
	c.writing.Lock()
	defer c.writing.Unlock()
	began := time.Now()
	// Moved only when it has come nearer by a quarter: setting it costs more than sending a
	// page does.
	limit := began.Add(c.credit + worth(len(data), limits.Rate))
	if c.limit.IsZero() || limit.Before(c.limit) || limit.Sub(c.limit) > limits.Grace/4 {
		if err := c.SetWriteDeadline(limit); err != nil {
			return 0, err
		}
		c.limit = limit
	}
	n, err := c.Conn.Write(data)
	c.credit = min(limits.Grace, c.credit-time.Since(began)+worth(n, limits.Rate))
	// Over HTTP/2, reading could go on without it.
	if err != nil {
		c.Conn.Close() //nolint:errcheck // it is over
	}
	return n, err
}

// worth is how long so many bytes may take.
func worth(bytes int, rate int64) time.Duration {
	return time.Duration(float64(bytes) / float64(rate) * float64(time.Second))
}

// Close implements net.Conn. A connection that was taken over, for a websocket say,
// is counted until here.
func (c *connection) Close() error {
	c.server.admission.mutex.Lock()
	c.server.admission.leave(c)
	c.server.admission.mutex.Unlock()
	return c.Conn.Close()
}

// CloseWrite ends one direction, as TCP can: net/http lets the other end read what
// was written before it closes.
func (c *connection) CloseWrite() error {
	raw, _ := rawOf(c.Conn)
	if half, ok := raw.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// rawOf returns a connection without what reads the PROXY protocol from it, and whether
// that may say something.
func rawOf(c net.Conn) (raw net.Conn, proxied bool) {
	if wrapped, ok := c.(*proxyproto.Conn); ok {
		return wrapped.Raw(), true
	}
	return c, false
}

// addressOf returns the IP address in an address; none of a Unix socket.
func addressOf(address net.Addr) (netip.Addr, bool) {
	tcp, ok := address.(*net.TCPAddr)
	if !ok {
		return netip.Addr{}, false
	}
	return tcp.AddrPort().Addr().Unmap(), true
}

// ClientOf is what counts as one client: an IPv4 address, or an IPv6 network of 64
// bits, of which one subscriber has all.
func ClientOf(address netip.Addr) netip.Prefix {
	address = address.Unmap().WithZone("")
	bits := address.BitLen()
	if address.Is6() {
		bits = 64
	}
	prefix, err := address.Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return prefix
}

// body is what a client sends. One that stops for too long is given up.
type body struct {
	io.ReadCloser
	control *http.ResponseController
	limits  *Limits
	credit  time.Duration
	from    *connection
}

// incoming returns the body of a request as the limits allow.
func (s *Server) incoming(w http.ResponseWriter, r *http.Request) io.ReadCloser {
	limits := s.limits.Load()
	if limits.Rate <= 0 {
		return r.Body
	}
	return &body{ReadCloser: r.Body, control: http.NewResponseController(w), limits: limits,
		credit: limits.Grace, from: connectionIn(r)}
}

// Read implements io.Reader.
func (b *body) Read(data []byte) (int, error) {
	began := time.Now()
	//nolint:errcheck // without deadlines, it waits
	b.control.SetReadDeadline(began.Add(b.credit))
	n, err := b.ReadCloser.Read(data)
	if b.from != nil {
		b.from.earn(2 * int64(n)) // with its framing
	}
	b.credit = min(b.limits.Grace, b.credit-time.Since(began)+worth(n, b.limits.Rate))
	// From here on net/http reads to see whether the client goes, for as long as the
	// answer takes.
	b.control.SetReadDeadline(time.Time{}) //nolint:errcheck // as above
	return n, err
}

// Close implements io.Closer. What has not come by then is not waited for.
func (b *body) Close() error {
	//nolint:errcheck // without deadlines, it waits
	b.control.SetReadDeadline(stop)
	return b.ReadCloser.Close()
}

// Unwanted says that the body of a request is not waited for: what has not come with
// the header ends the connection behind the answer.
func Unwanted(w http.ResponseWriter, r *http.Request) {
	if r.ContentLength != 0 {
		//nolint:errcheck // without deadlines, it waits
		http.NewResponseController(w).SetReadDeadline(stop)
	}
}
