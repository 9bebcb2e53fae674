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
		Example: "orilla version --json",
		Use:     "version", Short: "Print the version and the store formats", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			report := view.VersionReport{Version: version, Go: runtime.Version(), System: runtime.GOOS + "/" +
				runtime.GOARCH,
				Releases: release.Format, Semantics: release.Semantics3, Journals: journal.Format,
				Reads: storage.Known}
			report.Commit = revision()
			if a.JSON {
				return a.Document(report)
			}
			a.Print("orilla %s, %s, %s; releases %d, semantics %d, journals %d", programVersion(),
				report.System, report.Go,
				report.Releases, report.Semantics, report.Journals)
			return nil
		},
	}
	return a.jsonFlag(cmd)
}

// revision is the commit that the program was built from, "" if it does not say.
func revision() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, setting := range info.Settings {
			if setting.Key == "vcs.revision" {
				return setting.Value
			}
		}
	}
	return ""
}

// programVersion is the program's version, as --version prints it.
func programVersion() string {
	if commit := revision(); commit != "" {
		return version + " (" + source.Short(commit) + ")"
	}
	return version
}
