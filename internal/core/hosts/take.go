package hosts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// Taken is the error of an address that belongs to another site.
type Taken struct { //nolint:errname // read as hosts.Taken
	Address string
	Owner   Entry
}

// Error names the owner.
func (t *Taken) Error() string { return fmt.Sprintf("%s belongs to %s", t.Address, t.Owner.Site) }

// Served is an address that is answered right now.
type Served struct {
	Site    string
	Address string
}

// Taking is a site that wants its addresses.
type Taking struct {
	Store   storage.Store
	Site    string
	Who     string
	Now     time.Time
	Attempt func() string // makes a random text that no other call makes
	// Served lists which addresses on a host are answered
	// now, by any site, each as the edge decides it: what
	// is served when a host gets its first owner stays.
	Served func(ctx context.Context, host string) ([]Served, error)
}

// Take makes sure that the site may have addresses, and takes the hosts that
// nobody has. The error is Taken for the first that another site has; those
// before it are the site's then.
func (t *Taking) Take(ctx context.Context, addresses []string) error {
	for _, address := range addresses {
		if err := t.take(ctx, address); err != nil {
			return err
		}
	}
	return nil
}

// take makes one address the site's. A host that nobody owns goes to whom it is
// answered for already, if that is known: stores of early versions had no
// owners.
func (t *Taking) take(ctx context.Context, address string) error {
	host, path, err := Of(address)
	if err != nil {
		return err
	}
	owner, err := Owner(ctx, t.Store, host)
	if err != nil {
		return err
	}

	if owner.Site == "" {
		if owner, err = t.first(ctx, host); err != nil {
			return err
		}
	}

	if !owner.Allows(t.Site, path) {
		return &Taken{Address: address, Owner: owner}
	}
	return nil
}

// first gives a host that nobody has its owner: who is
// served there today, else the site that wants it.
func (t *Taking) first(ctx context.Context, host string) (Entry, error) {
	served, err := t.Served(ctx, host)
	if err != nil {
		return Entry{}, err
	}
	faster := Entry{}

	entry, err := Append(ctx, t.Store, host, t.Attempt(), func(head Entry) (Entry, error) {
		if faster = head; head.Site != "" {
			return head, errFaster
		}
		next := Entry{Site: t.Site, Who: t.Who, When: t.Now}
		if head.Number == 0 {
			next.Site, next.Grants = settled(t.Site, served)
		}

		if next.Site != t.Site {
			next.Why = "is served there"
		}
		return next, nil
	})
	if errors.Is(err, errFaster) {
		return faster, nil
	}

	return entry, err
}

// errFaster ends a decision that somebody else has taken.
var errFaster = errors.New("somebody was faster")

// settled says whose a host is that had no owner: of the site that is served at
// its shortest path; the others keep theirs.
func settled(site string, served []Served) (owner string, grants []Grant) {
	if len(served) == 0 {
		return site, nil
	}
	path := func(s Served) string { _, path, _ := Of(s.Address); return path }
	served = slices.Clone(served)
	slices.SortStableFunc(served, func(a, b Served) int { return len(path(a)) - len(path(b)) })
	owner = served[0].Site
	for _, other := range served {
		if grant := (Grant{Site: other.Site, Path: path(other)}); other.Site != owner &&
			!slices.Contains(grants, grant) {
			grants = append(grants, grant)
		}
	}

	return owner, grants
}

// HandOver gives a host to another site; to nobody if to
// is "". Only its owner does.
func HandOver(site, to, who, why string, now time.Time) func(Entry) (Entry, error) {
	return func(head Entry) (Entry, error) {
		if head.Site != site {
			return Entry{}, &Taken{Address: head.Host, Owner: head}
		}
		next := Entry{Site: to, Who: who, When: now, Why: why}
		if to != "" {
			next.Grants = slices.DeleteFunc(slices.Clone(head.Grants),
				func(g Grant) bool { return g.Site == to })
		}
		return next, nil
	}
}

// Allow lets another site have a path on a host, or takes
// that back. Only the owner does.
func Allow(site string, grant Grant, revoke bool, who, why string, now time.Time) func(Entry) (Entry, error) {
	grant.Path = slashed("/" + strings.Trim(grant.Path, "/"))
	return func(head Entry) (Entry, error) {
		if head.Site != site {
			return Entry{}, &Taken{Address: head.Host, Owner: head}
		}
		next := Entry{Site: site, Who: who, When: now, Why: why}
		next.Grants = slices.DeleteFunc(slices.Clone(head.Grants), func(g Grant) bool { return g == grant })
		if !revoke {
			next.Grants = append(next.Grants, grant)
		}
		return next, nil
	}
}
