package build_test

import (
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

// deadProcess returns the number of a process that has ended.
func deadProcess(t *testing.T) int {
	t.Helper()
	command := exec.CommandContext(t.Context(), "git", "version")
	require.NoError(t, command.Run())
	return command.Process.Pid
}

// A builder may be killed after it took a number and before its lease says
// which: its run must end all the same.
func TestARunEndsWhoseBuilderDiedBeforeItSaidItsNumber(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	here, err := os.Hostname()
	require.NoError(t, err)
	runs := builds.Runs{Store: store, Site: "corvane"}
	began := time.Date(2026, 5, 2, 6, 30, 0, 123456789, time.UTC)
	begun := builds.Begun{Key: "abc", Source: journal.FromCommit, Commit: "c0ffee", Cause: "follow",
		Who: "Ines Marrow", Where: here, When: began}

	earlier := begun
	earlier.When = began.Add(-time.Hour) // of the same, and somebody else's
	other, err := runs.Begin(t.Context(), earlier, 0)
	require.NoError(t, err)
	killed, err := runs.Begin(t.Context(), begun, 0)
	require.NoError(t, err)
	lease, err := record.Encode(build.Running{Format: 1, Begun: begun, Process: deadProcess(t)})
	require.NoError(t, err)
	at := storage.RunningKey("corvane", "abc")
	require.NoError(t, store.Create(t.Context(), at+".lease", lease))

	require.NoError(t, build.BuryLost(t.Context(), store, "corvane"))
	run, err := runs.Get(t.Context(), killed.Number)
	require.NoError(t, err)
	require.NotNil(t, run.Ended, "nobody else will ever end it")
	assert.Equal(t, builds.Abandoned, run.Ended.Outcome)
	run, err = runs.Get(t.Context(), other.Number)
	require.NoError(t, err)
	assert.Nil(t, run.Ended, "another one of the same key is not touched")
	_, err = store.Get(t.Context(), at+".lease")
	require.ErrorIs(t, err, storage.ErrNotFound)
}
