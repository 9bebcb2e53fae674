package devserver_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/store/memory"
)

// besideSide is a side whose files are in a store.
func besideSide(t *testing.T, store *memory.Store, label, text string, files map[string]string,
) devserver.BesideSide {
	t.Helper()
	program, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}},
		rules.Options{Upstreams: []string{"harbour"}})
	require.Empty(t, found)
	set, err := program.Compile()
	require.NoError(t, err)
	var list []release.File
	for path, content := range files {
		d := digest.Of([]byte(content))
		require.NoError(t, store.Replace(context.Background(), d.Key(), []byte(content)))
		list = append(list, release.File{Path: path, Digest: d, Size: int64(len(content)),
			Type: media.Type(path, true)})
	}
	return devserver.BesideSide{Label: label, About: "4be21c7 <b>Winter</b>",
		Side: difference.Side{Files: list, Base: "/ferries", Now: time.Now(),
			Site: answer.Site{Files: check.Map(list), Rules: set}}}
}

func TestTwoReleasesSideBySide(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	before := besideSide(t, store, "production:12", "", map[string]string{"index.html": "<body>old</body>",
		"news.html": "news"})
	after := besideSide(t, store, "preview/winter:1",
		"header /{rest:all} content-security-policy: default-src 'none'\nheader /{rest:all} "+
			"x-frame-options: DENY\nheader /{rest:all} x-kept: yes\nproxy /api/{rest:all} -> harbour:/{rest}",
		map[string]string{"index.html": "<BODY>new</BODY>", "notices.html": "news", "style.css": "a{}",
			"404.html": "no such quay"})
	report := difference.Report{Pages: []difference.Item{{Kind: difference.Moved, Path: "notices.html",
		From: "news.html", Address: "/notices"}, {Kind: difference.Changed, Path: "index.html",
		Address: "/"}}}
	server := httptest.NewServer(devserver.NewBeside(store, "corvane", before, after, report))
	defer server.Close()
	ask := func(host, path string) (*http.Response, string) {
		request, err := http.NewRequest(http.MethodGet, server.URL+path, nil)
		require.NoError(t, err)
		request.Host = host + ":4711"
		response, err := http.DefaultTransport.RoundTrip(request)
		require.NoError(t, err)
		body, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		response.Body.Close() //nolint:errcheck // read
		return response, string(body)
	}
	_, page := ask("localhost", "/")
	for _, part := range []string{`{"/ferries/news":"/ferries/notices"}`, "production:12", "preview/winter:1",
		"4be21c7 &lt;b&gt;Winter", "2 pages differ", "(moved from /news)", "http:\\/\\/before.localhost:4711",
		`value="/ferries/notices"`} {
		assert.Contains(t, page, part)
	}
	const line = `<script src="/.orilla/beside.js"></script>`
	_, page = ask("before.localhost", "/ferries/")
	assert.Equal(t, "<body>old"+line+"</body>", page)
	response, page := ask("after.localhost", "/ferries/")
	assert.Equal(t, "<BODY>new"+line+"</BODY>", page)
	assert.Empty(t, response.Header.Get("X-Frame-Options"), "what keeps pages out of frames is left away")
	assert.Empty(t, response.Header.Get("Content-Security-Policy"))
	assert.Equal(t, "yes", response.Header.Get("X-Kept"))
	assert.Equal(t, "no-store", response.Header.Get("Cache-Control"))
	for path, want := range map[string]int{"/": 302, "/ferries/style.css": 200, "/ferries/nowhere": 404,
		"/ferries/api/x": 502, "/.orilla/beside.js": 200, "/elsewhere": 404} {
		t.Run(path, func(t *testing.T) {
			response, _ := ask("after.localhost", path)
			assert.Equal(t, want, response.StatusCode, path)
		})
	}
	response, page = ask("after.localhost", "/ferries/nowhere")
	assert.Equal(t, "no such quay"+line, page, "the not-found page goes along too")
	assert.Equal(t, 404, response.StatusCode)
	for host, want := range map[string]int{"corvane.example": 421, "evil.localhost": 421} {
		t.Run(host, func(t *testing.T) {
			response, _ := ask(host, "/")
			assert.Equal(t, want, response.StatusCode, "a page of another site reaches nothing here")
		})
	}
	require.NoError(t, store.Replace(t.Context(), digest.Of([]byte("<body>old</body>")).
		Key(), []byte("damaged")))
	fresh := httptest.NewServer(devserver.NewBeside(store, "corvane", before, after, report))
	defer fresh.Close()
	server = fresh
	response, page = ask("before.localhost", "/ferries/")
	assert.Equal(t, 500, response.StatusCode)
	assert.NotContains(t, page, "damaged")
}
