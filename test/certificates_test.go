package test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/nameservers"
	"orilla.example/orilla/internal/standin/authority"
)

// issuing is a site whose certificates an authority issues.
type issuing struct {
	*place

	ca       *authority.Authority
	resolver string
	issued   atomic.Int64
	mutex    sync.Mutex
	said     []string
	root     string // the file of the authority's certificate
	config   string // edge.yaml, with places for %[1]s…
}

// newIssuing makes a site at https://www.corvane.example:TLS/, where tlsPort and httpPort are
// those of the node that the authority asks.
func newIssuing(t *testing.T, httpPort, tlsPort string) *issuing {
	t.Helper()
	p := newPlace(t)
	return issuingFrom(p, filepath.Join(p.home, "store"), httpPort, tlsPort)
}

// issuingFrom makes it on a store.
func issuingFrom(at *place, store, httpPort, tlsPort string) *issuing {
	at.t.Helper()
	i, t := &issuing{place: at}, at.t
	require.NoError(t, os.MkdirAll(i.home, 0o755))
	key := filepath.Join(i.home, "orilla.key")
	// Nothing is kept for long: the tests change what they have asked for.
	zone := filepath.Join(i.home, "zone")
	require.NoError(t, os.WriteFile(zone, []byte("$ORIGIN corvane.example.\n@ 1 IN SOA ns1 hostmaster 1 2 2 60 1\n"+
		"@ 1 IN NS ns1\nns1 1 IN A 127.0.0.1\n"), 0o600))
	i.resolver = i.standIn(`name server at (\S+)`, "dns", "--listen", "127.0.0.1:0", "--key", key, zone)
	i.env = append(i.env, "ORILLA_RESOLVER="+i.resolver, "ORILLA_TSIG_KEY="+key)
	_, port, _ := net.SplitHostPort(i.resolver)
	i.ca = &authority.Authority{Asker: &nameservers.Asker{Resolver: i.resolver, Port: port}, HTTPPort: httpPort,
		TLSPort: tlsPort, Tell: func(text string) {
			i.mutex.Lock()
			defer i.mutex.Unlock()
			i.said = append(i.said, text)
			if strings.HasPrefix(text, "certificate for") {
				i.issued.Add(1)
			}
		}}
	front := httptest.NewTLSServer(i.ca)
	t.Cleanup(front.Close)
	i.ca.Base = front.URL
	trusted := filepath.Join(i.home, "front.pem")
	require.NoError(t, os.WriteFile(trusted, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: front.Certificate().Raw}), 0o600))
	i.root = filepath.Join(i.home, "root.pem")
	require.NoError(t, os.WriteFile(i.root, i.ca.Root(), 0o600))
	i.config = fmt.Sprintf(`listen: 127.0.0.1:%%[1]s
store: %s
tls:
  listen: 127.0.0.1:%%[2]s
  acme:
    directory: %s/directory
    authority: front.pem
    secret: %%[4]s
    resolver: %s
    http_port: %%[3]s
    dns: {key: orilla.key}
`, store, i.ca.Base, i.resolver)
	i.commit("First", map[string]string{"index.html": "ferries", "orilla.yaml": fmt.Sprintf(`site: corvane
store: "%[3]s"
edge_addresses: [127.0.0.1]
environments:
  production: {addresses: ["https://www.corvane.example:%[1]s/", "http://www.corvane.example:%[2]s/"]}
previews: {addresses: ["https://{preview}.preview.corvane.example:%[1]s/", "http://{preview}.preview.corvane.example:%[2]s/"]}
`, tlsPort, httpPort, store)})
	i.ok("deploy")
	i.ok("deploy", "--to", "preview/winter")
	i.ok("domains", "records", "--apply", "--yes")
	return i
}

// told is what the authority did.
func (i *issuing) told() string {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	return strings.Join(i.said, "\n")
}

// node starts a node, and returns it with what it says. leads is where it looks whether
// names lead here.
func (i *issuing) node(name, httpPort, tlsPort, leads string) (*exec.Cmd, *bytes.Buffer) {
	i.t.Helper()
	file := filepath.Join(i.home, name+".yaml")
	require.NoError(i.t, os.WriteFile(file, fmt.Appendf(nil, i.config, httpPort, tlsPort, leads, "secret"), 0o600))
	command := i.command(context.Background(), "edge", "--config", file)
	said := &bytes.Buffer{}
	command.Stdout, command.Stderr = said, said
	require.NoError(i.t, command.Start())
	i.t.Cleanup(func() {
		command.Process.Kill() //nolint:errcheck // it may have ended
		command.Wait()         //nolint:errcheck // it was killed
		assert.NotContains(i.t, said.String(), "PRIVATE KEY")
	})
	return command, said
}

// secured waits until a name is served over TLS with a certificate of the authority.
func (i *issuing) secured(tlsPort, name string) *x509.Certificate {
	i.t.Helper()
	roots := x509.NewCertPool()
	require.True(i.t, roots.AppendCertsFromPEM(i.ca.Root()))
	var leaf *x509.Certificate
	require.Eventually(i.t, func() bool {
		conn, err := tls.Dial("tcp", "127.0.0.1:"+tlsPort, &tls.Config{ServerName: name, RootCAs: roots})
		if err != nil {
			return false
		}
		leaf = conn.ConnectionState().PeerCertificates[0]
		return conn.Close() == nil
	}, 90*time.Second, 50*time.Millisecond, name)
	return leaf
}

// ports are free ones.
func ports(t *testing.T, n int) (list []string) {
	t.Helper()
	for range n {
		_, port, err := net.SplitHostPort(freeAddress(t))
		require.NoError(t, err)
		list = append(list, port)
	}
	return list
}

// TestCertificatesAreIssuedOnceForAllNodes has one node order and another one answer the
// authority, which it can only by what lies sealed in the store.
func TestCertificatesAreIssuedOnceForAllNodes(t *testing.T) {
	t.Parallel()
	p := ports(t, 4)
	i := newIssuing(t, p[0], p[1])
	// The first one is asked, and does not order: it looks at a port where nothing answers.
	_, first := i.node("first", p[0], p[1], "1")
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+p[0])
		return err == nil && conn.Close() == nil
	}, 30*time.Second, 10*time.Millisecond)
	_, second := i.node("second", p[2], p[3], p[0])
	leaf := i.secured(p[3], "www.corvane.example")
	assert.Equal(t, leaf.SerialNumber, i.secured(p[1], "www.corvane.example").SerialNumber, "%s\n%s", first, second)
	wildcard := i.secured(p[1], "winter.preview.corvane.example")
	assert.Equal(t, []string{"*.preview.corvane.example"}, wildcard.DNSNames)
	i.secured(p[3], "winter.preview.corvane.example")
	assert.Equal(t, int64(2), i.issued.Load(), i.told())

	// Nobody who reads the store reads a key.
	require.NoError(t, filepath.WalkDir(filepath.Join(i.home, "store"), func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		assert.NotContains(t, string(data), "PRIVATE KEY", path)
		return err
	}))
	if runtime.GOOS != "windows" {
		info, err := os.Stat(filepath.Join(i.home, "secret"))
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077)
	}

	// And the world sees it.
	require.Eventually(t, func() bool {
		out, _, status := i.run("domains", "--authority", i.root, "--json")
		return status == 0 && strings.Count(out, `"state": "good"`) == 2
	}, 60*time.Second, 200*time.Millisecond)
	out := i.ok("domains", "--authority", i.root)
	assert.Contains(t, out, "2 names lead to edge nodes of this store")
	status, _ := get(t, "127.0.0.1:"+p[0], "www.corvane.example", "/?day=sat")
	assert.Equal(t, 301, status)
	status, body := get(t, "127.0.0.1:"+p[0], "www.corvane.example", "/.well-known/acme-challenge/x")
	assert.Equal(t, 404, status)
	assert.Contains(t, body, "No certificate is being ordered")

	// CAA records that forbid the authority are found by what the node says of it.
	zoneOf := i.ca.Asker
	data, err := os.ReadFile(filepath.Join(i.home, "orilla.key"))
	require.NoError(t, err)
	key, err := nameservers.ParseKey(data)
	require.NoError(t, err)
	require.NoError(t, zoneOf.Update(t.Context(), i.resolver, key, names.Change{Zone: "corvane.example", Add: []names.Record{{
		Name: "www.corvane.example", Type: "CAA", TTL: 1, Value: `0 issue "other.example"`}}}))
	require.Eventually(t, func() bool {
		return strings.Contains(codes(i.domainsOf()["www.corvane.example"]), "caa")
	}, 30*time.Second, 500*time.Millisecond)

	// A secret that others can read is refused, and so is none.
	if runtime.GOOS != "windows" {
		open := filepath.Join(i.home, "open")
		require.NoError(t, os.WriteFile(open, []byte("orilla-secret-1:x"), 0o644))
		i.fails(2, "others on this machine can read the secret", "edge", "--acme", i.ca.Base+"/directory", "--secret", open,
			"--check")
	}
	i.fails(2, "takes a secret", "edge", "--acme", i.ca.Base+"/directory", "--check")
}

// TestANodeIsKilledAtEachStepOfAnOrder kills a node while the authority answers, starts it
// again, and counts certificates. One that was signed and did not reach the node is the only
// one that is lost: for it a second one is issued.
func TestANodeIsKilledAtEachStepOfAnOrder(t *testing.T) {
	t.Parallel()
	p := ports(t, 2)
	i := newIssuing(t, p[0], p[1])
	var at atomic.Value // the step at which it is killed
	var killed atomic.Bool
	var node atomic.Pointer[exec.Cmd]
	at.Store("")
	i.ca.Fail = func(step string) *authority.Problem {
		if command := node.Load(); command != nil && step == at.Load() && !killed.Swap(true) {
			command.Process.Kill() //nolint:errcheck // it is there
			return &authority.Problem{Type: "about:blank", Status: 500}
		}
		return nil
	}
	lost := int64(0)
	for _, step := range []string{"directory", "new-nonce", "new-account", "new-order", "authorization", "challenge", "finalize",
		"certificate"} {
		// A new store each time would take long: the certificates are taken away instead.
		require.NoError(t, os.RemoveAll(filepath.Join(i.home, "store", "certificates")))
		before := i.issued.Load()
		killed.Store(false)
		at.Store(step)
		command, said := i.node("node", p[0], p[1], p[0])
		node.Store(command)
		require.Eventually(t, killed.Load, 60*time.Second, 10*time.Millisecond, "%s %s", step, said)
		command.Wait() //nolint:errcheck // it was killed
		at.Store("")
		again, said := i.node("node", p[0], p[1], p[0])
		node.Store(again)
		i.secured(p[1], "www.corvane.example")
		i.secured(p[1], "winter.preview.corvane.example")
		if step == "certificate" {
			lost = 2 // both names were on their way
		}
		assert.LessOrEqual(t, i.issued.Load()-before, 2+lost, "%s: %s\n%s", step, i.told(), said)
		// The lock goes after the certificate is there, and visitors have it by then.
		assert.Eventually(t, func() bool {
			return !strings.Contains(strings.Join(i.objects()["certificates"], " "), "lock.")
		}, 30*time.Second, 20*time.Millisecond, step)
		require.NoError(t, again.Process.Kill())
		again.Wait() //nolint:errcheck // it was killed
	}
	// What challenges left in the zone is gone, or will be replaced: nothing keeps an order from succeeding.
	found, err := i.ca.Asker.Records(t.Context(), i.resolver, names.ChallengeName("preview.corvane.example"), "TXT", false)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(found), 8)
}

// TestAnAuthorityIsAwayForLong lets certificates end while it is: pages stay up without TLS,
// health says what is wrong, and who starts when it is back needs nobody's help.
func TestAnAuthorityIsAwayForLong(t *testing.T) {
	t.Parallel()
	p := ports(t, 2)
	i := newIssuing(t, p[0], p[1])
	i.ca.Lasts = 8 * time.Second
	var away atomic.Bool
	i.ca.Fail = func(string) *authority.Problem {
		if away.Load() {
			return &authority.Problem{Type: "about:blank", Status: 503, Detail: "back in a week"}
		}
		return nil
	}
	stop := func(command *exec.Cmd) {
		require.NoError(t, command.Process.Kill())
		command.Wait() //nolint:errcheck // it was killed
	}
	command, _ := i.node("node", p[0], p[1], p[0])
	leaf := i.secured(p[1], "www.corvane.example")
	away.Store(true)
	stop(command)
	time.Sleep(time.Until(leaf.NotAfter) + time.Second)

	command, said := i.node("node", p[0], p[1], p[0])
	require.Eventually(t, func() bool {
		answer, err := http.Get("http://127.0.0.1:" + p[0] + "/.orilla/health")
		if err != nil {
			return false
		}
		defer answer.Body.Close() //nolint:errcheck // read
		body, err := io.ReadAll(answer.Body)
		return err == nil && strings.Contains(string(body), "back in a week") &&
			strings.Contains(string(body), "www.corvane.example")
	}, 60*time.Second, 50*time.Millisecond, said)
	status, body := get(t, "127.0.0.1:"+p[0], "www.corvane.example", "/")
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "ferries", body)
	assert.Contains(t, i.ok("status"), "www.corvane.example")
	stop(command)

	away.Store(false)
	i.node("node", p[0], p[1], p[0])
	i.secured(p[1], "www.corvane.example")
}

// TestCertificatesInStoresElsewhere keeps them where edge nodes have their own rights only.
func TestCertificatesInStoresElsewhere(t *testing.T) {
	t.Parallel()
	onServers(t, func(t *testing.T, at *place, store elsewhere) {
		t.Helper()
		p := ports(t, 4)
		at.ok("store", "init", store.address)
		i := issuingFrom(at, store.address, p[0], p[1])
		i.node("first", p[0], p[1], p[0])
		leaf := i.secured(p[1], "www.corvane.example")
		i.node("second", p[2], p[3], p[0])
		assert.Equal(t, leaf.SerialNumber, i.secured(p[3], "www.corvane.example").SerialNumber)
		i.secured(p[3], "winter.preview.corvane.example")
		assert.Equal(t, int64(2), i.issued.Load(), i.told())
	})
}
