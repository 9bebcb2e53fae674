package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
)

// Completions say what there is, and stay silent about trouble: the command itself will tell.

func (a *app) completionSession(ctx context.Context) *session {
	places, err := site.FindPlaces()
	if err != nil {
		return nil
	}
	a.places = places
	s, err := a.session(ctx, "")
	if err != nil {
		return nil
	}
	return s
}

func (a *app) completeEnvironments(cmd *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	s := a.completionSession(cmd.Context())
	if s == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, _ := s.environments(cmd.Context())
	for i := range names {
		names[i] = journal.DisplayName(names[i])
	}
	return beginning(names, start), cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeBranches(cmd *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	s := a.completionSession(cmd.Context())
	if s == nil || s.project.Repository == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return beginning(s.project.Repository.Branches(cmd.Context()), start), cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeCommits(cmd *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return a.completeBranches(cmd, args, start)
}

func (a *app) completeReleases(cmd *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
	names, directive := a.completeEnvironments(cmd, args, start)
	s := a.completionSession(cmd.Context())
	if s == nil || !strings.HasPrefix(start, "r") {
		return names, directive
	}
	for item, err := range s.store.List(cmd.Context(), storage.ReleasesKey(s.site)) {
		if err != nil || len(item.Name()) < 10 {
			break
		}
		names = append(names, "r-"+item.Name()[:10])
	}
	return beginning(names, start), directive
}

func beginning(words []string, start string) []string {
	var found []string
	for _, word := range words {
		if strings.HasPrefix(word, start) {
			found = append(found, word)
		}
	}
	return found
}
