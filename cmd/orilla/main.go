// Command orilla builds, publishes and serves static sites.
package main

import (
	"os"

	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/cli"
	"orilla.example/orilla/internal/process"
)

func main() {
	steps.KeeperIfAsked()
	process.Harden()
	os.Exit(cli.Main(os.Args[1:]))
}
