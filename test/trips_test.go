package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/storetest"
)

// trips is what a command asked of a store: how many requests, and how many of them
// after one another, as far as its time tells.
type trips struct {
	requests int64
	deep     int64
}

// TestRoundTrips counts what each command asks of a store that is far away, and
// prints a table. What takes many trips after one another is slow however fast the
// store is. How many those are depends on the machine too, so only a soak holds
// commands to it; all others are held to the number of requests.
func TestRoundTrips(t *testing.T) {
	t.Parallel()
	server := storetest.S3(t)
	proxy, err := storetest.StartFaulty(server.Listen, 0, 1)
	require.NoError(t, err)
	t.Cleanup(proxy.Stop)
	p := newPlace(t)
	p.env = storetest.Env(nil)
	direct, far := server.Store("corvane", ""), server.Store("corvane", proxy.Listen)
	p.ok("store", "init", direct)

	// A site as it is after some months.
	config := "site: corvane\nbuild: {run: ['mkdir out; cp *.html out'], output: out}\n" +
		"environments: {production: {follows: main}, staging: {follows: staging}}\nstore: "
	page := 0
	change := func() {
		page++
		p.commit(fmt.Sprint("Sailing ", page), map[string]string{"orilla.yaml": config + direct + "\n",
			"index.html": fmt.Sprint("sailing ", page), "fares.html": "42.00"})
	}
	// Entries by going back and forth: they cost no build.
	for range 3 {
		change()
		p.ok("deploy")
	}
	for i := range soak.Rounds(20, 120) {
		p.ok("rollback", fmt.Sprintf("production:%d", 1+i%2), "--keep-following", "--store", direct)
	}
	for i := range soak.Rounds(3, 12) {
		p.git("switch", "-q", "-c", fmt.Sprint("boat-", i))
		change()
		p.ok("deploy")
	}
	p.git("switch", "-q", "main")
	change()
	p.ok("deploy")

	// What a command says is of no interest here, only that it succeeds.
	measure := func(args ...string) trips {
		before := proxy.Requests.Load()
		proxy.Pause(time.Duration(soak.Rounds(1, 20)) * time.Millisecond)
		p.ok(append(args, "--store", far)...)
		return trips{proxy.Requests.Load() - before, proxy.After()}
	}
	table := []string{"command                          requests  after one another"}
	for _, command := range []struct {
		line     string
		most     int64 // after one another, with a few more for a busy machine
		requests int64 // with this short history
	}{
		{"status", 13, 43}, {"preview", 11, 37}, {"history", 16, 50}, {"builds", 10, 22}, {"log build:1", 6, 5}, {"usage", 10, 34},
		{"sites", 8, 6}, {"files production", 8, 7}, {"explain --on production /fares", 11, 11}, {"check production", 12, 13},
		{"diff preview/boat-1 production", 15, 17}, {"rollback --dry-run", 15, 16}, {"rollback production:1 --dry-run", 17, 18},
		{"rollback", 17, 19}, {"rollback production:1", 19, 21}, {"freeze production", 11, 12}, {"thaw production", 15, 18},
		{"deploy --dry-run", 17, 23}, {"deploy --yes", 24, 31}, {"deploy --yes --again", 24, 31},
		{"promote preview/boat-1 --to production --yes", 22, 26}, {"follow --once", 29, 52},
	} {
		if strings.HasPrefix(command.line, "deploy") || strings.HasPrefix(command.line, "follow") {
			change()
		}
		args := strings.Fields(command.line)
		found := measure(args...)
		table = append(table, fmt.Sprintf("%-34s %6d %10d", command.line, found.requests, found.deep))
		if soak.Asked() {
			assert.LessOrEqual(t, found.deep, command.most, command.line)
		} else {
			assert.LessOrEqual(t, found.requests, command.requests+3, command.line)
		}
	}
	t.Log("\n" + strings.Join(table, "\n"))
}
