// Package test drives the built program as a user does.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
)

// program is the path of the built program.
var program string

// What is waited for comes soon, but on a machine that is busy elsewhere.
const (
	patience = 30 * time.Second
	tick     = 10 * time.Millisecond
)

func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "orilla-test-")
	if err == nil {
		program = filepath.Join(folder, "orilla")
		build := exec.Command("go", "build", "-buildvcs=false", "-o", program, "../cmd/orilla")
		build.Stderr = os.Stderr
		err = build.Run()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	status := m.Run()
	os.RemoveAll(folder) //nolint:errcheck // in the system's temporary folder
	os.Exit(status)
}

// place is a folder with a home of its own for the program.
type place struct {
	t      *testing.T
	folder string // where commands run
	home   string
	env    []string // besides the test's own
	// as are variables besides, by what the command does
	// with the store; nil for none.
	as map[storage.Role][]string
}

// roleOf is what a command does with a store.
func roleOf(args []string) storage.Role {
	switch all := strings.Join(args, " "); {
	case strings.HasPrefix(all, "edge"):
		return storage.Edge
	case strings.HasPrefix(all, "store init"):
		return storage.Owner
	case strings.HasPrefix(all, "store prune"), strings.HasPrefix(all, "store verify"), strings.HasPrefix(all,
		"remove-site"):
		return storage.Pruner
	}
	return storage.Deployer
}

func newPlace(t *testing.T) *place {
	t.Helper()
	p := &place{t: t, folder: filepath.Join(t.TempDir(), "corvane"), home: filepath.Join(t.TempDir(), "home")}
	require.NoError(t, os.MkdirAll(p.folder, 0o755))
	t.Cleanup(func() { onlyKnownKeys(t, filepath.Join(p.home, "store")) })
	return p
}

// onlyKnownKeys makes sure that a store in a folder holds
// no key that the table of rights does not know.
func onlyKnownKeys(t *testing.T, root string) {
	t.Helper()
	//nolint:errcheck // it may not be there, or be damaged
	filepath.WalkDir(root, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return nil //nolint:nilerr // it may not be there
		}
		key, _ := filepath.Rel(root, path)
		key = filepath.ToSlash(key)
		_, known := storage.KindOf(key)
		assert.True(t, known || strings.HasPrefix(key, "tmp/"), "no right is given for %s", key)
		return nil
	})
}

func (p *place) command(ctx context.Context, args ...string) *exec.Cmd {
	command := exec.CommandContext(ctx, program, args...)
	command.Dir = p.folder
	command.Env = append(os.Environ(), "ORILLA_HOME="+p.home, "GIT_CONFIG_GLOBAL="+os.DevNull,
		"GIT_CONFIG_NOSYSTEM=1", "ORILLA_RESOLVER=none",
		"GIT_AUTHOR_NAME=Ines Marrow", "GIT_AUTHOR_EMAIL=ines@corvane.example",
		"GIT_COMMITTER_NAME=Ines Marrow", "GIT_COMMITTER_EMAIL=ines@corvane.example")
	command.Env = append(append(command.Env, p.env...), p.as[roleOf(args)]...)
	return command
}

// run runs the program and returns what it printed, and its exit status.
func (p *place) run(args ...string) (out, notes string, status int) {
	p.t.Helper()
	var stdout, stderr bytes.Buffer
	command := p.command(p.t.Context(), args...)
	command.Stdout, command.Stderr = &stdout, &stderr
	err := command.Run()
	exit, exited := errors.AsType[*exec.ExitError](err)
	if err != nil && !exited {
		require.NoError(p.t, err)
	}
	if exited {
		status = exit.ExitCode()
	}
	require.NotContains(p.t, stdout.String()+stderr.String(), "\x1b",
		"no control characters into a pipe: orilla %s", strings.Join(args, " "))
	require.NotContains(p.t, stderr.String(), "goroutine ", "orilla %s", strings.Join(args, " "))
	return stdout.String(), stderr.String(), status
}

// ok runs the program, which must succeed.
func (p *place) ok(args ...string) string {
	p.t.Helper()
	out, notes, status := p.run(args...)
	require.Zero(p.t, status, "orilla %s: %s", strings.Join(args, " "), notes)
	return out
}

// fails runs the program, which must end with a status and
// say something; it returns what it noted.
func (p *place) fails(status int, says string, args ...string) string {
	p.t.Helper()
	_, notes, got := p.run(args...)
	assert.Equal(p.t, status, got, "orilla %s: %s", strings.Join(args, " "), notes)
	assert.Contains(p.t, notes, says, "orilla %s", strings.Join(args, " "))
	assert.Contains(p.t, notes, "error:")
	return notes
}

// document runs the program with --json and decodes what it prints.
func document[T any](p *place, args ...string) T {
	p.t.Helper()
	var v T
	out := p.ok(append(args, "--json")...)
	require.NoError(p.t, json.Unmarshal([]byte(out), &v), out)
	return v
}

func (p *place) write(files map[string]string) {
	p.t.Helper()
	for name, text := range files {
		full := filepath.Join(p.folder, filepath.FromSlash(name))
		require.NoError(p.t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(p.t, os.WriteFile(full, []byte(text), 0o644))
	}
}

func (p *place) git(args ...string) string {
	p.t.Helper()
	command := p.command(p.t.Context())
	command.Path, _ = exec.LookPath("git")
	command.Args = append([]string{"git"}, args...)
	out, err := command.CombinedOutput()
	require.NoError(p.t, err, "git %s: %s", strings.Join(args, " "), out)
	return strings.TrimSpace(string(out))
}

func (p *place) commit(message string, files map[string]string) string {
	p.t.Helper()
	if _, err := os.Stat(filepath.Join(p.folder, ".git")); err != nil {
		p.git("init", "-q", "-b", "main")
	}
	p.write(files)
	p.git("add", ".")
	p.git("commit", "-q", "--allow-empty", "-m", message)
	return p.git("rev-parse", "HEAD")
}

// freeAddress returns an address of this machine that nobody listens on.
func freeAddress(t *testing.T) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, listener.Close())
	return listener.Addr().String()
}

// edge starts an edge node on the usual store and returns its address.
func (p *place) edge() string { return p.edgeOn("") }

// edgeOn starts an edge node on a store.
func (p *place) edgeOn(store string, options ...string) string {
	p.t.Helper()
	address := freeAddress(p.t)
	if at := slices.Index(options, "--listen"); at >= 0 {
		address = options[at+1]
	}
	ctx, cancel := context.WithCancel(context.Background())
	command := p.command(ctx, append([]string{"edge", "--listen", address, "--json", "--store", store},
		options...)...)
	command.Cancel = func() error { return command.Process.Signal(os.Interrupt) }
	require.NoError(p.t, command.Start())
	p.t.Cleanup(func() {
		cancel()
		command.Wait() //nolint:errcheck // the status tells
		assert.Zero(p.t, command.ProcessState.ExitCode(), "an interrupted edge node ends well")
	})
	_, port, err := net.SplitHostPort(address)
	require.NoError(p.t, err)
	if store != "" {
		require.Eventually(p.t, func() bool {
			conn, err := net.Dial("tcp", address)
			return err == nil && conn.Close() == nil
		}, 30*time.Second, 5*time.Millisecond)
		return address
	}
	require.Eventually(p.t, func() bool {
		// it listens before it says that it is there
		said, _ := filepath.Glob(filepath.Join(p.home, "store", "edges", "*-"+port))
		return len(said) == 1
	}, 30*time.Second, 5*time.Millisecond)
	return address
}

func get(t *testing.T, address, host, path string) (int, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+path, nil)
	require.NoError(t, err)
	request.Host = host
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(t, err)
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, string(body)
}

// objects lists what a store holds, by class of key.
func (p *place) objects() map[string][]string {
	classes := map[string][]string{}
	root := filepath.Join(p.home, "store")
	//nolint:errcheck // an empty result tells
	filepath.WalkDir(root, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return nil //nolint:nilerr // it may not be there
		}
		key, _ := filepath.Rel(root, path)
		class, _, _ := strings.Cut(filepath.ToSlash(key), "/")
		for _, part := range []string{"releases", "builds", "journal", "runs", "running"} {
			if strings.Contains(key, string(filepath.Separator)+part+string(filepath.Separator)) {
				class = part
			}
		}
		classes[class] = append(classes[class], filepath.ToSlash(key))
		return nil
	})
	return classes
}
