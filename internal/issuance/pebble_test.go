//go:build pebble

package issuance_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/issuance"
	"orilla.example/orilla/internal/standin/authority"
)

// TestWithPebble orders at an authority that others have written, which refuses nonces and
// authorizations at random, as it is meant to.
func TestWithPebble(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	folder := t.TempDir()
	// Its own server needs a certificate.
	signer := &authority.Authority{}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	leaf, err := signer.Certificate(key.Public(), []string{"127.0.0.1"})
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	write := func(name string, data []byte) string {
		file := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		return file
	}
	var ports []string
	for range 2 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		ports = append(ports, l.Addr().String())
		require.NoError(t, l.Close())
	}
	config, err := json.Marshal(map[string]any{"pebble": map[string]any{"listenAddress": ports[0],
		"managementListenAddress": ports[1], "httpPort": port(w.plain), "tlsPort": port(w.secure),
		"certificate":      write("leaf.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf})),
		"privateKey":       write("key.pem", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})),
		"ocspResponderURL": "", "externalAccountBindingRequired": false}})
	require.NoError(t, err)
	command := exec.CommandContext(t.Context(), "pebble", "-config", write("config.json", config), "-dnsserver", w.asker.Resolver)
	command.Env = append(os.Environ(), "PEBBLE_VA_NOSLEEP=1", "PEBBLE_WFE_NONCEREJECT=20")
	log, err := os.Create(filepath.Join(folder, "log"))
	require.NoError(t, err)
	command.Stdout, command.Stderr = log, log
	require.NoError(t, command.Start(), "apt-get install pebble")

	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(signer.Root()))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
	var issuer []byte
	require.Eventually(t, func() bool {
		response, err := client.Get("https://" + ports[1] + "/roots/0")
		if err != nil {
			return false
		}
		defer response.Body.Close() //nolint:errcheck // read
		issuer, err = io.ReadAll(response.Body)
		return err == nil && response.StatusCode == http.StatusOK
	}, 30*time.Second, 50*time.Millisecond)

	o := w.node(func(o *issuance.Options) {
		o.Directory, o.Roots, o.Contact = "https://"+ports[0]+"/dir", roots, "operators@corvane.example"
	})
	w.answering.Store(o)
	names := []string{"www.corvane.example", "*.preview.corvane.example"}
	o.Want(names)
	trusted := x509.NewCertPool()
	require.True(t, trusted.AppendCertsFromPEM(issuer))
	for _, name := range []string{"www.corvane.example", "winter.preview.corvane.example"} {
		assert.Eventually(t, func() bool {
			conn, err := tls.Dial("tcp", w.secure.Addr().String(), &tls.Config{ServerName: name, RootCAs: trusted})
			return err == nil && conn.Close() == nil
		}, 90*time.Second, 100*time.Millisecond, name)
	}
	if t.Failed() {
		data, _ := os.ReadFile(log.Name())
		fmt.Println(string(data), o.List())
	}
}
