package names

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Record is a resource record (RFC 1035).
type Record struct {
	Name  string `json:"name"`          // in ASCII, without a final dot
	Type  string `json:"type"`          // A, AAAA, CNAME, CAA, TXT
	TTL   int64  `json:"ttl,omitempty"` // seconds for which caches may keep it
	Value string `json:"value"`         // in presentation format (RFC 1035, section 5.1); names end in a dot
}

// Line is the record as a line of a zone file.
func (r Record) Line() string {
	return fmt.Sprintf("%s. %d IN %s %s", r.Name, r.TTL, r.Type, r.Value)
}

// Is reports whether two records say the same, for however long.
func (r Record) Is(other Record) bool {
	return r.Name == other.Name && r.Type == other.Type && r.Value == other.Value
}

// Relative is the record's name as forms of providers want it: without the zone's, "@" for
// the zone itself.
func (r Record) Relative(zone string) string {
	if r.Name == zone {
		return "@"
	}
	return strings.TrimSuffix(r.Name, "."+zone)
}

// Edge is where the edge nodes are: addresses, or a name that leads to them.
type Edge struct {
	Name      string       // in ASCII; "" if there are addresses
	Addresses []netip.Addr // of Name, as it was found, if there is one
}

// ParseEdge reads what orilla.yaml says of it: addresses, or one name. The addresses that
// a name has are not looked up.
func ParseEdge(texts []string) (Edge, error) {
	var e Edge
	for _, text := range texts {
		if ip, err := netip.ParseAddr(text); err == nil {
			e.Addresses = append(e.Addresses, ip.Unmap().WithZone(""))
			continue
		}
		name, err := ASCII(text)
		if err != nil {
			return Edge{}, fmt.Errorf("%s: %w", text, err)
		}
		if e.Name != "" || len(texts) > 1 {
			return Edge{}, fmt.Errorf("%s: one name, or addresses", text)
		}
		e.Name = name
	}
	return e, nil
}

// DefaultTTL is how long caches may keep a record, in seconds: short, since whoever waits
// for a change waits for that long.
const DefaultTTL = 300

// Plan is what decides which records a site needs.
type Plan struct {
	Hosts []Host
	Edge  Edge
	TTL   int64 // seconds
	// Zone returns the zone that a name belongs to, "" if that is not known.
	Zone func(name string) string
	// Issuer is how the authority that certificates are ordered from calls itself in CAA
	// records (RFC 8659), "" if none is ordered.
	Issuer string
	// Delegate is the zone in which validation records are written for wildcards, "" for
	// that of the name itself.
	Delegate string
}

// Need is a record that is needed, and why it is not another one, where people wonder.
type Need struct {
	Record

	Zone string `json:"zone,omitempty"` // that it belongs into
	Note string `json:"note,omitempty"`
}

// Records lists what DNS needs to have, in the order of the hosts.
func (p Plan) Records() []Need {
	var needs []Need
	add := func(name, kind, value, note string) {
		need := Need{Record{name, kind, cmp.Or(p.TTL, DefaultTTL), value}, p.Zone(name), note}
		if !slices.ContainsFunc(needs, func(other Need) bool { return other.Is(need.Record) }) {
			needs = append(needs, need)
		}
	}
	// An address is good everywhere; a CNAME follows the nodes when they move, and is not
	// possible everywhere.
	for _, host := range p.Hosts {
		switch {
		case host.Name == p.Edge.Name:
			// Whoever runs the nodes has given it its records.
		case p.Edge.Name != "" && host.Name != p.Zone(host.Name):
			add(host.Name, "CNAME", p.Edge.Name+".", "")
		default:
			note := ""
			if p.Edge.Name != "" {
				// RFC 1034, section 3.6.2: a name with a CNAME has nothing else, and a zone's
				// own name has its SOA and NS.
				note = "a zone's own name cannot have a CNAME; these are the addresses that " +
					p.Edge.Name + " has now. If your provider offers ALIAS or ANAME, use that instead"
			}
			for _, ip := range p.Edge.Addresses {
				add(host.Name, typeOf(ip), ip.String(), note)
			}
		}
		p.certificate(host, add)
	}
	return needs
}

// certificate adds what an authority wants to find.
func (p Plan) certificate(host Host, add func(name, kind, value, note string)) {
	base := strings.TrimPrefix(host.Name, "*.")
	if p.Issuer != "" && (p.Edge.Name == "" || host.Name == p.Zone(host.Name)) {
		property := "issue"
		if host.IsWildcard() {
			property = "issuewild"
		}
		add(base, "CAA", fmt.Sprintf("0 %s %s", property, strconv.Quote(p.Issuer)), "")
	}
	if host.IsWildcard() && p.Delegate != "" {
		add(ChallengeName(host.Name), "CNAME", base+"."+p.Delegate+".", "")
	}
}

// ChallengeName is where an authority looks for the validation record of a name (RFC 8555,
// section 8.4).
func ChallengeName(name string) string {
	return "_acme-challenge." + strings.TrimPrefix(name, "*.")
}

// typeOf is the type of an address's record.
func typeOf(ip netip.Addr) string {
	if ip.Is4() {
		return "A"
	}
	return "AAAA"
}
