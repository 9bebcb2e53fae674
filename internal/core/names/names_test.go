package names_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/names"
)

func TestNamesAreAsDNSHasThem(t *testing.T) {
	t.Parallel()
	label := strings.Repeat("a", 63)
	long := strings.Repeat(label+".", 3) + strings.Repeat("b", 61)
	for name, want := range map[string]string{
		"www.corvane.example":         "www.corvane.example",
		"WWW.Corvane.Example.":        "www.corvane.example",
		"fährlinie.example":           "xn--fhrlinie-0za.example",
		"xn--fhrlinie-0za.example":    "xn--fhrlinie-0za.example",
		"*.preview.fährlinie.example": "*.preview.xn--fhrlinie-0za.example",
		"渡し船.example":                 "xn--68j637p7um.example",
		label + ".example":            label + ".example",
		"_dmarc.corvane.example":      "_dmarc.corvane.example",
		long:                          long,
	} {
		got, err := names.ASCII(name)
		require.NoError(t, err, name)
		assert.Equal(t, want, got)
	}
	for name, says := range map[string]string{
		label + "a.example":                  "has 64 characters, 63 are the most",
		long + "x":                           "253 are the most",
		"":                                   "not a name",
		"corvane..example":                   "not a name",
		strings.Repeat("ä", 60) + ".example": "not a name",
		"xn--0.example":                      "not a name",
	} {
		_, err := names.ASCII(name)
		require.ErrorIs(t, err, names.ErrName, name)
		require.ErrorContains(t, err, says)
	}
	assert.Equal(t, "fährlinie.example", names.Unicode("xn--fhrlinie-0za.example"))
	assert.Equal(t, "*.fährlinie.example", names.Unicode("*.xn--fhrlinie-0za.example"))
	assert.Equal(t, "https://xn--fhrlinie-0za.example:8443/a/", names.Address("https://fährlinie.example:8443/a/"))
	assert.Equal(t, "https://{preview}.xn--fhrlinie-0za.example/", names.Address("https://{preview}.fährlinie.example/"))
	assert.Equal(t, "http://[::1]:80/", names.Address("http://[::1]:80/"))
}

func FuzzASCII(f *testing.F) {
	for _, seed := range []string{"fährlinie.example", "*.a.example", "xn--", "\xff.example", strings.Repeat("ä.", 99)} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, name string) {
		ascii, err := names.ASCII(name)
		if err != nil {
			return
		}
		again, err := names.ASCII(ascii)
		require.NoError(t, err, "what is written once can be read: %q", ascii)
		assert.Equal(t, ascii, again)
		assert.LessOrEqual(t, len(ascii), 255)
	})
}

func TestHostsAreGrouped(t *testing.T) {
	t.Parallel()
	hosts, err := names.Group([]names.Use{
		{Environment: "production", Address: "https://www.corvane.example/"},
		{Environment: "production", Address: "https://corvane.example/", To: "https://www.corvane.example/"},
		{Environment: "staging", Address: "https://www.corvane.example/next/"},
		{Environment: "staging", Address: "http://corvane.localhost:7420/"},
		{Environment: "staging", Address: "http://192.0.2.7/"},
		{Environment: "preview/*", Address: "https://{preview}.preview.corvane.example/"},
		{Environment: "preview/*", Address: "https://pr-{preview}.corvane.example/"},
		{Environment: "preview/*", Address: "https://www.corvane.example/try/{preview}/"},
	})
	require.NoError(t, err)
	var list []string
	for _, h := range hosts {
		list = append(list, h.Name)
	}
	assert.Equal(t, []string{"corvane.example", "www.corvane.example", "*.corvane.example", "*.preview.corvane.example"},
		list, "of this machine and of addresses DNS knows nothing")
	assert.Len(t, hosts[1].Uses, 3)
	assert.Equal(t, "x.preview.corvane.example", hosts[3].Probe("x"))
}

// zoneOf is a world with one zone.
func zoneOf(name string) string {
	if strings.HasSuffix("."+name, ".corvane.example") {
		return "corvane.example"
	}
	return ""
}

func hostsOf(t *testing.T, addresses ...string) []names.Host {
	t.Helper()
	var uses []names.Use
	for _, address := range addresses {
		uses = append(uses, names.Use{Environment: "production", Address: address})
	}
	hosts, err := names.Group(uses)
	require.NoError(t, err)
	return hosts
}

func TestRecordsThatANameNeeds(t *testing.T) {
	t.Parallel()
	hosts := hostsOf(t, "https://corvane.example/", "https://www.corvane.example/", "https://{preview}.preview.corvane.example/")
	lines := func(p names.Plan) (lines []string) {
		p.Hosts, p.Zone = hosts, zoneOf
		for _, need := range p.Records() {
			lines = append(lines, need.Line())
		}
		return lines
	}
	edge, err := names.ParseEdge([]string{"192.0.2.10", "2001:db8::10"})
	require.NoError(t, err)
	assert.Equal(t, []string{
		"corvane.example. 300 IN A 192.0.2.10", "corvane.example. 300 IN AAAA 2001:db8::10",
		"www.corvane.example. 300 IN A 192.0.2.10", "www.corvane.example. 300 IN AAAA 2001:db8::10",
		"*.preview.corvane.example. 300 IN A 192.0.2.10", "*.preview.corvane.example. 300 IN AAAA 2001:db8::10",
	}, lines(names.Plan{Edge: edge}))

	named, err := names.ParseEdge([]string{"Edge.Corvane.example"})
	require.NoError(t, err)
	named.Addresses = []netip.Addr{netip.MustParseAddr("192.0.2.10")}
	p := names.Plan{Edge: named, TTL: 60, Delegate: "acme.corvane.example"}
	assert.Equal(t, []string{
		"corvane.example. 60 IN A 192.0.2.10", "www.corvane.example. 60 IN CNAME edge.corvane.example.",
		"*.preview.corvane.example. 60 IN CNAME edge.corvane.example.",
		"_acme-challenge.preview.corvane.example. 60 IN CNAME preview.corvane.example.acme.corvane.example.",
	}, lines(p), "a zone's own name has no CNAME")
	p.Hosts, p.Zone = hosts, zoneOf
	assert.Contains(t, p.Records()[0].Note, "ALIAS")

	assert.Equal(t, []string{
		"corvane.example. 300 IN A 192.0.2.10", `corvane.example. 300 IN CAA 0 issue "ca.example"`,
		"www.corvane.example. 300 IN CNAME edge.corvane.example.",
		"*.preview.corvane.example. 300 IN CNAME edge.corvane.example.",
	}, lines(names.Plan{Edge: named, Issuer: "ca.example"}), "beside a CNAME nothing else can be")
	assert.Contains(t, lines(names.Plan{Edge: edge, Issuer: "ca.example"}),
		`preview.corvane.example. 300 IN CAA 0 issuewild "ca.example"`)

	for _, bad := range [][]string{{"edge.example", "192.0.2.1"}, {"a.example", "b.example"}, {strings.Repeat("a", 64)}} {
		_, err := names.ParseEdge(bad)
		require.Error(t, err, bad)
	}
	assert.Equal(t, "@", names.Record{Name: "corvane.example"}.Relative("corvane.example"))
	assert.Equal(t, "*.preview", names.Record{Name: "*.preview.corvane.example"}.Relative("corvane.example"))
}

const zone = "corvane.example"

var owner = names.Owner{Site: "corvane", Store: "0123456789ab"}

// a makes an A record.
func a(name, ip string) names.Record { return names.Record{Name: name, Type: "A", TTL: 300, Value: ip} }

// done is a zone after a change.
func done(there []names.Record, change names.Change) (after []names.Record) {
	for _, r := range there {
		gone := false
		for _, x := range append(change.Remove, change.Add...) {
			gone = gone || x.Is(r)
		}
		if !gone {
			after = append(after, r)
		}
	}
	return append(after, change.Add...)
}

func TestOnlyWhatOrillaMadeIsTouched(t *testing.T) {
	t.Parallel()
	www, apex := a("www."+zone, "192.0.2.10"), a(zone, "192.0.2.10")
	foreign := names.Record{Name: zone, Type: "TXT", TTL: 60, Value: `"v=spf1 -all"`}

	// Somebody had set one of the two already: it stays theirs.
	change := names.Compare(zone, owner, []names.Record{www, apex}, []names.Record{apex, foreign}, false)
	assert.Equal(t, []names.Record{apex}, change.Keep)
	assert.Equal(t, []names.Record{www}, names.Visible(change.Add))
	assert.Len(t, change.Add, 2, "with its mark")
	assert.Empty(t, change.Remove)
	assert.Empty(t, change.InTheWay)
	after := done([]names.Record{apex, foreign}, change)
	assert.True(t, names.Compare(zone, owner, []names.Record{www, apex}, after, false).Empty(), "a second time nothing changes")
	assert.True(t, names.Marked(zone, owner, after, false)[0].Is(www))

	// Another site, and the same site of another store, have no hand in it.
	for _, other := range []names.Owner{{Site: "harbour", Store: owner.Store}, {Site: "corvane", Store: "fedcba987654"}} {
		assert.True(t, names.Compare(zone, other, nil, after, false).Empty(), other)
	}
	taken := names.Compare(zone, names.Owner{Site: "corvane", Store: "fedcba987654"}, []names.Record{www, apex}, after, true)
	assert.Empty(t, names.Visible(append(taken.Add, taken.Remove...)), "taking over changes marks only")
	assert.Len(t, taken.Add, 1)

	// A longer time to live, and a node that moved.
	longer := www
	longer.TTL = 3600
	change = names.Compare(zone, owner, []names.Record{longer, apex}, after, false)
	assert.Equal(t, []names.Record{longer}, change.Add)
	moved := a("www."+zone, "192.0.2.99")
	change = names.Compare(zone, owner, []names.Record{moved, apex}, after, false)
	assert.Equal(t, []names.Record{moved}, names.Visible(change.Add))
	assert.Equal(t, []names.Record{www}, names.Visible(change.Remove))
	assert.Empty(t, change.InTheWay, "our own old record is not in the way")

	// Taking back removes exactly ours, also where somebody has changed the rest by hand.
	change = names.Compare(zone, owner, nil, after, false)
	assert.Equal(t, []names.Record{www}, names.Visible(change.Remove))
	assert.ElementsMatch(t, []names.Record{apex, foreign}, done(after, change))
	byHand := done(after, names.Change{Remove: []names.Record{www}, Add: []names.Record{a("www."+zone, "203.0.113.9")}})
	change = names.Compare(zone, owner, nil, byHand, false)
	assert.Empty(t, names.Visible(change.Remove), "what somebody put in its place is theirs")
	assert.Len(t, change.Remove, 1)
}

func TestRecordsOfOthersInTheWay(t *testing.T) {
	t.Parallel()
	www := a("www."+zone, "192.0.2.10")
	cname := names.Record{Name: "www." + zone, Type: "CNAME", TTL: 300, Value: "edge.example."}
	for name, c := range map[string]struct {
		wanted, there names.Record
		way           bool
	}{
		"another address":                    {www, a("www."+zone, "203.0.113.9"), true},
		"an address of the other kind":       {www, names.Record{Name: "www." + zone, Type: "AAAA", Value: "2001:db8::1"}, true},
		"a CNAME where an address is wanted": {www, cname, true},
		"mail where a CNAME is wanted":       {cname, names.Record{Name: "www." + zone, Type: "MX", Value: "10 mail.example."}, true},
		"mail beside an address":             {www, names.Record{Name: "www." + zone, Type: "MX", Value: "10 mail.example."}, false},
		"another name":                       {www, a("mail."+zone, "203.0.113.9"), false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			change := names.Compare(zone, owner, []names.Record{c.wanted}, []names.Record{c.there}, false)
			assert.Equal(t, c.way, len(change.InTheWay) > 0)
			assert.Empty(t, change.Remove)
		})
	}
}

func TestMarksOfLongRecords(t *testing.T) {
	t.Parallel()
	long := names.Record{Name: strings.Repeat("a", 60) + "." + zone, Type: "CNAME", TTL: 300,
		Value: strings.Repeat(strings.Repeat("b", 62)+".", 4)}
	odd := names.Record{Name: zone, Type: "CAA", TTL: 300, Value: `0 issue "ca.example; x=\"y\\z\""`}
	change := names.Compare(zone, owner, []names.Record{long, odd}, nil, false)
	assert.ElementsMatch(t, []names.Record{{Name: long.Name, Type: long.Type, Value: long.Value},
		{Name: odd.Name, Type: odd.Type, Value: odd.Value}}, names.Marked(zone, owner, change.Add, false))
	// A mark that names a record of another zone is a lie.
	lie := names.Record{Name: names.MarksName(zone), Type: "TXT", Value: `"orilla1 corvane 0123456789ab A bank.example 192.0.2.1"`}
	assert.Empty(t, names.Marked(zone, owner, []names.Record{lie}, false))
}

func FuzzMarks(f *testing.F) {
	f.Add(`"orilla1 corvane 0123456789ab A www.corvane.example 192.0.2.1"`)
	f.Add(`"orilla1 corvane" " 0123456789ab A \"x" \`)
	f.Fuzz(func(_ *testing.T, value string) {
		mark := names.Record{Name: names.MarksName(zone), Type: "TXT", Value: value}
		names.Compare(zone, owner, []names.Record{a(zone, "192.0.2.1")}, []names.Record{mark}, true)
	})
}

func TestWhoMayIssue(t *testing.T) {
	t.Parallel()
	caa := func(values ...string) (records []names.Record) {
		for _, v := range values {
			records = append(records, names.Record{Name: zone, Type: "CAA", Value: v})
		}
		return records
	}
	for name, c := range map[string]struct {
		records  []names.Record
		wildcard bool
		forbids  bool
	}{
		"none":                             {nil, false, false},
		"ours":                             {caa(`0 issue "ca.example"`), false, false},
		"ours, with parameters":            {caa(`0 issue "CA.example; validationmethods=dns-01"`), false, false},
		"another":                          {caa(`0 issue "other.example"`), false, true},
		"one of two":                       {caa(`0 issue "other.example"`, `0 issue "ca.example"`), false, false},
		"nobody":                           {caa(`0 issue ";"`), false, true},
		"only reports":                     {caa(`0 iodef "mailto:a@corvane.example"`), false, false},
		"no wildcards":                     {caa(`0 issue "ca.example"`, `0 issuewild ";"`), true, true},
		"no wildcards, and none is wanted": {caa(`0 issue "ca.example"`, `0 issuewild ";"`), false, false},
		"wildcards go by issue":            {caa(`0 issue "other.example"`), true, true},
		"wildcards only":                   {caa(`0 issuewild "ca.example"`), true, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, c.forbids, names.Forbids(c.records, "ca.example", c.wildcard))
		})
	}
}

func TestAnEdgeProvesItself(t *testing.T) {
	t.Parallel()
	answer := names.ProofAnswer{Proof: names.ProofOf("id", "www.corvane.example", "0123456789abcdef")}
	assert.True(t, answer.Holds("id", "www.corvane.example", "0123456789abcdef"))
	assert.False(t, answer.Holds("other", "www.corvane.example", "0123456789abcdef"))
	assert.False(t, answer.Holds("id", "corvane.example", "0123456789abcdef"), "an answer for one name is none for another")
	assert.False(t, answer.Holds("id", "www.corvane.example", "0123456789abcdee"))
	assert.False(t, names.ProofAnswer{Proof: names.ProofOf("", "a", "0123456789abcdef")}.Holds("", "a", "0123456789abcdef"),
		"a store without an id proves nothing")
	assert.True(t, names.IsNonce("0123456789abcDEF"))
	for _, bad := range []string{"", "short", strings.Repeat("a", 65), "0123456789abcde/", "0123456789abcdeä"} {
		assert.False(t, names.IsNonce(bad), bad)
	}
}

// now is when everything is judged.
var now = time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)

func TestVerdicts(t *testing.T) {
	t.Parallel()
	edgeIP, oldIP := netip.MustParseAddr("192.0.2.10"), netip.MustParseAddr("203.0.113.9")
	says := func(server string, ips ...netip.Addr) names.Said {
		s := names.Said{Server: server, At: netip.MustParseAddrPort("192.0.2.53:53"), Outcome: names.Answers, Addresses: ips,
			TTL: 5 * time.Minute}
		if len(ips) == 0 {
			s.Outcome = names.NoName
		}
		return s
	}
	fails := func(outcome names.Outcome) names.Said {
		return names.Said{Server: "ns1." + zone, Outcome: outcome, Why: "why"}
	}
	// A host with whatever is changed of a good one.
	good := func(change func(s *names.Seen)) names.Seen {
		host := hostsOf(t, "https://www.corvane.example/")[0]
		s := names.Seen{Host: host, Name: host.Name, Zone: zone,
			Authoritative: []names.Said{says("ns1", edgeIP), says("ns2", edgeIP)}, Resolver: says("", edgeIP),
			Proofs: []names.Proof{{At: edgeIP, Proved: true, Secure: true}, {At: oldIP, Why: "something else answers there"}},
			HTTP:   &names.Look{Status: 301, Location: "https://www.corvane.example/"},
			HTTPS:  &names.Look{Status: 200, Certificate: &names.Certificate{Until: now.Add(60 * 24 * time.Hour)}}}
		change(&s)
		return s
	}
	all := func(s *names.Seen, said names.Said) { s.Authoritative, s.Resolver = []names.Said{said, said}, said }
	for name, c := range map[string]struct {
		change func(s *names.Seen)
		state  names.State
		codes  string
		says   string
	}{
		"all is well":           {func(*names.Seen) {}, names.Good, "", ""},
		"nobody has the domain": {func(s *names.Seen) { s.Zone = "" }, names.Bad, "no-zone", "register"},
		"no network":            {func(s *names.Seen) { s.Zone, s.ZoneWhy = "", "timed out" }, names.Warning, "no-resolver", "timed out"},
		"no server answers":     {func(s *names.Seen) { all(s, fails(names.Silent)) }, names.Bad, "servers-silent", "does not answer"},
		"a server fails": {func(s *names.Seen) { s.Authoritative[1] = fails(names.Failed) }, names.Warning, "server-silent",
			"fails (why)"},
		"servers without addresses": {func(s *names.Seen) { s.Authoritative = nil }, names.Bad, "servers-silent", "no address"},
		"nowhere":                   {func(s *names.Seen) { all(s, says("ns1")) }, names.Bad, "leads-nowhere", "www.corvane.example. 300 IN A 192.0.2.10"},
		"in circles": {func(s *names.Seen) {
			all(s, names.Said{Outcome: names.Looping, Via: []string{"a.example", "www.corvane.example"}})
		},
			names.Bad, "cname-loop", "www.corvane.example -> a.example -> www.corvane.example"},
		"elsewhere": {func(s *names.Seen) { all(s, says("ns1", oldIP)) }, names.Bad, "leads-elsewhere", "remove A 203.0.113.9"},
		"to nodes and elsewhere": {func(s *names.Seen) { all(s, says("ns1", edgeIP, oldIP)) }, names.Bad, "leads-elsewhere",
			"leads to 203.0.113.9"},
		"inside": {func(s *names.Seen) {
			s.Proofs = []names.Proof{{At: netip.MustParseAddr("10.0.0.5"), Why: "nothing"}}
			all(s, says("ns1", netip.MustParseAddr("10.0.0.5")))
		}, names.Bad, "leads-elsewhere", "reachable from its own network only"},
		"one server lags behind": {func(s *names.Seen) { s.Authoritative[1] = says("ns2", oldIP) }, names.Waiting, "servers-differ",
			"ns2 still answers 203.0.113.9"},
		"caches lag behind":  {func(s *names.Seen) { s.Resolver = says("", oldIP) }, names.Waiting, "cached", "answers 203.0.113.9"},
		"the resolver fails": {func(s *names.Seen) { s.Resolver = fails(names.Failed) }, names.Warning, "resolver-fails", "fails (why)"},
		"no https":           {func(s *names.Seen) { s.HTTPS = &names.Look{Why: "connection refused"} }, names.Bad, "no-https", "refused"},
		"its certificate is ordered": {func(s *names.Seen) {
			s.HTTPS, s.Proofs[0].Orders = &names.Look{Why: "no certificate"}, true
		}, names.Waiting, "certificate-ordered", "orders its certificate"},
		"a bad certificate": {func(s *names.Seen) { s.HTTPS.Certificate.Why = "for another name" }, names.Bad, "bad-certificate",
			"for another name"},
		"a certificate that ends": {func(s *names.Seen) { s.HTTPS.Certificate.Until = now.Add(13 * 24 * time.Hour) }, names.Warning,
			"certificate-ends", "2026-12-14"},
		"http serves pages": {func(s *names.Seen) { s.HTTP = &names.Look{Status: 200} }, names.Warning, "plain-http", "lead to https"},
		"both serve pages": {func(s *names.Seen) {
			s.Host.Uses[0].To = "https://corvane.example/"
			s.HTTP = &names.Look{Status: 301, Location: "https://corvane.example/"}
		}, names.Bad, "two-addresses", "https://corvane.example/"},
		"a proxy that is not trusted": {func(s *names.Seen) { s.Proofs[0].Secure = false }, names.Warning, "proxy-not-trusted", "--trust"},
		"signatures are old": {func(s *names.Seen) { s.Signed = names.Signed{Zone: true, Why: "valid until 2026-11-01"} }, names.Bad,
			"dnssec", "2026-11-01"},
		"CAA forbids": {func(s *names.Seen) {
			s.CAAName, s.CAA = zone, []names.Record{{Name: zone, Type: "CAA", Value: `0 issue "other.example"`}}
		}, names.Bad, "caa", `corvane.example. 300 IN CAA 0 issue "ca.example"`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			seen := good(c.change)
			plan := names.Plan{Hosts: []names.Host{seen.Host}, Edge: names.Edge{Addresses: []netip.Addr{edgeIP}}, Zone: zoneOf}
			v := names.Judge(names.Case{Seen: seen, Needs: plan.Records(), Issuer: "ca.example", Now: now})
			assert.Equal(t, c.state, v.State)
			var codes, text []string
			for _, f := range v.Findings {
				codes = append(codes, f.Code)
				text = append(append(append(text, f.Text), f.Detail...), f.Next)
				for _, r := range f.Records {
					text = append(text, r.Line())
				}
				for _, r := range f.Remove {
					text = append(text, "remove "+r.Type+" "+r.Value)
				}
				assert.True(t, f.Until == nil || f.Until.Equal(now.Add(5*time.Minute)))
			}
			assert.Equal(t, c.codes, strings.Join(codes, " "))
			assert.Contains(t, strings.Join(text, "\n"), c.says)
		})
	}
}
