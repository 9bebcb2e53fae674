package answer_test

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/answer/cases"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// program parses rules that have no mistake.
func program(t testing.TB, text string) *rules.Program {
	t.Helper()
	zone, err := time.LoadLocation(cases.TimeZone)
	require.NoError(t, err)
	p, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}},
		rules.Options{Languages: cases.Languages, Zone: zone, Upstreams: []string{"harbour"}})
	require.Empty(t, found)
	return p
}

func ruled(t testing.TB, text string, files files) answer.Site {
	t.Helper()
	list, err := rules.Decode(rules.Encode(program(t, text).Rules))
	require.NoError(t, err)
	return answer.Site{Files: files, Rules: rules.Compile(list),
		Settings: release.Settings{Languages: cases.Languages}}
}

func TestCases(t *testing.T) {
	t.Parallel()
	site := ruled(t, cases.Rules, of(cases.Files...))
	for _, c := range cases.List {
		t.Run(c.Name, func(t *testing.T) {
			req := answer.Request{
				Method: cmp.Or(c.Method, "GET"), Host: cmp.Or(c.Host, "www.corvane.example"), Scheme: "https",
				Environment:    answer.Production,
				AcceptLanguage: c.Language, Cookie: c.Cookie, Now: c.At,
			}
			req.Path, req.Query, _ = strings.Cut(c.URL, "?")
			if c.Preview {
				req.Environment = "preview/winter"
			}
			if req.Now.IsZero() {
				req.Now = cases.Noon
			}
			a, err := answer.Decide(t.Context(), req, site)
			require.NoError(t, err)
			header, status := a.Header, a.Status
			if c.Upstream != "" {
				require.NotNil(t, a.Upstream)
				status = 200
				assert.Equal(t, "harbour", a.Upstream.Name)
				assert.Equal(t, c.Upstream, req.Method+" "+a.Upstream.Path)
				sent := http.Header{}
				a.Upstream.Finish(200, sent)
				for name, values := range sent {
					header = append(header, answer.Field{Name: name, Value: values[0]})
				}
			}
			assert.Equal(t, c.Status, status)
			assert.Equal(t, c.Location, a.Location)
			if c.File != "" && assert.NotNil(t, a.File, "%+v", a) {
				assert.Equal(t, c.File, a.File.Path)
			}
			for name, want := range c.Header {
				assert.Equal(t, want, field(answer.Answer{Header: header}, name), name)
			}
			for _, name := range c.Without {
				assert.Empty(t, field(answer.Answer{Header: header}, name), name)
			}
			explained, _, err := answer.Explain(t.Context(), req, site)
			require.NoError(t, err)
			explained.Upstream, a.Upstream = nil, nil
			assert.Equal(t, a, explained, "explaining changes no answer")
		})
	}
}

// FuzzLocation makes sure that nothing a visitor sends
// makes a Location with another host than the rules name,
// a control character or another header field.
func FuzzLocation(f *testing.F) {
	site := ruled(f, cases.Rules+`
redirect /raw/{x:all} -> /{x}
redirect /seg/{x} -> /{x}
redirect /q -> /{x}/{y} when query x={x} and query y={y}
redirect /frag/{x} -> /a#{x}
redirect /to/{x:all} -> /a?next={x}
redirect /{x:all} -> https://shop.corvane.example/{x} when host other.example
`, of(cases.Files...))
	for _, c := range cases.List {
		f.Add(c.URL, c.Host, c.Cookie)
	}
	f.Add("/raw//evil.example", "", "")
	f.Add("/q?x=%2f%2fevil.example&y=%5c", "", "")
	f.Add("/frag/%0d%0aset-cookie:%20a", "other.example", "")
	f.Fuzz(func(t *testing.T, target, host, cookie string) {
		for _, base := range []string{"", "/ferries"} {
			req := answer.Request{Method: "GET", Scheme: "https", Host: host, Environment: answer.Production,
				Base: base, Cookie: cookie, Now: cases.Noon}
			req.Path, req.Query, _ = strings.Cut(target, "?")
			if strings.HasPrefix(req.Path, "/") {
				req.Path = base + req.Path
			}
			a, err := answer.Decide(t.Context(), req, site)
			if err != nil {
				t.Fatalf("%q: %v", target, err)
			}
			for _, field := range a.Header {
				if strings.ContainsFunc(field.Name+field.Value, func(c rune) bool {
					return c < ' ' ||
						c >= 0x7f
				}) {
					t.Fatalf("%q: %s: %q", target, field.Name, field.Value)
				}
			}
			if a.Upstream != nil && (!strings.HasPrefix(a.Upstream.Path, "/v1/") ||
				strings.Contains(a.Upstream.Path, "/../")) {
				t.Fatalf("%q: upstream %q", target, a.Upstream.Path)
			}
			if a.Location == "" {
				continue
			}
			elsewhere := strings.HasPrefix(a.Location, "https://shop.corvane.example/")
			if rest := a.Location; !elsewhere &&
				(!strings.HasPrefix(rest, base+"/") || len(rest) > 1 && (rest[1] == '/' || rest[1] == '\\')) {
				t.Fatalf("%q: Location %q", target, a.Location)
			}
			where, err := url.Parse(a.Location)
			if err != nil || strings.ContainsAny(a.Location, "\\ \"<>") || elsewhere != (where.Host != "") ||
				where.User != nil {
				t.Fatalf("%q: Location %q: %v", target, a.Location, err)
			}
			for segment := range strings.SplitSeq(where.EscapedPath(), "/") {
				if segment, _ = url.PathUnescape(segment); segment == "." || segment == ".." {
					t.Fatalf("%q: Location %q climbs", target, a.Location)
				}
			}
		}
	})
}

// TestHeaderRules looks at which rules reach which answers, and in which order.
func TestHeaderRules(t *testing.T) {
	t.Parallel()
	site := ruled(t, `
redirect /old            -> /fares
rewrite  /now            -> /fares
rewrite  /closed         -> /fares  with 503
fallback /app/{x:all}    -> /fares
header   /{x:all}        x-a: 1
header   /{x:all}        x-a: 2
header   /fares          x-a: 3
withhold /fares.html     x-a
header   /fares.html     x-a: again
withhold /boats/{x:all}  x-content-type-options
header   /{x:all}        link: </a.css>; rel=preload
header   /{x:all}        cache-control: public, max-age=60, s-maxage=120, stale-while-revalidate=9
header   /{x:all}        when status 404 cache-control: max-age=5
header   /{x:all}        when status 200|301 x-seen: yes
header   /style-{x}      content-type: text/plain
header   /{x:all}        when from 2026-11-23T00:00Z until 2026-11-23T12:00:30Z x-era: first
header   /boats/{x:all}  when cookie a x-c: 1
header   /boats/{x:all}  vary: Accept, cookie
header   /{x:all}        expires: Thu, 31 Dec 2037 23:55:55 GMT
`, of("fares.html", "boats/dunlin.html", "style-0a1b2c3d4e.css", "404.html"))
	at := func(path string) answer.Answer {
		t.Helper()
		a, err := answer.Decide(t.Context(), answer.Request{Method: "GET", Path: path,
			Environment: answer.Production, Now: cases.Noon}, site)
		require.NoError(t, err)
		return a
	}
	values := func(a answer.Answer, name string) []string {
		var list []string
		for _, f := range a.Header {
			if strings.EqualFold(f.Name, name) {
				list = append(list, f.Value)
			}
		}
		return list
	}
	cut := "public, max-age=30, s-maxage=30"
	for _, test := range []struct {
		path, name string
		want       []string
	}{
		{"/boats/dunlin", "x-a", []string{"2"}},
		{"/fares", "x-a", []string{"3"}},
		{"/fares.html", "x-a", []string{"again"}},
		{"/boats/dunlin", "x-content-type-options", nil},
		{"/fares", "x-content-type-options", []string{"nosniff"}},
		{"/fares", "link", []string{"</a.css>; rel=preload"}},
		{"/fares.html", "link", []string{`</fares>; rel="canonical"`, "</a.css>; rel=preload"}},
		{"/old", "link", nil},
		{"/fares", "cache-control", []string{cut}},
		{"/now", "cache-control", []string{cut}},
		{"/old", "cache-control", []string{"no-cache"}},
		{"/closed", "cache-control", []string{"no-store"}},
		{"/app/x", "cache-control", []string{"no-cache"}},
		{"/nowhere", "cache-control", []string{"max-age=5"}},
		{"/boats/dunlin", "cache-control", []string{"private, max-age=30"}},
		{"/fares", "x-seen", []string{"yes"}},
		{"/old", "x-seen", []string{"yes"}},
		{"/nowhere", "x-seen", nil},
		{"/style-0a1b2c3d4e.css", "content-type", []string{"text/plain"}},
		{"/style-0a1b2c3d4e.css", "cache-control", []string{cut}},
		{"/style-none.css", "content-type", []string{"text/plain; charset=utf-8"}},
		{"/boats/dunlin", "vary", []string{"Accept, cookie"}},
		{"/fares", "vary", nil},
		{"/fares", "expires", []string{"Mon, 23 Nov 2026 12:00:30 GMT"}},
		{"/old", "expires", nil},
		{"/old", "location", []string{"/fares"}},
		{"/.orilla/x", "x-a", nil},
		{"/%00", "x-a", nil},
	} {
		t.Run(test.path, func(t *testing.T) {
			assert.Equal(t, test.want, values(at(test.path), test.name), "%s %s", test.path, test.name)
		})
	}
	assert.True(t, at("/fares").Timed)
}

// TestExplaining looks at the steps that are told.
func TestExplaining(t *testing.T) {
	t.Parallel()
	site := ruled(t, `
redirect /a    -> /b          when language gl
redirect /a    -> /{x}        when query x={x}
redirect /a    -> /a
redirect /{x}  -> /found/{x}  when host elsewhere.example
rewrite  /a    -> /nothing
header   /a    cache-control: max-age=1
fallback /{x}  -> /none
`, of("404.html"))
	a, steps, err := answer.Explain(t.Context(), answer.Request{Method: "GET", Path: "/a", Query: "x=..",
		Environment: answer.Production}, site)
	require.NoError(t, err)
	assert.Equal(t, 404, a.Status)
	var told []string
	for _, step := range steps {
		about := step.Text
		if step.Rule != nil {
			about = fmt.Sprintf("%s: %s", step.Rule, step.Text)
		}
		told = append(told, about)
	}
	assert.Equal(t, []string{
		"redirect /a -> /b when language gl: not: language gl",
		"redirect /a -> /{x} when query x={x}: a placeholder would become a dot segment",
		"redirect /a -> /a: it would redirect to itself",
		"redirect /{x} -> /found/{x} when host elsewhere.example: not: host elsewhere.example",
		"rewrite /a -> /nothing: but there is no file at /nothing",
		"fallback /{x} -> /none: but there is no file at /none",
		"the not-found page is 404.html",
		"header /a cache-control: max-age=1: cache-control is only for files at their own address; " +
			"when status 404 would match this answer",
	}, told)
}

// TestBasePathsAndRules puts the base path before what
// leads into the site, and nowhere else.
func TestBasePathsAndRules(t *testing.T) {
	t.Parallel()
	site := ruled(t, cases.Rules, of(cases.Files...))
	for path, want := range map[string]string{
		"/ferries/timetable/winter?a=1": "/ferries/sailings/winter/?a=1",
		"/ferries/shop/x":               "https://shop.corvane.example/x", "/timetable/winter": "",
		"/ferries": "/ferries/", "/ferries//timetable": "/ferries/timetable",
		"/ferries/search": "/ferries/find",
	} {
		t.Run(path, func(t *testing.T) {
			req := answer.Request{Method: "GET", Base: "/ferries", Environment: answer.Production,
				Now: cases.Noon}
			req.Path, req.Query, _ = strings.Cut(path, "?")
			a, err := answer.Decide(t.Context(), req, site)
			require.NoError(t, err)
			assert.Equal(t, want, a.Location, path)
		})
	}
}

// TestARedirectToItself does not apply, however the
// address is spelled, and with a host too.
func TestARedirectToItself(t *testing.T) {
	t.Parallel()
	site := ruled(t, `
redirect /caf%C3%A9   -> /café
redirect /q           -> /q?a=1
redirect /f           -> /f#part
redirect /abs         -> https://www.corvane.example/abs
redirect /scheme      -> https://www.corvane.example/scheme
redirect /gone/{x}    -> /gone/{x}?
`, of("x.html"))
	for path, want := range map[string]string{
		"/caf%c3%a9": "", "/q?a=1": "", "/q?a=2": "/q?a=1", "/q": "/q?a=1", "/f": "", "/abs": "",
		"/gone/x": "", "/gone/x?y": "/gone/x",
	} {
		t.Run(path, func(t *testing.T) {
			req := answer.Request{Method: "GET", Scheme: "https", Host: "www.corvane.example",
				Environment: answer.Production}
			req.Path, req.Query, _ = strings.Cut(path, "?")
			a, err := answer.Decide(t.Context(), req, site)
			require.NoError(t, err)
			assert.Equal(t, want, a.Location, path)
		})
	}
	a, err := answer.Decide(t.Context(), answer.Request{Method: "GET", Scheme: "http",
		Host: "www.corvane.example", Path: "/scheme", Environment: answer.Production}, site)
	require.NoError(t, err)
	assert.Equal(t, "https://www.corvane.example/scheme", a.Location, "another scheme is another address")
}

// TestMovedLeadsToTheEnd sends visitors of another address where they end up, in
// one hop.
func TestMovedLeadsToTheEnd(t *testing.T) {
	t.Parallel()
	site := ruled(t, "redirect /old -> /older?a=1#top\n"+
		"redirect /older -> /fares.html\n"+
		"redirect /shop/{rest:all} -> https://shop.corvane.example/{rest}\n"+
		"redirect / -> /gl/ with 302 when language gl\n"+
		"redirect /a -> /b\nredirect /b -> /a\n", of("index.html", "gl/index.html", "fares.html", "boats/index.html"))
	site.Settings.OneAddress = true
	for path, want := range map[string]string{
		"/fares":      "301 https://www.corvane.example/p/fares",
		"/fares/?q=1": "301 https://www.corvane.example/p/fares?q=1",
		"/boats":      "301 https://www.corvane.example/p/boats/",
		"//boats":     "301 https://www.corvane.example/p/boats/",
		"/old?q=1":    "301 https://www.corvane.example/p/fares?a=1&q=1",
		"/shop/x":     "301 https://shop.corvane.example/x",
		"/nowhere":    "301 https://www.corvane.example/p/nowhere",
		"/":           "302 https://www.corvane.example/p/gl/",
		"/a":          "301 https://www.corvane.example/p/b",
		"/%zz":        "301 https://www.corvane.example/p/%zz",
		"":            "301 https://www.corvane.example/p/gl/",
	} {
		req := answer.Request{Method: "GET", Base: "/p", Host: "www.corvane.example", Scheme: "https",
			Environment: answer.Production, AcceptLanguage: "gl"}
		req.Path, req.Query, _ = strings.Cut("/p"+path, "?")
		a, err := answer.Moved(t.Context(), req, site, "https://www.corvane.example")
		require.NoError(t, err)
		got := fmt.Sprint(a.Status, " ", a.Location)
		if path == "" {
			want = "302" + want[3:]
		}
		assert.Equal(t, want, got, path)
		assert.Equal(t, a.Location, field(a, "Location"))
		assert.Equal(t, "no-cache", field(a, "Cache-Control"))
	}
}
