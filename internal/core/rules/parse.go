package rules

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/spelling"
)

// Source is one file of rules, as it was read.
type Source struct {
	Name string // for messages
	Text []byte
}

// Options are what the rest of a site's configuration says and rules refer to.
type Options struct {
	Languages    []string       // of the site, the first is the default
	Zone         *time.Location // of times without an offset; nil if none is configured
	Upstreams    []string       // that an environment gives an address
	Environments []string       // that rules may ask for
}

// Program is what rules files say: rules in their order, expectations, and the
// text to quote from.
type Program struct {
	Rules        []Rule
	Expectations []Expectation
	sources      map[string]*source
}

// FileOrder returns the place of a file among those that were joined.
func (p *Program) FileOrder(name string) int {
	if s := p.sources[name]; s != nil {
		return s.order
	}
	return len(p.sources)
}

// Text returns a line of a file, or "".
func (p *Program) Text(at finding.Position) string {
	if s := p.sources[at.File]; s != nil && at.Line > 0 && at.Line <= len(s.lines) {
		return s.lines[at.Line-1]
	}
	return ""
}

// Find makes a finding at a place of the program.
func (p *Program) Find(level finding.Level, code string, at finding.Position, format string, args ...any,
) finding.Finding {
	return finding.Finding{Level: level, Code: code, What: fmt.Sprintf(format, args...), Position: at,
		Text: p.Text(at)}
}

// Parse reads files, joined in order. All mistakes are found at once, in order
// of their places; a statement with a mistake is not part of the program.
func Parse(files []Source, o Options) (*Program, finding.List) {
	p := &parser{program: &Program{sources: map[string]*source{}}, options: o}
	// Files are joined as if they were one: a rule of the first comes before
	// all of the second.
	for _, file := range files {
		p.source = &source{name: file.Name, order: len(p.program.sources),
			lines: splitLines(string(file.Text))}
		p.program.sources[file.Name] = p.source
		for _, pieces := range p.source.statements(p.report) {
			p.statement(words(pieces))
		}
	}
	return p.program, p.found
}

// parser reads all files of a site's rules into one program.
type parser struct {
	program *Program
	options Options
	source  *source
	found   finding.List
}

// report notes a mistake at a byte of a line, with the line itself.
func (p *parser) report(line, at int, code, text string) {
	position := p.source.position(line, at)
	p.found.Add(finding.Finding{Level: finding.Error, Code: code, What: text, Position: position,
		Text: p.source.lines[line]})
}

// mistake ends the reading of a statement. It is raised
// with panic and never leaves this package.
type mistake struct{}

// fail notes a mistake in a word and gives the statement up, as try has it.
func (p *parser) fail(t token, offset int, code, format string, args ...any) {
	p.report(t.line, t.at+offset, code, fmt.Sprintf(format, args...))
	panic(mistake{})
}

// check gives the statement up if something is wrong with a word.
func (p *parser) check(t token, err *problem) {
	if err != nil {
		p.fail(t, min(err.offset, len(t.text)), err.code, "%s", err.text)
	}
}

// reading is a statement of which words are taken from the front.
type reading struct {
	*parser
	statement
	next int
}

// more reports whether there is another word.
func (r *reading) more() bool { return r.next < len(r.tokens) }

// peek returns the next word, which stays; "" after the last.
func (r *reading) peek() string {
	if !r.more() {
		return ""
	}
	return r.tokens[r.next].text
}

// take returns the next word, which must be there.
func (r *reading) take() token {
	r.next++
	return r.tokens[r.next-1]
}

// end is the place behind the last word.
func (r *reading) end() token {
	last := r.tokens[len(r.tokens)-1]
	return token{"", last.line, last.at + len(last.text)}
}

// need returns the next word, or gives the statement up and says what is
// missing.
func (r *reading) need(what string) token {
	if !r.more() {
		r.fail(r.end(), 0, "rule-syntax", "%s is missing here", what)
	}
	return r.take()
}

// try reads a part of a statement and reports whether it did
// without a mistake. The words of a statement are known, so
// what follows a part with a mistake can be read all the same.
func (p *parser) try(read func()) (ok bool) {
	defer func() {
		if e := recover(); e != nil {
			if _, ours := e.(mistake); !ours {
				panic(e)
			}
			ok = false
		}
	}()
	read()
	return true
}

// statement reads one rule or expectation. What is wrong with it does not keep
// the next one from being read.
func (p *parser) statement(s statement) {
	r := &reading{parser: p, statement: s}
	// How many mistakes there were tells whether this statement added one.
	before := len(p.found)
	p.try(func() {
		verb := r.take()
		if Verb(verb.text) == Expect {
			r.expectation(verb)
			return
		}

		// Without a verb nothing else can be understood, so this statement ends
		// here.
		if !slices.Contains(Verbs(), Verb(verb.text)) {
			names := make([]string, 0, 9)
			for _, known := range Verbs() {
				names = append(names, string(known))
			}
			hint := spelling.DidYouMean(verb.text, names)
			if hint == "" {
				hint = "; the verbs are " + strings.Join(names, ", ")
			}
			p.fail(verb, 0, "rule-verb", "unknown verb %q%s", verb.text, hint)
		}

		rule := Rule{Verb: Verb(verb.text), At: p.source.position(verb.line, verb.at)}
		r.rule(&rule)
		if len(p.found) == before {
			p.program.Rules = append(p.program.Rules, rule)
		}
	})
}

// rule reads what follows the verb of a rule. The path, the target and the
// conditions are read each for itself, so that a mistake in one does not hide
// those in the others.
func (r *reading) rule(rule *Rule) {
	pattern := r.need("the path")
	patternRead := r.try(func() {
		if at := strings.IndexByte(pattern.text, '"'); at >= 0 {
			r.fail(pattern, at, "rule-syntax", "write a quotation mark in a path as %%22")
		}
		var err *problem
		rule.Pattern, err = readPattern(pattern.text)
		r.check(pattern, err)
	})

	// The value of a field goes to the end of the statement, so conditions stand
	// before it.
	if rule.Verb.setsField() {
		if r.peek() == "when" {
			r.conditions(rule)
		}
		r.field(rule)
		return
	}
	if !rule.Verb.leads() && r.peek() == "->" {
		r.fail(r.take(), 0, "rule-syntax", "%s takes no target; use redirect to send visitors elsewhere",
			rule.Verb)
	}

	// A target that is wrong leaves the conditions readable, since when is a
	// word that no target can be.
	var target token
	targetRead := rule.Verb.leads() && r.try(func() { target = r.target(rule, pattern) })
	if r.peek() == "with" {
		r.try(func() { r.status(rule, r.take()) })
	}

	if r.peek() == "when" {
		r.conditions(rule)
	}
	// Placeholders come last: conditions can bind some too.
	if patternRead && targetRead {
		r.try(func() { r.placeholdersFit(rule, target) })
	}

	if r.more() {
		// Whatever is left belongs nowhere. The likely mistakes are words in
		// another order.
		extra := r.take()
		hint := ""
		switch {
		case extra.text == "with":
			hint = "; with STATUS stands before when"
		case isStatus(extra.text):
			hint = "; a status is written: with " + extra.text
		case extra.text == "and":
			hint = "; conditions begin with: when"
		}
		r.fail(extra, 0, "rule-syntax", "unexpected %q%s", extra.text, hint)
	}
}

// isStatus reports whether a word is a status of HTTP (RFC 9110, section 15).
func isStatus(text string) bool {
	n, err := strconv.Atoi(text)
	return err == nil && len(text) == 3 && n >= 100 && n < 600
}

// target reads the arrow and the target of a pattern, and returns the word that the
// target is.
func (r *reading) target(rule *Rule, pattern token) token {
	arrow := r.need("-> and the target")
	// People write arrows as they know them from elsewhere.
	if arrow.text != "->" {
		if strings.HasPrefix(arrow.text, "->") || strings.HasPrefix(arrow.text, "/") || arrow.text == "=>" ||
			arrow.text == "to" {
			r.fail(arrow, 0, "rule-syntax",
				"write the target after an arrow with spaces: %s %s -> TARGET", rule.Verb,
				rule.Pattern)
		}
		r.fail(arrow, 0, "rule-syntax", "expected -> and the target, not %q", arrow.text)
	}

	word := r.need("the target")
	if at := strings.IndexByte(word.text, '"'); at >= 0 {
		r.fail(word, at, "rule-syntax", "write a quotation mark in an address as %%22")
	}
	target, err := readTarget(word.text, pattern.text)
	r.check(word, err)
	rule.Target, rule.ToAt = target, r.source.position(word.line, word.at)
	r.targetFits(rule, word)
	return word
}

// targetFits reports targets that the verb cannot have.
func (r *reading) targetFits(rule *Rule, word token) {
	t := rule.Target
	switch rule.Verb {
	case Redirect:
		if t.Upstream != "" {
			r.fail(word, 0, "rule-syntax",
				"a redirect goes to a path or to https://...; an upstream needs proxy")
		}
	case Proxy:
		switch {
		case t.IsLocal():
			r.fail(word, 0, "rule-syntax",
				"a proxy goes to another server: NAME:/path, with the upstream's address under "+
					"environments in orilla.yaml, or https://...; for a path of this site use "+
					"rewrite")
		case t.hash:
			r.fail(word, strings.IndexByte(word.text, '#'), "rule-syntax",
				"a fragment is never sent to a server")
		case t.Upstream != "" && r.options.Upstreams != nil &&
			!slices.Contains(r.options.Upstreams, t.Upstream):
			r.fail(word, 0, "rule-upstream",
				"no environment has the upstream %q%s; in orilla.yaml: environments: {production: "+
					"{upstreams: {%s: https://...}}}",
				t.Upstream, spelling.DidYouMean(t.Upstream, r.options.Upstreams), t.Upstream)
		}
	default:
		switch {
		case !t.IsLocal():
			r.fail(word, 0, "rule-syntax", "%s needs the path of a file of the site", rule.Verb)
		case t.hash || len(t.query) > 0 || t.bare:
			r.fail(word, strings.IndexAny(word.text, "?#"), "rule-syntax",
				"%s names a file of the site; remove the query or fragment", rule.Verb)
		}
	}
}

// placeholdersFit reports placeholders of the target that nothing binds, or
// that do not fit where they stand.
func (r *reading) placeholdersFit(rule *Rule, at token) {
	// The names that a target may use: of the pattern, and of conditions that
	// bind what they find.
	known := rule.Pattern.placeholders()
	for _, c := range rule.When {
		if c.Bind != nil {
			if slices.Contains(known, c.Bind.name) {
				r.fail(at, 0, "rule-placeholder", "placeholder {%s} appears twice", c.Bind.name)
			}
			known = append(known, c.Bind.name)
		}
	}

	for _, name := range rule.Target.placeholders() {
		if !slices.Contains(known, name) {
			has := "has none"
			if len(known) > 0 {
				has = "has {" + strings.Join(known, "}, {") + "}"
			}
			r.fail(at, max(0, strings.Index(at.text, "{"+name+"}")), "rule-placeholder",
				"unknown placeholder {%s}: the pattern %s%s", name, has,
				spelling.DidYouMean(name, known))
		}
	}

	// {rest:all} may hold slashes. Inside a segment they would have to be
	// escaped, and the address would be one that nobody meant.
	for _, part := range rule.Target.path {
		if rule.Pattern.hasAll && slices.Contains(part.placeholders(), rule.Pattern.all) &&
			(len(part) > 3 || part[0] != "" || part[2] != "") {
			r.fail(at, max(0, strings.Index(at.text, "{"+rule.Pattern.all+"}")), "rule-placeholder",
				"{%s} may match several segments, so it must stand alone between slashes",
				rule.Pattern.all)
		}
	}
}

// status reads the status after "with", which must be one that the verb can
// answer with.
func (r *reading) status(rule *Rule, with token) {
	word := r.need("a status")
	status, err := strconv.Atoi(word.text)
	allowed := statuses[rule.Verb]
	if allowed == nil {
		r.fail(with, 0, "rule-status", "%s takes no status", rule.Verb)
	}

	if err != nil || !slices.Contains(allowed, status) {
		list := make([]string, len(allowed))
		for i, s := range allowed {
			list[i] = strconv.Itoa(s)
		}
		r.fail(word, 0, "rule-status", "%s cannot answer %s; it can answer %s", rule.Verb, word.text,
			strings.Join(list, ", "))
	}

	// The verb's own status is not kept, so that "with 301" and nothing make
	// one release.
	if rule.Status = status; rule.Code() == (&Rule{Verb: rule.Verb}).Code() {
		rule.Status = 0
	}
}

// conditions reads "when C and C and C". All must hold.
func (r *reading) conditions(rule *Rule) {
	r.take()
	for {
		rule.When = append(rule.When, r.condition(rule))
		if r.peek() != "and" {
			break
		}
		r.take()
	}
}

// field reads NAME: VALUE, or the NAME that is withheld.
func (r *reading) field(rule *Rule) {
	word := r.need("the name of a header field")
	if rule.Verb == Withhold {
		rule.Name = strings.ToLower(strings.TrimSuffix(word.text, ":"))
		r.fieldName(rule.Verb, word, rule.Name)
		if r.more() {
			r.fail(r.take(), 0, "rule-syntax", "withhold takes one header name")
		}
		return
	}

	name, first, ok := strings.Cut(word.text, ":")
	if !ok {
		if word.text == "->" {
			r.fail(word, 0, "rule-syntax", "header takes no target; write: header %s NAME: VALUE",
				rule.Pattern)
		}
		r.fail(word, len(word.text), "rule-syntax", "header needs a colon: %s: VALUE",
			word.text)
	}

	rule.Name = strings.ToLower(name)
	r.fieldName(rule.Verb, word, rule.Name)
	// The value goes to the end of the statement, blanks included.
	value := token{word.text[len(name)+1:], word.line, word.at + len(name) + 1}
	rule.Value = r.from(value)
	if first == "" && rule.Value == "" {
		r.fail(r.end(), 0, "rule-header", "the value of %s is missing; to remove a header: "+
			"withhold %s %s",
			rule.Name, rule.Pattern, rule.Name)
	}

	// RFC 9110, section 5.5: other octets are obsolete, and what clients make
	// of them differs.
	for i := range len(rule.Value) {
		if c := rule.Value[i]; c >= 0x7f {
			r.fail(value, 0, "rule-header",
				"header values must be ASCII; escape other characters as the header's standard says")
		}
	}

	if len(rule.Value) > 8000 {
		r.fail(value, 0, "rule-header", "the value has %d bytes; servers and browsers accept about "+
			"8,000",
			len(rule.Value))
	}
}

// fieldName checks the name of a header field, and that it is one that rules
// may set: those that HTTP itself lives by are not.
func (r *reading) fieldName(verb Verb, word token, name string) {
	for i := range len(name) {
		if c := name[i]; !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' ||
			strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0) {
			r.fail(word, i, "rule-header", "not a header name: %q (RFC 9110, section 5.1)", name)
		}
	}

	if name == "" {
		r.fail(word, 0, "rule-header", "the field has no name")
	}
	if verb == Withhold && (name == "server" || name == "via") {
		return // an upstream may have sent it
	}

	if why := reservedField(name); why != "" {
		r.fail(word, 0, "rule-header", "rules cannot set %s: %s", name, why)
	}
}

// reservedField says why a field is not for rules, or "".
func reservedField(name string) string {
	switch name {
	case "connection", "keep-alive", "proxy-connection", "te", "trailer", "transfer-encoding", "upgrade",
		"proxy-authenticate", "proxy-authorization":
		return "it belongs to the connection (RFC 9110, section 7.6.1)"
	case "content-length", "content-range", "content-encoding", "accept-ranges", "date", "age", "etag",
		"last-modified":
		return "it describes the bytes sent, which only the server knows"
	case "location":
		return "use redirect"
	case "allow", "host", "server", "via", "orilla-release", "www-authenticate", "cache-status",
		"proxy-status":
		return "it is reserved for the server"
	}
	return ""
}
