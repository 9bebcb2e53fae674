package cli

import (
	"bytes"
	"strings"
	"testing"

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
		})
		for _, sub := range command.Commands() {
			if !sub.Hidden && sub.Name() != "help" && sub.Name() != "completion" {
				each(sub, append(path[:len(path):len(path)], sub.Name()))
			}
		}
	}
	each((&app{Console: &console.Console{}}).root(), nil)
}
