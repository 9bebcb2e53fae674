package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// removeSiteCmd is what orilla remove site does.
type removeSiteCmd struct{ *app }

func newRemoveSiteCommand(a *app) *cobra.Command {
	c := &removeSiteCmd{app: a}
	var keepName, yes bool
	cmd := &cobra.Command{
		Example:           "orilla remove-site harbour",
		ValidArgsFunction: completion{a}.sites,
		Use:               "remove-site SITE", Short: "Delete a site with all its releases",
		Args: cobra.ExactArgs(1),
		Long: "Remove-site takes all environments of a site offline and removes its releases, " +
			"builds and history. The name becomes free, unless --keep-name is given. It asks you " +
			"to type the name. Run orilla store prune afterwards to free the disk space.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.removeSite(cmd.Context(), args[0], keepName, yes)
		},
	}

	cmd.Flags().BoolVar(&keepName, "keep-name", false,
		"keep the name, so that nobody else can take it")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "assume yes to every prompt")
	return a.jsonFlag(dryFlag(a, cmd))
}

// In this order, so that whatever ends it half way leaves nothing that answers by halves:
//
//	environments   end first: each journal gets its last entry, and nodes stop answering
//	releases       then what nothing leads to any more: roots, builds, history
//	the name       last; until it is free, nobody else can take it and find what is left
//	DNS            is not ours: which names still lead here is said at the end
//
// Run again, it goes on where it was.

// removeSite is orilla remove-site: it removes all of a site and, unless
// keepName, frees its name. It cannot be undone, so it asks for the name to be
// typed.
func (a *removeSiteCmd) removeSite(ctx context.Context, name string, keepName, yes bool) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}

	if _, err := a.chosenSites(ctx, store, name); err != nil {
		return err
	}
	if a.dry { // without waiting for anybody who is at work there
		return a.wouldRemove(ctx, p, store, name)
	}
	if !yes {
		check := func(typed string) error {
			if typed != name {
				return fmt.Errorf("type %s to remove it, or press Ctrl-C", name)
			}
			return nil
		}

		_, err := a.Input(ctx, "Type the name of the site to remove it", "All environments of "+name+
			" go offline at once, and its history is deleted for good.", "", check)
		if errors.Is(err, console.ErrNobody) {
			return fault.New(fault.Refused, "not-confirmed",
				"removing a name needs a confirmation: its name, typed").At("%s", name).
				Then("run it on a terminal, or add --yes")
		}
		if err != nil {
			return err
		}
	}

	// Found out before it is gone. What cannot be read keeps nobody from removing the site.
	left := leftNames(ctx, &session{project: p, store: store, site: name})
	tell, end := a.working()
	removed, err := maintenance.RemoveSite(ctx, store, name, p.Person(ctx), keepName,
		func(waiting []pins.Waiting) { view.ShowWaiting(a.Console, waiting) }, tell)
	end()
	if err != nil {
		return err
	}

	return a.Result(view.RemoveSiteReport{Site: name, Removed: removed, KeptName: keepName,
		Names: left}, func() {
		a.Print("%s %s: %s", console.Good("removed"), console.Strong(name),
			console.Count(int64(removed), "record", "records"))
		a.Hint("next:", "to free its disk space: orilla store prune")
		sayNames(a.app, left)
	})
}

// Records that still lead to the edge are a danger once the site is gone: whoever gets the host from
// another site of the store answers at a name that people trust. So they are named, though nothing
// here can remove them.

// leftNames lists the hosts of a site that DNS knows, with the wildcard for those of previews.
func leftNames(ctx context.Context, s *session) (list []string) {
	on, err := hostsInUse(ctx, s)
	if err != nil {
		return nil
	}
	for host, on := range on {
		preview := !slices.ContainsFunc(on, func(e string) bool { return !strings.HasPrefix(e, "preview/") })
		if wildcard := hosts.Wildcard(host); preview && wildcard != "" {
			host = wildcard
		}
		if names.IsPublic(host) && !slices.Contains(list, host) {
			list = append(list, host)
		}
	}
	slices.Sort(list)
	return list
}

// sayNames says which records are left for a person to take away. Somebody else who gets one of
// those addresses one day would answer for the name.
func sayNames(a *app, list []string) {
	if len(list) == 0 {
		return
	}
	a.Note("%s DNS still leads to your edge nodes: %s", console.Warn("left:"), strings.Join(list, ", "))
	a.Hint("next:",
		"remove these records where the domain is managed; if Orilla set them, in the project's folder: "+
			"orilla domains records --remove")
}

// wouldRemove says what a removal would take offline and delete.
func (a *removeSiteCmd) wouldRemove(ctx context.Context, p *site.Project, store storage.Store, name string,
) error {
	s := &session{project: p, store: store, site: name}
	states, err := environments.States(ctx, store, name, nil, nil)
	if err != nil {
		return err
	}
	report := view.RemoveSiteReport{Site: name, DryRun: true}
	for _, state := range states {
		if state.Head != nil && !state.Head.Gone(a.Now()) {
			report.Live = append(report.Live, journal.DisplayName(state.Name))
		}
	}
	report.Names = leftNames(ctx, s)
	for _, err := range store.List(ctx, storage.ReleasesKey(s.site)) {
		if err != nil {
			return err
		}
		report.Removed++
	}
	return a.Result(report, func() {
		for _, environment := range report.Live {
			a.Print("would go offline: %s", environment)
		}
		a.Print("would be deleted: %s, and the history of %s", console.Count(int64(report.Removed), "release",
			"releases"), console.Count(int64(len(states)), "environment", "environments"))
		sayNames(a.app, report.Names)
	})
}
