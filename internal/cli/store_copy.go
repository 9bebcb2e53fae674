package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/store/trial"
)

// storeCopyCmd is what orilla store copy does.
type storeCopyCmd struct{ *app }

func newStoreCopyCommand(a *app) *cobra.Command {
	c := &storeCopyCmd{app: a}
	var site string
	var o transferOptions
	cmd := &cobra.Command{
		Example: "orilla store copy s3://corvane/sites",
		Use:     "copy STORE", Short: "Copy sites to another store", Args: cobra.ExactArgs(1),
		Long: "Copy sends sites with their whole history to another store of any kind, and " +
			"verifies each object. Run it again to continue after an interruption, or to add what " +
			"is new.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.storeCopy(cmd.Context(), args[0], site,
				o)
		},
	}

	onlySiteFlag(cmd.Flags(), &site)
	o.flags(cmd)
	return a.jsonFlag(dryFlag(a, cmd))
}

// storeCopy is orilla store copy: it brings another store up to date with this
// one, objects first and journals last, so that at every moment the other one
// is a whole store of some earlier time.
func (a *storeCopyCmd) storeCopy(ctx context.Context, address, site string, o transferOptions) error {
	limit, err := o.limiter()
	if err != nil {
		return err
	}
	p, err := a.load(ctx)
	if err != nil {
		return err
	}

	from, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	// A folder becomes a store if it is empty; a server has to be shown to hold
	// one first.
	to, err := a.openTarget(ctx, address)
	if err != nil {
		return err
	}

	sites, err := a.chosenSites(ctx, from, site)
	if err != nil {
		return err
	}
	// In both: a prune there could remove what is read, and one here what has
	// just been written.
	var hold *pins.Hold // in the end that of the target
	for _, store := range []storage.Store{from, to} {
		if hold, err = p.Pin(ctx, store, site, "copy"); err != nil {
			return err
		}
		defer hold.Drop(ctx)
	}

	tell, end := a.working()
	settle := func(put func(string) bool) (bool, error) {
		return hold.Settle(ctx, put, func(who string) {
			a.Note("waiting for %s, who is pruning there", source.PersonName(who))
		})
	}
	copied, err := maintenance.Copy(ctx, from, to, sites, maintenance.CopyOptions{Rate: limit,
		Parallel: o.parallel, Tell: tell, Writer: hold.Writer(), Settle: settle})
	end()
	if errors.Is(err, maintenance.ErrDiverged) {
		return fault.New(fault.Refused, "diverged", "the other store has a different history of "+
			"this site").
			At("%s", to.Address()).Because(err).
			Then("copy to another store, or remove the site there: orilla remove-site SITE --store %s",
				to.Address())
	}
	if err != nil {
		return err
	}

	return a.Result(copied, func() {
		a.Print("%s: %s, %s, %s (%s) sent, %s already there", console.Good("copied"),
			console.Count(int64(copied.Sites), "site", "sites"),
			console.Count(int64(copied.Releases), "release", "releases"),
			console.Count(copied.Objects, "object", "objects"), console.Size(copied.Bytes),
			console.Count(copied.Present, "object", "objects"))
		a.Hint("next:", "to check it: orilla store verify --store "+shellWord(to.Address()))
	})
}

// openTarget opens the store that is copied to; a folder that is not there becomes one.
func (a *storeCopyCmd) openTarget(ctx context.Context, address string) (storage.Store, error) {
	to, err := store.Open(ctx, address, a.folder, a.places.Data, !a.dry)
	if !a.dry {
		return to, err
	}
	if errors.Is(err, storage.ErrNone) {
		if folder, _ := store.Folder(address, a.folder, a.places.Data); folder != "" {
			return trial.Nothing(folder), nil
		}
	}
	if err != nil {
		return nil, err
	}
	return trial.Over(to), nil
}

// chosenSites returns all sites of a store, or the one that was named.
func (a *app) chosenSites(ctx context.Context, store storage.Store, site string) ([]string, error) {
	sites, err := maintenance.Sites(ctx, store)
	if err != nil || site == "" {
		return sites, err
	}
	for _, name := range sites {
		if name == site {
			return []string{site}, nil
		}
	}
	return nil, fault.New(fault.Failed, "unknown-site", "the store has no site %q", site).
		At("%s", store.Address()).Then("orilla sites")
}
