package issuance_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/issuance"
	"orilla.example/orilla/internal/nameservers"
	"orilla.example/orilla/internal/standin/authority"
	"orilla.example/orilla/internal/standin/nameserver"
	"orilla.example/orilla/internal/store/memory"
)

func TestMain(m *testing.M) {
	issuance.Hurry(2*time.Second, 100*time.Millisecond)
	os.Exit(m.Run())
}

const zone = `$ORIGIN corvane.example.
@ 60 IN SOA ns1 hostmaster 1 7200 900 1209600 0
@ 60 IN NS ns1
ns1 60 IN A 127.0.0.1
www 60 IN A 127.0.0.1
next 60 IN A 127.0.0.1
*.preview 60 IN A 127.0.0.1
_acme-challenge.preview 60 IN CNAME preview.keys
forbidden 60 IN A 127.0.0.1
forbidden 60 IN CAA 0 issue "other.example"
`

// world is an authority, a name server, and a store, and where challenges go.
type world struct {
	t     *testing.T
	store *counting
	asker *nameservers.Asker
	ca    *authority.Authority
	roots *x509.CertPool // of the authority's own server
	key   nameservers.Key

	mutex     sync.Mutex
	said      []string
	plain     net.Listener
	secure    net.Listener
	answering atomic.Pointer[issuance.Orders] // the node that challenges come to
	certified atomic.Int64
	secret    *sealed.Secret
}

// counting counts what is read of a store.
type counting struct {
	*memory.Store

	reads, lists atomic.Int64
	dead         atomic.Bool // who writes "dead" is not heard any more
}

// stopRenewing takes away the renewals of the node that is called dead.
func (c *counting) stopRenewing() { c.dead.Store(true) }

// Replace implements storage.Store.
func (c *counting) Replace(ctx context.Context, key string, data []byte) error {
	if c.dead.Load() && strings.HasPrefix(string(data), "dead ") {
		return storage.ErrUnreachable
	}
	return c.Store.Replace(ctx, key, data)
}

// List implements storage.Store.
func (c *counting) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	c.lists.Add(1)
	return c.Store.List(ctx, folder)
}

// Get implements storage.Store.
func (c *counting) Get(ctx context.Context, key string) ([]byte, error) {
	c.reads.Add(1)
	return c.Store.Get(ctx, key)
}

func newWorld(t *testing.T) *world {
	t.Helper()
	w := &world{t: t, store: &counting{Store: &memory.Store{}}, key: nameservers.Key{Name: "orilla", Algorithm: "hmac-sha256",
		Secret: base64.StdEncoding.EncodeToString([]byte("0123456789abcdef0123456789abcdef"))}}
	secret, err := sealed.Parse([]byte(sealed.New()))
	require.NoError(t, err)
	w.secret = secret
	read, err := nameserver.ReadZone(zone, "corvane.example", time.Now())
	require.NoError(t, err)
	server := &nameserver.Server{Zones: []*nameserver.Zone{read}, Keys: []nameservers.Key{w.key}}
	at, err := server.Listen(t.Context(), "127.0.0.1:0", false)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan error)
	go func() { ended <- server.Serve(ctx) }()
	t.Cleanup(func() { stop(); assert.NoError(t, <-ended) })
	_, port, _ := net.SplitHostPort(at)
	w.asker = &nameservers.Asker{Resolver: at, Port: port}

	w.plain, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w.secure, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, httpPort, _ := net.SplitHostPort(w.plain.Addr().String())
	_, tlsPort, _ := net.SplitHostPort(w.secure.Addr().String())
	w.ca = &authority.Authority{Asker: w.asker, HTTPPort: httpPort, TLSPort: tlsPort, Tell: func(text string) {
		w.mutex.Lock()
		defer w.mutex.Unlock()
		w.said = append(w.said, text)
		if strings.HasPrefix(text, "certificate for") {
			w.certified.Add(1)
		}
	}}
	front := httptest.NewTLSServer(w.ca)
	t.Cleanup(front.Close)
	w.ca.Base = front.URL
	w.roots = x509.NewCertPool()
	w.roots.AddCert(front.Certificate())

	// What visitors and authorities reach.
	plain := &http.Server{Handler: http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		host, _, _ := strings.Cut(r.Host, ":")
		if o := w.answering.Load(); o == nil || !o.Challenge(rw, r, host) {
			http.NotFound(rw, r)
		}
	})}
	secure := &http.Server{Handler: plain.Handler, TLSConfig: &tls.Config{NextProtos: []string{"http/1.1", "acme-tls/1"},
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			if o := w.answering.Load(); o != nil {
				return o.Certificate(hello)
			}
			return nil, errors.New("no node")
		}}, ErrorLog: nil}
	go plain.Serve(w.plain)                             //nolint:errcheck // closed
	go secure.ServeTLS(w.secure, "", "")                //nolint:errcheck // closed
	t.Cleanup(func() { plain.Close(); secure.Close() }) //nolint:errcheck // nothing is left
	return w
}

// told is what the authority did.
func (w *world) told() string {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return strings.Join(w.said, "\n")
}

// port is that of a listener.
func port(listener net.Listener) int { return listener.Addr().(*net.TCPAddr).Port }

// node starts a node; change may change what it is told to do.
func (w *world) node(change func(o *issuance.Options)) *issuance.Orders {
	w.t.Helper()
	options := issuance.Options{Directory: w.ca.Base + "/directory", Roots: w.roots, Store: w.store, StoreID: "k3v9tq2w",
		Secret: w.secret, Node: "node", HTTPPort: port(w.plain), TLSPort: port(w.secure),
		DNS: &issuance.DNS{Asker: w.asker, Key: w.key}, Tell: func(string, error) {}}
	change(&options)
	o := issuance.New(options)
	ctx, stop := context.WithCancel(context.WithoutCancel(w.t.Context()))
	var running sync.WaitGroup
	running.Go(func() { o.Run(ctx) })
	w.t.Cleanup(func() { stop(); running.Wait() })
	return o
}

// has waits until a node has a certificate for a name, and makes a handshake with it.
func (w *world) has(o *issuance.Orders, name string) *x509.Certificate {
	w.t.Helper()
	require.Eventually(w.t, func() bool { return o.Has(name, time.Now()) }, 60*time.Second, 20*time.Millisecond,
		"%s\n%v", name, o.List())
	w.answering.Store(o)
	roots := x509.NewCertPool()
	require.True(w.t, roots.AppendCertsFromPEM(w.ca.Root()))
	conn, err := tls.Dial("tcp", w.secure.Addr().String(), &tls.Config{ServerName: name, RootCAs: roots})
	require.NoError(w.t, err, w.told())
	defer conn.Close() //nolint:errcheck // nothing was sent
	return conn.ConnectionState().PeerCertificates[0]
}

// The library remembers challenges for the whole process, by name: tests that have
// certificates issued are not parallel.

// TestOneNodeOrdersAndAllUse starts ten nodes at once.
func TestOneNodeOrdersAndAllUse(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var nodes []*issuance.Orders
	for i := range 10 {
		o := w.node(func(o *issuance.Options) { o.Node = fmt.Sprint("node-", i) })
		nodes = append(nodes, o)
	}
	w.answering.Store(nodes[9]) // any node answers challenges, whoever ordered
	for _, o := range nodes {
		o.Want([]string{"www.corvane.example"})
	}
	first := w.has(nodes[0], "www.corvane.example")
	for _, o := range nodes {
		assert.Equal(t, first.SerialNumber, w.has(o, "www.corvane.example").SerialNumber)
	}
	assert.Equal(t, int64(1), w.certified.Load(), w.told())

	// Nothing of it can be read by who has the store, and no lock stays.
	for item, err := range w.store.List(t.Context(), storage.CertificatesKey) {
		require.NoError(t, err)
		for item, err := range w.store.List(t.Context(), item.Key) {
			require.NoError(t, err)
			assert.NotContains(t, item.Key, "lock.")
			data, err := w.store.Get(t.Context(), item.Key)
			require.NoError(t, err)
			for _, plain := range []string{"PRIVATE", "CERTIFICATE", "corvane"} {
				assert.NotContains(t, string(data), plain)
			}
			_, known := storage.KindOf(item.Key)
			assert.True(t, known, item.Key)
		}
	}
	// A node with another secret cannot use it, says so, and orders nothing in its place.
	other, err := sealed.Parse([]byte(sealed.New()))
	require.NoError(t, err)
	stranger := w.node(func(o *issuance.Options) { o.Secret = other })
	stranger.Want([]string{"www.corvane.example"})
	require.Eventually(t, func() bool { return stranger.List()[0].Why != nil }, 30*time.Second, 10*time.Millisecond)
	require.ErrorContains(t, stranger.List()[0].Why, "another secret")
	assert.Equal(t, int64(1), w.certified.Load())
}

// TestWildcardsByDNS has a validation record written where a CNAME delegates it.
func TestWildcardsByDNS(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	o := w.node(func(*issuance.Options) {})
	w.answering.Store(o)
	o.Want([]string{"*.preview.corvane.example"})
	leaf := w.has(o, "winter.preview.corvane.example")
	assert.Equal(t, []string{"*.preview.corvane.example"}, leaf.DNSNames)
	assert.True(t, o.Serves("winter.preview.corvane.example", "summer.preview.corvane.example"))
	assert.False(t, o.Serves("winter.preview.corvane.example", "www.corvane.example"))
	require.Eventually(t, func() bool {
		found, err := w.asker.Records(t.Context(), w.asker.Resolver, "preview.keys.corvane.example", "TXT", false)
		return err == nil && len(found) == 0
	}, 30*time.Second, 20*time.Millisecond, "the record is taken away")

	without := w.node(func(o *issuance.Options) { o.DNS = nil })
	without.Want([]string{"*.preview.corvane.example"})
	assert.Empty(t, without.List(), "without DNS none is ordered")
}

// TestNothingIsOrderedTooEarlyOrForStrangers counts orders of names that do not lead here
// yet, and of names that nobody configured.
func TestNothingIsOrderedTooEarlyOrForStrangers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var leads atomic.Bool
	o := w.node(func(o *issuance.Options) {
		o.Leads = func(context.Context, string) error {
			if !leads.Load() {
				return errors.New("it leads to 203.0.113.9")
			}
			return nil
		}
	})
	w.answering.Store(o)
	o.Want([]string{"www.corvane.example"})
	require.Eventually(t, func() bool { return o.List()[0].Why != nil }, 30*time.Second, 10*time.Millisecond)
	require.ErrorContains(t, o.List()[0].Why, "203.0.113.9")
	assert.Empty(t, w.told())

	// Strangers ask for names, and for challenges: nothing is read, nothing is ordered.
	before := w.store.reads.Load()
	for i := range 50 {
		name := fmt.Sprintf("x%d.corvane.example", i)
		_, err := tls.Dial("tcp", w.secure.Addr().String(), &tls.Config{ServerName: name, InsecureSkipVerify: true})
		require.Error(t, err)
		_, err = tls.Dial("tcp", w.secure.Addr().String(), &tls.Config{ServerName: name, InsecureSkipVerify: true,
			NextProtos: []string{"acme-tls/1"}})
		require.Error(t, err)
		request := httptest.NewRequest(http.MethodGet, "/.well-known/acme-challenge/abc", nil)
		assert.False(t, o.Challenge(httptest.NewRecorder(), request, name))
	}
	assert.Empty(t, w.told())
	assert.LessOrEqual(t, w.store.reads.Load()-before, int64(10))

	// Of a name that is configured there may be an order by another node: that is looked for,
	// and not for each who asks.
	listed := w.store.lists.Load()
	began := time.Now()
	for range 2000 {
		request := httptest.NewRequest(http.MethodGet, "http://www.corvane.example/.well-known/acme-challenge/abc", nil)
		assert.False(t, o.Challenge(httptest.NewRecorder(), request, "www.corvane.example"))
	}
	// A look lists once or twice; those of the orders themselves go on beside it.
	assert.LessOrEqual(t, w.store.lists.Load()-listed, 60+60*int64(time.Since(began).Seconds()+1))

	leads.Store(true)
	w.has(o, "www.corvane.example")
	o.Want(nil)
	assert.False(t, o.Has("www.corvane.example", time.Now()), "a name that is not configured any more is not served")
}

// TestOneSiteDoesNotUseUpTheOthersOrders gives a node more names than an hour is good for.
func TestOneSiteDoesNotUseUpTheOthersOrders(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	o := w.node(func(o *issuance.Options) { o.Most = 5 })
	w.answering.Store(o)
	var list []string
	for i := range 8 {
		list = append(list, fmt.Sprintf("n%d.preview.corvane.example", i))
	}
	o.Want(list)
	require.Eventually(t, func() bool { return w.certified.Load() == 5 }, 60*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		later := 0
		for _, s := range o.List() {
			if s.Until.IsZero() && s.Why != nil {
				assert.ErrorContains(t, s.Why, "comes later")
				later++
			}
		}
		return later == 3
	}, 30*time.Second, 20*time.Millisecond)
	assert.Equal(t, int64(5), w.certified.Load())
}

// TestBadDaysOfAnAuthority has it refuse, hurry, and fail for a while.
func TestBadDaysOfAnAuthority(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		host    string
		fail    func(calls int64, step string) *authority.Problem
		says    string
		recover bool
	}{
		"a nonce is refused": {"www.corvane.example", func(calls int64, step string) *authority.Problem {
			if step == "new-order" && calls < 3 {
				return &authority.Problem{Type: "urn:ietf:params:acme:error:badNonce", Status: 400}
			}
			return nil
		}, "", true},
		"it is down for a while": {"www.corvane.example", func(calls int64, _ string) *authority.Problem {
			if calls < 8 {
				return &authority.Problem{Type: "about:blank", Status: 503, Detail: "back soon"}
			}
			return nil
		}, "", true},
		"too many orders": {"www.corvane.example", func(_ int64, step string) *authority.Problem {
			if step == "new-order" {
				return &authority.Problem{Type: "urn:ietf:params:acme:error:rateLimited", Status: 429, Detail: "too many",
					RetryAfter: time.Hour}
			}
			return nil
		}, "the authority refuses (rateLimited): too many", false},
		"CAA forbids it": {"forbidden.corvane.example", func(int64, string) *authority.Problem { return nil },
			"CAA records at forbidden.corvane.example forbid it", false},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			var calls atomic.Int64
			w.ca.Fail = func(step string) *authority.Problem { return c.fail(calls.Add(1), step) }
			o := w.node(func(*issuance.Options) {})
			w.answering.Store(o)
			o.Want([]string{c.host})
			if c.recover {
				w.has(o, c.host)
				assert.Equal(t, int64(1), w.certified.Load())
				return
			}
			require.Eventually(t, func() bool { return o.List()[0].Why != nil }, 60*time.Second, 20*time.Millisecond)
			require.ErrorContains(t, o.List()[0].Why, c.says)
			assert.Zero(t, w.certified.Load())
		})
	}
}

// TestAKilledNodeLeavesNoLock finds the lock of a node that is not there any more.
func TestAKilledNodeLeavesNoLock(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	dead := issuance.NewVault(w.store, "k3v9tq2w", w.secret, "dead")
	ctx, kill := context.WithCancel(t.Context())
	require.NoError(t, dead.Lock(ctx, "issue_cert_www.corvane.example"))
	w.store.stopRenewing()
	kill()
	o := w.node(func(*issuance.Options) {})
	w.answering.Store(o)
	o.Want([]string{"www.corvane.example"})
	w.has(o, "www.corvane.example")
	assert.Equal(t, int64(1), w.certified.Load())
}

// TestLocks lets many want one lock, and counts who has it.
func TestLocks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var inside, most, done atomic.Int64
	var group sync.WaitGroup
	for i := range 8 {
		group.Go(func() {
			v := issuance.NewVault(w.store, "k3v9tq2w", w.secret, fmt.Sprint(i))
			if err := v.Lock(t.Context(), "name"); err != nil {
				return // done tells
			}
			most.Store(max(most.Load(), inside.Add(1)))
			time.Sleep(20 * time.Millisecond)
			inside.Add(-1)
			done.Add(1)
			assert.NoError(t, v.Unlock(t.Context(), "name"))
		})
	}
	group.Wait()
	assert.Equal(t, int64(8), done.Load())
	assert.Equal(t, int64(1), most.Load())

	// Who waits no longer gets out.
	v := issuance.NewVault(w.store, "k3v9tq2w", w.secret, "a")
	require.NoError(t, v.Lock(t.Context(), "name"))
	limited, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, issuance.NewVault(w.store, "k3v9tq2w", w.secret, "b").Lock(limited, "name"), context.DeadlineExceeded)
	require.NoError(t, v.Unlock(t.Context(), "name"))
}

// TestAVaultKeepsWhatItIsGiven holds the promises of the interface, and those of sealing.
func TestAVaultKeepsWhatItIsGiven(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := issuance.NewVault(w.store, "k3v9tq2w", w.secret, "a")
	ctx := t.Context()
	_, err := v.Load(ctx, "a/b/c.key")
	require.ErrorIs(t, err, fs.ErrNotExist)
	for _, name := range []string{"a/b/c.key", "a/b/c.crt", "a/d", "ab"} {
		require.NoError(t, v.Store(ctx, name, []byte("1 "+name)))
		require.NoError(t, v.Store(ctx, name, []byte("2 "+name)))
	}
	value, err := v.Load(ctx, "a/b/c.key")
	require.NoError(t, err)
	assert.Equal(t, "2 a/b/c.key", string(value))
	list, err := v.List(ctx, "a", true)
	require.NoError(t, err)
	assert.Equal(t, []string{"a/b/c.crt", "a/b/c.key", "a/d"}, list)
	list, err = v.List(ctx, "a", false)
	require.NoError(t, err)
	assert.Equal(t, []string{"a/b", "a/d"}, list)
	assert.True(t, v.Exists(ctx, "a/b"))
	assert.False(t, v.Exists(ctx, "a/bc"))
	info, err := v.Stat(ctx, "a/d")
	require.NoError(t, err)
	assert.True(t, info.IsTerminal)
	assert.WithinDuration(t, time.Now(), info.Modified, time.Minute)

	// The versions of a/d, by number.
	versions := func() (keys []string) {
		for folder, err := range w.store.List(ctx, storage.CertificatesKey) {
			require.NoError(t, err)
			for item, err := range w.store.List(ctx, folder.Key) {
				require.NoError(t, err)
				keys = append(keys, item.Key)
			}
		}
		return keys
	}
	kept := versions()
	require.Len(t, kept, 4, "what was replaced is gone")
	old := map[string][]byte{}
	for _, key := range kept {
		old[key], err = w.store.Get(ctx, key)
		require.NoError(t, err)
	}
	// Somebody with the store's credentials puts the version before back, in place of the newest.
	require.NoError(t, v.Store(ctx, "a/d", []byte("3")))
	for _, key := range versions() {
		if old[key] == nil {
			require.NoError(t, w.store.Delete(ctx, key))
		}
	}
	for key, data := range old {
		require.NoError(t, w.store.Replace(ctx, key, data))
	}
	_, err = v.Load(ctx, "a/d")
	require.ErrorContains(t, err, "older version")
	// Or swaps two names.
	require.NoError(t, w.store.Replace(ctx, kept[0], old[kept[1]]))
	failures := 0
	for _, name := range []string{"a/b/c.key", "a/b/c.crt", "ab"} {
		if _, err := issuance.NewVault(w.store, "k3v9tq2w", w.secret, "b").Load(ctx, name); err != nil {
			failures++
			require.ErrorIs(t, err, sealed.ErrClosed)
		}
	}
	assert.LessOrEqual(t, failures, 1)

	require.NoError(t, v.Delete(ctx, "a"))
	assert.False(t, v.Exists(ctx, "a"))
	require.NoError(t, v.Delete(ctx, "a"))
	value, err = v.Load(ctx, "ab")
	if err == nil {
		assert.Equal(t, "2 ab", string(value))
	}
	require.NoError(t, v.Store(ctx, "a/d", []byte("4")))
	value, err = v.Load(ctx, "a/d")
	require.NoError(t, err, "a generation after a removal is a later one")
	assert.Equal(t, "4", string(value))
}
