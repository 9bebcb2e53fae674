package check

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/rules"
)

// Expectations runs the expectations of a program. Each one
// that fails is an error that says what answered instead.
// The result depends on nothing but the rules and the files.
func Expectations(ctx context.Context, in Input) (finding.List, error) {
	var found finding.List
	for i := range in.Program.Expectations {
		e := &in.Program.Expectations[i]
		a, err := answer.Decide(ctx, expected(e), in.Site)
		if err != nil {
			return nil, err
		}

		why := compare(e, a)
		if why == "" && a.Timed && e.Time.IsZero() {
			why = "the answer may depend on the time: add \"given time 2026-12-24T12:00\""
		}
		if why == "" {
			continue
		}

		f := in.Program.Find(finding.Error, "expectation", e.At, "%s", why)
		if a.Rule != nil {
			f.More = []string{"answered by " + place(a.Rule)}
		}
		found.Add(f)
	}

	return found, nil
}

// expected is the request of an expectation.
func expected(e *rules.Expectation) answer.Request {
	return answer.Request{
		Method: e.Method, Path: e.Path, Query: e.Query, Scheme: "https", Host: e.Host,
		Environment: e.Environment, Now: e.Time,
		AcceptLanguage: e.AcceptLanguage, Cookie: e.Cookie,
	}
}

// compare says how an answer differs from what was expected, or nothing.
func compare(e *rules.Expectation, a answer.Answer) string {
	got := Summary(a)
	switch {
	case a.Upstream != nil && e.Status != 0:
		return "this is proxied, so its status is unknown here; write: proxy " + a.Upstream.Where()
	case e.Status == 0 && (a.Upstream == nil || a.Upstream.Where() != e.Target):
		return "expected proxy " + e.Target + ", got " + got
	case e.Status != 0 && (a.Status != e.Status || e.Target != "" && !leadsTo(a, e.Target)):
		return strings.TrimSpace(fmt.Sprintf("expected %d %s", e.Status, e.Target)) + ", got " +
			got
	case e.Field == "":
		return ""
	}

	header := http.Header{}
	for _, field := range a.Header {
		header.Add(field.Name, field.Value)
	}
	if a.Upstream != nil {
		a.Upstream.Finish(http.StatusOK, header)
	}

	values := header.Values(e.Field)
	switch {
	case e.Without && len(values) > 0:
		return fmt.Sprintf("expected no header %s, got %q", e.Field, strings.Join(values, ", "))
	case !e.Without && len(values) == 0:
		return fmt.Sprintf("expected header %s: %s, got none", e.Field, e.Value)
	case !e.Without && !slices.Contains(values, e.Value):
		return fmt.Sprintf("expected header %s: %s, got %q", e.Field, e.Value,
			strings.Join(values, ", "))
	}

	return ""
}

// leadsTo reports whether an answer has a target: the
// Location, or the file by its path or its address.
func leadsTo(a answer.Answer, target string) bool {
	if a.Location != "" {
		return a.Location == target || a.Location == spelled(target)
	}
	if a.File == nil {
		return false
	}
	file := answer.Address(a.File.Path)
	return spelled(target) == file || spelled(target) == spelled("/"+a.File.Path)
}

// spelled writes a target with a path of the site in its one spelling.
func spelled(target string) string {
	path, rest := target, ""
	if at := strings.IndexAny(target, "?#"); at >= 0 {
		path, rest = target[:at], target[at:]
	}
	p, _, err := address.Split(path)
	if err != nil || !strings.HasPrefix(path, "/") {
		return target
	}
	return p.String() + rest
}

// Summary says an answer in a few words: "301 /sailings/winter/", "200
// /planner/index.html", "proxy harbour:/v1/x", "404".
func Summary(a answer.Answer) string {
	switch {
	case a.Upstream != nil:
		return "proxy " + a.Upstream.Where()
	case a.Location != "":
		return fmt.Sprintf("%d %s", a.Status, a.Location)
	case a.File != nil:
		return fmt.Sprintf("%d /%s", a.Status, a.File.Path)
	}
	return fmt.Sprint(a.Status)
}
