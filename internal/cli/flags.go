package cli

import (
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"orilla.example/orilla/internal/console"
)

// siteFlag adds --site to a command of one site. Empty, the site is the one
// that orilla.yaml names.
func siteFlag(flags *pflag.FlagSet, site *string) {
	flags.StringVar(site, "site", "", "the site's `NAME` (default: as in orilla.yaml)")
}

// onlySiteFlag adds --site to a command that goes over a whole store.
func onlySiteFlag(flags *pflag.FlagSet, site *string) {
	flags.StringVar(site, "site", "", "only the site of this `NAME` (default: all)")
}

// dryFlag adds --dry-run to a command: it runs as it would, on a store that forgets
// what is written, and asks nothing. So it refuses what the command would refuse.
func dryFlag(a *app, cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&a.dry, "dry-run", false, "show what would change, without doing it")
	// Around the command and not in it: what it prints is what it would print, and the
	// frame says that it is not so.
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !a.dry {
			return run(cmd, args)
		}
		a.Assume = true
		a.Note("%s", console.Faint("dry run: nothing of this is really done"))
		err := run(cmd, args)
		if err == nil {
			a.Note("%s", console.Faint("--dry-run changed nothing"))
		}
		return err
	}
	return cmd
}
