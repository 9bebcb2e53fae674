package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/view"
)

// ciOptions are the files in which a CI system wants to read what a step did.
type ciOptions struct{ outputs, summary string }

// flags adds what later steps of CI read. Both files are written to their end,
// since CI hands the same file to every step of a job.
func (o *ciOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.outputs, "outputs", "",
		"append results to `FILE`, a line NAME=VALUE each, for later steps of CI")
	cmd.Flags().StringVar(&o.summary, "summary", "", "add a few lines of Markdown about it to `FILE`")
}

// write adds to both files, as far as they were asked for.
func (o ciOptions) write(v view.OutputValues) error {
	var lines strings.Builder
	// All names every time, so that a later step never meets one that is not
	// set.
	for _, line := range [][2]string{{"url", v.URL}, {"release_url", v.ReleaseURL}, {"release", v.Release},
		{"environment", v.Environment}, {"entry", v.Entry},
		{"commit", v.Commit}, {"changed", fmt.Sprint(v.Changed)}, {"reused", fmt.Sprint(v.Reused)}} {
		fmt.Fprintf(&lines, "%s=%s\n", line[0], line[1])
	}

	if err := appendTo(o.outputs, lines.String()); err != nil {
		return err
	}
	return appendTo(o.summary, v.Markdown())
}

// appendTo adds a text to the end of a file, which is made if it is not there.
// An empty path does nothing.
func appendTo(path, text string) error {
	if path == "" {
		return nil
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err == nil {
		_, err = file.WriteString(text)
		if closed := file.Close(); err == nil {
			err = closed
		}
	}
	if err != nil {
		return fault.New(fault.Failed, "unwritable", "the results could not be written").
			At("%s", path).Because(err).
			Then("what is live is live; look at the path that --outputs or --summary names")
	}

	return nil
}
