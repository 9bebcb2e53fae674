package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// completion says what there is, for shells that complete what is typed. It
// stays silent about trouble: the command itself will tell.
type completion struct{ *app }

// session opens the project and its store; nil if that cannot be done.
func (c completion) session(cmd *cobra.Command) *session {
	places, err := site.FindPlaces()
	if err != nil {
		return nil
	}
	c.places = places
	console.Quiet(c.Console) // a shell that completes must not print notes
	name := ""
	if flag := cmd.Flag("site"); flag != nil {
		name = flag.Value.String()
	}
	s, err := c.app.session(cmd.Context(), name)
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
	s := c.session(cmd)
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
	s := c.session(cmd)
	if s == nil || s.project.Repository == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return beginning(s.project.Repository.Branches(cmd.Context()), start), cobra.ShellCompDirectiveNoFileComp
}

// commits proposes branches and tags for the first argument; hashes are not worth
// completing.
func (c completion) commits(cmd *cobra.Command, args []string, start string,
) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, _ := c.branches(cmd, args, start)
	if s := c.session(cmd); s != nil && s.project.Repository != nil {
		names = append(names, beginning(source.Tags(cmd.Context(), s.project.Repository), start)...)
	}
	return names, cobra.ShellCompDirectiveDefault // folders and archives too
}

// mostProposed is how many entries or builds are proposed.
const mostProposed = 20

// entries proposes environments first, and then what an environment can go back to:
// its last entries, each with its commit, and tags.
func (c completion) entries(cmd *cobra.Command, args []string, start string,
) ([]string, cobra.ShellCompDirective) {
	name, _, colon := strings.Cut(start, ":")
	if len(args) == 0 && !colon {
		return c.environments(cmd, args, start)
	}
	s := c.session(cmd)
	if s == nil || len(args) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	if len(args) == 1 {
		name = args[0]
	}
	environment, err := s.named(cmd.Context(), name)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	head, err := s.head(cmd.Context(), environment)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}

	var found []string
	for entry, err := range s.journal(environment).Back(cmd.Context(), head.Number) {
		if err != nil || len(found) == mostProposed {
			break
		}
		if !entry.Release.IsZero() && entry.Kind.Activates() && strings.HasPrefix(entry.Label(), start) {
			about := strings.TrimSpace(source.Short(entry.Commit) + " " + entry.Subject)
			found = append(found, entry.Label()+"\t"+about)
		}
	}
	if s.project.Repository != nil {
		found = append(found, beginning(source.Tags(cmd.Context(), s.project.Repository), start)...)
	}
	return found, cobra.ShellCompDirectiveNoFileComp
}

// builds proposes the last builds, each with its commit.
func (c completion) builds(cmd *cobra.Command, args []string, start string,
) ([]string, cobra.ShellCompDirective) {
	s := c.session(cmd)
	if s == nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	runs, _ := lastRuns(cmd.Context(), s, "", mostProposed)
	var found []string
	for _, run := range runs {
		if strings.HasPrefix(run.Label(), start) {
			about := strings.TrimSpace(source.Short(run.Commit) + " " + run.Subject)
			found = append(found, run.Label()+"\t"+about)
		}
	}
	return found, cobra.ShellCompDirectiveNoFileComp
}

// sites proposes the sites of the store.
func (c completion) sites(cmd *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	places, err := site.FindPlaces()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	c.places = places
	p, err := c.load(cmd.Context())
	if err != nil && c.store == "" {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	store, err := c.openStore(cmd.Context(), p, false)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, _ := maintenance.Sites(cmd.Context(), store)
	return beginning(names, start), cobra.ShellCompDirectiveNoFileComp
}

// What a shell completes is asked for at each key, so everything here is bounded: the
// last entries and builds, a hundred tags. More than a screen helps nobody.

// completeSites proposes sites wherever a command takes one.
func completeSites(a *app, root *cobra.Command) {
	for _, command := range root.Commands() {
		completeSites(a, command)
		for _, name := range []string{"site", "to"} {
			// --to of other commands is an environment, and has its own.
			if command.Flag(name) != nil && (name == "site" || command.Parent().Name() == "domains") {
				command.RegisterFlagCompletionFunc(name, completion{a}.sites) //nolint:errcheck // once each
			}
		}
	}
}

// releases proposes environments and, once something begins with r, the
// releases that were made last.
func (c completion) releases(cmd *cobra.Command, args []string, start string,
) ([]string, cobra.ShellCompDirective) {
	names, directive := c.environments(cmd, args, start)
	s := c.session(cmd)
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
