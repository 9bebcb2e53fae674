// Package rules is the language in which a site says how its addresses are
// answered: redirects, rewrites, fallbacks, proxies, headers. It reads the
// text, matches requests, and writes the form that releases keep.
//
// One statement a line, the verb first:
//
//	redirect  /timetable/{season}           -> /sailings/{season}
//	redirect  /boat.php                     -> /boats/{id}            when query id={id:digits}
//	redirect  /fares  -> /fares/strike/  with 307 when from 2026-12-20 through 2027-01-02
//	rewrite   /sailings/today               -> /sailings/summer/
//	fallback  /planner/{rest:all}           -> /planner/index.html
//	proxy     /api/{rest:all}               -> harbour:/v1/{rest}
//	gone      /fares-2019/{rest:all}
//	missing   /gl/{rest:all}                -> /gl/404.html
//	header    /fonts/{file}.woff2           access-control-allow-origin: *
//	withhold  /embed/{rest:all}             x-frame-options
//	expect    /timetable/winter             301 /sailings/winter/
//
// A Set is what a release has; a File is the text that people edit, with
// expectations and positions. docs/rules.md is the reference of the language.
package rules

import (
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/finding"
)

// Verb is the first word of a statement.
type Verb string

// The verbs. Expect is no rule but a test of the others.
const (
	Redirect Verb = "redirect"
	Rewrite  Verb = "rewrite"
	Proxy    Verb = "proxy"
	Gone     Verb = "gone"
	Fallback Verb = "fallback"
	Missing  Verb = "missing"
	Header   Verb = "header"
	Withhold Verb = "withhold"
	Expect   Verb = "expect"
)

// Verbs lists all verbs in the order in which an answer meets them.
func Verbs() []Verb {
	return []Verb{Redirect, Rewrite, Proxy, Gone, Fallback, Missing, Header, Withhold, Expect}
}

// leads reports whether a rule with the verb has a target, behind an arrow. Of
// the others, header and withhold name a field, and gone stands alone.
func (v Verb) leads() bool {
	switch v {
	case Redirect, Rewrite, Proxy, Fallback, Missing:
		return true
	}
	return false
}

// setsField reports whether a rule with the verb is about a header field.
func (v Verb) setsField() bool { return v == Header || v == Withhold }

// Rule is one rule. It is content, but for its positions.
type Rule struct {
	Verb    Verb
	Pattern Pattern
	Target  Target // zero for gone, header and withhold
	Status  int    // of a redirect or rewrite; 0 means 301, 200
	When    []Condition
	Name    string // of the header field, in lower case
	Value   string // of the header field

	At   finding.Position // where it was written; the zero Position if that is not known
	ToAt finding.Position // where its target was
}

// Code is the status with which the rule answers: of a redirect or rewrite.
func (r *Rule) Code() int {
	switch {
	case r.Status != 0:
		return r.Status
	case r.Verb == Redirect:
		return 301
	case r.Verb == Gone:
		return 410
	case r.Verb == Missing:
		return 404
	}
	return 200
}

// statuses says which status a rule may ask for with "with".
var statuses = map[Verb][]int{
	Redirect: {301, 302, 303, 307, 308},
	Rewrite:  {200, 404, 410, 451, 503},
}

// String writes the rule in the language, on one line, without columns.
func (r *Rule) String() string {
	var out strings.Builder
	out.WriteString(string(r.Verb) + " " + r.Pattern.String())
	if !r.Target.IsZero() {
		out.WriteString(" -> " + r.Target.String())
	}

	if r.Status != 0 {
		out.WriteString(" with " + strconv.Itoa(r.Status))
	}
	joint := " when "
	for _, condition := range r.When {
		out.WriteString(joint + condition.String())
		joint = " and "
	}

	switch r.Verb {
	case Header:
		out.WriteString(" " + r.Name + ": " + r.Value)
	case Withhold:
		out.WriteString(" " + r.Name)
	}
	return out.String()
}

// Counts says how many rules of each verb there are.
func Counts(list []Rule) map[Verb]int {
	counts := map[Verb]int{}
	for i := range list {
		counts[list[i].Verb]++
	}
	return counts
}
