// Package certtest makes certificates for tests.
package certtest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/certificates"
)

// Issue writes a certificate for names, which it signs itself, and its key to files of a
// folder, and returns where they are.
func Issue(t *testing.T, folder, file string, valid time.Duration, names ...string) certificates.Source {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()),
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(valid)}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	source := certificates.Source{Chain: filepath.Join(folder, file+".pem"),
		Key: filepath.Join(folder, file+".key")}
	for path, block := range map[string]*pem.Block{source.Chain: {Type: "CERTIFICATE", Bytes: der},
		source.Key: {Type: "PRIVATE KEY", Bytes: private}} {
		require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(block), 0o600))
	}
	return source
}
