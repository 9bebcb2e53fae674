package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// noted is what is read of a line of the access log.
type noted struct {
	Client, Method, Target, Site, Environment, By, ID string
	Status                                            int
	Bytes, Entry                                      int64
}

// lines reads an access log in JSON.
func lines(t *testing.T, file string) (list []noted) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	for line := range bytes.Lines(data) {
		var n noted
		require.NoError(t, json.Unmarshal(line, &n), string(line))
		list = append(list, n)
	}
	return list
}

// TestEveryRequestIsInTheAccessLog asks for pages, for what is not there, and for nonsense, and
// moves the log away meanwhile.
func TestEveryRequestIsInTheAccessLog(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"index.html": "ferries", "fares.html": "42", "orilla.yaml": "site: corvane\nrules: [site.rules]\n",
		"site.rules": "redirect /prices -> /fares\n"})
	p.ok("deploy")
	log := filepath.Join(p.home, "access.log")
	counts := freeAddress(t)
	at := p.edgeOn("", "--access-log", log, "--access-log-format", "json", "--local-names", "--metrics", counts)
	ask := func(path string, header ...string) {
		request, err := http.NewRequest(http.MethodGet, "http://"+at+path, nil)
		require.NoError(t, err)
		request.Host = "corvane.localhost"
		for i := 0; i+1 < len(header); i += 2 {
			request.Header.Set(header[i], header[i+1])
		}
		response, err := http.DefaultTransport.RoundTrip(request)
		require.NoError(t, err)
		io.Copy(io.Discard, response.Body) //nolint:errcheck // read
		require.NoError(t, response.Body.Close())
	}
	for range 3 {
		ask("/")
	}
	ask("/prices")
	ask("/nothing?token=x")
	ask("/.orilla/look/s3cret/")
	ask("/.orilla/health")
	raw := func(text string) {
		conn, err := net.Dial("tcp", at)
		require.NoError(t, err)
		defer conn.Close()         //nolint:errcheck // read
		io.WriteString(conn, text) //nolint:errcheck // the answer says what came
		io.ReadAll(conn)           //nolint:errcheck // it is closed
	}
	raw("GARBAGE that is longer than the preface of HTTP/2\r\n\r\n")
	raw("GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n")
	raw("GET / HTTP/1.1\r\nHost: a\r\nX: " + strings.Repeat("x", 100_000) + "\r\n\r\n")
	const all = 10
	require.Eventually(t, func() bool { return len(lines(t, log)) >= all }, patience, tick, "%v", func() any { return lines(t, log) }())
	count, statuses := map[string]int{}, map[int]int{}
	ids := map[string]bool{}
	for _, n := range lines(t, log) {
		count[n.By]++
		statuses[n.Status]++
		ids[n.ID] = true
		assert.NotContains(t, n.Target, "s3cret")
		assert.Equal(t, "127.0.0.0", n.Client)
	}
	assert.Equal(t, map[string]int{"file": 3, "redirect": 1, "missing": 1, "access": 1, "node": 1, "refusal": 3}, count)
	assert.Equal(t, 2, statuses[http.StatusBadRequest])
	assert.Equal(t, 1, statuses[http.StatusRequestHeaderFieldsTooLarge])
	assert.Len(t, ids, all)
	// The metrics have counted the same.
	response, err := http.Get("http://" + counts + "/metrics")
	require.NoError(t, err)
	data, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	require.NoError(t, response.Body.Close())
	sum := 0
	for line := range strings.Lines(string(data)) {
		if rest, ok := strings.CutPrefix(line, "orilla_requests_total{"); ok {
			_, number, _ := strings.Cut(strings.TrimSpace(rest), "} ")
			n, err := strconv.Atoi(number)
			require.NoError(t, err, line)
			sum += n
		}
	}
	assert.Equal(t, all, sum)
	assert.Contains(t, string(data), `orilla_entry{environment="production",site="corvane"} 1`)
	first := lines(t, log)[0]
	assert.Equal(t, noted{Client: "127.0.0.0", Method: "GET", Target: "/", Site: "corvane", Environment: "production",
		By: "file", Status: 200, Bytes: 7, Entry: 1, ID: first.ID}, first)
}

// TestNobodyWaitsForAPipe gives a node pipes that nobody empties, and then closes them.
func TestNobodyWaitsForAPipe(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("pipes break otherwise there")
	}
	p := newPlace(t)
	p.commit("First", map[string]string{"index.html": "ferries", "orilla.yaml": "site: corvane\n"})
	p.ok("deploy")
	at := freeAddress(t)
	command := p.command(context.Background(), "edge", "--listen", at, "--requests", "--access-log", "-", "--local-names")
	out, to, err := os.Pipe()
	require.NoError(t, err)
	notes, err := command.StderrPipe()
	require.NoError(t, err)
	command.Stdout = to
	require.NoError(t, command.Start())
	require.NoError(t, to.Close())
	t.Cleanup(func() {
		command.Process.Kill() //nolint:errcheck // it may have ended
		command.Wait()         //nolint:errcheck // it was killed
	})
	read := bufio.NewReader(notes)
	_, err = read.ReadString('\n')
	require.NoError(t, err)
	client := &http.Client{Timeout: patience}
	ask := func(count int) {
		t.Helper()
		for range count {
			request, err := http.NewRequest(http.MethodGet, "http://"+at+"/"+strings.Repeat("x", 1000), nil)
			require.NoError(t, err)
			request.Host = "corvane.localhost"
			response, err := client.Do(request)
			require.NoError(t, err)
			io.Copy(io.Discard, response.Body) //nolint:errcheck // read
			require.NoError(t, response.Body.Close())
		}
	}
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", at)
		return err == nil && conn.Close() == nil
	}, patience, tick)
	ask(300) // a pipe holds 64 kB
	require.NoError(t, out.Close())
	require.NoError(t, notes.Close())
	ask(100)
	require.NoError(t, command.Process.Signal(syscall.SIGINT))
	ended := make(chan error)
	go func() { ended <- command.Wait() }()
	select {
	case err := <-ended:
		if exit, is := err.(*exec.ExitError); is { //nolint:errorlint // what Wait returns
			assert.True(t, exit.Exited(), "it ended by itself: %v", err)
		}
	case <-time.After(patience):
		require.Fail(t, "it did not end")
	}
}

// TestTheAccessLogCanBeMovedAway does as programs do that rotate logs.
func TestTheAccessLogCanBeMovedAway(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("there is no SIGHUP")
	}
	p := newPlace(t)
	p.commit("First", map[string]string{"index.html": "ferries", "orilla.yaml": "site: corvane\n"})
	p.ok("deploy")
	at, log := freeAddress(t), filepath.Join(p.home, "access.log")
	command := p.command(context.Background(), "edge", "--listen", at, "--access-log", log, "--local-names")
	require.NoError(t, command.Start())
	t.Cleanup(func() {
		command.Process.Kill() //nolint:errcheck // it may have ended
		command.Wait()         //nolint:errcheck // it was killed
	})
	has := func(file, what string) bool {
		data, err := os.ReadFile(file)
		return err == nil && strings.Contains(string(data), what)
	}
	require.Eventually(t, func() bool {
		response, err := http.Get("http://" + at + "/before")
		return err == nil && response.Body.Close() == nil
	}, patience, tick)
	require.Eventually(t, func() bool { return has(log, "GET /before") }, patience, tick)
	require.NoError(t, os.Rename(log, log+".1"))
	require.NoError(t, command.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool {
		response, err := http.Get("http://" + at + "/after")
		return err == nil && response.Body.Close() == nil && has(log, "GET /after")
	}, patience, tick)
	assert.False(t, has(log, "GET /before"))
}
