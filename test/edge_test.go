package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// publicNode is an edge node with a configuration of its own.
type publicNode struct {
	t       *testing.T
	command *exec.Cmd
	address string
	mutex   sync.Mutex
	said    bytes.Buffer
	ended   chan struct{}
}

// Write takes what it says.
func (n *publicNode) Write(data []byte) (int, error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return n.said.Write(data)
}

// text is what it has said.
func (n *publicNode) text() string {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return n.said.String()
}

// publicNode starts one. A listener that is given is handed over, as a service manager
// does.
func (p *place) publicNode(listener net.Listener, environment []string, args ...string) *publicNode {
	p.t.Helper()
	n := &publicNode{t: p.t, ended: make(chan struct{})}
	n.command = p.command(context.Background(), append([]string{"edge"}, args...)...)
	n.command.Env = append(n.command.Env, environment...)
	if listener != nil {
		n.address = listener.Addr().String()
		file, err := listener.(*net.TCPListener).File()
		require.NoError(p.t, err)
		defer file.Close() //nolint:errcheck // the node has its own
		program := n.command.Path
		n.command.Path = "/bin/sh"
		n.command.Args = append([]string{"sh", "-c", `LISTEN_PID=$$ LISTEN_FDS=1 exec "$0" "$@"`, program},
			n.command.Args[1:]...)
		n.command.ExtraFiles = []*os.File{file}
	}
	n.command.Stdout, n.command.Stderr = n, n
	require.NoError(p.t, n.command.Start())
	go func() { n.command.Wait(); close(n.ended) }() //nolint:errcheck // the status tells
	p.t.Cleanup(func() {
		n.command.Process.Kill() //nolint:errcheck // it may have ended
		<-n.ended
	})
	return n
}

// signal sends a signal.
func (n *publicNode) signal(s os.Signal) {
	n.t.Helper()
	require.NoError(n.t, n.command.Process.Signal(s))
}

// says waits until it has said something.
func (n *publicNode) says(text string) {
	n.t.Helper()
	require.Eventually(n.t, func() bool { return strings.Contains(n.text(), text) }, 30*time.Second,
		5*time.Millisecond, "%s: %s", text, n)
}

// String is what it has said, for messages of tests.
func (n *publicNode) String() string { return n.text() }

// health asks how it is; "" if it does not answer.
func (n *publicNode) health() string {
	response, err := http.Get("http://" + n.address + "/.orilla/health")
	if err != nil {
		return ""
	}
	defer response.Body.Close() //nolint:errcheck // read
	var health struct{ State string }
	if json.NewDecoder(response.Body).Decode(&health) != nil {
		return ""
	}
	return health.State
}

// servedPlace is a place with a site that is live.
func servedPlace(t *testing.T) *place {
	t.Helper()
	p := newPlace(t)
	p.commit("site", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n",
		"out/index.html": "<!doctype html><title>Corvane</title>", "out/fares.html": "<!doctype html><title>Fares</title>"})
	p.ok("deploy")
	return p
}

// TestTheNodesConfiguration: all that options say can stand in a file, mistakes are
// shown where they are, and --check does not start anything.
func TestTheNodesConfiguration(t *testing.T) {
	t.Parallel()
	p := servedPlace(t)
	p.write(map[string]string{"edge.yaml": `listen: 127.0.0.1:7499
memory: 200MB
cache: {folder: cache, size: 1GB}
stale: {public: 24h, protected: 10m}
connections: {most: 500, per_client: 50, rate: 2kB}
upstream: {reach: [10.1.0.0/16], most: 20}
trust: [10.0.0.0/8, 192.0.2.1]
requests: true
drain: 3s
`})
	out := p.ok("edge", "--config", "edge.yaml", "--check")
	for _, text := range []string{"127.0.0.1:7499", "200 MB", "500 in all, 50 of one client", "10.0.0.0/8, 192.0.2.1",
		"10.1.0.0/16", "1.0 GB", "the node can start", "1 site"} {
		assert.Contains(t, out, text)
	}
	assert.NoDirExists(t, filepath.Join(p.folder, "cache"), "nothing is created")
	out = p.ok("edge", "--config", "edge.yaml", "--memory", "300MB", "--check")
	assert.Contains(t, out, "300 MB", "what is typed comes first")

	p.write(map[string]string{"wrong.yaml": "listen: 7420\nmemroy: 1GB\ntrust: [harbour]\n"})
	out = p.fails(2, "wrong.yaml:1:9", "edge", "--config", "wrong.yaml", "--check")
	for _, text := range []string{"wrong.yaml:1:9", "write 127.0.0.1:7420", `unknown key "memroy"`, `"memory"`,
		"        ^", "not a network: \"harbour\"", "orilla help edge-nodes"} {
		assert.Contains(t, out, text)
	}
	p.fails(2, "none.yaml", "edge", "--config", "none.yaml")
	p.fails(2, "64MB", "edge", "--memory", "1MB")
	p.fails(2, "100MB", "edge", "--cache", "x", "--cache-size", "1MB")
	p.fails(2, "everybody", "edge", "--trust", "0.0.0.0/0")
	p.fails(1, "is not a cache", "edge", "--cache", ".", "--listen", "127.0.0.1:0")
}

// TestStoppingANodeDropsNobody: it says first that it will go, and answers until then.
func TestStoppingANodeDropsNobody(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("no SIGTERM")
	}
	p := servedPlace(t)
	n := p.publicNode(nil, nil, "--listen", "127.0.0.1:0", "--drain", "1m")
	n.says("edge node at http://")
	_, rest, _ := strings.Cut(n.text(), "edge node at http://")
	n.address, _, _ = strings.Cut(rest, " ")
	require.Eventually(t, func() bool { return n.health() == "ready" }, 30*time.Second, 5*time.Millisecond)
	n.signal(syscall.SIGTERM)
	require.Eventually(t, func() bool { return n.health() == "draining" }, 30*time.Second, time.Millisecond)
	status, body := get(t, n.address, "corvane.localhost", "/")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "Corvane")
	n.signal(syscall.SIGTERM) // whoever is in a hurry says it twice
	<-n.ended
	assert.Zero(t, n.command.ProcessState.ExitCode(), n.text())
}

// TestANodeThatNobodyWatchesStopsAtOnce: there is nobody to be told.
func TestANodeThatNobodyWatchesStopsAtOnce(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("no SIGTERM")
	}
	p := servedPlace(t)
	n := p.publicNode(nil, nil, "--listen", "127.0.0.1:0", "--drain", "10m")
	n.says("corvane production:1")
	n.signal(syscall.SIGTERM)
	select {
	case <-n.ended:
		assert.Zero(t, n.command.ProcessState.ExitCode(), n.text())
	case <-time.After(30 * time.Second):
		t.Error("it drains for nobody")
	}
}

// TestANodeOfAServiceManager takes a socket over, says when it is ready, reads its
// configuration again, and is followed by another one without a pause.
func TestANodeOfAServiceManager(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("no sockets to take over")
	}
	p := servedPlace(t)
	//nolint:usetesting // names of sockets are short
	folder, err := os.MkdirTemp("", "n")
	require.NoError(t, err)
	defer os.RemoveAll(folder) //nolint:errcheck // it is temporary
	manager, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: filepath.Join(folder, "s"), Net: "unixgram"})
	require.NoError(t, err)
	defer manager.Close() //nolint:errcheck // it was read
	told := func() string {
		buffer := make([]byte, 1000)
		manager.SetReadDeadline(time.Now().Add(30 * time.Second)) //nolint:errcheck // it is open
		size, err := manager.Read(buffer)
		require.NoError(t, err)
		return string(buffer[:size])
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // it is over
	environment := []string{"NOTIFY_SOCKET=" + filepath.Join(folder, "s")}
	p.write(map[string]string{"edge.yaml": "drain: 300ms\nlog: node.log\n"})
	n := p.publicNode(listener, environment, "--config", "edge.yaml")
	assert.Equal(t, "READY=1", told())
	assert.Equal(t, "ready", n.health())

	// The log was moved away, and the configuration says more now.
	require.NoError(t, os.Rename(filepath.Join(p.folder, "node.log"), filepath.Join(p.folder, "node.log.1")))
	p.write(map[string]string{"edge.yaml": "drain: 300ms\nlog: node.log\nrequests: true\n"})
	n.signal(syscall.SIGHUP)
	assert.Contains(t, told(), "RELOADING=1\nMONOTONIC_USEC=")
	assert.Equal(t, "READY=1", told())
	get(t, n.address, "corvane.localhost", "/fares")
	logged := func(file, pattern string) {
		t.Helper()
		var data []byte
		assert.Eventually(t, func() bool {
			data, _ = os.ReadFile(filepath.Join(p.folder, file))
			return regexp.MustCompile(pattern).Match(data)
		}, 30*time.Second, 5*time.Millisecond)
		assert.Regexp(t, pattern, string(data))
	}
	// Whoever gathers logs finds a time, a level and names in each line.
	const stamp = `(?m)^time=\d{4}-\d\d-\d\dT\S+ level=`
	logged("node.log", stamp+`DEBUG msg=request kind=request `+
		`method=GET host=corvane.localhost path=/fares status=200 by=\S+$`)
	logged("node.log", stamp+`INFO msg="configuration read again" kind=node$`)
	logged("node.log.1", stamp+`INFO msg=live kind=flip site=corvane environment=production entry=1 `+
		`release=r-[0-9a-f]{10} commit=[0-9a-f]{40} text=deploy$`)
	logged("node.log.1", stamp+`INFO msg="edge node at http://\S+ store \S+" kind=node$`)
	p.write(map[string]string{"edge.yaml": "drian: 300ms\n"})
	n.signal(syscall.SIGHUP)
	assert.Contains(t, told(), "RELOADING=1")
	assert.Equal(t, "READY=1", told())
	logged("node.log", stamp+`ERROR msg=".*drian.*" kind=node then="the configuration stays as it was"$`)
	p.write(map[string]string{"edge.yaml": "drain: 300ms\n"})

	// Visitors come all the time, over new connections and over kept ones.
	done := make(chan struct{})
	var visitors sync.WaitGroup
	var asked atomic.Int64
	for i := range 4 {
		visitors.Go(func() {
			client := &http.Client{Transport: &http.Transport{DisableKeepAlives: i%2 == 0}, Timeout: time.Minute}
			for {
				select {
				case <-done:
					return
				default:
				}
				request, _ := http.NewRequest(http.MethodGet, "http://"+listener.Addr().String()+"/fares", nil)
				request.Host = "corvane.localhost"
				response, err := client.Do(request)
				if err != nil {
					t.Error(err)
					return
				}
				response.Body.Close() //nolint:errcheck // the status counts
				assert.Equal(t, 200, response.StatusCode)
				asked.Add(1)
			}
		})
	}
	for range 3 {
		time.Sleep(100 * time.Millisecond)
		n.signal(syscall.SIGTERM)
		assert.Equal(t, "STOPPING=1", told())
		<-n.ended
		assert.Zero(t, n.command.ProcessState.ExitCode(), n.text())
		n = p.publicNode(listener, environment, "--config", "edge.yaml")
		assert.Equal(t, "READY=1", told())
	}
	close(done)
	visitors.Wait()
	assert.Greater(t, asked.Load(), int64(10), fmt.Sprint(n))
}

// TestANodeBeginsWithoutItsStore: a folder that is not mounted, with a cache.
func TestANodeBeginsWithoutItsStore(t *testing.T) {
	t.Parallel()
	p := servedPlace(t)
	store, cache := filepath.Join(p.home, "store"), filepath.Join(p.folder, "..", "cache of the node")
	t.Cleanup(func() { os.RemoveAll(cache) }) //nolint:errcheck // it is temporary
	options := []string{"--store", store, "--listen", "127.0.0.1:0", "--cache", cache}
	start := func() *publicNode {
		n := p.publicNode(nil, nil, options...)
		n.says("edge node at http://")
		_, rest, _ := strings.Cut(n.text(), "edge node at http://")
		n.address, _, _ = strings.Cut(rest, " ")
		return n
	}
	n := start()
	require.Eventually(t, func() bool { return n.health() == "ready" }, 30*time.Second, 5*time.Millisecond)
	status, _ := get(t, n.address, "corvane.localhost", "/")
	require.Equal(t, 200, status)
	n.signal(os.Interrupt)
	<-n.ended

	require.NoError(t, os.Rename(store, store+" away"))
	n = start()
	n.says("as the cache has")
	status, body := get(t, n.address, "corvane.localhost", "/")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "Corvane")
	assert.Equal(t, "without-store", n.health())
	time.Sleep(200 * time.Millisecond)
	assert.NoDirExists(t, store, "nothing is written in its place")
	require.NoError(t, os.Rename(store+" away", store))
	require.Eventually(t, func() bool { return n.health() == "ready" }, 30*time.Second, 5*time.Millisecond)
	n.says("the store answers again")
}
