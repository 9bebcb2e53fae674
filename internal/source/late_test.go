package source

import (
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAFolderGoesThatIsStillWrittenTo removes one while somebody makes files in it.
func TestAFolderGoesThatIsStillWrittenTo(t *testing.T) {
	t.Parallel()
	folder := filepath.Join(t.TempDir(), "git")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "objects"), 0o755))
	ended := make(chan bool)
	go func() {
		defer close(ended)
		for i, until := 0, time.Now().Add(300*time.Millisecond); time.Now().Before(until); i++ {
			//nolint:errcheck // it may be gone by now
			os.WriteFile(filepath.Join(folder, "objects", strconv.Itoa(i)), nil, 0o644)
		}
	}()
	time.Sleep(20 * time.Millisecond)
	require.NoError(t, removeAll(folder))
	<-ended
	assert.NoDirExists(t, folder)
}
