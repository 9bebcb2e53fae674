package certificates_test

import (
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/certificates/certtest"
)

// shown returns the names of the certificate that a client gets for a name, or the
// error that it gets.
func shown(t *testing.T, config *tls.Config, name string) ([]string, error) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // a test
	go func() {
		if c, err := listener.Accept(); err == nil {
			tls.Server(c, config).Handshake() //nolint:errcheck // the client sees it
			io.Copy(io.Discard, c)            //nolint:errcheck // until the client goes
			c.Close()                         //nolint:errcheck // as above
		}
	}()
	c, err := tls.Dial("tcp", listener.Addr().String(), &tls.Config{ServerName: name, InsecureSkipVerify: true})
	if err != nil {
		return nil, err
	}
	defer c.Close() //nolint:errcheck // a test
	return c.ConnectionState().PeerCertificates[0].DNSNames, nil
}

func TestTheNameChooses(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	day := 24 * time.Hour
	set, err := certificates.Load([]certificates.Source{
		certtest.Issue(t, folder, "old", day, "www.corvane.example"),
		certtest.Issue(t, folder, "www", 30*day, "WWW.corvane.example", "corvane.example"),
		certtest.Issue(t, folder, "wild", 30*day, "*.corvane.example"),
		certtest.Issue(t, folder, "sula", 30*day, "sula.example", "127.0.0.1"),
	})
	require.NoError(t, err)
	www, wild := []string{"WWW.corvane.example", "corvane.example"}, []string{"*.corvane.example"}
	for name, want := range map[string][]string{
		"www.corvane.example": www, "WWW.CORVANE.EXAMPLE": www, "corvane.example": www,
		"a.corvane.example": wild, "sula.example": {"sula.example"},
	} {
		got, err := shown(t, set.Config(), name)
		require.NoError(t, err, name)
		assert.Equal(t, want, got, name)
	}
	for _, name := range []string{"a.b.corvane.example", "example", "other.example", "corvane.example.other.example"} {
		_, err := shown(t, set.Config(), name)
		require.ErrorContains(t, err, "unrecognized name", name)
	}
	got, err := shown(t, set.Config(), "")
	require.NoError(t, err)
	assert.Equal(t, []string{"sula.example"}, got, "by the address")

	for _, test := range []struct {
		name, host string
		want       bool
	}{
		{"www.corvane.example", "www.corvane.example", true}, {"www.corvane.example", "corvane.example", true},
		{"www.corvane.example", "a.corvane.example", false}, {"a.corvane.example", "b.corvane.example", true},
		{"sula.example", "www.corvane.example", false}, {"other.example", "www.corvane.example", false},
		{"", "sula.example", true}, {"", "other.example", false}, {"other.example", "other.example", true},
	} {
		assert.Equal(t, test.want, set.Serves(test.name, test.host), test)
	}
}

func TestOldTLSIsRefused(t *testing.T) {
	t.Parallel()
	set, err := certificates.Load([]certificates.Source{certtest.Issue(t, t.TempDir(), "a", time.Hour, "corvane.example")})
	require.NoError(t, err)
	config := set.Config()
	assert.EqualValues(t, tls.VersionTLS12, config.MinVersion)
	for _, suite := range tls.CipherSuites() {
		// Of those of TLS 1.2: a key that is made for each connection, and encryption that
		// proves itself.
		strong := strings.HasPrefix(suite.Name, "TLS_ECDHE_") && (strings.Contains(suite.Name, "_GCM_") ||
			strings.Contains(suite.Name, "_POLY1305_"))
		if suite.SupportedVersions[0] == tls.VersionTLS12 {
			assert.Equal(t, strong, slices.Contains(config.CipherSuites, suite.ID), suite.Name)
		}
	}
}

// TestRenewedCertificatesAreRead also where the files of one are half written.
func TestRenewedCertificatesAreRead(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	a, b := certtest.Issue(t, folder, "a", time.Hour, "a.example"), certtest.Issue(t, folder, "b", time.Hour, "b.example")
	set, err := certificates.Load([]certificates.Source{a, b})
	require.NoError(t, err)
	changed, err := set.Reload([]certificates.Source{a, b})
	require.NoError(t, err)
	assert.False(t, changed)

	// The chain is new and the key is not: what was there goes on; the other one is renewed.
	key, err := os.ReadFile(a.Key)
	require.NoError(t, err)
	certtest.Issue(t, folder, "a", 2*time.Hour, "a.example", "new.example")
	newKey, err := os.ReadFile(a.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(a.Key, key, 0o600))
	certtest.Issue(t, folder, "b", 2*time.Hour, "b.example", "newer.example")
	changed, err = set.Reload([]certificates.Source{a, b})
	require.ErrorIs(t, err, certificates.ErrMismatch)
	assert.True(t, changed)
	for name, want := range map[string]string{"a.example": "a.example", "newer.example": "b.example"} {
		names, err := shown(t, set.Config(), name)
		require.NoError(t, err)
		assert.Equal(t, want, names[0])
	}
	_, err = shown(t, set.Config(), "new.example")
	require.Error(t, err)

	require.NoError(t, os.WriteFile(a.Key, newKey, 0o600))
	_, err = set.Reload([]certificates.Source{a})
	require.NoError(t, err)
	_, err = shown(t, set.Config(), "new.example")
	require.NoError(t, err)
	_, err = shown(t, set.Config(), "b.example")
	require.Error(t, err, "it is configured no longer")
}

func TestBadCertificates(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	good, other := certtest.Issue(t, folder, "good", time.Hour, "a.example"), certtest.Issue(t, folder, "other", time.Hour, "b.example")
	nameless := certtest.Issue(t, folder, "nameless", time.Hour)
	for _, test := range []struct {
		source certificates.Source
		err    error
	}{
		{certificates.Source{Chain: good.Chain, Key: good.Chain}, certificates.ErrNoKey},
		{certificates.Source{Chain: good.Key, Key: good.Key}, certificates.ErrNoCertificate},
		{certificates.Source{Chain: good.Chain, Key: other.Key}, certificates.ErrMismatch},
		{certificates.Source{Chain: filepath.Join(folder, "x"), Key: good.Key}, os.ErrNotExist},
		{certificates.Source{Chain: good.Chain, Key: filepath.Join(folder, "x")}, os.ErrNotExist},
		{nameless, certificates.ErrNoNames},
	} {
		_, err := certificates.Load([]certificates.Source{test.source})
		assert.ErrorIs(t, err, test.err)
	}
}

// TestTheAuthorityIsMadeOnce by any number of processes, and signs for this machine only:
// its own certificate says so.
func TestTheAuthorityIsMadeOnce(t *testing.T) {
	t.Parallel()
	folder := filepath.Join(t.TempDir(), "authority")
	var wait sync.WaitGroup
	files := make([]string, 8)
	for i := range files {
		wait.Go(func() {
			a, err := certificates.OpenAuthority(folder)
			if assert.NoError(t, err) {
				data, _ := os.ReadFile(a.File)
				files[i] = string(data)
			}
		})
	}
	wait.Wait()
	for _, file := range files {
		assert.Equal(t, files[0], file)
	}
	info, err := os.Stat(filepath.Join(folder, "authority.key"))
	require.NoError(t, err)
	if runtime.GOOS != "windows" {
		assert.Zero(t, info.Mode().Perm()&0o077, "nobody else reads the key")
	}

	a, err := certificates.OpenAuthority(folder)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM([]byte(files[0])))
	for _, name := range []string{"localhost", "corvane.localhost", "winter.preview.corvane.localhost", "127.0.0.1", "::1"} {
		c, err := a.For(name)
		require.NoError(t, err, name)
		_, err = c.Leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: name})
		require.NoError(t, err, name)
		again, err := a.For(name)
		require.NoError(t, err)
		assert.Same(t, c, again, name)
	}
	for _, name := range []string{"corvane.example", "notlocalhost", "192.0.2.1", "", "localhost.example"} {
		_, err := a.For(name)
		require.ErrorIs(t, err, certificates.ErrForeign, name)
	}

	// Whoever steals the key cannot use it for another name.
	root, err := tls.LoadX509KeyPair(a.File, filepath.Join(folder, "authority.key"))
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		DNSNames: []string{"bank.example"}}
	der, err := x509.CreateCertificate(rand.Reader, template, root.Leaf,
		root.PrivateKey.(*ecdsa.PrivateKey).Public(), root.PrivateKey)
	require.NoError(t, err)
	forged, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	_, err = forged.Verify(x509.VerifyOptions{Roots: roots, DNSName: "bank.example"})
	assert.ErrorContains(t, err, "not permitted")
}

// TestCertificatesThatNobodyRenewedAreTold in time, and not those that are young, short or replaced.
func TestCertificatesThatNobodyRenewedAreTold(t *testing.T) {
	t.Parallel()
	const day = 24 * time.Hour
	folder := t.TempDir()
	var sources []certificates.Source
	for name, valid := range map[string]time.Duration{"months": 90 * day, "week": 6 * day, "day": 30 * time.Hour} {
		sources = append(sources, certtest.Issue(t, folder, name, valid, name+".example"))
	}
	set, err := certificates.Load(sources)
	require.NoError(t, err)
	ending := func(in time.Duration) (list []string) {
		for _, c := range set.Ending(time.Now().Add(in)) {
			list = append(list, c.Names[0])
		}
		slices.Sort(list)
		return list
	}
	assert.Empty(t, ending(20*time.Hour))
	assert.Equal(t, []string{"day.example"}, ending(27*time.Hour))
	assert.Equal(t, []string{"day.example", "week.example"}, ending(6*day-time.Hour))
	assert.Equal(t, []string{"day.example", "week.example"}, ending(75*day))
	assert.Equal(t, []string{"day.example", "months.example", "week.example"}, ending(77*day))

	// One that another certificate stands in for needs nobody: for each of its names.
	sources = append(sources, certtest.Issue(t, folder, "both", 200*day, "day.example", "*.week.example"),
		certtest.Issue(t, folder, "wild", 2*day, "*.week.example", "also.example"))
	set, err = certificates.Load(sources)
	require.NoError(t, err)
	assert.Equal(t, []string{"*.week.example", "months.example", "week.example"}, ending(77*day))
}
