package deploy

import (
	"context"
	"errors"
	"strings"

	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/environments"
)

// wantedAddresses are those that a site must have for the plan's environment.
// Of a preview they are the patterns of all, with "*" for the label: the host
// https://*.preview.corvane.example is taken once, not for each preview.
func wantedAddresses(p *Prepared) (addresses []string) {
	content := documentContent(p).Addresses
	for i, address := range content {
		pattern := address
		if journal.IsPreview(p.Plan.Environment) {
			// A preview for each branch would otherwise mean a journal for each
			// branch's host, and two sites with the same pattern would meet only at
			// the first branch of the same name.
			pattern = project.PreviewPattern(p.Plan.Project.ProductionConfig.Previews.Addresses[i])
		}
		switch {
		case !isPart(pattern):
			addresses = append(addresses, pattern)
		case !isPart(address):
			addresses = append(addresses, address)
		}
	}
	return addresses
}

// isPart reports whether a pattern has a label of which only a part varies: that stands for too
// much to belong to a site before there is a preview.
func isPart(pattern string) bool {
	host, _, err := hosts.Of(pattern)
	return err != nil || strings.Contains(strings.TrimPrefix(host, "*."), "*")
}

// changesAddresses reports whether an environment whose last entry is head, nil
// for none, gets another document than it has.
func changesAddresses(head *journal.Entry, document journal.Document) bool {
	return len(document.Addresses) > 0 && (head == nil || head.Document != document.Digest)
}

// checkHosts refuses, before anything is built, addresses
// that another site has.
func checkHosts(ctx context.Context, p *Prepared) error {
	if p.Plan.Environment == "" || p.Plan.Apart || !saysEnvironments(p.Plan.Project) {
		return nil
	}
	// A deploy that changes no address asks nothing about hosts: most deploys
	// cost the store not one request for them.
	document, err := journal.NewDocument(documentContent(p), p.Plan.Project.ProductionCommit)
	if err != nil || !changesAddresses(p.head, document) {
		return err
	}

	for _, address := range wantedAddresses(p) {
		host, path, err := hosts.Of(address)
		if err != nil {
			return err
		}
		owner, err := hosts.Owner(ctx, p.Store, host)
		if err != nil {
			return err
		}

		if owner.Site != "" && !owner.Allows(p.Plan.Site, path) {
			return environments.HostTaken(&hosts.Taken{Address: address, Owner: owner}, p.Plan.Site)
		}
	}

	return nil
}

// takeHosts makes the hosts of the environment's new addresses the site's, just
// before the entry that uses them.
func takeHosts(ctx context.Context, p *Prepared, document journal.Document) error {
	if !changesAddresses(p.head, document) {
		return nil
	}
	// Another deploy may have taken a host since checkHosts looked. Taking
	// decides; the check only saves a build.
	taking := hosts.Taking{
		Store: p.writer(), Site: p.Plan.Site, Who: p.Plan.Project.Person(ctx), Now: p.now(), Attempt: attempt,
		Served: func(ctx context.Context, host string) ([]hosts.Served, error) {
			return environments.ServedOn(ctx, p.Store, host)
		},
	}

	err := taking.Take(ctx, wantedAddresses(p))
	if taken, ok := errors.AsType[*hosts.Taken](err); ok {
		return environments.HostTaken(taken, p.Plan.Site)
	}
	return err
}
