// Command orilla builds, publishes and serves static sites.
package main

import (
	"os"

	"orilla.example/orilla/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
