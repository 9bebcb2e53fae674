//go:build bind

package nameservers_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/nameservers"
)

// bindZone is the zone, as the file has it.
const bindZone = `$TTL 300
@    IN SOA ns1 hostmaster 1 2 2 1209600 60
@    IN NS  ns1
@    IN NS  ns2
ns1  IN A   127.0.0.1
ns2  IN A   127.0.0.2
www  IN A   203.0.113.9
mail IN MX  10 mx
`

// bind runs BIND with a configuration, until the test ends.
func bind(t *testing.T, folder, config string, ready ...string) {
	t.Helper()
	file := filepath.Join(folder, "named.conf")
	require.NoError(t, os.WriteFile(file, []byte(config), 0o600))
	log, err := os.Create(filepath.Join(folder, "log"))
	require.NoError(t, err)
	command := exec.CommandContext(context.WithoutCancel(t.Context()), "named", "-g", "-c", file)
	command.Stdout, command.Stderr = log, log
	require.NoError(t, command.Start())
	t.Cleanup(func() {
		if data, err := os.ReadFile(log.Name()); err == nil && t.Failed() {
			t.Log(string(data))
		}
		command.Process.Signal(os.Interrupt) //nolint:errcheck // it may have ended
		command.Wait()                       //nolint:errcheck // its status says nothing
		log.Close()                          //nolint:errcheck // read
	})
	for _, name := range ready {
		require.Eventually(t, func() bool {
			answer, err := dns.Exchange(new(dns.Msg).SetQuestion(name, dns.TypeSOA), listening(config))
			return err == nil && answer.Rcode == dns.RcodeSuccess && len(answer.Answer) > 0
		}, 30*time.Second, 50*time.Millisecond, file)
	}
}

// listening is where a configuration listens.
func listening(config string) string {
	_, rest, _ := strings.Cut(config, "listen-on port ")
	var port, address string
	fmt.Sscanf(rest, "%s { %s", &port, &address) //nolint:errcheck // it is there
	return net.JoinHostPort(strings.TrimSuffix(address, ";"), port)
}

// TestWithBIND sets and removes records at a real name server, beside a secondary that
// comes later, and looks at zones that are signed well and badly.
func TestWithBIND(t *testing.T) {
	folder := t.TempDir()
	out, err := exec.CommandContext(t.Context(), "tsig-keygen", "-a", "hmac-sha512", "orilla").Output()
	require.NoError(t, err, "apt-get install bind9")
	key, err := nameservers.ParseKey(out)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(listener.Addr().String())
	require.NoError(t, listener.Close())

	// BIND listens on addresses that an interface has.
	exec.CommandContext(t.Context(), "ip", "address", "add", "127.0.0.2/32", "dev", "lo").Run() //nolint:errcheck // it may be there
	primary, secondary := filepath.Join(folder, "primary"), filepath.Join(folder, "secondary")
	for _, f := range []string{primary, secondary} {
		require.NoError(t, os.Mkdir(f, 0o755))
	}
	for _, zone := range []string{"corvane.test", "signed.test", "broken.test"} {
		require.NoError(t, os.WriteFile(filepath.Join(primary, zone), []byte(bindZone), 0o600))
	}
	parent := "$TTL 300\n@ IN SOA ns1 hostmaster 1 7200 900 1209600 60\n@ IN NS ns1\nns1 IN A 127.0.0.1\n" +
		"signed IN NS ns1.signed\nns1.signed IN A 127.0.0.1\nbroken IN NS ns1.broken\nns1.broken IN A 127.0.0.1\n" +
		"broken IN DS 4711 13 2 0000000000000000000000000000000000000000000000000000000000000000\n"
	require.NoError(t, os.WriteFile(filepath.Join(primary, "test"), []byte(parent), 0o600))
	options := func(folder, address string) string {
		return fmt.Sprintf("options { directory %q; listen-on port %s { %s; }; listen-on-v6 { none; }; recursion no; "+
			"dnssec-validation no; pid-file none; session-keyfile none; notify no; };\ncontrols { };\n", folder, port, address)
	}
	bind(t, primary, options(primary, "127.0.0.1")+string(out)+`
zone "test" { type primary; file "test"; allow-update { key orilla; }; };
zone "corvane.test" { type primary; file "corvane.test"; update-policy { grant orilla zonesub A AAAA CNAME TXT CAA; }; };
zone "signed.test" { type primary; file "signed.test"; dnssec-policy default; inline-signing yes; };
zone "broken.test" { type primary; file "broken.test"; dnssec-policy default; inline-signing yes; };
`, "test.", "corvane.test.", "signed.test.", "broken.test.")
	bind(t, secondary, options(secondary, "127.0.0.2")+fmt.Sprintf(
		"zone \"corvane.test\" { type secondary; primaries port %s { 127.0.0.1; }; min-refresh-time 4; max-refresh-time 4; };\n",
		port), "corvane.test.")

	asker := &nameservers.Asker{Resolver: "127.0.0.1:" + port, Port: port}
	zone, servers, err := asker.Zone(t.Context(), "www.corvane.test")
	require.NoError(t, err)
	assert.Equal(t, "corvane.test", zone)
	require.Len(t, servers, 2)
	at, err := asker.Primary(t.Context(), zone)
	require.NoError(t, err)

	// What is wanted, with values of every kind.
	owner := names.Owner{Site: "corvane", Store: "0123456789ab"}
	wanted := []names.Record{
		{Name: "new.corvane.test", Type: "A", TTL: 60, Value: "192.0.2.10"},
		{Name: "new.corvane.test", Type: "AAAA", TTL: 60, Value: "2001:db8::10"},
		{Name: "*.preview.corvane.test", Type: "CNAME", TTL: 60, Value: "new.corvane.test."},
		{Name: "corvane.test", Type: "CAA", TTL: 60, Value: `0 issue "ca.example; accounturi=https://ca.example/1"`},
	}
	read := func() (there []names.Record) {
		for _, name := range []string{"new.corvane.test", "*.preview.corvane.test", "corvane.test", names.MarksName(zone),
			"www.corvane.test", "mail.corvane.test"} {
			for _, kind := range []string{"A", "AAAA", "CNAME", "CAA", "MX", "TXT"} {
				found, err := asker.Records(t.Context(), at, name, kind, false)
				require.NoError(t, err)
				there = append(there, found...)
			}
		}
		return there
	}
	before := read()
	change := names.Compare(zone, owner, wanted, before, false)
	require.NoError(t, asker.Update(t.Context(), at, key, change))
	assert.True(t, names.Compare(zone, owner, wanted, read(), false).Empty(), "what BIND says is what was written")

	// The secondary has what was, and then what is.
	assert.Equal(t, names.Answers, asker.Said(t.Context(), servers[0], "new.corvane.test").Outcome)
	assert.Equal(t, names.NoName, asker.Said(t.Context(), servers[1], "new.corvane.test").Outcome)
	require.Eventually(t, func() bool {
		return asker.Said(t.Context(), servers[1], "x.preview.corvane.test").Outcome == names.Answers
	}, 30*time.Second, 100*time.Millisecond)

	// Somebody was faster; the key may not; the key is another one.
	var refusal *nameservers.Refusal
	require.ErrorAs(t, asker.Update(t.Context(), at, key, change), &refusal)
	assert.True(t, refusal.Moved(), refusal.Code)
	require.ErrorAs(t, asker.Update(t.Context(), at, key, names.Change{Zone: zone, Add: []names.Record{{Name: "x." + zone,
		Type: "MX", TTL: 60, Value: "10 mail.example."}}}), &refusal)
	assert.Equal(t, "REFUSED", refusal.Code)
	wrong := key
	wrong.Secret = "bm90IHRoZSBzZWNyZXQ="
	require.ErrorAs(t, asker.Update(t.Context(), at, wrong, change), &refusal)
	assert.Contains(t, []string{"BADSIG", "NOTAUTH"}, refusal.Code)

	require.NoError(t, asker.Update(t.Context(), at, key, names.Compare(zone, owner, nil, read(), false)))
	assert.ElementsMatch(t, before, read(), "what was there before is there again, and nothing else")

	// A zone that is signed; the zone above gets its DS, as a registry does.
	server := nameservers.Server{At: servers[0].At}
	signed := func(zone string) names.Signed {
		s, err := asker.Signed(t.Context(), zone, server, "www."+zone, time.Now())
		require.NoError(t, err)
		return s
	}
	var ds string
	require.Eventually(t, func() bool {
		answer, err := dns.Exchange(new(dns.Msg).SetQuestion("signed.test.", dns.TypeDNSKEY), asker.Resolver)
		if err != nil || len(answer.Answer) == 0 {
			return false
		}
		ds = answer.Answer[0].(*dns.DNSKEY).ToDS(dns.SHA256).String()
		return true
	}, 30*time.Second, 100*time.Millisecond)
	assert.False(t, signed("signed.test").Zone)
	value := strings.Join(strings.Fields(ds)[4:], " ")
	require.NoError(t, asker.Update(t.Context(), at, key, names.Change{Zone: "test", Add: []names.Record{{Name: "signed.test",
		Type: "DS", TTL: 60, Value: value}}}))
	assert.Equal(t, names.Signed{Zone: true}, signed("signed.test"))
	assert.Contains(t, signed("broken.test").Why, "4711")
	past, err := asker.Signed(t.Context(), "signed.test", server, "www.signed.test", time.Now().AddDate(1, 0, 0))
	require.NoError(t, err)
	assert.Contains(t, past.Why, "valid until")
}
