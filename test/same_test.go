package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestARefusedFirstDeployKeepsNoName lets a build fail, and rules be refused,
// before the first deploy of another repository of that name.
func TestARefusedFirstDeployKeepsNoName(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: " +
		"{run: [exit 3], output: out}\n"})
	p.fails(5, "ended with status 3", "deploy")
	p.commit("Second", map[string]string{"orilla.yaml": "site: corvane\nrules: [site.rules]\n",
		"site.rules": "redirect /a\n", "index.html": "one"})
	p.fails(4, "site.rules", "deploy")
	assert.NoFileExists(t, filepath.Join(p.home, "store", "sites", "corvane", "claim"))
	assert.Contains(t, p.ok("sites"), "waits for its first deploy")
	assert.Contains(t, p.ok("store", "verify"), "everything is intact")

	other := newPlace(t)
	other.home = p.home
	other.commit("Another first", map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "other"})
	other.ok("deploy")
	assert.FileExists(t, filepath.Join(p.home, "store", "sites", "corvane", "claim"))
	p.commit("Third", map[string]string{"orilla.yaml": "site: corvane\n"})
	p.fails(3, "belongs to the repository", "deploy")
}

// TestWhatIsLiveAlreadyIsNotPutLiveAgain unless somebody asks for it.
func TestWhatIsLiveAlreadyIsNotPutLiveAgain(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nenvironments: " +
		"{staging: {follows: nothing}}\n", "index.html": "one"})
	type report struct {
		Entry string
		Same  bool
	}
	assert.Equal(t, report{"production:1", false}, document[report](p, "deploy"))
	written := filepath.Join(t.TempDir(), "outputs")
	_, notes, status := p.run("deploy", "--write", "lines:"+written, "--wait-for", "false")
	assert.Zero(t, status, "%s: what is not put live is not waited for", notes)
	assert.Contains(t, notes, "production:1 is already live")
	assert.Contains(t, notes, "nothing changed")
	assert.NotContains(t, notes, "undo:")
	said, err := os.ReadFile(written)
	require.NoError(t, err)
	assert.Contains(t, string(said), "changed=false")
	assert.Equal(t, report{"production:1", true}, document[report](p, "deploy"))
	assert.Equal(t, report{"production:2", false}, document[report](p, "deploy", "--again"))

	assert.Equal(t, report{"staging:1", false}, document[report](p, "promote", "production", "--to",
		"staging"))
	assert.Equal(t, report{"staging:1", true}, document[report](p, "promote", "production", "--to",
		"staging"))
	assert.Equal(t, report{"staging:2", false}, document[report](p, "promote", "production", "--to",
		"staging", "--again"))

	p.commit("Same files, another commit", nil)
	assert.Equal(t, report{"production:3", false}, document[report](p, "deploy"),
		"what is live is of another commit")
	p.commit("Addresses", map[string]string{"orilla.yaml": "site: corvane\nenvironments: {production: " +
		"{addresses: [\"https://www.corvane.example/\"]}, staging: {follows: nothing}}\n"})
	assert.Equal(t, report{"production:5", false}, document[report](p, "deploy"),
		"its addresses, then its commit")
}
