package names

import (
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Outcome is how a name server answered.
type Outcome string

// The outcomes.
const (
	Answers  Outcome = "answers"   // there are addresses
	NoName   Outcome = "no-name"   // NXDOMAIN: there is no such name
	NoRecord Outcome = "no-record" // the name is there, and has no address
	Refused  Outcome = "refused"   // REFUSED, or another code: it does not answer for the zone
	Failed   Outcome = "failed"    // SERVFAIL
	Silent   Outcome = "silent"    // nothing came in time
	Garbled  Outcome = "garbled"   // what came cannot be read, or is no answer to the question
	Looping  Outcome = "looping"   // its CNAME records lead round, or on and on
)

// What is seen of a host, and by whom: names servers first (Said), then what is at the
// addresses that they lead to (Proof), then what a browser would get (Look). Nothing here says
// whether that is good; see Judge.

// Said is what one name server says of a host.
type Said struct {
	Server  string         // its name; "" for the resolver of this machine
	At      netip.AddrPort // where it was asked
	Outcome Outcome
	// Addresses are those that it leads to, sorted, and Via the names that CNAME records
	// lead over, in order.
	Addresses []netip.Addr
	Via       []string
	// TTL is for how long the answer may still be kept: of a resolver what is left, also of
	// the answer that there is none (RFC 2308).
	TTL time.Duration
	// Why is what went wrong in the library's words, for Failed, Silent and Garbled.
	Why string
}

// sameAs reports whether two servers lead to the same place.
func (s Said) sameAs(other Said) bool {
	return s.Outcome == other.Outcome && slices.Equal(s.Addresses, other.Addresses)
}

// heard reports whether the server said anything about the name.
func (s Said) heard() bool {
	return s.Outcome == Answers || s.Outcome == NoName || s.Outcome == NoRecord
}

// Proof is what came of the challenge at an address.
type Proof struct {
	At     netip.Addr
	Proved bool // it is an edge node of the store, or passes requests on to one
	// Secure is whether the node believes that the request came over TLS. A TLS proxy that
	// it does not trust leaves it false.
	Secure bool
	Orders bool   // the node has certificates issued for the host
	Issuer string // by the authority that calls itself so in CAA records
	Why    string // why it is not proved: what answered, or what the connection said
}

// Look is what a host answers over one protocol.
type Look struct {
	Status      int          // of the answer; 0 without one
	Location    string       // where a redirect leads
	Why         string       // why there is no answer
	Certificate *Certificate // over TLS, also one that is not valid
	Strict      bool         // Strict-Transport-Security is set (RFC 6797)
}

// Certificate is what a server showed.
type Certificate struct {
	Until  time.Time
	Issuer string   // as it calls itself
	Names  []string // that it is for
	Why    string   // why a browser does not accept it; "" if it does
}

// Seen is all that was found out about a host.
type Seen struct {
	Host          Host
	Name          string // that was asked for: of a wildcard one that it covers
	Zone          string // "" if no server says that it has one
	ZoneWhy       string // why there is none
	Authoritative []Said
	Resolver      Said
	Proofs        []Proof // of all addresses that anybody leads to
	HTTP, HTTPS   *Look   // nil where nobody looked
	// CAA are the records that an authority goes by, and CAAName where they are.
	CAA     []Record
	CAAName string
	Signed  Signed
}

// Signed says whether a zone is signed (DNSSEC), and whether that holds.
type Signed struct {
	Zone bool   // the zone above says that it is
	Why  string // why resolvers that check it refuse the zone
}

// proof returns what came of the challenge at an address.
func (s Seen) proof(at netip.Addr) Proof {
	for _, p := range s.Proofs {
		if p.At == at {
			return p
		}
	}
	return Proof{At: at}
}

// leadsToEdge reports whether all addresses of an answer were proved.
func (s Seen) leadsToEdge(said Said) bool {
	return said.Outcome == Answers && !slices.ContainsFunc(said.Addresses, func(ip netip.Addr) bool {
		return !s.proof(ip).Proved
	})
}

// Place is where the host leads, in one word: what all servers that answer agree on.
func (s Seen) Place() []netip.Addr {
	var all []netip.Addr
	for _, said := range append(slices.Clone(s.Authoritative), s.Resolver) {
		for _, ip := range said.Addresses {
			if !slices.Contains(all, ip) {
				all = append(all, ip)
			}
		}
	}
	slices.SortFunc(all, netip.Addr.Compare)
	return all
}

// Forbids reports whether CAA records keep an authority from issuing a certificate for a
// host (RFC 8659, sections 4.2 and 4.3).
func Forbids(records []Record, issuer string, wildcard bool) bool {
	// Properties that are neither (iodef, and those to come) say nothing of who may issue.
	property := "issue"
	tagged := func(tag string) (values []string) {
		for _, r := range records {
			fields := strings.SplitN(r.Value, " ", 3)
			if len(fields) == 3 && strings.EqualFold(fields[1], tag) {
				domain, _, _ := strings.Cut(unquote(fields[2]), ";")
				values = append(values, strings.TrimSpace(domain))
			}
		}
		return values
	}
	// Of a wildcard, issuewild counts alone where there is any.
	if wildcard && len(tagged("issuewild")) > 0 {
		property = "issuewild"
	}
	values := tagged(property)
	return len(values) > 0 && !slices.ContainsFunc(values, func(domain string) bool {
		return strings.EqualFold(domain, issuer)
	})
}
