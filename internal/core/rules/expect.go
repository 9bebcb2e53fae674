package rules

import (
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/finding"
)

// Expectation is a test of the rules, kept beside them. It
// is no part of a release.
//
//	expect /timetable/winter  301 /sailings/winter/
//	expect POST /fares        405
//	expect /fares             307 /fares/strike/   given time 2026-12-24T12:00 and language gl
//	expect /fonts/a.woff2     200                  header access-control-allow-origin: *
//	expect /api/x             proxy harbour:/v1/x
type Expectation struct {
	Method      string
	Path, Query string // escaped
	Status      int    // 0: the request is passed on to Target
	Target      string // a Location, or the address or name of a file; "" for any

	// What the request is like. Unset: production, no
	// cookie, no language, no certain time.
	Host, Environment, AcceptLanguage, Cookie string
	Time                                      time.Time

	Field, Value string // a header field that the answer has
	Without      bool   // that it has not

	At finding.Position
}

// expectation reads what follows "expect": a method, a path, what is given, and
// what should come of it.
func (r *reading) expectation(verb token) {
	e := Expectation{Method: "GET", Environment: "production", At: r.source.position(verb.line, verb.at)}
	path := r.need("the path")
	if isMethod(path.text) {
		e.Method = path.text
		path = r.need("the path")
	}

	if !strings.HasPrefix(path.text, "/") {
		r.fail(path, 0, "rule-syntax",
			"expect takes a path; for another host, write: given host %s", "NAME")
	}
	e.Path, e.Query, _ = strings.Cut(path.text, "?")
	status := r.need("the status")
	switch {
	case status.text == "proxy":
		e.Target = r.need("the proxy target, such as harbour:/v1/x").text
	case isStatus(status.text):
		e.Status, _ = strconv.Atoi(status.text)
		if next := r.peek(); strings.HasPrefix(next, "/") || strings.Contains(next, "://") {
			e.Target = r.take().text
		}
	default:
		r.fail(status, 0, "rule-syntax", "expected a status or proxy, not %q", status.text)
	}

	if r.peek() == "given" {
		r.given(&e)
	}
	r.expectedField(&e)

	if r.more() {
		r.fail(r.take(), 0, "rule-syntax",
			"unexpected; the order is: expect [METHOD] PATH STATUS [TARGET] [given ...] [header "+
				"NAME: VALUE | no header NAME]")
	}
	r.program.Expectations = append(r.program.Expectations, e)
}

// isMethod reports whether a word is a method of HTTP: it is written in
// capitals, as paths never are at their beginning.
func isMethod(text string) bool {
	return text != "" && strings.Trim(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == ""
}

// given reads what the request is like.
func (r *reading) given(e *Expectation) {
	var cookies []string
	for {
		r.take()
		word := r.need("language, cookie, time, host or environment")
		switch word.text {
		case "language":
			e.AcceptLanguage = r.oneValue()
		case "cookie":
			var c Condition
			named(r, &c)
			value := ""
			if len(c.Values) > 0 {
				value = c.Values[0]
			}
			cookies = append(cookies, c.Name+"="+value)
		case "time":
			e.Time, _ = moment(r, r.need("a time"))
		case "host":
			e.Host = strings.ToLower(r.oneValue())
		case "environment":
			e.Environment = r.oneValue()
		default:
			r.fail(word, 0, "rule-condition",
				"unknown condition %q; given takes language, cookie, time, host or environment", word.text)
		}

		if r.peek() != "and" {
			break
		}
	}
	e.Cookie = strings.Join(cookies, "; ")
}

// oneValue reads one value, quoted or not.
func (r *reading) oneValue() string {
	word := r.need("a value")
	values := split(r, word, 0)
	if len(values) != 1 {
		r.fail(word, 0, "rule-condition", "one value can be given")
	}
	return values[0]
}

// expectedField reads: header NAME: VALUE, or no header NAME.
func (r *reading) expectedField(e *Expectation) {
	if r.peek() == "no" {
		e.Without = true
		r.take()
		if r.peek() != "header" {
			r.fail(r.end(), 0, "rule-syntax", "no is followed by: header NAME")
		}
		r.take()
		e.Field = strings.ToLower(strings.TrimSuffix(r.need("the name of a header field").text, ":"))
		return
	}

	if r.peek() != "header" {
		return
	}
	r.take()
	word := r.need("NAME: VALUE")
	name, _, ok := strings.Cut(word.text, ":")
	if !ok {
		r.fail(word, len(word.text), "rule-syntax", "header needs a colon: NAME: VALUE")
	}

	e.Field = strings.ToLower(name)
	e.Value = r.from(token{"", word.line, word.at + len(name) + 1})
	r.next = len(r.tokens)
}
