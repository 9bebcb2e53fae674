package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
)

// storeRestoredCmd is what orilla store restored does.
type storeRestoredCmd struct{ *app }

func newStoreRestoredCommand(a *app) *cobra.Command {
	c := &storeRestoredCmd{app: a}
	var yes bool
	var why string
	cmd := &cobra.Command{
		Use: "restored", Short: "Accept a restored backup at the edge nodes",
		Args: cobra.NoArgs,
		Long: "An edge node never goes back to an earlier entry, and never forgets a site, only " +
			"because the store says less than before: the store may be an old copy, or incomplete. " +
			"After you restored a backup on purpose, this command lets all running nodes go back " +
			"to what the store says. Restarted nodes do not need it.",
		Example: "orilla store restored -m \"disk failed, Monday's backup\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return c.storeRestored(cmd.Context(), why,
				yes)
		},
	}

	cmd.Flags().StringVarP(&why, "message", "m", "", "the `REASON`, kept in the history")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "assume yes to every prompt")
	return a.jsonFlag(dryFlag(a, cmd))
}

// storeRestored is orilla store restored. Edge nodes never go back to an
// earlier entry only because the store says less than before, since it may be
// an old copy; this notes that it is one on purpose, and lets them.
func (a *storeRestoredCmd) storeRestored(ctx context.Context, why string, yes bool) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}

	if !yes {
		ok, err := a.Confirm(ctx, "Let all edge nodes go back to what this store says?",
			"Everything published after the backup goes offline: "+store.Address(), false)
		if errors.Is(err, console.ErrNobody) || err == nil && !ok {
			return fault.New(fault.Refused, "not-confirmed",
				"letting edge nodes go back needs a confirmation").At("%s", store.Address()).
				Then("run it on a terminal, or add --yes")
		}
		if err != nil {
			return err
		}
	}

	said := record.Restored{Format: 1, Who: p.Person(ctx), When: time.Now().UTC().Truncate(time.Second),
		Why: why}
	data, err := said.Encode()
	if err != nil {
		return err
	}

	if err := store.Create(ctx, storage.RestoredKey+"/"+strings.ToLower(rand.Text()), data); err != nil {
		return err
	}
	return a.Result(said, func() {
		a.Print("%s: edge nodes go back to %s within ten seconds", console.Good("recorded"), store.Address())
		a.Hint("next:", "orilla status")
	})
}
