package check_test

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/finding"
)

// noise is text of which gzip saves about half: hexadecimal digits.
func noise(seed string, size int) string {
	var out strings.Builder
	for i := 0; out.Len() < size; i++ {
		sum := sha256.Sum256(fmt.Appendf(nil, "%s %d", seed, i))
		out.WriteString(hex.EncodeToString(sum[:]))
	}
	return out.String()[:size]
}

// shop is a site of three pages that load a script, a style sheet with a picture, and a font.
func shop(script int) map[string]string {
	page := `<title>x</title><link rel=stylesheet href=/site.css><script src=/app.3f9a2c1b7e.js></script>`
	return map[string]string{
		"index.html": page + `<img src=/img/quay.jpg><img src=/img/quay.jpg?w=2><iframe src=/map></iframe>`,
		"fares.html": page, "boats.html": page, "map.html": "<title>map</title>", "favicon.ico": "\x00",
		"app.3f9a2c1b7e.js": noise("script", script), "site.css": "body { background: url(img/sea.png) }" + noise("css", 4000),
		"img/sea.png": noise("sea", 30_000), "img/quay.jpg": noise("quay", 90_000), "img/small.png": "small",
	}
}

// sized is an output whose files have their sizes.
func sized(t *testing.T, files map[string]string) check.Output {
	t.Helper()
	out := output(t, "", "", files)
	for i, file := range out.Files {
		out.Files[i].Size, out.Files[i].Digest = int64(len(files[file.Path])), digest.Of([]byte(files[file.Path]))
	}
	out.Site.Files = check.Map(out.Files)
	return out
}

func budgets(t *testing.T, files map[string]string, before map[string]string, list ...check.Budget) finding.List {
	t.Helper()
	out := sized(t, files)
	if before == nil {
		found, err := check.Budgets(t.Context(), out, list, nil, "")
		require.NoError(t, err)
		return found
	}
	was := sized(t, before)
	found, err := check.Budgets(t.Context(), out, list, &was, "production:12")
	require.NoError(t, err)
	return found
}

func TestWithinTheBudgetNothingIsFound(t *testing.T) {
	t.Parallel()
	assert.Empty(t, budgets(t, shop(100_000), nil))
	assert.Empty(t, budgets(t, shop(100_000), nil, check.Budget{Page: "**", Total: 500_000, Requests: 10, Scripts: 100_000},
		check.Budget{File: "img/**", Size: 90_000}))
	assert.Empty(t, budgets(t, shop(100_000), nil, check.Budget{Page: "elsewhere/**", Total: 1}))
}

func TestWhatIsOverItsBudget(t *testing.T) {
	t.Parallel()
	found := budgets(t, shop(200_000), nil, check.Budget{Page: "**", Scripts: 50_000})
	require.Len(t, found, 1, "one finding for one limit, whatever how many pages load it")
	f := found[0]
	assert.Equal(t, check.OverBudget, f.Code)
	assert.Equal(t, finding.Warning, f.Level)
	assert.Regexp(t, `^1[34]\d kB of scripts that this page loads; the budget is 50 kB; 2 more pages are over it$`, f.What)
	assert.Regexp(t, `^1[34]\d kB  app\.3f9a2c1b7e\.js$`, f.More[0])

	found = budgets(t, shop(1000), nil, check.Budget{Page: "index.html", Images: 100_000, Requests: 4})
	require.Len(t, found, 2)
	assert.Equal(t, "index.html", found[0].File)
	assert.Regexp(t, `^120 kB of images`, found[0].What)
	assert.Equal(t, []string{"90 kB  img/quay.jpg", "30 kB  img/sea.png"}, found[0].More, "each once")
	assert.Regexp(t, `^\d requests for this page; the budget is 4 requests$`, found[1].What)

	found = budgets(t, shop(1000), nil, check.Budget{File: "img/**", Size: 20_000})
	require.Len(t, found, 1)
	assert.Equal(t, []string{"90 kB  img/quay.jpg", "30 kB  img/sea.png"}, found[0].More)
}

// TestWhatGrew compares with what is live: a script of another name is the same script.
func TestWhatGrew(t *testing.T) {
	t.Parallel()
	before := shop(40_000)
	before["app.77aa0b1c2d.js"] = before["app.3f9a2c1b7e.js"]
	delete(before, "app.3f9a2c1b7e.js")
	for name, text := range before {
		before[name] = strings.ReplaceAll(text, "app.3f9a2c1b7e.js", "app.77aa0b1c2d.js")
	}
	delete(before, "img/quay.jpg")
	found := budgets(t, shop(200_000), before, check.Budget{Page: "index.html", Total: 100_000},
		check.Budget{File: "img/*.jpg", Size: 50_000})
	require.Len(t, found, 2)
	require.Len(t, found[0].More, 2)
	assert.Equal(t, "90 kB  img/quay.jpg, new since production:12", found[0].More[1])
	assert.Regexp(t, `^1[34]\d kB  app\.3f9a2c1b7e\.js, 99 kB more since production:12$`, found[0].More[0])
	assert.Equal(t, []string{"90 kB  img/quay.jpg, new since production:12"}, found[1].More)
	for _, line := range found[0].More {
		assert.NotContains(t, line, "site.css", "what did not grow is not named")
	}
}

// TestPagesThatLoadEachOther: a circle of frames and style sheets ends.
func TestPagesThatLoadEachOther(t *testing.T) {
	t.Parallel()
	found := budgets(t, map[string]string{"index.html": "<title>x</title><link rel=stylesheet href=a.css><iframe src=/>",
		"a.css": "@import 'b.css'; " + noise("a", 3000), "b.css": "@import 'a.css'; " + noise("b", 3000)}, nil,
		check.Budget{Page: "**", Requests: 1, Styles: 1})
	require.Len(t, found, 2)
	assert.Contains(t, found[1].What, "3 requests")
}

// TestBelowABasePath: what a page of a site at /ferries loads is counted there too.
func TestBelowABasePath(t *testing.T) {
	t.Parallel()
	out := sized(t, map[string]string{"index.html": `<script src="/ferries/app.js"></script><img src="quay.jpg">`,
		"app.js": noise("a", 9000), "quay.jpg": noise("b", 9000)})
	out.Base = "/ferries"
	found, err := check.Budgets(t.Context(), out, []check.Budget{{Page: "**", Requests: 2}}, nil, "")
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Contains(t, found[0].What, "3 requests")
}
