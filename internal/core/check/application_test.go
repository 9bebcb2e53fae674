package check_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/release"
)

// shellPage is what a bundler makes of an application's page.
const shellPage = `<!doctype html><html><head><title>Corvane</title><link rel=icon href=data:,>` +
	`<script type=module src=/assets/a.js></script></head><body><noscript>No scripts?</noscript>` +
	`<div id=root></div></body></html>`

const router = `history.pushState(a,"",b);addEventListener("popstate",c)`

// TestAnApplicationNeedsAFallback notices a site of one page whose addresses live
// in the browser.
func TestAnApplicationNeedsAFallback(t *testing.T) {
	t.Parallel()
	loading := `<link rel=icon href=data:,><p>Loading<script src=/assets/a.js></script>`
	for name, test := range map[string]struct {
		rules string
		files map[string]string
		told  bool
	}{
		"scripts only":             {"", map[string]string{"index.html": shellPage, "assets/a.js": ""}, true},
		"with a router":            {"", map[string]string{"index.html": loading, "assets/a.js": router}, true},
		"behind a page of its own": {"", map[string]string{"index.html": shellPage, "assets/a.js": "", "404.html": shellPage}, true},
		"with a fallback": {"fallback /{rest:all} -> /", map[string]string{"index.html": shellPage, "assets/a.js": ""},
			false},
		"text and a script": {"", map[string]string{"index.html": loading, "assets/a.js": "1"}, false},
		"a generator's pages": {"", map[string]string{"index.html": loading, "fares.html": loading, "assets/a.js": router},
			false},
		"a page without scripts": {"", map[string]string{"index.html": `<link rel=icon href=data:,>`}, false},
		"no page":                {"", map[string]string{"a.txt": "a"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			found, err := check.Pages(t.Context(), output(t, "", test.rules, test.files))
			require.NoError(t, err)
			if !test.told {
				assert.Empty(t, found)
				return
			}
			require.Len(t, found, 1)
			assert.Equal(t, "no-fallback", found[0].Code)
			assert.Equal(t, "in a rules file (rules: in orilla.yaml): fallback  "+
				"/{rest:all}  -> /", found[0].Next)
		})
	}
}

// TestALinkIntoAnApplication is told under one code, whichever pages are looked
// at, with the rule that is missing.
func TestALinkIntoAnApplication(t *testing.T) {
	t.Parallel()
	out := output(t, "", "", map[string]string{"planner/index.html": shellPage, "assets/a.js": "", "fares.html": "fares",
		"index.html": `<link rel=icon href=data:,>home <a href=/planner/by/boat>p</a> <a href=/nowhere>n</a>`})
	for _, only := range []string{"", "index.html"} {
		if only != "" {
			out.Only = func(file release.File) bool { return file.Path == only }
		}
		found, err := check.Pages(t.Context(), out)
		require.NoError(t, err)
		found = check.Without(found, []check.Accepted{{Code: "no-icon"}})
		require.Len(t, found, 2)
		assert.Equal(t, []string{"missing-page", "missing-page"}, []string{found[0].Code, found[1].Code})
		assert.Empty(t, found[0].Next)
		assert.Equal(t, "fallback  /planner/{rest:all}  -> /planner/", found[1].Next)
	}
	for _, accepted := range []string{"missing-page", "client-route"} { // as it was called before
		assert.Empty(t, check.Without(finding.List{{Code: "missing-page", Level: finding.Warning}},
			[]check.Accepted{{Code: accepted}}))
	}

	for path, want := range map[string]string{"/planner/by/boat": "fallback  " +
		"/planner/{rest:all}  -> /planner/",
		"/planner/a.png": "", "/nowhere": "", "/": ""} {
		p, _, err := address.Split(path)
		require.NoError(t, err)
		rule, err := check.Fallback(t.Context(), out, p)
		require.NoError(t, err)
		assert.Equal(t, want, rule, path)
	}
	below := output(t, "/app", "", map[string]string{"index.html": `<script src=/app/a.js></script>`, "a.js": ""})
	p, _, err := address.Split("/by/boat")
	require.NoError(t, err)
	rule, err := check.Fallback(t.Context(), below, p)
	require.NoError(t, err)
	assert.Equal(t, "fallback  /{rest:all}  -> /", rule)
}

// TestFormsNeedSomebodyWhoTakesThem tells of forms that would be answered 405.
func TestFormsNeedSomebodyWhoTakesThem(t *testing.T) {
	t.Parallel()
	const page = `<link rel=icon href=data:,>a <a href=/book>b</a>
<form method=POST action="/book?line=2"><input name=a></form><form action=/search></form>
<form method=post action=/api/book></form><form method=post action="https://elsewhere.example/x"></form>
<form method=post></form><form method=dialog></form><form method=post action=/moved></form>`
	found, err := check.Pages(t.Context(), output(t, "", "proxy /api/{rest:all} -> harbour:/{rest}\n"+
		"redirect /moved -> https://elsewhere.example/", map[string]string{
		"index.html": page, "book.html": `<link rel=icon href=data:,>book`, "search.html": `<link rel=icon href=data:,>s`}))
	require.NoError(t, err)
	var got []string
	for _, f := range found {
		got = append(got, fmt.Sprintf("%d %s %s", f.Line, f.Code, f.What))
	}
	assert.Equal(t, []string{
		"2 form-refused the form sends POST to /book?line=2, which files do not accept: 405",
		"4 form-refused the form sends POST to its own page, which files do not accept: 405",
	}, got)
}
