package check_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/answer/cases"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

func input(t testing.TB, text string, paths ...string) check.Input {
	t.Helper()
	program, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}},
		rules.Options{Languages: []string{"en", "gl"}, Zone: time.UTC, Upstreams: []string{"harbour"}})
	require.Empty(t, found)
	set, err := program.Compile()
	require.NoError(t, err)
	var list []release.File
	for _, path := range paths {
		list = append(list, release.File{Path: path, Digest: digest.Of([]byte(path)), Size: 1,
			Type: media.Type(path, true)})
	}
	return check.Input{
		Site: answer.Site{Files: check.Map(list), Rules: set,
			Settings: release.Settings{Languages: []string{"en", "gl"}}}, Program: program, Files: list,
		Own: []string{"https://www.corvane.example/"}, Now: cases.Noon,
	}
}

// brief writes findings as code, line, column and some words of the rest.
func brief(found finding.List) []string {
	var out []string
	for _, f := range found {
		out = append(out, fmt.Sprintf("%s %s %d:%d %s", f.Level, f.Code, f.Line, f.Column, f.What))
	}
	return out
}

var pages = []string{"404.html", "boats/index.html", "fares.html", "gl/index.html", "index.html",
	"news/a.html", "news/b.html", "sailings/winter/index.html"}

func TestRules(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"redirect /old -> /fares": "",
		"redirect /fares -> /boats/": "error rule-over-page 1:1 this rule " +
			"hides the page at /fares",
		"redirect /boats -> /fares": "error rule-over-page 1:1 this rule " +
			"hides the page at /boats/",
		"redirect /fares -> /boats/ when cookie x": "",
		"redirect /fares.html -> /fares":           "",
		"redirect /boats -> /boats/":               "",
		"redirect /a -> /b\nredirect /b -> /a": "error rule-loop 1:16 redirect loop: /a -> /b -> " +
			"/a; error rule-loop 2:16 redirect loop",
		"redirect /a/{x} -> /b/{x}\nredirect /b/{y} -> /a/{y}": "error rule-loop 1:20; error rule-loop 2:20",
		"redirect /a -> /b when host x\nredirect /b -> /fares": "warning rule-two-hops 1:16 " +
			"redirect chain: /a -> /b -> /fares",
		"redirect /a -> /b when host x\nredirect /b -> /a when host y": "error rule-no-target " +
			"1:16; error rule-no-target 2:16",
		"redirect /a -> /sailings/wintr": "error rule-no-target 1:16 " +
			"nothing answers at /sailings/wintr",
		"redirect /a -> /app/x\nfallback /app/{x:all} -> /": "",
		"redirect /a/{x} -> /b/{x}":                         "",
		"rewrite /a -> /nothing": "error rule-no-target " +
			"1:15 there is no file at /nothing",
		"fallback /a/{x:all} -> /boats":  "",
		"missing /gl/{x:all} -> /gl/404": "error rule-no-target 1:24",
		"missing /{x:all} -> /":          "warning rule-missing-home 1:21",
		"header /a when from 2026-12-01 through 2026-12-02 " +
			"cache-control: public, max-age=9, IMMUTABLE": "error rule-immutable-time 1:1",
		"gone /a/{x:all}\nredirect /a/{y}/b -> /fares": "warning rule-shadowed 2:1 this rule never " +
			"applies: the one at site.rules:1:1",
		"gone /a/{x}\nredirect /a/{y:digits} -> /fares":      "warning rule-shadowed 2:1",
		"gone /a/{x:digits}\nredirect /a/{y} -> /fares":      "",
		"gone /a/{x} when host y\nredirect /a/{z} -> /fares": "",
		"gone /a/x{x}\nredirect /a/xy{z}z -> /fares":         "warning rule-shadowed 2:1",
		"gone /{x:a|b}\ngone /a\ngone /{y:a|c}":              "warning rule-shadowed 2:1",
		"gone /a\ngone /b\ngone /a/": "warning rule-twice 3:1 the " +
			"same rule is at site.rules:1:1",
		"fallback /{x:all} -> /\nfallback /app/{x:all} -> /": "warning rule-shadowed 2:1",
		"header /{x:all} a: b\nheader /x a: c":               "",
		"redirect /news/{x} -> /notices/{x}": "warning rule-hides-pages 1:1 this hides 2 files of " +
			"the output, such as /news/a",
		"rewrite /news/a -> /fares":                        "warning rule-hides-pages 1:1 this hides 1 file",
		"redirect / -> /gl/ when language gl":              "warning rule-permanent-language 1:1",
		"redirect / -> /gl/ with 302 when language gl":     "",
		"redirect /a -> https://www.corvane.example/b":     "warning rule-own-address 1:16",
		"redirect /a -> https://www.corvane.example.org/b": "",
		"proxy /api/{x:all} -> harbour:/{x}":               "",
	} {
		found, err := check.Rules(t.Context(), input(t, text, pages...))
		require.NoError(t, err)
		got := brief(found)
		wants := strings.Split(want, "; ")
		if want == "" {
			assert.Empty(t, got, text)
			continue
		}
		if assert.Len(t, got, len(wants), "%s: %s", text, got) {
			for i := range wants {
				assert.True(t, strings.HasPrefix(got[i], wants[i]), "%s: %s", text, got[i])
			}
		}
	}
}

func TestExpectations(t *testing.T) {
	t.Parallel()
	text := `
redirect /old         -> /fares  with 302  when from 2026-12-01 through 2026-12-02
redirect /timetable/{x}  -> /sailings/{x}
redirect /            -> /gl/    with 302  when language gl
proxy    /api/{x:all} -> harbour:/v1/{x}
header   /fares       x-a: b
`
	for line, want := range map[string]string{
		"/timetable/winter 301 /sailings/winter/": "",
		"/timetable/winter 301 /sailings/winter": "expected 301 /sailings/winter, got 301 " +
			"/sailings/winter/",
		"/timetable/winter 302":                "expected 302, got 301",
		"/fares 200 /fares.html":               "",
		"/fares 200 /fares":                    "",
		"/fares 200 /boats/":                   "expected 200 /boats/, got 200 /fares.html",
		"/ 200":                                "",
		"/ 302 /gl/ given language gl-ES":      "",
		"/nowhere 404 /404":                    "",
		"/nowhere 404":                         "",
		"POST /fares 405":                      "",
		"/api/x proxy harbour:/v1/x":           "",
		"/api/x proxy harbour:/v2/x":           "expected proxy harbour:/v2/x, got proxy harbour:/v1/x",
		"/api/x 200":                           "this is proxied",
		"/old 404":                             "the answer may depend on the time",
		"/old 404 given time 2026-11-30T23:59": "",
		"/old 302 /fares given time 2026-12-02T23:59:59Z": "",
		"/old 404 given time 2026-12-02T23:59:59Z":        "expected 404, got 302 /fares",
		"/fares 200 header x-a: b":                        "",
		"/fares 200 header X-A: c":                        "expected header x-a: c, got \"b\"",
		"/boats/ 200 no header x-a":                       "",
		"/fares 200 no header x-a":                        "expected no header x-a",
		"/boats/ 200 header x-a: b":                       "got none",
	} {
		t.Run(line, func(t *testing.T) {
			found, err := check.Expectations(t.Context(), input(t, text+"expect "+line, pages...))
			require.NoError(t, err)
			if want == "" {
				assert.Empty(t, brief(found), line)
			} else if assert.Len(t, found, 1, line) {
				assert.Contains(t, found[0].What, want, line)
				assert.Equal(t, 7, found[0].Line)
			}
		})
	}
}

func TestTheRulesOfTheCasesHaveNoErrors(t *testing.T) {
	t.Parallel()
	program, _ := rules.Parse([]rules.Source{{Name: "r", Text: []byte(cases.Rules)}},
		rules.Options{Languages: cases.Languages, Zone: time.UTC})
	in := input(t, "", cases.Files...)
	in.Program = program
	var err error
	in.Site.Rules, err = program.Compile()
	require.NoError(t, err)
	found, err := check.Rules(t.Context(), in)
	require.NoError(t, err)
	var errors []string
	for _, f := range found {
		if f.Level == finding.Error {
			errors = append(errors, f.Code+" "+f.Text)
		}
	}
	assert.Len(t, errors, 2, "a rewrite to nothing, and a redirect to a page elsewhere: %v", errors)
}

// BenchmarkRules checks n rules against as many files; its
// time per rule should not grow.
func BenchmarkRules(b *testing.B) {
	for _, n := range []int{1_000, 10_000, 100_000} {
		var text strings.Builder
		paths := make([]string, n)
		for i := range n {
			fmt.Fprintf(&text, "redirect /old/%d -> /new/%d\n", i, i)
			paths[i] = fmt.Sprintf("new/%d.html", i)
		}
		in := input(b, text.String(), paths...)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				found, err := check.Rules(b.Context(), in)
				require.NoError(b, err)
				require.Empty(b, found)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/rule")
		})
	}
}
