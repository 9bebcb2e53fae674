package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/view"
)

// newEdgeListCommand is orilla edge list: the nodes of the store, as they are now.
func newEdgeListCommand(a *app) *cobra.Command {
	var site string
	cmd := &cobra.Command{
		Use: "list", Short: "List the edge nodes of a store, and what each serves", Args: cobra.NoArgs,
		Long: "List asks all edge nodes of the store how they are: what they serve of the site, how " +
			"full their caches are, and whether they reach the store. What a node says counts if it " +
			"is signed with the key that the store has of it, or that orilla.yaml names (edge_keys).",
		Example: "orilla edge list\n" +
			"orilla edge list --json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.session(cmd.Context(), site)
			if err != nil {
				return err
			}
			list, environments := askNodes(cmd.Context(), s)
			return a.Result(list, func() { view.PrintNodes(a.Console, list, environments) })
		},
	}
	siteFlag(cmd.Flags(), &site)
	return a.jsonFlag(cmd)
}

// Only the environments that orilla.yaml names are asked for: previews are many, and each of
// them tells in orilla status how many nodes serve it.

// askNodes asks all nodes what they serve of the site's fixed environments, and returns also
// which of these any node serves.
func askNodes(ctx context.Context, s *session) (list []view.NodeReport, environments []string) {
	look := map[string]int64{}
	for _, name := range s.fixed() {
		look[name] = 0
	}
	list = []view.NodeReport{}
	for _, c := range s.calls(ctx).Wake(ctx, look) {
		list = append(list, view.ReportNode(c))
	}
	slices.SortFunc(list, func(a, b view.NodeReport) int { return strings.Compare(a.Node, b.Node) })
	for _, name := range s.fixed() {
		shown := journal.DisplayName(name)
		if slices.ContainsFunc(list, func(n view.NodeReport) bool { return n.Serves[shown] != "" }) {
			environments = append(environments, shown)
		}
	}
	return list, environments
}
