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
	"orilla.example/orilla/internal/pipeline"
)

func (a *app) storeRestoredCommand() *cobra.Command {
	var yes bool
	var why string
	cmd := &cobra.Command{
		Use: "restored", Short: "Say that the store was brought back from a copy, so that edge nodes go back too", Args: cobra.NoArgs,
		Long: "An edge node never answers from an earlier entry than it did, and forgets no site, only because the store says less than before: that\n" +
			"may be an older copy, or one that is not whole. After a backup was brought back on purpose, this lets all nodes go back to what the\n" +
			"store says now. Nodes that are started afterwards need it not.",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.storeRestored(cmd.Context(), why, yes) },
	}
	cmd.Flags().StringVarP(&why, "message", "m", "", "say why")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return a.jsonFlag(cmd)
}

func (a *app) storeRestored(ctx context.Context, why string, yes bool) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	if !yes {
		ok, err := a.Confirm(ctx, "Let all edge nodes go back to what this store says?", "What was live after the copy was made is then live no more: "+store.Address(), false)
		if errors.Is(err, console.ErrNobody) || err == nil && !ok {
			return fault.New(fault.Refused, "not-confirmed", "edge nodes go back only if somebody says so").At("%s", store.Address()).Then("run it on a terminal, or add --yes")
		}
		if err != nil {
			return err
		}
	}
	said := record.Restored{Format: 1, Who: p.Person(ctx), When: time.Now().UTC().Truncate(time.Second), Why: why}
	data, err := said.Encode()
	if err != nil {
		return err
	}
	if err := store.Create(ctx, storage.RestoredKey+"/"+strings.ToLower(rand.Text()), data); err != nil {
		return pipeline.StoreTrouble(store, err)
	}
	if a.JSON {
		return a.Document(said)
	}
	a.Print("%s: edge nodes go back to what %s says, within ten seconds", console.Good("said"), store.Address())
	a.Note("%s orilla status", console.Accent("next:"))
	return nil
}
