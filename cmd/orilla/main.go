// Command orilla builds, publishes and serves static sites.
package main

import (
	"os"

	"orilla.example/orilla/internal/cli"
	"orilla.example/orilla/internal/encoder"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/steps"
)

// main is the keeper of a build's steps, or an encoder, if it was started as one, and
// the command line otherwise.
func main() {
	steps.KeeperIfAsked()
	process.Harden()
	encoder.IfAsked()
	os.Exit(cli.Main(os.Args[1:]))
}
