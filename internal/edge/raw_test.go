package edge_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
)

// served puts the server of the program in front of a node, and returns its address.
func (w *world) served(limits connections.Limits) string {
	w.t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(w.t, err)
	server := &connections.Server{Handler: w.node}
	server.SetLimits(limits)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { server.Serve(ctx, nil, listener) }) //nolint:errcheck // the test tells
	w.t.Cleanup(func() { cancel(); owned.Wait() })
	return listener.Addr().String()
}

// TestRawRequests sends bytes as they are, also those that no client would, and says
// what comes back and whether the connection goes on.
func TestRawRequests(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.putRuled(site,
		program(t, "redirect /old -> /fares when host www.corvane.example\n").Rules, release.Settings{}),
		"https://www.corvane.example/"))
	address := w.served(connections.Limits{Rate: 1000, Grace: 2 * time.Second})
	const host = "Host: corvane.localhost\r\n"
	for name, test := range map[string]struct {
		request string
		status  int
		ends    bool // the connection, behind the answer
	}{
		"plain":                          {"GET / HTTP/1.1\r\n" + host + "\r\n", 200, false},
		"it asks to end":                 {"GET / HTTP/1.1\r\n" + host + "Connection: close\r\n\r\n", 200, true},
		"HTTP/1.0":                       {"GET / HTTP/1.0\r\n" + host + "\r\n", 200, true},
		"HTTP/0.9":                       {"GET /\r\n\r\n", 400, true},
		"HTTP/3.0":                       {"GET / HTTP/3.0\r\n" + host + "\r\n", 505, true},
		"no host":                        {"GET / HTTP/1.1\r\n\r\n", 400, true},
		"two hosts":                      {"GET / HTTP/1.1\r\n" + host + host + "\r\n", 400, true},
		"a host with a blank":            {"GET / HTTP/1.1\r\nHost: corvane .localhost\r\n\r\n", 400, true},
		"a host that is an absolute URL": {"GET http://corvane.localhost/fares HTTP/1.1\r\nHost: x.example\r\n\r\n", 200, false},
		"a final dot in the host":        {"GET /old HTTP/1.1\r\nHost: www.corvane.example.\r\n\r\n", 301, false},
		"a port in the host":             {"GET /old HTTP/1.1\r\nHost: WWW.corvane.example:80\r\n\r\n", 301, false},
		"a host of nobody":               {"GET / HTTP/1.1\r\nHost: nowhere.example\r\n\r\n", 421, false},
		"an asterisk":                    {"OPTIONS * HTTP/1.1\r\n" + host + "\r\n", 200, false},
		"CONNECT":                        {"CONNECT corvane.localhost:443 HTTP/1.1\r\n" + host + "\r\n", 404, false},
		"TRACE":                          {"TRACE / HTTP/1.1\r\n" + host + "\r\n", 405, false},
		"a method of nobody":             {"SAIL / HTTP/1.1\r\n" + host + "\r\n", 405, false},
		"a method that is no token":      {"SA(IL / HTTP/1.1\r\n" + host + "\r\n", 400, true},
		"length and chunks": {"POST / HTTP/1.1\r\n" + host + "Content-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
			405, true},
		"chunks":                           {"POST / HTTP/1.1\r\n" + host + "Transfer-Encoding: chunked\r\n\r\n0\r\n\r\n", 405, true},
		"chunks of another kind":           {"POST / HTTP/1.1\r\n" + host + "Transfer-Encoding: gzip, chunked\r\n\r\n0\r\n\r\n", 501, true},
		"chunks in HTTP/1.0":               {"POST / HTTP/1.0\r\n" + host + "Transfer-Encoding: chunked\r\n\r\n0\r\n\r\n", 405, true},
		"two lengths":                      {"POST / HTTP/1.1\r\n" + host + "Content-Length: 1\r\nContent-Length: 2\r\n\r\nxx", 400, true},
		"the same length twice":            {"POST / HTTP/1.1\r\n" + host + "Content-Length: 1\r\nContent-Length: 1\r\n\r\nx", 405, false},
		"a negative length":                {"POST / HTTP/1.1\r\n" + host + "Content-Length: -1\r\n\r\n", 400, true},
		"a length with a sign":             {"POST / HTTP/1.1\r\n" + host + "Content-Length: +1\r\n\r\nx", 400, true},
		"a body that comes":                {"POST / HTTP/1.1\r\n" + host + "Content-Length: 4\r\n\r\nbody", 405, false},
		"a body that does not come":        {"POST / HTTP/1.1\r\n" + host + "Content-Length: 400\r\n\r\nbo", 405, true},
		"a body of GET that does not come": {"GET / HTTP/1.1\r\n" + host + "Content-Length: 400\r\n\r\nbo", 200, true},
		"a body that waits to be asked for": {"POST / HTTP/1.1\r\n" + host +
			"Content-Length: 400\r\nExpect: 100-continue\r\n\r\n", 405, true},
		"an expectation of nobody":   {"GET / HTTP/1.1\r\n" + host + "Expect: tide\r\n\r\n", 417, true},
		"a blank before a colon":     {"GET / HTTP/1.1\r\n" + host + "X : y\r\n\r\n", 400, true},
		"a folded line":              {"GET / HTTP/1.1\r\n" + host + "X: a\r\n b\r\n\r\n", 200, false},
		"a bare carriage return":     {"GET / HTTP/1.1\r\n" + host + "X: a\rb\r\n\r\n", 400, true},
		"a NUL in a field":           {"GET / HTTP/1.1\r\n" + host + "X: a\x00b\r\n\r\n", 400, true},
		"lines without returns":      {"GET / HTTP/1.1\nHost: corvane.localhost\n\n", 200, false},
		"a header of 100 kB":         {"GET / HTTP/1.1\r\n" + host + "X: " + strings.Repeat("a", 100_000) + "\r\n\r\n", 431, true},
		"a path of 100 kB":           {"GET /" + strings.Repeat("a", 100_000) + " HTTP/1.1\r\n" + host + "\r\n", 431, true},
		"a path of 10 kB":            {"GET /" + strings.Repeat("a", 10_000) + " HTTP/1.1\r\n" + host + "\r\n", 414, false},
		"a broken escape":            {"GET /%zz HTTP/1.1\r\n" + host + "\r\n", 400, true},
		"a fragment":                 {"GET /fares#x HTTP/1.1\r\n" + host + "\r\n", 404, false},
		"dot segments":               {"GET /../../etc/passwd HTTP/1.1\r\n" + host + "\r\n", 400, false},
		"a segment with a parameter": {"GET /..;/fares HTTP/1.1\r\n" + host + "\r\n", 400, false},
		"a range of one byte":        {"GET /film.txt HTTP/1.1\r\n" + host + "Range: bytes=3-3\r\n\r\n", 206, false},
		"a handshake of TLS":         {"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03", 400, true},
		"the PROXY protocol":         {"PROXY TCP4 192.0.2.1 192.0.2.2 1 2\r\nGET / HTTP/1.1\r\n" + host + "\r\n", 400, true},
		"nothing":                    {"\r\n\r\n", 400, true},
		"an upgrade to HTTP/2":       {"GET / HTTP/1.1\r\n" + host + "Connection: Upgrade\r\nUpgrade: h2c\r\n\r\n", 200, false},
		"health, at any host":        {"GET /.orilla/health HTTP/1.1\r\nHost: nowhere.example\r\n\r\n", 200, false},
		"below health":               {"GET /.orilla/health/x HTTP/1.1\r\n" + host + "\r\n", 404, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c, err := net.Dial("tcp", address)
			require.NoError(t, err)
			defer c.Close()                                 //nolint:errcheck // it was read
			c.SetDeadline(time.Now().Add(30 * time.Second)) //nolint:errcheck // it is open
			io.WriteString(c, test.request)                 //nolint:errcheck // it may be refused meanwhile
			reader := bufio.NewReader(c)
			method, _, _ := strings.Cut(test.request, " ")
			r, err := http.ReadResponse(reader, &http.Request{Method: method})
			require.NoError(t, err)
			io.Copy(io.Discard, r.Body) //nolint:errcheck // the status counts
			assert.Equal(t, test.status, r.StatusCode)

			// Whether another request is answered on the connection.
			fmt.Fprint(c, "GET /fares HTTP/1.1\r\n"+host+"\r\n") //nolint:errcheck // it may be closed
			r, err = http.ReadResponse(reader, nil)
			ends := err != nil || r.StatusCode != http.StatusOK
			assert.Equal(t, test.ends, ends, "the connection ends: %v", err)
		})
	}
}
