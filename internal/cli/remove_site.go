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
		Use: "remove-site SITE", Short: "Take a site out of the store, with all its releases and its history",
		Args: cobra.ExactArgs(1),
		Long: "Remove-site ends what all environments of a site serve, and removes its releases, builds " +
			"and journals. The claim of its name goes\n" +
			"too, unless --keep-name. It asks for the name to be typed. orilla " +
			"store prune then frees the room.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.removeSite(cmd.Context(), args[0], keepName, yes)
		},
	}

	cmd.Flags().BoolVar(&keepName, "keep-name", false,
		"leave the claim, so that nobody else can take the name")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
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
			" go dark at once, and its history is gone for good.", "", check)
		if errors.Is(err, console.ErrNobody) {
			return fault.New(fault.Refused, "not-confirmed",
				"a site is removed only after its name was typed").At("%s", site).
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
		a.Note("%s orilla store prune", console.Faint("to free the room that its objects take:"))
	})
}
