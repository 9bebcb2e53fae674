package site_test

import (
	"os/user"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/site"
)

// TestAServiceHasNoHome finds folders where nothing says where they are, as for a service that a
// system starts: those of the user as the system knows that user.
func TestAServiceHasNoHome(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("its folders are no variables of a shell")
	}
	for _, name := range []string{"HOME", "ORILLA_HOME", "XDG_CACHE_HOME", "XDG_DATA_HOME"} {
		t.Setenv(name, "")
	}
	own, err := user.Current()
	require.NoError(t, err)
	places, err := site.FindPlaces()
	require.NoError(t, err)
	for _, folder := range []string{places.Data, places.Cache} {
		below, err := filepath.Rel(own.HomeDir, folder)
		require.NoError(t, err)
		assert.True(t, filepath.IsLocal(below), folder)
	}
}
