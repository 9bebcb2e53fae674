package cli

import (
	"context"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

func newHookCommand(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Example: "orilla hook install",
		Use:     "hook", Short: "Install Git hooks that notify orilla follow", Args: cobra.NoArgs,
		Long: "The hooks run after a commit, merge, rebase or push to this repository and notify a " +
			"running orilla follow at once. Existing hooks keep working.",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}

	var subs []*cobra.Command
	for _, one := range []struct {
		name, short string
		do          func(context.Context, *source.Repository, bool) ([]source.Hook, error)
	}{
		{"install", "Install the hooks", source.InstallHooks},
		{"remove", "Remove the hooks", source.RemoveHooks},
	} {
		subs = append(subs, a.jsonFlag(dryFlag(a, &cobra.Command{
			Use: one.name, Short: one.short, Args: cobra.NoArgs,
			Example: "orilla hook " + one.name,
			RunE: func(cmd *cobra.Command, _ []string) error {
				p, err := a.load(cmd.Context())
				if err != nil {
					return err
				}
				if p.Repository == nil {
					return fault.New(fault.Usage, "no-repository",
						"no Git repository here").At("%s", p.Root).
						Then("run it in the repository, or with its folder: -C FOLDER")
				}

				hooks, err := one.do(cmd.Context(), p.Repository, a.dry)
				if err != nil {
					return err
				}
				return view.ReportHooks(a.Console, hooks)
			},
		})))
	}

	inOrder(cmd, subs...)
	return cmd
}
