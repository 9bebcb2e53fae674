// Command network measures how fast and how surely many edge nodes become one edge: a store
// and five nodes, each in a network of its own (Linux namespaces), with latency and loss
// between all of them. Run it from the repository, as root:
//
//	go run ./scripts/network                    200 flips, and the bad days after them
//	go run ./scripts/network -flips 50 -ms 40   fewer, over longer ways
//
// It needs ip (iproute2) and versitygw (scripts/test installs it). It prints a figure and its
// limit for each part, and ends with status 1 if one is missed.
//
// Kernels without netem cannot delay packets, so everything goes through relays of this
// process: each passes bytes on after half the latency, and a lost packet is a pause as long
// as a retransmission takes. Connecting costs a turn, as it does in the world. Links are
// really taken down, so that a node that is cut off hears nothing, not even a refusal.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"orilla.example/orilla/internal/store/storetest"
)

// nodes is how many there are.
const nodes = 5

// network is everything that runs.
type network struct {
	folder, program string
	store           string // its address, as the deployer reaches it
	latency         time.Duration
	loss            float64
	relays          []*relay // of the nodes to the store
	fronts          []*relay // of everybody to the nodes
	running         []*exec.Cmd
	gateway         *storetest.S3Server
	missed          []string
	turn            int
}

func main() {
	log.SetFlags(0)
	flips := flag.Int("flips", 200, "how many releases are put live")
	latency := flag.Int("ms", 20, "how long a packet and its answer take, in milliseconds")
	loss := flag.Float64("loss", 0.001, "how many of the packets are lost")
	flag.Parse()
	folder, err := os.MkdirTemp("", "orilla-network-")
	check(err)
	n := &network{folder: folder, latency: time.Duration(*latency) * time.Millisecond, loss: *loss,
		running: make([]*exec.Cmd, nodes)}
	defer n.end()
	// Networks outlive who made them; so whoever ends this early still takes them down.
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, os.Interrupt, syscall.SIGTERM, syscall.SIGPIPE)
	go func() {
		<-ended
		n.end()
		os.Exit(1)
	}()
	n.begin()
	n.flips(*flips)
	n.cutOff()
	n.killed()
	n.without()
	if len(n.missed) > 0 {
		fmt.Println("missed:", strings.Join(n.missed, "; "))
		n.end()
		os.Exit(1) //nolint:gocritic // everything was ended
	}
}

// check ends the program if something went wrong that is not measured.
func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

// ip runs the command that makes networks.
func ip(args ...string) error {
	out, err := exec.Command("ip", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// The networks: a bridge out here, and for each node a namespace with one cable to it. The node
// knows no address but its own and those of the relays.

// space is the namespace of a node, and link its end of the cable out here.
func space(i int) string { return fmt.Sprintf("orilla-n%d", i) }
func link(i int) string  { return fmt.Sprintf("orilla-v%d", i) }

const (
	bridge = "orilla-br"
	here   = "10.77.0.1"
)

// begin makes networks, the store, a first release, and the nodes.
func (n *network) begin() {
	n.program = filepath.Join(n.folder, "orilla")
	out, err := exec.Command("go", "build", "-o", n.program, "./cmd/orilla").CombinedOutput()
	if err != nil {
		log.Fatalf("%s%v", out, err)
	}
	n.end()
	check(ip("link", "add", bridge, "type", "bridge"))
	check(ip("addr", "add", here+"/24", "dev", bridge))
	check(ip("link", "set", bridge, "up"))
	for i := range nodes {
		check(ip("netns", "add", space(i)))
		check(ip("link", "add", link(i), "type", "veth", "peer", "name", "eth0", "netns", space(i)))
		check(ip("link", "set", link(i), "master", bridge, "up"))
		check(ip("-n", space(i), "addr", "add", address(i)+"/24", "dev", "eth0"))
		check(ip("-n", space(i), "link", "set", "eth0", "up"))
		check(ip("-n", space(i), "link", "set", "lo", "up"))
	}

	gateway, err := storetest.StartS3(filepath.Join(n.folder, "s3"))
	check(err)
	n.gateway = gateway
	n.store = gateway.Store("corvane", n.relay(here+":0", gateway.Listen).address)
	n.orilla("store", "init", n.store)
	n.publish()
	for i := range nodes {
		toStore := n.relay(here+":0", gateway.Listen)
		n.relays = append(n.relays, toStore)
		n.fronts = append(n.fronts, n.relay(here+":0", address(i)+":"+port(i)))
		n.start(i)
	}
	n.eventually("all nodes to begin", time.Minute, func() bool {
		return len(n.serving(n.asked())) == nodes
	})
}

func address(i int) string { return fmt.Sprintf("10.77.0.%d", 10+i) }
func port(i int) string    { return strconv.Itoa(7420 + i) }

// start starts a node in its namespace.
func (n *network) start(i int) {
	through := strings.Replace(n.store, n.endpoint(), n.relays[i].address, 1)
	own := func(what string) string { return filepath.Join(n.folder, what+strconv.Itoa(i)) }
	command := exec.Command("ip", "netns", "exec", space(i), n.program, "edge", "--store", through,
		"--listen", address(i)+":"+port(i), "--announce", n.fronts[i].address, "--local-names",
		"--region", "r"+strconv.Itoa(i), "--cache", own("cache"))
	command.Env = append(storetest.Env(os.Environ()), "ORILLA_HOME="+own("home"))
	said, err := os.OpenFile(own("log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	check(err)
	command.Stdout, command.Stderr = said, said
	check(command.Start())
	n.running[i] = command
}

// endpoint is where the deployer reaches the store.
func (n *network) endpoint() string {
	_, rest, _ := strings.Cut(n.store, "endpoint=http://")
	at, _, _ := strings.Cut(rest, "&")
	return at
}

// end takes everything down.
func (n *network) end() {
	for _, command := range n.running {
		if command != nil {
			command.Process.Kill() //nolint:errcheck // it may have ended
			command.Wait()         //nolint:errcheck // as above
		}
	}
	if n.gateway != nil {
		n.gateway.Stop()
	}
	for i := range nodes {
		ip("netns", "del", space(i)) //nolint:errcheck // it may not be there
		ip("link", "del", link(i))   //nolint:errcheck // as above
	}
	ip("link", "del", bridge) //nolint:errcheck // as above
}

// orilla runs the program as a deployer does.
func (n *network) orilla(args ...string) []byte {
	out, err := n.try(args...)
	if err != nil {
		log.Fatalf("orilla %s: %v", strings.Join(args, " "), err)
	}
	return out
}

// try runs it, and returns what it says if it fails.
func (n *network) try(args ...string) ([]byte, error) {
	command := exec.Command(n.program, args...)
	command.Dir = n.site()
	command.Env = append(storetest.Env(os.Environ()), "ORILLA_HOME="+filepath.Join(n.folder, "home"),
		"ORILLA_RESOLVER=none")
	var notes bytes.Buffer
	command.Stderr = &notes
	out, err := command.Output()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, notes.String())
	}
	return out, err
}

// site is the folder of the project.
func (n *network) site() string {
	folder := filepath.Join(n.folder, "site")
	check(os.MkdirAll(folder, 0o755))
	return folder
}

// deployed is what a deploy says in JSON, as far as it matters here.
type deployed struct {
	Entry string
	Nodes []answered
}

// answered is what one node said.
type answered struct {
	Node, State, Why string
	Known            bool
	Serves           map[string]string
	Milliseconds     float64
}

// publish puts the next release live: a page and a script are new, a hundred files are not.
func (n *network) publish() (d deployed, took time.Duration) {
	n.turn++
	out := filepath.Join(n.site(), "out")
	check(os.MkdirAll(out, 0o755))
	if n.turn == 1 {
		for i := range 100 {
			pier := filepath.Join(out, fmt.Sprintf("pier%d.html", i))
			check(os.WriteFile(pier, []byte(strings.Repeat("pier ", 2000)), 0o600))
		}
	}
	text := fmt.Sprintf("turn %d\n", n.turn)
	check(os.WriteFile(filepath.Join(out, "index.html"), []byte(text), 0o600))
	check(os.WriteFile(filepath.Join(out, "app.js"), []byte(strings.Repeat(text, 2000)), 0o600))
	began := time.Now()
	data := n.orilla("deploy", "out", "--site", "corvane", "--to", "production", "--yes", "--json",
		"--store", n.store)
	took = time.Since(began)
	check(json.Unmarshal(data, &d))
	return d, took
}

// asked asks all nodes what they serve.
func (n *network) asked() (list []answered) {
	data := n.orilla("edge", "list", "--site", "corvane", "--json", "--store", n.store)
	check(json.Unmarshal(data, &list))
	return list
}

// serving are the nodes of a list that are known and serve something.
func (n *network) serving(list []answered) []answered {
	return slices.DeleteFunc(slices.Clone(list),
		func(a answered) bool { return !a.Known || a.Serves["production"] == "" })
}

// eventually waits for something.
func (n *network) eventually(what string, atMost time.Duration, is func() bool) time.Duration {
	began := time.Now()
	for !is() {
		if time.Since(began) > atMost {
			n.missed = append(n.missed, what+" in "+atMost.String())
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	return time.Since(began)
}

// figure prints what was measured, with its limit.
func (n *network) figure(what string, is, limit float64, unit string) {
	fmt.Printf("%-72s %8.1f %s (at most %.0f)\n", what, is, unit, limit)
	if is > limit {
		n.missed = append(n.missed, what)
	}
}

// What is measured, and in what order. Each part leaves the network as it found it, so that a
// figure is that of one thing that went wrong:
//
//	flips     nothing goes wrong: how long until each node has confirmed, and what visitors saw
//	cutOff    a node's link is down: deploys do not wait for it, and name it
//	killed    a node's process is gone, and comes again
//	without   the store is silent to all nodes, and answers whoever deploys
//
// Visitors ask all the time, each over a connection of its own, and remember the last entry
// that a node served: none may ever serve an older one.

// flips puts releases live one after the other, while a client asks the nodes in turn.
func (n *network) flips(count int) {
	visitors := n.visit()
	var each []float64
	unconfirmed, wrong := 0, 0
	var deploys []float64
	for range count {
		d, took := n.publish()
		deploys = append(deploys, float64(took.Milliseconds()))
		for _, node := range d.Nodes {
			if !node.Known || node.Serves["production"] != d.Entry {
				unconfirmed++
				continue
			}
			each = append(each, node.Milliseconds)
		}
		if len(d.Nodes) != nodes {
			unconfirmed++
		}
		for i := range nodes {
			if body, _, err := n.page(i); err != nil || body != fmt.Sprintf("turn %d\n", n.turn) {
				wrong++
			}
		}
	}
	visitors.end()
	slices.Sort(each)
	slices.Sort(deploys)
	at := func(list []float64, share float64) float64 {
		if len(list) == 0 {
			return 0
		}
		return list[int(share*float64(len(list)-1))]
	}
	fmt.Printf("%d flips at %d nodes; latency %s, loss %.1f %%\n", count, nodes, n.latency, 100*n.loss)
	n.figure("nodes that did not confirm", float64(unconfirmed), 0, "")
	n.figure("pages that were not the new one after the deploy had ended", float64(wrong), 0, "")
	n.figure("from the entry to a node's confirmation, median", at(each, 0.5), 150, "ms")
	n.figure("... 99th of a hundred", at(each, 0.99), 150, "ms")
	n.figure("... the longest", at(each, 1), 1000, "ms")
	n.figure("a whole deploy, median", at(deploys, 0.5), 3000, "ms")
	n.figure("entries of visitors that were older than one before", float64(visitors.back.Load()), 0, "")
	n.figure(fmt.Sprintf("errors of %d visitors", visitors.asked.Load()), float64(visitors.failed()), 0, "")
}

// cutOff takes a node's link down during deploys.
func (n *network) cutOff() {
	const cut = 3
	visitors := n.visit()
	check(ip("link", "set", link(cut), "down"))
	d, took := n.publish()
	named := 0
	for _, node := range d.Nodes {
		if node.Why != "" && strings.HasSuffix(node.Node, "-"+port(cut)) {
			named++
		}
	}
	n.figure("a node is cut off: the deploy takes", float64(took.Milliseconds()), 8000, "ms")
	n.figure("... and does not name it", float64(1-named), 0, "")
	check(ip("link", "set", link(cut), "up"))
	caught := n.eventually("the node to catch up", 30*time.Second, func() bool {
		body, _, err := n.page(cut)
		return err == nil && body == fmt.Sprintf("turn %d\n", n.turn)
	})
	n.figure("... it catches up after", float64(caught.Milliseconds()), 15000, "ms")
	visitors.end()
	n.figure("... entries older than one before", float64(visitors.back.Load()), 0, "")
	n.figure("... errors of other nodes", float64(visitors.but(cut)), 0, "")
}

// killed ends a node without a word, and starts it again.
func (n *network) killed() {
	const dead = 1
	visitors := n.visit()
	time.Sleep(300 * time.Millisecond)
	check(n.running[dead].Process.Signal(syscall.SIGKILL))
	n.running[dead].Wait() //nolint:errcheck // it was killed
	_, took := n.publish()
	n.figure("a node is killed: the deploy takes", float64(took.Milliseconds()), 8000, "ms")
	n.start(dead)
	back := n.eventually("the node to be back", 30*time.Second, func() bool {
		body, _, err := n.page(dead)
		return err == nil && body == fmt.Sprintf("turn %d\n", n.turn)
	})
	n.figure("... started again, it serves what is live after", float64(back.Milliseconds()), 5000, "ms")
	visitors.end()
	n.figure("... errors of other nodes", float64(visitors.but(dead)), 0, "")
	n.figure("... entries older than one before", float64(visitors.back.Load()), 0, "")
}

// without takes the store away from all nodes, and brings it back.
func (n *network) without() {
	visitors := n.visit()
	for _, r := range n.relays {
		r.silent.Store(true)
	}
	d, took := n.publish()
	late := 0
	for _, node := range d.Nodes {
		if node.Serves["production"] != d.Entry {
			late++
		}
	}
	n.figure("no node reaches the store: the deploy takes", float64(took.Milliseconds()), 10000, "ms")
	n.figure("... nodes reported to serve it anyway", float64(nodes-late), 0, "")
	time.Sleep(5 * time.Second)
	for _, r := range n.relays {
		r.silent.Store(false)
		r.drop()
	}
	back := n.eventually("all nodes to follow", time.Minute, func() bool {
		for i := range nodes {
			if body, _, err := n.page(i); err != nil || body != fmt.Sprintf("turn %d\n", n.turn) {
				return false
			}
		}
		return true
	})
	visitors.end()
	n.figure("... after the store is back, all serve it after", float64(back.Milliseconds()), 25000, "ms")
	n.figure(fmt.Sprintf("... errors of %d visitors", visitors.asked.Load()), float64(visitors.failed()), 0,
		"")
	n.figure("... entries older than one before", float64(visitors.back.Load()), 0, "")
}

// page asks a node for the front page, and returns it with the number of the entry.
func (n *network) page(i int) (string, int, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+n.fronts[i].address+"/", nil)
	if err != nil {
		return "", 0, err
	}
	request.Host = "corvane.localhost"
	request.Close = true // each visitor is another one
	response, err := http.DefaultTransport.RoundTrip(request)
	if err != nil {
		return "", 0, err
	}
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	_, label, _ := strings.Cut(response.Header.Get("Orilla-Release"), "entry=production:")
	label, _, _ = strings.Cut(label, ";")
	number, _ := strconv.Atoi(label)
	if response.StatusCode != http.StatusOK {
		err = fmt.Errorf("status %d", response.StatusCode)
	}
	return string(body), number, err
}

// visitors ask all nodes in turn until they are ended.
type visitors struct {
	stop, done  chan struct{}
	asked, back atomic.Int64
	mutex       sync.Mutex
	errors      [nodes]int
}

// visit begins.
func (n *network) visit() *visitors {
	v := &visitors{stop: make(chan struct{}), done: make(chan struct{})}
	var group sync.WaitGroup
	for i := range nodes {
		group.Go(func() {
			last := 0
			for {
				select {
				case <-v.stop:
					return
				case <-time.After(10 * time.Millisecond):
				}
				_, number, err := n.page(i)
				v.asked.Add(1)
				if err != nil {
					v.mutex.Lock()
					v.errors[i]++
					v.mutex.Unlock()
					continue
				}
				if number < last {
					v.back.Add(1)
				}
				last = max(last, number)
			}
		})
	}
	go func() { group.Wait(); close(v.done) }()
	return v
}

// end waits until the last one has gone.
func (v *visitors) end() {
	close(v.stop)
	<-v.done
}

// failed counts errors.
func (v *visitors) failed() int { return v.but(-1) }

// but counts the errors of all nodes but one.
func (v *visitors) but(one int) (sum int) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	for i, count := range v.errors {
		if i != one {
			sum += count
		}
	}
	return sum
}
