package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/view"
)

// storeCmd shows what a store is and holds; what works on stores lies in files
// of its own.
type storeCmd struct{ *app }

func newStoreCommand(a *app) *cobra.Command {
	c := &storeCmd{app: a}
	cmd := &cobra.Command{
		Example: "orilla store\norilla store prune --dry-run",
		Use:     "store", Short: "Show the store; create, copy, verify, prune it", Args: cobra.NoArgs,
		Long: "Store shows where the store is, whether it answers, your permissions, whether " +
			"strangers can read it, and its contents. To test permissions it writes and removes a " +
			"small record; in a bucket one small object stays until the next prune.",
		RunE: func(cmd *cobra.Command, _ []string) error { return c.showStore(cmd.Context()) },
	}

	inOrder(cmd, newStoreInitCommand(a), newStoreCopyCommand(a), newStoreVerifyCommand(a),
		newStorePruneCommand(a), newStoreRestoredCommand(a), newStoreRemoveCommand(a))
	return a.jsonFlag(cmd)
}

// working shows how far work on a store is.
func (a *app) working() (maintenance.Tell, func()) {
	progress := a.Busy("store", "")
	return func(what string, done, of int64) {
		text := fmt.Sprintf("%s: %s", what, console.Count(done, "", ""))
		if done == 1 {
			text = what + ": 1"
		}
		if of > 0 {
			text = fmt.Sprintf("%s: %d of %d", what, done, of)
		}
		progress.Text(text)
	}, progress.End
}

// What a store says of itself, and how that is found out:
//
//	answers    how long opening it took: one round trip and the proof of who asks
//	rights     by trying: a small record is written, replaced and removed, of each kind
//	strangers  of a bucket, by asking for its mark without credentials
//	holdings   by listing: a store of a million objects takes a while, so it shows how far it is
//
// That strangers can read a store is told by the status too. What is published is public, but a
// store also holds previews behind passwords, and who did what.

// showStore is orilla store: what kind of store it is, what it can do, how fast
// it answers, and how much it holds.
func (a *storeCmd) showStore(ctx context.Context) error {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return err
	}
	started := time.Now()
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}

	report := view.StoreReport{Store: store.Address(), Place: store.Address(), Answers: time.Since(started).
		Milliseconds(), Sites: []view.StoreSite{}}
	if remote, ok := store.(storage.Remote); ok {
		report.Place, report.Account = remote.Place(), remote.Account()
	}

	tell, end := a.working()
	site := ""
	if p != nil {
		site = p.Site()
	}

	err = a.examine(ctx, store, site, &report, tell)
	end()
	if err != nil {
		return err
	}

	if a.JSON {
		err = a.Document(report)
	} else {
		view.PrintStore(a.Console, report)
	}

	if err == nil && report.Strangers != nil && *report.Strangers {
		err = &exitError{int(fault.Findings)}
	}
	return err
}

// Who may see one site only is told of that one: lists of others are refused to them, and that is
// no fault of the store.

// examine fills in what the store says of itself.
func (a *storeCmd) examine(ctx context.Context, store storage.Store, site string, report *view.StoreReport,
	tell maintenance.Tell,
) (err error) {
	data, err := store.Get(ctx, storage.MarkKey)
	if err != nil {
		return err
	}
	report.ID, _ = storage.CheckMark(data)
	if report.Rights, err = maintenance.Rights(ctx, store); err != nil {
		return err
	}

	if bucket, ok := store.(*s3.Store); ok {
		readable, err := bucket.Stranger(ctx)
		if err != nil {
			return err
		}
		report.Strangers, report.Advice = &readable, bucket.Advise(ctx)
		if report.Roles, err = maintenance.Duties(ctx, store, site); err != nil {
			return err
		}
	}

	if report.Holdings, err = maintenance.Measure(ctx, store, tell); err != nil {
		return err
	}
	sites, err := maintenance.Sites(ctx, store)
	if errors.Is(err, storage.ErrDenied) && site != "" { // whoever deploys one site sees no other
		sites, err = []string{site}, nil
	}

	for _, site := range sites {
		row := view.StoreSite{Site: site}
		for folder, count := range map[string]*int{storage.ReleasesKey(site): &row.Releases,
			storage.EnvironmentsKey(site): &row.Environments} {
			for _, err := range store.List(ctx, folder) {
				if err != nil {
					return err
				}
				*count++
			}
		}
		report.Sites = append(report.Sites, row)
	}

	return err
}
