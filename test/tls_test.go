package test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/certificates/certtest"
)

// secureGet asks for an address over TLS, whatever the name resolves to.
func secureGet(t *testing.T, at, url string, config *tls.Config) (*http.Response, string, error) {
	t.Helper()
	transport := &http.Transport{TLSClientConfig: config, ForceAttemptHTTP2: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", at)
		}}
	defer transport.CloseIdleConnections()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	require.NoError(t, err)
	answer, err := transport.RoundTrip(r)
	if err != nil {
		return nil, "", err
	}
	defer answer.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer, string(body), nil
}

// TestANodeSpeaksTLS with the certificate of the name that is asked for, reads those that
// were renewed, and shows no site to a name that it has no certificate for.
func TestANodeSpeaksTLS(t *testing.T) {
	t.Parallel()
	p := servedPlace(t)
	certtest.Issue(t, p.folder, "corvane", time.Hour, "corvane.localhost")
	certtest.Issue(t, p.folder, "sula", time.Hour, "sula.example", "www.sula.example")
	p.write(map[string]string{"edge.yaml": `listen: 127.0.0.1:0
tls:
  listen: 127.0.0.1:0
  certificates:
    - {chain: corvane.pem, key: corvane.key}
    - {chain: sula.pem, key: sula.key}
`})
	out := p.ok("edge", "--config", "edge.yaml", "--check")
	assert.Contains(t, out, "sula.example, www.sula.example")
	assert.Contains(t, out, "expires", "it ends soon")
	p.fails(2, "--certificate CHAIN,KEY", "edge", "--certificate", "corvane.pem", "--check")
	p.fails(2, "does not belong", "edge", "--certificate", "corvane.pem,sula.key", "--check")

	n := p.publicNode(nil, nil, "--config", "edge.yaml")
	n.says("corvane production:1")
	_, rest, _ := strings.Cut(n.text(), "and at https://")
	at, _, _ := strings.Cut(rest, "\n")
	anybody := func(name string) *tls.Config { return &tls.Config{ServerName: name, InsecureSkipVerify: true} }
	answer, body, err := secureGet(t, at, "https://corvane.localhost/", anybody(""))
	require.NoError(t, err)
	assert.Contains(t, body, "Corvane")
	assert.Equal(t, "HTTP/2.0", answer.Proto)
	assert.Equal(t, []string{"corvane.localhost"}, answer.TLS.PeerCertificates[0].DNSNames)
	_, _, err = secureGet(t, at, "https://other.example/", anybody(""))
	require.ErrorContains(t, err, "unrecognized name")
	answer, body, err = secureGet(t, at, "https://corvane.localhost/", anybody("sula.example"))
	require.NoError(t, err)
	assert.Equal(t, http.StatusMisdirectedRequest, answer.StatusCode)
	assert.NotContains(t, body, "Corvane")

	if runtime.GOOS == "windows" {
		return // no SIGHUP
	}
	certtest.Issue(t, p.folder, "corvane", time.Hour, "corvane.localhost", "new.localhost")
	require.NoError(t, os.WriteFile(filepath.Join(p.folder, "sula.pem"), []byte("half"), 0o600))
	n.signal(syscall.SIGHUP)
	n.says("configuration read again")
	n.says("stays as it was")
	for url, want := range map[string]int{"https://corvane.localhost/": 2, "https://sula.example/": 2} {
		answer, _, err = secureGet(t, at, url, anybody(""))
		require.NoError(t, err)
		assert.Len(t, answer.TLS.PeerCertificates[0].DNSNames, want, url)
	}
}

// TestServingOverTLS signs with an authority that is made once.
func TestServingOverTLS(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"orilla.yaml": "site: corvane\n", "out/index.html": "<!doctype html><title>Corvane</title>"})
	p.fails(2, "--lan", "serve", "out", "--tls", "--lan")
	for range 2 {
		n := &publicNode{t: t, ended: make(chan struct{})}
		n.command = p.command(t.Context(), "serve", "out", "--tls", "--listen", "127.0.0.1:0", "--no-reload")
		n.command.Stdout, n.command.Stderr = n, n
		require.NoError(t, n.command.Start())
		go func() { n.command.Wait(); close(n.ended) }() //nolint:errcheck // it is killed
		n.says("authority.pem")
		_, rest, _ := strings.Cut(n.text(), "serving ")
		address, _, _ := strings.Cut(rest, " ")
		require.Contains(t, address, "https://localhost:")
		home, err := filepath.Glob(filepath.Join(p.home, "authority", "*.pem"))
		require.NoError(t, err)
		require.Len(t, home, 1)
		authority, err := os.ReadFile(home[0])
		require.NoError(t, err)
		roots := x509.NewCertPool()
		require.True(t, roots.AppendCertsFromPEM(authority))
		answer, body, err := secureGet(t, strings.Replace(strings.Trim(address, "/"), "https://localhost", "127.0.0.1", 1),
			address, &tls.Config{RootCAs: roots})
		require.NoError(t, err)
		assert.Contains(t, body, "Corvane")
		assert.Equal(t, "HTTP/2.0", answer.Proto)
		n.command.Process.Kill() //nolint:errcheck // it may have ended
		<-n.ended
	}
}
