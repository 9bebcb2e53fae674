// Package nameserver is a small authoritative name server to try things with: it answers
// for zones that it reads from files (RFC 1035), takes dynamic updates that are signed (RFC
// 2136, 8945), and shows what waiting for DNS is like, as fast or as slowly as is asked for.
//
//	primary    what the zone says now, and where updates go
//	secondary  what it said a while ago: a server that lags behind
//	resolver   for questions that ask for recursion: it keeps answers for as long as they may be
//
// It is a stand-in: no transfers, no signatures (DNSSEC), no names outside its zones.
package nameserver

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// content is what a zone says at a moment. It is never changed, but replaced.
type content struct {
	from time.Time
	sets map[string]map[uint16][]dns.RR // by canonical name and type
}

// Zone is a zone and what it said before.
type Zone struct {
	Origin string // with a final dot

	mutex   sync.RWMutex
	history []*content // oldest first; the last one counts
}

// ReadZone reads a zone file. name is what errors call it.
func ReadZone(text, name string, now time.Time) (*Zone, error) {
	parser := dns.NewZoneParser(strings.NewReader(text), "", name)
	parser.SetIncludeAllowed(false)
	var records []dns.RR
	z := &Zone{}
	for record, ok := parser.Next(); ok; record, ok = parser.Next() {
		if soa, is := record.(*dns.SOA); is && z.Origin == "" {
			z.Origin = dns.CanonicalName(soa.Hdr.Name)
		}
		records = append(records, record)
	}
	if err := parser.Err(); err != nil {
		return nil, err
	}
	if z.Origin == "" {
		return nil, fmt.Errorf("%s: a zone begins with its SOA record", name)
	}
	// A record of another zone in the file is a mistake that a real server tells too.
	sets := map[string]map[uint16][]dns.RR{}
	for _, record := range records {
		if !dns.IsSubDomain(z.Origin, record.Header().Name) {
			return nil, fmt.Errorf("%s: %s is not in the zone %s", name, record.Header().Name, z.Origin)
		}
		insert(sets, record)
	}
	z.history = []*content{{now, sets}}
	return z, nil
}

// insert puts a record where it belongs; one that is there gets its time to live.
func insert(sets map[string]map[uint16][]dns.RR, record dns.RR) {
	header := record.Header()
	header.Name = dns.CanonicalName(header.Name)
	if sets[header.Name] == nil {
		sets[header.Name] = map[uint16][]dns.RR{}
	}
	list := slices.DeleteFunc(sets[header.Name][header.Rrtype], func(other dns.RR) bool {
		return dns.IsDuplicate(record, other)
	})
	sets[header.Name][header.Rrtype] = append(list, record)
}

// Text is the zone as a file.
func (z *Zone) Text() string {
	sets := z.at(time.Time{}).sets
	var text strings.Builder
	for _, name := range slices.Sorted(maps.Keys(sets)) {
		for _, kind := range slices.Sorted(maps.Keys(sets[name])) {
			for _, record := range sets[name][kind] {
				fmt.Fprintln(&text, record)
			}
		}
	}
	return text.String()
}

// at returns what the zone said at a time; the zero time is now.
func (z *Zone) at(when time.Time) *content {
	z.mutex.RLock()
	defer z.mutex.RUnlock()
	last := len(z.history) - 1
	if when.IsZero() {
		return z.history[last]
	}
	for i := last; i > 0; i-- {
		if !z.history[i].from.After(when) {
			return z.history[i]
		}
	}
	return z.history[0]
}

// lookup finds what a content says of a name and type: the answer, and what stands beside
// it. exists is whether there is such a name.
func (z *Zone) lookup(c *content, name string, kind uint16) (answer []dns.RR, exists bool) {
	const most = 8 // CNAME records, one behind the other
	// An answer holds the whole way that CNAME records lead, as far as this zone knows it.
	name = dns.CanonicalName(name)
	for range most {
		sets, there := c.sets[name]
		if !there {
			sets, there = wildcard(c, z.Origin, name)
		}
		if !there {
			return answer, len(answer) > 0 || hasBelow(c, name)
		}
		if list := sets[kind]; len(list) > 0 {
			return append(answer, named(list, name)...), true
		}
		alias := sets[dns.TypeCNAME]
		if len(alias) == 0 || kind == dns.TypeCNAME {
			return answer, true
		}
		answer = append(answer, named(alias, name)...)
		target := dns.CanonicalName(alias[0].(*dns.CNAME).Target) //nolint:forcetypeassert // its type says so
		if !dns.IsSubDomain(z.Origin, target) {
			return answer, true
		}
		name = target
	}
	return answer, true
}

// wildcard finds the sets of the wildcard that covers a name (RFC 4592): the one below its
// closest encloser, the nearest name above it that exists.
func wildcard(c *content, origin, name string) (map[uint16][]dns.RR, bool) {
	for above := name; above != origin; {
		_, rest, ok := strings.Cut(above, ".")
		if !ok {
			break
		}
		above = rest
		if sets, there := c.sets["*."+above]; there {
			return sets, true
		}
		if _, there := c.sets[above]; there || hasBelow(c, above) {
			break
		}
	}
	return nil, false
}

// hasBelow reports whether there are names below one, which makes it exist.
func hasBelow(c *content, name string) bool {
	for other := range c.sets {
		if strings.HasSuffix(other, "."+name) {
			return true
		}
	}
	return false
}

// named returns copies of records under a name, which a wildcard has not.
func named(list []dns.RR, name string) (copies []dns.RR) {
	for _, record := range list {
		record = dns.Copy(record)
		record.Header().Name = name
		copies = append(copies, record)
	}
	return copies
}

// soa returns the record that says how long it may be kept that there is nothing.
func (z *Zone) soa(c *content) []dns.RR {
	list := c.sets[z.Origin][dns.TypeSOA]
	if len(list) == 0 {
		return nil
	}
	soa := dns.Copy(list[0]).(*dns.SOA)        //nolint:forcetypeassert // its type says so
	soa.Hdr.Ttl = min(soa.Hdr.Ttl, soa.Minttl) // RFC 2308, section 3
	return []dns.RR{soa}
}

// update changes the zone by the sections of an update message, and returns a code: all of
// it, or nothing (RFC 2136, section 3).
func (z *Zone) update(prerequisites, updates []dns.RR, now time.Time) int {
	z.mutex.Lock()
	defer z.mutex.Unlock()
	before := z.history[len(z.history)-1]
	if code := z.required(before, prerequisites); code != dns.RcodeSuccess {
		return code
	}

	// A copy: what was said before stays, since the secondary still says it.
	sets := map[string]map[uint16][]dns.RR{}
	for name, kinds := range before.sets {
		sets[name] = maps.Clone(kinds)
		for kind, list := range kinds {
			sets[name][kind] = slices.Clone(list)
		}
	}
	for _, record := range updates {
		if !dns.IsSubDomain(z.Origin, record.Header().Name) {
			return dns.RcodeNotZone
		}
		z.change(sets, record)
	}
	// Secondaries know by the serial that there is something new (RFC 1996).
	soa, ok := sets[z.Origin][dns.TypeSOA][0].(*dns.SOA)
	if !ok {
		return dns.RcodeServerFailure
	}
	soa = dns.Copy(soa).(*dns.SOA) //nolint:forcetypeassert // a copy of one
	soa.Serial++
	sets[z.Origin][dns.TypeSOA] = []dns.RR{soa}
	z.history = append(z.history, &content{now, sets})
	return dns.RcodeSuccess
}

// change makes one record of an update section (RFC 2136, section 3.4.2).
func (z *Zone) change(sets map[string]map[uint16][]dns.RR, record dns.RR) {
	header := record.Header()
	name, apex := dns.CanonicalName(header.Name), dns.CanonicalName(header.Name) == z.Origin
	kept := func(kind uint16) bool { return apex && (kind == dns.TypeSOA || kind == dns.TypeNS) }
	// The class says what is meant: ANY takes sets away, NONE one record, IN adds one.
	switch {
	case header.Class == dns.ClassANY && header.Rrtype == dns.TypeANY:
		maps.DeleteFunc(sets[name], func(kind uint16, _ []dns.RR) bool { return !kept(kind) })
	case header.Class == dns.ClassANY:
		if !kept(header.Rrtype) {
			delete(sets[name], header.Rrtype)
		}
	case header.Class == dns.ClassNONE:
		copied := dns.Copy(record)
		copied.Header().Class = dns.ClassINET
		if left := slices.DeleteFunc(sets[name][header.Rrtype], func(other dns.RR) bool {
			return dns.IsDuplicate(copied, other)
		}); len(left) == 0 {
			delete(sets[name], header.Rrtype)
		} else {
			sets[name][header.Rrtype] = left
		}
	default:
		// What cannot stand beside a CNAME, and a CNAME that cannot stand beside it, are
		// passed over in silence.
		_, alias := sets[name][dns.TypeCNAME]
		others := len(sets[name]) > 0 && !alias
		if alias != (header.Rrtype == dns.TypeCNAME) && (alias || others) {
			return
		}
		if header.Rrtype == dns.TypeCNAME {
			delete(sets[name], dns.TypeCNAME)
		}
		insert(sets, dns.Copy(record))
	}
	if len(sets[name]) == 0 {
		delete(sets, name)
	}
}

// required checks what an update takes the zone to be (RFC 2136, section 3.2).
func (z *Zone) required(c *content, prerequisites []dns.RR) int {
	type set struct {
		name string
		kind uint16
	}
	exact := map[set][]dns.RR{}
	for _, record := range prerequisites {
		header := record.Header()
		name := dns.CanonicalName(header.Name)
		if !dns.IsSubDomain(z.Origin, name) {
			return dns.RcodeNotZone
		}
		_, there := c.sets[name]
		_, has := c.sets[name][header.Rrtype]
		switch {
		case header.Class == dns.ClassANY && header.Rrtype == dns.TypeANY && !there:
			return dns.RcodeNameError
		case header.Class == dns.ClassANY && header.Rrtype != dns.TypeANY && !has:
			return dns.RcodeNXRrset
		case header.Class == dns.ClassNONE && header.Rrtype == dns.TypeANY && there:
			return dns.RcodeYXDomain
		case header.Class == dns.ClassNONE && header.Rrtype != dns.TypeANY && has:
			return dns.RcodeYXRrset
		case header.Class != dns.ClassANY && header.Class != dns.ClassNONE:
			exact[set{name, header.Rrtype}] = append(exact[set{name, header.Rrtype}], record)
		}
	}
	// Sets that have to be exactly as they were read, whatever their order.
	for s, want := range exact {
		have := c.sets[s.name][s.kind]
		if len(have) != len(want) || slices.ContainsFunc(want, func(w dns.RR) bool {
			return !slices.ContainsFunc(have, func(h dns.RR) bool { return dns.IsDuplicate(w, h) })
		}) {
			return dns.RcodeNXRrset
		}
	}
	return dns.RcodeSuccess
}
