package test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// variantsIn lists the encoded copies in a store, without the folders that they lie in.
func variantsIn(t *testing.T, store string) (names []string) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(store, "variants", "*", "*"))
	require.NoError(t, err)
	for _, name := range found {
		names = append(names, filepath.Base(name))
	}
	return names
}

// TestEncodingWhereTheBuildRan: a deploy makes all copies, a second one none, and files and
// diff tell what is sent. verify finds one that lies, and prune takes them with their
// sources.
func TestEncodingWhereTheBuildRan(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	page := "<!doctype html><title>Corvane</title><link rel=stylesheet href=/style.css>" + strings.Repeat("<p>Sula to Velley", 100)
	p.commit("site", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n",
		"out/index.html": page, "out/style.css": strings.Repeat("p { color: coral }\n", 100), "out/sign.png": strings.Repeat("x", 900)})
	deploy := func(args ...string) string {
		_, notes, status := p.run(append([]string{"deploy", "--encode"}, args...)...)
		require.Zero(t, status, notes)
		return notes
	}
	out := deploy()
	assert.Contains(t, out, "6 new copies")
	assert.Less(t, strings.Index(out, "live"), strings.Index(out, "compressed"), "what goes live does not wait")
	assert.Len(t, variantsIn(t, filepath.Join(p.home, "store")), 6)
	p.commit("more", map[string]string{"out/fares.html": "<!doctype html><title>Fares</title><link rel=stylesheet href=/style.css>" +
		strings.Repeat("<p>Single 42.00", 100)})
	assert.Contains(t, deploy(), "3 new copies")
	assert.Contains(t, deploy("--again"), "all there already")
	files := p.ok("files", "production")
	assert.Contains(t, files, "SENT")
	assert.Contains(t, files, "are sent")
	assert.Contains(t, p.ok("diff", "production:1", "production:2"), "sent ")

	// A node makes none of them again, and sends them.
	n := p.publicNode(nil, nil, "--listen", "127.0.0.1:0")
	n.says("corvane production:3")
	_, rest, _ := strings.Cut(n.text(), "edge node at http://")
	n.address, _, _ = strings.Cut(rest, " ")
	brotli := func() (string, string) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+n.address+"/", nil)
		require.NoError(t, err)
		r.Host = "corvane.localhost"
		r.Header.Set("Accept-Encoding", "br")
		answer, err := http.DefaultTransport.RoundTrip(r)
		require.NoError(t, err)
		answer.Body.Close() //nolint:errcheck // its header counts
		return answer.Header.Get("Content-Encoding"), answer.Header.Get("ETag")
	}
	coding, first := brotli()
	assert.Equal(t, "br", coding)
	assert.Contains(t, p.ok("explain", "/"), "may be sent compressed: br, zstd, gzip")
	assert.Contains(t, p.ok("explain", "/", "--on", "production", "--live"), "same answer and headers  sent as br")
	assert.Contains(t, p.ok("explain", "/", "--header", "Accept-Encoding: identity"), "may be sent compressed: none")
	time.Sleep(200 * time.Millisecond)
	_, second := brotli()
	_, third := brotli()
	assert.Equal(t, second, third)
	assert.NotEmpty(t, first)

	assert.Contains(t, p.ok("store", "verify"), "9 encoded copies")
	lying, err := filepath.Glob(filepath.Join(filepath.Join(p.home, "store"), "variants", "*", "*.gzip"))
	require.NoError(t, err)
	require.NoError(t, os.Chmod(lying[0], 0o600))
	require.NoError(t, os.WriteFile(lying[0], []byte("harbour"), 0o600))
	out, notes, status := p.run("store", "verify")
	assert.Equal(t, 4, status)
	assert.Contains(t, out, "edge nodes throw it away")
	assert.Contains(t, notes, "no content is lost")
}
