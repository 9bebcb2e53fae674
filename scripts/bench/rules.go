package main

import (
	"context"
	"fmt"
	"log"
	mathrand "math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// shape is a kind of rules, of which there are n, and the
// addresses that they take and do not take.
type shape struct{ name, rule, hit, miss string }

var shapes = []shape{
	{"literal paths", "redirect /old/page-%d -> /new", "/old/page-%d", "/old/none-%d"},
	{"long paths", "redirect /archive/%d/a/b/c -> /new", "/archive/%d/a/b/c", "/archive/%d/a/b/d"},
	{"a placeholder before", "redirect /{lang}/old-%d -> /new/{lang}", "/gl/old-%d", "/gl/none-%d"},
	{"a placeholder behind", "redirect /old-%d/{x} -> /new/{x}", "/old-%d/a", "/none-%d/a"},
	{"text around a placeholder", "redirect /map-%d-{x}.pdf -> /maps/{x}", "/map-%d-a.pdf", "/map-%d-a.png"},
	{"a parameter's value", "redirect /boat.php -> /boats/%[1]d when query id=%[1]d", "/boat.php?id=%d",
		"/boat.php?id=x%d"},
	{"all below a path", "redirect /area-%d/{rest:all} -> /new/{rest}", "/area-%d/a/b", "/none-%d/a/b"},
}

// nothing has no files.
type nothing struct{}

func (nothing) Lookup(context.Context, string) (release.File, bool, error) {
	return release.File{}, false, nil
}

// measureMatching times whole answers, and the match alone, with n rules over ten
// rules of the same kind, in turn.
func measureMatching(b *bench) {
	sizes := []int{10, 1_000, 10_000, 100_000}
	fmt.Printf("\nan answer, and the match alone, with n rules over 10 (limit 2)\n")
	for _, s := range shapes {
		var sites []answer.Site
		for _, n := range sizes {
			sites = append(sites, answer.Site{Files: nothing{}, Rules: rules.Compile(b.rules(s, n))})
		}
		for _, kind := range []string{"hit", "miss"} {
			whole, match := make([][]float64, len(sizes)), make([][]float64, len(sizes))
			for range b.pairs {
				for i := range sizes {
					form := s.hit
					if kind == "miss" {
						form = s.miss
					}
					baseWhole, baseMatch := rounds(sites[0], form, sizes[0])
					thisWhole, thisMatch := rounds(sites[i], form, sizes[i])
					whole[i], match[i] = append(whole[i], thisWhole/baseWhole), append(match[i],
						thisMatch/baseMatch)
				}
			}

			line := fmt.Sprintf("  %-26s %-4s", s.name, kind)
			for i := range sizes[1:] {
				line += fmt.Sprintf("  %7d: %.2f, %.2f", sizes[i+1], middle(whole[i+1]), middle(match[i+1]))
			}
			fmt.Println(line)
		}
	}
}

// middle returns the median, and sorts the list for it.
func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// rounds returns the nanoseconds of one answer, and of one
// match, over many addresses in random order.
func rounds(site answer.Site, form string, n int) (whole, match float64) {
	const count = 20_000
	random := mathrand.New(mathrand.NewPCG(1, uint64(n)))
	requests := make([]answer.Request, count)
	paths, queries := make([]address.Path, count), make([]address.Query, count)
	for i := range requests {
		requests[i] = answer.Request{Method: "GET", Environment: answer.Production}
		requests[i].Path, requests[i].Query, _ = strings.Cut(fmt.Sprintf(form, random.IntN(n)), "?")
		paths[i], _, _ = address.Split(requests[i].Path)
		queries[i] = address.Query{Raw: requests[i].Query}
	}

	runtime.GC()
	ctx := context.Background()
	started := time.Now()
	for i := range requests {
		if _, err := answer.Decide(ctx, requests[i], site); err != nil {
			log.Fatal(err)
		}
	}

	whole = float64(time.Since(started).Nanoseconds()) / count
	runtime.GC()
	started = time.Now()
	for i := range paths {
		site.Rules.Each(rules.First, paths[i], &queries[i], false, func(*rules.Rule) bool { return false })
	}
	return whole, float64(time.Since(started).Nanoseconds()) / count
}

// rules returns n rules of one shape.
func (b *bench) rules(s shape, n int) []rules.Rule {
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, s.rule+"\n", i)
	}
	program, found := rules.Parse([]rules.Source{{Name: "rules", Text: []byte(text.String())}},
		rules.Options{})
	if len(found) > 0 {
		log.Fatal(found[0].What)
	}
	return program.Rules
}

// measureCompiling times reading, decoding and compiling of n rules, for each rule.
func measureCompiling(b *bench) {
	fmt.Printf("\nnanoseconds a rule, of which there are n: parse, decode what a release keeps, compile\n")
	for _, s := range shapes {
		line := fmt.Sprintf("  %-26s", s.name)
		for _, n := range []int{1_000, 10_000, 100_000} {
			var parse, decode, compile []float64
			var text strings.Builder
			for i := range n {
				fmt.Fprintf(&text, s.rule+"\n", i)
			}

			for range min(b.pairs, 5) {
				runtime.GC()
				started := time.Now()
				program, _ := rules.Parse([]rules.Source{{Name: "rules", Text: []byte(text.String())}},
					rules.Options{})
				parse = append(parse, float64(time.Since(started).Nanoseconds())/float64(n))
				kept := rules.Encode(program.Rules)
				started = time.Now()
				list, err := rules.Decode(kept)
				if err != nil {
					log.Fatal(err)
				}

				decode = append(decode, float64(time.Since(started).Nanoseconds())/float64(n))
				started = time.Now()
				rules.Compile(list)
				compile = append(compile, float64(time.Since(started).Nanoseconds())/float64(n))
			}
			line += fmt.Sprintf("  %7d: %5.0f %5.0f %5.0f", n, middle(parse), middle(decode), middle(compile))
		}
		fmt.Println(line)
	}
}
