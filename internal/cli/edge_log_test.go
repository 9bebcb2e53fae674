package cli

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/httpanswer"
)

// TestWhatHappenedBeforeAReloadIsInTheOldLog: whoever moves a log away, has it opened again
// and then compresses it has all of it.
func TestWhatHappenedBeforeAReloadIsInTheOldLog(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("no SIGHUP, and files that are open stay where they are")
	}
	folder := t.TempDir()
	events, requests := filepath.Join(folder, "node.log"), filepath.Join(folder, "access.log")
	a := &edgeCmd{app: &app{Console: &console.Console{}}}
	w, err := a.openWritten(project.EdgeConfig{Log: events,
		AccessLog: project.EdgeAccessLog{File: requests, Format: "json"}})
	require.NoError(t, err)
	defer w.close()
	writes := w.to(a.app)
	for i, name := range []string{"first", "second", "third"} {
		writes.tell(httpanswer.Event{Kind: "store", Text: name})
		w.visited(&visits.Visit{Path: "/" + name})
		if i == 2 {
			break
		}
		for _, file := range []string{events, requests} {
			require.NoError(t, os.Rename(file, file+"."+name))
		}
		require.NoError(t, w.reopen())
		for _, file := range []string{events, requests} {
			data, err := os.ReadFile(file + "." + name)
			require.NoError(t, err)
			assert.Contains(t, string(data), name)
			data, err = os.ReadFile(file)
			require.NoError(t, err)
			assert.Empty(t, string(data))
		}
	}
}
