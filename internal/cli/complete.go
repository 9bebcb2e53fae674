package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
)

// completion says what there is, for shells that complete what is typed. It
// stays silent about trouble: the command itself will tell.
type completion struct{ *app }

// session opens the project and its store; nil if that cannot be done.
func (c completion) session(ctx context.Context) *session {
	places, err := site.FindPlaces()
	if err != nil {
		return nil
	}
	c.places = places
	s, err := c.app.session(ctx, "")
	if err != nil {
		return nil
	}
	return s
}

// environments proposes those that the configuration names, and the previews
// that are there. A store that cannot be reached proposes nothing: a shell that
// completes must not print errors.
func (c completion) environments(cmd *cobra.Command, _ []string, start string,
) ([]string, cobra.ShellCompDirective) {
	s := c.session(cmd.Context())
	if s == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, _ := s.environments(cmd.Context())
	for i := range names {
		names[i] = journal.DisplayName(names[i])
	}
	return beginning(names, start), cobra.ShellCompDirectiveNoFileComp
}

// branches proposes local branches.
func (c completion) branches(cmd *cobra.Command, _ []string, start string,
) ([]string, cobra.ShellCompDirective) {
	s := c.session(cmd.Context())
	if s == nil || s.project.Repository == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return beginning(s.project.Repository.Branches(cmd.Context()), start), cobra.ShellCompDirectiveNoFileComp
}

// commits proposes branches for the first argument; hashes are not worth
// completing.
func (c completion) commits(cmd *cobra.Command, args []string, start string,
) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return c.branches(cmd, args, start)
}

// releases proposes environments and, once something begins with r, the
// releases that were made last.
func (c completion) releases(cmd *cobra.Command, args []string, start string,
) ([]string, cobra.ShellCompDirective) {
	names, directive := c.environments(cmd, args, start)
	s := c.session(cmd.Context())
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

// beginning returns the words that begin with start.
func beginning(words []string, start string) []string {
	var found []string
	for _, word := range words {
		if strings.HasPrefix(word, start) {
			found = append(found, word)
		}
	}
	return found
}
