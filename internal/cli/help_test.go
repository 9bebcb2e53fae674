package cli

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/golden"
)

// helpOf returns what --help prints of a command.
func helpOf(t *testing.T, path ...string) string {
	t.Helper()
	var out bytes.Buffer
	a := &app{Console: &console.Console{Out: &colorprofile.Writer{Forward: &out, Profile: colorprofile.NoTTY}}}
	root := a.root()
	root.SetOut(a.Out)
	root.SetErr(a.Out)
	root.SetArgs(append(path, "--help"))
	require.NoError(t, root.ExecuteContext(t.Context()))
	return out.String()
}

// TestHelp holds what each command says of itself. A new command needs a file of
// its own: go test ./internal/cli -update writes it.
func TestHelp(t *testing.T) {
	t.Parallel()
	var each func(command *cobra.Command, path []string)
	each = func(command *cobra.Command, path []string) {
		name := strings.Join(append([]string{"orilla"}, path...), " ")
		t.Run(name, func(t *testing.T) {
			help := helpOf(t, path...)
			golden.Equal(t, "help/"+strings.ReplaceAll(name, " ", "-"), help)
			assert.NotContains(t, help, "\t")
			for line := range strings.Lines(help) {
				assert.LessOrEqual(t, len(strings.TrimRight(line, "\n")), 80, line)
			}
			assert.NotRegexp(t, `--\S+ (string|strings|stringArray|int|duration)\b`, help,
				"each placeholder is a word")
			assert.True(t, command.Example != "" || len(path) == 0, "each command has an example")
		})
		for _, sub := range command.Commands() {
			if !sub.Hidden && sub.Name() != "help" && sub.Name() != "completion" {
				each(sub, append(path[:len(path):len(path)], sub.Name()))
			}
		}
	}
	each((&app{Console: &console.Console{}}).root(), nil)
}

// TestTopics shows each page of the documentation that the program carries, in 80
// columns but for what is shown as it is, and as a manual page.
func TestTopics(t *testing.T) {
	t.Parallel()
	for _, topic := range topics() {
		t.Run(topic.name, func(t *testing.T) {
			t.Parallel()
			var out bytes.Buffer
			a := &app{Console: &console.Console{Out: &colorprofile.Writer{Forward: &out, Profile: colorprofile.NoTTY}}}
			require.NoError(t, helpAbout(a, a.root(), []string{topic.name}))
			shown := out.String()
			assert.NotContains(t, shown, "](", "links have no marks")
			for line := range strings.Lines(shown) {
				if !strings.HasPrefix(line, "    ") {
					assert.LessOrEqual(t, lipgloss.Width(strings.TrimRight(line, "\n")), 80, line)
				}
			}
		})
	}
	a := &app{Console: &console.Console{Out: io.Discard}, folder: "."}
	folder := t.TempDir()
	require.NoError(t, writeMan(a, a.root(), folder))
	for _, page := range []string{"man1/orilla-deploy.1", "man1/orilla-preview-share.1", "man5/orilla-rules.5", "man7/orilla-answers.7"} {
		data, err := os.ReadFile(filepath.Join(folder, page))
		require.NoError(t, err)
		assert.Contains(t, string(data), ".SH NAME")
		assert.NotContains(t, string(data), "\n.\n", "no line of text is taken for a macro")
	}
	require.ErrorContains(t, helpAbout(a, a.root(), []string{"ruels"}), `no command or topic "ruels"`)
}

// TestPrintedCommandsAreCompleted adds what the running command was given.
func TestPrintedCommandsAreCompleted(t *testing.T) {
	t.Parallel()
	root := (&app{Console: &console.Console{}}).root()
	running, _, err := root.Find([]string{"status"})
	require.NoError(t, err)
	require.NoError(t, running.ParseFlags([]string{"-C", "my site", "--store", "s3://corvane/sites?region=x", "--site", "harbour"}))
	const options = "-C 'my site' --store 's3://corvane/sites?region=x'"
	for text, want := range map[string]string{
		"orilla thaw production":                   "orilla thaw " + options + " --site harbour production",
		"or go back: orilla rollback production:3": "or go back: orilla rollback " + options + " --site harbour production:3",
		"orilla preview share winter-times --revoke": "orilla preview share " + options + " --site harbour " +
			"winter-times --revoke",
		"orilla edge": "orilla edge " + options,
		"orilla store verify --store /srv/copy": "orilla store verify " +
			"-C 'my site' --site harbour --store /srv/copy",
		"orilla sites, orilla status --site x":            "orilla sites " + options + ", orilla status " + options + " --site x",
		"nothing of Orilla's, and orilla nothing":         "nothing of Orilla's, and orilla nothing",
		"git add orilla.yaml && git commit -m \"orilla\"": "git add orilla.yaml && git commit -m \"orilla\"",
	} {
		assert.Equal(t, want, typed(root, running, text))
	}
	assert.Equal(t, "orilla thaw", typed(root, nil, "orilla thaw"), "before a command runs")
}
