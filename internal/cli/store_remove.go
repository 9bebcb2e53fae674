package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/view"
)

// storeRemoveCmd removes what is left of a store without sites.
type storeRemoveCmd struct{ *app }

func newStoreRemoveCommand(a *app) *cobra.Command {
	c := &storeRemoveCmd{app: a}
	var yes bool
	cmd := &cobra.Command{
		Use: "remove", Short: "Delete a store that has no sites any more", Args: cobra.NoArgs,
		Long: "Remove deletes everything that is left of a store without sites, so that its folder " +
			"or bucket can be deleted. Remove the sites first: orilla remove-site. It asks before " +
			"it deletes.",
		Example: "orilla store remove --store s3://corvane/old",
		RunE:    func(cmd *cobra.Command, _ []string) error { return c.storeRemove(cmd.Context(), yes) },
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "assume yes to every prompt")
	return a.jsonFlag(dryFlag(a, cmd))
}

// storeRemove is orilla store remove.
func (a *storeRemoveCmd) storeRemove(ctx context.Context, yes bool) error {
	store, err := openAlone(ctx, a.app)
	if err != nil {
		return err
	}

	if err := a.unused(ctx, store); err != nil {
		return err
	}
	if !yes {
		sure, err := a.Confirm(ctx, "Delete this store?", store.Address()+" stops being a store.", false)
		if errors.Is(err, console.ErrNobody) || err == nil && !sure {
			return fault.New(fault.Refused, "not-confirmed", "deleting a store needs a confirmation").
				At("%s", store.Address()).Then("run it on a terminal, or add --yes")
		}
		if err != nil {
			return err
		}
	}

	tell, end := a.working()
	removed, err := maintenance.RemoveStore(ctx, store, a.Now().Add(storage.KnownAhead(store)), tell)
	end()
	if errors.Is(err, maintenance.ErrInUse) {
		return fault.New(fault.Refused, "busy", "somebody is at work in this store").
			At("%s", store.Address()).
			Then("try again after that; a command that was killed counts for a quarter of an hour")
	}
	if err != nil {
		return err
	}
	return a.Result(view.StoreRemovedReport{Store: store.Address(), Removed: removed}, func() {
		a.Print("%s %s: %s", console.Good("removed"), store.Address(),
			console.Count(int64(removed), "key", "keys"))
		a.Hint("next:", "its folder or bucket can be deleted now")
	})
}

// unused refuses a store that has sites, or edge nodes that serve from it.
func (a *storeRemoveCmd) unused(ctx context.Context, store storage.Store) error {
	sites, err := maintenance.Sites(ctx, store)
	if err != nil {
		return err
	}
	if len(sites) > 0 {
		problem := fault.New(fault.Refused, "has-sites", "the store still has %s: %s",
			console.Count(int64(len(sites)), "site", "sites"), strings.Join(sites, ", ")).
			At("%s", store.Address())
		return problem.Then("remove them first: orilla remove-site %s", sites[0])
	}
	nodes, err := edge.Nodes(ctx, store, storage.KnownAhead(store))
	if err != nil || len(nodes) == 0 {
		return err
	}
	problem := fault.New(fault.Refused, "has-nodes", "%s still running on this store",
		console.Count(int64(len(nodes)), "edge node is", "edge nodes are")).At("%s", store.Address())
	for _, node := range nodes {
		problem = problem.With(node.Node + " at " + node.Address)
	}
	return problem.Then("stop them first; a node that was killed counts for a minute")
}
