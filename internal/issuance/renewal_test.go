package issuance_test

import (
	"crypto/tls"
	"math/big"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/issuance"
	"orilla.example/orilla/internal/standin/authority"
)

// serial is that of the certificate with which a node answers now; nil for none that is valid.
func (w *world) serial(o *issuance.Orders, name string) *big.Int {
	found, err := o.Certificate(&tls.ClientHelloInfo{ServerName: name, SupportedProtos: []string{"h2"},
		CipherSuites: []uint16{tls.TLS_AES_128_GCM_SHA256}, SupportedVersions: []uint16{tls.VersionTLS13},
		SignatureSchemes: []tls.SignatureScheme{tls.ECDSAWithP256AndSHA256}, SupportedCurves: []tls.CurveID{tls.CurveP256}})
	if err != nil || found == nil || time.Now().After(found.Leaf.NotAfter) {
		return nil
	}
	return found.Leaf.SerialNumber
}

// TestCertificatesAreRenewed lets them last a few seconds: there always is one, and no order
// is in vain.
func TestCertificatesAreRenewed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ca.Lasts = 18 * time.Second
	o := w.node(func(*issuance.Options) {})
	w.answering.Store(o)
	o.Want([]string{"www.corvane.example"})
	w.has(o, "www.corvane.example")
	first := w.serial(o, "www.corvane.example")
	require.Eventually(t, func() bool {
		now := w.serial(o, "www.corvane.example")
		require.NotNil(t, now, "between two certificates there is none")
		return now.Cmp(first) != 0
	}, 30*time.Second, 5*time.Millisecond)
	require.NoError(t, o.List()[0].Why)
	assert.LessOrEqual(t, w.certified.Load(), int64(4))
}

// TestAnAuthorityIsAwayWhileCertificatesEnd keeps what there is in use until its end, also
// by a node that is started meanwhile. That something will go wrong is said once, and holds.
func TestAnAuthorityIsAwayWhileCertificatesEnd(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ca.Lasts = 18 * time.Second
	var mutex sync.Mutex
	var told []error
	tell := func(o *issuance.Options) {
		o.Tell = func(_ string, err error) {
			mutex.Lock()
			defer mutex.Unlock()
			told = append(told, err)
		}
	}
	var away atomic.Bool
	w.ca.Fail = func(string) *authority.Problem {
		if away.Load() {
			return &authority.Problem{Type: "about:blank", Status: 503, Detail: "back in a week"}
		}
		return nil
	}
	const name = "next.corvane.example"
	o := w.node(tell)
	w.answering.Store(o)
	o.Want([]string{name})
	w.has(o, name)
	first := w.serial(o, name)
	away.Store(true)

	alarming := func(o *issuance.Orders) bool { return o.List()[0].Alarming(time.Now()) }
	require.Eventually(t, func() bool { return alarming(o) }, 30*time.Second, 5*time.Millisecond)
	// It is looked at again and again meanwhile, and found to be there.
	again := w.node(tell)
	again.Want([]string{name})
	for until := o.List()[0].Until; time.Now().Before(until.Add(-time.Second)); time.Sleep(20 * time.Millisecond) {
		require.Equal(t, first, w.serial(o, name))
		require.True(t, alarming(o))
	}
	require.Eventually(t, func() bool { return again.List()[0].Until.Equal(o.List()[0].Until) }, 30*time.Second,
		5*time.Millisecond, "a node that is started has what the store has")
	require.Eventually(t, func() bool { return !o.Has(name, time.Now()) }, 30*time.Second, 5*time.Millisecond)
	assert.True(t, alarming(o), "what has ended is an alarm")
	mutex.Lock()
	defer mutex.Unlock()
	assert.LessOrEqual(t, len(told), 4, "told once by each node: %v", told)
}
