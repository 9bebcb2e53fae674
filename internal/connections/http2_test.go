package connections_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/connections"
)

// frames is a client of HTTP/2 that sends what it likes.
type frames struct {
	*http2.Framer
	net.Conn
	t      *testing.T
	header bytes.Buffer
	hpack  *hpack.Encoder
}

// block is a header of one field.
func (f *frames) block(name, value string) []byte {
	f.header.Reset()
	f.hpack.WriteField(hpack.HeaderField{Name: name, Value: value}) //nolint:errcheck // into memory
	return f.header.Bytes()
}

// frames opens a connection over which HTTP/2 is spoken without TLS.
func (s *served) frames(settings ...http2.Setting) *frames {
	s.t.Helper()
	c := s.dial(http2.ClientPreface)
	f := &frames{Framer: http2.NewFramer(c, c), Conn: c, t: s.t}
	f.hpack = hpack.NewEncoder(&f.header)
	f.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	require.NoError(s.t, f.WriteSettings(settings...))
	require.NoError(s.t, f.until(func(frame http2.Frame) bool {
		theirs, ok := frame.(*http2.SettingsFrame)
		return ok && !theirs.IsAck()
	}))
	require.NoError(s.t, f.WriteSettingsAck())
	return f
}

// get sends a request for a path, with fields besides.
func (f *frames) get(stream uint32, path string, fields ...hpack.HeaderField) error {
	f.header.Reset()
	for _, field := range append([]hpack.HeaderField{{Name: ":method", Value: "GET"}, {Name: ":scheme", Value: "http"},
		{Name: ":authority", Value: "corvane.example"}, {Name: ":path", Value: path}}, fields...) {
		f.hpack.WriteField(field) //nolint:errcheck // into memory
	}
	return f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: f.header.Bytes(),
		EndStream: true, EndHeaders: true})
}

// until reads frames until one is wanted.
func (f *frames) until(wanted func(http2.Frame) bool) error {
	f.SetReadDeadline(time.Now().Add(20 * time.Second)) //nolint:errcheck // it is open
	for {
		frame, err := f.ReadFrame()
		if err != nil {
			return err
		}
		if wanted(frame) {
			return nil
		}
	}
}

// status returns the status of the answer on a stream.
func (f *frames) status(stream uint32) (status string) {
	require.NoError(f.t, f.until(func(frame http2.Frame) bool {
		headers, ok := frame.(*http2.MetaHeadersFrame)
		if !ok || headers.StreamID != stream {
			return false
		}
		status = headers.PseudoValue("status")
		return true
	}))
	return status
}

// TestHTTP2 is spoken over TLS and without it, and each request knows how it came.
func TestHTTP2(t *testing.T) {
	t.Parallel()
	authority, err := certificates.OpenAuthority(t.TempDir())
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	tell := func(w http.ResponseWriter, r *http.Request) {
		visitor := connections.VisitorOf(r)
		fmt.Fprint(w, r.Proto, " ", visitor.Scheme, " ", visitor.Here) //nolint:errcheck // a test
	}
	server := &connections.Server{Handler: http.HandlerFunc(tell),
		Serves: func(name, host string) bool { return name == host || host == "other.localhost" }}
	server.SetLimits(connections.Limits{Total: 10, PerClient: 10, Rate: 1000})
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(ctx, nil, connections.Secure(listener, authority.Config())) }()
	plain := serve(t, connections.Limits{}, nil, tell)

	ask := func(protocol func(*http.Protocols), address, scheme, host, as string) (int, string) {
		protocols := &http.Protocols{}
		protocol(protocols)
		transport := &http.Transport{Protocols: protocols, TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "tcp", address)
			}}
		defer transport.CloseIdleConnections()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, scheme+"://"+host+"/", nil)
		require.NoError(t, err)
		r.Host = as
		answer, err := transport.RoundTrip(r)
		require.NoError(t, err)
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(body)
	}
	one, two := func(p *http.Protocols) { p.SetHTTP1(true) }, func(p *http.Protocols) { p.SetHTTP2(true) }
	unencrypted := func(p *http.Protocols) { p.SetUnencryptedHTTP2(true) }
	for _, test := range []struct {
		protocol              func(*http.Protocols)
		address, scheme, want string
	}{
		{two, listener.Addr().String(), "https", "HTTP/2.0 https true"},
		{one, listener.Addr().String(), "https", "HTTP/1.1 https true"},
		{unencrypted, plain.address, "http", "HTTP/2.0 http true"},
		{one, plain.address, "http", "HTTP/1.1 http true"},
	} {
		_, body := ask(test.protocol, test.address, test.scheme, "corvane.localhost", "")
		assert.Equal(t, test.want, body)
	}

	// A request for a host whose certificate is another one.
	for host, want := range map[string]int{"other.localhost": 200, "winter.localhost": 421, "corvane.localhost": 200} {
		for _, protocol := range []func(*http.Protocols){one, two} {
			status, _ := ask(protocol, listener.Addr().String(), "https", "corvane.localhost", host)
			assert.Equal(t, want, status, host)
		}
	}
	// Draining ends these as well.
	stop()
	require.NoError(t, <-ended)
	assert.Zero(t, server.Open())
}

// TestAStreamThatTakesNothingEnds: the client grants no window, so that even a small
// answer cannot be sent, and keeps the connection alive besides.
func TestAStreamThatTakesNothingEnds(t *testing.T) {
	t.Parallel()
	for name, size := range map[string]int{"small": 5, "large": 1 << 20} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var ended atomic.Int64
			s := serve(t, connections.Limits{Total: 10, Rate: 1 << 20, Grace: 300 * time.Millisecond}, nil,
				func(w http.ResponseWriter, _ *http.Request) {
					defer ended.Add(1)
					io.WriteString(w, strings.Repeat("a", size)) //nolint:errcheck // it may end
				})
			f := s.frames(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 0})
			for i := range uint32(8) {
				require.NoError(t, f.get(2*i+1, "/"))
			}
			reset := 0
			err := f.until(func(frame http2.Frame) bool {
				if _, ok := frame.(*http2.RSTStreamFrame); ok {
					reset++
				}
				return reset == 8
			})
			require.Eventually(t, func() bool { return ended.Load() == 8 }, 30*time.Second, time.Millisecond)
			if size <= 4096 {
				// net/http has these whole, so it is the connection that ends.
				require.Error(t, err)
				require.NotErrorIs(t, err, os.ErrDeadlineExceeded)
				require.Eventually(t, func() bool { return s.server.Open() == 0 }, 30*time.Second, time.Millisecond)
				return
			}
			require.NoError(t, err)
			// The next one is answered: these are counted no longer.
			for i := range uint32(9) {
				require.NoError(t, f.get(101+2*i, "/"))
				assert.Equal(t, "200", f.status(101+2*i))
			}
		})
	}
}

// TestAStreamThatTakesSlowlyGoesOn as long as it takes what it must.
func TestAStreamThatTakesSlowlyGoesOn(t *testing.T) {
	t.Parallel()
	s := serve(t, connections.Limits{Rate: 10_000, Grace: time.Second}, nil,
		func(w http.ResponseWriter, _ *http.Request) {
			for range 40 {
				if _, err := w.Write(make([]byte, 1000)); err != nil {
					return
				}
			}
		})
	f := s.frames(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 0})
	require.NoError(t, f.get(1, "/"))
	go func() {
		for range 20 { // 20 kB a second
			time.Sleep(100 * time.Millisecond)
			if f.WriteWindowUpdate(1, 2000) != nil {
				return
			}
		}
	}()
	taken := 0
	require.NoError(t, f.until(func(frame http2.Frame) bool {
		_, reset := frame.(*http2.RSTStreamFrame)
		require.False(t, reset, "after %d bytes", taken)
		data, ok := frame.(*http2.DataFrame)
		if ok {
			taken += len(data.Data())
		}
		return ok && data.StreamEnded()
	}))
	assert.Equal(t, 40_000, taken)
}

// TestRequestsOverHTTP2AreBounded in all, as connections are.
func TestRequestsOverHTTP2AreBounded(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	s := serve(t, connections.Limits{Total: 3}, nil, func(w http.ResponseWriter, r *http.Request) {
		<-release
		hello(w, r)
	})
	f := s.frames()
	for i := range uint32(4) {
		require.NoError(t, f.get(2*i+1, "/"))
	}
	// They begin in any order.
	require.NoError(t, f.until(func(frame http2.Frame) bool {
		headers, ok := frame.(*http2.MetaHeadersFrame)
		return ok && headers.PseudoValue("status") == "503"
	}))
	close(release)
	for range 3 {
		require.NoError(t, f.until(func(frame http2.Frame) bool {
			_, ok := frame.(*http2.DataFrame)
			return ok
		}))
	}
	require.NoError(t, f.get(9, "/"))
	assert.Equal(t, "200", f.status(9))
}

// TestRapidResets: requests that are taken back at once are not worked on by the
// thousand, and other visitors are answered.
func TestRapidResets(t *testing.T) {
	t.Parallel()
	var running, most, all atomic.Int64
	release := make(chan struct{})
	s := serve(t, connections.Limits{Total: 1000}, nil, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" {
			hello(w, r)
			return
		}
		all.Add(1)
		now := running.Add(1)
		defer running.Add(-1)
		for before := most.Load(); now > before && !most.CompareAndSwap(before, now); before = most.Load() {
		}
		<-release // whatever the client does: work that cannot be taken back
	})
	f := s.frames()
	go io.Copy(io.Discard, f.Conn) //nolint:errcheck // what comes is of no interest
	sent := int64(0)
	for i, until := uint32(0), time.Now().Add(20*time.Second); time.Now().Before(until); i++ {
		sent++
		if f.get(2*i+1, "/slow") != nil || f.WriteRSTStream(2*i+1, http2.ErrCodeCancel) != nil {
			break
		}
	}
	visitor := s.dial(get)
	status, _ := answer(visitor)
	assert.Equal(t, 200, status)
	visitor.Close() //nolint:errcheck // it is open
	assert.LessOrEqual(t, most.Load(), int64(100))
	assert.LessOrEqual(t, all.Load(), int64(100), "of %d", sent)
	assert.Greater(t, sent, int64(100))
	close(release)
	require.Eventually(t, func() bool { return s.server.Open() == 0 }, 30*time.Second, 10*time.Millisecond)
}

// TestFloodsEnd: what a client may send without end costs it its connection before it
// costs the server memory.
func TestFloodsEnd(t *testing.T) {
	t.Parallel()
	big := hpack.HeaderField{Name: "x-a", Value: strings.Repeat("a", 3000)}
	many := make([]hpack.HeaderField, 400) // 1.2 MB once it is decoded, and a few kB on the wire
	for i := range many {
		many[i] = big
	}
	for name, flood := range map[string]func(f *frames, i int) error{
		"headers that grow": func(f *frames, i int) error { return f.get(uint32(2*i+1), "/", many...) },
		"endless headers": func(f *frames, i int) error {
			if i == 0 {
				return f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: f.block(":method", "GET")})
			}
			return f.WriteContinuation(1, false, f.block(fmt.Sprint("x-", i), strings.Repeat("b", 8000)))
		},
		"empty continuations": func(f *frames, i int) error {
			if i == 0 {
				return f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1})
			}
			return f.WriteContinuation(1, false, nil)
		},
		// What is to be acknowledged is not read by this client.
		"pings":    func(f *frames, _ int) error { return f.WritePing(false, [8]byte{1}) },
		"settings": func(f *frames, _ int) error { return f.WriteSettings() },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := serve(t, connections.Limits{Rate: 1000, Grace: time.Second}, nil, hello)
			f := s.frames()
			f.SetWriteDeadline(time.Now().Add(20 * time.Second)) //nolint:errcheck // it is open
			var err error
			for i := 0; err == nil && i < 5_000_000; i++ {
				err = flood(f, i)
			}
			require.Error(t, err)
			require.NotErrorIs(t, err, os.ErrDeadlineExceeded)
			require.Eventually(t, func() bool { return s.server.Open() == 0 }, 30*time.Second, 10*time.Millisecond)
		})
	}
}

// TestLargeBodiesAreNoFlood: what belongs to a request may be of any size, with bounds and
// without any.
func TestLargeBodiesAreNoFlood(t *testing.T) {
	t.Parallel()
	for name, limits := range map[string]connections.Limits{"bounded": {Total: 10, Rate: 1000}, "unbounded": {}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := serve(t, limits, nil, func(w http.ResponseWriter, r *http.Request) {
				io.Copy(w, r.Body) //nolint:errcheck // the client sees it
			})
			protocols := &http.Protocols{}
			protocols.SetUnencryptedHTTP2(true)
			transport := &http.Transport{Protocols: protocols}
			defer transport.CloseIdleConnections()
			const size = 8 << 20
			r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, "http://"+s.address+"/",
				bytes.NewReader(make([]byte, size)))
			require.NoError(t, err)
			answer, err := transport.RoundTrip(r)
			require.NoError(t, err)
			defer answer.Body.Close() //nolint:errcheck // read
			n, err := io.Copy(io.Discard, answer.Body)
			require.NoError(t, err)
			assert.EqualValues(t, size, n)
		})
	}
}
