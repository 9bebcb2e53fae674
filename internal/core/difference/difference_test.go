package difference_test

import (
	"context"
	"maps"
	"slices"
	"strings"
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
)

func side(t *testing.T, text string, settings release.Settings, files map[string]string) difference.Side {
	t.Helper()
	program, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}},
		rules.Options{Upstreams: []string{"harbour"}})
	require.Empty(t, found)
	set, err := program.Compile()
	require.NoError(t, err)
	var list []release.File
	for _, path := range slices.Sorted(maps.Keys(files)) {
		list = append(list, release.File{Path: path, Digest: digest.Of([]byte(files[path])),
			Size: int64(len(files[path])), Type: media.Type(path, true)})
	}
	return difference.Side{Files: list, Rules: program.Rules, Now: time.Date(2026, 11, 1, 12, 0, 0, 0,
		time.UTC),
		Site: answer.Site{Files: check.Map(list), Rules: set, Settings: settings},
		Open: func(_ context.Context, file release.File) ([]byte, error) {
			return []byte(files[file.Path]),
				nil
		}}
}

const long = "one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen " +
	"sixteen seventeen eighteen nineteen "

func TestWhatDiffers(t *testing.T) {
	t.Parallel()
	before := side(t, "redirect /old -> /fares\nheader /{rest:all} x-a: 1", release.Settings{},
		map[string]string{
			"index.html": `<link rel=stylesheet href=/s.css><script src=app.js></script>`,
			"fares.html": "42.00", "news/dunlin.html": long + "here", "news/same.html": "the very same",
			"s.css": "a{background:url(a.png)}", "a.png": "12345678", "app.js": "x", "gone.html": "short",
			"film-1.webm": "film",
		})
	after := side(t, "header /{rest:all} x-a: 1\nredirect /older -> /fares",
		release.Settings{OneAddress: true}, map[string]string{
			"index.html": `<link rel=stylesheet href=/s.css><script src=app.js></script>`,
			"fares.html": "43.00!", "notices/dunlin.html": long + "there",
			"notices/same.html": "the very same",
			"s.css":             "a{background:url(a.png)}", "a.png": "1234567890", "app.js": "x",
			"new.html": "<img src=a.png>", "films/1.webm": "film",
		})
	report, err := difference.Between(t.Context(), before, after)
	require.NoError(t, err)
	assert.Equal(t, []difference.Item{
		{Kind: difference.Changed, Path: "fares.html", Address: "/fares", Before: 5, After: 6},
		{Kind: difference.Removed, Path: "gone.html", Address: "/gone", Before: 5},
		{Kind: difference.Added, Path: "new.html", Address: "/new", After: 15},
		{Kind: difference.Moved, Path: "notices/dunlin.html", From: "news/dunlin.html",
			Address: "/notices/dunlin", Before: 129, After: 130, Alike: 90},
		{Kind: difference.Moved, Path: "notices/same.html", From: "news/same.html", Address: "/notices/same",
			Before: 13, After: 13, Alike: 100},
	}, report.Pages)
	assert.Equal(t, []difference.Item{
		{Kind: difference.Changed, Path: "a.png", Address: "/a.png", Before: 8, After: 10},
		{Kind: difference.Moved, Path: "films/1.webm", From: "film-1.webm", Address: "/films/1.webm",
			Before: 4, After: 4, Alike: 100},
	}, report.Assets)
	assert.Equal(t, []difference.Rule{{Kind: difference.Removed, Verb: "redirect",
		Text: "redirect /old -> /fares"}, {Kind: difference.Added, Verb: "redirect",
		Text: "redirect /older -> /fares"}}, report.Rules)
	assert.Equal(t, []string{"pages.one_address: false -> true"}, report.Settings)
	assert.Equal(t, []difference.Weight{
		{Path: "new.html", Address: "/new", After: 25},
		// the page is the same; a picture that its style sheet loads grew
		{Path: "index.html", Address: "/", Before: 61 + 24 + 8 + 1, After: 61 + 24 + 10 + 1},
		{Path: "fares.html", Address: "/fares", Before: 5, After: 6},
		{Path: "notices/dunlin.html", Address: "/notices/dunlin", Before: 129, After: 130},
	}, report.Weights)

	same, err := difference.Between(t.Context(), before, before)
	require.NoError(t, err)
	assert.True(t, same.Same())
	assert.Empty(t, same.Weights)
}

func TestRulesInAnotherOrderAreADifference(t *testing.T) {
	t.Parallel()
	files := map[string]string{"a.html": "a", "b.html": "b"}
	report, err := difference.Between(t.Context(), side(t, "redirect /x -> /a\nredirect /x -> /b",
		release.Settings{}, files), side(t, "redirect /x -> /b\nredirect /x -> /a", release.Settings{},
		files))
	require.NoError(t, err)
	assert.Empty(t, report.Rules)
	assert.True(t, report.Ordered)
	assert.False(t, report.Same())
}

func TestAddressesWhoseAnswerDiffers(t *testing.T) {
	t.Parallel()
	files := map[string]string{"index.html": "home", "fares.html": "42", "boats/index.html": "boats",
		"app-3f9a2c1b7e.js": "1"}
	changed := maps.Clone(files)
	changed["fares.html"] = "43"
	delete(changed, "boats/index.html")
	old := side(t, "redirect /x -> /fares\nredirect /y -> /fares", release.Settings{}, files)
	for what, test := range map[string]struct {
		next            difference.Side
		paths, patterns []string
	}{
		"files": {side(t, "redirect /x -> /fares\nredirect /y -> /fares",
			release.Settings{}, changed), []string{"/boats/", "/boats/index.html", "/fares", "/fares.html"},
			nil},
		"a rule for one address": {side(t, "redirect /x -> /boats\nredirect /y -> /fares",
			release.Settings{}, files), []string{"/x", "/x/"}, nil},
		"a header for everything": {side(t,
			"redirect /x -> /fares\nredirect /y -> /fares\nheader /boats/{rest:all} x-frame-options: DENY",
			release.Settings{}, files), []string{"/boats/", "/boats/index.html"},
			[]string{"header /boats/{rest:all} x-frame-options: DENY"}},
		"nothing": {old, nil, nil},
		"a rule with placeholders": {side(t,
			"redirect /x -> /fares\nredirect /y -> /fares\nredirect /z/{a} -> /fares", release.Settings{},
			files), nil, []string{"redirect /z/{a} -> /fares"}},
	} {
		t.Run(what, func(t *testing.T) {
			paths, patterns, err := difference.Addresses(t.Context(), old, test.next)
			require.NoError(t, err)
			assert.Equal(t, test.paths, paths, what)
			assert.Equal(t, test.patterns, patterns, what)
		})
	}
}

func TestLines(t *testing.T) {
	t.Parallel()
	before := side(t, "", release.Settings{}, map[string]string{"a.html": "one\ntwo\nthree\n",
		"b.png": "\x00\xff", "big.txt": strings.Repeat("x", 3<<20)})
	after := side(t, "", release.Settings{}, map[string]string{"a.html": "one\n2\nthree", "b.png": "\x00"})
	text, err := difference.Text(t.Context(), before, after, "a.html", "a.html")
	require.NoError(t, err)
	joined := strings.Join(text, "")
	assert.Contains(t, joined, "-two\n")
	assert.Contains(t, joined, "+2\n")
	assert.Contains(t, joined, "no newline at the end")
	for path, want := range map[string]error{"b.png": difference.ErrBinary, "nowhere": difference.ErrNowhere,
		"big.txt": difference.ErrLarge} {
		t.Run(path, func(t *testing.T) {
			_, err := difference.Text(t.Context(), before, after, path, path)
			require.ErrorIs(t, err, want, path)
		})
	}
	text, err = difference.Text(t.Context(), before, before, "a.html", "a.html")
	require.NoError(t, err)
	assert.Empty(t, text)
}
