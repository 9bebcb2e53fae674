package answer_test

import (
	"cmp"
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
	p, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}}, rules.Options{Languages: cases.Languages, Zone: zone, Upstreams: []string{"harbour"}})
	require.Empty(t, found)
	return p
}

func ruled(t testing.TB, text string, files files) answer.Site {
	t.Helper()
	list, err := rules.Decode(rules.Encode(program(t, text).Rules))
	require.NoError(t, err)
	return answer.Site{Files: files, Rules: rules.Compile(list), Settings: release.Settings{Languages: cases.Languages}}
}

func TestCases(t *testing.T) {
	site := ruled(t, cases.Rules, of(cases.Files...))
	for _, c := range cases.List {
		t.Run(c.Name, func(t *testing.T) {
			req := answer.Request{
				Method: cmp.Or(c.Method, "GET"), Host: cmp.Or(c.Host, "www.corvane.example"), Scheme: "https", Environment: answer.Production,
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

// FuzzLocation makes sure that nothing a visitor sends makes a Location with another host than the rules name, a control character
// or another header field.
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
			req := answer.Request{Method: "GET", Scheme: "https", Host: host, Environment: answer.Production, Base: base, Cookie: cookie, Now: cases.Noon}
			req.Path, req.Query, _ = strings.Cut(target, "?")
			if strings.HasPrefix(req.Path, "/") {
				req.Path = base + req.Path
			}
			a, err := answer.Decide(t.Context(), req, site)
			if err != nil {
				t.Fatalf("%q: %v", target, err)
			}
			for _, field := range a.Header {
				if strings.ContainsFunc(field.Name+field.Value, func(c rune) bool { return c < ' ' || c >= 0x7f }) {
					t.Fatalf("%q: %s: %q", target, field.Name, field.Value)
				}
			}
			if a.Upstream != nil && (!strings.HasPrefix(a.Upstream.Path, "/v1/") || strings.Contains(a.Upstream.Path, "/../")) {
				t.Fatalf("%q: upstream %q", target, a.Upstream.Path)
			}
			if a.Location == "" {
				continue
			}
			elsewhere := strings.HasPrefix(a.Location, "https://shop.corvane.example/")
			if rest := a.Location; !elsewhere && (!strings.HasPrefix(rest, base+"/") || len(rest) > 1 && (rest[1] == '/' || rest[1] == '\\')) {
				t.Fatalf("%q: Location %q", target, a.Location)
			}
			where, err := url.Parse(a.Location)
			if err != nil || strings.ContainsAny(a.Location, "\\ \"<>") || elsewhere != (where.Host != "") || where.User != nil {
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
