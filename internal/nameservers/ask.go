// Package nameservers asks name servers what they say, and tells them what to say: DNS (RFC
// 1035) as the world sees it, and dynamic updates (RFC 2136).
//
//	Asker.Zone   which zone a name is in, and which servers answer for it
//	Asker.Host   where a name leads: each of those servers, and the resolver of this machine
//	Asker.CAA    which authorities may issue a certificate for it
//	Asker.Update changes a zone, signed (TSIG, RFC 8945)
//
// A name server may lie, be slow, say nothing or lead round in circles. Each question has
// its time, each walk its length, and whatever comes back becomes one of a few outcomes.
package nameservers

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"orilla.example/orilla/internal/core/names"
)

// Asker asks name servers. It is safe for concurrent use.
type Asker struct {
	// Resolver is asked for what is not known yet: host:port.
	Resolver string
	// Port is where the servers of zones answer; "": 53.
	Port string
	// Timeout is how long one question may take, of two tries; 0: two seconds.
	Timeout time.Duration
}

// Bounds of what a name server can make us do.
const (
	mostServers = 8  // of a zone, by address
	mostChain   = 8  // CNAME records, one behind the other
	mostRecords = 64 // of one answer that leads anywhere
)

// forever is a time to live that every other one is shorter than.
const forever = time.Duration(1<<63 - 1)

// Server is a name server of a zone.
type Server struct {
	Name string
	At   netip.AddrPort
}

// errors of questions.
var (
	// ErrNoZone: no server says that it has the zone of a name.
	ErrNoZone = errors.New("no zone has this name")
	// errGarbled: what came is no answer to the question.
	errGarbled = errors.New("the answer cannot be read")
)

// timeout is how long one question may take.
func (a *Asker) timeout() time.Duration {
	if a.Timeout > 0 {
		return a.Timeout
	}
	return 2 * time.Second
}

// ask asks one server once more where nothing came, and over TCP what does not fit. The
// question may be recursive.
func (a *Asker) ask(ctx context.Context, at, name string, kind uint16, recursive, signed bool,
) (*dns.Msg, error) {
	question := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	question.RecursionDesired = recursive
	// 1,232 bytes pass every path in one piece.
	const size = 1232
	question.SetEdns0(size, signed)
	return a.exchange(ctx, at, question)
}

// exchange sends a question.
func (a *Asker) exchange(ctx context.Context, at string, question *dns.Msg) (answer *dns.Msg, err error) {
	// A packet may be lost; a second one rarely is. What cannot be read is not asked for again.
	for try := range 2 {
		if try == 1 && errors.Is(err, errGarbled) {
			break
		}
		limited, cancel := context.WithTimeout(ctx, a.timeout()/2)
		answer, _, err = (&dns.Client{Net: "udp", Timeout: a.timeout() / 2}).ExchangeContext(limited,
			question, at)
		if err == nil && answer.Truncated {
			answer, _, err = (&dns.Client{Net: "tcp", Timeout: a.timeout() / 2}).ExchangeContext(limited,
				question, at)
		}
		cancel()
		if err == nil {
			break
		}
		if _, isNet := errors.AsType[net.Error](err); !isNet && ctx.Err() == nil {
			err = fmt.Errorf("%w: %w", errGarbled, err)
		}
	}
	if err != nil {
		return nil, err
	}
	// An answer to another question is a mistake, or somebody's attempt.
	if len(answer.Question) != 1 || !strings.EqualFold(answer.Question[0].Name, question.Question[0].Name) ||
		answer.Question[0].Qtype != question.Question[0].Qtype || !answer.Response || answer.Truncated {
		return nil, errGarbled
	}
	return answer, nil
}

// Zone finds the zone of a name and the addresses of its servers, up to eight. The error is
// ErrNoZone, or what the resolver said.
func (a *Asker) Zone(ctx context.Context, name string) (zone string, servers []Server, err error) {
	// The zone's own name is that of its SOA, which comes with every answer (RFC 2308).
	for at := strings.TrimPrefix(name, "*."); at != ""; _, at, _ = strings.Cut(at, ".") {
		answer, err := a.ask(ctx, a.Resolver, at, dns.TypeSOA, true, false)
		if err != nil {
			return "", nil, fmt.Errorf("the resolver %s: %w", a.Resolver, err)
		}
		if answer.Rcode != dns.RcodeSuccess && answer.Rcode != dns.RcodeNameError {
			return "", nil, fmt.Errorf("the resolver %s: %s", a.Resolver, dns.RcodeToString[answer.Rcode])
		}
		for _, record := range slices.Concat(answer.Answer, answer.Ns) {
			if soa, ok := record.(*dns.SOA); ok && dns.IsSubDomain(soa.Hdr.Name, dns.Fqdn(at)) {
				zone = strings.ToLower(strings.TrimSuffix(soa.Hdr.Name, "."))
				// That of a whole top level is that of a name which nobody has.
				if zone == "" || !strings.Contains(zone, ".") {
					return "", nil, ErrNoZone
				}
				servers, err := a.servers(ctx, zone)
				return zone, servers, err
			}
		}
	}
	return "", nil, ErrNoZone
}

// servers returns the servers of a zone.
func (a *Asker) servers(ctx context.Context, zone string) (servers []Server, err error) {
	// The zone's own list, and not that of the zone above: where they differ, visitors get to
	// see either, and the zone's is what its owner can change.
	answer, err := a.ask(ctx, a.Resolver, zone, dns.TypeNS, true, false)
	if err != nil {
		return nil, err
	}
	port := a.Port
	if port == "" {
		port = "53"
	}
	for _, record := range answer.Answer {
		ns, ok := record.(*dns.NS)
		if !ok || len(servers) >= mostServers {
			continue
		}
		name := strings.ToLower(strings.TrimSuffix(ns.Ns, "."))
		for _, ip := range a.Resolve(ctx, name).Addresses {
			if at, err := netip.ParseAddrPort(net.JoinHostPort(ip.String(), port)); err == nil &&
				len(servers) < mostServers {
				servers = append(servers, Server{name, at})
			}
		}
	}
	// In an order that is the same each time, so that two looks can be compared.
	slices.SortFunc(servers, func(a, b Server) int {
		if order := strings.Compare(a.Name, b.Name); order != 0 {
			return order
		}
		return a.At.Compare(b.At)
	})
	return servers, nil
}

// Resolve asks the resolver where a name leads.
func (a *Asker) Resolve(ctx context.Context, name string) names.Said {
	at, _ := netip.ParseAddrPort(a.Resolver)
	return a.said(ctx, a.Resolver, names.Said{At: at}, name, true)
}

// Said asks a server of a zone where a name leads. Where it leads out of what the server
// knows, the resolver is asked on.
func (a *Asker) Said(ctx context.Context, server Server, name string) names.Said {
	return a.said(ctx, server.At.String(), names.Said{Server: server.Name, At: server.At}, name, false)
}

// said asks for both kinds of addresses. That there is none of one kind is usual; that a server
// fails for one kind makes browsers wait, and counts as failing.
func (a *Asker) said(ctx context.Context, at string, said names.Said, name string, recursive bool,
) names.Said {
	said.Outcome = names.NoRecord
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		one := a.walk(ctx, at, name, kind, recursive)
		// What is wrong with either kind is wrong with the name; else what leads anywhere
		// counts.
		bad := one.Outcome != names.Answers && one.Outcome != names.NoRecord
		if bad || said.Outcome == names.NoRecord {
			said.Outcome, said.Why, said.TTL, said.Via = one.Outcome, one.Why, one.TTL, one.Via
		}
		if one.Outcome == names.Answers && one.TTL < said.TTL {
			said.TTL = one.TTL
		}
		said.Addresses = append(said.Addresses, one.Addresses...)
		if bad {
			said.Addresses = nil
			break
		}
	}
	slices.SortFunc(said.Addresses, netip.Addr.Compare)
	said.Addresses = slices.Compact(said.Addresses)
	return said
}

// walk follows CNAME records from a name to addresses of one kind.
func (a *Asker) walk(ctx context.Context, at, name string, kind uint16, recursive bool) (said names.Said) {
	asked := strings.ToLower(dns.Fqdn(name))
	seen := []string{asked}
	said.TTL = forever
	for {
		answer, err := a.ask(ctx, at, asked, kind, recursive, false)
		if err != nil {
			return failed(err)
		}
		// One answer may hold several steps.
		name := asked
		for moved := true; moved; {
			var next string
			if said, next, moved = read(answer, said, name, kind); !moved {
				break
			}
			said.Via = append(said.Via, strings.TrimSuffix(next, "."))
			if len(seen) > mostChain || slices.Contains(seen, next) {
				return names.Said{Outcome: names.Looping, Via: said.Via}
			}
			name, seen = next, append(seen, next)
		}
		if said.Outcome == names.Answers || name == asked {
			return said
		}
		// It led on to a name that the server says nothing of: of another zone, or of one that
		// a resolver has given up on. The resolver knows, or nobody does.
		if at == a.Resolver && said.Outcome != names.NoRecord {
			return said
		}
		asked, at, recursive = name, a.Resolver, true
	}
}

// failed is the outcome of a question without an answer.
func failed(err error) names.Said {
	if errors.Is(err, errGarbled) {
		return names.Said{Outcome: names.Garbled, Why: err.Error()}
	}
	return names.Said{Outcome: names.Silent, Why: err.Error()}
}

// read reads what an answer says of a name: addresses, or a CNAME that leads to another.
func read(answer *dns.Msg, said names.Said, name string, kind uint16) (_ names.Said, next string,
	moved bool) {
	shorter := func(header *dns.RR_Header) {
		said.TTL = min(said.TTL, time.Duration(header.Ttl)*time.Second)
	}
	for _, record := range answer.Answer[:min(len(answer.Answer), mostRecords)] {
		if !strings.EqualFold(record.Header().Name, name) {
			continue
		}
		switch record := record.(type) {
		case *dns.CNAME:
			shorter(&record.Hdr)
			return said, strings.ToLower(record.Target), true
		case *dns.A:
			if ip, ok := netip.AddrFromSlice(record.A); ok && kind == dns.TypeA {
				shorter(&record.Hdr)
				said.Addresses = append(said.Addresses, ip.Unmap())
			}
		case *dns.AAAA:
			if ip, ok := netip.AddrFromSlice(record.AAAA); ok && kind == dns.TypeAAAA {
				shorter(&record.Hdr)
				said.Addresses = append(said.Addresses, ip)
			}
		}
	}
	switch {
	case answer.Rcode == dns.RcodeNameError:
		said.Outcome = names.NoName
	case answer.Rcode == dns.RcodeServerFailure:
		said.Outcome, said.Why = names.Failed, "SERVFAIL"
	case answer.Rcode != dns.RcodeSuccess:
		said.Outcome, said.Why = names.Refused, dns.RcodeToString[answer.Rcode]
	case len(said.Addresses) > 0:
		said.Outcome = names.Answers
		return said, "", false
	default:
		said.Outcome = names.NoRecord
	}
	// For how long it may be kept that there is nothing, the SOA says.
	for _, record := range answer.Ns {
		if soa, ok := record.(*dns.SOA); ok {
			said.TTL = min(said.TTL, time.Duration(min(soa.Hdr.Ttl, soa.Minttl))*time.Second)
		}
	}
	if said.TTL == forever {
		said.TTL = 0
	}
	return said, "", false
}

// Records returns the records of a name and type at a server, or at the resolver if that is
// what at names. None is no error.
func (a *Asker) Records(ctx context.Context, at, name, kind string, recursive bool,
) (records []names.Record, err error) {
	number, ok := dns.StringToType[kind]
	if !ok {
		return nil, fmt.Errorf("%s is no type of records", kind)
	}
	answer, err := a.ask(ctx, at, name, number, recursive, false)
	if err != nil {
		return nil, err
	}
	if answer.Rcode != dns.RcodeSuccess && answer.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("%s answers %s", at, dns.RcodeToString[answer.Rcode])
	}
	for _, record := range answer.Answer {
		if record.Header().Rrtype == number && strings.EqualFold(record.Header().Name, dns.Fqdn(name)) {
			records = append(records, recordOf(record))
		}
	}
	return records, nil
}

// recordOf writes a record as the core has it.
func recordOf(record dns.RR) names.Record {
	header := record.Header()
	return names.Record{Name: strings.ToLower(strings.TrimSuffix(header.Name, ".")),
		Type: dns.TypeToString[header.Rrtype], TTL: int64(header.Ttl),
		Value: strings.TrimPrefix(record.String(), header.String())}
}

// CAA returns the records that authorities go by, and the name that has them: those of the
// name, else of the nearest name above it that has any (RFC 8659, section 3).
func (a *Asker) CAA(ctx context.Context, name string) (records []names.Record, at string, err error) {
	for at = strings.TrimPrefix(name, "*."); at != ""; _, at, _ = strings.Cut(at, ".") {
		if records, err = a.Records(ctx, a.Resolver, at, "CAA", true); err != nil || len(records) > 0 {
			return records, at, err
		}
	}
	return nil, "", nil
}
