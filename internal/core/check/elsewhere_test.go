package check_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/release"
)

func TestAddressesThatLeadElsewhere(t *testing.T) {
	t.Parallel()
	const icon = `<link rel=icon href=data:,>`
	files := map[string]string{
		"index.html": icon + `<link rel=canonical href="https://www.corvane.example/"><meta property="og:url" content="https://www.corvane.example/">
<script type="application/ld+json">{"url": "https://www.corvane.example/"}</script>
<a href="https://www.corvane.example/fares">fares</a><a href="https://old.example/fares">old</a><a href="https://old.example/">home</a><a href="https://other.example/nowhere">x</a>`,
		"fares.html":  icon + `<p>https://www.corvane.example.test/ and https://xstaging.corvane.example/ are others</p>`,
		"app.js":      "const api = 1\nfetch(\"https://staging.corvane.example/api\")",
		"more.js":     `fetch("//winter-times.preview.corvane.example/x", "//preview.corvane.example/")`,
		"local.json":  `{"at": "http://corvane.localhost:7420/"}`,
		"sitemap.xml": `<loc>https://www.corvane.example/fares</loc>`,
		"robots.txt":  "Sitemap: https://www.corvane.example/sitemap.xml",
		"feed.xml":    `<link>https://staging.corvane.example/</link>`,
		"photo.png":   "https://staging.corvane.example/",
	}
	out := output(t, "", "", files)
	out.Places = []check.Place{{Host: "www.corvane.example", Environment: "production"},
		{Host: "staging.corvane.example", Environment: "staging"},
		{Host: ".preview.corvane.example", Environment: "previews"},
		{Host: "corvane.localhost", Environment: "a developer's machine"}}
	found, err := check.Pages(t.Context(), out)
	require.NoError(t, err)
	var got []string
	for _, f := range found {
		got = append(got, fmt.Sprintf("%s:%d %s %s", f.File, f.Line, f.Code, f.What))
		assert.NotEmpty(t, f.Next)
	}
	assert.Equal(t, []string{
		"app.js:2 environment-address links to staging.corvane.example, an address of staging, in " +
			"every environment",
		"index.html:3 environment-address links to www.corvane.example, an address of production, " +
			"in every environment",
		"index.html:3 foreign-address https://old.example/fares is on another " +
			"host, and this output has /fares",
		"local.json:1 environment-address links to corvane.localhost, an address of a developer's " +
			"machine, in every environment",
		"more.js:1 environment-address links to preview.corvane.example, an address of previews, " +
			"in every environment",
	}, got)

	out.Places = nil // the build was told where it goes
	found, err = check.Pages(t.Context(), out)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "foreign-address", found[0].Code)
}

func TestWhatAPageLoads(t *testing.T) {
	t.Parallel()
	page := release.File{Path: "boats/dunlin.html"}
	text := `<base href="/ferries/boats/"><link rel=stylesheet href="../s.css?v=1"><script src="a.js"></script><script src="a.js#x"></script><img srcset="x.png 1x, /y.png 2x"><a href=z.html>z</a><script src="https://x.example/b.js"></script>`
	assert.Equal(t, []string{"/s.css?v=1", "/boats/a.js", "/boats/x.png"},
		check.Loads(page, []byte(text), "/ferries"))
	assert.Equal(t, []string{"/a/b.png"}, check.Loads(release.File{Path: "a/s.css"},
		[]byte("a{background:url(b.png)}"), ""))
	assert.Empty(t, check.Loads(release.File{Path: "a.js"}, []byte("url(x.png)"), ""))
}
