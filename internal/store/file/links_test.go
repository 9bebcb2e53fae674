package file

import (
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNamesAreGivenWithoutReplacing holds both ways of giving a name to the
// same promise: of many one wins, and the loser's file stays as it was.
func TestNamesAreGivenWithoutReplacing(t *testing.T) {
	t.Parallel()
	for name, give := range map[string]func(from, to string) error{"by a rename": renameNew,
		"by a link": linkNew} {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			var winners atomic.Int32
			var writers sync.WaitGroup
			for i := range 8 {
				from := filepath.Join(folder, string(rune('a'+i)))
				require.NoError(t, os.WriteFile(from, []byte(from), 0o644))
				writers.Go(func() {
					err := give(from, filepath.Join(folder, "taken"))
					if err == nil {
						winners.Add(1)
						assert.NoFileExists(t, from)
						return
					}
					require.ErrorIs(t, err, fs.ErrExist)
					assert.FileExists(t, from)
				})
			}
			writers.Wait()
			assert.EqualValues(t, 1, winners.Load())
			require.ErrorIs(t, give(filepath.Join(folder, "nowhere"), filepath.Join(folder, "free")),
				fs.ErrNotExist)
		})
	}
}

func TestAFileIsWrittenOnce(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "once")
	disk := realDisk{}
	require.NoError(t, disk.Write(path, []byte("first")))
	require.ErrorIs(t, disk.Write(path, []byte("second")), fs.ErrExist)
	require.NoError(t, disk.SyncFile(path))
	require.NoError(t, disk.SyncFolder(filepath.Dir(path)))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "first", string(data))
	require.NoError(t, disk.Remove(path))
	require.NoError(t, disk.Remove(path), "removing what is gone is no error")
}
