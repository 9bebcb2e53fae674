package main

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge/edgetest"
)

// page is what every site here has.
var page = []byte("<!doctype html><title>Corvane Ferries</title><h1>Sailings</h1>")

// random returns bytes that no file shares.
func random(size int) []byte {
	data := make([]byte, size)
	rand.Read(data)
	return data
}

// site makes a site with a page and n files of a size.
func site(ctx context.Context, w *edgetest.World, name string, n, size int) release.ID {
	check(w.Claim(ctx, name))
	files := map[string][]byte{"index.html": page}
	for i := range n {
		files[fmt.Sprintf("films/%d.mp4", i)] = random(size)
	}
	id, err := w.Put(ctx, name, files)
	check(err)
	_, err = w.Activate(ctx, name, "production", id)
	check(err)
	return id
}

// slowReaders reads many large files slowly, each by a reader of its own, so that nothing
// is shared between them. The window of each connection is small, as that of a telephone
// with a bad connection is: otherwise the system would take over most of a file at once,
// and nobody would be slow.
func slowReaders(ctx context.Context, s *suite) error {
	w, path := s.folderStore("slow-readers")
	site(ctx, w, "corvane", 300, 8<<20)
	n := s.start(path, nil)
	defer n.stop()
	n.ready("corvane.localhost", 200)
	fmt.Printf("   %-60s %8.4g MB\n", "before", n.memory())

	// Whoever is cut off is counted: memory is easily bounded by ending everybody.
	var readers sync.WaitGroup
	var broken atomic.Int64

	// As long as a client may do nothing: whoever reads at a rate must not be ended.
	until := time.Now().Add(20 * time.Second)
	for i := range 300 {
		readers.Go(func() {
			c, err := net.Dial("tcp", n.address)
			check(err)
			defer c.Close()                      //nolint:errcheck // it was read
			c.(*net.TCPConn).SetReadBuffer(4096) //nolint:errcheck // it only makes it slower
			//nolint:errcheck // reading tells
			fmt.Fprintf(c, "GET /films/%d.mp4 HTTP/1.1\r\nHost: corvane.localhost\r\n\r\n", i)
			buffer := make([]byte, 6400)
			for time.Now().Before(until) {
				if _, err := io.ReadFull(c, buffer); err != nil {
					broken.Add(1)
					return
				}
				time.Sleep(100 * time.Millisecond)
			}
		})
	}
	readers.Wait()
	s.figure("memory at most", n.peak(), 256, "MB")
	s.figure("readers that lost their answer", float64(broken.Load()), 0, "")
	return nil
}

// distinctFiles reads everything of a large site once, as a search engine does: what is
// kept in memory is of no use, and all of it has to go again.
func distinctFiles(ctx context.Context, s *suite) error {
	w, path := s.folderStore("distinct")
	site(ctx, w, "corvane", 250, 8<<20)
	n := s.start(path, nil)
	defer n.stop()
	n.ready("corvane.localhost", 200)

	// Twenty at once, each on a connection of its own.
	var group errgroup.Group
	group.SetLimit(20)
	began := time.Now()
	for i := range 250 {
		group.Go(func() error {
			r, err := n.get("corvane.localhost", fmt.Sprintf("/films/%d.mp4", i))
			if err == nil && (r.status != 200 || r.size != 8<<20) {
				err = fmt.Errorf("status %d, %d bytes", r.status, r.size)
			}
			return err
		})
	}
	err := group.Wait()
	s.figure("memory at most", n.peak(), 256, "MB")
	s.figure("speed", 2097/time.Since(began).Seconds(), 0, "MB/s")
	return err
}

// largeFile reads one file by many readers at once, from a store elsewhere and through a
// cache on disk. However many they are, the store is asked for each part of it once.
func largeFile(ctx context.Context, s *suite) error {
	far := s.farStore("large")
	defer far.stop()
	far.path.delay.Store(int64(5 * time.Millisecond))
	site(ctx, far.World, "corvane", 1, 256<<20)
	n := s.start(far.address, nil, "--cache", filepath.Join(s.folder, "large-cache"))
	defer n.stop()
	n.ready("corvane.localhost", 200)

	// Everybody begins at the same time, and goes on at a pace of their own.
	before := far.path.requests.Load()
	var group errgroup.Group
	for range 100 {
		group.Go(func() error {
			r, err := n.get("corvane.localhost", "/films/0.mp4")
			if err == nil && (r.status != 200 || r.size != 256<<20) {
				err = fmt.Errorf("status %d, %d bytes", r.status, r.size)
			}
			return err
		})
	}
	err := group.Wait()
	s.figure("requests to the store (32 parts; 1 MiB each is 256)",
		float64(far.path.requests.Load()-before), 400, "")
	s.figure("memory at most", n.peak(), 256, "MB")
	return err
}

// bodies holds connections open with requests that never end: bodies of which one byte
// comes, and headers that break off. Somebody else asks for a page meanwhile. The bodies
// are to be answered at once, since a page wants none; the headers have ten seconds.
func bodies(ctx context.Context, s *suite) error {
	w, path := s.folderStore("bodies")
	site(ctx, w, "corvane", 0, 0)
	n := s.start(path, nil)
	defer n.stop()
	n.ready("corvane.localhost", 200)
	var open []net.Conn
	for range 620 {
		for _, text := range []string{
			"POST / HTTP/1.1\r\nHost: corvane.localhost\r\nContent-Length: 1000\r\n\r\nx",
			"GET / HTTP/1.1\r\nHost: corvane.localhost\r\nX: ",
		} {
			c, err := net.Dial("tcp", n.address)
			check(err)
			io.WriteString(c, text) //nolint:errcheck // it may have been refused
			open = append(open, c)
		}
	}

	// All of them are at the node by now.
	time.Sleep(500 * time.Millisecond)
	began := time.Now()
	r, err := ask(from("127.0.0.2"), n.address, "corvane.localhost", "/", "")
	s.figure("a page beside them", float64(time.Since(began).Milliseconds()), 1000, "ms")
	answered, enough := 0, time.Now().Add(5*time.Second)
	for i := 0; i < len(open); i += 2 {
		open[i].SetReadDeadline(enough) //nolint:errcheck // it is open
		if r, err := http.ReadResponse(bufio.NewReader(open[i]), nil); err == nil {
			r.Body.Close() //nolint:errcheck // the connection is closed below
			answered++
		}
	}
	s.figure("bodies that were not answered while they did not come", float64(620-answered), 0.5, "of 620")

	// Two seconds longer than a header may take.
	time.Sleep(12 * time.Second)
	s.figure("descriptors after 12 s", float64(n.files()), 60, "")
	for _, c := range open {
		c.Close() //nolint:errcheck // it is over
	}
	if err == nil && r.status != 200 {
		err = fmt.Errorf("status %d", r.status)
	}
	return err
}

// guesses guesses a password from many addresses at once, and then sends the right one
// from another. All of 127.0.0.0/8 is this machine, so a node takes them for clients of
// their own. The hash costs what usual ones do: in turn the right password would wait for
// a minute.
func guesses(ctx context.Context, s *suite) error {
	w, path := s.folderStore("guesses")
	id := site(ctx, w, "corvane", 0, 0)
	hash, err := access.Hash("kittiwake")
	check(err)
	_, err = w.Append(ctx, "corvane", "staging",
		journal.SetAccess(func(journal.Looking) (*journal.Looking, error) {
			return &journal.Looking{Password: hash}, nil
		}, "command", "Ines Marrow", ""))
	check(err)
	_, err = w.Activate(ctx, "corvane", "staging", id)
	check(err)
	n := s.start(path, nil)
	defer n.stop()
	n.ready("staging.corvane.localhost", 401)

	// The crowd goes once the right password was let in: guesses end with their connections.
	ctx, cancel := context.WithCancel(ctx)
	var crowd sync.WaitGroup
	for i := range 1500 {
		crowd.Go(func() {
			c := from(fmt.Sprintf("127.1.%d.%d", i/250, 1+i%250))
			request, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+n.address+"/", nil)
			request.Host = "staging.corvane.localhost"
			request.SetBasicAuth("x", fmt.Sprint("guess number ", i))
			if response, err := c.Do(request); err == nil {
				response.Body.Close() //nolint:errcheck // a guess
			}
			c.CloseIdleConnections()
		})
	}
	time.Sleep(time.Second)
	r, err := ask(from("127.2.0.1"), n.address, "staging.corvane.localhost", "/", "kittiwake")
	s.figure("the right password beside them", r.took.Seconds(), 1, "s")
	cancel()
	crowd.Wait()

	// One client that guesses as fast as it can.
	began, tries, limited := time.Now(), 0, 0
	one := from("127.3.0.1")
	for time.Since(began) < 3*time.Second {
		r, err := ask(one, n.address, "staging.corvane.localhost", "/", fmt.Sprint("one guess ", tries))
		if tries++; err == nil && r.status == http.StatusTooManyRequests {
			limited++
		}
	}
	s.figure("guesses of one client that were looked at in 3 s", float64(tries-limited), 8, "")
	if err == nil && r.status != 200 {
		err = fmt.Errorf("status %d", r.status)
	}
	return err
}

// previews makes a site with many environments, of which some have ended. They are made by
// many writers at once that know nothing of each other, so the hint of the site names
// hardly any of them, as after a day of deploys from many machines.
func previews(ctx context.Context, w *edgetest.World, name string, live, ended int) {
	id := site(ctx, w, name, 0, 0)
	var group errgroup.Group
	group.SetLimit(32)
	for i := range live + ended - 1 {
		// Worlds that share a store, each with hints of its own: they overwrite each other's.
		each := edgetest.New(w.Store)
		group.Go(func() error {
			environment := fmt.Sprintf("%slabel-%d", journal.PreviewPrefix, i)
			_, err := each.Activate(ctx, name, environment, id)
			if err == nil && i < ended {
				_, err = each.Append(ctx, name, environment,
					journal.Remove(journal.Ended{Reason: journal.Merged},
						"command", "Ines Marrow", ""))
			}
			return err
		})
	}
	check(group.Wait())
}

// flips measures how long a deploy takes to be seen: from the return of what wrote the
// entry until the node answers with it. Deploys come at times that are no multiple of the
// time between two looks.
func flips(ctx context.Context, s *suite) error {
	far := s.farStore("flips")
	defer far.stop()
	previews(ctx, far.World, "corvane", 600, 400)
	n := s.start(far.address, nil)
	defer n.stop()
	n.ready("corvane.localhost", 200)
	n.ready("label-500.preview.corvane.localhost", 200)

	// A page in memory tells at once which entry it comes from.
	var took []float64
	for i := range 20 {
		time.Sleep(time.Duration(200+37*i) * time.Millisecond) // anywhere between two looks
		id, err := far.Put(ctx, "corvane", map[string][]byte{"index.html": fmt.Appendf(nil, "flip %d", i)})
		check(err)
		entry, err := far.Activate(ctx, "corvane", "production", id)
		check(err)
		began := time.Now()
		for {
			r, err := n.get("corvane.localhost", "/")
			check(err)
			if strings.Contains(r.header.Get("Orilla-Release")+";", "entry="+entry.Label()+";") {
				break
			}
			if time.Since(began) > time.Minute {
				return fmt.Errorf("flip %d was never seen", i)
			}
			time.Sleep(5 * time.Millisecond)
		}
		took = append(took, time.Since(began).Seconds())
	}
	slices.Sort(took)
	s.figure("median of 20", took[10], 0, "s")
	s.figure("the slowest", took[19], 1, "s")
	return nil
}

// idle counts what a node asks of its store while nothing happens: looks at hints, the
// rounds that make up for lost ones, and saying that it is there.
func idle(ctx context.Context, s *suite) error {
	far := s.farStore("idle")
	defer far.stop()
	var group errgroup.Group
	group.SetLimit(16)
	for i := range 121 {
		w := edgetest.New(far.Store)
		group.Go(func() error { site(ctx, w, fmt.Sprintf("site-%d", i), 0, 0); return nil })
	}
	check(group.Wait())
	n := s.start(far.address, nil)
	defer n.stop()
	n.ready("site-120.localhost", 200)

	// What beginning causes is over by then.
	time.Sleep(5 * time.Second)
	before, began := far.path.requests.Load(), time.Now()
	time.Sleep(60 * time.Second)
	s.figure("requests a second", float64(far.path.requests.Load()-before)/time.Since(began).Seconds(), 2, "")
	return nil
}

// begins asks a node for a page and for its health from the moment on that it listens. It
// may say that it is not ready; that there is no such site would be a lie.
func begins(ctx context.Context, s *suite) error {
	far := s.farStore("begins")
	defer far.stop()
	previews(ctx, far.World, "corvane", 600, 400)
	began, before := time.Now(), far.path.requests.Load()
	n := s.start(far.address, nil)
	defer n.stop()

	// As a visitor and as whoever sends visitors here.
	statuses := map[int]int{}
	var health []string
	for time.Since(began) < 2*time.Minute {
		r, err := n.get("corvane.localhost", "/")
		check(err)
		statuses[r.status]++
		if h, err := n.get("anything.example", "/.orilla/health"); err == nil {
			health = append(health, fmt.Sprint(h.status))
		}
		if r.status == 200 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	fmt.Printf("   answers until the first page: %v; health: %v\n", statuses, slices.Compact(health))
	s.figure("until the first page", time.Since(began).Seconds(), 0, "s")
	s.figure("requests to the store for it", float64(far.path.requests.Load()-before), 0, "")
	s.figure("answers that said that there is no such site", float64(statuses[421]+statuses[404]), 0.5, "")
	return nil
}

// hangs asks for what the node has and for what it has not, while the store takes requests
// and never answers them: the worst of all ways to be gone, since nothing says so.
func hangs(ctx context.Context, s *suite) error {
	far := s.farStore("hangs")
	defer far.stop()
	site(ctx, far.World, "corvane", 3, 1000)
	n := s.start(far.address, nil)
	defer n.stop()
	n.ready("corvane.localhost", 200)

	// One page was read before, the film never.
	far.path.hangs.Store(true)
	time.Sleep(500 * time.Millisecond)
	known, err := n.get("corvane.localhost", "/")
	check(err)
	r, err := n.get("corvane.localhost", "/films/1.mp4")
	fmt.Printf("   what it has: %d; what it has not: %d, Retry-After %q\n", known.status, r.status,
		r.header.Get("Retry-After"))
	s.figure("what it has not, answered after", r.took.Seconds(), 6, "s")
	far.path.hangs.Store(false)
	return err
}

// strangers asks for what is not there: sites, releases and fingerprinted assets, each
// under another name. The node may look a few times, since each could be there.
func strangers(ctx context.Context, s *suite) error {
	far := s.farStore("strangers")
	defer far.stop()
	site(ctx, far.World, "corvane", 0, 0)
	n := s.start(far.address, nil)
	defer n.stop()
	n.ready("corvane.localhost", 200)

	// The first look is over, and the hint is older than times are coarse.
	time.Sleep(2 * time.Second)
	before := far.path.requests.Load()
	var group errgroup.Group
	group.SetLimit(50)
	for i := range 2000 {
		group.Go(func() error {
			for _, of := range [][2]string{{fmt.Sprintf("site-%d.localhost", i), "/"},
				{fmt.Sprintf("%010x.release.corvane.localhost", i), "/"},
				{"corvane.localhost", fmt.Sprintf("/app-%010x.js", i)}} {
				if _, err := n.get(of[0], of[1]); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err := group.Wait()
	s.figure("requests to the store for 6,000 requests of strangers",
		float64(far.path.requests.Load()-before), 150, "")
	return err
}

// restarts restarts a node under load, again and again. The socket belongs to this process,
// as it belongs to systemd otherwise: connections wait in it while no node is there. Half
// of the clients open a connection for each request, the others keep theirs.
func restarts(ctx context.Context, s *suite) error {
	w, path := s.folderStore("restarts")
	site(ctx, w, "corvane", 0, 0)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	check(err)
	defer listener.Close() //nolint:errcheck // the part is over
	address := listener.Addr().String()
	n := s.start(path, listener, "--drain", "1s")
	n.address = address
	n.ready("corvane.localhost", 200)

	var load sync.WaitGroup
	var asked, failed atomic.Int64
	var kinds sync.Map
	done := make(chan struct{})
	for i := range 20 {
		load.Go(func() {
			c := &http.Client{Transport: &http.Transport{DisableKeepAlives: i%2 == 0}, Timeout: time.Minute}
			for {
				select {
				case <-done:
					return
				default:
				}
				r, err := ask(c, address, "corvane.localhost", "/", "")
				if asked.Add(1); err != nil || r.status != 200 {
					failed.Add(1)
					kinds.Store(fmt.Sprintf("%d, keep-alive %v: %v", r.status, i%2 != 0, reason(err)), true)
				}
			}
		})
	}

	// SIGTERM, as a service manager sends it, and the next node as soon as this one ended.
	var pauses []float64
	for range 10 {
		time.Sleep(500 * time.Millisecond)
		n.end(syscall.SIGTERM)
		began := time.Now()
		n = s.start(path, listener, "--drain", "1s")
		n.address = address
		n.ready("corvane.localhost", 200)
		pauses = append(pauses, time.Since(began).Seconds())
	}
	close(done)
	load.Wait()
	n.stop()
	slices.Sort(pauses)
	fmt.Printf("   %d requests\n", asked.Load())
	kinds.Range(func(kind, _ any) bool { fmt.Println("  ", kind); return true })
	s.figure("requests that failed", float64(failed.Load()), 0.5, "")
	s.figure("the longest time between two nodes", pauses[len(pauses)-1], 0, "s")
	return nil
}

// reason is the innermost cause of an error: without the ports, which differ.
func reason(err error) error {
	for err != nil && errors.Unwrap(err) != nil {
		err = errors.Unwrap(err)
	}
	return err
}

// startsAlone starts a node whose store is gone, with what it served before in its cache:
// once a store that refuses connections, and once one that takes them and says nothing.
func startsAlone(ctx context.Context, s *suite) error {
	far := s.farStore("alone")
	defer far.stop()
	id := site(ctx, far.World, "corvane", 3, 1000)
	_, err := far.Activate(ctx, "corvane", "production", id, "https://www.corvane.example/")
	check(err)
	cache := filepath.Join(s.folder, "alone-cache")
	n := s.start(far.address, nil, "--cache", cache)
	n.ready("www.corvane.example", 200)
	_, err = n.get("www.corvane.example", "/films/1.mp4")
	check(err)
	n.end(os.Interrupt)

	// Everything that is asked for below was asked for above.
	for _, way := range []string{"refuses", "hangs"} {
		far.path.broken.Store(way == "refuses")
		far.path.hangs.Store(way == "hangs")
		began := time.Now()
		n = s.start(far.address, nil, "--cache", cache)
		n.ready("www.corvane.example", 200)
		s.figure("a store that "+way+": until the first page", time.Since(began).Seconds(), 30, "s")
		film, err := n.get("www.corvane.example", "/films/1.mp4")
		check(err)
		health, err := n.get("x.example", "/.orilla/health")
		check(err)
		if film.status != 200 || health.status != 200 {
			return fmt.Errorf("film %d, health %d", film.status, health.status)
		}
		far.path.broken.Store(false)
		far.path.hangs.Store(false)
		n.end(os.Interrupt)
	}
	return nil
}
