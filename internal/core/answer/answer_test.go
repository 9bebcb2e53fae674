package answer_test

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// files is a release in a map.
type files map[string]release.File

func (f files) Lookup(_ context.Context, path string) (release.File, bool, error) {
	file, ok := f[path]
	return file, ok, nil
}

func of(paths ...string) files {
	f := files{}
	for _, path := range paths {
		f[path] = release.File{Path: path, Digest: digest.Of([]byte(path)), Size: 1,
			Type: media.Type(path, true)}
	}
	return f
}

var corvane = of("index.html", "fares.html", "boats/index.html", "boats/dunlin.html", "both.html",
	"both/index.html", "404.html",
	"assets/style-3f9a2c1b7e.css", "robots.txt", ".well-known/security.txt", "café.html", "film.mp4",
	"with space.html", "plain", "de/index.html")

func decide(t *testing.T, site answer.Site, method, target string) answer.Answer {
	t.Helper()
	path, query, _ := strings.Cut(target, "?")
	a, err := answer.Decide(t.Context(), answer.Request{Method: method, Path: path, Query: query,
		Environment: answer.Production}, site)
	require.NoError(t, err)
	return a
}

func field(a answer.Answer, name string) string {
	for _, f := range a.Header {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

// TestADrawingThatIsCompressedSaysSo: without it, a browser would take it for broken. Of
// releases from before it had a type, nothing changes.
func TestADrawingThatIsCompressedSaysSo(t *testing.T) {
	t.Parallel()
	drawings := of("chart.svgz", "chart.svg")
	compressed := drawings["chart.svgz"]
	compressed.Type = media.Type("chart.svgz", false) // its bytes are no text
	drawings["chart.svgz"] = compressed
	a := decide(t, answer.Site{Files: drawings}, "GET", "/chart.svgz")
	assert.Equal(t, "image/svg+xml", field(a, "Content-Type"))
	assert.Equal(t, "gzip", field(a, "Content-Encoding"))
	assert.Empty(t, field(decide(t, answer.Site{Files: drawings}, "GET", "/chart.svg"), "Content-Encoding"))
	compressed.Type = "application/octet-stream"
	drawings["chart.svgz"] = compressed
	assert.Empty(t, field(decide(t, answer.Site{Files: drawings}, "GET", "/chart.svgz"), "Content-Encoding"))
}

// TestDotSegmentsAreNotPassedOn, however often they are encoded: what stands behind might
// decode once more.
func TestDotSegmentsAreNotPassedOn(t *testing.T) {
	t.Parallel()
	site := ruled(t, "proxy /api/{rest:all} -> https://harbour.example/v1/{rest}\n", of("index.html"))
	for path, want := range map[string]int{"/api/x": 0, "/api/a.b": 0, "/api/%2561": 0, "/api/..;/x": 400,
		"/api/%2e%2e/x": 400, "/api/%252e%252e/x": 400, "/api/%252e%252e%252fx": 400, "/api/%25252e%25252e/x": 400,
		"/api/..%255cx": 400, "/api/%252e%252e%253bx/y": 400} {
		a := decide(t, site, "GET", path)
		if want == 0 {
			assert.NotNil(t, a.Upstream, path)
			continue
		}
		assert.Nil(t, a.Upstream, path)
		assert.Equal(t, want, a.Status, path)
	}
}

func TestAddresses(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		path   string
		status int
		what   string // the file, or the Location
	}{
		{"/", 200, "index.html"},
		{"/fares", 200, "fares.html"},
		{"/fares/", 301, "/fares"},
		{"/fares/?day=sun&day=mon", 301, "/fares?day=sun&day=mon"},
		{"/fares.html", 200, "fares.html"},
		{"/boats", 301, "/boats/"},
		{"/boats/", 200, "boats/index.html"},
		{"/boats/index.html", 200, "boats/index.html"},
		{"/boats/index", 301, "/boats/"},
		{"/boats/index/", 301, "/boats/"},
		{"/index", 301, "/"},
		{"/boats/dunlin", 200, "boats/dunlin.html"},
		{"/both", 200, "both.html"},
		{"/both/", 200, "both/index.html"},
		{"/plain", 200, "plain"},
		{"/robots.txt", 200, "robots.txt"},
		{"/.well-known/security.txt", 200, ".well-known/security.txt"},
		{"/caf%C3%A9", 200, "café.html"},
		{"/cafe%CC%81", 200, "café.html"}, // the same in another Unicode form
		{"/with%20space", 200, "with space.html"},
		{"/with%20space/", 301, "/with%20space"},
		{"//fares", 301, "/fares"},
		{"//evil.example/", 301, "/evil.example/"},
		{"/boats//dunlin", 301, "/boats/dunlin"},
		{"/boats%2Fdunlin", 404, "404.html"},
		{"/nowhere", 404, "404.html"},
		{"/nowhere.html", 404, "404.html"},
		{"/nowhere/", 404, "404.html"},
		{"/404", 404, "404.html"},
		{"/404/", 404, "404.html"},
		{"/404.html", 404, "404.html"},
		{"/app.js", 404, ""},
		{"/boats/%2e%2e/fares", 400, ""},
		{"/..", 400, ""},
		{"/%2e%2e%2f%2e%2e%2fetc/passwd", 404, "404.html"},
		{"/a%00b", 400, ""},
		{"/a%0d%0aset-cookie:x", 400, ""},
		{"/%zz", 400, ""},
		{"/%ff", 400, ""},
		{"/..%5c..%5cfares", 404, "404.html"},
		{"/.orilla/anything", 404, ""},
		{"/" + strings.Repeat("a", 10_000), 414, ""},
	} {
		for _, method := range []string{http.MethodGet, http.MethodHead} {
			a := decide(t, answer.Site{Files: corvane}, method, test.path)
			got := a.Location
			if a.File != nil {
				got = a.File.Path
			}
			assert.Equal(t, test.status, a.Status, "%.60s", test.path)
			assert.Equal(t, test.what, got, "%.60s", test.path)
		}
	}
}

func TestOneAddress(t *testing.T) {
	t.Parallel()
	a := decide(t, answer.Site{Files: corvane}, "GET", "/fares.html")
	assert.Equal(t, `</fares>; rel="canonical"`, field(a, "Link"))
	assert.Empty(t, field(decide(t, answer.Site{Files: corvane}, "GET", "/fares"), "Link"))
	strict := answer.Site{Files: corvane, Settings: release.Settings{OneAddress: true}}
	for path, want := range map[string]string{"/fares.html?a=1": "/fares?a=1", "/boats/index.html": "/boats/",
		"/index.html": "/"} {
		t.Run(path, func(t *testing.T) {
			a := decide(t, strict, "GET", path)
			assert.Equal(t, 301, a.Status)
			assert.Equal(t, want, a.Location)
		})
	}
	assert.Equal(t, 404, decide(t, strict, "GET", "/404.html").Status)
}

func TestMethods(t *testing.T) {
	t.Parallel()
	for _, method := range []string{"POST", "PUT", "DELETE", "PATCH", "TRACE", "CONNECT", "BREW"} {
		a := decide(t, answer.Site{Files: corvane}, method, "/fares")
		assert.Equal(t, 405, a.Status, method)
		assert.Equal(t, "GET, HEAD, OPTIONS", field(a, "Allow"))
	}
	a := decide(t, answer.Site{Files: corvane}, "OPTIONS", "/fares")
	assert.Equal(t, 204, a.Status)
	assert.Equal(t, "GET, HEAD, OPTIONS", field(a, "Allow"))
}

func TestCaching(t *testing.T) {
	t.Parallel()
	site := answer.Site{Files: corvane, Settings: release.Settings{Plain: []string{"assets/plain-*.css"},
		Fingerprinted: []string{"robots.txt"}}}
	for path, want := range map[string]string{
		"/": "no-cache", "/fares/": "no-cache", "/nowhere": "no-cache", "/app.js": "no-cache",
		"/film.mp4": "no-cache", "/%00": "no-store",
		"/assets/style-3f9a2c1b7e.css": "public, max-age=31536000, immutable",
		"/robots.txt":                  "public, max-age=31536000, immutable",
	} {
		t.Run(path, func(t *testing.T) {
			a := decide(t, site, "GET", path)
			assert.Equal(t, want, field(a, "Cache-Control"), path)
			assert.Equal(t, "nosniff", field(a, "X-Content-Type-Options"))
			assert.Equal(t, a.Status == 200, a.ETag != "", path)
			assert.Empty(t, field(a, "X-Robots-Tag"))
		})
	}
	a, err := answer.Decide(t.Context(), answer.Request{Method: "GET", Path: "/"}, site)
	require.NoError(t, err)
	assert.Equal(t, "noindex", field(a, "X-Robots-Tag"), "not production")
}

// before is an earlier release with these files, of which some never change.
type before struct {
	answer.Files
	immutable []string
}

func (b before) Immutable(_ context.Context, path string) (bool, error) {
	return slices.Contains(b.immutable, path), nil
}

// TestAssetsOfRecentReleases answers what open pages load, by each semantics.
func TestAssetsOfRecentReleases(t *testing.T) {
	t.Parallel()
	older := before{of("assets/main-1a2b3c4d5e.js", "assets/Page4-DSojwwyk.js", "assets/Page4-DSojwwyk.js.map",
		"planner.js", "planner.wasm", "sula.png", "site.webmanifest", "gone.html", "data.json", "pier.mp4",
		"assets/film-BDuPbRhR.mp4", "assets/tides-Bq7-xK2_.json", "feed.xml"),
		[]string{"assets/main-1a2b3c4d5e.js", "assets/film-BDuPbRhR.mp4", "assets/tides-Bq7-xK2_.json"}}
	loaded := []string{"/assets/main-1a2b3c4d5e.js", "/assets/Page4-DSojwwyk.js", "/assets/Page4-DSojwwyk.js.map",
		"/planner.js", "/planner.wasm", "/sula.png", "/site.webmanifest"}
	listed := []string{"/assets/film-BDuPbRhR.mp4", "/assets/tides-Bq7-xK2_.json"}
	never := []string{"/gone", "/gone.html", "/data.json", "/pier.mp4", "/feed.xml", "/assets/main-1a2b3c4d5e.js/"}

	for semantics, want := range map[int]struct{ answered, missing []string }{
		1: {loaded[:1], slices.Concat(loaded[1:], listed[1:], never)},
		2: {loaded, slices.Concat(listed, never)},
		3: {slices.Concat(loaded, listed), never},
	} {
		t.Run(strconv.Itoa(semantics), func(t *testing.T) {
			t.Parallel()
			site := answer.Site{Files: of("index.html"), Semantics: semantics,
				Recent: []answer.Earlier{before{Files: of("x")}, older}}
			kept := "no-cache"
			if semantics == 1 {
				kept = "public, max-age=31536000, immutable"
			}
			for _, path := range want.answered {
				a := decide(t, site, "GET", path)
				assert.Equal(t, []any{200, answer.ByRecent}, []any{a.Status, a.By}, path)
				assert.Equal(t, kept, field(a, "Cache-Control"), path)
			}
			for _, path := range want.missing {
				assert.Equal(t, 404, decide(t, site, "GET", path).Status, path)
			}
		})
	}
}

func TestBasePath(t *testing.T) {
	t.Parallel()
	for path, want := range map[string]struct {
		status   int
		location string
	}{
		"/ferries/": {200, ""}, "/ferries": {301, "/ferries/"}, "/ferries/fares/": {301,
			"/ferries/fares"}, "/ferries/boats": {301, "/ferries/boats/"},
		"/fares": {404, ""}, "/ferriesfares": {404, ""}, "/ferries//fares": {301, "/ferries/fares"},
	} {
		t.Run(path, func(t *testing.T) {
			a, err := answer.Decide(t.Context(), answer.Request{Method: "GET", Path: path, Base: "/ferries"},
				answer.Site{Files: corvane})
			require.NoError(t, err)
			assert.Equal(t, want.status, a.Status, path)
			assert.Equal(t, want.location, a.Location, path)
		})
	}
}

func TestWithoutA404Page(t *testing.T) {
	t.Parallel()
	a := decide(t, answer.Site{Files: of("index.html")}, "GET", "/nowhere")
	assert.Equal(t, 404, a.Status)
	assert.NotEmpty(t, a.Text)
}

// TestFingerprinted is for releases of semantics 1, which exist: it never changes.
func TestFingerprinted(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]bool{
		"app-3f9a2c1b7e.js": true, "app.3f9a2c1b7e.css": true, "index-BfR_2kZx.mjs": true,
		"a/b/logo.1234567a.svg": true, "font-0123abcd.woff2": true,
		"app.js": false, "app-abcdefgh.js": false, "app-12345678.js": false, "app-3f9a2c1.js": false,
		"3f9a2c1b7e.js":        false,
		"page-3f9a2c1b7e.html": false, "feed-3f9a2c1b7e.xml": false, "data-3f9a2c1b7e.json": false,
		"map-3f9a2c1b7e.pdf": false,
		"sw-3f9a2c1b7e.js":   false, "service-worker-3f9a2c1b7e.js": false, "app-3f9a2c1b7e": false,
		"app-3f9a2c1b7e/x.js": false, "x.Ⱥ": false, "app-3f9a2c1b7e.Ⱥ": true, "x.\xce": false,
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, want, media.Fingerprinted(name), name)
		})
	}
}

func TestMediaTypes(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{
		"a.HTML": "text/html; charset=utf-8", "a.mjs": "text/javascript; charset=utf-8",
		"a.json": "application/json", "a.svg": "image/svg+xml; charset=utf-8",
		"a.webmanifest": "application/manifest+json", "LICENCE": "text/plain; charset=utf-8",
		"a.xyz": "application/octet-stream", ".hidden": "text/plain; charset=utf-8",
		".well-known/apple-app-site-association": "application/json",
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, want, media.Type(name, true), name)
		})
	}
	assert.Equal(t, "text/html", media.Type("a.html", false), "no charset for bytes that are not UTF-8")
	assert.Equal(t, "application/octet-stream", media.Type("LICENCE", false))
}

// FuzzDecide makes sure that no request crashes the function, escapes the
// release, or makes a Location that leads elsewhere.
func FuzzDecide(f *testing.F) {
	for _, seed := range []string{"/", "//evil.example", "/%2e%2e/", "/%5c%5cevil.example", "/boats/index",
		"/a%0d%0ab", "/\\evil.example/", "/index/", "/x.%C8%BA", "/a-3f9a2c1b.mp4"} {
		f.Add(seed, "q=1", "GET")
	}
	f.Fuzz(func(t *testing.T, path, query, method string) {
		for semantics, settings := range []release.Settings{{}, {}, {OneAddress: true}, {}} {
			a, err := answer.Decide(t.Context(), answer.Request{Method: method, Path: path, Query: query},
				answer.Site{Files: corvane, Settings: settings, Semantics: semantics,
					Recent: []answer.Earlier{before{Files: of("x")}}})
			if err != nil || a.Status < 200 || a.Status > 499 {
				t.Fatalf("%q: %d %v", path, a.Status, err)
			}
			if a.File != nil && corvane[a.File.Path].Digest != a.File.Digest {
				t.Fatalf("%q found %q", path, a.File.Path)
			}
			if a.Location == "" {
				continue
			}
			where, _, _ := strings.Cut(a.Location, "?")
			if len(where) == 0 || where[0] != '/' ||
				len(where) > 1 && (where[1] == '/' || where[1] == '\\') ||
				strings.ContainsAny(where, "\\\r\n\x00 ") {
				t.Fatalf("%q: Location %q", path, a.Location)
			}
			if target, err := url.Parse(where); err != nil || target.Host != "" {
				t.Fatalf("%q: Location %q: %v", path, a.Location, err)
			}
		}
	})
}

// TestAColdPageLoadsOneChunk asks for pages of a large
// release at their addresses: the root is in memory, and
// finding the page loads one chunk of the index.
func TestAColdPageLoadsOneChunk(t *testing.T) {
	t.Parallel()
	var list []release.File
	for i := range 100_000 {
		name := fmt.Sprintf("notices/%d/no-%d.html", i%311, i)
		switch i % 4 {
		case 1:
			name = fmt.Sprintf("harbours/%d/%d/index.html", i%311, i)
		case 2:
			name = fmt.Sprintf("assets/picture-%d-0a1b2c3d.png", i)
		}
		list = append(list, release.File{Path: name, Digest: digest.Of([]byte(name)), Size: 1,
			Type: media.Type(name, true)})
	}
	index, err := release.Build(list, nil, release.Settings{})
	require.NoError(t, err)
	chunks := map[digest.Digest][]byte{}
	for _, chunk := range index.Chunks {
		chunks[chunk.Digest] = chunk.Data
	}
	loaded := map[digest.Digest]bool{}
	reader := release.NewReader(index.ID, index.Root, func(_ context.Context, d digest.Digest) ([]byte,
		error) {
		loaded[d] = true
		return chunks[d], nil
	})
	for i := 0; i < len(list); i += 3 {
		clear(loaded)
		a := decide(t, answer.Site{Files: reader}, "GET", answer.Address(list[i].Path))
		require.Equal(t, list[i].Path, a.File.Path)
		require.Len(t, loaded, 1, list[i].Path)
	}
}
