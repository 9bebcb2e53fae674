package cli

import (
	"os"
	"testing"

	"orilla.example/orilla/internal/steps"
)

// TestMain lets the processes that run build steps be this program.
func TestMain(m *testing.M) {
	steps.KeeperIfAsked()
	os.Exit(m.Run())
}
