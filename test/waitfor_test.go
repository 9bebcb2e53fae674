package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// presence leaves what an edge node leaves that was killed some time ago.
// Nothing answers at its address.
func (p *place) presence(node string, ago time.Duration) { p.presenceWith(node, ago, "") }

// presenceWith leaves one that says which networks it reaches.
func (p *place) presenceWith(node string, ago time.Duration, reach string) {
	p.t.Helper()
	name := filepath.Join(p.home, "store", "edges", node)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(name), 0o755))
	seen := time.Now().Add(-ago)
	text := fmt.Sprintf(`{"format":1,"node":%q,"address":"nowhere.invalid:7420","started":%q,"seen":%q,"knows":{"semantics":3},"reach":%q,"later":"says more"}`, node, seen.Format(time.RFC3339), time.Now().Format(time.RFC3339), reach)
	require.NoError(p.t, os.WriteFile(name, []byte(text), 0o644))
	require.NoError(p.t, os.Chtimes(name, seen, seen))
}

// TestANodeThatIsGoneTakesNoReleaseBack waits for nodes of which one was killed
// a moment ago, and of which none is left.
func TestANodeThatIsGoneTakesNoReleaseBack(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	p.ok("deploy")
	p.commit("Second", map[string]string{"index.html": "two"})
	p.presence("pier-7420", 16*time.Second)
	_, notes, status := p.run("deploy", "--wait-for", "/")
	assert.Zero(t, status, notes)
	assert.Contains(t, notes, "not checked")
	assert.Contains(t, notes, "production:2 is live but was not checked")
	rows := p.history("production")
	require.Len(t, rows, 2, "nothing went back")
	assert.False(t, rows[0].Frozen)
	assert.Equal(t, []bool{false, true}, []bool{rows[0].Outcome.Passed, rows[0].Outcome.Looks[0].Unchecked})

	p.edge()
	p.presence("pier-7420", 16*time.Second)
	p.commit("Third", map[string]string{"index.html": "three"})
	p.ok("deploy", "--wait-for", "/")
	rows = p.history("production")
	require.Len(t, rows, 3, "nothing went back")
	assert.True(t, rows[0].Outcome.Passed, "the node that is left has answered")
	assert.Equal(t, "200", rows[0].Outcome.Looks[0].Text)
}

// TestWhatANodeAnnounces is an address that others can call.
func TestWhatANodeAnnounces(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	p.ok("deploy")
	p.fails(2, "others cannot reach this address", "edge", "--announce", "0.0.0.0:7420")
	p.fails(2, "HOST:PORT", "edge", "--announce", "pier")
	address := p.edgeOn("", "--announce", "pier.corvane.test:8080")
	_, port, _ := strings.Cut(address, ":")
	found, err := filepath.Glob(filepath.Join(p.home, "store", "edges", "*-"+port))
	require.NoError(t, err)
	require.Len(t, found, 1)
	said, err := os.ReadFile(found[0])
	require.NoError(t, err)
	assert.Contains(t, string(said), `"address":"pier.corvane.test:8080"`)
	assert.Contains(t, string(said), `"version":"`)
	assert.Contains(t, string(said), `"knows":{"document":`)
}

// TestAnUpstreamThatNoNodeAsksIsToldBefore deploys rules for an upstream inside
// the network of a node, as its operator allows it and not.
func TestAnUpstreamThatNoNodeAsksIsToldBefore(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("Site", map[string]string{"dist/index.html": "home", "site.rules": "proxy /api/{rest:all} -> harbour:/{rest}\nproxy /tides -> http://10.1.2.3/\n",
		"orilla.yaml": "site: corvane\nbuild: {output: dist}\nrules: site.rules\nenvironments: {production: " +
			"{upstreams: {harbour: 'http://127.0.0.1:9/v1', quay: 'https://nowhere.invalid'}}}\n"})
	p.ok("deploy")
	for reach, told := range map[string]bool{"public": true, "10.0.0.0/8": true, "127.0.0.0/8": false, "all": false,
		"": false} {
		p.presenceWith("pier-7420", 0, reach)
		_, notes, status := p.run("deploy", "--rebuild")
		require.Zero(t, status, notes)
		assert.Equal(t, told, strings.Contains(notes, "pier-7420 refuses the upstream harbour"), notes)
		assert.Equal(t, told, strings.Contains(notes, "orilla edge --reach 127.0.0.1"), notes)
		assert.NotContains(t, notes, "quay")
		assert.Equal(t, told && reach != "10.0.0.0/8" || reach == "127.0.0.0/8",
			strings.Contains(notes, "orilla edge --reach 10.1.2.3"), notes)
	}
}
