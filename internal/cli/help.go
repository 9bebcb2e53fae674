package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/view"
)

// helpWidth is how wide help is, whatever the terminal: a line longer than this
// is hard to read, and logs and man pages have no width of their own.
const helpWidth = 80

// group is a heading of orilla --help with its commands.
type group struct {
	title    string
	commands []*cobra.Command
}

// orderOf is the annotation that says where a command stands among its
// neighbours. The library sorts by name, and a reader looks for the next step.
const orderOf = "order"

// inOrder adds commands below another one, in the order of the work.
func inOrder(parent *cobra.Command, commands ...*cobra.Command) {
	for i, command := range commands {
		if command.Annotations == nil {
			command.Annotations = map[string]string{}
		}
		command.Annotations[orderOf] = strconv.Itoa(i)
		command.Flags().SortFlags = false
		parent.AddCommand(command)
	}
}

// ordered returns the commands below one that a reader may use, in the order of
// the work; those without an order stand last, by name.
func ordered(parent *cobra.Command) []*cobra.Command {
	place := func(command *cobra.Command) int {
		if n, err := strconv.Atoi(command.Annotations[orderOf]); err == nil {
			return n
		}
		return 1000
	}
	list := slices.DeleteFunc(slices.Clone(parent.Commands()), func(command *cobra.Command) bool {
		return !command.IsAvailableCommand() && command.Name() != "help"
	})
	slices.SortStableFunc(list, func(a, b *cobra.Command) int { return place(a) - place(b) })
	return list
}

// printHelp prints what a command is for and how it is used. It replaces the library's
// template: that one wraps nothing, and sorts commands by name.
func printHelp(cmd *cobra.Command, groups []group) {
	out := cmd.OutOrStdout()
	//nolint:errcheck // nobody to tell
	say := func(format string, args ...any) { fmt.Fprintf(out, format+"\n", args...) }
	say("%s", paragraphs(cmp.Or(cmd.Long, cmd.Short)))
	heading := func(text string) { say("\n%s", console.Strong(text)) }

	if !cmd.HasParent() {
		helpGroups(out, heading, groups)
	} else {
		heading("Usage:")
		say("  %s", usageLine(cmd))
		if list := ordered(cmd); len(list) > 0 {
			heading("Commands:")
			helpCommands(out, list)
		}
	}
	if cmd.Example != "" {
		heading("Examples:")
		for line := range strings.Lines(cmd.Example) {
			say("  %s", strings.TrimRight(line, "\n"))
		}
	}

	heading("Options:")
	everywhere := cmd.Root().PersistentFlags()
	helpFlags(out, cmd.Flags(), func(name string) bool { return everywhere.Lookup(name) == nil })
	heading("Options of every command:")
	helpFlags(out, everywhere, func(string) bool { return true })

	if !cmd.HasParent() {
		say("\n%s", paragraphs("orilla COMMAND --help shows the options of a command; orilla help TOPIC "+
			"has more on "+strings.Join(topicNames(), ", ")+"."))
	} else if len(ordered(cmd)) > 0 {
		say("\n%s COMMAND --help shows the options of a command.", cmd.CommandPath())
	}
}

// helpGroups lists all commands under their headings.
func helpGroups(out io.Writer, heading func(string), groups []group) {
	for _, group := range groups {
		heading(group.title + ":")
		helpCommands(out, group.commands)
	}
}

// A command's sentence begins with a verb and has one object; details are in its own
// help. So the list can be read down, and stays within the width.

// helpCommands lists commands, each with what it is for.
func helpCommands(out io.Writer, commands []*cobra.Command) {
	for _, command := range commands {
		fmt.Fprintf(out, "  %-12s %s\n", command.Name(), command.Short) //nolint:errcheck // nobody to tell
	}
}

// usageLine is how a command is typed.
func usageLine(cmd *cobra.Command) string {
	line := cmd.CommandPath()
	if _, arguments, ok := strings.Cut(cmd.Use, " "); ok {
		line += " " + arguments
	}
	if cmd.HasAvailableSubCommands() && !cmd.Runnable() {
		return line + " COMMAND"
	}
	return line + " [OPTIONS]"
}

// Options keep the order in which they were declared, which is that of their use: what
// is published, where to, how, and what happens besides. An order by name would put
// --again before --to.

// helpFlags lists options. Each begins at the left edge of one column, and what
// it does stands in a second one, whose width does not depend on the longest name.
func helpFlags(out io.Writer, flags *pflag.FlagSet, shown func(name string) bool) {
	const column = 27
	flags.VisitAll(func(flag *pflag.Flag) {
		if flag.Hidden || flag.Deprecated != "" || !shown(flag.Name) {
			return
		}
		placeholder, about := pflag.UnquoteUsage(flag)
		if flag.Name == "help" {
			about = "show this help" // the library's text names the command once more
		}
		name := "      --" + flag.Name
		if flag.Shorthand != "" {
			name = "  -" + flag.Shorthand + ", --" + flag.Name
		}
		if placeholder != "" {
			name += " " + placeholder
		}
		if shown := shownDefault(flag); shown != "" && !strings.Contains(about, "default") {
			about += " (default: " + shown + ")"
		}

		lines := view.Wrap(about, helpWidth-column)
		if len(name) > column-2 {
			lines = append([]string{""}, lines...)
		}
		for i, line := range lines {
			if i > 0 {
				name = ""
			}
			//nolint:errcheck // nobody to tell
			fmt.Fprintln(out, strings.TrimRight(fmt.Sprintf("%-*s%s", column, name, line), " "))
		}
	})
}

// shownDefault is the preset of an option, "" for none that says anything.
func shownDefault(flag *pflag.Flag) string {
	switch flag.DefValue {
	case "", "0", "false", "[]", ".", "0s":
		return ""
	}
	return flag.DefValue
}

// Texts are written without line breaks in the source, so that a word can be changed
// without setting the lines after it anew.

// paragraphs wraps a text; an empty line divides paragraphs.
func paragraphs(text string) string {
	parts := strings.Split(strings.TrimSpace(text), "\n\n")
	for i, part := range parts {
		parts[i] = strings.Join(view.Wrap(part, helpWidth), "\n")
	}
	return strings.Join(parts, "\n\n")
}
