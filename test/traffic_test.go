package test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/view"
)

// countedNode is a node that counts, and writes a line for each request.
type countedNode struct {
	*publicNode
	log string
}

// countedNodes starts nodes that share a secret, each with a cache.
func (p *place) countedNode(name, address string) *countedNode {
	p.t.Helper()
	folder := filepath.Join(filepath.Dir(p.folder), name)
	require.NoError(p.t, os.MkdirAll(folder, 0o755))
	config := fmt.Sprintf("listen: %s\ntrust: [127.0.0.1]\ncache: {folder: cache}\nlocal_names: true\ndrain: 0s\n"+
		"access_log: {file: access.log}\ntraffic: {secret: ../secret}\n", address)
	require.NoError(p.t, os.WriteFile(filepath.Join(folder, "edge.yaml"), []byte(config), 0o600))
	n := &countedNode{publicNode: p.publicNode(nil, nil, "--config", filepath.Join(folder, "edge.yaml")),
		log: filepath.Join(folder, "access.log")}
	n.address = address
	n.says("corvane production:1")
	// What comes in the first moments is counted under a salt of the node's own.
	require.Eventually(p.t, func() bool {
		data, _ := os.ReadFile(filepath.Join(folder, "cache", "notes", "traffic-salt"))
		return bytes.Contains(data, []byte(`"Shared":true`))
	}, 30*time.Second, 5*time.Millisecond)
	return n
}

// visit asks a node for something, as the n-th visitor.
func (n *countedNode) visit(path string, visitor int, header ...string) error {
	request, err := http.NewRequest(http.MethodGet, "http://"+n.address+path, nil)
	if err != nil {
		return err
	}
	request.Host = "corvane.localhost"
	request.Header.Set("User-Agent", "Mozilla/5.0 (X11; Linux x86_64)")
	request.Header.Set("X-Forwarded-For", fmt.Sprintf("198.51.%d.%d", 100+visitor/250, visitor%250+1))
	for i := 0; i < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close() //nolint:errcheck // read
	_, err = io.Copy(io.Discard, response.Body)
	return err
}

// lines are how many requests of the site an access log has.
func (n *countedNode) lines() int {
	data, err := os.ReadFile(n.log)
	require.NoError(n.t, err)
	return bytes.Count(data, []byte("\n"))
}

// What is compared is two ways of counting the same: lines that were written one by one, and sums
// that went through notes, kills, records and adding up.

// TestNodesCountWhatTheirLogsSay asks three nodes, kills them, and asks on: what orilla traffic adds
// up is what the access logs have, and says nothing of anybody.
func TestNodesCountWhatTheirLogsSay(t *testing.T) {
	t.Parallel()
	p := servedPlace(t)
	addresses := []string{freeAddress(t), freeAddress(t), freeAddress(t)}
	nodes := make([]*countedNode, len(addresses))
	start := func() {
		for i, address := range addresses {
			nodes[i] = p.countedNode(fmt.Sprint("node", i), address)
		}
	}
	start()
	began := time.Now().UTC()
	const visitors = 600
	each := soak.Rounds(1500, 16_800)
	var asked atomic.Int64
	// Two clients a node; a sixth of what they ask for is missing for all, a sixth for one each.
	ask := func(round int) {
		var asking sync.WaitGroup
		for worker, n := range nodes {
			for part := range 2 {
				asking.Go(func() {
					for i := range each {
						path := []string{"/", "/fares", "/", "/", "/old-fares", fmt.Sprint("/nobody/", round, worker, part, i)}[i%6]
						if assert.NoError(t, n.visit(path, (i*7+part*13)%visitors, "Referer", "https://islands.example/")) {
							asked.Add(1)
						}
					}
				})
			}
		}
		asking.Wait()
	}
	// What the nodes' access logs have, all together.
	logged := func() (sum int64) {
		for _, n := range nodes {
			sum += int64(n.lines())
		}
		return sum
	}
	ask(1)
	// Killed once all was noted, which takes five seconds and a little more on a busy machine.
	require.Eventually(t, func() bool { return logged() == asked.Load() }, 30*time.Second, 100*time.Millisecond)
	noted := time.Now()
	require.Eventually(t, func() bool {
		for _, n := range nodes {
			notes, err := filepath.Glob(filepath.Join(filepath.Dir(n.log), "cache", "notes", "traffic+*"))
			require.NoError(t, err)
			for _, note := range notes {
				if info, err := os.Stat(note); err != nil || info.ModTime().Before(noted.Add(-time.Second)) {
					data, _ := os.ReadFile(note)
					if !strings.Contains(string(data), fmt.Sprintf(`"Requests":%d`, 2*each)) {
						return false
					}
				}
			}
			if len(notes) == 0 {
				return false
			}
		}
		return true
	}, 60*time.Second, 200*time.Millisecond)
	time.Sleep(6 * time.Second) // one more note
	for _, n := range nodes {
		n.signal(syscall.SIGKILL)
		<-n.ended
	}
	start()
	ask(2)
	for _, n := range nodes {
		n.signal(syscall.SIGTERM)
	}
	for _, n := range nodes {
		<-n.ended
	}
	require.Equal(t, asked.Load(), logged())

	report := document[view.TrafficReport](p, "traffic", "--since", "2h")
	assert.Equal(t, asked.Load(), report.Total.Requests)
	assert.Equal(t, asked.Load()/3, report.Total.Status(404, 404))
	assert.Equal(t, 3, report.Nodes)
	t.Log(report.Total.Requests, report.Visitors)
	if traffic.DayOf(time.Now()) == traffic.DayOf(began) {
		assert.InDelta(t, visitors, report.Visitors, visitors*0.07)
		assert.False(t, report.Apart)
	}
	require.Len(t, report.Lost, 1, "what one asked for is nobody's business")
	assert.Equal(t, "/old-fares", report.Lost[0].Path)
	assert.Equal(t, "production:1", report.Deploys[0].Entry)
	text := p.ok("traffic")
	assert.Contains(t, text, "islands.example")
	err := filepath.WalkDir(filepath.Join(p.home, "store"), func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		assert.NotContains(t, string(data), "198.51.", path)
		assert.NotContains(t, string(data), "/nobody/", path)
		return err
	})
	require.NoError(t, err)
	p.ok("remove-site", "corvane", "--yes")
	assert.NoDirExists(t, filepath.Join(p.home, "store", "traffic", "corvane"))
}

// TestLostAddressesBecomeRules has what visitors missed led on, in one line of a shell.
func TestLostAddressesBecomeRules(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("site", map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {output: out}\n",
		"site.rules": "", "out/index.html": "<!doctype html><title>Corvane</title>",
		"out/ships/dunlin.html": "<!doctype html><title>The Dunlin</title><p>She carries forty cars"})
	p.ok("deploy")
	p.git("mv", "out/ships", "out/boats")
	p.commit("Ships are boats", nil)
	p.ok("deploy")
	p.counted("production", "/ships/dunlin", 9)
	p.counted("production", "/wp-login.php", 90)
	assert.Contains(t, p.ok("traffic"), "it moved after production:1")
	rules, notes, status := p.run("traffic", "--rules")
	require.Zero(t, status, notes)
	assert.Equal(t, "# asked for 9 times; it moved after production:1\nredirect /ships/dunlin -> /boats/dunlin\n", rules)
	p.commit("Old addresses lead on", map[string]string{"site.rules": rules})
	p.ok("check")
	p.ok("deploy")
	assert.Contains(t, p.ok("explain", "/ships/dunlin"), "/boats/dunlin")
	out, notes, status := p.run("traffic", "--rules")
	require.Zero(t, status)
	assert.Empty(t, out)
	assert.Contains(t, notes, "no address")
	assert.NotContains(t, p.ok("traffic", "--limit", "0"), "/ships/dunlin", "it answers by now")
	p.fails(2, "24h or 7d", "traffic", "--since", "yesterday")
	p.fails(2, "400d at most", "traffic", "--since", "1000d")
}

// counted writes a record of the hour, and of the next one, as a node does: one path that was
// missing so many times.
func (p *place) counted(environment, missing string, times int64) {
	p.t.Helper()
	for ahead := range 2 {
		at := time.Now().UTC().Add(time.Duration(ahead) * time.Hour)
		counts := traffic.Counts{Totals: traffic.Totals{Requests: 2 * times, Bytes: 2000, Pages: times,
			Statuses: map[string]int64{"200": times, "404": times}, By: map[string]int64{"file": times, "missing": times},
			Cache: map[string]int64{"hit": times}, Encodings: map[string]int64{"br": times}},
			Paths:     traffic.Names{List: []traffic.Name{{Name: "/", Requests: times, Bytes: 2000}}},
			Missing:   traffic.Names{List: []traffic.Name{{Name: missing, Requests: times, Elsewhere: times}}},
			Referrers: traffic.Names{List: []traffic.Name{{Name: "islands.example", Requests: times}}}}
		data, err := traffic.Record{Site: "corvane", Day: traffic.DayOf(at), Node: "harbour-7420", Until: at,
			Hours: map[string]map[string]traffic.Counts{traffic.HourOf(at): {journal.DisplayName(environment): counts}}}.Encode()
		require.NoError(p.t, err)
		folder := filepath.Join(p.home, "store", "traffic", "corvane", traffic.DayOf(at))
		require.NoError(p.t, os.MkdirAll(folder, 0o755))
		name := fmt.Sprintf("%s-%x", traffic.HourOf(at), missing)
		require.NoError(p.t, os.WriteFile(filepath.Join(folder, name), data, 0o600))
	}
}
