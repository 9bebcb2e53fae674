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

// Source is one file of rules.
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

// Program is what rules files say.
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
func (p *Program) Find(level finding.Level, code string, at finding.Position, format string, args ...any) finding.Finding {
	return finding.Finding{Level: level, Code: code, What: fmt.Sprintf(format, args...), Position: at, Text: p.Text(at)}
}

// Parse reads files, joined in order. All mistakes are found at once, in order of their places; a statement with a mistake is not
// part of the program.
func Parse(files []Source, o Options) (*Program, finding.List) {
	p := &parser{program: &Program{sources: map[string]*source{}}, options: o}
	for _, file := range files {
		p.source = &source{name: file.Name, order: len(p.program.sources), lines: splitLines(string(file.Text))}
		p.program.sources[file.Name] = p.source
		for _, pieces := range p.source.statements(p.report) {
			p.statement(words(pieces))
		}
	}
	return p.program, p.found
}

type parser struct {
	program *Program
	options Options
	source  *source
	found   finding.List
}

func (p *parser) report(line, at int, code, text string) {
	position := p.source.position(line, at)
	p.found.Add(finding.Finding{Level: finding.Error, Code: code, What: text, Position: position, Text: p.source.lines[line]})
}

// mistake ends the reading of a statement. It is raised with panic and never leaves this package.
type mistake struct{}

func (p *parser) fail(t token, offset int, code, format string, args ...any) {
	p.report(t.line, t.at+offset, code, fmt.Sprintf(format, args...))
	panic(mistake{})
}

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

func (r *reading) more() bool { return r.next < len(r.tokens) }

func (r *reading) peek() string {
	if !r.more() {
		return ""
	}
	return r.tokens[r.next].text
}

func (r *reading) take() token {
	r.next++
	return r.tokens[r.next-1]
}

// end is the place behind the last word.
func (r *reading) end() token {
	last := r.tokens[len(r.tokens)-1]
	return token{"", last.line, last.at + len(last.text)}
}

func (r *reading) need(what string) token {
	if !r.more() {
		r.fail(r.end(), 0, "rule-syntax", "%s is missing here", what)
	}
	return r.take()
}

// try reads a part of a statement and reports whether it did without a mistake. The words of a statement are known, so what
// follows a part with a mistake can be read all the same.
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

func (p *parser) statement(s statement) {
	r := &reading{parser: p, statement: s}
	before := len(p.found)
	p.try(func() {
		verb := r.take()
		if Verb(verb.text) == Expect {
			r.expectation(verb)
			return
		}
		if !slices.Contains(Verbs(), Verb(verb.text)) {
			names := make([]string, 0, 9)
			for _, known := range Verbs() {
				names = append(names, string(known))
			}
			hint := spelling.DidYouMean(verb.text, names)
			if hint == "" {
				hint = "; the verbs are " + strings.Join(names, ", ")
			}
			p.fail(verb, 0, "rule-verb", "a statement begins with a verb, and %q is none%s", verb.text, hint)
		}
		rule := Rule{Verb: Verb(verb.text), At: p.source.position(verb.line, verb.at)}
		r.rule(&rule)
		if len(p.found) == before {
			p.program.Rules = append(p.program.Rules, rule)
		}
	})
}

func (r *reading) rule(rule *Rule) {
	pattern := r.need("the path")
	patternRead := r.try(func() {
		if at := strings.IndexByte(pattern.text, '"'); at >= 0 {
			r.fail(pattern, at, "rule-syntax", "a quotation mark in a path is written %%22")
		}
		var err *problem
		rule.Pattern, err = parsePattern(pattern.text)
		r.check(pattern, err)
	})
	switch rule.Verb {
	case Header, Withhold:
		if r.peek() == "when" {
			r.conditions(rule)
		}
		r.field(rule)
		return
	case Gone:
		if r.peek() == "->" {
			r.fail(r.take(), 0, "rule-syntax", "what is gone leads nowhere; use redirect to lead visitors on")
		}
	}
	var target token
	targetRead := rule.Verb != Gone && r.try(func() { target = r.target(rule) })
	if r.peek() == "with" {
		r.try(func() { r.status(rule, r.take()) })
	}
	if r.peek() == "when" {
		r.conditions(rule)
	}
	if patternRead && targetRead {
		r.try(func() { r.placeholdersFit(rule, target) })
	}
	if r.more() {
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
		r.fail(extra, 0, "rule-syntax", "%q is not expected here%s", extra.text, hint)
	}
}

func isStatus(text string) bool {
	n, err := strconv.Atoi(text)
	return err == nil && len(text) == 3 && n >= 100 && n < 600
}

func (r *reading) target(rule *Rule) token {
	arrow := r.need("-> and the target")
	if arrow.text != "->" {
		if strings.HasPrefix(arrow.text, "->") || strings.HasPrefix(arrow.text, "/") || arrow.text == "=>" || arrow.text == "to" {
			r.fail(arrow, 0, "rule-syntax", "the target is written with an arrow between blanks: %s %s -> TARGET", rule.Verb, rule.Pattern)
		}
		r.fail(arrow, 0, "rule-syntax", "-> and the target are expected here, not %q", arrow.text)
	}
	word := r.need("the target")
	if at := strings.IndexByte(word.text, '"'); at >= 0 {
		r.fail(word, at, "rule-syntax", "a quotation mark in an address is written %%22")
	}
	target, err := parseTarget(word.text)
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
			r.fail(word, 0, "rule-syntax", "a redirect leads to a path or to an address with https://; an upstream is for proxy")
		}
	case Proxy:
		switch {
		case t.IsLocal():
			r.fail(word, 0, "rule-syntax", "a proxy leads to another server: NAME:/path, with the upstream's address under environments in orilla.yaml, or https://...; for a path of the site, use rewrite")
		case t.hash:
			r.fail(word, strings.IndexByte(word.text, '#'), "rule-syntax", "a fragment is never sent to a server")
		case t.Upstream != "" && r.options.Upstreams != nil && !slices.Contains(r.options.Upstreams, t.Upstream):
			r.fail(word, 0, "rule-upstream", "no environment says where the upstream %q is%s; in orilla.yaml: environments: {production: {upstreams: {%s: https://...}}}",
				t.Upstream, spelling.DidYouMean(t.Upstream, r.options.Upstreams), t.Upstream)
		}
	default:
		switch {
		case !t.IsLocal():
			r.fail(word, 0, "rule-syntax", "%s names a file of the site, by its path", rule.Verb)
		case t.hash || len(t.query) > 0 || t.bare:
			r.fail(word, strings.IndexAny(word.text, "?#"), "rule-syntax", "%s names a file of the site; a query or fragment changes nothing", rule.Verb)
		}
	}
}

// placeholdersFit reports placeholders of the target that nothing binds, or that do not fit where they stand.
func (r *reading) placeholdersFit(rule *Rule, at token) {
	known := rule.Pattern.placeholders()
	for _, c := range rule.When {
		if c.Bind != nil {
			if slices.Contains(known, c.Bind.name) {
				r.fail(at, 0, "rule-placeholder", "the placeholder {%s} is bound twice", c.Bind.name)
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
			r.fail(at, max(0, strings.Index(at.text, "{"+name+"}")), "rule-placeholder", "nothing binds the placeholder {%s}: the pattern %s%s", name, has, spelling.DidYouMean(name, known))
		}
	}
	for _, part := range rule.Target.path {
		if rule.Pattern.hasAll && slices.Contains(part.placeholders(), rule.Pattern.all) && (len(part) > 3 || part[0] != "" || part[2] != "") {
			r.fail(at, max(0, strings.Index(at.text, "{"+rule.Pattern.all+"}")), "rule-placeholder",
				"{%s} may stand for several segments, so in a path it stands alone between slashes", rule.Pattern.all)
		}
	}
}

func (r *reading) status(rule *Rule, with token) {
	word := r.need("a status")
	status, err := strconv.Atoi(word.text)
	allowed := statuses[rule.Verb]
	if allowed == nil {
		r.fail(with, 0, "rule-status", "%s has no status to choose", rule.Verb)
	}
	if err != nil || !slices.Contains(allowed, status) {
		list := make([]string, len(allowed))
		for i, s := range allowed {
			list[i] = strconv.Itoa(s)
		}
		r.fail(word, 0, "rule-status", "%s cannot answer %s; it can answer %s", rule.Verb, word.text, strings.Join(list, ", "))
	}
	if rule.Status = status; rule.Code() == (&Rule{Verb: rule.Verb}).Code() {
		rule.Status = 0
	}
}

// conditions reads when C and C.
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
			r.fail(r.take(), 0, "rule-syntax", "withhold takes the name of one field")
		}
		return
	}
	name, first, ok := strings.Cut(word.text, ":")
	if !ok {
		if word.text == "->" {
			r.fail(word, 0, "rule-syntax", "a header has no target; write: header %s NAME: VALUE", rule.Pattern)
		}
		r.fail(word, len(word.text), "rule-syntax", "a colon belongs behind the field's name: %s: VALUE", word.text)
	}
	rule.Name = strings.ToLower(name)
	r.fieldName(rule.Verb, word, rule.Name)
	value := token{word.text[len(name)+1:], word.line, word.at + len(name) + 1}
	rule.Value = r.from(value)
	if first == "" && rule.Value == "" {
		r.fail(r.end(), 0, "rule-header", "the value of %s is missing; to take a field away: withhold %s %s", rule.Name, rule.Pattern, rule.Name)
	}
	for i := range len(rule.Value) {
		if c := rule.Value[i]; c >= 0x7f {
			r.fail(value, 0, "rule-header", "the value of a header field is ASCII; write other characters escaped, as the field's own standard says")
		}
	}
	if len(rule.Value) > 8000 {
		r.fail(value, 0, "rule-header", "the value has %d bytes; servers and browsers take about 8,000", len(rule.Value))
	}
}

func (r *reading) fieldName(verb Verb, word token, name string) {
	for i := range len(name) {
		if c := name[i]; !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0) {
			r.fail(word, i, "rule-header", "%q cannot name a header field (RFC 9110, section 5.1)", name)
		}
	}
	if name == "" {
		r.fail(word, 0, "rule-header", "the field has no name")
	}
	if verb == Withhold && (name == "server" || name == "via") {
		return // an upstream may have sent it
	}
	if why := reservedField(name); why != "" {
		r.fail(word, 0, "rule-header", "%s cannot be set by a rule: %s", name, why)
	}
}

// reservedField says why a field is not for rules, or "".
func reservedField(name string) string {
	switch name {
	case "connection", "keep-alive", "proxy-connection", "te", "trailer", "transfer-encoding", "upgrade", "proxy-authenticate", "proxy-authorization":
		return "it is about one connection, and the server's own (RFC 9110, section 7.6.1)"
	case "content-length", "content-range", "content-encoding", "accept-ranges", "date", "age", "etag", "last-modified":
		return "it describes the bytes that are sent, and only the server knows them"
	case "location":
		return "use redirect"
	case "allow", "host", "server", "via", "orilla-release", "www-authenticate", "cache-status", "proxy-status":
		return "it is the server's own"
	}
	return ""
}

// condition reads one condition.
func (r *reading) condition(rule *Rule) Condition {
	var c Condition
	word := r.need("a condition")
	if word.text == "not" {
		c.Not = true
		word = r.need("a condition")
	}
	c.Kind = Kind(word.text)
	switch word.text {
	case "from", "until", "through":
		r.times(&c, word)
	case "host":
		c.Values = r.values(strings.ToLower)
	case "language":
		at := r.next
		c.Values = r.values(nil)
		r.languages(c.Values, at)
	case "environment":
		at := r.next
		c.Values = r.values(nil)
		for _, name := range c.Values {
			if known := r.options.Environments; known != nil && !slices.Contains(known, name) && name != "preview" && name != "release" && !strings.HasPrefix(name, "preview/") {
				r.fail(r.tokens[at], 0, "rule-condition", "there is no environment %q%s", name, spelling.DidYouMean(name, append([]string{"preview", "release"}, known...)))
			}
		}
	case "query", "cookie":
		r.named(&c)
	case "status":
		if rule == nil || rule.Verb != Header && rule.Verb != Withhold {
			r.fail(word, 0, "rule-condition", "only header and withhold can ask for the status: it is known when all else is decided")
		}
		at := r.next
		c.Values = r.values(nil)
		for _, value := range c.Values {
			if !isStatus(value) || value == "304" || value == "206" {
				r.fail(r.tokens[at], 0, "rule-condition", "%q is not a status to ask for (206 and 304 carry the fields of the 200)", value)
			}
		}
	default:
		known := []string{"host", "language", "query", "cookie", "environment", "status", "from", "until", "through"}
		hint := spelling.DidYouMean(word.text, known)
		if hint == "" {
			hint = "; the conditions are " + strings.Join(known, ", ")
		}
		r.fail(word, 0, "rule-condition", "%q is no condition%s", word.text, hint)
	}
	if c.Not && c.Bind != nil {
		r.fail(word, 0, "rule-condition", "what is not there cannot be bound to a placeholder")
	}
	return c
}

func (r *reading) languages(values []string, at int) {
	if len(r.options.Languages) == 0 {
		r.fail(r.tokens[at], 0, "rule-condition", "orilla.yaml does not say which languages the site has: languages: [en, gl], the first is the default")
	}
	for _, tag := range values {
		if !slices.ContainsFunc(r.options.Languages, func(known string) bool { return strings.EqualFold(known, tag) }) {
			r.fail(r.tokens[at], 0, "rule-condition", "%q is none of the site's languages (orilla.yaml: languages: [%s])", tag, strings.Join(r.options.Languages, ", "))
		}
	}
}

// values reads A|B, in which a value may stand between quotation marks.
func (r *reading) values(change func(string) string) []string {
	word := r.need("a value")
	values := r.split(word, 0)
	for i := range values {
		if change != nil {
			values[i] = change(values[i])
		}
		if values[i] == "" {
			r.fail(word, 0, "rule-condition", "a value is empty")
		}
	}
	slices.Sort(values)
	return slices.Compact(values)
}

// split divides the text of a word from offset on at its bars.
func (r *reading) split(word token, offset int) []string {
	var values []string
	text := word.text[offset:]
	for {
		var value strings.Builder
		if strings.HasPrefix(text, `"`) {
			i, closed := 1, false
			for ; i < len(text) && !closed; i++ {
				switch {
				case text[i] == '\\' && i+1 < len(text):
					i++
					value.WriteByte(text[i])
				case text[i] == '"':
					closed = true
				default:
					value.WriteByte(text[i])
				}
			}
			if !closed {
				r.fail(word, len(word.text)-len(text), "rule-syntax", "the quotation mark is not closed")
			}
			text = text[i:]
		} else {
			end := strings.IndexByte(text, '|')
			if end < 0 {
				end = len(text)
			}
			if at := strings.IndexByte(text[:end], '"'); at >= 0 {
				r.fail(word, len(word.text)-len(text)+at, "rule-syntax", "a value with a quotation mark stands between quotation marks, and the mark is written \\\"")
			}
			value.WriteString(text[:end])
			text = text[end:]
		}
		values = append(values, value.String())
		if text == "" {
			return values
		}
		if text[0] != '|' {
			r.fail(word, len(word.text)-len(text), "rule-syntax", "values are divided by bars: A|B")
		}
		text = text[1:]
	}
}

// named reads NAME, NAME=VALUES or, of a query, NAME={placeholder}.
func (r *reading) named(c *Condition) {
	word := r.need("a name")
	name, value, valued := strings.Cut(word.text, "=")
	if strings.HasPrefix(word.text, `"`) {
		at := strings.Index(word.text[1:], `"`) + 2
		name, value, valued = word.text[:at], strings.TrimPrefix(word.text[at:], "="), strings.HasPrefix(word.text[at:], "=")
		if rest := word.text[at:]; rest != "" && !valued {
			r.fail(word, at, "rule-syntax", "a name is followed by = or by nothing")
		}
	}
	c.Name = r.split(token{name, word.line, word.at}, 0)[0]
	if c.Name == "" || strings.Contains(name, "|") {
		r.fail(word, 0, "rule-condition", "this names no %s", c.Kind)
	}
	offset := len(word.text) - len(value)
	switch {
	case !valued:
	case c.Kind == ByQuery && strings.HasPrefix(value, "{"):
		if !strings.HasSuffix(value, "}") {
			r.fail(word, offset, "rule-syntax", "a placeholder is the whole value: %s={name}", c.Name)
		}
		s, all, err := parseSlot(value[1:len(value)-1], offset+1)
		r.check(word, err)
		if all {
			r.fail(word, offset, "rule-placeholder", "a parameter has one value; {name} takes it")
		}
		c.Bind = s
	default:
		c.Values = r.split(word, offset)
		slices.Sort(c.Values)
		c.Values = slices.Compact(c.Values)
	}
	if c.Kind == ByQuery {
		r.unescape(c, word)
	}
}

// unescape decodes the names and values of a query, which may be written as they stand in a URL.
func (r *reading) unescape(c *Condition, word token) {
	decode := func(text string) string {
		value, err := decodeValue(strings.ReplaceAll(text, "+", "%2B"), 0)
		r.check(word, err)
		return value
	}
	c.Name = decode(c.Name)
	for i := range c.Values {
		c.Values[i] = decode(c.Values[i])
	}
	slices.Sort(c.Values)
}

// times reads: from DAY|TIME [through DAY | until TIME], until TIME, through DAY.
func (r *reading) times(c *Condition, word token) {
	c.Kind = ByTime
	var parts []string
	for {
		at := r.need("a day or a time")
		moment, day := r.moment(at)
		parts = append(parts, word.text, at.text)
		switch word.text {
		case "from":
			c.From = moment
		case "until":
			if day {
				r.fail(at, 0, "rule-condition", "until takes a time, such as %sT00:00; through takes a whole day", at.text)
			}
			c.Until = moment
		case "through":
			if !day {
				r.fail(at, 0, "rule-condition", "through takes a day, such as 2027-01-02; until takes a time")
			}
			c.Until = r.dayAfter(at)
		}
		if word.text != "from" || r.peek() != "until" && r.peek() != "through" {
			break
		}
		word = r.take()
	}
	if !c.Until.IsZero() && !c.From.IsZero() && !c.From.Before(c.Until) {
		r.fail(word, 0, "rule-condition", "this ends before it begins")
	}
	c.From, c.Until = inUTC(c.From), inUTC(c.Until)
	c.text = strings.Join(parts, " ")
}

func inUTC(t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return t.UTC()
}

// moment reads 2026-12-20 or 2026-12-20T12:00, 2026-12-20T12:00:30, both also with Z or an offset such as +01:00.
func (r *reading) moment(word token) (t time.Time, day bool) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00"} {
		if t, err := time.Parse(layout, word.text); err == nil {
			return t.Truncate(time.Second), false
		}
	}
	zone := r.options.Zone
	for i, layout := range []string{time.DateOnly, "2006-01-02T15:04", "2006-01-02T15:04:05"} {
		if _, err := time.Parse(layout, word.text); err != nil {
			continue
		}
		if zone == nil {
			r.fail(word, 0, "rule-condition", "in which time zone? Add an offset (2026-12-20T12:00+01:00), or set time_zone: in orilla.yaml, such as time_zone: Atlantic/Azores")
		}
		wall, _ := time.Parse(layout, word.text)
		return onTheWall(wall, zone), i == 0
	}
	r.fail(word, 0, "rule-condition", "%q is neither a day (2026-12-20) nor a time (2026-12-20T12:00)", word.text)
	return
}

// dayAfter is the first moment after a day.
func (r *reading) dayAfter(word token) time.Time {
	day, _ := time.Parse(time.DateOnly, word.text)
	return onTheWall(day.AddDate(0, 0, 1), r.options.Zone)
}

// onTheWall returns the first moment at which clocks in a zone show a time, or at which they have passed it: an hour that is left out
// when clocks go forward has no moment of its own, and one that comes twice when they go back has two.
func onTheWall(wall time.Time, zone *time.Location) time.Time {
	t := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, zone)
	shows := func(t time.Time) time.Time {
		return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
	}
	start, end := t.ZoneBounds()
	switch shown := shows(t); {
	case shown.Before(wall):
		return end
	case shown.After(wall):
		return start
	}
	if !start.IsZero() {
		_, before := start.Add(-time.Second).Zone()
		_, now := t.Zone()
		if earlier := t.Add(time.Duration(now-before) * time.Second); earlier.Before(start) && shows(earlier).Equal(wall) {
			return earlier
		}
	}
	return t
}
