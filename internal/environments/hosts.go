package environments

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
)

// HostTaken is the refusal of an address that another site has.
func HostTaken(taken *hosts.Taken, site string) error {
	host := taken.Owner.Host
	problem := fault.New(fault.Refused, "host-taken", "%s belongs to the site %s", taken.Address,
		taken.Owner.Site).At("%s", host).
		With("since " + taken.Owner.When.Format(time.DateOnly) + ", by " + taken.Owner.Who)
	if site == "" {
		return problem.Then("orilla domains")
	}

	_, path, err := hosts.Of(taken.Address)
	problem = problem.Then("use another address in orilla.yaml").
		// Of a site that was renamed; the new name must be claimed before it can be given
		// anything.
		Then("or, if %s is yours too, claim the name %s: orilla build", taken.Owner.Site, site).
		Then("and then: orilla domains give %s --to %s --site %s", host, site,
			taken.Owner.Site)
	if err == nil && path != "/" {
		problem = problem.Then("or share only the path: orilla domains allow %s%s --to %s --site %s", host,
			path, site, taken.Owner.Site)
	}
	return problem
}

// ServedOn lists the addresses on a host, which may be a wildcard, that edge
// nodes answer now. Of two environments with the same address, the one that
// comes first in alphabetical order has it. What may not be read is not there.
func ServedOn(ctx context.Context, store storage.Store, host string) ([]hosts.Served, error) {
	sites, err := maintenance.Sites(ctx, store)
	// It is only asked to name an owner of old stores; who cannot see them is
	// told so by the edge.
	if errors.Is(err, storage.ErrDenied) {
		return nil, nil // whoever deploys one site sees no other
	}
	if err != nil {
		return nil, err
	}

	type claim struct {
		label string
		hosts.Served
	}
	var claims []claim
	for _, site := range sites {
		states, err := States(ctx, store, site, nil, nil)
		if err != nil {
			return nil, err
		}
		for _, state := range states {
			if state.Head == nil || state.Head.Document.IsZero() {
				continue
			}
			content, err := DocumentOf(ctx, store, *state.Head)
			if err != nil {
				return nil, err
			}

			for _, address := range content.Addresses {
				if on, _, err := hosts.Of(address); err == nil && (on == host || hosts.Wildcard(on) == host) {
					claims = append(claims, claim{site + " " + journal.DisplayName(state.Name),
						hosts.Served{Site: site, Address: address}})
				}
			}
		}
	}

	slices.SortStableFunc(claims, func(a, b claim) int { return strings.Compare(a.label, b.label) })
	var served []hosts.Served
	for _, c := range claims {
		if !slices.ContainsFunc(served, func(s hosts.Served) bool { return s.Address == c.Address }) {
			served = append(served, c.Served)
		}
	}
	return served, nil
}
