package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// version is what releases of the program are called; a
// build from source adds its commit.
const version = "0.1.0"

func newVersionCommand(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use: "version", Short: "The version of the program, and of the formats it writes", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			report := view.VersionReport{Version: version, Go: runtime.Version(), System: runtime.GOOS + "/" +
				runtime.GOARCH,
				Releases: release.Format, Semantics: release.Semantics3, Journals: journal.Format,
				Reads: storage.Known}
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, setting := range info.Settings {
					if setting.Key == "vcs.revision" {
						report.Commit = setting.Value
					}
				}
			}

			if a.JSON {
				return a.Document(report)
			}
			commit := ""
			if report.Commit != "" {
				commit = " (" + source.Short(report.Commit) + ")"
			}

			a.Print("orilla %s%s, %s, %s; releases %d, semantics %d, journals %d", version, commit,
				report.System, report.Go,
				report.Releases, report.Semantics, report.Journals)
			return nil
		},
	}
	return a.jsonFlag(cmd)
}
