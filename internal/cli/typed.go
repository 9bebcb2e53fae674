package cli

import (
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// What Orilla prints as a command works as printed, in the folder where it was
// printed. The texts are made below the command line, in packages that know nothing
// of options, so they name a command and its arguments only; the options that it
// needs besides are added here, once, on the way to the screen.

// printed finds commands in what is printed: the program's name, and words.
var printed = regexp.MustCompile(`\borilla((?: [a-z][a-z-]*)+)`)

// typed completes the commands in a text, so that they work where the running
// command was typed: each gets the options -C, --store and --site that this one
// was given, unless it has its own.
//
//	orilla thaw production   ->   orilla thaw -C site --site harbour production
func typed(root, running *cobra.Command, text string) string {
	if running == nil || !strings.Contains(text, "orilla ") {
		return text
	}
	var out strings.Builder
	at := 0
	for _, place := range printed.FindAllStringIndex(text, -1) {
		command, rest, err := root.Find(strings.Fields(text[place[0]:place[1]])[1:])
		if err != nil || command == root || command.Name() == "help" {
			continue
		}
		// What follows the command may have the option already.
		completed := command.CommandPath()
		for _, option := range carried(running, command) {
			if !strings.Contains(text[place[1]:]+" ", " "+strings.Fields(option)[0]+" ") {
				completed += " " + option
			}
		}
		out.WriteString(text[at:place[0]] + strings.Join(append([]string{completed}, rest...), " "))
		at = place[1]
	}
	return out.String() + text[at:]
}

// carried lists the options of the running command that another one needs too, to
// mean the same folder, store and site, and to ask the same.
func carried(running, command *cobra.Command) []string {
	var options []string
	for _, one := range []struct{ name, typed string }{
		{"directory", "-C"}, {"store", "--store"}, {"site", "--site"},
		{"resolver", "--resolver"}, {"authority", "--authority"},
	} {
		flag := running.Flag(one.name)
		if flag == nil || !flag.Changed || command.Flag(one.name) == nil {
			continue
		}
		options = append(options, one.typed+" "+shellWord(flag.Value.String()))
	}
	return options
}

// plainWords are characters that no shell reads as anything but themselves.
const plainWords = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./:@%+=,"

// shellWord writes a text as one word of a shell command.
func shellWord(text string) string {
	if text != "" && !slices.ContainsFunc([]rune(text), func(c rune) bool {
		return !strings.ContainsRune(plainWords, c)
	}) {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}
