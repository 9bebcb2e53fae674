package test

import (
	"fmt"
	"net/http"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNodesKnowWherePreviewsAre changes the pattern of previews: deploys say it once, several
// at the same time too, and no password gets lost over it.
func TestNodesKnowWherePreviewsAre(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	entries := func() int {
		list, err := filepath.Glob(filepath.Join(p.home, "store/sites/corvane/environments/previews/journal/*"))
		require.NoError(t, err)
		return len(list)
	}
	config := func(text string) map[string]string {
		return map[string]string{"index.html": "ferries", "orilla.yaml": "site: corvane\nenvironments: {staging: {}}\n" + text}
	}
	p.commit("First", config(""))
	p.ok("deploy")
	assert.Zero(t, entries(), "nothing is said of what there is not")
	at := p.edgeOn("")
	status := func(host string) int {
		request, err := http.NewRequest(http.MethodGet, "http://"+at+"/", nil)
		require.NoError(t, err)
		request.Host = host
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		return response.StatusCode
	}

	p.commit("Previews", config("previews: {addresses: ['http://{preview}.preview.corvane.example/']}\n"))
	var deploys sync.WaitGroup
	for i := range 4 {
		deploys.Go(func() { p.ok("deploy", "--to", fmt.Sprintf("preview/n%d", i)) })
	}
	deploys.Wait()
	p.ok("deploy")
	p.ok("promote", "production", "--to", "staging")
	assert.Equal(t, 1, entries())
	require.Eventually(t, func() bool { return status("other.preview.corvane.example") == http.StatusNotFound },
		patience, tick)

	// A new pattern comes after the password, and before the preview that uses it.
	p.ok("password", "previews", "--generate")
	p.commit("Elsewhere", config("previews: {addresses: ['http://{preview}.try.corvane.example/']}\n"))
	p.ok("deploy", "--to", "preview/winter")
	assert.Equal(t, 3, entries())
	require.Eventually(t, func() bool { return status("winter.try.corvane.example") == http.StatusUnauthorized },
		patience, tick)
	assert.Equal(t, http.StatusNotFound, status("other.try.corvane.example"))
	assert.Equal(t, http.StatusMisdirectedRequest, status("other.preview.corvane.example"))

	// Who is behind takes nothing back; who has no pattern any more does.
	p.git("checkout", "-q", "--detach", "HEAD~1")
	p.run("deploy", "--to", "preview/behind")
	assert.Equal(t, 3, entries())
	p.git("checkout", "-q", "main")
	p.commit("None", config(""))
	p.ok("deploy")
	assert.Equal(t, 4, entries())
	require.Eventually(t, func() bool { return status("other.try.corvane.example") == http.StatusMisdirectedRequest },
		patience, tick)
	p.ok("store", "verify")
	p.ok("store", "prune", "--yes")
}
