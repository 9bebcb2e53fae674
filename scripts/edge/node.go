package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge/edgetest"
	"orilla.example/orilla/internal/store/file"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/store/storetest"
)

// node is a process that serves.
type node struct {
	*exec.Cmd
	address string
	said    lines
}

// lines keeps what a process said.
type lines struct {
	mutex sync.Mutex
	text  bytes.Buffer
}

// Write implements io.Writer.
func (l *lines) Write(data []byte) (int, error) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.text.Write(data)
}

// String returns what was said so far.
func (l *lines) String() string {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.text.String()
}

// start starts a node on a store, and waits until it says where it answers. It has the
// usual bounds, unless args say otherwise; a program from before them gets none. listener
// may be nil; else the node takes it over.
func (s *suite) start(store string, listener net.Listener, args ...string) *node {
	if s.old {
		args = nil
	}
	args = append([]string{"edge", "--store", store, "--listen", "127.0.0.1:0"}, args...)
	n := &node{Cmd: exec.Command(s.program, args...)}
	n.Env = append(storetest.Env(os.Environ()), "ORILLA_HOME="+filepath.Join(s.folder, "home"))
	n.Stdout, n.Stderr = &n.said, &n.said
	if listener != nil {
		inherited, err := listener.(*net.TCPListener).File()
		check(err)
		handed := []string{"-c", `LISTEN_PID=$$ LISTEN_FDS=1 exec "$0" "$@"`, s.program}
		n.Cmd = exec.Command("sh", append(handed, args...)...)
		n.Env = append(storetest.Env(os.Environ()), "ORILLA_HOME="+filepath.Join(s.folder, "home"))
		n.Stdout, n.Stderr, n.ExtraFiles = &n.said, &n.said, []*os.File{inherited}
		defer inherited.Close() //nolint:errcheck // the node has its own
	}
	check(n.Start())

	// With port 0 the system chooses; the node says what it got.
	place := regexp.MustCompile(`edge node at http://(\S+)`)
	for range 300 {
		if found := place.FindStringSubmatch(n.said.String()); found != nil {
			n.address = found[1]
			return n
		}
		time.Sleep(50 * time.Millisecond)
	}
	check(fmt.Errorf("the node did not begin: %s", n.said.String()))
	return nil
}

// ready waits until a host answers with a status.
func (n *node) ready(host string, status int) {
	for range 1200 {
		if r, err := n.get(host, "/"); err == nil && r.status == status {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	check(fmt.Errorf("%s never answered %d: %s", host, status, n.said.String()))
}

// end ends a node by a signal, and waits for it.
func (n *node) end(signal os.Signal) {
	n.Process.Signal(signal) //nolint:errcheck // it may have ended
	n.Wait()                 //nolint:errcheck // its status is not the matter
}

// stop kills a node.
func (n *node) stop() { n.end(syscall.SIGKILL) }

// status reads a number of kB, or of things, that the kernel keeps of a node.
func (n *node) status(name string) float64 {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", n.Process.Pid))
	for line := range strings.Lines(string(data)) {
		if rest, ok := strings.CutPrefix(line, name+":"); ok {
			value, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return value
		}
	}
	return -1
}

// peak is the most memory that a node has had, in MB.
func (n *node) peak() float64 { return n.status("VmHWM") * 1024 / 1e6 }

// memory is what it has now, in MB.
func (n *node) memory() float64 { return n.status("VmRSS") * 1024 / 1e6 }

// files is how many descriptors a node has.
func (n *node) files() int {
	entries, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", n.Process.Pid))
	return len(entries)
}

// answer is what came back.
type answer struct {
	status int
	header http.Header
	size   int64
	took   time.Duration
}

// client asks over connections of its own.
var client = &http.Client{
	Transport:     &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Timeout:       2 * time.Minute,
}

// get asks a node for a page.
func (n *node) get(host, path string) (answer, error) { return ask(client, n.address, host, path, "") }

// ask asks an address for a page of a host, with a password if one is given.
func ask(c *http.Client, address, host, path, password string) (answer, error) {
	request, err := http.NewRequest(http.MethodGet, "http://"+address+path, nil)
	if err != nil {
		return answer{}, err
	}
	request.Host = host
	if password != "" {
		request.SetBasicAuth("x", password)
	}
	began := time.Now()
	response, err := c.Do(request)
	if err != nil {
		return answer{took: time.Since(began)}, err
	}
	defer response.Body.Close() //nolint:errcheck // read
	size, err := io.Copy(io.Discard, response.Body)
	return answer{response.StatusCode, response.Header, size, time.Since(began)}, err
}

// from is a client that asks from an address of this machine.
func from(address string) *http.Client {
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	return &http.Client{Transport: &http.Transport{DialContext: dialer.DialContext}, Timeout: 2 * time.Minute}
}

// folder makes a store in a folder.
func (s *suite) folderStore(name string) (*edgetest.World, string) {
	path := filepath.Join(s.folder, name)
	store, err := file.Make(path)
	check(err)
	return edgetest.New(store), path
}

// far is a store elsewhere, with what stands between it and nodes.
type far struct {
	*edgetest.World
	address string // for nodes
	path    *path
	stop    func()
}

// path is the way to a server: it takes time, counts requests, and can be closed in three
// ways, which to whoever stands at the other end look like three kinds of outage.
type path struct {
	delay    atomic.Int64
	requests atomic.Int64
	hangs    atomic.Bool
	broken   atomic.Bool
	emptied  atomic.Bool // as if everything had been removed
	proxy    *httputil.ReverseProxy
}

// ServeHTTP implements http.Handler.
func (p *path) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.requests.Add(1)
	if p.broken.Load() {
		panic(http.ErrAbortHandler)
	}
	if p.hangs.Load() {
		<-r.Context().Done()
		return
	}
	time.Sleep(time.Duration(p.delay.Load()))
	if p.emptied.Load() && (r.Method == http.MethodGet || r.Method == http.MethodHead) {
		w.Header().Set("Content-Type", "application/xml")
		if r.URL.Query().Get("list-type") != "" {
			//nolint:errcheck // it has gone
			io.WriteString(w, `<?xml version="1.0"?><ListBucketResult><Name>edge</Name>`+
				`<KeyCount>0</KeyCount><MaxKeys>1000</MaxKeys><IsTruncated>false</IsTruncated>`+
				`</ListBucketResult>`)
			return
		}
		w.WriteHeader(http.StatusNotFound)
		//nolint:errcheck // it has gone
		io.WriteString(w, `<?xml version="1.0"?><Error><Code>NoSuchKey</Code></Error>`)
		return
	}
	p.proxy.ServeHTTP(w, r)
}

// farStore makes a store in a bucket behind a way of 30 ms. What is written to it by the
// suite goes there directly, as deploys from elsewhere do: while the way is closed, the
// store goes on without its nodes.
func (s *suite) farStore(name string) *far {
	gateway, err := storetest.StartS3(filepath.Join(s.folder, name))
	check(err)
	target, err := url.Parse("http://" + gateway.Listen)
	check(err)
	p := &path{proxy: &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			// The host stays: it is part of what is signed.
			r.Out.URL.Scheme, r.Out.URL.Host, r.Out.Host = target.Scheme, target.Host, r.In.Host
		},
		Transport: &http.Transport{MaxIdleConnsPerHost: 256}, FlushInterval: -1,
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request,
			_ error) {
			w.WriteHeader(http.StatusBadGateway)
		},
	}}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	check(err)
	server := &http.Server{Handler: p}
	go server.Serve(listener) //nolint:errcheck // it ends with the part

	// Directly, for whoever deploys.
	direct, err := s3.Parse(gateway.Store("edge", ""), os.Getenv)
	check(err)
	store, err := s3.Open(direct, func(name string) string {
		return map[string]string{"AWS_ACCESS_KEY_ID": storetest.AccessKey,
			"AWS_SECRET_ACCESS_KEY": storetest.SecretKey}[name]
	})
	check(err)
	_, err = storage.MakeMark(context.Background(), store, "edge")
	check(err)
	p.delay.Store(int64(30 * time.Millisecond))
	return &far{World: edgetest.New(store), address: gateway.Store("edge", listener.Addr().String()), path: p,
		stop: func() { errors.Join(server.Close()); gateway.Stop() }} //nolint:errcheck // the part is over
}
