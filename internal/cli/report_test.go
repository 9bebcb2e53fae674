package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
)

// A command that is waited for prints when no phase of the
// deploy is going on, or after a notice has taken the line away.
func TestALineBetweenPhasesHasAPlaceInATerminal(t *testing.T) {
	t.Parallel()
	screen := console.New()
	screen.ErrTerm = true
	report := &reporter{app: &app{Console: screen}}

	report.Line("before any phase")
	assert.NotNil(t, report.progress)

	report.Notice(fault.Notice{What: "the edge node is slow"})
	assert.Nil(t, report.progress)
	report.Line("after a notice")
	assert.NotNil(t, report.progress)
	report.end()
}
