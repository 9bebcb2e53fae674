package cli

import (
	"context"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/source"
)

func (a *app) hookCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "hook", Short: "Wake orilla follow from Git's own hooks, at once", Args: cobra.NoArgs,
		Long: "Hook adds a line to the Git hooks of this repository that run after a commit, a merge, a rewrite and a push to it. The line does nothing but\n" +
			"wake an orilla follow that watches the repository. Hooks that are there stay as they are.",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	for _, one := range []struct {
		name, short string
		do          func(*source.Repository, context.Context) ([]source.Hook, error)
	}{
		{"install", "Add the line to the hooks", (*source.Repository).InstallHooks}, {"remove", "Take it out again", (*source.Repository).RemoveHooks},
	} {
		cmd.AddCommand(a.jsonFlag(&cobra.Command{
			Use: one.name, Short: one.short, Args: cobra.NoArgs,
			RunE: func(cmd *cobra.Command, _ []string) error {
				p, err := a.load(cmd.Context())
				if err != nil {
					return err
				}
				if p.Repository == nil {
					return fault.New(fault.Usage, "no-repository", "there is no Git repository here, so it has no hooks").At("%s", p.Root)
				}
				hooks, err := one.do(p.Repository, cmd.Context())
				if err != nil {
					return err
				}
				return a.reportHooks(hooks)
			},
		}))
	}
	return cmd
}

func (a *app) reportHooks(hooks []source.Hook) error {
	if a.JSON {
		return a.Document(hooks)
	}
	for _, hook := range hooks {
		text := map[string]string{source.HookMade: console.Good("made"), source.HookAdded: console.Good("line added") + ", the rest stays as it was", source.HookThere: "was there already",
			source.HookRemoved: console.Good("removed"), source.HookTakenOut: console.Good("line taken out") + ", the rest stays as it was", source.HookAbsent: "has no such line",
			source.HookForeign: console.Warn("left alone") + ": it is no shell script; have it make the file orilla.wake in the repository's .git folder"}[hook.State]
		a.Print("%-14s %s  %s", hook.Name, text, console.Faint(hook.Path))
	}
	return nil
}
