package test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCtrlCKeepsWhatWasSent: it is not sent again, and the message says in which
// phase it was.
func TestCtrlCKeepsWhatWasSent(t *testing.T) {
	t.Parallel()
	t.Run("folder", func(t *testing.T) {
		t.Parallel()
		p := newPlace(t)
		p.interruptUpload(filepath.Join(p.home, "store"))
	})
	onServers(t, func(t *testing.T, p *place, store elsewhere) {
		t.Helper()
		p.ok("store", "init", store.address)
		p.interruptUpload(store.address)
	})
}

// interruptUpload interrupts an upload in its middle, and counts what the next one
// sends.
func (p *place) interruptUpload(store string) {
	p.t.Helper()
	files := map[string]string{"orilla.yaml": "site: corvane\nstore: " + store + "\nbuild: {output: dist}\n",
		"dist/index.html": "home"}
	for i := range 80 {
		files[fmt.Sprintf("dist/boat-%d.txt", i)] = noise(i, 50_000)
	}
	p.commit("Boats", files)
	var notes bytes.Buffer
	command := p.command(p.t.Context(), "deploy", "--rate", "1MB")
	command.Stderr = &notes
	require.NoError(p.t, command.Start())
	// At any moment in the upload it must hold, so this may be a bad guess, but not a
	// wrong one.
	time.Sleep(2500 * time.Millisecond) // it takes four seconds in all
	require.NoError(p.t, command.Process.Signal(os.Interrupt))
	require.Error(p.t, command.Wait())
	said := regexp.MustCompile(`interrupted during upload, after (\d+) of 81 files, (\d+) of them sent`).
		FindStringSubmatch(notes.String())
	require.NotNil(p.t, said, notes.String())
	sent, err := strconv.Atoi(said[2])
	require.NoError(p.t, err)
	assert.Positive(p.t, sent)
	assert.Contains(p.t, notes.String(), "build:1 has ended")
	assert.Contains(p.t, notes.String(), "production serves the same as before")
	again := document[uploaded](p, "deploy")
	assert.LessOrEqual(p.t, again.New, int64(81-sent), "%d were sent", sent)
	p.t.Logf("%d of 81 were sent, then %d", sent, again.New)
	assert.Equal(p.t, "interrupted", p.builds()[1].State)
}

// TestACheckThatNobodyFinishedIsSeen by whoever looks, and told by whoever comes
// next.
func TestACheckThatNobodyFinishedIsSeen(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	command := p.command(t.Context(), "deploy", "--wait-for", "sleep 60")
	require.NoError(t, command.Start())
	live := func() bool {
		_, _, status := p.run("status")
		return status == 0 && strings.Contains(p.ok("history"), "production:1")
	}
	require.Eventually(t, live, 30*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool { return len(p.objects()["running"]) == 1 }, 30*time.Second, 5*time.Millisecond)
	assert.NotContains(t, p.ok("history"), "not checked", "somebody does")
	require.NoError(t, command.Process.Kill())
	command.Wait() //nolint:errcheck // it was killed

	type row struct{ Unchecked string }
	status := document[struct{ Environments []row }](p, "status").Environments[0]
	assert.Contains(t, status.Unchecked, "its check (sleep 60) did not finish")
	assert.Contains(t, p.ok("status"), "not checked")
	assert.Contains(t, p.ok("history"), "not checked")
	assert.Len(t, p.objects()["running"], 1, "who looks writes nothing")

	p.commit("Second", map[string]string{"index.html": "two"})
	_, notes, code := p.run("deploy")
	assert.Zero(t, code)
	assert.Contains(t, notes, "production:1 went live, and its check (sleep 60) did not finish")
	assert.Empty(t, p.objects()["running"])
	_, notes, _ = p.run("deploy", "--again")
	assert.NotContains(t, notes, "did not finish", "it is told once")
	assert.Contains(t, p.ok("history"), "not checked", "and stays in the history")
}

// TestAFollowerThatIsEndedNamesItsBuilds, and the next one builds them.
func TestAFollowerThatIsEndedNamesItsBuilds(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	commit := p.commit("Slow", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['sleep 3; mkdir out; echo x > out/index.html'], output: out}\n"})
	f := p.follow()
	f.seen(t, "builds", "main", commit)
	require.NoError(t, f.command.Process.Signal(syscall.SIGTERM))
	f.seen(t, "interrupted", "main", commit)
	require.Eventually(t, func() bool { return p.builds()[0].State == "interrupted" }, 30*time.Second, 20*time.Millisecond)
	f.command.Wait() //nolint:errcheck // the build tells
	p.follow().seen(t, "live", "main", "")
}
