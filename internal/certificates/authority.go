package certificates

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
)

// Authority signs certificates for this machine's own names: localhost, names below it,
// and the loopback addresses. Whoever trusts it can open pages that need a secure context.
//
// Its certificate says that it may sign nothing else (RFC 5280, section 4.2.1.10), so a
// key that is stolen opens no other site.
type Authority struct {
	// File is its certificate in PEM, which browsers are told to trust.
	File  string
	Until time.Time // when it expires

	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	mutex       sync.Mutex
	made        map[string]*tls.Certificate // by name
}

const (
	authorityFor = 10 * 365 * 24 * time.Hour
	renewBefore  = 90 * 24 * time.Hour // of the authority's end
	leafFor      = 30 * 24 * time.Hour
	leafMost     = 64 // certificates that are kept
	// clockSkew is how far a browser's clock may be behind.
	clockSkew = time.Hour
)

// ErrForeign: a name that the authority does not sign.
var ErrForeign = errors.New("not a name of this machine")

// OpenAuthority returns the authority that is kept in a folder, and makes it the first
// time, or when it is about to expire. Several processes that come at once get the same.
func OpenAuthority(folder string) (*Authority, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(folder, "lock"))
	if err := lock.Lock(); err != nil {
		return nil, err
	}
	defer lock.Unlock() //nolint:errcheck // it ends with the process at the latest

	a, err := readAuthority(folder)
	switch {
	case err == nil && time.Until(a.Until) > renewBefore:
		return a, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		// Not made anew over what somebody may want back.
		return nil, err
	}
	if err := makeAuthority(folder); err != nil {
		return nil, err
	}
	return readAuthority(folder)
}

// The files of an authority.
const (
	authorityFile = "authority.pem"
	authorityKey  = "authority.key"
)

// readAuthority reads what is kept in a folder.
func readAuthority(folder string) (*Authority, error) {
	file, keyFile := filepath.Join(folder, authorityFile), filepath.Join(folder, authorityKey)
	pair, err := tls.LoadX509KeyPair(file, keyFile)
	if err != nil {
		return nil, err
	}
	key, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok || !pair.Leaf.IsCA {
		return nil, &FileError{file, errors.New("not an authority that Orilla made; move it away")}
	}
	return &Authority{File: file, Until: pair.Leaf.NotAfter, certificate: pair.Leaf, key: key,
		made: map[string]*tls.Certificate{}}, nil
}

// makeAuthority makes an authority. The key is written first: a certificate without its
// key would be trusted for nothing.
func makeAuthority(folder string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	host, _ := os.Hostname() // only for people who read it
	// One who looks through a browser's list of authorities must see what this is.
	who := pkix.Name{CommonName: "Orilla on " + host, Organization: []string{"Orilla local pages"}}
	template := &x509.Certificate{
		SerialNumber: serial(), Subject: who,
		NotBefore: time.Now().Add(-clockSkew), NotAfter: time.Now().Add(authorityFor),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage:                    x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		ExtKeyUsage:                 []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		PermittedDNSDomainsCritical: true,
		PermittedDNSDomains:         []string{"localhost"},
		PermittedIPRanges: []*net.IPNet{
			{IP: net.IPv4(127, 0, 0, 0).To4(), Mask: net.CIDRMask(8, 32)},
			{IP: net.IPv6loopback, Mask: net.CIDRMask(128, 128)},
		},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := replace(folder, authorityKey, "PRIVATE KEY", private); err != nil {
		return err
	}
	return replace(folder, authorityFile, "CERTIFICATE", der)
}

// replace writes a file as a whole, for its user only.
func replace(folder, name, kind string, der []byte) error {
	file, err := os.CreateTemp(folder, name)
	if err != nil {
		return err
	}
	defer os.Remove(file.Name()) //nolint:errcheck // it has another name by then
	err = errors.Join(pem.Encode(file, &pem.Block{Type: kind, Bytes: der}), file.Sync(), file.Close())
	if err != nil {
		return err
	}
	return os.Rename(file.Name(), filepath.Join(folder, name))
}

// serial returns a number for a certificate, of 127 random bits.
func serial() *big.Int {
	bytes := make([]byte, 16)
	rand.Read(bytes)
	bytes[0] &= 0x7f // a positive number of 16 bytes
	return new(big.Int).SetBytes(bytes)
}

// Config is how a server speaks TLS with certificates of this authority.
func (a *Authority) Config() *tls.Config {
	return secure(func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		c, err := a.For(wanted(hello))
		if errors.Is(err, ErrForeign) {
			return nil, nil //nolint:nilnil // crypto/tls says unrecognized_name
		}
		return c, err
	})
}

// For returns a certificate for a name of this machine. The error is ErrForeign for
// others.
func (a *Authority) For(name string) (*tls.Certificate, error) {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	ip := net.ParseIP(name)
	if name != "localhost" && !strings.HasSuffix(name, ".localhost") && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("%q: %w", name, ErrForeign)
	}
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if c := a.made[name]; c != nil && time.Until(c.Leaf.NotAfter) > leafFor/3 {
		return c, nil
	}
	// Whoever asks for one name after the other must not fill the memory.
	if len(a.made) >= leafMost {
		clear(a.made)
	}
	c, err := a.sign(name, ip)
	if err == nil {
		a.made[name] = c
	}
	return c, err
}

// sign makes a certificate.
func (a *Authority) sign(name string, ip net.IP) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	// Thirty days are enough for a process, and browsers refuse those that last for years.
	template := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{Organization: []string{"Orilla local pages"}},
		NotBefore: time.Now().Add(-clockSkew), NotAfter: time.Now().Add(leafFor),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	if ip != nil {
		template.IPAddresses = []net.IP{ip}
	} else {
		template.DNSNames = []string{name}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der, a.certificate.Raw}, PrivateKey: key, Leaf: leaf}, nil
}

// Write writes a certificate for a name of this machine, with the authority's behind it,
// and its key to files of a folder, for programs that read them.
func (a *Authority) Write(folder, name string) (chain, key string, err error) {
	c, err := a.For(name)
	if err != nil {
		return "", "", err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", "", err
	}
	private, err := x509.MarshalPKCS8PrivateKey(c.PrivateKey)
	if err != nil {
		return "", "", err
	}
	// The authority's own comes last: programs send what they read.
	var all []byte
	for _, der := range c.Certificate {
		all = append(all, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	chain, key = filepath.Join(folder, name+".pem"), filepath.Join(folder, name+".key")
	return chain, key, errors.Join(os.WriteFile(chain, all, 0o600),
		os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
}
