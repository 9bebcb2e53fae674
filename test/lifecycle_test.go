package test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnInterruptedBuildLeavesNothing interrupts a deploy
// in the middle of a step that has children.
func TestAnInterruptedBuildLeavesNothing(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	marker := filepath.Join(t.TempDir(), "running")
	step := fmt.Sprintf("sleep 300 & touch %s; wait", marker)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['" + step +
		"'], output: out}\n", "index.html": "x"})
	var notes bytes.Buffer
	command := p.command(t.Context(), "deploy")
	command.Stderr = &notes
	require.NoError(t, command.Start())
	require.Eventually(t, func() bool { _, err := os.Stat(marker); return err == nil }, 30*time.Second,
		10*time.Millisecond)
	started := time.Now()
	require.NoError(t, command.Process.Signal(os.Interrupt))
	err := command.Wait()
	exit, _ := errors.AsType[*exec.ExitError](err)
	require.NotNil(t, exit)
	assert.Equal(t, 1, exit.ExitCode())
	assert.Less(t, time.Since(started), 10*time.Second)
	assert.Contains(t, notes.String(), "interrupted")
	assert.Empty(t, p.objects()["journal"])
	assert.Empty(t, p.objects()["running"], "nobody waits for it")
	out, _ := exec.Command("ps", "-A", "-o", "args").Output()
	assert.NotContains(t, string(out), marker)

	p.commit("Slow", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['sleep 300'], " +
		"output: out, time_limit: 1s}\n"})
	p.fails(5, "longer than 1s", "deploy")
}

// TestGoingBackWithAWrongConfiguration: the moment in which something is wrong is
// not the one in which nothing works.
func TestGoingBackWithAWrongConfiguration(t *testing.T) {
	t.Parallel()
	for name, committed := range map[string]bool{"in the working tree": false, "on the production branch": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t)
			p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
			p.ok("deploy")
			p.commit("Second", map[string]string{"index.html": "two"})
			p.ok("deploy")
			wrong := map[string]string{"orilla.yaml": "site: corvane\nbuild: [\n"}
			if p.write(wrong); committed {
				p.commit("Wrong", wrong)
			}
			for _, command := range [][]string{{"status"}, {"history"}, {"builds"}, {"log"}, {"rollback"},
				{"freeze", "production"}, {"thaw", "production"}} {
				_, notes, status := p.run(command...)
				assert.Zero(t, status, "%q: %s", command, notes)
				assert.Contains(t, notes, "orilla.yaml:2:8", "%q", command)
			}
			p.fails(2, "orilla.yaml:2:8", "deploy")
			p.fails(2, "orilla.yaml:2:8", "promote", "production", "--to", "production")
			p.fails(2, "orilla.yaml:2:8", "serve")
		})
	}
}

// TestEdgeNodesComeAndGo has two nodes on one store; one is restarted.
func TestEdgeNodesComeAndGo(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	first := p.edge()
	d := document[deployed](p, "deploy")
	assert.Equal(t, []int{1, 1}, []int{d.EdgeNodes, d.EdgeServing})
	t.Run("a second node", func(t *testing.T) {
		second := (&place{t: t, folder: p.folder, home: p.home}).edge()
		require.Eventually(t, func() bool {
			status, _ := get(t, second, "corvane.localhost",
				"/")
			return status == 200
		}, 30*time.Second, 5*time.Millisecond)
		p.commit("Second", map[string]string{"index.html": "two"})
		d := document[deployed](p, "deploy")
		assert.Equal(t, []int{2, 2}, []int{d.EdgeNodes, d.EdgeServing})
		for _, address := range []string{first, second} {
			_, body := get(t, address, "corvane.localhost", "/")
			assert.Equal(t, "two", body)
		}
	})
	p.commit("Third", map[string]string{"index.html": "three"})
	d = document[deployed](p, "deploy")
	assert.Equal(t, []int{1, 1}, []int{d.EdgeNodes, d.EdgeServing}, "the node that ended has said so")
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close() //nolint:errcheck // only an address
	p.fails(1, "this address is already in use", "edge", "--listen", taken.Addr().String())
}

func TestATagASubmoduleAndAFolderOfARepository(t *testing.T) {
	t.Parallel()
	islands := newPlace(t)
	islands.commit("Islands", map[string]string{"oskra.html": "Oskra"})
	p := newPlace(t)
	p.commit("First", map[string]string{"web/orilla.yaml": "site: corvane\nbuild: {run: ['mkdir out; cp " +
		"index.html islands/* out/'], output: out}\n", "web/index.html": "one", "README.md": "x"})
	p.git("-c", "protocol.file.allow=always", "submodule", "--quiet", "add", islands.folder, "web/islands")
	p.git("commit", "-q", "-m", "Islands")
	p.git("tag", "v1.0")
	p.commit("Second", map[string]string{"web/index.html": "two"})
	p.folder = filepath.Join(p.folder, "web")
	p.fails(2, "v1.0 is not a branch", "deploy", "v1.0")
	assert.EqualValues(t, 2, document[deployed](p, "deploy", "v1.0", "--to", "production").Files)
	p.ok("deploy")
	assert.Contains(t, p.ok("files", "production"), "/oskra")
	type back struct{ Commit string }
	assert.Equal(t, p.git("rev-parse", "v1.0^{commit}"), document[back](p, "rollback", "v1.0").Commit)
	require.NoError(t, os.MkdirAll(filepath.Join(p.folder, "deep", "er"), 0o755))
	p.folder = filepath.Join(p.folder, "deep", "er")
	assert.Contains(t, p.ok("status"), "corvane", "a command finds the project above")
	assert.Contains(t, p.ok("__complete", "rollback", ""), "production")
	assert.Contains(t, p.ok("__complete", "rollback", "production", ""), " Islands\nproduction:2\t",
		"an entry says what it was")
	assert.Contains(t, p.ok("__complete", "log", ""), "build:")
	assert.Contains(t, p.ok("__complete", "deploy", ""), "v1.0")
	assert.Contains(t, p.ok("__complete", "status", "--site", ""), "corvane")
}

func TestATarballOnStandardInput(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	var archive bytes.Buffer
	compressed := gzip.NewWriter(&archive)
	w := tar.NewWriter(compressed)
	for name, text := range map[string]string{"./out/index.html": "hello",
		"./out/boats/index.html": "boats"} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(text))}))
			_, err := w.Write([]byte(text))
			require.NoError(t, err)
		})
	}
	require.NoError(t, errors.Join(w.Close(), compressed.Close()))
	deploy := func(data []byte) (string, error) {
		command := p.command(t.Context(), "deploy", "--from", "-", "--site", "corvane", "--to", "production",
			"--yes")
		command.Stdin = bytes.NewReader(data)
		out, err := command.CombinedOutput()
		return string(out), err
	}
	out, err := deploy(archive.Bytes())
	require.NoError(t, err, out)
	assert.Contains(t, p.ok("files", "production", "--site", "corvane"), "/boats/")
	out, err = deploy(archive.Bytes()[:60])
	require.Error(t, err)
	assert.Contains(t, out, "standard input")
	assert.Len(t, p.objects()["journal"], 1, "what is live is as it was")
}

func TestPathsAreRelativeToTheFolderOfTheOption(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"project/orilla.yaml": "site: corvane\n", "project/dist/index.html": "hello"})
	p.ok("-C", "project", "deploy", "--from", "dist", "--store", "../store", "--to", "production", "--yes")
	assert.FileExists(t, filepath.Join(p.folder, "store", "orilla-store"))
	assert.Contains(t, p.ok("-C", "project", "files", "dist"), "index.html")
	assert.Contains(t, p.ok("-C", "project", "status", "--store", "../store"), "live")
	p.ok("demo", "--once", "--into", "story")
	assert.DirExists(t, filepath.Join(p.folder, "story", "corvane"))
}

// TestTwoRepositoriesThatWantOneName race for it.
func TestTwoRepositoriesThatWantOneName(t *testing.T) {
	t.Parallel()
	home := filepath.Join(t.TempDir(), "home")
	var runs sync.WaitGroup
	var mutex sync.Mutex
	statuses := map[int]int{}
	for i := range 4 {
		p := newPlace(t)
		p.home = home
		p.commit(fmt.Sprint("Repository ", i), map[string]string{"orilla.yaml": "site: corvane\n",
			"index.html": fmt.Sprint(i)})
		runs.Go(func() {
			_, _, status := p.run("deploy")
			mutex.Lock()
			defer mutex.Unlock()
			statuses[status]++
		})
	}
	runs.Wait()
	assert.Equal(t, map[int]int{0: 1, 3: 3}, statuses)
}
