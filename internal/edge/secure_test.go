package edge_test

import (
	"context"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
)

// TestOnePageHasOneAddress asks over plain HTTP, straight and through proxies: visitors are
// led to https exactly where that ends there, in one hop.
func TestOnePageHasOneAddress(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Secures: func(host string) bool { return host == "www.corvane.example" }})
	id := w.putRuled(map[string]string{"index.html": "home", "fares.html": "42", "404.html": "missing"}, program(t,
		"redirect /prices -> /fares\nheader /{rest:all} Strict-Transport-Security: max-age=600\n").Rules, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id, "https://www.corvane.example/", "https://corvane.example/",
		"http://old.corvane.example/"))
	w.await("staging.corvane.localhost", w.activate("staging", id, "https://next.corvane.example/"))

	trust, err := connections.ParseTrust([]string{"127.0.0.2"})
	require.NoError(t, err)
	server := &connections.Server{Handler: w.node}
	server.SetTrust(trust)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan error)
	go func() { ended <- server.Serve(ctx, nil, listener) }()
	t.Cleanup(func() { stop(); assert.NoError(t, <-ended) })

	// from makes a request from one of this machine's addresses.
	ask := func(from, method, host, path string, header ...string) (int, string, string) {
		client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Transport: &http.Transport{DisableKeepAlives: true, DialContext: (&net.Dialer{
				LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 10 * time.Second}).DialContext}}
		request, err := http.NewRequestWithContext(t.Context(), method, "http://"+listener.Addr().String()+path, nil)
		require.NoError(t, err)
		request.Host = host
		for i := 0; i+1 < len(header); i += 2 {
			request.Header.Set(header[i], header[i+1])
		}
		response, err := client.Do(request)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		return response.StatusCode, response.Header.Get("Location"), response.Header.Get("Strict-Transport-Security")
	}
	const visitor, proxy, www = "127.0.0.1", "127.0.0.2", "www.corvane.example"
	for name, c := range map[string]struct {
		from, method, host, path string
		header                   []string
		status                   int
		location                 string
		strict                   bool
	}{
		"straight":                   {visitor, "GET", www, "/fares?a=1", nil, 301, "https://www.corvane.example/fares?a=1", false},
		"HEAD":                       {visitor, "HEAD", www, "/fares", nil, 301, "https://www.corvane.example/fares", false},
		"with a port":                {visitor, "GET", www + ":80", "/fares", nil, 301, "https://www.corvane.example/fares", false},
		"what moved, in one hop":     {visitor, "GET", www, "/prices", nil, 301, "https://www.corvane.example/fares", false},
		"another address":            {visitor, "GET", "corvane.example", "/prices?b", nil, 301, "https://www.corvane.example/fares?b", false},
		"a plain address":            {visitor, "GET", "old.corvane.example", "/fares", nil, 301, "https://www.corvane.example/fares", false},
		"two slashes":                {visitor, "GET", www, "//evil.example/", nil, 301, "https://www.corvane.example/evil.example/", false},
		"a form":                     {visitor, "POST", www, "/fares", nil, 405, "", false},
		"no certificate":             {visitor, "GET", "next.corvane.example", "/fares", nil, 200, "", false},
		"a proxy that nobody trusts": {visitor, "GET", www, "/fares", []string{"X-Forwarded-Proto", "https"}, 200, "", false},
		"one that only names itself": {visitor, "GET", www, "/fares", []string{"Via", "1.1 proxy"}, 200, "", false},
		"one that does not show":     {visitor, "GET", www, "/fares", []string{"Sec-Fetch-Site", "none"}, 200, "", false},
		"a trusted proxy, over TLS":  {proxy, "GET", www, "/fares", []string{"X-Forwarded-Proto", "https"}, 200, "", true},
		"a trusted proxy, over HTTP": {proxy, "GET", "next.corvane.example", "/fares", []string{"X-Forwarded-Proto", "http"}, 301,
			"https://next.corvane.example/fares", false},
		"a trusted proxy that does not say": {proxy, "GET", www, "/fares", []string{"X-Forwarded-For", "192.0.2.7"}, 200, "", false},
	} {
		// Several times: what is ready by then is answered as the first was.
		for range 3 {
			status, location, strict := ask(c.from, c.method, c.host, c.path, c.header...)
			assert.Equal(t, c.status, status, name)
			assert.Equal(t, c.location, location, name)
			assert.Equal(t, c.strict, strict != "", name)
		}
	}
}
