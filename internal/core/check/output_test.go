package check_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/release"
)

// output is a site whose files have content.
func output(t *testing.T, base, rules string, files map[string]string) check.Output {
	t.Helper()
	var paths []string
	for path := range files {
		paths = append(paths, path)
	}
	slices.Sort(paths)
	return check.Output{Input: input(t, rules, paths...), Base: base,
		Open: func(_ context.Context, file release.File) ([]byte, error) {
			return []byte(files[file.Path]), nil
		}}
}

func TestPages(t *testing.T) {
	t.Parallel()
	const icon = `<link rel=icon href=data:,>`
	for name, test := range map[string]struct {
		base, rules string
		files       map[string]string
		want        []string // level-less: file:line code what
	}{
		"all is there": {files: map[string]string{
			"index.html": icon + `<a href="/fares?x=1#top">a</a><a href="boats/">b</a><img src=a.png srcset="a.png 1x, b,c.png 2x"><script src="/app.js"></script>
<a href="https://elsewhere.example/x">x</a><a href="mailto:a@b.example">m</a><a href="#x">y</a><a href="tel:1">z</a><a href="https://www.corvane.example/fares">own</a>`,
			"fares.html": icon, "boats/index.html": icon + `<link rel=stylesheet href=../s.css>`, "a.png": "",
			"b,c.png": "", "app.js": "",
			"s.css": `@import "t.css"; a { background: url( 'a.png' ) } @font-face { src: url(f.woff2) }`,
			"t.css": "", "f.woff2": ""}},
		"what is not there": {files: map[string]string{
			"index.html": icon + "<p>\n<script src=/gone.js></script>\n<img srcset='x.png 1x'\n>\n<a " +
				"href=/nowhere>\n<style>\na{background:url(y.png)}</style><p style='background:url(z.png)'>",
			"a.html": icon + `<script src="gone.js"></script><video src=v.mp4></video>`,
			"s.css":  "\n\na{background:url(../up.png)}",
		}, want: []string{
			"a.html:1 missing-file there is no script gone.js",
			"a.html:1 missing-file there is no video v.mp4",
			"index.html:3 missing-file there is no image x.png", "index.html:5 missing-page " +
				"there is no page /nowhere",
			"index.html:7 missing-file there is no image y.png",
			"index.html:7 missing-file there is no image z.png",
			"s.css:3 missing-file there is no image ../up.png",
			"index.html:2 home-broken the home page's only script would not load: /gone.js"}},
		"made for another base path": {files: map[string]string{"index.html": icon +
			`<script src="/repo/assets/app.js"></script>`, "assets/app.js": ""},
			want: []string{"index.html:1 wrong-base /repo/assets/app.js does not exist, but " +
				"/assets/app.js does: the output was built for the base path /repo/",
				"index.html:1 home-broken the home page's only script would not load: " +
					"/repo/assets/app.js"}},
		"outside the base path": {base: "/ferries",
			files: map[string]string{"index.html": icon +
				`<script src="/app.js"></script><a href="/other">x</a><a href="fares">y</a>`, "app.js": "",
				"fares.html": icon},
			want: []string{"index.html:1 wrong-base /app.js is outside the site, which is below " +
				"/ferries/",
				"index.html:1 home-broken the home page's only script would not load: /app.js"}},
		"a home page that has something left": {files: map[string]string{"index.html": icon +
			`<script src=gone.js></script><link rel=stylesheet href=s.css>`, "s.css": ""},
			want: []string{"index.html:1 missing-file there is no script gone.js"}},
		"a home page that loads from elsewhere": {files: map[string]string{"index.html": icon +
			`<script src=gone.js></script><script src="https://elsewhere.example/x.js"></script>`},
			want: []string{"index.html:1 missing-file there is no script gone.js"}},
		"outside the base path, where something else lies": {base: "/ferries",
			files: map[string]string{"index.html": icon + `<script src="/shared/app.js"></script>`}},
		"a home page whose script an upstream answers": {rules: "proxy /assets/{x:all} -> harbour:/{x}",
			files: map[string]string{"index.html": icon + `<script src=/assets/app.js></script>`}},
		"a home page whose script is redirected": {rules: "redirect /app.js -> " +
			"https://elsewhere.example/app.js with 302",
			files: map[string]string{"index.html": icon + `<script src=/app.js></script>`}},
		"hidden by a rule": {rules: "rewrite /{rest:all} -> /",
			files: map[string]string{"index.html": icon +
				`<script src=/app.js></script><link rel=stylesheet href=/s.css>`, "app.js": "", "s.css": ""},
			want: []string{"index.html:1 hidden-asset the script /app.js is answered with a page, " +
				"/index.html, so it will not load",
				"index.html:1 hidden-asset the style sheet /s.css is answered with a page, " +
					"/index.html, so it will not load",
				"index.html:1 home-broken none of the home page's scripts and style sheets would " +
					"load, /app.js first"}},
		"not hidden by a fallback": {rules: "fallback /{rest:all} -> /",
			files: map[string]string{"index.html": icon +
				`<script src=/app.js></script><a href=/planner/x>p</a>`, "app.js": ""}},
		"missing behind a fallback": {rules: "fallback /{rest:all} -> /",
			files: map[string]string{"index.html": icon +
				`<script src=/app.js></script><script src=/gone.js></script>`, "app.js": ""},
			want: []string{"index.html:1 missing-file there is no script /gone.js"}},
		"a base element": {files: map[string]string{"a/b.html": icon + `<base href="/"><img src="x.png">`,
			"x.png": ""}},
		"through a redirect": {rules: "redirect /old -> /fares\nredirect /temporary -> /fares with 302",
			files: map[string]string{
				"index.html": icon + `<a href=/old>a</a><a href=/temporary>b</a><a href=/fares/>c</a>`,
				"fares.html": icon},
			want: []string{"index.html:1 link-redirected /fares/ passes through a redirect to /fares",
				"index.html:1 link-redirected /old passes through a redirect to /fares"}},
		"a client-side route": {files: map[string]string{"index.html": icon +
			`<a href=/planner/by/boat>p</a>`, "planner/index.html": icon + `<script src=app.js></script>`,
			"planner/app.js": "", "a.html": icon, "b.html": icon},
			want: []string{"index.html:1 missing-page there is no page /planner/by/boat"}},
		"a client-side route with its fallback": {rules: "fallback /planner/{rest:all} -> /planner/",
			files: map[string]string{"index.html": icon + `<a href=/planner/by/boat>p</a>`,
				"planner/index.html": icon + `<script src=app.js></script>`, "planner/app.js": ""}},
		"a manifest": {files: map[string]string{"index.html": icon +
			`<link rel=manifest href=/app.webmanifest>`, "a.png": "",
			"app.webmanifest": "{\"start_url\": \"/?from=home\",\n\"icons\": [{\"src\": " +
				"\"a.png\"},\n{\"src\": \"/b.png\"}]}"},
			want: []string{"app.webmanifest:3 missing-file there is no image /b.png"}},
		"a manifest that is none": {files: map[string]string{"index.html": icon, "app.webmanifest": "["}},
		"passed on": {rules: "proxy /api/{x:all} -> harbour:/{x}",
			files: map[string]string{"index.html": icon + `<a href=/api/x>p</a>`}},
		"no icon": {files: map[string]string{"a.html": "", "b.html": icon}, want: []string{
			"a.html:0 no-icon there is no /favicon.ico, and 1 of 2 pages name no icon, so browsers " +
				"request it in vain"}},
	} {
		t.Run(name, func(t *testing.T) {
			found, err := check.Pages(t.Context(), output(t, test.base, test.rules, test.files))
			require.NoError(t, err)
			var got []string
			for _, f := range found {
				got = append(got, fmt.Sprintf("%s:%d %s %s", f.File, f.Line, f.Code, f.What))
			}
			assert.Equal(t, test.want, got)
		})
	}
}

func TestWhatIsNamedOftenIsToldOnce(t *testing.T) {
	t.Parallel()
	files := map[string]string{}
	for i := range 20 {
		files[fmt.Sprintf("p%02d.html",
			i)] = `<link rel=icon href=data:,><script src="/gone.js"></script><script src="/gone.js"></script>`
	}
	found, err := check.Pages(t.Context(), output(t, "", "", files))
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "p00.html", found[0].File)
	assert.Equal(t, []string{"named by 20 files"}, found[0].More)
}

func TestLostAddresses(t *testing.T) {
	t.Parallel()
	before := input(t, "redirect /ancient -> /old\n", "index.html", "old.html", "moved.html", "kept.html",
		"led.html", "app-0a1b2c3d4e.js", "data.json", "404.html", "assets/Page4-DSojwwyk.js", "plain.js",
		"plain.css", "sans.woff2", "main.1a3af3fd.js.LICENSE.txt", "main.1a3af3fd.js.br", "old.txt", "_data/fares.json", "sula.png", "fares.pdf")
	after := input(t, "redirect /led -> /kept\n", "index.html", "kept.html", "notices/old.html",
		"new/place.html")
	after.Files[3].Digest = before.Files[2].Digest // moved.html went to new/place.html, unchanged
	found, err := check.Lost(t.Context(), before, after)
	require.NoError(t, err)
	var got []string
	for _, f := range found {
		got = append(got, f.What+" | "+f.Next)
	}
	assert.Equal(t, []string{
		"/old answers today and would become 404 | redirect  /old  -> /notices/old",
		"/moved answers today and would become 404 | redirect  /moved  -> /new/place",
		"/data.json answers today and would become 404 | gone      /data.json",
		"/sula.png answers today and would become 404 | gone      /sula.png",
		"/fares.pdf answers today and would become 404 | gone      /fares.pdf",
		"/ancient answers today and would become 404 | redirect /ancient -> /old",
	}, got)
}

func TestAccepted(t *testing.T) {
	t.Parallel()
	in := input(t, "redirect /a -> /a2 when host x\nredirect /a2 -> /fares\nredirect /b -> /nothing",
		pages...)
	found, err := check.Rules(t.Context(), in)
	require.NoError(t, err)
	require.Len(t, found, 2)
	assert.Len(t, check.Without(found, []check.Accepted{{Path: "*.rules"}}), 1, "errors cannot be accepted")
	assert.Len(t, check.Without(found, []check.Accepted{{Code: "rule-two-hops", Path: "other"}}), 2)
	check.Stop(found, []string{"all"})
	assert.Equal(t, 2, found.Errors())
}

// FuzzPages makes sure that any page or style sheet is read without harm, and
// that what is found says where.
func FuzzPages(f *testing.F) {
	f.Add(`<a href="/x"><img srcset="a 1x, b 2x,c"><style>@import "x"; a{background:url(y)}</style><p style="background:url('z')">`, "a{b:url(\"c\\\")}@font-face{src:url(x)")
	f.Add(`<base href="//evil.example"><script src=javascript:1></script><a href="http://[::1"><a href="%zz">`, "@import url(;")
	f.Add("<style><!--</style><a href='\x00'>", "url(")
	f.Fuzz(func(t *testing.T, page, style string) {
		files := map[string]string{"index.html": page, "deep/er/page.html": page, "s.css": style}
		found, err := check.Pages(t.Context(), output(t, "/base", "redirect /old -> /s.css\n", files))
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range found {
			if one.Code == "" || one.What == "" || files[one.File] == "" && one.Code != "no-icon" ||
				one.Line < 0 {
				t.Fatalf("%q %q: %+v", page, style, one)
			}
		}
	})
}

func TestWhatPagesName(t *testing.T) {
	t.Parallel()
	const icon = `<link rel=icon href=data:,>`
	for page, want := range map[string]string{
		`<a href=/gone>`:                                 "missing-page /gone",
		`<a href=" /gone ">`:                             "missing-page /gone",
		`<a href="/gone#x">`:                             "missing-page /gone#x",
		`<a href="/gone.pdf" download>`:                  "missing-file /gone.pdf",
		`<a href="?page=2">`:                             "",
		`<a href="./">`:                                  "",
		`<a href="../../..">`:                            "",
		`<a href="index.html">`:                          "",
		`<area href=/gone>`:                              "missing-page /gone",
		`<iframe src=/gone>`:                             "missing-page /gone",
		`<link rel="preload stylesheet" href=/gone.css>`: "missing-file /gone.css",
		`<link rel=manifest href=/gone.webmanifest>`:     "missing-file /gone.webmanifest",
		`<link rel=canonical href=/gone>`:                "",
		`<link rel=dns-prefetch href=//x.example>`:       "",
		`<link rel=alternate href=/gl/ hreflang=gl>`:     "missing-page /gl/",
		`<video poster=/gone.jpg src=/gone.mp4></video>`: "missing-file /gone.jpg; missing-file /gone.mp4",
		`<img src=/gone.png loading=lazy>`:               "missing-file /gone.png",
		`<img srcset="/a.png, /b.png 2x, /c,d.png 3x">`: "missing-file /a.png; missing-file " +
			"/b.png; missing-file /c,d.png",
		`<object data=/gone.svg></object>`:                                      "missing-file /gone.svg",
		`<svg><image href="/gone.png"/></svg>`:                                  "",
		`<script>"<img src=/gone.png>"</script>`:                                "",
		`<!-- <img src=/gone.png> -->`:                                          "",
		`<textarea><img src=/gone.png></textarea>`:                              "",
		`<style>/* url(/gone.png) */ a{b:url( "/x.png" )}</style>`:              "missing-file /x.png",
		`<p style="background: url(/gone.png) no-repeat">`:                      "missing-file /gone.png",
		`<a href="data:text/html,x"><a href="javascript:x()"><a href="blob:x">`: "",
		`<a href="http://www.corvane.example/gone">`: "missing-page " +
			"http://www.corvane.example/gone",
		`<a href="https://corvane.example/gone">`: "",
		`<a href="/%zz">`:                         "",
		`<img src="/a%00b.png">`:                  "missing-file /a%00b.png",
	} {
		t.Run(page, func(t *testing.T) {
			found, err := check.Pages(t.Context(),
				output(t, "", "", map[string]string{"index.html": icon + page}))
			require.NoError(t, err)
			var got []string
			for _, f := range found {
				name := f.What
				for _, cut := range []string{" is not here", " has a "} {
					name, _, _ = strings.Cut(name, cut)
				}
				got = append(got, f.Code+" "+name[strings.LastIndexByte(name, ' ')+1:])
			}
			assert.Equal(t, want, strings.Join(got, "; "), page)
		})
	}
}
