package answer_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/rules"
)

// shapes are the sets of rules of which the cost of a match is measured: n
// rules, and the paths that hit and miss them.
var shapes = map[string]struct{ rule, hit, miss string }{
	"literals":     {"redirect /old/page-%d -> /new", "/old/page-%d", "/old/none-%d"},
	"deep":         {"redirect /archive/%d/a/b/c -> /new", "/archive/%d/a/b/c", "/archive/%d/a/b/d"},
	"placeholders": {"redirect /{lang}/old-%d -> /new/{lang}", "/gl/old-%d", "/gl/none-%d"},
	"affixes":      {"redirect /map-%d-{x}.pdf -> /maps/{x}", "/map-%d-a.pdf", "/map-%d-a.png"},
	"queries": {"redirect /boat.php -> /boats/%[1]d when query id=%[1]d", "/boat.php?id=%d",
		"/boat.php?id=x%d"},
	"whatever below": {"redirect /area-%d/{rest:all} -> /new/{rest}", "/area-%d/a/b", "/none-%d/a/b"},
}

func manyRules(b *testing.B, shape string, n int) []rules.Rule {
	b.Helper()
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, shapes[shape].rule+"\n", i)
	}
	program, found := rules.Parse([]rules.Source{{Name: "r", Text: []byte(text.String())}}, rules.Options{})
	require.Empty(b, found)
	return program.Rules
}

var sizes = []int{10, 1_000, 10_000, 100_000}

// BenchmarkRules answers requests of a site with n rules, hits and misses in
// random order. What counts is the ratio between sizes.
func BenchmarkRules(b *testing.B) {
	for shape, s := range shapes {
		for _, n := range sizes {
			site := answer.Site{Files: of("index.html"), Rules: rules.Compile(manyRules(b, shape, n))}
			for kind, form := range map[string]string{"hit": s.hit, "miss": s.miss} {
				random := rand.New(rand.NewPCG(1, 1))
				requests := make([]answer.Request, 4096)
				for i := range requests {
					requests[i] = answer.Request{Method: "GET", Environment: answer.Production}
					requests[i].Path, requests[i].Query, _ = strings.Cut(fmt.Sprintf(form, random.IntN(n)),
						"?")
				}
				b.Run(fmt.Sprintf("%s/%s/%d", shape, kind, n), func(b *testing.B) {
					for i := 0; b.Loop(); i++ {
						//nolint:errcheck // measured
						answer.Decide(b.Context(), requests[i%len(requests)], site)
					}
				})
				b.Run(fmt.Sprintf("%s/%s/%d/match", shape, kind, n), func(b *testing.B) {
					paths := make([]address.Path, len(requests))
					for i := range requests {
						paths[i], _, _ = address.Split(requests[i].Path)
					}
					for i := 0; b.Loop(); i++ {
						query := address.Query{Raw: requests[i%len(requests)].Query}
						site.Rules.Each(rules.First, paths[i%len(paths)], &query, false,
							func(*rules.Rule) bool { return false })
					}
				})
			}
		}
	}
}

// BenchmarkCompile compiles n rules; its time per rule should not grow.
func BenchmarkCompile(b *testing.B) {
	for shape := range shapes {
		for _, n := range sizes {
			list := manyRules(b, shape, n)
			b.Run(fmt.Sprintf("%s/%d", shape, n), func(b *testing.B) {
				for b.Loop() {
					rules.Compile(list)
				}
				b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/rule")
			})
		}
	}
}
