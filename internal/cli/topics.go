package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"orilla.example/orilla/docs"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/view"
)

// topic is a page of the documentation that the program carries with it, so that
// the binary alone is enough.
type topic struct {
	name, about string
	section     string // of the manual: 5 for formats, 7 for the rest
	text        string // Markdown
}

// topics are the pages that orilla help shows.
func topics() []topic {
	return []topic{
		{"configuration", "every key of orilla.yaml", "5", docs.Configuration},
		{"rules", "the language of redirects, rewrites, proxies and headers", "5", docs.Rules},
		{"answers", "which file answers at which address, headers, caching", "7", docs.Answers},
		{"edge-nodes", "serving sites from a server of your own", "7", docs.EdgeNodes},
		{"domains", "names, DNS records, one address for one page", "7", docs.Domains},
		{"notices", "notices by mail, webhook and command", "7", docs.Notices},
		{"page-pictures", "pictures of pages, and how they differ", "7", docs.Pictures},
		{"exit-statuses", "how commands end", "7", docs.ExitStatuses},
	}
}

// topicNames lists the pages that orilla help shows.
func topicNames() []string {
	var names []string
	for _, topic := range topics() {
		names = append(names, topic.name)
	}
	return names
}

func newHelpCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "help [COMMAND|TOPIC]", Short: "Show help for a command or a topic",
		Long: "Help shows what --help shows of a command, or one of these pages: " +
			strings.Join(topicNames(), ", ") + ".",
		Example: "orilla help deploy\norilla help configuration\norilla help rules",
		ValidArgsFunction: func(cmd *cobra.Command, _ []string, start string,
		) ([]string, cobra.ShellCompDirective) {
			names := topicNames()
			for _, command := range ordered(cmd.Root()) {
				names = append(names, command.Name())
			}
			return beginning(names, start), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error { return helpAbout(a, cmd.Root(), args) },
	}
}

// Topics and commands share one name space: a topic has no name that a command could
// have, so that both can be asked for with one word.

// helpAbout shows the help of a command, or a topic.
func helpAbout(a *app, root *cobra.Command, args []string) error {
	if len(args) == 0 {
		return root.Help()
	}
	for _, topic := range topics() {
		if len(args) == 1 && topic.name == args[0] {
			view.Topic(a.Console, topic.text)
			return nil
		}
	}

	command, rest, err := root.Find(args)
	if err == nil && len(rest) == 0 && command != root {
		return command.Help()
	}
	problem := fault.New(fault.Usage, "unknown-command", "no command or topic %q", strings.Join(args, " "))
	for _, name := range slices.Concat(topicNames(), root.SuggestionsFor(args[0])) {
		if strings.HasPrefix(name, args[0]) || slices.Contains(root.SuggestionsFor(args[0]), name) {
			problem = problem.Then("did you mean: orilla help %s", name)
		}
	}
	return problem.Then("orilla --help")
}

func newManCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write manual pages", Args: cobra.ExactArgs(1),
		Long: "Man writes a manual page for each command, and for each topic of orilla help, into " +
			"FOLDER, in the subfolders that man looks into.",
		Example: "orilla man ~/.local/share/man",
		RunE: func(cmd *cobra.Command, args []string) error {
			return writeMan(a, cmd.Root(), a.path(args[0]))
		},
	}
}

// writeMan writes manual pages into a folder: man1 has the commands, man5 and man7 the
// topics.
func writeMan(a *app, root *cobra.Command, folder string) error {
	fail := func(err error) error {
		return fault.New(fault.Failed, "unwritable", "cannot write the manual pages").At("%s", folder).
			Because(err)
	}
	for _, section := range []string{"man1", "man5", "man7"} {
		if err := os.MkdirAll(filepath.Join(folder, section), 0o755); err != nil {
			return fail(err)
		}
	}

	// The library's pages have no date unless they are given one; two runs of one
	// version then write the same bytes.
	root.DisableAutoGenTag = true
	header := &doc.GenManHeader{Section: "1", Source: "orilla " + version, Manual: "Orilla"}
	if err := doc.GenManTree(root, header, filepath.Join(folder, "man1")); err != nil {
		return fail(err)
	}
	for _, topic := range topics() {
		name := filepath.Join(folder, "man"+topic.section, "orilla-"+topic.name+"."+topic.section)
		// The head that man(7) wants: name, section, no date, source, manual.
		text := fmt.Sprintf(".TH \"ORILLA-%s\" \"%s\" \"\" \"orilla %s\" \"Orilla\"\n",
			strings.ToUpper(topic.name), topic.section, version) +
			".SH NAME\norilla-" + topic.name + " - " + topic.about + "\n" + view.Roff(topic.text)
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			return fail(err)
		}
	}

	a.Print("wrote manual pages to %s; try: man -M %s orilla-deploy", folder, folder)
	return nil
}
