package test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the program says where a plain message would send people the wrong way: each of
// these was once an error that was none, or one that named something else.

// TestAMissingProgramNamesWhatWouldInstallIt where a fresh checkout lacks what lies on
// the developer's machine.
func TestAMissingProgramNamesWhatWouldInstallIt(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	files := map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: [no-such-generator], output: out}\n",
		"package.json": `{"scripts": {"build": "no-such-generator"}, "devDependencies": {"tides": "1"}}`, "package-lock.json": "{}"}
	p.commit("First", files)
	p.fails(5, "in orilla.yaml: build: {prepare: [npm ci]}", "deploy")
	files["orilla.yaml"] = "site: corvane\nbuild: {run: [sh build.sh], output: out}\n"
	files["build.sh"] = "no-such-generator\n"
	p.commit("In a script", files)
	p.fails(5, "in orilla.yaml: build: {prepare: [npm ci]}", "deploy")
	files["orilla.yaml"] = "site: corvane\nbuild: {prepare: ['true'], run: [sh build.sh], output: out}\n"
	p.commit("Prepared", files)
	assert.NotContains(t, p.fails(5, "status 127", "deploy"), "fresh checkout")
}

// TestInitTakesTheStoreThatWasNamed, wherever it was typed.
func TestInitTakesTheStoreThatWasNamed(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"site/index.html": "home", "elsewhere/x": ""})
	p.ok("-C", "site", "init", "--yes", "--store", "../releases")
	text, err := os.ReadFile(filepath.Join(p.folder, "site", "orilla.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "store: ../releases")
	p.ok("-C", "site", "deploy", "--working-tree", "--to", "production", "--yes")
	assert.DirExists(t, filepath.Join(p.folder, "releases"))
	out := p.ok("-C", "elsewhere", "init", "--dry-run", "--yes", "--output", ".", "--store", "s3://corvane/site?region=x")
	assert.Contains(t, out, `s3://corvane/site?region=x`)
}

// TestWhoeverLeavesALogHasSeenEnough: the build goes on, and nothing failed.
func TestWhoeverLeavesALogHasSeenEnough(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("Slow", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['echo casting off; sleep 4; mkdir out; echo x > out/index.html'], output: out}\n"})
	deploy := p.command(t.Context(), "deploy")
	require.NoError(t, deploy.Start())
	require.Eventually(t, func() bool {
		out, _, _ := p.run("builds")
		return strings.Contains(out, "sleep 4")
	}, 30*time.Second, 20*time.Millisecond)
	var out, notes bytes.Buffer
	log := p.command(t.Context(), "log")
	log.Stdout, log.Stderr = &out, &notes
	require.NoError(t, log.Start())
	time.Sleep(1500 * time.Millisecond)
	require.NoError(t, log.Process.Signal(os.Interrupt))
	require.NoError(t, log.Wait(), notes.String())
	assert.Contains(t, notes.String(), "build:1 is still running: orilla log build:1 follows it again")
	assert.NotContains(t, notes.String(), "error")
	require.NoError(t, deploy.Wait())
}

// TestANodeCountsWhatItFindsFirst, where that is more than anybody reads.
func TestANodeCountsWhatItFindsFirst(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	p.ok("deploy")
	for i := range 10 {
		p.ok("promote", "production", "--to", fmt.Sprint("preview/boat-", i), "--yes")
	}
	var out bytes.Buffer
	command := p.command(t.Context(), "edge", "--listen", freeAddress(t))
	command.Stdout = &out
	require.NoError(t, command.Start())
	require.Eventually(t, func() bool { return len(p.objects()["edges"]) == 1 }, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, command.Process.Signal(os.Interrupt))
	require.NoError(t, command.Wait())
	assert.Regexp(t, `^\S+  11 environments of 1 site live  loaded in \S+ m?s\n$`, out.String())
}
