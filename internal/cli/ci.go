package cli

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/source"
)

// ciOptions are the files in which a CI system wants to read what a step did.
type ciOptions struct{ outputs, summary string }

func (o *ciOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.outputs, "outputs", "", "add what came of it to `FILE`, a line NAME=VALUE each, for later steps of CI")
	cmd.Flags().StringVar(&o.summary, "summary", "", "add a few lines of Markdown about it to `FILE`")
}

// outputValues is what came of a deploy.
type outputValues struct {
	URL, ReleaseURL, Release, Environment, Entry, Commit, Subject, Why string
	Changed, Reused                                                    bool
	Took                                                               time.Duration
}

// write adds to both files, as far as they were asked for.
func (o ciOptions) write(v outputValues) error {
	var lines strings.Builder
	for _, line := range [][2]string{{"url", v.URL}, {"release_url", v.ReleaseURL}, {"release", v.Release}, {"environment", v.Environment}, {"entry", v.Entry},
		{"commit", v.Commit}, {"changed", fmt.Sprint(v.Changed)}, {"reused", fmt.Sprint(v.Reused)}} {
		fmt.Fprintf(&lines, "%s=%s\n", line[0], line[1]) //nolint:errcheck // a builder takes everything
	}
	if err := appendTo(o.outputs, lines.String()); err != nil {
		return err
	}
	return appendTo(o.summary, v.markdown())
}

func (v outputValues) markdown() string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format, args...) } //nolint:errcheck // a builder takes everything
	if v.Entry == "" {
		say("### %s: nothing to do\n\n`%s` %s: %s\n\n", v.Environment, source.Short(v.Commit), escapeMarkdown(v.Subject), v.Why)
		return out.String()
	}
	say("### %s is live\n\n", v.Environment)
	say("| | |\n|---|---|\n| address | %s |\n| commit | `%s` %s |\n| release | [`%s`](%s) |\n| entry | `%s` |\n", v.URL, source.Short(v.Commit), escapeMarkdown(v.Subject), v.Release, v.ReleaseURL, v.Entry)
	how := "built in " + console.Took(v.Took)
	if v.Reused {
		how = "not built: the same content was built before; live in " + console.Took(v.Took)
	}
	if v.Took > 0 {
		say("| build | %s |\n", how)
	}
	say("\n")
	return out.String()
}

func escapeMarkdown(text string) string {
	return strings.NewReplacer("|", `\|`, "<", "&lt;", "`", "\\`", "[", `\[`).Replace(text)
}

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
		return fault.New(fault.Failed, "unwritable", "what came of it could not be written down").At("%s", path).Because(err).Then("what is live is live; look at the path that --outputs or --summary names")
	}
	return nil
}
