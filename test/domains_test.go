package test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAddressesHaveOwners lets two sites of one store want the same address:
// who was there first has it, until it gives it away.
func TestAddressesHaveOwners(t *testing.T) {
	t.Parallel()
	p, other := newPlace(t), newPlace(t)
	other.home = p.home
	const addressed = "environments: {production: {addresses: [\"https://www.corvane.example/\"]}}\n"
	p.commit("First", map[string]string{"orilla.yaml": "site: zeta\n" + addressed, "index.html": "of zeta"})
	assert.Contains(t, p.ok("deploy"), "https://www.corvane.example/")
	address := p.edge()
	other.commit("First", map[string]string{"orilla.yaml": "site: alpha\nbuild: " +
		"{run: [touch built], output: .}\n" + addressed, "index.html": "of alpha"})
	notes := other.fails(3, "https://www.corvane.example/ belongs to the site zeta", "deploy")
	assert.NotContains(t, notes, "touch built", "it is refused before anything is built")
	assert.Contains(t, notes, "orilla domains give www.corvane.example --to alpha")
	assert.Equal(t, "of zeta", awaits(t, address, "www.corvane.example", "/", http.StatusOK))

	other.write(map[string]string{"orilla.yaml": "site: alpha\n"})
	other.commit("Without", nil)
	other.ok("deploy")
	other.commit("With a path",
		map[string]string{"orilla.yaml": "site: alpha\nenvironments: {production: {addresses: " +
			"[\"https://www.corvane.example/alpha/\"]}}\n"})
	assert.Contains(t, other.ok("status"), "https://www.corvane.example/alpha/  waits for the next deploy")
	assert.Contains(t, other.fails(3, "belongs to the site zeta", "deploy"),
		"orilla domains allow www.corvane.example/alpha/ --to alpha")
	p.fails(2, "no site", "domains", "allow", "www.corvane.example/alpha/", "--to", "aplha")
	p.ok("domains", "allow", "www.corvane.example/alpha/", "--to", "alpha")
	assert.Contains(t, p.ok("domains"), "/alpha/ alpha")
	other.ok("deploy")
	assert.Equal(t, "of alpha", awaits(t, address, "www.corvane.example", "/alpha/", http.StatusOK))
	assert.NotContains(t, other.ok("status"), "waits for the next deploy")

	other.fails(3, "belongs to the site zeta", "domains", "release", "www.corvane.example", "--yes")
	p.fails(3, "--yes", "domains", "give", "www.corvane.example", "--to", "alpha")
	p.ok("domains", "give", "www.corvane.example", "--to", "alpha", "--yes")
	assert.Equal(t, "of zeta", awaits(t, address, "www.corvane.example", "/", http.StatusOK),
		"until the new owner is live there")
	other.commit("The whole", map[string]string{"orilla.yaml": "site: alpha\n" + addressed})
	other.ok("deploy")
	require.Eventually(t, func() bool {
		_, body := get(t, address, "www.corvane.example",
			"/")
		return body == "of alpha"
	}, 30*time.Second, 20*time.Millisecond)
	p.commit("Second", map[string]string{"index.html": "of zeta again"})
	assert.Equal(t, 1, document[deployed](p, "deploy").EdgeServing)
	_, body := get(t, address, "www.corvane.example", "/")
	assert.Equal(t, "of alpha", body, "what zeta still says of its addresses does not count")

	other.ok("remove-site", "alpha", "--yes")
	type host struct{ Owner string }
	assert.Equal(t, []host{{""}}, document[[]host](p, "domains"), "who is removed has nothing")
	p.ok("deploy", "--again")
	require.Eventually(t, func() bool {
		_, body := get(t, address, "www.corvane.example",
			"/")
		return body == "of zeta again"
	}, 30*time.Second, 20*time.Millisecond)
}

// TestASiteIsRenamed does what a deploy of the renamed site says.
func TestASiteIsRenamed(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"index.html": "one",
		"orilla.yaml": "site: corvane\nenvironments: {production: {addresses: ['https://www.corvane.example/']}}\n"})
	p.ok("deploy")
	address := p.edge()
	p.commit("Renamed", map[string]string{"index.html": "two",
		"orilla.yaml": "site: ferries\nenvironments: {production: {addresses: ['https://www.corvane.example/']}}\n"})
	notes := p.fails(3, "belongs to the site corvane", "deploy")
	assert.Contains(t, notes, "claim the name ferries: orilla build")
	const give = "orilla domains give www.corvane.example --to ferries --site corvane"
	assert.Contains(t, notes, give)
	p.ok("build")
	p.ok(append(strings.Fields(give)[1:], "--yes")...)
	assert.Equal(t, "one", awaits(t, address, "www.corvane.example", "/", 200), "the old site answers until the new one is deployed")
	p.ok("deploy")
	require.Eventually(t, func() bool {
		_, body := get(t, address, "www.corvane.example", "/")
		return body == "two"
	}, patience, tick)
	p.ok("remove-site", "corvane", "--yes")
	assert.Equal(t, "two", awaits(t, address, "www.corvane.example", "/", 200))
}
