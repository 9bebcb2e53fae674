package main

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
)

// event is one line of go test -json; see go doc test2json.
type event struct {
	Action     string
	Package    string
	ImportPath string // of a package whose build said something
	Test       string
	Elapsed    float64 // seconds
	Output     string
}

// result is how one test ended, without its subtests.
type result struct {
	seconds   float64
	action    string // pass, fail or skip
	pkg, test string
}

// testLog takes the events of go test. What a package prints is kept until it
// has ended, and shown of tests that did not pass.
type testLog struct {
	out     io.Writer
	printed map[string]*printed // by package
	results []result
	failed  []string
}

// printed is what a package printed, by the test that it ran.
type printed struct {
	order []string
	text  map[string]*strings.Builder
	ended map[string]string // how each test ended
}

func newLog(out io.Writer) *testLog { return &testLog{out: out, printed: map[string]*printed{}} }

// line takes one line. What is not an event goes out as it is.
//
//nolint:errcheck // nobody to tell
func (l *testLog) line(line []byte) {
	var e event
	if json.Unmarshal(line, &e) != nil || e.Action == "" {
		fmt.Fprintf(l.out, "%s", line)
		return
	}

	switch p := l.of(e.Package); e.Action {
	case "build-output":
		fmt.Fprint(l.out, e.Output)
	case "build-fail":
		l.failed = append(l.failed, e.ImportPath)
	case "output":
		p.add(e.Test, e.Output)
	case "pass", "fail", "skip":
		p.ended[e.Test] = e.Action
		if e.Test == "" {
			l.packageEnded(e)
			return
		}
		if !strings.Contains(e.Test, "/") {
			l.results = append(l.results, result{e.Elapsed, e.Action, short(e.Package), e.Test})
		}
	}
}

// short is a package's path without the module's.
func short(path string) string { return strings.TrimPrefix(path, "orilla.example/orilla/") }

func (l *testLog) of(path string) *printed {
	if l.printed[path] == nil {
		l.printed[path] = &printed{text: map[string]*strings.Builder{}, ended: map[string]string{}}
	}
	return l.printed[path]
}

func (p *printed) add(test, text string) {
	if p.text[test] == nil {
		p.order, p.text[test] = append(p.order, test), &strings.Builder{}
	}
	p.text[test].WriteString(text)
}

// packageEnded shows how a package ended: of one that failed what its tests
// printed that failed or never ended, of others why tests were skipped.
//
//nolint:errcheck // nobody to tell
func (l *testLog) packageEnded(e event) {
	p := l.of(e.Package)
	delete(l.printed, e.Package)
	if e.Action == "skip" { // it has no tests
		return
	}

	fmt.Fprintf(l.out, "%-4s %7.1f s  %s\n", e.Action, e.Elapsed, short(e.Package))
	for _, test := range p.order {
		failed := e.Action == "fail" && p.ended[test] != "pass" && p.ended[test] != "skip"
		if failed || test != "" && p.ended[test] == "skip" {
			fmt.Fprint(l.out, indented(p.text[test].String()))
		}
	}
	if e.Action == "fail" && !slices.Contains(l.failed, short(e.Package)) {
		l.failed = append(l.failed, short(e.Package))
	}
}

// indented leaves out the lines by which go test tells the beginning of tests.
func indented(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(line, "=== ") {
			b.WriteString("     " + line)
		}
	}
	return b.String()
}
