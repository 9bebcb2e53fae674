package nameservers

// Why signatures are checked here at all: a resolver that checks them says SERVFAIL of a zone
// whose signatures have expired, and one that does not says nothing. So the half of visitors
// finds the site, and whoever runs it is among that half.
//
//	DS          in the zone above: which key is the zone's
//	DNSKEY      in the zone: its keys, signed by that one
//	A, AAAA     of the name, signed by one of them
//
// The way further up, to the root, is the registry's: if that were broken, more would be.

import (
	"context"
	"fmt"
	"time"

	"github.com/miekg/dns"

	"orilla.example/orilla/internal/core/names"
)

// Signed looks whether the zone above says that a zone is signed (a DS record), and if so,
// whether the signatures at one of its servers hold (RFC 4035, section 5): resolvers that
// check them refuse the zone otherwise. now decides what has expired.
func (a *Asker) Signed(ctx context.Context, zone string, server Server, name string, now time.Time,
) (names.Signed, error) {
	answer, err := a.ask(ctx, a.Resolver, zone, dns.TypeDS, true, true)
	if err != nil {
		return names.Signed{}, err
	}
	// Without a DS record the zone counts as not signed, whatever it holds.
	var above []*dns.DS
	for _, record := range answer.Answer {
		if ds, ok := record.(*dns.DS); ok {
			above = append(above, ds)
		}
	}
	if len(above) == 0 {
		return names.Signed{}, nil
	}

	signed := names.Signed{Zone: true}
	keys, why := a.keys(ctx, zone, server, above, now)
	if why == "" {
		why = a.signatures(ctx, server, name, keys, now)
	}
	signed.Why = why
	return signed, nil
}

// keys returns the keys of a zone that the zone above vouches for, or why there are none.
func (a *Asker) keys(ctx context.Context, zone string, server Server, above []*dns.DS, now time.Time,
) (keys []*dns.DNSKEY, why string) {
	answer, err := a.ask(ctx, server.At.String(), zone, dns.TypeDNSKEY, false, true)
	if err != nil {
		return nil, "" // that the server does not answer is told elsewhere
	}
	set, signatures := setOf(answer.Answer, dns.Fqdn(zone), dns.TypeDNSKEY)
	var vouched []*dns.DNSKEY
	for _, record := range set {
		key, ok := record.(*dns.DNSKEY)
		if !ok {
			continue
		}
		keys = append(keys, key)
		for _, ds := range above {
			if key.KeyTag() != ds.KeyTag {
				continue
			}
			if made := key.ToDS(ds.DigestType); made != nil && made.Digest == ds.Digest {
				vouched = append(vouched, key)
			}
		}
	}
	if len(vouched) == 0 {
		return nil, fmt.Sprintf("the zone above vouches for a key (DS, tag %d) that %s does not have",
			above[0].KeyTag, zone)
	}
	if why := verify(set, signatures, vouched, now); why != "" {
		return nil, "its keys: " + why
	}
	return keys, ""
}

// signatures says what is wrong with those of a name's addresses.
func (a *Asker) signatures(ctx context.Context, server Server, name string, keys []*dns.DNSKEY,
	now time.Time,
) (why string) {
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		answer, err := a.ask(ctx, server.At.String(), name, kind, false, true)
		if err != nil {
			return ""
		}
		// There need not be both kinds; an answer that says so is signed too, and is not looked
		// at here. A CNAME may be there instead, with a signature of its own.
		for _, of := range []uint16{kind, dns.TypeCNAME} {
			set, signatures := setOf(answer.Answer, dns.Fqdn(name), of)
			if len(set) == 0 {
				continue
			}
			if why := verify(set, signatures, keys, now); why != "" {
				return fmt.Sprintf("%s of %s: %s", dns.TypeToString[of], name, why)
			}
		}
	}
	return ""
}

// setOf returns the records of a name and type in an answer, and their signatures.
func setOf(records []dns.RR, name string, kind uint16) (set []dns.RR, signatures []*dns.RRSIG) {
	for _, record := range records {
		if signature, ok := record.(*dns.RRSIG); ok && signature.TypeCovered == kind &&
			dns.CanonicalName(signature.Hdr.Name) == dns.CanonicalName(name) {
			signatures = append(signatures, signature)
		}
		if record.Header().Rrtype == kind && dns.CanonicalName(record.Header().Name) ==
			dns.CanonicalName(name) {
			set = append(set, record)
		}
	}
	return set, signatures
}

// verify says why no signature of a set holds: "" if one does.
func verify(set []dns.RR, signatures []*dns.RRSIG, keys []*dns.DNSKEY, now time.Time) (why string) {
	if len(signatures) == 0 {
		return "there is no signature (RRSIG)"
	}
	for _, signature := range signatures {
		why = "no key made its signature"
		for _, key := range keys {
			if key.KeyTag() != signature.KeyTag || key.Algorithm != signature.Algorithm {
				continue
			}
			err := signature.Verify(key, set)
			switch {
			case err != nil:
				why = "the signature is wrong"
			case !signature.ValidityPeriod(now):
				until := time.Unix(int64(signature.Expiration), 0).UTC()
				why = "the signature is valid until " + until.Format(time.DateTime) + " only"
			default:
				return ""
			}
		}
	}
	return why
}
