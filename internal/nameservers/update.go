package nameservers

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"orilla.example/orilla/internal/core/names"
)

// Key is a shared secret with which a server knows who changes a zone (TSIG, RFC 8945).
type Key struct {
	Name      string // without a final dot
	Algorithm string // such as hmac-sha256
	Secret    string // base64
}

// algorithms are those of TSIG that are still good.
var algorithms = []string{"hmac-sha224", "hmac-sha256", "hmac-sha384", "hmac-sha512"}

// ErrKey is what is wrong with the file of a key.
var ErrKey = errors.New("not a TSIG key")

// ParseKey reads a key as name servers keep it:
//
//	key "orilla" {
//	    algorithm hmac-sha256;
//	    secret "c2VjcmV0IGJ5dGVz…";
//	};
func ParseKey(data []byte) (k Key, err error) {
	// Comments as C, C++ and shells have them.
	var words []string
	for line := range bytes.Lines(data) {
		text := string(line)
		for _, comment := range []string{"//", "#"} {
			text, _, _ = strings.Cut(text, " "+comment)
			if strings.HasPrefix(strings.TrimSpace(text), comment) {
				text = ""
			}
		}
		scanner := bufio.NewScanner(strings.NewReader(strings.NewReplacer("{", " { ", "}", " } ", ";", " ; ").
			Replace(text)))
		scanner.Split(bufio.ScanWords)
		for scanner.Scan() {
			words = append(words, strings.Trim(scanner.Text(), `"`))
		}
	}
	for i, word := range words {
		if i+1 == len(words) {
			break
		}
		switch word {
		case "key":
			k.Name = strings.TrimSuffix(words[i+1], ".")
		case "algorithm":
			k.Algorithm = strings.ToLower(strings.TrimSuffix(words[i+1], "."))
		case "secret":
			k.Secret = words[i+1]
		}
	}
	secret, err := base64.StdEncoding.DecodeString(k.Secret)
	switch {
	case k.Name == "":
		return Key{}, fmt.Errorf(`%w: it begins with key "NAME" {`, ErrKey)
	case !slices.Contains(algorithms, k.Algorithm):
		return Key{}, fmt.Errorf("%w: algorithm %q; write one of %s", ErrKey, k.Algorithm,
			strings.Join(algorithms, ", "))
	case err != nil || len(secret) == 0:
		return Key{}, fmt.Errorf("%w: its secret is not base64", ErrKey)
	}
	return k, nil
}

// String writes a key as ParseKey reads it. It is a secret.
func (k Key) String() string {
	return fmt.Sprintf("key %q {\n\talgorithm %s;\n\tsecret %q;\n};\n", k.Name, k.Algorithm, k.Secret)
}

// Refusal is what a server said to an update that it did not make.
type Refusal struct{ Code string } //nolint:errname // read as nameservers.Refusal

// Error implements error.
func (r *Refusal) Error() string { return "the name server answers " + r.Code }

// Moved reports whether the zone was not what the update takes it to be.
func (r *Refusal) Moved() bool {
	return slices.Contains([]string{"NXRRSET", "YXRRSET", "NXDOMAIN", "YXDOMAIN"}, r.Code)
}

// Primary finds the server that takes changes of a zone: the one that its SOA names (RFC
// 2136, section 4.1).
func (a *Asker) Primary(ctx context.Context, zone string) (string, error) {
	answer, err := a.ask(ctx, a.Resolver, zone, dns.TypeSOA, true, false)
	if err != nil {
		return "", err
	}
	for _, record := range answer.Answer {
		soa, ok := record.(*dns.SOA)
		if !ok {
			continue
		}
		said := a.Resolve(ctx, strings.TrimSuffix(soa.Ns, "."))
		if len(said.Addresses) > 0 {
			port := a.Port
			if port == "" {
				port = "53"
			}
			return net.JoinHostPort(said.Addresses[0].String(), port), nil
		}
		return "", fmt.Errorf("%s, which its SOA names, has no address", strings.TrimSuffix(soa.Ns, "."))
	}
	return "", fmt.Errorf("%w: %s", ErrNoZone, zone)
}

// A change goes to one server, in one message over TCP: it may be longer than a packet, and
// nobody may believe that it was lost when it was made.

// Update makes a change at a server, all of it or nothing, if the names that it touches are
// as they were. The error is a Refusal if the server said no; any other one leaves open
// whether the change was made.
func (a *Asker) Update(ctx context.Context, at string, key Key, change names.Change) error {
	message := new(dns.Msg).SetUpdate(dns.Fqdn(change.Zone))
	if err := prerequisites(message, change); err != nil {
		return err
	}
	// First what is to go: a CNAME cannot be where an address is still.
	for _, r := range change.Remove {
		record, err := recordTo(r)
		if err != nil {
			return err
		}
		message.Remove([]dns.RR{record})
	}
	for _, r := range change.Add {
		record, err := recordTo(r)
		if err != nil {
			return err
		}
		message.Insert([]dns.RR{record})
	}

	const fudge = 300 // seconds that clocks may differ (RFC 8945, section 10)
	message.SetTsig(dns.Fqdn(key.Name), dns.Fqdn(key.Algorithm), fudge, time.Now().Unix())
	client := &dns.Client{Net: "tcp", Timeout: 5 * a.timeout(),
		TsigSecret: map[string]string{dns.Fqdn(key.Name): key.Secret}}
	answer, _, err := client.ExchangeContext(ctx, message, at)
	// What the server says of the signature comes without one that fits.
	if answer != nil && answer.Rcode != dns.RcodeSuccess {
		code := dns.RcodeToString[answer.Rcode]
		if tsig := answer.IsTsig(); tsig != nil && tsig.Error != dns.RcodeSuccess {
			code = dns.RcodeToString[int(tsig.Error)]
		}
		return &Refusal{code}
	}
	return err
}

// What a prerequisite says (RFC 2136, section 2.4): "these records are there, and no others of
// their type", or "there are none of this type". The server checks all of them before it
// changes anything, so two who change a zone at once do not overwrite each other.

// prerequisites make the server refuse the update if the sets of records that it touches
// are not as they were read.
func prerequisites(message *dns.Msg, change names.Change) error {
	type set struct{ name, kind string }
	touched := map[set]bool{}
	var order []set
	for _, r := range slices.Concat(change.Remove, change.Add) {
		if s := (set{r.Name, r.Type}); !touched[s] {
			touched[s], order = true, append(order, s)
		}
	}
	for _, s := range order {
		var as []dns.RR
		for _, r := range change.Before {
			if r.Name == s.name && r.Type == s.kind {
				record, err := recordTo(r)
				if err != nil {
					return err
				}
				as = append(as, record)
			}
		}
		if len(as) > 0 {
			message.Used(as)
			continue
		}
		message.RRsetNotUsed([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: dns.Fqdn(s.name),
			Rrtype: dns.StringToType[s.kind]}}})
	}
	return nil
}

// recordTo makes a record of what the core has.
func recordTo(r names.Record) (dns.RR, error) {
	record, err := dns.NewRR(r.Line())
	if err != nil || record == nil {
		return nil, fmt.Errorf("%s: not a record: %w", r.Line(), err)
	}
	return record, nil
}
