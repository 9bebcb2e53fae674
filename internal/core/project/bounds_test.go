package project_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
)

// TestConfigurationsThatAreTooMuch reads what somebody may
// commit to keep whoever reads it busy.
func TestConfigurationsThatAreTooMuch(t *testing.T) {
	t.Parallel()
	var bomb strings.Builder
	bomb.WriteString("site: a\npreviews:\n  settings:\n    a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&bomb, "    a%d: &a%d [%s]\n", i, i,
			strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d,", i-1), 10), ","))
	}
	block := "site: a\npreviews:\n  settings:\n"
	for i := range 3000 {
		block += strings.Repeat(" ", min(4+i, 80)) + "a:\n"
	}
	for name, text := range map[string]string{
		"aliases of aliases": bomb.String(), "an alias to itself": "site: a\npreviews: {settings: &a [*a]}\n",
		"many levels": "site: " + strings.Repeat("[", 50_000),
		"very long":   "site: a\n" + strings.Repeat("# x\n", 100_000), "levels in lines": block,
	} {
		t.Run(name, func(t *testing.T) {
			parsed := make(chan error, 1)
			go func() {
				_, err := project.Parse([]byte(text), "orilla.yaml")
				parsed <- err
			}()
			select {
			case err := <-parsed:
				require.Error(t, err)
				assert.Equal(t, "config", fault.Code(err))
				assert.Less(t, len(err.Error()), 10_000)
			case <-time.After(20 * time.Second):
				require.Fail(t, "it is still parsed")
			}
		})
	}
	_, err := project.Parse([]byte(
		"site: a\nenvironments:\n  production: {settings: {harbours: &all "+
			"[Oskra, Tamsel], ferries: *all}}\n"), "orilla.yaml")
	require.NoError(t, err, "aliases as people use them")
}
