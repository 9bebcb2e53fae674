package test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADeployIsJudgedByItsVisitors breaks a script that only visitors load, and goes back by
// itself; one that is fine stays.
func TestADeployIsJudgedByItsVisitors(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	files := map[string]string{"index.html": "<script src=/app.js></script>", "app.js": "1", "orilla.yaml": "site: corvane\n"}
	p.commit("First", files)
	p.ok("deploy")
	at := p.edgeOn("", "--local-names")
	p.fails(2, "visitors:5m", "deploy", "--again", "--wait-for", "visitors:tomorrow")
	p.fails(2, "write 5s to 1h", "deploy", "--again", "--wait-for", "visitors:2h")

	// Browsers load the page with its script; one who looks for holes asks for others.
	ctx, stop := context.WithCancel(t.Context())
	var visiting sync.WaitGroup
	t.Cleanup(func() { stop(); visiting.Wait() })
	ask := func(path, from string) (body string) {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at+path, nil)
		if !assert.NoError(t, err) { //nolint:testifylint // not the test's goroutine
			return ""
		}
		request.Host = "corvane.localhost"
		if from != "" {
			request.Header.Set("Referer", "http://corvane.localhost"+from)
		}
		if response, err := http.DefaultClient.Do(request); err == nil {
			defer response.Body.Close() //nolint:errcheck // read
			data, _ := io.ReadAll(response.Body)
			body = string(data)
		}
		return body
	}
	for range 4 {
		visiting.Go(func() {
			for ctx.Err() == nil {
				ask("/", "")
				if strings.Contains(ask("/app.js", "/"), "late") { // what no check can see
					ask("/late.js", "/")
				}
				ask("/wp-admin.js", "")
				time.Sleep(5 * time.Millisecond)
			}
		})
	}
	time.Sleep(500 * time.Millisecond) // what is usual
	p.commit("Fine", map[string]string{"index.html": "<script src=/app.js></script> fine"})
	out, notes, status := p.run("deploy", "--wait-for", "visitors:6s")
	require.Zero(t, status, "%s %s", out, notes)
	assert.Regexp(t, `passed.*visitors:6s.*\d+ answers, 0 assets missing`, notes)

	p.commit("Broken", map[string]string{"app.js": "load('la' + 'te') // late"})
	began := time.Now()
	notes = p.fails(4, "/late.js", "deploy", "--wait-for", "visitors:1h")
	assert.Less(t, time.Since(began), time.Minute, "it is over as soon as it is certain")
	assert.Contains(t, notes, "assets that pages load are missing")
	assert.NotContains(t, notes, "wp-admin")
	status, body := get(t, at, "corvane.localhost", "/app.js")
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "1", body)
}
