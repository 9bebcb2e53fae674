package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/upkeep"
	"orilla.example/orilla/internal/store"
)

func (a *app) storeVerifyCommand() *cobra.Command {
	var site, from string
	cmd := &cobra.Command{
		Use: "verify", Short: "Read and hash everything that any release needs, and say what is damaged", Args: cobra.NoArgs,
		Long: "Verify reads every journal, release, record and object that anything leads to and compares it with its hash. It names what is\n" +
			"damaged and what that affects; the status is 4 then. With --repair-from, what is damaged is brought back from another store.",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.storeVerify(cmd.Context(), site, from) },
	}
	cmd.Flags().StringVar(&site, "site", "", "only this site (default: all)")
	cmd.Flags().StringVar(&from, "repair-from", "", "bring what is damaged back from another `STORE`")
	return a.jsonFlag(cmd)
}

func (a *app) storeVerify(ctx context.Context, site, from string) error {
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
	found, err := upkeep.Verify(ctx, store, sites, tell)
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
		a.printVerified(found, time.Since(started), from)
	}
	for _, damage := range found.Damage {
		if err == nil && !damage.Repaired {
			err = &exitError{int(fault.Findings)}
		}
	}
	return err
}

func (a *app) repair(ctx context.Context, damaged storage.Store, from string, found *upkeep.Verified, tell upkeep.Tell) error {
	other, err := store.Open(ctx, from, a.folder, a.places.Data, false)
	if err != nil {
		return err
	}
	return upkeep.Repair(ctx, damaged, other, found, tell)
}

func (a *app) printVerified(found upkeep.Verified, took time.Duration, from string) {
	left := 0
	for _, damage := range found.Damage {
		state := console.Bad("damaged")
		switch {
		case damage.Repaired:
			state = console.Good("repaired")
		default:
			left++
		}
		a.Print("%s %s: %s", state, damage.Key, damage.What)
		for _, affected := range damage.Affects {
			a.Print("         %s %s", console.Faint("affects"), affected)
		}
		if damage.Remains != "" {
			a.Print("         %s", damage.Remains)
		}
	}
	gone := ""
	if found.Gone > 0 {
		gone = "; " + console.Count(int64(found.Gone), "entry names a release that was", "entries name releases that were") + " pruned"
	}
	a.Print("%s, %s, %s; %s (%s) read in %s%s", console.Count(int64(found.Sites), "site", "sites"), console.Count(int64(found.Releases), "release", "releases"),
		console.Count(int64(found.Entries), "entry", "entries"), console.Count(found.Objects, "object", "objects"), console.Size(found.Bytes), console.Took(took), gone)
	switch {
	case left > 0:
		a.Print("%s", console.Bad(console.Count(int64(left), "thing is", "things are")+" damaged"))
		if from == "" {
			a.Note("%s orilla store verify --repair-from STORE, if there is a copy; else go back to a release that is not affected", console.Accent("next:"))
		}
	case len(found.Damage) > 0:
		a.Print("%s", console.Good("all that was damaged is repaired"))
	default:
		a.Print("%s", console.Good("all of it is whole"))
	}
}
