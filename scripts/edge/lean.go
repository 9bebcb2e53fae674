package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/certificates"
)

// An answer costs what HTTP costs, and what is added to it. So the node is measured beside
// a handler of net/http that sends the same bytes and fields from memory, and beside nginx,
// which has no such library below it. Each gets one core of its own, the load the other one;
// they take turns, and the median counts. The turns are short and many: on a machine that
// others share, speed changes by a third from one minute to the next, and less from one
// second to the next.

// shortTurns is how many turns of a second stand for one of the others' turns.
const shortTurns = 4

// leanHost is a configured address; those below .localhost that are not take a look at
// where a request comes from.
const leanHost = "ferries.localhost"

// bareAnswer is what the bare handler sends.
type bareAnswer struct {
	Header http.Header
	Body   []byte
	Folder string // of the authority
}

// bare is the program with which this one starts itself to be measured against.
func bare() {
	var a bareAnswer
	check(json.NewDecoder(os.Stdin).Decode(&a))
	length := []string{strconv.Itoa(len(a.Body))}
	handler := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		header := w.Header()
		for name, values := range a.Header {
			header[name] = values
		}
		header["Content-Length"] = length
		w.Write(a.Body) //nolint:errcheck // the client has gone
	})
	authority, err := certificates.OpenAuthority(a.Folder)
	check(err)
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	check(err)
	secure, err := net.Listen("tcp", "127.0.0.1:0")
	check(err)
	fmt.Println(plain.Addr(), secure.Addr())
	server := &http.Server{Handler: handler, TLSConfig: authority.Config()}
	go server.Serve(plain) //nolint:errcheck // until it is killed
	check(server.ServeTLS(secure, "", ""))
}

// The load is h2load's, which speaks both versions of HTTP, and whose threads are C: it takes
// less of its core than what it measures takes of the other one.

// rival is a server that is measured.
type rival struct {
	name          string
	plain, secure string
	stop          func()
}

// protocols are how the load comes.
var protocols = []struct {
	name   string
	secure bool
	args   []string
}{
	{"HTTP/1.1", false, []string{"--h1", "-c", "32", "-m", "1"}},
	{"TLS", true, []string{"--h1", "-c", "32", "-m", "1"}},
	{"HTTP/2", true, []string{"-c", "8", "-m", "16"}},
}

// lean measures requests a second, and how long the slowest hundredth takes at half load.
func lean(_ context.Context, s *suite) error {
	for _, program := range []string{"h2load", "taskset"} {
		if _, err := exec.LookPath(program); err != nil {
			return fmt.Errorf("%s is needed (Debian: nghttp2-client, util-linux)", program)
		}
	}
	rivals, body, err := s.rivals()
	if err != nil {
		return err
	}
	defer func() {
		for _, r := range rivals {
			r.stop()
		}
	}()
	s.turns *= shortTurns
	fmt.Printf("   a page of %d bytes as it is sent; one core each; medians of %d turns\n", body, s.turns)
	for _, p := range protocols {
		// In turn, and the other way round each second time: what else the machine does falls
		// on all of them.
		rates := map[string][]float64{}
		for turn := range s.turns {
			order := slices.Clone(rivals)
			if turn%2 == 1 {
				slices.Reverse(order)
			}
			for _, r := range order {
				rate, err := r.load(p.secure, append(slices.Clone(p.args), "-D", "1", "--warm-up-time",
					"300ms"))
				if err != nil {
					return err
				}
				rates[r.name] = append(rates[r.name], rate)
			}
		}
		var text []string
		for _, r := range rivals {
			text = append(text, fmt.Sprintf("%s %.0f", r.name, middle(rates[r.name])))
		}
		fmt.Printf("   %-10s %s requests a second\n", p.name, strings.Join(text, ", "))
		var ratios []float64
		for i, rate := range rates["node"] {
			ratios = append(ratios, rate/rates["bare"][i])
		}
		// Limits are upper ones; 1/0.9 of the time is at least 0.9 of the rate.
		s.figure(p.name+": time for an answer, of the bare handler's", 1/middle(ratios), 1/0.9, "")
		if err := s.halfLoad(rivals, p.secure, p.name, p.args, middle(rates["bare"])/2); err != nil {
			return err
		}
	}
	return nil
}

// halfLoad asks at half of a rate, and compares the slowest hundredth.
func (s *suite) halfLoad(rivals []*rival, secure bool, name string, args []string, rate float64) error {
	late, ratios := map[string][]float64{}, []float64(nil)
	for turn := range s.turns {
		order := slices.Clone(rivals[:2])
		if turn%2 == 1 {
			slices.Reverse(order)
		}
		for _, r := range order {
			// h2load takes the rate of each client.
			clients, _ := strconv.Atoi(args[slices.Index(args, "-c")+1])
			logged := filepath.Join(s.folder, "times")
			os.Remove(logged) //nolint:errcheck // it may not be there
			_, err := r.load(secure, append(slices.Clone(args), "-D", "1", "--rps",
				fmt.Sprintf("%.0f", rate/float64(clients)), "--log-file", logged))
			if err != nil {
				return err
			}
			times, err := microseconds(logged)
			if err != nil {
				return err
			}
			late[r.name] = append(late[r.name], times[len(times)*99/100])
		}
		ratios = append(ratios, late["node"][turn]/late["bare"][turn])
	}
	fmt.Printf("   %-10s at half load 99 of 100 within: node %.0f µs, bare %.0f µs\n", name,
		middle(late["node"]),
		middle(late["bare"]))
	s.figure(name+": the slowest hundredth at half load, of the bare handler's",
		middle(ratios), 1.2, "")
	return nil
}

// microseconds reads how long requests took, in order: h2load logs the start, the status and
// the duration of each.
func microseconds(file string) ([]float64, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var times []float64
	for line := range strings.Lines(string(data)) {
		if fields := strings.Fields(line); len(fields) > 2 {
			if took, err := strconv.ParseFloat(fields[2], 64); err == nil {
				times = append(times, took)
			}
		}
	}
	if len(times) == 0 {
		return nil, errors.New("h2load logged nothing")
	}
	slices.Sort(times)
	return times, nil
}

// middle is the median.
func middle(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[len(sorted)/2]
}

// doneRate is where h2load says how many requests it had answered a second.
var doneRate = regexp.MustCompile(`finished in [^,]+, ([0-9.]+) req/s`)

// load puts a server under load from the second core.
func (r *rival) load(secure bool, args []string) (float64, error) {
	address := "http://" + r.plain
	if secure {
		address = "https://" + r.secure
	}
	args = append([]string{"-c", "1", "h2load", "-t", "1", "-H", "accept-encoding: gzip, deflate, br, zstd",
		"-H", "user-agent: Mozilla/5.0 (X11; Linux x86_64)", "-H", "accept: text/html,*/*;q=0.8"}, args...)
	scheme, at, _ := strings.Cut(address, "//")
	_, port, _ := net.SplitHostPort(at)
	args = append(args, "--connect-to", at, scheme+"//"+leanHost+":"+port+"/")
	out, err := exec.Command("taskset", args...).CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("h2load: %w: %s", err, out)
	}
	if !bytes.Contains(out, []byte(" 0 failed, 0 errored")) {
		return 0, fmt.Errorf("%s: %s", r.name, out)
	}
	found := doneRate.FindSubmatch(out)
	if found == nil {
		return 0, fmt.Errorf("h2load said nothing: %s", out)
	}
	return strconv.ParseFloat(string(found[1]), 64)
}

// rivals starts the servers, and returns how long what they send is.
func (s *suite) rivals() (rivals []*rival, size int, err error) {
	ctx := context.Background()
	w, path := s.folderStore("lean")
	check(w.Claim(ctx, "corvane"))
	id, err := w.Put(ctx, "corvane", map[string][]byte{"index.html": leanPage(), "style.css": []byte("p {}")})
	check(err)
	_, err = w.Activate(ctx, "corvane", "production", id, "http://"+leanHost+"/")
	check(err)
	folder := filepath.Join(s.folder, "lean-authority")
	authority, err := certificates.OpenAuthority(folder)
	check(err)
	chain, key, err := authority.Write(filepath.Join(s.folder, "lean-tls"), leanHost)
	check(err)

	node := s.pinned(s.program, "edge", "--store", path, "--listen", "127.0.0.1:0", "--tls", "127.0.0.1:0",
		"--certificate", chain+","+key)
	plain, err := node.says(`edge node at http://(\S+)`)
	if err != nil {
		return nil, 0, err
	}
	secure, err := node.says(`and at https://(\S+)`)
	if err != nil {
		return nil, 0, err
	}
	(&node.node).ready(leanHost, 200)
	rivals = append(rivals, &rival{"node", plain, secure, node.stop})

	// What the node sends once it has made the smallest variant.
	var header http.Header
	var body []byte
	for before := ""; ; time.Sleep(500 * time.Millisecond) {
		if header, body, err = encoded(secure); err != nil {
			return nil, 0, err
		}
		if before != "" && before == header.Get("ETag") {
			break
		}
		before = header.Get("ETag")
	}
	header.Del("Date")
	header.Del("Content-Length")
	given, err := json.Marshal(bareAnswer{header, body, folder})
	check(err)
	self, err := os.Executable()
	check(err)
	other := s.pinnedWith(given, self, "-bare")
	addresses, err := other.says(`(127\S+ 127\S+)`)
	if err != nil {
		return nil, 0, err
	}
	plain, secure, _ = strings.Cut(addresses, " ")
	rivals = append(rivals, &rival{"bare", plain, secure, other.stop})
	if nginx, err := s.nginx(header, body, chain, key); err == nil {
		rivals = append(rivals, nginx)
	} else {
		fmt.Println("   without nginx:", err)
	}
	return rivals, len(body), nil
}

// leanPage is a page of some kB.
func leanPage() []byte {
	var text strings.Builder
	text.WriteString("<!doctype html><title>Corvane Ferries</title><link rel=stylesheet href=/style.css>\n")
	for i := range 40 {
		fmt.Fprintf(&text, "<p class=sailing>The Dunlin leaves Sula at %d:%02d from quay %d, single %d.00\n",
			i%24, i*7%60, i%5, 30+i)
	}
	return []byte(text.String())
}

// encoded asks for the page as a browser does.
func encoded(address string) (http.Header, []byte, error) {
	c := &http.Client{Transport: &http.Transport{DisableCompression: true, ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: leanHost}}}
	request, err := http.NewRequest(http.MethodGet, "https://"+address+"/", nil)
	if err != nil {
		return nil, nil, err
	}
	request.Host = leanHost
	request.Header.Set("Accept-Encoding", "gzip, deflate, br, zstd")
	r, err := c.Do(request)
	if err != nil {
		return nil, nil, err
	}
	defer r.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(r.Body)
	if err == nil && r.StatusCode != http.StatusOK {
		err = errors.New(r.Status)
	}
	return r.Header, body, err
}

// pinnedProcess is a server on the first core.
type pinnedProcess struct {
	node
}

// pinned starts a program on the first core, as if there were no other.
func (s *suite) pinned(program string, args ...string) *pinnedProcess {
	return s.pinnedWith(nil, program, args...)
}

// pinnedWith is pinned with something to read.
func (s *suite) pinnedWith(input []byte, program string, args ...string) *pinnedProcess {
	p := &pinnedProcess{}
	p.Cmd = exec.Command("taskset", append([]string{"-c", "0", program}, args...)...)
	p.Env = append(os.Environ(), "GOMAXPROCS=1", "ORILLA_HOME="+filepath.Join(s.folder, "home"))
	p.Stdin, p.Stdout, p.Stderr = bytes.NewReader(input), &p.said, &p.said
	check(p.Start())
	return p
}

// says waits until it has said something.
func (p *pinnedProcess) says(pattern string) (string, error) {
	form := regexp.MustCompile(pattern)
	for range 300 {
		if found := form.FindStringSubmatch(p.said.String()); found != nil {
			p.address = cmp.Or(p.address, found[1])
			return found[1], nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return "", fmt.Errorf("it did not begin: %s", p.said.String())
}

// nginx starts nginx with the same bytes and fields.
func (s *suite) nginx(header http.Header, body []byte, chain, key string) (*rival, error) {
	program, err := exec.LookPath("nginx")
	if err != nil {
		if program, err = exec.LookPath("/usr/sbin/nginx"); err != nil {
			return nil, err
		}
	}
	folder := filepath.Join(s.folder, "nginx")
	check(os.MkdirAll(filepath.Join(folder, "site"), 0o755))
	check(os.WriteFile(filepath.Join(folder, "site", "index.html"), body, 0o644))
	var fields strings.Builder
	for name, values := range header {
		if name != "Content-Type" && name != "Etag" && name != "Accept-Ranges" {
			fmt.Fprintf(&fields, "    add_header %s '%s';\n", name, values[0])
		}
	}
	plain, secure := freeAddress(), freeAddress()
	config := filepath.Join(folder, "nginx.conf")
	check(os.WriteFile(config, []byte(fmt.Sprintf(`
daemon off; worker_processes 1; pid %[1]s/pid; error_log %[1]s/errors;
events { worker_connections 4096; }
http {
  access_log off; sendfile on; keepalive_requests 100000000; open_file_cache max=100; charset utf-8;
  types { text/html html; } client_body_temp_path %[1]s/a; proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c;
  uwsgi_temp_path %[1]s/d; scgi_temp_path %[1]s/e;
  server {
    listen %[2]s; listen %[3]s ssl http2; ssl_certificate %[4]s; ssl_certificate_key %[5]s; root %[1]s/site;
%[6]s  }
}
`, folder, plain, secure, chain, key, fields.String())), 0o600))
	check(os.Chmod(s.folder, 0o755)) //nolint:gosec // its workers are another user's
	p := s.pinned(program, "-c", config)
	for range 100 {
		if c, err := net.Dial("tcp", plain); err == nil {
			c.Close() //nolint:errcheck // it answers
			return &rival{"nginx", plain, secure, func() { p.end(os.Interrupt) }}, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.stop()
	scanner := bufio.NewScanner(strings.NewReader(p.said.String()))
	scanner.Scan()
	return nil, fmt.Errorf("it did not begin: %s", scanner.Text())
}

// freeAddress returns an address that nobody has at this moment.
func freeAddress() string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	check(err)
	defer listener.Close() //nolint:errcheck // it is only asked for its port
	return listener.Addr().String()
}
