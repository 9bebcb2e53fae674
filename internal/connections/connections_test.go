package connections_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/connections"
)

// served is a server for a test.
type served struct {
	t       *testing.T
	address string
	server  *connections.Server
	stop    context.CancelFunc
	ended   chan error
}

// serve starts a server with limits.
func serve(t *testing.T, limits connections.Limits, trust []string, handler http.HandlerFunc) *served {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	s := &served{t: t, address: listener.Addr().String(), stop: cancel, ended: make(chan error, 1),
		server: &connections.Server{Handler: handler}}
	s.server.SetLimits(limits)
	trusted, err := connections.ParseTrust(trust)
	require.NoError(t, err)
	s.server.SetTrust(trusted)
	go func() { s.ended <- s.server.Serve(ctx, nil, listener) }()
	t.Cleanup(cancel)
	return s
}

// dial opens a connection and sends text on it.
func (s *served) dial(text string) net.Conn {
	s.t.Helper()
	c, err := net.Dial("tcp", s.address)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { c.Close() }) //nolint:errcheck // it may be closed
	_, err = io.WriteString(c, text)
	require.NoError(s.t, err)
	return c
}

// answer reads an answer, "" if the connection ends without one.
func answer(c net.Conn) (status int, body string) {
	c.SetReadDeadline(time.Now().Add(20 * time.Second)) //nolint:errcheck // it is open
	r, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		return 0, ""
	}
	data, _ := io.ReadAll(r.Body)
	return r.StatusCode, string(data)
}

// isClosed reports whether the other end has closed a connection.
func isClosed(c net.Conn) bool {
	c.SetReadDeadline(time.Now().Add(20 * time.Second)) //nolint:errcheck // it is open
	_, err := c.Read(make([]byte, 1))
	return err != nil && !strings.Contains(err.Error(), "timeout")
}

const get = "GET / HTTP/1.1\r\nHost: corvane.example\r\n\r\n"

func hello(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "hello") } //nolint:errcheck // a test

func TestTheLongestIdleMakesRoom(t *testing.T) {
	t.Parallel()
	s := serve(t, connections.Limits{Total: 3}, nil, hello)
	var open []net.Conn
	for range 3 {
		c := s.dial(get)
		status, _ := answer(c)
		require.Equal(t, 200, status)
		open = append(open, c)
		time.Sleep(20 * time.Millisecond) // the server notices a moment after the client
	}
	status, _ := answer(s.dial(get))
	assert.Equal(t, 200, status)
	assert.True(t, isClosed(open[0]), "the one that was idle the longest")
	io.WriteString(open[2], get) //nolint:errcheck // the answer tells
	status, _ = answer(open[2])
	assert.Equal(t, 200, status, "the last one is still there")
}

func TestBusyConnectionsAreNotEndedForOthers(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	s := serve(t, connections.Limits{Total: 2}, nil, func(w http.ResponseWriter, r *http.Request) {
		<-release
		hello(w, r)
	})
	first, second := s.dial(get), s.dial(get)
	require.Eventually(t, func() bool { return s.server.Open() == 2 }, 30*time.Second, time.Millisecond)
	time.Sleep(50 * time.Millisecond) // both are being answered
	assert.True(t, isClosed(s.dial("")), "there is no room for a third")
	close(release)
	for _, c := range []net.Conn{first, second} {
		status, _ := answer(c)
		assert.Equal(t, 200, status)
	}
}

func TestAHeaderThatNeverEndsMakesRoom(t *testing.T) {
	t.Parallel()
	s := serve(t, connections.Limits{Total: 2}, nil, hello)
	slow := []net.Conn{s.dial("GET / HT"), s.dial("GET / HT")}
	require.Eventually(t, func() bool { return s.server.Open() == 2 }, 30*time.Second, time.Millisecond)
	time.Sleep(1100 * time.Millisecond) // whoever has only begun gets a second
	status, _ := answer(s.dial(get))
	assert.Equal(t, 200, status)
	assert.True(t, isClosed(slow[0]))
}

// TestOneClientHasItsShare sends clients by the PROXY protocol: all come from here.
func TestOneClientHasItsShare(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	s := serve(t, connections.Limits{PerClient: 2}, []string{"127.0.0.1"},
		func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/slow" {
				<-release
			}
			fmt.Fprint(w, connections.VisitorOf(r).Address) //nolint:errcheck // a test
		})
	from := func(client, path string) net.Conn {
		return s.dial("PROXY TCP4 " + client + " 192.0.2.200 4711 80\r\nGET " + path +
			" HTTP/1.1\r\nHost: corvane.example\r\n\r\n")
	}
	busy := []net.Conn{from("192.0.2.1", "/slow"), from("192.0.2.1", "/slow")}
	time.Sleep(100 * time.Millisecond)
	status, _ := answer(from("192.0.2.1", "/"))
	assert.Zero(t, status, "a third of the same client")
	status, body := answer(from("192.0.2.2", "/"))
	assert.Equal(t, 200, status)
	assert.Equal(t, "192.0.2.2", body, "another client is not concerned")
	close(release)
	for _, c := range busy {
		_, body := answer(c)
		assert.Equal(t, "192.0.2.1", body)
	}
}

func TestWhoTakesNothingLosesTheAnswer(t *testing.T) {
	t.Parallel()
	ended := make(chan error, 1)
	s := serve(t, connections.Limits{Rate: 1 << 20, Grace: 300 * time.Millisecond}, nil,
		func(w http.ResponseWriter, _ *http.Request) {
			var err error
			for chunk := make([]byte, 64<<10); err == nil; {
				_, err = w.Write(chunk)
			}
			ended <- err
		})
	s.dial(get)
	select {
	case err := <-ended:
		require.ErrorContains(t, err, "timeout")
	case <-time.After(30 * time.Second):
		t.Error("the answer waits for ever")
	}
	require.Eventually(t, func() bool { return s.server.Open() == 0 }, 30*time.Second, time.Millisecond)
}

// TestASlowReaderThatKeepsItsRateIsServed reads at twice the least rate for several times
// as long as anybody may do nothing.
func TestASlowReaderThatKeepsItsRateIsServed(t *testing.T) {
	t.Parallel()
	const size = 6 << 20
	s := serve(t, connections.Limits{Rate: 1 << 20, Grace: 500 * time.Millisecond}, nil,
		func(w http.ResponseWriter, _ *http.Request) {
			for range size / (64 << 10) {
				w.Write(make([]byte, 64<<10)) //nolint:errcheck // the reader tells
			}
		})
	c := s.dial("GET / HTTP/1.0\r\nHost: corvane.example\r\n\r\n")
	read := 0
	buffer := make([]byte, 256<<10)
	for {
		n, err := c.Read(buffer)
		if read += n; err != nil {
			break
		}
		time.Sleep(time.Duration(n) * time.Second / (2 << 20))
	}
	assert.Greater(t, read, size)
}

func TestABodyThatStopsIsGivenUp(t *testing.T) {
	t.Parallel()
	failed := make(chan error, 1)
	s := serve(t, connections.Limits{Rate: 1000, Grace: 200 * time.Millisecond}, nil,
		func(_ http.ResponseWriter, r *http.Request) {
			_, err := io.ReadAll(r.Body)
			failed <- err
		})
	s.dial("POST / HTTP/1.1\r\nHost: corvane.example\r\nContent-Length: 100\r\n\r\nsome")
	select {
	case err := <-failed:
		require.ErrorContains(t, err, "timeout")
	case <-time.After(20 * time.Second):
		t.Error("the body is waited for")
	}
}

// TestAnAnswerMayTakeLongAfterItsBody: the time for a body does not run while it is
// answered.
func TestAnAnswerMayTakeLongAfterItsBody(t *testing.T) {
	t.Parallel()
	s := serve(t, connections.Limits{Rate: 1000, Grace: 100 * time.Millisecond}, nil,
		func(w http.ResponseWriter, r *http.Request) {
			io.ReadAll(r.Body) //nolint:errcheck // it is whole
			select {
			case <-time.After(400 * time.Millisecond):
				hello(w, r)
			case <-r.Context().Done():
				w.WriteHeader(http.StatusInternalServerError)
			}
		})
	status, body := answer(s.dial("POST / HTTP/1.1\r\nHost: corvane.example\r\nContent-Length: 4\r\n\r\nsome"))
	assert.Equal(t, 200, status)
	assert.Equal(t, "hello", body)
}

func TestAnUnwantedBodyIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	s := serve(t, connections.Limits{}, nil, func(w http.ResponseWriter, r *http.Request) {
		connections.Unwanted(w, r)
		hello(w, r)
	})
	c := s.dial("POST / HTTP/1.1\r\nHost: corvane.example\r\nContent-Length: 1000\r\n\r\nsome")
	status, body := answer(c)
	assert.Equal(t, 200, status)
	assert.Equal(t, "hello", body)
	assert.True(t, isClosed(c), "what would follow is not a request")

	c = s.dial("POST / HTTP/1.1\r\nHost: corvane.example\r\nContent-Length: 4\r\n\r\nsome")
	answer(c)
	io.WriteString(c, get) //nolint:errcheck // the answer tells
	status, _ = answer(c)
	assert.Equal(t, 200, status, "a body that has come keeps the connection")
}

func TestStoppingDropsNobody(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	var told atomic.Bool
	began := make(chan struct{}, 1)
	s := &connections.Server{Drain: 500 * time.Millisecond, Draining: func() { told.Store(true) },
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/slow" {
				began <- struct{}{}
				time.Sleep(1500 * time.Millisecond)
			}
			hello(w, r)
		})}
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, nil, listener) }()
	test := &served{t: t, address: listener.Addr().String()}
	slow := test.dial("GET /slow HTTP/1.1\r\nHost: corvane.example\r\n\r\n")
	kept := test.dial(get)
	answer(kept)
	<-began
	stop()
	require.Eventually(t, told.Load, 30*time.Second, time.Millisecond)

	late := test.dial(get)
	status, _ := answer(late)
	assert.Equal(t, 200, status, "who comes meanwhile is answered")
	assert.True(t, isClosed(late), "and told to go")
	io.WriteString(kept, get) //nolint:errcheck // the answer tells
	status, _ = answer(kept)
	assert.Equal(t, 200, status)
	half := test.dial("GET / HTTP/1.1\r\nHost: ")
	status, _ = answer(slow)
	assert.Equal(t, 200, status, "what had begun is finished")
	require.NoError(t, <-ended)
	assert.True(t, isClosed(half))
}

func TestVisitors(t *testing.T) {
	t.Parallel()
	var mutex sync.Mutex
	var seen connections.Visitor
	s := serve(t, connections.Limits{}, []string{"127.0.0.1", "10.0.0.0/8", "2001:db8:1::/48"},
		func(_ http.ResponseWriter, r *http.Request) {
			mutex.Lock()
			defer mutex.Unlock()
			seen = connections.VisitorOf(r)
		})
	for name, test := range map[string]struct{ fields, address, scheme string }{
		"nothing is said":           {"", "127.0.0.1", "http"},
		"one hop":                   {"X-Forwarded-For: 192.0.2.7\r\nX-Forwarded-Proto: https\r\n", "192.0.2.7", "https"},
		"what a visitor sent":       {"X-Forwarded-For: 203.0.113.9, 192.0.2.7\r\n", "192.0.2.7", "http"},
		"two proxies of ours":       {"X-Forwarded-For: 203.0.113.9, 192.0.2.7, 10.1.2.3\r\n", "192.0.2.7", "http"},
		"several lines":             {"X-Forwarded-For: 203.0.113.9\r\nX-Forwarded-For: 192.0.2.7\r\n", "192.0.2.7", "http"},
		"only proxies of ours":      {"X-Forwarded-For: 10.1.2.3\r\n", "10.1.2.3", "http"},
		"nonsense":                  {"X-Forwarded-For: 203.0.113.9, unknown\r\n", "127.0.0.1", "http"},
		"the standard's own field":  {"Forwarded: for=\"[2001:db8:2::1]:4711\";proto=https\r\n", "2001:db8:2::1", "https"},
		"the standard's, two hops":  {"Forwarded: for=203.0.113.9, for=192.0.2.7;proto=HTTPS;by=x\r\n", "192.0.2.7", "https"},
		"it comes first":            {"Forwarded: for=192.0.2.7\r\nX-Forwarded-For: 203.0.113.9\r\n", "192.0.2.7", "http"},
		"a port":                    {"X-Forwarded-For: 192.0.2.7:4711\r\n", "192.0.2.7", "http"},
		"a scheme of nobody":        {"X-Forwarded-Proto: javascript\r\n", "127.0.0.1", "http"},
		"the scheme of the nearest": {"X-Forwarded-Proto: https, http\r\n", "127.0.0.1", "http"},
	} {
		t.Run(name, func(t *testing.T) {
			status, _ := answer(s.dial("GET / HTTP/1.1\r\nHost: corvane.example\r\n" + test.fields + "\r\n"))
			require.Equal(t, 200, status)
			mutex.Lock()
			defer mutex.Unlock()
			assert.Equal(t, test.address, seen.Address.String())
			assert.Equal(t, test.scheme, seen.Scheme)
			assert.False(t, seen.Here, "a proxy stands here")
		})
	}
}

// TestStrangersNameNobody: what is not trusted is not believed, and its PROXY line is no
// request.
func TestStrangersNameNobody(t *testing.T) {
	t.Parallel()
	var here, claims atomic.Bool
	s := serve(t, connections.Limits{}, nil, func(w http.ResponseWriter, r *http.Request) {
		visitor := connections.VisitorOf(r)
		here.Store(visitor.Here)
		claims.Store(visitor.Claims)
		fmt.Fprint(w, visitor.Address, visitor.Scheme) //nolint:errcheck // a test
	})
	_, body := answer(s.dial(get))
	assert.Equal(t, "127.0.0.1http", strings.ReplaceAll(body, " ", ""))
	assert.True(t, here.Load())
	_, body = answer(s.dial("GET / HTTP/1.1\r\nHost: x.example\r\nX-Forwarded-For: 192.0.2.7\r\nX-Forwarded-Proto: https\r\n\r\n"))
	assert.Equal(t, "127.0.0.1http", strings.ReplaceAll(body, " ", ""))
	assert.True(t, claims.Load())
	assert.False(t, here.Load(), "something stands between")
	answer(s.dial("GET / HTTP/1.0\r\nHost: x.example\r\n\r\n"))
	assert.False(t, here.Load(), "so does what speaks HTTP/1.0")
	status, _ := answer(s.dial("PROXY TCP4 192.0.2.1 192.0.2.200 4711 80\r\n" + get))
	assert.Equal(t, 400, status)
}

func TestNetworksThatCannotBeTrusted(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"0.0.0.0/0", "::/0", "harbour", "10.0.0.0/33", ""} {
		_, err := connections.ParseTrust([]string{text})
		assert.Error(t, err, text)
	}
}
