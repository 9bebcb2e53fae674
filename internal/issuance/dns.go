package issuance

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/mholt/acmez/v3/acme"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/nameservers"
)

// DNS writes the records with which an authority sees that a name is ours (DNS-01, RFC 8555
// section 8.4), by dynamic updates. Where _acme-challenge.NAME is a CNAME, they are written
// where that leads: so the key need not be good for the zone of the name.
type DNS struct {
	Asker  *nameservers.Asker
	Key    nameservers.Key
	Server string // host:port; "": the primary of the zone
}

// place finds where the record of a challenge belongs.
func (d *DNS) place(ctx context.Context, name string) (at, zone, server string,
	servers []nameservers.Server, err error) {
	// Each name may be in a zone of its own: _acme-challenge.preview.corvane.example may be a
	// CNAME into a zone that is for nothing else.
	at = names.ChallengeName(name)
	const hops = 8
	for range hops {
		if zone, servers, err = d.Asker.Zone(ctx, at); err != nil {
			return "", "", "", nil, err
		}
		if len(servers) == 0 {
			return "", "", "", nil, fmt.Errorf("the name servers of %s have no address", zone)
		}
		alias, err := d.Asker.Records(ctx, servers[0].At.String(), at, "CNAME", false)
		if err != nil {
			return "", "", "", nil, err
		}
		if len(alias) == 0 {
			if server = d.Server; server == "" {
				server, err = d.Asker.Primary(ctx, zone)
			}
			return at, zone, server, servers, err
		}
		at = strings.TrimSuffix(alias[0].Value, ".")
	}
	return "", "", "", nil, fmt.Errorf("CNAME records of %s lead on and on", names.ChallengeName(name))
}

// recordFor is the record of a challenge.
func recordFor(at string, c acme.Challenge) names.Record {
	const ttl = 60
	return names.Record{Name: at, Type: "TXT", TTL: ttl, Value: `"` + c.DNS01KeyAuthorization() + `"`}
}

// Present implements acmez.Solver: it adds the record to those that are there.
func (d *DNS) Present(ctx context.Context, c acme.Challenge) error {
	at, zone, server, _, err := d.place(ctx, c.Identifier.Value)
	if err != nil {
		return err
	}
	// Several orders may be under way for one name (itself and its wildcard): each has a record
	// of its own beside the others.
	there, err := d.Asker.Records(ctx, server, at, "TXT", false)
	if err != nil {
		return err
	}
	record := recordFor(at, c)
	if slices.ContainsFunc(there, record.Is) {
		return nil
	}
	return d.Asker.Update(ctx, server, d.Key, names.Change{Zone: zone, Add: []names.Record{record},
		Before: there})
}

// Until every server answers with the record may take as long as their slowest secondary: the
// order has five minutes for all of its steps.

// Wait implements acmez.Waiter: it waits until all servers of the zone answer with the
// record, since the authority may ask any of them.
func (d *DNS) Wait(ctx context.Context, c acme.Challenge) error {
	at, _, _, servers, err := d.place(ctx, c.Identifier.Value)
	if err != nil {
		return err
	}
	record := recordFor(at, c)
	// The context ends it: an order has its time.
	for {
		behind := ""
		for _, server := range servers {
			found, err := d.Asker.Records(ctx, server.At.String(), at, "TXT", false)
			if err != nil || !slices.ContainsFunc(found, record.Is) {
				behind = server.Name
			}
		}
		if behind == "" {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s does not answer with the validation record: %w", behind, ctx.Err())
		case <-time.After(time.Second):
		}
	}
}

// CleanUp implements acmez.Solver: it takes the record away, and no other.
func (d *DNS) CleanUp(ctx context.Context, c acme.Challenge) error {
	at, zone, server, _, err := d.place(ctx, c.Identifier.Value)
	if err != nil {
		return err
	}
	there, err := d.Asker.Records(ctx, server, at, "TXT", false)
	record := recordFor(at, c)
	if err != nil || !slices.ContainsFunc(there, record.Is) {
		return err
	}
	return d.Asker.Update(ctx, server, d.Key, names.Change{Zone: zone, Remove: []names.Record{record},
		Before: there})
}
