package dictionary_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/dictionary"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

func TestNamesThatBelongTogether(t *testing.T) {
	t.Parallel()
	for path, want := range map[string]string{
		"assets/index-4-jA9vrI.css":        "/ferries/assets/index-*.css",
		"static/js/main.8f3a2b1c.chunk.js": "/ferries/static/js/main.*.chunk.js",
		"app.8f3a2b1c.min.js":              "/ferries/app.*.min.js",
		"app_0123456789abcdef.css":         "/ferries/app_*.css",
		"js/app.min.3f9a1c2b.js":           "/ferries/js/app.min.*.js",
		"0f3a9c2b11aa77dd.css":             "", // all of the name is a digest: nothing belongs to it
		"style.css":                        "",
		"vendor-polyfill.js":               "",
		"main.8f3a2b1c.js.map":             "",
		"photo-8f3a2b1c.jpg":               "",
		"routes/[id]-8f3a2b1c.js":          "", // means something else in a pattern
		"häfen-8f3a2b1c.js":                "",
	} {
		match, ok := dictionary.Match("/ferries", path)
		assert.Equal(t, want, match, path)
		assert.Equal(t, want != "", ok, path)
	}
	_, ok := dictionary.Match(`/a"b`, "assets/index-4-jA9vrI.css")
	assert.False(t, ok)
	value, ok := dictionary.UseAs("/assets/index-*.css", release.ID{1}, "assets/index-4-jA9vrI.css")
	assert.True(t, ok)
	assert.Equal(t, `match="/assets/index-*.css", id="r-0100000000/4-jA9vrI"`, value)
	offer := dictionary.Offer{Mark: "DSojwwyk"}
	path, ok := offer.Path("assets/index-4-jA9vrI.css")
	assert.True(t, ok)
	assert.Equal(t, "assets/index-DSojwwyk.css", path)
	_, ok = offer.Path("style.css")
	assert.False(t, ok)
}

func FuzzOffered(f *testing.F) {
	sum := digest.Of([]byte("harbour"))
	good := ":" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	f.Add(good, `"r-0f3a9c2b11/8f3a2b1c"`)
	f.Add(good, `"r-0f3a9c2b11"`)
	f.Add(good+good, `"r-0f3a9c2b11/../x"`)
	f.Add(strings.Repeat(":", 46), `"r-`)
	f.Fuzz(func(t *testing.T, available, id string) {
		offer, ok := dictionary.Offered(available, id)
		if !ok {
			return
		}
		assert.Equal(t, available, ":"+base64.StdEncoding.EncodeToString(offer.Digest[:])+":", "only one spelling")
		if offer.Release == "" {
			assert.Empty(t, offer.Mark)
			return
		}
		// What was understood is what would have been sent.
		text := "r-" + offer.Release
		if offer.Mark != "" {
			text += "/" + offer.Mark
		}
		assert.Equal(t, id, `"`+text+`"`)
	})
}

// kept is a release in memory.
func kept(t *testing.T, pages map[string]string) (*release.Reader, release.Load, *int) {
	t.Helper()
	objects, reads := map[digest.Digest][]byte{}, 0
	var files []release.File
	for path, text := range pages {
		d := digest.Of([]byte(text))
		objects[d] = []byte(text)
		files = append(files, release.File{Path: path, Digest: d, Size: int64(len(text)), Type: "text/html; charset=utf-8"})
	}
	index, err := release.Build(files, nil, release.Settings{})
	require.NoError(t, err)
	for _, chunk := range index.Chunks {
		objects[digest.Of(chunk.Data)] = chunk.Data
	}
	load := func(_ context.Context, d digest.Digest) ([]byte, error) {
		reads++
		return objects[d], nil
	}
	return release.NewReader(index.ID, index.Root, load), load, &reads
}

// all shows all pages.
func all(context.Context, release.File) (bool, error) { return true, nil }

// guide is a page of many.
func guide(i int) string {
	var nav strings.Builder
	for j := range 150 {
		fmt.Fprintf(&nav, "<li><a href=/guide/%d>Sailing %x</a></li>", j, j*j*7919)
	}
	return fmt.Sprintf("<nav>%s</nav><h1>Quay %d</h1><p>only %x here, and nowhere else</p><footer>Corvane Ferries</footer>", nav.String(), i, i*104729)
}

func TestADictionaryOfPages(t *testing.T) {
	t.Parallel()
	pages := map[string]string{}
	for i := range 20_000 {
		pages[fmt.Sprintf("guide/%d.html", i)] = guide(i)
	}
	reader, load, reads := kept(t, pages)
	made, err := dictionary.Pages(t.Context(), reader, load, all)
	require.NoError(t, err)
	assert.Contains(t, string(made), "Sailing")
	assert.NotContains(t, string(made), "nowhere else")
	assert.Less(t, len(made), len(guide(1)))
	assert.LessOrEqual(t, *reads, 6+12, "a part of the site, however large it is")

	// A page more, and one that is another, change nothing.
	pages["guide/new.html"] = guide(77_777)
	pages["guide/5.html"] = guide(88_888)
	reader, load, _ = kept(t, pages)
	again, err := dictionary.Pages(t.Context(), reader, load, all)
	require.NoError(t, err)
	assert.Equal(t, string(made), string(again))

	none := func(_ context.Context, file release.File) (bool, error) { return file.Path == "guide/1.html", nil }
	made, err = dictionary.Pages(t.Context(), reader, load, none)
	require.NoError(t, err)
	assert.Nil(t, made)
}

func TestNoDictionaryWhereNothingIsShared(t *testing.T) {
	t.Parallel()
	pages := map[string]string{}
	for i := range 50 {
		var text strings.Builder
		for j := range 200 {
			fmt.Fprintf(&text, "<p>%x</p>", digest.Of([]byte(fmt.Sprint(i, j))))
		}
		pages[fmt.Sprintf("%d.html", i)] = text.String()
	}
	reader, load, _ := kept(t, pages)
	made, err := dictionary.Pages(t.Context(), reader, load, all)
	require.NoError(t, err)
	assert.Nil(t, made)
	reader, load, _ = kept(t, map[string]string{"index.html": guide(1), "a.html": guide(2)})
	made, err = dictionary.Pages(t.Context(), reader, load, all)
	require.NoError(t, err)
	assert.Nil(t, made, "two pages are no site")
}

func FuzzCommon(f *testing.F) {
	f.Add([]byte(guide(1)), []byte(guide(2)))
	f.Add([]byte(">>>>>>"), []byte("\n\n\n>"))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		made := dictionary.Common([][]byte{a, b})
		assert.LessOrEqual(t, len(made), len(a)+len(b))
		assert.Empty(t, dictionary.Common([][]byte{a}))
	})
}

func TestTheLinkToADictionary(t *testing.T) {
	t.Parallel()
	sum := digest.Of([]byte("harbour"))
	link := dictionary.Link("/ferries", sum)
	assert.True(t, dictionary.IsLink(link))
	assert.False(t, dictionary.IsLink(`</a>; rel="canonical"`))
	path, _, _ := strings.Cut(strings.TrimPrefix(link, "</ferries"), ">")
	found, ok := dictionary.ParsePagePath(path)
	assert.True(t, ok)
	assert.Equal(t, dictionary.Name(sum), found)
	for _, path := range []string{"/", "/.orilla/dictionary/", "/.orilla/dictionary/abc", "/.orilla/look/x"} {
		_, ok := dictionary.ParsePagePath(path)
		assert.False(t, ok, path)
	}
	with, ok := dictionary.UseAs("/a-*.js", release.ID{1}, "a-8f3a2b1c.js")
	assert.True(t, ok)
	assert.Equal(t, `match="/a-*.js"`, dictionary.WithoutID(with))
}
