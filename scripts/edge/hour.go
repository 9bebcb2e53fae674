package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
)

// load is what is asked of a node for an hour, and what came of it.
type load struct {
	*node
	far    *far
	folder string
	films  map[string][]byte // large files that every release has
	done   chan struct{}
	outage atomic.Bool // the store is gone, or was a moment ago

	asked, excused, failed atomic.Int64
	flips                  atomic.Int64
	mutex                  sync.Mutex
	kinds                  map[string]int
}

// hour puts a node under all kinds of load at once, while its store is stopped, emptied
// and brought back.
func hour(ctx context.Context, s *suite) error {
	far := s.farStore("hour")
	defer far.stop()
	far.path.delay.Store(int64(5 * time.Millisecond))
	l := &load{far: far, folder: s.folder, done: make(chan struct{}), kinds: map[string]int{},
		films: map[string][]byte{
			"films/small.mp4": random(300 << 10), "films/large.mp4": random(64 << 20),
			"films/one.mp4": random(5 << 20)}}
	check(far.Claim(ctx, "corvane"))
	hash, err := access.Hash("kittiwake")
	check(err)
	_, err = far.Append(ctx, "corvane", "staging",
		journal.SetAccess(func(journal.Looking) (*journal.Looking, error) {
			return &journal.Looking{Password: hash}, nil
		}, "command", "Ines Marrow", ""))
	check(err)
	_, err = far.Activate(ctx, "corvane", "staging", l.release(ctx, 0))
	check(err)
	_, err = far.Activate(ctx, "corvane", "production", l.release(ctx, 0))
	check(err)
	l.node = s.start(far.address, nil, "--cache", filepath.Join(s.folder, "hour-cache"),
		"--log", filepath.Join(s.folder, "hour.log"))
	l.ready("corvane.localhost", 200)

	// What will be asked for while the store is gone has been asked for before.
	for name := range l.films {
		_, err := l.get("corvane.localhost", "/"+name)
		check(err)
	}
	time.Sleep(2 * time.Second)
	files, threads := l.files(), l.status("Threads")

	owned := l.begin(ctx)
	tell := time.NewTicker(5 * time.Minute)
	defer tell.Stop()
	for end := time.After(s.lasts); ; {
		select {
		case <-tell.C:
			fmt.Printf("   … %d requests, %d flips, %.0f MB, %d descriptors, failed %d\n", l.asked.Load(),
				l.flips.Load(),
				l.memory(), l.files(), l.failed.Load())
			continue
		case <-end:
		}
		break
	}

	// Nobody is left but the node itself.
	close(l.done)
	owned.Wait()
	client.CloseIdleConnections()
	fmt.Printf("   %d requests, %d flips, %d refused while the store was gone\n", l.asked.Load(),
		l.flips.Load(),
		l.excused.Load())
	for kind, count := range l.kinds {
		fmt.Printf("   %6d  %s\n", count, kind)
	}
	s.figure("errors that nobody asked for", float64(l.failed.Load()), 0.5, "")
	s.figure("memory at most", l.peak(), 256, "MB")

	time.Sleep(150 * time.Second) // what waits for a timeout ends
	s.figure("descriptors left (before: "+fmt.Sprint(files)+")", float64(l.files()), float64(files+10), "")
	fmt.Printf("   threads before %v, after %v\n", threads, l.status("Threads"))
	// The runtime prints every goroutine that there is.
	l.Process.Signal(syscall.SIGQUIT) //nolint:errcheck // it says what goes on
	l.Wait()                          //nolint:errcheck // by the signal
	s.figure("goroutines left", float64(strings.Count(l.said.String(), "\ngoroutine ")), 60, "")
	return nil
}

// begin begins all kinds of load, which end when done is closed.
func (l *load) begin(ctx context.Context) *sync.WaitGroup {
	owned := &sync.WaitGroup{}
	for range 6 {
		owned.Go(func() { l.until(l.visit, 20*time.Millisecond) })
	}
	owned.Go(func() { l.until(l.film, 200*time.Millisecond) })
	owned.Go(func() { l.until(l.part, 20*time.Millisecond) })
	for range 20 {
		owned.Go(func() { l.until(l.slowly, time.Second) })
	}
	for range 5 {
		owned.Go(func() { l.until(l.stall, 5*time.Second) })
	}
	owned.Go(func() { l.until(l.reset, 200*time.Millisecond) })
	owned.Go(func() { l.until(l.guess, 200*time.Millisecond) })
	owned.Go(func() { l.until(l.enter, 500*time.Millisecond) })
	owned.Go(func() { l.until(func() { l.flip(ctx) }, time.Second) })
	owned.Go(l.outages)
	return owned
}

// until does something again and again, with a pause.
func (l *load) until(do func(), pause time.Duration) {
	for {
		select {
		case <-l.done:
			return
		case <-time.After(pause):
		}
		do()
	}
}

// release keeps the n-th release: a page that names its script.
func (l *load) release(ctx context.Context, n int) release.ID {
	script := fmt.Appendf(nil, "export const flip = %d\n", n)
	name := fmt.Sprintf("app-%x.js", sha256.Sum256(script))[:16] + ".js"
	files := map[string][]byte{name: script,
		"index.html": fmt.Appendf(nil, "<!doctype html><title>Corvane</title><script src=/%s></script>%d",
			name, n)}
	for name, data := range l.films {
		files[name] = data
	}
	id, err := l.far.Put(ctx, "corvane", files)
	check(err)
	return id
}

// flip puts another release live.
func (l *load) flip(ctx context.Context) {
	n := int(l.flips.Add(1))
	_, err := l.far.Activate(ctx, "corvane", "production", l.release(ctx, n))
	check(err)
}

// note counts a request, and what was wrong with it. While the store is gone, a 503 that
// says when to come again is what was asked for; anything else is an error, always.
func (l *load) note(what string, status int, retry string, wrong error) {
	l.asked.Add(1)
	if wrong == nil {
		return
	}
	if l.outage.Load() && status == http.StatusServiceUnavailable && retry != "" {
		l.excused.Add(1)
		return
	}
	l.failed.Add(1)
	l.mutex.Lock()
	defer l.mutex.Unlock()
	kind := fmt.Sprintf("%s: %d, %v, the store gone: %v", what, status, reason(wrong), l.outage.Load())
	if l.kinds[kind]++; l.kinds[kind] == 1 {
		fmt.Println("   first:", time.Now().Format(time.TimeOnly), kind)
		said, _ := os.ReadFile(filepath.Join(l.folder, "hour.log"))
		for line := range strings.Lines(string(said)) {
			if strings.Contains(line, "trouble") {
				fmt.Print("       ", line)
			}
		}
	}
}

// read asks for a path and returns the body.
func (l *load) read(c *http.Client, path, ranged string) (status int, retry string, body []byte, err error) {
	request, err := http.NewRequest(http.MethodGet, "http://"+l.address+path, nil)
	if err != nil {
		return 0, "", nil, err
	}
	request.Host = "corvane.localhost"
	if ranged != "" {
		request.Header.Set("Range", ranged)
	}
	response, err := c.Do(request)
	if err != nil {
		return 0, "", nil, err
	}
	defer response.Body.Close() //nolint:errcheck // read
	body, err = io.ReadAll(response.Body)
	return response.StatusCode, response.Header.Get("Retry-After"), body, err
}

var scriptOf = regexp.MustCompile(`src=(/app-[0-9a-f]+\.js)></script>(\d+)`)

// visit opens a page and its script, which belong together: each page names the script of
// its own release, which no other has. A page that was answered with one release and a
// script with none, or with another, is what must never be seen.
func (l *load) visit() {
	status, retry, body, err := l.read(client, "/", "")
	found := scriptOf.FindSubmatch(body)
	if err == nil && (status != 200 || found == nil) {
		err = fmt.Errorf("no page")
	}
	l.note("page", status, retry, err)
	if err != nil {
		return
	}

	// The script of this very page, whatever is live by now.
	status, retry, body, err = l.read(client, string(found[1]), "")
	if err == nil && (status != 200 || string(body) != "export const flip = "+string(found[2])+"\n") {
		err = fmt.Errorf("the script of another page")
	}
	l.note("script", status, retry, err)
}

// film reads a whole file.
func (l *load) film() {
	for name, data := range l.films { // any
		status, retry, body, err := l.read(client, "/"+name, "")
		if err == nil && (status != 200 || !bytes.Equal(body, data)) {
			err = fmt.Errorf("another film")
		}
		l.note("film", status, retry, err)
		return
	}
}

// part reads a part of a file.
func (l *load) part() {
	data := l.films["films/large.mp4"]
	from := rand.IntN(len(data) - 1000)
	to := from + rand.IntN(1000)
	status, retry, body, err := l.read(client, "/films/large.mp4", fmt.Sprintf("bytes=%d-%d", from, to))
	if err == nil && (status != 206 || !bytes.Equal(body, data[from:to+1])) {
		err = fmt.Errorf("another part")
	}
	l.note("part", status, retry, err)
}

// dial opens a connection with a request on it.
func (l *load) dial(path string) net.Conn {
	c, err := net.Dial("tcp", l.address)
	check(err)
	c.(*net.TCPConn).SetReadBuffer(4096) //nolint:errcheck // it only makes it slower
	//nolint:errcheck // reading tells
	fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: corvane.localhost\r\n\r\n", path)
	return c
}

// slowly reads some of a large file at 50 kB/s.
func (l *load) slowly() {
	c := l.dial("/films/large.mp4")
	defer c.Close() //nolint:errcheck // read enough
	buffer := make([]byte, 5000)
	for range 300 {
		if _, err := io.ReadFull(c, buffer); err != nil {
			if !l.outage.Load() {
				l.note("slow reader", 200, "", err)
			}
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	l.note("slow reader", 200, "", nil)
}

// stall asks for a large file and takes nothing of it, for longer than anybody may.
func (l *load) stall() {
	c := l.dial("/films/large.mp4")
	time.Sleep(40 * time.Second)
	c.Close() //nolint:errcheck // it is over
}

// reset goes in the middle of an answer, so that the node learns of it by an error.
func (l *load) reset() {
	c := l.dial("/films/one.mp4")
	io.ReadFull(c, make([]byte, 1000)) //nolint:errcheck // it goes anyway
	c.(*net.TCPConn).SetLinger(0)      //nolint:errcheck // then it only closes
	c.Close()                          //nolint:errcheck // it is over
}

// guess sends a wrong password.
func (l *load) guess() {
	c := from(fmt.Sprintf("127.4.%d.%d", rand.IntN(200), 1+rand.IntN(200)))
	r, err := ask(c, l.address, "staging.corvane.localhost", "/", fmt.Sprint("guess ", rand.Int()))
	c.CloseIdleConnections()
	if err == nil && r.status != 401 && r.status != 429 {
		err = fmt.Errorf("let in")
	}
	l.note("guess", r.status, r.header.Get("Retry-After"), err)
}

// enter sends the right password.
func (l *load) enter() {
	r, err := ask(client, l.address, "staging.corvane.localhost", "/", "kittiwake")
	if err == nil && r.status != 200 {
		err = fmt.Errorf("kept out")
	}
	l.note("the right password", r.status, r.header.Get("Retry-After"), err)
}

// outages takes the store away in one way after the other, and brings it back: it refuses,
// it hangs, and it says of everything that it is not there. Deploys go on meanwhile.
func (l *load) outages() {
	ways := []*atomic.Bool{&l.far.path.broken, &l.far.path.hangs, &l.far.path.emptied}
	for i := 0; ; i++ {
		select {
		case <-l.done:
			return
		case <-time.After(45 * time.Second):
		}
		way := ways[i%len(ways)]
		l.outage.Store(true)
		way.Store(true)
		select {
		case <-l.done:
		case <-time.After(20 * time.Second):
		}
		way.Store(false)
		time.Sleep(8 * time.Second) // what had begun to wait is over
		l.outage.Store(false)
	}
}
