package pipeline

import (
	"context"
	"crypto/rand"
	"errors"
	"net/url"
	"strings"

	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
)

// wantedAddresses are those that a site must have for the plan's environment: of a preview the patterns of all, "*" standing for the label.
func (r *Run) wantedAddresses() []string {
	if !journal.IsPreview(r.Plan.Environment) {
		return r.documentContent().Addresses
	}
	var addresses []string
	for i, pattern := range r.Plan.Project.ProductionConfig.Previews.Addresses {
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
	if r.Plan.Environment == "" || r.Plan.Apart || !p.Configured && p.ProductionCommit == "" {
		return nil
	}
	document, err := journal.NewDocument(r.documentContent(), p.ProductionCommit)
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
