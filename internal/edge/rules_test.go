package edge_test

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer/cases"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
)

func program(t *testing.T, text string) *rules.Program {
	t.Helper()
	zone, err := time.LoadLocation(cases.TimeZone)
	require.NoError(t, err)
	p, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}},
		rules.Options{Languages: cases.Languages, Zone: zone})
	require.Empty(t, found)
	return p
}

// loopback lets a node reach upstreams of tests.
var loopback = httpanswer.Reach{Networks: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}

// upstream answers with the request line and, as a field,
// the headers that it got.
func upstream(t *testing.T) *httptest.Server {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Saw", fmt.Sprintf("host=%s forwarded=%s xff=%s xhost=%s te=%s auth=%s", r.Host,
			r.Header.Get("Forwarded"), r.Header.Get("X-Forwarded-For"),
			r.Header.Get("X-Forwarded-Host"), r.Header.Get("Te"), r.Header.Get("X-Real-Ip")))
		fmt.Fprintf(w, "%s %s", r.Method, r.RequestURI) //nolint:errcheck // the test tells
	}))
	t.Cleanup(server.Close)
	return server
}

// TestCases holds an edge node and local serving to the
// table that the pure function is held to.
func TestCases(t *testing.T) {
	t.Parallel()
	harbour := upstream(t)
	var now atomic.Pointer[time.Time]
	clock := func() time.Time { return *now.Load() }
	now.Store(&cases.Noon)
	files := map[string]string{}
	for _, path := range cases.Files {
		files[path] = long(path)
	}
	settings := release.Settings{Languages: cases.Languages}
	list := program(t, cases.Rules).Rules

	// Both servers encode to the same bytes, whenever the node has made its best.
	w := start(t, edge.Options{Now: clock, Settings: edge.Settings{Reach: loopback},
		Best: func(_ context.Context, c coding.Coding, content []byte) ([]byte, error) {
			return coding.Encode(c, coding.Fast, content)
		}})
	id := w.putRuled(files, list, settings)
	upstreams := map[string]string{"harbour": harbour.URL}
	w.await("www.corvane.example", w.activateWith("production", id, journal.DocumentContent{
		Addresses: []string{"https://www.corvane.example/"}, Upstreams: upstreams}))
	w.activateWith("preview.winter", id, journal.DocumentContent{Upstreams: upstreams})
	require.Eventually(t, func() bool {
		r, _ := w.ask("GET", "winter.preview.corvane.localhost", "/fares", nil)
		return r.StatusCode == http.StatusOK
	}, 30*time.Second, time.Millisecond)

	folder := t.TempDir()
	shown := devserver.Shown{Sources: map[string]string{}, Settings: settings, Rules: rules.Compile(list),
		Upstreams: upstreams}
	for path, text := range files {
		at := filepath.Join(folder, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
		shown.Sources[path] = at
		shown.Files = append(shown.Files, release.File{Path: path, Digest: digest.Of([]byte(text)),
			Size: int64(len(text)), Type: media.Type(path, true)})
	}
	serves := map[string]*spoken{"edge": speak(t, w.node)}
	for _, environment := range []string{"production", "preview/winter"} {
		local := devserver.NewLocal(devserver.LocalOptions{Environment: environment, Now: clock})
		local.Show(shown)
		serves[environment] = speak(t, local)
	}

	for _, c := range cases.List {
		t.Run(c.Name, func(t *testing.T) {
			at := c.At
			if at.IsZero() {
				at = cases.Noon
			}
			now.Store(&at)
			environment, host := "production", cmp.Or(c.Host, "www.corvane.example")
			if c.Preview {
				environment, host = "preview/winter", "winter.preview.corvane.localhost"
			}
			if c.Host != "" { // a host of its own answers for this environment, as an operator would have it
				w.activateWith("production", id,
					journal.DocumentContent{Addresses: []string{"https://" + c.Host + "/"},
						Upstreams: upstreams})
				require.Eventually(t, func() bool {
					r,
						_ := w.ask("GET", c.Host, "/fares", nil)
					return r.StatusCode == http.StatusOK
				}, 30*time.Second,
					time.Millisecond)
				defer func() {
					w.await("www.corvane.example",
						w.activateWith("production", id,
							journal.DocumentContent{Addresses: []string{"https://www.corvane.example/"},
								Upstreams: upstreams}))
				}()
			}
			for way := range ways {
				for _, encoding := range encodings[way] {
					var first http.Header
					for name, server := range map[string]*spoken{"edge": serves["edge"], "serve": serves[environment]} {
						name += " " + way + " " + encoding
						response, body := server.ask(t, way, host, c, encoding)
						assert.Equal(t, c.Status, response.StatusCode, name)
						assert.Equal(t, c.Location, response.Header.Get("Location"), name)
						if c.File != "" && c.Method != http.MethodHead {
							assert.Equal(t, long(c.File), body, name)
						}
						if c.File != "" && response.StatusCode != http.StatusNotModified {
							isText := !strings.HasSuffix(c.File, ".woff2") && !strings.HasSuffix(c.File, ".pdf")
							assert.Equal(t, isText && encoding != "", response.Header.Get("Content-Encoding") != "", name)
						}
						if c.Upstream != "" {
							assert.Equal(t, c.Upstream, body, name)
						}
						for field, want := range c.Header {
							assert.Equal(t, want, withoutEncoding(response.Header, field), "%s %s", name, field)
						}
						for _, field := range c.Without {
							assert.Empty(t, withoutEncoding(response.Header, field), "%s %s", name, field)
						}
						for _, field := range []string{"Date", httpanswer.ReleaseField} {
							response.Header.Del(field)
						}
						if first == nil {
							first = response.Header
						}
						assert.Equal(t, first, response.Header, "the edge and local serving send the same header")
					}
				}
			}
		})
	}
}

// passing serves one proxy rule to a handler.
func passing(t *testing.T, rule string, reach httpanswer.Reach, wait time.Duration, handler http.HandlerFunc,
) *world {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	w := start(t, edge.Options{Settings: edge.Settings{Reach: reach}, Wait: wait})
	id := w.putRuled(map[string]string{"index.html": "1"}, program(t, rule).Rules, release.Settings{})
	w.await("corvane.localhost",
		w.activateWith("production", id,
			journal.DocumentContent{Upstreams: map[string]string{"harbour": server.URL + "/base"}}))
	return w
}

const apiRule = "proxy /api/{rest:all} -> harbour:/v1/{rest}\nheader /api/{rest:all} x-frame-options: " +
	"DENY\nwithhold /api/{rest:all} server\n"

func TestUpstreamsSeeFreshFieldsAndTheirOwnHost(t *testing.T) {
	t.Parallel()
	var seen http.Header
	var host string
	w := passing(t, apiRule, loopback, 0, func(w http.ResponseWriter, r *http.Request) {
		seen, host = r.Header, r.Host
		w.Header().Set("Server", "secret")
		w.Header().Set("Keep-Alive", "timeout=5")
		w.Header().Set("Location", "http://"+r.Host+"/base/v1/tides?x=1")
		w.WriteHeader(http.StatusSeeOther)
	})
	r, _ := w.ask("POST", "corvane.localhost", "/api/tides", map[string]string{
		"Forwarded": "for=evil", "X-Forwarded-For": "6.6.6.6", "X-Forwarded-Host": "evil.example",
		"Te": "trailers", "Connection": "x-hop", "X-Hop": "1", "Cookie": "a=b"})
	assert.Equal(t, 303, r.StatusCode)
	assert.Equal(t, "/api/tides?x=1", r.Header.Get("Location"),
		"a Location that points at the upstream leads back")
	assert.Equal(t, "DENY", r.Header.Get("X-Frame-Options"))
	assert.Empty(t, r.Header.Get("Server"))
	assert.Empty(t, r.Header.Get("Keep-Alive"))
	assert.True(t, strings.HasPrefix(host, "127.0.0.1:"), host)
	assert.Equal(t, "127.0.0.1", seen.Get("X-Forwarded-For"))
	assert.Equal(t, "corvane.localhost", seen.Get("X-Forwarded-Host"))
	assert.Equal(t, `for=127.0.0.1;host="corvane.localhost";proto=http`, seen.Get("Forwarded"))
	assert.Empty(t, seen.Get("X-Hop"), "hop by hop")
	assert.Equal(t, "a=b", seen.Get("Cookie"))
}

func TestUpstreamsStreamBothWays(t *testing.T) {
	t.Parallel()
	w := passing(t, apiRule, loopback, 0, func(w http.ResponseWriter, r *http.Request) {
		http.NewResponseController(w).EnableFullDuplex() //nolint:errcheck // HTTP/1.1 can
		lines := bufio.NewReader(r.Body)
		for {
			line, err := lines.ReadString('\n')
			if err != nil {
				return
			}
			io.WriteString(w, "heard "+line)      //nolint:errcheck // the test tells
			http.NewResponseController(w).Flush() //nolint:errcheck // the test tells
		}
	})
	read, write := io.Pipe()
	request, err := http.NewRequest(http.MethodPost, w.server.URL+"/api/talk", read)
	require.NoError(t, err)
	request.Host = "corvane.localhost"
	go io.WriteString(write, "one\n") //nolint:errcheck // the test tells
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(t, err)
	defer response.Body.Close() //nolint:errcheck // read
	answers := bufio.NewReader(response.Body)
	for _, word := range []string{"one\n", "two\n", "three\n"} {
		if word != "one\n" {
			_, err := io.WriteString(write, word)
			require.NoError(t, err)
		}
		line, err := answers.ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, "heard "+word, line)
	}
	require.NoError(t, write.Close())
}

func TestWebsocketsPass(t *testing.T) {
	t.Parallel()
	w := passing(t, apiRule, loopback, 0, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") != "websocket" {
			http.Error(w, "no", http.StatusBadRequest)
			return
		}
		conn, buffered, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		//nolint:errcheck // ended
		defer conn.Close()
		//nolint:errcheck // the test tells
		io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: "+
			"Upgrade\r\nUpgrade: websocket\r\n\r\n")
		line, _ := buffered.ReadString('\n')
		io.WriteString(conn, "heard "+line) //nolint:errcheck // the test tells
	})
	conn, err := net.Dial("tcp", w.server.Listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // ended
	_, err = io.WriteString(conn,
		"GET /api/live HTTP/1.1\r\nHost: corvane.localhost\r\nConnection: "+
			"Upgrade\r\nUpgrade: websocket\r\n\r\n")
	require.NoError(t, err)
	in := bufio.NewReader(conn)
	response, err := http.ReadResponse(in, nil)
	require.NoError(t, err)
	require.Equal(t, 101, response.StatusCode)
	_, err = io.WriteString(conn, "ahoy\n")
	require.NoError(t, err)
	line, err := in.ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "heard ahoy\n", line)
}

func TestUpstreamsThatDoNotAnswer(t *testing.T) {
	t.Parallel()
	slow := passing(t, apiRule, loopback, 50*time.Millisecond,
		func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	inside := passing(t, apiRule, httpanswer.Reach{}, 0,
		func(http.ResponseWriter,
			*http.Request) {
			t.Error("an address inside the edge's network was asked")
		})
	broken := passing(t, apiRule, loopback, 0,
		func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
	nowhere := passing(t, "proxy /api/{rest:all} -> lighthouse:/v1/{rest}\n", loopback, 0, nil)
	refused := passing(t, "proxy /api/{rest:all} -> http://127.0.0.1:1/{rest}\n", loopback, 0, nil)
	literal := passing(t, "proxy /api/{rest:all} -> http://[::1]:80/{rest}\n", httpanswer.Reach{}, 0, nil)
	for name, test := range map[string]struct {
		w      *world
		status int
		kind   string
	}{
		"slow": {slow, 504, "http_response_timeout"}, "inside": {inside, 502,
			"destination_ip_prohibited"}, "broken": {broken, 502, "connection_terminated"},
		"nowhere": {nowhere, 502, "proxy_internal_error"}, "refused": {refused, 502, "connection_refused"},
		"literal": {literal, 502, "destination_ip_prohibited"},
	} {
		t.Run(name, func(t *testing.T) {
			r, body := test.w.ask("GET", "corvane.localhost", "/api/tides", nil)
			assert.Equal(t, test.status, r.StatusCode, name)
			assert.Equal(t, "orilla; error="+test.kind, r.Header.Get("Proxy-Status"), name)
			assert.Equal(t, "no-store", r.Header.Get("Cache-Control"), name)
			assert.Equal(t, "text/plain; charset=utf-8", r.Header.Get("Content-Type"), name)
			assert.NotContains(t, body, "127.0.0.1", name)
			assert.NotEmpty(t, test.w.troubles(), name)
		})
	}
}

// TestConditionsAndCaches makes sure that what rules add takes part in the
// entity tag, and that a 304 carries the fields of the 200.
func TestConditionsAndCaches(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	files := map[string]string{"fares.html": "42.50"}
	w.await("corvane.localhost", w.activate("production", w.put(files, release.Settings{})))
	plain, _ := w.ask("GET", "corvane.localhost", "/fares", nil)
	id := w.putRuled(files, program(t,
		"header /fares when cookie beta x-flash: new\nheader /fares x-frame-options: DENY\n").Rules,
		release.Settings{})
	w.await("corvane.localhost", w.activate("production", id))
	tags := map[string]bool{plain.Header.Get("ETag"): true}
	for _, cookie := range []string{"beta=1", "x=1"} {
		r, _ := w.ask("GET", "corvane.localhost", "/fares", map[string]string{"Cookie": cookie})
		tags[r.Header.Get("ETag")] = true
		same, body := w.ask("GET", "corvane.localhost", "/fares",
			map[string]string{"Cookie": cookie, "If-None-Match": r.Header.Get("ETag")})
		assert.Equal(t, 304, same.StatusCode)
		assert.Empty(t, body)
		for _, field := range []string{"Etag", "Vary", "Cache-Control", "X-Frame-Options", "X-Flash"} {
			assert.Equal(t, r.Header[field], same.Header[field], field)
		}
		assert.Equal(t, "Cookie", r.Header.Get("Vary"))
	}
	assert.Len(t, tags, 3, "without rules, with the cookie, without it")
}

func TestFrontOfADevelopmentServer(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/", "/sailings/winter/", "/planner/", "/404":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("X-Powered-By", "steam")
			w.Header().Set("Link", "</a.css>; rel=preload")
			io.WriteString(w, "page "+r.URL.Path) //nolint:errcheck // the test tells
		case "/live":
			conn, buffered, err := http.NewResponseController(w).Hijack()
			if err != nil {
				return
			}
			//nolint:errcheck // ended
			defer conn.Close()
			//nolint:errcheck // the test tells
			io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: "+
				"Upgrade\r\nUpgrade: websocket\r\n\r\n")
			line, _ := buffered.ReadString('\n')
			io.WriteString(conn, "heard "+line) //nolint:errcheck // the test tells
		case "/save":
			io.WriteString(w, r.Method) //nolint:errcheck // the test tells
		default:
			http.NotFound(w, r)
		}
	}))
	defer server.Close()
	address, err := url.Parse(server.URL)
	require.NoError(t, err)
	local := devserver.NewLocal(devserver.LocalOptions{Environment: "production",
		Front: devserver.NewFront(address)})
	local.Show(devserver.Shown{Rules: rules.Compile(program(t, `
redirect /timetable/{x}       -> /sailings/{x}
rewrite  /today               -> /sailings/winter/
fallback /planner/{rest:all}  -> /planner/
missing  /{rest:all}          -> /404
header   /{rest:all}          x-frame-options: DENY
withhold /{rest:all}          x-powered-by
header   /{rest:all}          link: </b.css>; rel=preload
header   /{rest:all}          cache-control: max-age=7
`).Rules)})
	front := httptest.NewServer(local)
	defer front.Close()
	w := &world{t: t, server: front}
	for _, test := range []struct{ method, path, want string }{
		{"GET", "/", "200 page /"}, {"GET", "/timetable/winter", "301 /sailings/winter/"}, {"GET", "/today",
			"200 page /sailings/winter/"},
		{"GET", "/planner/by/boat", "200 page /planner/"}, {"GET", "/nowhere", "404 page /404"},
		{"POST", "/save", "200 POST"}, {"GET", "/a.js", "404 404 page not found\n"},
	} {
		t.Run(test.method, func(t *testing.T) {
			r, body := w.ask(test.method, "localhost", test.path, nil)
			assert.Equal(t, test.want, fmt.Sprint(r.StatusCode, " ", r.Header.Get("Location")+body), test.path)
			assert.Equal(t, "DENY", r.Header.Get("X-Frame-Options"), test.path)
		})
	}
	r, _ := w.ask("GET", "localhost", "/sailings/winter/", nil)
	assert.Empty(t, r.Header.Get("X-Powered-By"))
	assert.Equal(t, []string{"</a.css>; rel=preload", "</b.css>; rel=preload"}, r.Header.Values("Link"))
	assert.Equal(t, "max-age=7", r.Header.Get("Cache-Control"))
	r, _ = w.ask("GET", "localhost", "/nowhere", nil)
	assert.Empty(t, r.Header.Get("Cache-Control"), "for files at their own address")
	conn, err := net.Dial("tcp", front.Listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // ended
	_, err = io.WriteString(conn,
		"GET /live HTTP/1.1\r\nHost: localhost\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	require.NoError(t, err)
	in := bufio.NewReader(conn)
	response, err := http.ReadResponse(in, nil)
	require.NoError(t, err)
	require.Equal(t, 101, response.StatusCode, "pages that reload themselves go on doing so")
	_, err = io.WriteString(conn, "ahoy\n")
	require.NoError(t, err)
	line, err := in.ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "heard ahoy\n", line)
	server.CloseClientConnections()
	server.Close()
	r, body := w.ask("GET", "localhost", "/", nil)
	assert.Equal(t, 502, r.StatusCode)
	assert.Contains(t, body, "is the development server running?")
}

// TestRulesFlipWithTheRelease moves an environment between releases with other
// rules, while somebody asks: each answer is wholly of one of them.
func TestRulesFlipWithTheRelease(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	files := map[string]string{"fares.html": "42.50", "new.html": "new"}
	ids := []release.ID{
		w.putRuled(files, program(t, "redirect /old -> /fares\nheader /{x:all} x-rules: a\n").Rules,
			release.Settings{}),
		w.putRuled(files, program(t, "redirect /old -> /new with 302\nheader /{x:all} x-rules: b\n").Rules,
			release.Settings{}),
	}
	want := map[string]string{ids[0].Short(): "301 /fares a", ids[1].Short(): "302 /new b"}
	w.await("corvane.localhost", w.activate("production", ids[0]))
	done := make(chan struct{})
	var both atomic.Bool // a slow machine may pass over many of them
	go func() {
		defer close(done)
		for i, began := 0, time.Now(); i < 40 || !both.Load() && time.Since(began) < 30*time.Second; i++ {
			w.activate("production", ids[i%2])
		}
	}()
	seen := map[string]int{}
	for open := true; open; {
		select {
		case <-done:
			open = false
		default:
		}
		r, _ := w.ask("GET", "corvane.localhost", "/old", nil)
		id, _, _ := strings.Cut(r.Header.Get(httpanswer.ReleaseField), ";")
		require.Equal(t, want[id], fmt.Sprint(r.StatusCode, " ", r.Header.Get("Location"), " ",
			r.Header.Get("X-Rules")))
		seen[id]++
		both.Store(len(seen) == 2)
	}
	assert.Len(t, seen, 2)
}

// TestDamagedRulesNeverAnswer damages the rules of a release before it is
// activated: the node stays with what it serves.
func TestDamagedRulesNeverAnswer(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	files := map[string]string{"fares.html": "42.50"}
	good := program(t, "redirect /old -> /fares\n").Rules
	w.await("corvane.localhost", w.activate("production", w.putRuled(files, good, release.Settings{})))
	for name, damage := range map[string]func(path string, data []byte) error{
		"flipped": func(path string, data []byte) error {
			data[5] ^= 1
			return os.WriteFile(path, data,
				0o644)
		},
		"short": func(path string, data []byte) error { return os.WriteFile(path, data[:10], 0o644) },
		"gone":  func(path string, _ []byte) error { return os.Remove(path) },
	} {
		list := program(t, "redirect /old -> /fares with 302 when host "+name+".example\n").Rules
		id := w.putRuled(files, list, release.Settings{})
		path := filepath.Join(w.root, filepath.FromSlash(digest.Of(rules.Encode(list)).Key()))
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.Chmod(path, 0o644))
		require.NoError(t, damage(path, data))
		entry := w.activate("production", id)
		assert.Eventually(t, func() bool {
			return strings.Contains(w.troubles(),
				digest.Of(rules.Encode(list)).String())
		}, 30*time.Second, 5*time.Millisecond,
			"%s: the object is named: %s", name, w.troubles())
		r, _ := w.ask("GET", "corvane.localhost", "/old", nil)
		assert.Equal(t, 301, r.StatusCode, name)
		assert.NotContains(t, r.Header.Get(httpanswer.ReleaseField), entry.Label(), name)
		release, _ := w.ask("GET", id.String()[:12]+".release.corvane.localhost", "/old", nil)
		assert.Equal(t, 500, release.StatusCode, name)
	}
}

// TestWhatAReleaseAddressAnswers looks at conditions and upstreams there: the
// environment is release, upstreams are production's.
func TestWhatAReleaseAddressAnswers(t *testing.T) {
	t.Parallel()
	harbour := upstream(t)
	w := start(t, edge.Options{Settings: edge.Settings{Reach: loopback}})
	id := w.putRuled(map[string]string{"fares.html": "42.50"}, program(t, `
proxy    /api/{rest:all}  -> harbour:/v1/{rest}
redirect /where           -> /production  when environment production
redirect /where           -> /release     when environment release
redirect /where           -> /preview     when environment preview
header   /{rest:all}      x-robots-tag: all
`).Rules, release.Settings{})
	w.await("corvane.localhost",
		w.activateWith("production", id,
			journal.DocumentContent{Upstreams: map[string]string{"harbour": harbour.URL}}))
	w.activate("preview.winter", id)
	require.Eventually(t, func() bool {
		r, _ := w.ask("GET", "winter.preview.corvane.localhost", "/fares", nil)
		return r.StatusCode == http.StatusOK
	}, 30*time.Second, time.Millisecond)
	of := id.String()[:12] + ".release.corvane.localhost"
	for host, want := range map[string]string{"corvane.localhost": "/production", of: "/release",
		"winter.preview.corvane.localhost": "/preview"} {
		t.Run(host, func(t *testing.T) {
			r, _ := w.ask("GET", host, "/where", nil)
			assert.Equal(t, want, r.Header.Get("Location"), host)
			robots := "noindex"
			if want == "/production" {
				robots = "all"
			}
			assert.Equal(t, []string{robots}, r.Header.Values("X-Robots-Tag"),
				"no rule lets a preview be indexed")
		})
	}
	_, body := w.ask("GET", of, "/api/x", nil)
	assert.Equal(t, "GET /v1/x", body)
	r, _ := w.ask("GET", "winter.preview.corvane.localhost", "/api/x", nil)
	assert.Equal(t, 502, r.StatusCode, "previews have no address for it")
}

// TestReach tells addresses inside a network from those of the public internet.
func TestUpstreamsInsideTheNetworkAreRefused(t *testing.T) {
	t.Parallel()
	for _, address := range []string{"127.0.0.1", "10.1.2.3", "192.168.0.1", "172.16.5.5", "169.254.169.254",
		"100.64.0.1", "0.0.0.0", "224.0.0.1", "255.255.255.255",
		"[::1]", "[fd00::1]", "[fe80::1]", "[::ffff:127.0.0.1]", "[::]", "[ff02::1]"} {
		w := passing(t, "proxy /api/{rest:all} -> http://"+address+":9/{rest}\n", httpanswer.Reach{},
			time.Second, nil)
		r, _ := w.ask("GET", "corvane.localhost", "/api/x", nil)
		assert.Equal(t, "orilla; error=destination_ip_prohibited", r.Header.Get("Proxy-Status"), address)
	}
}

// TestAnUpstreamsHeaderMeetsRules looks at what is added to, replaced in and
// taken from what an upstream sends.
func TestAnUpstreamsHeaderMeetsRules(t *testing.T) {
	t.Parallel()
	w := passing(t, `
proxy    /api/{rest:all}  -> harbour:/{rest}
header   /api/{rest:all}  x-frame-options: DENY
header   /api/{rest:all}  set-cookie: b=2
header   /api/{rest:all}  cache-control: max-age=5
header   /api/{rest:all}  when status 201  x-made: yes
header   /api/{rest:all}  when cookie beta  x-beta: 1
withhold /api/{rest:all}  x-powered-by
header   /api/soon        when from 2020-01-01T00:00Z until 2999-01-01T00:00Z x-era: now
`, loopback, 0, func(w http.ResponseWriter, _ *http.Request) {
		header := w.Header()
		header.Set("X-Frame-Options", "SAMEORIGIN")
		header.Set("X-Powered-By", "steam")
		header.Set("Set-Cookie", "a=1")
		header.Set("Cache-Control", "public, max-age=600")
		header.Set("Vary", "Accept")
		w.WriteHeader(http.StatusCreated)
	})
	r, _ := w.ask("GET", "corvane.localhost", "/api/x", nil)
	assert.Equal(t, []string{"DENY"}, r.Header.Values("X-Frame-Options"))
	assert.Equal(t, []string{"a=1", "b=2"}, r.Header.Values("Set-Cookie"))
	assert.Equal(t, "private, max-age=600", r.Header.Get("Cache-Control"),
		"the upstream's own, private for the cookie condition")
	assert.Equal(t, "Accept, Cookie", r.Header.Get("Vary"))
	assert.Equal(t, "yes", r.Header.Get("X-Made"))
	assert.Empty(t, r.Header.Get("X-Powered-By"))
	assert.Empty(t, r.Header.Get("X-Beta"))
	r, _ = w.ask("GET", "corvane.localhost", "/api/soon", nil)
	assert.Equal(t, "now", r.Header.Get("X-Era"))
	assert.Equal(t, "private, max-age=600", r.Header.Get("Cache-Control"), "the next boundary is far")
}

// TestToWhomARequestWentIsNoted names upstreams as orilla.yaml and rules do: what metrics count by.
func TestToWhomARequestWentIsNoted(t *testing.T) {
	t.Parallel()
	harbour := upstream(t)
	var mutex sync.Mutex
	noted := map[string]string{}
	w := start(t, edge.Options{Settings: edge.Settings{Reach: loopback}, Visited: func(v *visits.Visit) {
		mutex.Lock()
		defer mutex.Unlock()
		noted[v.Path] = fmt.Sprint(v.Upstream, " ", v.Status, " ", v.By)
	}})
	id := w.putRuled(map[string]string{"index.html": "front"}, program(t, "proxy /api/{rest:all} -> harbour:/v1/{rest}\n"+
		"proxy /tides/{rest:all} -> http://127.0.0.1:1/{rest}\n").Rules, release.Settings{})
	w.await("corvane.localhost", w.activateWith("production", id,
		journal.DocumentContent{Upstreams: map[string]string{"harbour": harbour.URL}}))
	for _, path := range []string{"/api/boats?key=secret", "/tides/now", "/"} {
		w.ask("GET", "corvane.localhost", path, nil)
	}
	require.Eventually(t, func() bool {
		mutex.Lock()
		defer mutex.Unlock()
		return len(noted) >= 3
	}, 30*time.Second, 5*time.Millisecond)
	mutex.Lock()
	defer mutex.Unlock()
	assert.Equal(t, "harbour 200 proxy", noted["/api/boats"])
	assert.Equal(t, "http://127.0.0.1:1 502 proxy", noted["/tides/now"])
	assert.Equal(t, " 200 file", noted["/"])
}
