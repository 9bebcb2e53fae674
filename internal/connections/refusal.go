package connections

import (
	"bytes"
	"crypto/tls"
	"net"
	"net/http"
	"net/netip"
	"strconv"
)

// net/http answers what it cannot read by itself: a request line that is none, a header that
// is too long, a body whose length nobody can tell. No handler sees that. What is seen here is
// that something came on a connection, that it became no request, and what was sent all the
// same.

// Refusal is an answer to what was no request.
type Refusal struct {
	Client netip.Addr // as far as it is known
	Status int        // 400 where it could not be seen, over TLS
}

// The parts of progress.reply.
const (
	replyBytes  = 1 << 32 // the status is counted in these
	leastAnswer = 80      // bytes: less is the end of a TLS connection, and no answer
)

// Over TLS what is sent cannot be read here, only counted. A connection that ends without a
// word sends an alert of some thirty bytes; an answer is longer.

// replies notes what is sent while nothing was read.
func (c *connection) replies(data []byte) {
	const line = len("HTTP/1.1 400")
	noted := c.reply.Add(int64(len(data)))
	if rest, ok := bytes.CutPrefix(data, []byte("HTTP/1.1 ")); ok && noted < replyBytes && len(data) >= line {
		if status, err := strconv.Atoi(string(rest[:3])); err == nil {
			c.reply.Add(int64(status) * replyBytes)
		}
	}
}

// begins notes that something comes, which may become a request.
func (c *connection) begins() {
	c.reply.Store(0)
	c.unread.Store(true)
}

// refused reports what was answered to what was no request, when the connection has ended.
func (c *connection) refused(inner net.Conn) (Refusal, bool) {
	if !c.unread.Load() {
		return Refusal{}, false
	}
	reply := c.reply.Load()
	r := Refusal{Status: int(reply / replyBytes)}
	if secured, is := inner.(*tls.Conn); is && r.Status == 0 && reply%replyBytes >= leastAnswer &&
		secured.ConnectionState().NegotiatedProtocol != "h2" {
		r.Status = http.StatusBadRequest
	}
	r.Client, _ = addressOf(c.RemoteAddr())
	return r, r.Status >= http.StatusBadRequest
}
