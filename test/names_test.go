package test

import (
	"bufio"
	"context"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/view"
)

// standIn starts a stand-in and returns what its notes say where the pattern has brackets.
func (p *place) standIn(pattern string, args ...string) string {
	p.t.Helper()
	command := p.command(context.Background(), append([]string{"stand-in"}, args...)...)
	notes, err := command.StderrPipe()
	require.NoError(p.t, err)
	require.NoError(p.t, command.Start())
	found := make(chan string, 1)
	read := make(chan struct{})
	form := regexp.MustCompile(pattern)
	go func() {
		defer close(read)
		for lines := bufio.NewScanner(notes); lines.Scan(); {
			if match := form.FindStringSubmatch(lines.Text()); match != nil {
				select {
				case found <- match[1]:
				default:
				}
			}
		}
	}()
	p.t.Cleanup(func() {
		command.Process.Signal(os.Interrupt) //nolint:errcheck // it may have ended
		<-read
		assert.NoError(p.t, command.Wait())
	})
	select {
	case at := <-found:
		return at
	case <-time.After(30 * time.Second):
		require.Fail(p.t, "the stand-in did not begin")
		return ""
	}
}

// domainsOf runs orilla domains, which may find something.
func (p *place) domainsOf() map[string]view.DomainReport {
	p.t.Helper()
	out, notes, _ := p.run("domains", "--json")
	var list []view.DomainReport
	require.NoError(p.t, json.Unmarshal([]byte(out), &list), "%s %s", out, notes)
	by := map[string]view.DomainReport{}
	for _, report := range list {
		by[report.Host] = report
	}
	return by
}

// codes are those of a report's findings.
func codes(report view.DomainReport) string {
	var list []string
	for _, f := range report.Findings {
		list = append(list, f.Code)
	}
	return strings.Join(list, " ")
}

// TestANameGoesLive takes a site from a name that leads nowhere to one that works, and back.
func TestANameGoesLive(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	key := filepath.Join(p.home, "orilla.key")
	require.NoError(t, os.MkdirAll(p.home, 0o755))
	resolver := p.standIn(`name server at (\S+)`, "dns", "--listen", "127.0.0.1:0", "--key", key)
	p.env = append(p.env, "ORILLA_RESOLVER="+resolver, "ORILLA_TSIG_KEY="+key)
	_, port, err := net.SplitHostPort(freeAddress(t))
	require.NoError(t, err)
	p.commit("First", map[string]string{"index.html": "ferries", "orilla.yaml": strings.ReplaceAll(`site: corvane
edge_addresses: [127.0.0.1]
environments:
  production: {addresses: ["http://www.corvane.example:PORT/", "http://corvane.example:PORT/"]}
previews: {addresses: ["http://{preview}.preview.corvane.example:PORT/"]}
`, "PORT", port)})

	// Before the first deploy: the records can be listed, and set.
	before := p.domainsOf()
	assert.Equal(t, "leads-nowhere", codes(before["www.corvane.example"]))
	assert.Equal(t, "no-wildcard", codes(before["*.preview.corvane.example"]))
	assert.Equal(t, "corvane.example. 300 IN A 127.0.0.1\nwww.corvane.example. 300 IN A 127.0.0.1\n"+
		"*.preview.corvane.example. 300 IN A 127.0.0.1\n",
		strings.Replace(p.ok("domains", "records", "--zone-file"), "; zone corvane.example\n", "", 1))
	assert.Contains(t, p.ok("domains", "records", "--zone-file", "--delegate", "keys.example"),
		"_acme-challenge.preview.corvane.example. 300 IN CNAME preview.corvane.example.keys.example.\n")
	p.fails(2, "--delegate", "domains", "records", "--delegate", "a..b")
	p.fails(3, "needs a confirmation", "domains", "records", "--apply")
	assert.Contains(t, p.ok("domains", "records", "--apply", "--dry-run"), "3 records to set")
	p.fails(2, "one of: production, previews", "domains", "reserve", "staging")
	assert.Contains(t, p.ok("domains", "reserve", "production", "--dry-run"), "waits for its first deploy")
	// Setting records reserves the names: nobody else takes one that leads here already.
	out, notes, status := p.run("domains", "records", "--apply", "--yes")
	require.Zero(t, status, "%s %s", out, notes)
	assert.Contains(t, out, "3 records set")
	assert.Contains(t, notes, "reserved: http://*.preview.corvane.example:"+port+"/")
	thief := newPlace(t)
	thief.env = p.env
	thief.commit("First", map[string]string{"index.html": "x", "orilla.yaml": "site: thief\nstore: " + p.home + "/store\nenvironments: " +
		"{production: {addresses: ['http://www.corvane.example:" + port + "/']}}\n"})
	thief.fails(3, "belongs to the site corvane", "deploy")
	assert.Contains(t, p.ok("status"), "waits for its first deploy")
	p.ok("deploy")
	assert.Contains(t, p.ok("history", "production"), "production:2")
	assert.Contains(t, p.ok("domains", "reserve"), "live:")
	assert.Contains(t, p.ok("domains", "records", "--apply", "--yes"), "nothing to change")

	// The records lead to a place where nothing is yet.
	waiting := p.domainsOf()["www.corvane.example"]
	assert.Contains(t, codes(waiting), "leads-elsewhere")
	assert.Contains(t, waiting.Findings[0].Detail[0], "refused")
	address := p.edgeOn("", "--listen", "127.0.0.1:"+port)
	assert.Equal(t, "127.0.0.1:"+port, address)
	after := p.domainsOf()
	// A second server has what was; the resolver of the stand-in may have it too.
	for host, report := range after {
		assert.Contains(t, []names.State{names.Good, names.Waiting}, report.State, host)
		assert.True(t, report.Leads[0].Edge, host)
	}
	assert.Equal(t, http.StatusOK, after["www.corvane.example"].HTTP.Status)
	assert.Equal(t, "http://www.corvane.example:"+port+"/", after["corvane.example"].HTTP.Location)

	// A stranger's node at the same address is no edge of this store.
	other := newPlace(t)
	other.env = p.env
	other.commit("First", map[string]string{"index.html": "x", "orilla.yaml": "site: harbour\nedge_addresses: 192.0.2.99\nenvironments: " +
		"{production: {addresses: ['http://www.corvane.example:" + port + "/']}}\n"})
	other.ok("deploy")
	foreign := other.domainsOf()["www.corvane.example"]
	assert.Contains(t, codes(foreign), "leads-elsewhere")
	assert.Contains(t, foreign.Findings[0].Detail[0], "another store")
	assert.Contains(t, other.fails(3, "did not set", "domains", "records", "--apply", "--yes"), "www.corvane.example. 300 IN A 127.0.0.1")

	// Who removes the site is told which names are left.
	_, notes, status = p.run("remove-site", "corvane", "--dry-run")
	assert.Zero(t, status)
	assert.Contains(t, notes, "DNS still leads to your edge nodes: corvane.example, www.corvane.example")

	// What was set is taken back, and nothing else.
	assert.Contains(t, p.ok("domains", "records", "--remove", "--yes"), "3 records removed")
	assert.Contains(t, p.ok("domains", "records", "--remove", "--yes"), "nothing to remove")
}
