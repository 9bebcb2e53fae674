package cli

import "github.com/spf13/pflag"

// siteFlag adds --site to a command of one site. Empty, the site is the one
// that orilla.yaml names.
func siteFlag(flags *pflag.FlagSet, site *string) {
	flags.StringVar(site, "site", "", "the site's name (default: as orilla.yaml says)")
}

// onlySiteFlag adds --site to a command that goes over a whole store.
func onlySiteFlag(flags *pflag.FlagSet, site *string) {
	flags.StringVar(site, "site", "", "only this site (default: all)")
}
