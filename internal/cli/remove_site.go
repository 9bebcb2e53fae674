package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/view"
)

// removeSiteCmd is what orilla remove site does.
type removeSiteCmd struct{ *app }

func newRemoveSiteCommand(a *app) *cobra.Command {
	c := &removeSiteCmd{app: a}
	var keepName, yes bool
	cmd := &cobra.Command{
		Example: "orilla remove-site harbour",
		Use:     "remove-site SITE", Short: "Delete a site with all its releases",
		Args: cobra.ExactArgs(1),
		Long: "Remove-site takes all environments of a site offline and removes its releases, " +
			"builds and history. The name becomes free, unless --keep-name is given. It asks you " +
			"to type the name. Run orilla store prune afterwards to free the disk space.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.removeSite(cmd.Context(), args[0], keepName, yes)
		},
	}

	cmd.Flags().BoolVar(&keepName, "keep-name", false,
		"keep the name, so that nobody else can take it")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "assume yes to every prompt")
	return a.jsonFlag(cmd)
}

// removeSite is orilla remove-site: it removes all of a site and, unless
// keepName, frees its name. It cannot be undone, so it asks for the name to be
// typed.
func (a *removeSiteCmd) removeSite(ctx context.Context, site string, keepName, yes bool) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}

	if _, err := a.chosenSites(ctx, store, site); err != nil {
		return err
	}
	if !yes {
		check := func(typed string) error {
			if typed != site {
				return fmt.Errorf("type %s to remove it, or press Ctrl-C", site)
			}
			return nil
		}

		_, err := a.Input(ctx, "Type the name of the site to remove it", "All environments of "+site+
			" go offline at once, and its history is deleted for good.", "", check)
		if errors.Is(err, console.ErrNobody) {
			return fault.New(fault.Refused, "not-confirmed",
				"removing a site needs a confirmation: its name, typed").At("%s", site).
				Then("run it on a terminal, or add --yes")
		}
		if err != nil {
			return err
		}
	}

	tell, end := a.working()
	removed, err := maintenance.RemoveSite(ctx, store, site, p.Person(ctx), keepName,
		func(waiting []pins.Waiting) { view.ShowWaiting(a.Console, waiting) }, tell)
	end()
	if err != nil {
		return err
	}

	return a.Result(view.RemoveSiteReport{Site: site, Removed: removed, KeptName: keepName}, func() {
		a.Print("%s %s: %s", console.Good("removed"), console.Strong(site),
			console.Count(int64(removed), "record", "records"))
		a.Hint("next:", "to free its disk space: orilla store prune")
	})
}
