//go:build proxies

package test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestBehindServersOfOthers runs the examples of packaging, with other ports and addresses, in
// front of nodes. Needs nginx and haproxy.
func TestBehindServersOfOthers(t *testing.T) {
	p := newPlace(t)
	p.commit("First", map[string]string{"index.html": "ferries", "orilla.yaml": "site: corvane\nrules: [site.rules]\n" +
		"environments: {production: {addresses: ['https://www.corvane.example/', 'https://corvane.example/']}}\n",
		"site.rules": "header /{rest:all} Strict-Transport-Security: max-age=600\n"})
	p.ok("deploy")
	// A certificate for the names, and whoever trusts it.
	chain, key, roots := certificateFor(t, p.home, "www.corvane.example", "corvane.example")
	log := filepath.Join(p.home, "access.log")
	ports := ports(t, 6)
	start := func(command *exec.Cmd) {
		said := &bytes.Buffer{}
		command.Stdout, command.Stderr = said, said
		command.WaitDelay = time.Second
		require.NoError(t, command.Start())
		t.Cleanup(func() {
			command.Process.Signal(syscall.SIGTERM) //nolint:errcheck // it may have ended
			command.Wait()                          //nolint:errcheck // it was ended
			if t.Failed() {
				t.Log(said)
			}
		})
	}
	edge := p.command(context.Background(), "edge", "--listen", "127.0.0.1:"+ports[0], "--tls", "127.0.0.1:"+ports[1],
		"--certificate", chain+","+key, "--trust", "127.0.0.1", "--access-log", log, "--access-log-format", "json")
	start(edge)
	example := func(name string, replaced ...string) string {
		data, err := os.ReadFile(filepath.Join("..", "packaging", name))
		require.NoError(t, err)
		file := filepath.Join(p.home, filepath.Base(name))
		require.NoError(t, os.WriteFile(file, []byte(strings.NewReplacer(replaced...).Replace(string(data))), 0o600))
		return file
	}
	site := example("nginx/orilla.conf", "listen 80;", "listen "+ports[2]+";", "listen 443 ssl;", "listen "+ports[3]+" ssl;",
		"127.0.0.1:7420", "127.0.0.1:"+ports[0], "/etc/nginx/corvane.pem", chain, "/etc/nginx/corvane.key", key)
	main := filepath.Join(p.home, "nginx.conf")
	require.NoError(t, os.WriteFile(main, fmt.Appendf(nil, "daemon off; pid %[1]s/nginx.pid; error_log stderr;\nevents {}\n"+
		"http { access_log off; client_body_temp_path %[1]s/a; proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c; "+
		"uwsgi_temp_path %[1]s/d; scgi_temp_path %[1]s/e; include %[2]s; }\n", p.home, site), 0o600))
	start(exec.Command("nginx", "-c", main))
	start(exec.Command("haproxy", "-f", example("haproxy/haproxy.cfg", "maxconn 20000", "maxconn 1000", ":80\n", ":"+ports[4]+"\n", ":443\n", ":"+ports[5]+"\n",
		"192.0.2.10:7420", "127.0.0.1:"+ports[0], "server pier", "#server pier", "192.0.2.10:7443", "127.0.0.1:"+ports[1],
		"port 7420", "port "+ports[0])))

	for _, front := range []struct{ name, plain, secure string }{{"nginx", ports[2], ports[3]}, {"haproxy", ports[4], ports[5]}} {
		ask := func(port, scheme, host, path string) (*http.Response, string, error) {
			client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
				Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: roots, ServerName: host},
					DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
						return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port)
					}}}
			response, err := client.Get(scheme + "://" + host + path)
			if err != nil {
				return nil, "", err
			}
			defer response.Body.Close() //nolint:errcheck // read
			body, err := io.ReadAll(response.Body)
			return response, string(body), err
		}
		require.Eventually(t, func() bool {
			for range 10 {
				for _, from := range [][2]string{{front.plain, "http"}, {front.secure, "https"}} {
					if response, _, err := ask(from[0], from[1], "www.corvane.example", "/"); err != nil || response.StatusCode >= 400 {
						return false
					}
				}
			}
			return true
		}, patience, tick, front.name)
		response, body, err := ask(front.secure, "https", "www.corvane.example", "/")
		require.NoError(t, err, front.name)
		assert.Equal(t, "ferries", body, front.name)
		assert.Equal(t, "max-age=600", response.Header.Get("Strict-Transport-Security"), front.name)
		for _, from := range [][2]string{{front.plain, "http"}, {front.secure, "https"}} {
			response, _, err := ask(from[0], from[1], "corvane.example", "/fares?day=sat")
			require.NoError(t, err, front.name)
			assert.Equal(t, "https://www.corvane.example/fares?day=sat", response.Header.Get("Location"), "%s %s", front.name, from[1])
		}
		response, _, err = ask(front.plain, "http", "www.corvane.example", "/")
		require.NoError(t, err, front.name)
		assert.Equal(t, "https://www.corvane.example/", response.Header.Get("Location"), front.name)
	}
	// Who asks is known through both.
	require.Eventually(t, func() bool { return len(lines(t, log)) >= 8 }, patience, tick)
	for _, line := range lines(t, log) {
		assert.Equal(t, "127.0.0.0", line.Client)
	}
}

// certificateFor makes a certificate for names, in files, and who trusts it.
func certificateFor(t *testing.T, folder string, names ...string) (chain, key string, roots *x509.CertPool) {
	t.Helper()
	chain, key = filepath.Join(folder, "c.pem"), filepath.Join(folder, "c.key")
	require.NoError(t, exec.Command("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1",
		"-nodes", "-keyout", key, "-out", chain, "-days", "2", "-subj", "/CN=test", "-addext",
		"subjectAltName=DNS:"+strings.Join(names, ",DNS:")).Run())
	data, err := os.ReadFile(chain)
	require.NoError(t, err)
	roots = x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(data))
	return chain, key, roots
}
