package edge_test

import (
	"cmp"
	"context"
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/answer/cases"
)

// ways are how requests come.
var ways = map[string]func(*http.Protocols){
	"HTTP/1.1":                    func(p *http.Protocols) { p.SetHTTP1(true) },
	"HTTP/1.1 over TLS":           func(p *http.Protocols) { p.SetHTTP1(true) },
	"HTTP/2 without TLS":          func(p *http.Protocols) { p.SetUnencryptedHTTP2(true) },
	"HTTP/2, as browsers have it": func(p *http.Protocols) { p.SetHTTP2(true) },
}

// encodings are those that are asked for in each way: the way changes nothing about them.
var encodings = map[string][]string{
	"HTTP/1.1": {"", "br", "zstd", "gzip"}, "HTTP/1.1 over TLS": {"gzip"}, "HTTP/2 without TLS": {""},
	"HTTP/2, as browsers have it": {"", "br"},
}

// spoken is a server that can be spoken to in all ways.
type spoken struct {
	plain, secure string
	clients       map[string]*http.Client
}

// speak serves a handler in all ways.
func speak(t *testing.T, handler http.Handler) *spoken {
	t.Helper()
	authority, err := certificates.OpenAuthority(t.TempDir())
	require.NoError(t, err)
	config := authority.Config()
	config.GetCertificate = func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return authority.For("localhost") }
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	secure, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &spoken{plain.Addr().String(), secure.Addr().String(), map[string]*http.Client{}}
	ctx, stop := context.WithCancel(context.Background())
	server, ended := &connections.Server{Handler: handler}, make(chan error, 1)
	server.SetLimits(connections.Limits{Total: 1000, PerClient: 1000, Rate: 1000})
	go func() { ended <- server.Serve(ctx, nil, plain, connections.Secure(secure, config)) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-ended)
	})

	for way, set := range ways {
		at, protocols := s.plain, &http.Protocols{}
		if set(protocols); isSecure(way) {
			at = s.secure
		}
		s.clients[way] = &http.Client{
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Transport: &http.Transport{Protocols: protocols, DisableCompression: true,
				TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
				DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
					return (&net.Dialer{}).DialContext(ctx, "tcp", at)
				}},
		}
		t.Cleanup(s.clients[way].CloseIdleConnections)
	}
	return s
}

func isSecure(way string) bool {
	return strings.HasSuffix(way, "TLS") && !strings.Contains(way, "without") || strings.Contains(way, "browsers")
}

// ask sends the request of a case, and returns the answer with its body decoded.
func (s *spoken) ask(t *testing.T, way, host string, c cases.Case, encoding string) (*http.Response, string) {
	t.Helper()
	return s.askWith(t, way, host, c, map[string]string{"Accept-Encoding": encoding})
}

// askWith is ask with other fields.
func (s *spoken) askWith(t *testing.T, way, host string, c cases.Case, header map[string]string) (*http.Response, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), cmp.Or(c.Method, "GET"), "http://"+s.plain, nil)
	require.NoError(t, err)
	path, query, _ := strings.Cut(c.URL, "?")
	plain, err := url.PathUnescape(path)
	require.NoError(t, err)
	request.URL = &url.URL{Scheme: "http", Host: host, Path: plain, RawPath: path, RawQuery: query}
	if isSecure(way) {
		request.URL.Scheme = "https"
	}
	request.Host = host
	for field, value := range map[string]string{"Accept-Language": c.Language, "Cookie": c.Cookie} {
		if value != "" {
			request.Header.Set(field, value)
		}
	}
	for field, value := range header {
		if value != "" {
			request.Header.Set(field, value)
		}
	}
	response, err := s.clients[way].Do(request)
	require.NoError(t, err)
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, decoded(t, response, string(body))
}

// decoded undoes the coding of an answer.
func decoded(t *testing.T, response *http.Response, body string) string {
	t.Helper()
	var from io.Reader = strings.NewReader(body)
	var err error
	switch response.Header.Get("Content-Encoding") {
	case "br":
		from = brotli.NewReader(from)
	case "gzip":
		if body != "" {
			from, err = gzip.NewReader(from)
		}
	case "zstd":
		from, err = zstd.NewReader(from)
	}
	require.NoError(t, err)
	if body == "" {
		return ""
	}
	data, err := io.ReadAll(from)
	require.NoError(t, err)
	return string(data)
}

// long is content that is worth encoding.
func long(text string) string {
	return text + strings.Repeat("\nCorvane Ferries sail between Sula and Velley, and to "+text, 10)
}

// withoutEncoding is a field without what encoding adds to it.
func withoutEncoding(header http.Header, field string) string {
	value := header.Get(field)
	if field == "Vary" {
		for _, name := range []string{"Available-Dictionary", "Accept-Encoding"} {
			value = strings.TrimSuffix(strings.TrimSuffix(value, name), ", ")
		}
	}
	return value
}
