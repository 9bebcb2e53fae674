package cli

import (
	"os"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/standin/pagebrowser"
)

// The descriptors by which a browser is driven (Chromium, --remote-debugging-pipe).
const (
	commandsDescriptor = 3
	answersDescriptor  = 4
)

// Nobody starts it by hand: it is started by what takes pictures, with the descriptors and the options that
// a browser would get.

func newStandInBrowserCommand(*standInCmd) *cobra.Command {
	return &cobra.Command{
		Use: "browser", Short: "Draw pages as rows of blocks, for --browser stand-in",
		Long: "The stand-in is driven as Chromium is, through a pipe, and draws each word of a page as a " +
			"row of blocks. It is started by whatever takes pictures: orilla pictures --browser stand-in.",
		Example:            "orilla pictures --browser stand-in",
		DisableFlagParsing: true, // they are those of a browser
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 && (args[0] == "--help" || args[0] == "-h") {
				return cmd.Help()
			}
			from, to := os.NewFile(commandsDescriptor, "commands"), os.NewFile(answersDescriptor, "answers")
			if _, err := from.Stat(); err != nil {
				return fault.New(fault.Usage, "usage", "no pipe to drive the stand-in through").
					Then("orilla pictures --browser stand-in")
			}
			return pagebrowser.Serve(from, to)
		},
	}
}
