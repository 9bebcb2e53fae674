package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// sitesCmd lists the sites of a store.
type sitesCmd struct{ *app }

func newSitesCommand(a *app) *cobra.Command {
	c := &sitesCmd{app: a}
	cmd := &cobra.Command{
		Example: "orilla sites --store /srv/orilla",
		Use:     "sites", Short: "List the sites of the store", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return c.sites(cmd.Context()) },
	}
	return a.jsonFlag(cmd)
}

// sites is orilla sites: the sites of a store, with whose they are.
func (a *sitesCmd) sites(ctx context.Context) error {
	store, err := openAlone(ctx, a.app)
	if err != nil {
		return err
	}

	report := []view.SiteReport{}
	for item, err := range store.List(ctx, storage.SitesKey) {
		if err != nil {
			return err
		}
		report = append(report, describeSite(ctx, store, item.Name()))
	}

	if a.JSON {
		return a.Document(report)
	}
	if len(report) == 0 {
		a.Note("the store %s has no sites yet; orilla deploy creates the first", store.Address())
		return nil
	}

	rows := [][]string{{"SITE", "PRODUCTION", "COMMIT", "", "SINCE"}}
	for _, site := range report {
		row := []string{console.Strong(site.Site), console.Faint("waits for its first deploy"), "", "", ""}
		switch {
		case site.Damage != "":
			row[1] = console.Bad("unreadable") + " " + site.Damage
		case site.Since != nil:
			row = []string{console.Strong(site.Site), site.Release[:12],
				console.Accent(source.Short(site.Commit)), view.Shorten(site.Subject, 50), a.Age(*site.Since)}
		}
		rows = append(rows, row)
	}
	a.Table(rows)
	return nil
}

// describeSite reads what a store knows of a site. What cannot be read is said
// in its row: one damaged record does not hide the other sites.
func describeSite(ctx context.Context, store storage.Store, name string) view.SiteReport {
	report := view.SiteReport{Site: name}
	claim, err := site.ReadClaim(ctx, store, name)
	if errors.Is(err, storage.ErrNotFound) {
		return report // no deploy has succeeded yet: the name is free
	}
	if err != nil {
		report.Damage = err.Error()
		return report
	}

	report.Owner, report.Who, report.When = claim.Roots, claim.Who, claim.When
	if claim.Folder != "" {
		report.Owner = []string{claim.Folder}
	}
	production := journal.Journal{Store: store, Site: name, Environment: project.Production}
	head, err := production.Head(ctx, 0)
	switch {
	case errors.Is(err, journal.ErrEmpty):
	case err != nil:
		report.Damage = err.Error()
	case !head.Release.IsZero():
		report.Entry, report.Release, report.Commit, report.Subject, report.Since = head.Label(), "r-"+
			head.Release.String(), head.Commit, head.Subject, &head.When
	}

	return report
}
