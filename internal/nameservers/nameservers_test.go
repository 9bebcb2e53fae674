package nameservers_test

import (
	"context"
	"crypto"
	"encoding/base64"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/nameservers"
	"orilla.example/orilla/internal/standin/nameserver"
)

// hostile starts a name server that answers as it is told, and returns who asks it.
func hostile(t *testing.T, answer dns.HandlerFunc) *nameservers.Asker {
	t.Helper()
	listener, packets, err := nameserver.Both(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	for _, server := range []*dns.Server{{PacketConn: packets, Handler: answer}, {Listener: listener, Handler: answer}} {
		begun := make(chan struct{})
		server.NotifyStartedFunc = func() { close(begun) }
		ended := make(chan struct{})
		go func() { defer close(ended); server.ActivateAndServe() }() //nolint:errcheck // shut down
		<-begun
		t.Cleanup(func() { server.Shutdown(); <-ended }) //nolint:errcheck // it has begun
	}
	_, port, _ := net.SplitHostPort(packets.LocalAddr().String())
	return &nameservers.Asker{Resolver: packets.LocalAddr().String(), Port: port, Timeout: 400 * time.Millisecond}
}

// reply answers with records, written as in a zone file.
func reply(code int, lines ...string) dns.HandlerFunc {
	return func(w dns.ResponseWriter, r *dns.Msg) {
		m := new(dns.Msg).SetReply(r)
		m.Rcode = code
		for _, line := range lines {
			record, err := dns.NewRR(line)
			if err == nil && (record.Header().Rrtype == r.Question[0].Qtype || record.Header().Rrtype == dns.TypeCNAME) {
				m.Answer = append(m.Answer, record)
			}
		}
		w.WriteMsg(m) //nolint:errcheck // the test sees what is missing
	}
}

func TestHostileNameServers(t *testing.T) {
	t.Parallel()
	var calls atomic.Int64
	var long []string
	for i := range 250 {
		long = append(long, fmt.Sprintf("www.corvane.example. 60 IN A 192.0.2.%d", i))
	}
	for name, c := range map[string]struct {
		answer  dns.HandlerFunc
		outcome names.Outcome
	}{
		"answers":            {reply(0, "www.corvane.example. 60 IN A 192.0.2.10", "www.corvane.example. 30 IN AAAA 2001:db8::1"), names.Answers},
		"knows no such name": {reply(dns.RcodeNameError), names.NoName},
		"has no address":     {reply(0), names.NoRecord},
		"fails":              {reply(dns.RcodeServerFailure), names.Failed},
		"refuses":            {reply(dns.RcodeRefused), names.Refused},
		"says nothing":       {func(dns.ResponseWriter, *dns.Msg) {}, names.Silent},
		"says it once the second time": {func(w dns.ResponseWriter, r *dns.Msg) {
			if calls.Add(1) > 1 {
				reply(0, "www.corvane.example. 60 IN A 192.0.2.10")(w, r)
			}
		}, names.Answers},
		"writes garbage": {func(w dns.ResponseWriter, r *dns.Msg) {
			data, _ := new(dns.Msg).SetReply(r).Pack()
			w.Write(append(data[:12], 0xff, 0xff, 0xff)) //nolint:errcheck // it is garbage
		}, names.Garbled},
		"answers another question": {func(w dns.ResponseWriter, r *dns.Msg) {
			m := new(dns.Msg).SetReply(r)
			m.Question[0].Name = "bank.example."
			w.WriteMsg(m) //nolint:errcheck // the test sees it
		}, names.Garbled},
		"tells of another name": {reply(0, "bank.example. 60 IN A 192.0.2.66"), names.NoRecord},
		"leads to itself":       {reply(0, "www.corvane.example. 60 IN CNAME www.corvane.example."), names.Looping},
		"leads round": {reply(0, "www.corvane.example. 60 IN CNAME a.example.", "a.example. 60 IN CNAME b.example.",
			"b.example. 60 IN CNAME www.corvane.example."), names.Looping},
		"leads on for ever": {func(w dns.ResponseWriter, r *dns.Msg) {
			name := r.Question[0].Name
			reply(0, name+" 60 IN CNAME x"+name)(w, r)
		}, names.Looping},
		"truncates, and has the rest over TCP": {func(w dns.ResponseWriter, r *dns.Msg) {
			if w.LocalAddr().Network() == "udp" {
				m := new(dns.Msg).SetReply(r)
				m.Truncated = true
				w.WriteMsg(m) //nolint:errcheck // the test sees it
				return
			}
			reply(0, long...)(w, r)
		}, names.Answers},
		"truncates everything": {func(w dns.ResponseWriter, r *dns.Msg) {
			m := new(dns.Msg).SetReply(r)
			m.Truncated = true
			w.WriteMsg(m) //nolint:errcheck // the test sees it
		}, names.Garbled},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			asker := hostile(t, c.answer)
			began := time.Now()
			said := asker.Resolve(t.Context(), "www.corvane.example")
			assert.Equal(t, c.outcome, said.Outcome, said.Why)
			assert.LessOrEqual(t, len(said.Addresses), 64)
			assert.Less(t, time.Since(began), 20*time.Second)
			if name == "answers" {
				assert.Equal(t, 30*time.Second, said.TTL)
				assert.Equal(t, "192.0.2.10", said.Addresses[0].String())
			}
			// Nothing that asks for more of it hangs or panics either.
			_, _, err := asker.Zone(t.Context(), "www.corvane.example")
			require.Error(t, err)
			asker.CAA(t.Context(), "www.corvane.example") //nolint:errcheck // it may fail
			asker.Primary(t.Context(), "corvane.example") //nolint:errcheck // it may fail
		})
	}
}

const zoneFile = `$ORIGIN corvane.example.
@         300 IN SOA ns1 hostmaster 1 7200 900 1209600 60
@         300 IN NS  ns1
ns1       300 IN A   127.0.0.1
www       120 IN A   192.0.2.10
old       300 IN CNAME www
out       300 IN CNAME www.elsewhere.example.
*.preview 300 IN A   192.0.2.10
taken.preview 300 IN TXT "there"
deep.er   300 IN A   192.0.2.11
@         300 IN CAA 0 issue "ca.example"
sub       300 IN CAA 0 issue "other.example"
`

var key = nameservers.Key{Name: "orilla", Algorithm: "hmac-sha256",
	Secret: base64.StdEncoding.EncodeToString([]byte("0123456789abcdef0123456789abcdef"))}

// standIn starts the stand-in with the zone, and returns who asks it.
func standIn(t *testing.T, server *nameserver.Server) *nameservers.Asker {
	t.Helper()
	zone, err := nameserver.ReadZone(zoneFile, "corvane.example", time.Now())
	require.NoError(t, err)
	server.Zones, server.Keys = []*nameserver.Zone{zone}, []nameservers.Key{key}
	at, err := server.Listen(t.Context(), "127.0.0.1:0", false)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan error)
	go func() { ended <- server.Serve(ctx) }()
	t.Cleanup(func() { stop(); assert.NoError(t, <-ended) })
	_, port, _ := net.SplitHostPort(at)
	return &nameservers.Asker{Resolver: at, Port: port}
}

func TestWhatAZoneSays(t *testing.T) {
	t.Parallel()
	asker := standIn(t, &nameserver.Server{})
	zone, servers, err := asker.Zone(t.Context(), "a.b.preview.corvane.example")
	require.NoError(t, err)
	assert.Equal(t, "corvane.example", zone)
	require.Len(t, servers, 1)
	assert.Equal(t, "ns1.corvane.example", servers[0].Name)
	_, _, err = asker.Zone(t.Context(), "corvane.nowhere")
	require.ErrorIs(t, err, nameservers.ErrNoZone)

	for name, want := range map[string]struct {
		outcome   names.Outcome
		addresses string
		via       string
	}{
		"www.corvane.example":             {names.Answers, "192.0.2.10", ""},
		"OLD.corvane.example":             {names.Answers, "192.0.2.10", "www.corvane.example"},
		"winter.preview.corvane.example":  {names.Answers, "192.0.2.10", ""},
		"taken.preview.corvane.example":   {names.NoRecord, "", ""}, // RFC 4592: a name that exists is not covered
		"x.taken.preview.corvane.example": {names.NoName, "", ""},
		"er.corvane.example":              {names.NoRecord, "", ""}, // a name between others exists
		"gone.corvane.example":            {names.NoName, "", ""},
		"out.corvane.example":             {names.NoName, "", "www.elsewhere.example"},
	} {
		for _, said := range []names.Said{asker.Said(t.Context(), servers[0], name), asker.Resolve(t.Context(), name)} {
			var texts []string
			for _, ip := range said.Addresses {
				texts = append(texts, ip.String())
			}
			assert.Equal(t, want.outcome, said.Outcome, name)
			assert.Equal(t, want.addresses, strings.Join(texts, " "), name)
			assert.Equal(t, want.via, strings.Join(said.Via, " "), name)
		}
	}

	records, at, err := asker.CAA(t.Context(), "*.preview.corvane.example")
	require.NoError(t, err)
	assert.Equal(t, "corvane.example", at)
	assert.Equal(t, `0 issue "ca.example"`, records[0].Value)
	_, at, err = asker.CAA(t.Context(), "x.sub.corvane.example")
	require.NoError(t, err)
	assert.Equal(t, "sub.corvane.example", at, "the nearest one counts")
}

// record makes an A record.
func record(name, ip string) names.Record {
	return names.Record{Name: name + ".corvane.example", Type: "A", TTL: 60, Value: ip}
}

func TestUpdatesAreSignedWholeAndConditional(t *testing.T) {
	t.Parallel()
	var told atomic.Int64
	asker := standIn(t, &nameserver.Server{Tell: func(string) { told.Add(1) }})
	at, err := asker.Primary(t.Context(), "corvane.example")
	require.NoError(t, err)
	set := names.Change{Zone: "corvane.example", Add: []names.Record{record("new", "192.0.2.20"),
		{Name: "_orilla.corvane.example", Type: "TXT", TTL: 60, Value: `"orilla1 x \"y\""`}}}
	require.NoError(t, asker.Update(t.Context(), at, key, set))
	found, err := asker.Records(t.Context(), at, "new.corvane.example", "A", false)
	require.NoError(t, err)
	assert.Equal(t, []names.Record{record("new", "192.0.2.20")}, found)
	found, err = asker.Records(t.Context(), at, "_orilla.corvane.example", "TXT", false)
	require.NoError(t, err)
	assert.Equal(t, set.Add[1:], found, "a value comes back as it was written")

	refused := func(k nameservers.Key, c names.Change) *nameservers.Refusal {
		var refusal *nameservers.Refusal
		require.ErrorAs(t, asker.Update(t.Context(), at, k, c), &refusal)
		return refusal
	}
	// It was not there when it was read; somebody was faster.
	assert.True(t, refused(key, names.Change{Zone: "corvane.example", Add: []names.Record{record("new", "192.0.2.21"),
		record("newer", "192.0.2.21")}}).Moved())
	assert.True(t, refused(key, names.Change{Zone: "corvane.example", Remove: []names.Record{record("new", "192.0.2.20")},
		Before: []names.Record{record("new", "192.0.2.99")}}).Moved())
	found, err = asker.Records(t.Context(), at, "newer.corvane.example", "A", false)
	require.NoError(t, err)
	assert.Empty(t, found, "all of it, or nothing")

	wrong := key
	wrong.Secret = base64.StdEncoding.EncodeToString([]byte("another secret, of somebody else"))
	assert.Contains(t, []string{"BADSIG", "NOTAUTH"}, refused(wrong, set).Code)
	unknown := key
	unknown.Name = "stranger"
	assert.Contains(t, []string{"BADKEY", "BADSIG", "NOTAUTH"}, refused(unknown, set).Code)
	assert.Equal(t, "NOTAUTH", refused(key, names.Change{Zone: "bank.example", Add: []names.Record{{Name: "bank.example",
		Type: "A", TTL: 60, Value: "192.0.2.1"}}}).Code)
	assert.Equal(t, "NOTZONE", refused(key, names.Change{Zone: "corvane.example", Add: []names.Record{{Name: "bank.example",
		Type: "A", TTL: 60, Value: "192.0.2.1"}}}).Code)

	unsigned := new(dns.Msg).SetUpdate("corvane.example.")
	answer, err := dns.Exchange(unsigned, at)
	require.NoError(t, err)
	assert.Equal(t, dns.RcodeRefused, answer.Rcode)

	// A CNAME takes the place of an address in one update.
	change := names.Change{Zone: "corvane.example", Before: []names.Record{record("new", "192.0.2.20")},
		Remove: []names.Record{record("new", "192.0.2.20")},
		Add:    []names.Record{{Name: "new.corvane.example", Type: "CNAME", TTL: 60, Value: "www.corvane.example."}}}
	require.NoError(t, asker.Update(t.Context(), at, key, change))
	said := asker.Said(t.Context(), nameservers.Server{At: netip.MustParseAddrPort(at)}, "new.corvane.example")
	assert.Equal(t, []string{"www.corvane.example"}, said.Via)
	assert.Positive(t, told.Load())
}

// TestAServerThatIsEndedAtOnceEnds ends a server before it has begun, many times.
func TestAServerThatIsEndedAtOnceEnds(t *testing.T) {
	t.Parallel()
	for range 200 {
		server := &nameserver.Server{}
		_, err := server.Listen(t.Context(), "127.0.0.1:0", false)
		require.NoError(t, err)
		ctx, stop := context.WithCancel(t.Context())
		stop()
		ended := make(chan error, 1)
		go func() { ended <- server.Serve(ctx) }()
		select {
		case err := <-ended:
			require.NoError(t, err)
		case <-time.After(20 * time.Second):
			require.Fail(t, "it goes on serving")
		}
	}
}

func TestASecondaryLagsAndAResolverKeeps(t *testing.T) {
	t.Parallel()
	var clock atomic.Int64
	clock.Store(time.Now().UnixNano())
	server := &nameserver.Server{Delay: time.Minute, Now: func() time.Time { return time.Unix(0, clock.Load()) }}
	asker := standIn(t, server)
	other := &nameserver.Server{Zones: server.Zones, Delay: server.Delay, Now: server.Now}
	behind, err := other.Listen(t.Context(), "127.0.0.1:0", true)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error)
	go func() { ended <- other.Serve(ctx) }()
	defer func() { stop(); assert.NoError(t, <-ended) }()

	at := asker.Resolver
	assert.Equal(t, names.NoName, asker.Resolve(t.Context(), "new.corvane.example").Outcome)
	clock.Add(int64(10 * time.Second))
	require.NoError(t, asker.Update(t.Context(), at, key, names.Change{Zone: "corvane.example",
		Add: []names.Record{record("new", "192.0.2.20")}}))
	outcome := func(where string) names.Said {
		return asker.Said(t.Context(), nameservers.Server{At: netip.MustParseAddrPort(where)}, "new.corvane.example")
	}
	assert.Equal(t, names.Answers, outcome(at).Outcome)
	assert.Equal(t, names.NoName, outcome(behind).Outcome)
	kept := asker.Resolve(t.Context(), "new.corvane.example")
	assert.Equal(t, names.NoName, kept.Outcome)
	assert.Equal(t, 50*time.Second, kept.TTL, "of the minute for which nothing may be kept")
	clock.Add(int64(51 * time.Second))
	assert.Equal(t, names.Answers, asker.Resolve(t.Context(), "new.corvane.example").Outcome)
	clock.Add(int64(10 * time.Second))
	assert.Equal(t, names.Answers, outcome(behind).Outcome)
}

// signedZone answers as a signed zone does; spoil may change an answer.
func signedZone(t *testing.T, expires time.Time, spoil func(m *dns.Msg)) *nameservers.Asker {
	t.Helper()
	public := &dns.DNSKEY{Hdr: dns.RR_Header{Name: "corvane.example.", Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET, Ttl: 300},
		Flags: 257, Protocol: 3, Algorithm: dns.ECDSAP256SHA256}
	private, err := public.Generate(256)
	require.NoError(t, err)
	www, err := dns.NewRR("www.corvane.example. 60 IN A 192.0.2.10")
	require.NoError(t, err)
	signed := func(record dns.RR) []dns.RR {
		signature := &dns.RRSIG{Algorithm: public.Algorithm, KeyTag: public.KeyTag(), SignerName: "corvane.example.",
			Inception: uint32(expires.Add(-48 * time.Hour).Unix()), Expiration: uint32(expires.Unix())}
		require.NoError(t, signature.Sign(private.(crypto.Signer), []dns.RR{record}))
		return []dns.RR{record, signature}
	}
	keys, address := signed(public), signed(www)
	return hostile(t, func(w dns.ResponseWriter, r *dns.Msg) {
		m := new(dns.Msg).SetReply(r)
		switch r.Question[0].Qtype {
		case dns.TypeDS:
			m.Answer = []dns.RR{public.ToDS(dns.SHA256)}
		case dns.TypeDNSKEY:
			m.Answer = keys
		case dns.TypeA:
			m.Answer = address
		}
		copied := m.Copy()
		spoil(copied)
		w.WriteMsg(copied) //nolint:errcheck // the test sees what is missing
	})
}

func TestSignaturesAreChecked(t *testing.T) {
	t.Parallel()
	without := func(kind uint16) func(m *dns.Msg) {
		return func(m *dns.Msg) {
			m.Answer = slices.DeleteFunc(m.Answer, func(r dns.RR) bool { return r.Header().Rrtype == kind })
		}
	}
	now := time.Now()
	for name, c := range map[string]struct {
		expires time.Time
		spoil   func(m *dns.Msg)
		zone    bool
		says    string
	}{
		"good":         {now.Add(time.Hour), func(*dns.Msg) {}, true, ""},
		"not signed":   {now.Add(time.Hour), without(dns.TypeDS), false, ""},
		"expired":      {now.Add(-time.Hour), func(*dns.Msg) {}, true, "valid until"},
		"not yet":      {now.Add(72 * time.Hour), func(*dns.Msg) {}, true, "valid until"},
		"no signature": {now.Add(time.Hour), without(dns.TypeRRSIG), true, "no signature"},
		"no key":       {now.Add(time.Hour), without(dns.TypeDNSKEY), true, "vouches for a key"},
		"another address": {now.Add(time.Hour), func(m *dns.Msg) {
			for _, r := range m.Answer {
				if a, ok := r.(*dns.A); ok {
					a.A = net.IPv4(203, 0, 113, 9)
				}
			}
		}, true, "the signature is wrong"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			asker := signedZone(t, c.expires, c.spoil)
			server := nameservers.Server{At: netip.MustParseAddrPort(asker.Resolver)}
			signed, err := asker.Signed(t.Context(), "corvane.example", server, "www.corvane.example", now)
			require.NoError(t, err)
			assert.Equal(t, c.zone, signed.Zone)
			assert.Contains(t, signed.Why, c.says)
			assert.Equal(t, c.says == "", signed.Why == "", signed.Why)
		})
	}
}

func TestKeysAreReadAsNameServersKeepThem(t *testing.T) {
	t.Parallel()
	for _, text := range []string{key.String(),
		"# made by hand\nkey \"orilla\" { algorithm hmac-sha256; secret \"" + key.Secret + "\"; };",
		"key orilla. {\n algorithm HMAC-SHA256.;\n // the secret\n secret " + key.Secret + ";\n};"} {
		got, err := nameservers.ParseKey([]byte(text))
		require.NoError(t, err, text)
		assert.Equal(t, key, got)
	}
	for text, says := range map[string]string{
		"": "begins with key", "key \"a\" { algorithm hmac-md5; secret \"YQ==\"; };": "hmac-md5",
		"key \"a\" { algorithm hmac-sha256; secret \"%\"; };": "base64", "key \"a\" {": "algorithm",
	} {
		_, err := nameservers.ParseKey([]byte(text))
		require.ErrorIs(t, err, nameservers.ErrKey)
		assert.ErrorContains(t, err, says)
	}
}

func FuzzKey(f *testing.F) {
	f.Add([]byte(key.String()))
	f.Fuzz(func(t *testing.T, data []byte) {
		k, err := nameservers.ParseKey(data)
		if err == nil {
			again, err := nameservers.ParseKey([]byte(k.String()))
			if !strings.ContainsAny(k.Name, "\"\\") && !strings.ContainsAny(k.Name, "#/") {
				require.NoError(t, err)
				assert.Equal(t, k, again)
			}
		}
	})
}

func FuzzZone(f *testing.F) {
	f.Add(zoneFile)
	f.Add("$GENERATE 1-4000000000 a$ IN A 192.0.2.1")
	f.Add("$INCLUDE /etc/passwd")
	f.Fuzz(func(_ *testing.T, text string) {
		nameserver.ReadZone(text, "fuzz", time.Time{}) //nolint:errcheck // it must not panic
	})
}
