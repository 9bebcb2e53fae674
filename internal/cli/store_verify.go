package cli

import (
	"context"
	"errors"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/view"
)

// storeVerifyCmd is what orilla store verify does.
type storeVerifyCmd struct{ *app }

func newStoreVerifyCommand(a *app) *cobra.Command {
	c := &storeVerifyCmd{app: a}
	var site, from string
	cmd := &cobra.Command{
		Example: "orilla store verify\norilla store verify --repair-from /backup/orilla",
		Use:     "verify", Short: "Check every object, and repair damage",
		Args: cobra.NoArgs,
		Long: "Verify reads every journal, release, record and object and compares it with its " +
			"hash. It lists the damage and what that affects; the exit status is then 4. With " +
			"--repair-from it repairs damage from another store.",
		RunE: func(cmd *cobra.Command, _ []string) error { return c.storeVerify(cmd.Context(), site, from) },
	}

	onlySiteFlag(cmd.Flags(), &site)
	cmd.Flags().StringVar(&from, "repair-from", "", "repair damaged objects from another `STORE`")
	return a.jsonFlag(dryFlag(a, cmd))
}

// storeVerify is orilla store verify: it reads everything, compares each hash,
// and names for all that is damaged what depends on it. With from it brings
// back what another store still has whole.
func (a *storeVerifyCmd) storeVerify(ctx context.Context, site, from string) error {
	store, err := openAlone(ctx, a.app)
	if err != nil {
		return err
	}

	sites, err := a.chosenSites(ctx, store, site)
	if err != nil {
		return err
	}
	started := time.Now()
	// The other store is opened before hours of reading, also if it is not needed then.
	var other storage.Store
	if from != "" {
		if other, err = a.openOther(ctx, from); err != nil {
			return err
		}
	}
	tell, end := a.working()
	found, err := maintenance.Verify(ctx, store, sites, tell)
	if err == nil && other != nil && len(found.Damage) > 0 {
		err = maintenance.Repair(ctx, store, other, &found, tell)
	}

	end()
	if err != nil {
		return err
	}
	if a.JSON {
		err = a.Document(found)
	} else {
		view.PrintVerified(a.Console, found, time.Since(started), from)
	}

	for _, damage := range found.Damage {
		if err == nil && !damage.Repaired {
			err = &exitError{int(fault.Findings)}
		}
	}
	return err
}

// openOther opens the store from which damage is repaired: what is damaged is replaced
// by what it has under the same hash, and a record without one is left alone.
func (a *storeVerifyCmd) openOther(ctx context.Context, from string) (storage.Store, error) {
	other, err := store.Open(ctx, from, a.folder, a.places.Data, false)
	if errors.Is(err, storage.ErrNone) {
		return nil, fault.New(fault.Usage, "no-store", "there is no store to repair from").At("%s", from).
			Then("check the address after --repair-from")
	}
	return other, err
}
