package devserver_test

import (
	"os"
	"testing"

	"orilla.example/orilla/internal/builder"
)

// TestMain lets the processes that run build steps be this program.
func TestMain(m *testing.M) {
	builder.KeeperIfAsked()
	os.Exit(m.Run())
}
