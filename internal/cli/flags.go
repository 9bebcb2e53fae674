package cli

import "github.com/spf13/pflag"

// siteFlag adds --site to a command of one site. Empty, the site is the one
// that orilla.yaml names.
func siteFlag(flags *pflag.FlagSet, site *string) {
	flags.StringVar(site, "site", "", "the site's `NAME` (default: as in orilla.yaml)")
}

// onlySiteFlag adds --site to a command that goes over a whole store.
func onlySiteFlag(flags *pflag.FlagSet, site *string) {
	flags.StringVar(site, "site", "", "only the site of this `NAME` (default: all)")
}
