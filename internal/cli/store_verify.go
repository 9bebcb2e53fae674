package cli

import (
	"context"
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
	return a.jsonFlag(cmd)
}

// storeVerify is orilla store verify: it reads everything, compares each hash,
// and names for all that is damaged what depends on it. With from it brings
// back what another store still has whole.
func (a *storeVerifyCmd) storeVerify(ctx context.Context, site, from string) error {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return err
	}
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}

	sites, err := a.chosenSites(ctx, store, site)
	if err != nil {
		return err
	}
	started := time.Now()
	tell, end := a.working()
	found, err := maintenance.Verify(ctx, store, sites, tell)
	if err == nil && from != "" && len(found.Damage) > 0 {
		err = a.repair(ctx, store, from, &found, tell)
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

// repair puts in place of what is damaged what the other store has under the
// same hash; a record without one is left alone.
func (a *storeVerifyCmd) repair(ctx context.Context, damaged storage.Store, from string,
	found *maintenance.Verified, tell maintenance.Tell,
) error {
	other, err := store.Open(ctx, from, a.folder, a.places.Data, false)
	if err != nil {
		return err
	}
	return maintenance.Repair(ctx, damaged, other, found, tell)
}
