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
		Use: "hook", Short: "Wake orilla follow from Git's own hooks, at once", Args: cobra.NoArgs,
		Long: "Hook adds a line to the Git hooks of this repository that run after a commit, a merge, a " +
			"rewrite and a push to it. The line does nothing but\n" +
			"wake an orilla follow that watches the repository. Hooks that are there stay as they are.",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}

	for _, one := range []struct {
		name, short string
		do          func(context.Context, *source.Repository) ([]source.Hook, error)
	}{
		{"install", "Add the line to the hooks", source.InstallHooks},
		{"remove", "Take it out again", source.RemoveHooks},
	} {
		cmd.AddCommand(a.jsonFlag(&cobra.Command{
			Use: one.name, Short: one.short, Args: cobra.NoArgs,
			RunE: func(cmd *cobra.Command, _ []string) error {
				p, err := a.load(cmd.Context())
				if err != nil {
					return err
				}
				if p.Repository == nil {
					return fault.New(fault.Usage, "no-repository",
						"there is no Git repository here, so it has no hooks").At("%s", p.Root)
				}

				hooks, err := one.do(cmd.Context(), p.Repository)
				if err != nil {
					return err
				}
				return view.ReportHooks(a.Console, hooks)
			},
		}))
	}

	return cmd
}
