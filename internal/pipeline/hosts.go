package pipeline

import (
	"context"
	"crypto/rand"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/upkeep"
)

// wantedAddresses are those that a site must have for the plan's environment: of a preview the patterns of all, "*" standing for the label.
func (r *Run) wantedAddresses() []string {
	if !IsPreview(r.Plan.Environment) {
		return r.documentContent().Addresses
	}
	var addresses []string
	for i, pattern := range r.Plan.Project.Standing.Previews.Addresses {
		parsed, err := url.Parse(strings.ReplaceAll(pattern, project.LabelPlace, "*"))
		if err != nil || strings.Contains(strings.TrimPrefix(parsed.Hostname(), "*."), "*") { // a part of a label stands for too much
			addresses = append(addresses, r.documentContent().Addresses[i])
			continue
		}
		path, _, _ := strings.Cut(parsed.Path, "*")
		addresses = append(addresses, parsed.Scheme+"://"+parsed.Host+path)
	}
	return addresses
}

// changesAddresses reports whether the plan's environment gets another document than it has.
func (r *Run) changesAddresses(document journal.Document) bool {
	before := r.result.Before
	return len(document.Addresses) > 0 && (before == nil || before.Document != document.Digest)
}

// checkHosts refuses, before anything is built, addresses that another site has.
func (r *Run) checkHosts(ctx context.Context) error {
	p := r.Plan.Project
	if r.Plan.Environment == "" || r.Plan.Apart || !p.Configured && p.StandingAt == "" {
		return nil
	}
	document, err := journal.NewDocument(r.documentContent(), p.StandingAt)
	if err != nil || !r.changesAddresses(document) {
		return err
	}
	for _, address := range r.wantedAddresses() {
		host, path, err := hosts.Of(address)
		if err != nil {
			return err
		}
		owner, err := hosts.Owner(ctx, r.Store, host)
		if err != nil {
			return err
		}
		if owner.Site != "" && !owner.Allows(r.Plan.Site, path) {
			return HostTaken(&hosts.Taken{Address: address, Owner: owner}, r.Plan.Site)
		}
	}
	return nil
}

// takeHosts makes the hosts of the environment's new addresses the site's, just before the entry that uses them.
func (r *Run) takeHosts(ctx context.Context, document journal.Document) error {
	if !r.changesAddresses(document) {
		return nil
	}
	taking := hosts.Taking{Store: r.writer(), Site: r.Plan.Site, Who: r.Plan.Project.Person(ctx), Now: r.now(),
		Attempt: func() string { return strings.ToLower(rand.Text()) },
		Served:  func(ctx context.Context, host string) ([]hosts.Served, error) { return ServedOn(ctx, r.Store, host) }}
	err := taking.Take(ctx, r.wantedAddresses())
	if taken, ok := errors.AsType[*hosts.Taken](err); ok {
		return HostTaken(taken, r.Plan.Site)
	}
	return err
}

// HostTaken is the refusal of an address that another site has.
func HostTaken(taken *hosts.Taken, site string) error {
	host := taken.Owner.Host
	problem := fault.New(fault.Refused, "host-taken", "%s belongs to the site %s", taken.Address, taken.Owner.Site).At("%s", host).
		With("since " + taken.Owner.When.Format(time.DateOnly) + ", by " + taken.Owner.Who)
	if site == "" {
		return problem.Then("orilla domains lists the owners")
	}
	_, path, err := hosts.Of(taken.Address)
	problem = problem.Then("use another address in orilla.yaml").Then("or, in the project of %s: orilla domains give %s --to %s", taken.Owner.Site, host, site)
	if err == nil && path != "/" {
		problem = problem.Then("or share only the path: orilla domains allow %s%s --to %s", host, path, site)
	}
	return problem
}

// ServedOn lists the addresses on a host, which may be a wildcard, that edge nodes answer now. Of two environments with the same address, the
// one that comes first in alphabetical order has it. What may not be read is not there.
func ServedOn(ctx context.Context, store storage.Store, host string) ([]hosts.Served, error) {
	sites, err := upkeep.Sites(ctx, store)
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
			content, err := documentOf(ctx, store, *state.Head)
			if err != nil {
				return nil, err
			}
			for _, address := range content.Addresses {
				if on, _, err := hosts.Of(address); err == nil && (on == host || hosts.Wildcard(on) == host) {
					claims = append(claims, claim{site + " " + journal.DisplayName(state.Name), hosts.Served{Site: site, Address: address}})
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
