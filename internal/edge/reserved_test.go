package edge_test

import (
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
)

// reserve says where an environment will be.
func (w *world) reserve(environment string, addresses ...string) {
	w.t.Helper()
	document, err := journal.NewDocument(journal.DocumentContent{Addresses: addresses}, "")
	require.NoError(w.t, err)
	w.store.Create(w.t.Context(), document.Digest.Key(), document.Data) //nolint:errcheck // may be there
	entry := w.decide(environment, journal.SetDocument(document, false, "command", "x", "", time.Now()))
	// Of what has ended only a hint says soon that it has moved.
	journal.ReadHints(w.t.Context(), w.store, "corvane").Note(entry)(w.t.Context(), w.store)
}

// TestAnAddressIsThereBeforeTheFirstDeploy reserves addresses, asks at them, and deploys.
func TestAnAddressIsThereBeforeTheFirstDeploy(t *testing.T) {
	t.Parallel()
	var mutex sync.Mutex
	var named []string
	w := start(t, edge.Options{
		Secures: func(host string) bool { return host == "www.corvane.example" },
		Named: func(list []string) {
			mutex.Lock()
			defer mutex.Unlock()
			named = list
		},
	})
	at := func(host, path string) (int, string) {
		response, body := w.ask("GET", host, path, nil)
		return response.StatusCode, response.Header.Get("Location") + body
	}
	status, _ := at("next.corvane.example", "/")
	assert.Equal(t, http.StatusMisdirectedRequest, status)
	w.reserve("staging", "http://next.corvane.example/")
	w.reserve("production", "https://www.corvane.example/", "https://corvane.example/")
	w.reserve(journal.Previews, "https://*.preview.corvane.example/", "https://pr-*.corvane.example/on/",
		"http://all.corvane.example/on/")
	require.Eventually(t, func() bool {
		mutex.Lock()
		defer mutex.Unlock()
		return len(named) == 4
	}, 30*time.Second, time.Millisecond)
	// Certificates: those of https, and the wildcards of all previews.
	assert.Equal(t, []string{"*.corvane.example", "*.preview.corvane.example", "corvane.example",
		"www.corvane.example"}, named)

	for name, c := range map[string]struct {
		host, path string
		status     int
		says       string
	}{
		"waits":              {"next.corvane.example", "/fares", 503, "next.corvane.example waits for its first deploy"},
		"to https":           {"www.corvane.example", "/a?b", 301, "https://www.corvane.example/a?b"},
		"to the canonical":   {"corvane.example", "/a?b", 301, "https://www.corvane.example/a?b"},
		"no preview":         {"winter.preview.corvane.example", "/", 404, "no preview here"},
		"part of a label":    {"pr-7.corvane.example", "/on/", 404, "no preview here"},
		"another path":       {"pr-7.corvane.example", "/off/", 421, ""},
		"nothing behind it":  {"pr-.corvane.example", "/on/", 421, ""},
		"another label":      {"mail.corvane.example", "/on/", 421, ""},
		"deeper":             {"a.b.preview.corvane.example", "/", 421, ""},
		"the pattern itself": {"*.preview.corvane.example", "/", 404, ""},
		"by its path":        {"all.corvane.example", "/on/winter/", 404, "no preview here"},
		"locally":            {"corvane.localhost", "/", 503, "orilla deploy"},
		"previews, locally":  {"previews.corvane.localhost", "/", 404, ""},
	} {
		status, body := at(c.host, c.path)
		assert.Equal(t, c.status, status, name)
		assert.Contains(t, body, c.says, name)
	}
	response, body := w.ask("GET", "next.corvane.example", "/", nil)
	assert.Equal(t, "no-store", response.Header.Get("Cache-Control"))
	assert.NotEmpty(t, response.Header.Get("Retry-After"))
	assert.NotContains(t, body, "staging of") // strangers learn no name
	assert.Empty(t, w.troubles())

	// What is deployed is there; what has been removed stays so, whatever is said of it.
	id := w.put(map[string]string{"index.html": "home"}, release.Settings{})
	w.await("staging.corvane.localhost", w.activate("staging", id, "http://next.corvane.example/"))
	status, body = at("next.corvane.example", "/")
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "home", body)
	w.await("winter.preview.corvane.localhost", w.activate("preview.winter", id, "http://winter.preview.corvane.example/",
		"http://all.corvane.example/on/winter/"))
	for _, where := range []string{"winter.preview.corvane.example/", "all.corvane.example/on/winter/"} {
		host, path, _ := strings.Cut(where, "/")
		status, _ := at(host, "/"+path)
		assert.Contains(t, []int{200, 301}, status, where)
	}
	status, _ = at("summer.preview.corvane.example", "/")
	assert.Equal(t, 404, status)
	w.decide("staging", journal.Remove(journal.Ended{Reason: journal.OnRequest}, "command", "x", ""))
	w.reserve("staging", "http://next.corvane.example/", "http://later.corvane.example/")
	require.Eventually(t, func() bool {
		status, _ := at("later.corvane.example", "/")
		return status == http.StatusMovedPermanently
	}, 30*time.Second, time.Millisecond)
	status, _ = at("next.corvane.example", "/")
	assert.Equal(t, http.StatusGone, status)

	// One preview by its path asks for its host's certificate, and not for a wildcard above it.
	w.activate("preview.path", id, "https://paths.example/path/")
	require.Eventually(t, func() bool {
		mutex.Lock()
		defer mutex.Unlock()
		return slices.Contains(named, "paths.example")
	}, 30*time.Second, time.Millisecond)
	assert.NotContains(t, named, "*.example")
}
