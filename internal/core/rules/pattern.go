package rules

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
)

// Pattern is what the path of a request is compared with. Examples:
//
//	/fares                        that path, with or without a final slash
//	/timetable/{season}           one segment, not empty
//	/notices/{year:digits}        one segment of ASCII digits
//	/{lang:en|es|gl}/fares        one of three segments
//	/harbours/map-{id}.pdf        a part of a segment
//	/shop/{rest:all}              all that is left, possibly nothing
type Pattern struct {
	segments []segment
	all      string // the name of the placeholder that takes what is left
	hasAll   bool
}

// kind says what a placeholder takes.
type kind int

const (
	anything kind = iota
	digits
	oneOf
)

// segment is one segment of a pattern: a literal, or text around a placeholder.
type segment struct {
	before, after string // decoded; a literal has all of it in before
	slot          *slot
}

// slot is a placeholder that takes a segment, a part of
// one, or the value of a parameter.
type slot struct {
	name   string
	kind   kind
	values []string // of oneOf
}

// takes reports whether a placeholder takes a value. None takes nothing:
// /timetable/ is not a season's page.
func (s *slot) takes(value string) bool {
	switch {
	case value == "":
		return false
	// ASCII digits only: other scripts have digits too, and an id of them is a
	// mistake or an attack.
	case s.kind == digits:
		return strings.Trim(value, "0123456789") == ""
	case s.kind == oneOf:
		return slices.Contains(s.values, value)
	}
	return true
}

// String writes what stands between the braces.
func (s *slot) String() string {
	switch s.kind {
	case digits:
		return s.name + ":digits"
	case oneOf:
		values := make([]string, len(s.values))
		for i, value := range s.values {
			values[i] = encodeLiteral(value)
		}
		return s.name + ":" + strings.Join(values, "|")
	}
	return s.name
}

// encodeLiteral writes decoded text as it stands in a pattern or target:
// escaped as in a URL, with the bar that divides alternatives.
func encodeLiteral(text string) string { return address.EncodeSegment(text) }

// String writes the pattern in its one spelling, as it can be typed.
func (p Pattern) String() string { return p.write(typed) }

// record writes the pattern as records of releases have it: stars and colons
// stand for themselves there.
func (p Pattern) record() string {
	return p.write(func(text string, _ bool) string { return encodeLiteral(text) })
}

// write writes the pattern. encode writes literal text; start tells that it
// begins a segment.
func (p Pattern) write(encode func(text string, start bool) string) string {
	var out strings.Builder
	for _, s := range p.segments {
		out.WriteString("/" + encode(s.before, true))
		if s.slot != nil {
			out.WriteString("{" + s.slot.String() + "}" + encode(s.after, false))
		}
	}

	if p.hasAll {
		out.WriteString("/{" + p.all + ":all}")
	}
	if out.Len() == 0 {
		return "/"
	}
	return out.String()
}

// placeholders returns the names that a request binds.
func (p Pattern) placeholders() []string {
	var names []string
	for _, s := range p.segments {
		if s.slot != nil {
			names = append(names, s.slot.name)
		}
	}

	if p.hasAll {
		names = append(names, p.all)
	}
	return names
}

// IsLiteral reports whether the pattern has no placeholder.
func (p Pattern) IsLiteral() bool { return len(p.placeholders()) == 0 }

// Literal returns the one path that a pattern without placeholders matches.
func (p Pattern) Literal() []string {
	names := make([]string, len(p.segments))
	for i, s := range p.segments {
		names[i] = s.before
	}
	return names
}

// namesExtension reports whether the last segment ends in
// literal text with an extension.
func (p Pattern) namesExtension() bool {
	if p.hasAll || len(p.segments) == 0 {
		return false
	}
	last := p.segments[len(p.segments)-1]
	if last.slot == nil {
		return strings.LastIndexByte(last.before, '.') > 0
	}
	return strings.Contains(last.after, ".")
}

// bound is what a placeholder stands for in one request.
type bound struct {
	name  string
	names []string // decoded; one, but for a placeholder that takes all
	slash bool     // of one that takes all: a slash follows
	all   bool
}

// text joins the value for where slashes mean nothing: in a query or fragment.
func (b bound) text() string {
	if !b.all {
		return b.names[0]
	}
	text := strings.Join(b.names, "/")
	if b.slash && text != "" {
		text += "/"
	}
	return text
}

// value returns what a segment's placeholder would stand for in a name. ok is
// false if the segment does not take the name.
func (s *segment) value(name string) (value string, ok bool) {
	if s.slot == nil {
		return "", s.before == name
	}
	// The text around may not overlap in the name, and something must be left
	// for the placeholder.
	if len(name) <= len(s.before)+len(s.after) || !strings.HasPrefix(name, s.before) ||
		!strings.HasSuffix(name, s.after) {
		return "", false
	}
	value = name[len(s.before) : len(name)-len(s.after)]
	return value, s.slot.takes(value)
}

// takesFrom reports whether the pattern takes a path whose
// first segments are known to fit.
func (p *Pattern) takesFrom(depth int, names []string) bool {
	if len(names) < len(p.segments) || len(names) > len(p.segments) && !p.hasAll {
		return false
	}
	for i := depth; i < len(p.segments); i++ {
		if _, ok := p.segments[i].value(names[i]); !ok {
			return false
		}
	}
	return true
}

// match binds the placeholders to a path. ok is false if
// the pattern does not match.
func (p *Pattern) match(path address.Path, into []bound) (_ []bound, ok bool) {
	if len(path.Names) < len(p.segments) || len(path.Names) > len(p.segments) && !p.hasAll {
		return into, false
	}
	for i := range p.segments {
		s, name := &p.segments[i], path.Names[i]
		value, ok := s.value(name)
		switch {
		case !ok:
			return into, false
		case s.slot == nil:
			continue
		}

		into = append(into, bound{name: s.slot.name, names: path.Names[i : i+1 : i+1]})
		if len(value) != len(name) {
			into[len(into)-1].names = []string{value}
		}
	}

	if p.hasAll {
		rest := path.Names[len(p.segments):]
		into = append(into, bound{name: p.all, names: rest, slash: path.Slash && len(rest) > 0, all: true})
	}
	return into, true
}

// Matches reports whether the pattern takes a path.
func (p Pattern) Matches(path address.Path) bool {
	_, ok := p.match(path, nil)
	return ok
}

// problem is what is wrong with a part of a token: offset
// counts bytes from the token's start.
type problem struct {
	offset int
	code   string
	text   string
}

// wrong is a mistake at a byte of a word.
func wrong(offset int, format string, args ...any) *problem {
	return &problem{offset, "rule-syntax", fmt.Sprintf(format, args...)}
}

// parsePattern reads a pattern. The error points at the byte that is wrong, and
// says what to write.
func parsePattern(text string) (Pattern, *problem) {
	var p Pattern
	if !strings.HasPrefix(text, "/") {
		if strings.Contains(text, "://") {
			return p, wrong(0, "a pattern is a path; for another host, write: when host %s", hostOf(text))
		}
		return p, wrong(0, "a pattern begins with a slash")
	}

	// The two mistakes that people make most often, told with what to write.
	if at := strings.IndexAny(text, "?#"); at >= 0 && !insideBraces(text, at) {
		if text[at] == '#' {
			return p, wrong(at, "browsers never send what follows #, so no pattern can match it; "+
				"write a literal # as %%23")
		}
		return p, wrong(at, "a pattern is a path; match a query with: when query NAME=VALUE. Write "+
			"a literal ? as %%3F")
	}

	// A final slash means nothing: /fares and /fares/ are one address, and a
	// rule is for both.
	rest, offset := strings.TrimSuffix(text[1:], "/"), 1
	if rest == "" {
		return p, nil
	}
	seen := map[string]bool{}
	for part := range strings.SplitSeq(rest, "/") {
		if p.hasAll {
			return p, wrong(offset, "a placeholder of kind all must be last")
		}
		if part == "" {
			return p, wrong(offset, "repeated slashes never match: Orilla redirects them to one")
		}

		if err := p.segment(part, offset, seen); err != nil {
			return p, err
		}
		offset += len(part) + 1
	}

	return p, nil
}

// hostOf returns the host of an absolute address, as it is written.
func hostOf(text string) string {
	_, rest, _ := strings.Cut(text, "://")
	host, _, _ := strings.Cut(rest, "/")
	return host
}

// insideBraces reports whether a byte lies between braces.
func insideBraces(text string, at int) bool {
	return strings.LastIndexByte(text[:at], '{') > strings.LastIndexByte(text[:at], '}')
}

// segment reads one segment of a pattern: text, or text around one placeholder.
// seen are the names that were used, since each can be used once.
func (p *Pattern) segment(part string, offset int, seen map[string]bool) *problem {
	open := strings.IndexByte(part, '{')
	if open < 0 {
		name, err := literal(part, offset)
		if err == nil {
			p.segments = append(p.segments, segment{before: name})
		}
		return err
	}

	end := strings.IndexByte(part[open:], '}') + open
	if end < open {
		return wrong(offset+open, "unclosed brace; write a literal one as %%7B")
	}
	if again := strings.IndexByte(part[end:], '{'); again >= 0 {
		return wrong(offset+end+again, "a segment can have only one placeholder")
	}

	s, all, err := parseSlot(part[open+1:end], offset+open+1)
	if err != nil {
		return err
	}
	if seen[s.name] {
		return wrong(offset+open+1, "placeholder {%s} appears twice", s.name)
	}

	seen[s.name] = true
	if all {
		if open > 0 || end < len(part)-1 {
			return wrong(offset+open, "a placeholder of kind all must stand alone between slashes")
		}
		p.all, p.hasAll = s.name, true
		return nil
	}

	// What is left is text around one placeholder.
	before, err := affix(part[:open], offset)
	if err != nil {
		return err
	}
	after, err := affix(part[end+1:], offset+end+1)
	p.segments = append(p.segments, segment{before, after, s})
	return err
}

// parseSlot reads what stands between braces: NAME,
// NAME:digits, NAME:all, NAME:A|B.
func parseSlot(text string, offset int) (s *slot, all bool, _ *problem) {
	name, what, narrowed := strings.Cut(text, ":")
	if !isName(name) {
		return nil, false, wrong(offset,
			"not a placeholder name: %q; use lowercase letters, digits and _, a letter first", name)
	}

	s = &slot{name: name}
	offset += len(name) + 1
	switch {
	case !narrowed:
	case what == "all":
		return s, true, nil
	case what == "digits":
		s.kind = digits
	case what == "":
		return nil, false, wrong(offset, "unknown kind of {%s}; use digits, all, or alternatives "+
			"such as en|es", name)
	default:
		s.kind = oneOf
		for value := range strings.SplitSeq(what, "|") {
			value, err := literal(value, offset)
			if err != nil {
				return nil, false, err
			}
			if value == "" {
				return nil, false, wrong(offset, "an alternative of {%s} is empty", name)
			}

			if !slices.Contains(s.values, value) {
				s.values = append(s.values, value)
			}
		}
		// Sorted, so that two spellings of one rule have one form, and one
		// release.
		slices.Sort(s.values)
		if len(s.values) == 1 {
			return nil, false, wrong(offset,
				"{%s} can only be %q, so write that instead; the kinds are: digits, all, A|B", name,
				s.values[0])
		}
	}

	return s, false, nil
}

// isName reports whether a text can name a placeholder: it begins with a small
// letter and has at most 40 characters.
func isName(text string) bool {
	for i, c := range text {
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '_')) {
			return false
		}
	}
	return text != "" && len(text) <= 40
}

// literal decodes a whole segment.
func literal(text string, offset int) (string, *problem) {
	name, err := affix(text, offset)
	if err == nil && (name == "." || name == "..") {
		return "", wrong(offset, "a dot segment: no request has one")
	}
	return name, err
}

// affix decodes literal text, which may be a part of a segment.
func affix(text string, offset int) (string, *problem) {
	if at := strings.IndexByte(text, '}'); at >= 0 {
		return "", wrong(offset+at, "unopened brace; write a literal one as %%7D")
	}
	name, err := address.Decode(text)
	switch {
	case errors.Is(err, address.ErrDot):
		return text, nil // a part of a segment may be dots
	case errors.Is(err, address.ErrEscape):
		return "", wrong(offset+max(0, strings.IndexByte(text, '%')),
			"broken escape: %% needs two hexadecimal digits; write a literal one as %%25")
	case err != nil:
		return "", wrong(offset, "this %s", err)
	}

	return name, nil
}

// Sample returns a path that the pattern takes, with
// segments that no other pattern is likely to name.
func (p Pattern) Sample() address.Path {
	path := address.Path{Slash: len(p.segments) == 0 && !p.hasAll}
	for _, s := range p.segments {
		name := s.before
		if s.slot != nil {
			switch s.slot.kind {
			case digits:
				name += "70707"
			case oneOf:
				name += s.slot.values[0]
			default:
				name += "any-" + s.slot.name
			}
			name += s.after
		}
		path.Names = append(path.Names, name)
	}

	if p.hasAll {
		path.Names = append(path.Names, "any", "thing")
	}
	return path
}

// Covers reports whether the pattern takes every path that another one takes.
func (p Pattern) Covers(other Pattern) bool {
	if len(p.segments) > len(other.segments) ||
		!p.hasAll && (other.hasAll || len(p.segments) < len(other.segments)) {
		return false
	}
	for i := range p.segments {
		if !p.segments[i].covers(&other.segments[i]) {
			return false
		}
	}
	return true
}

// covers reports whether a segment takes everything that another one takes.
func (s *segment) covers(other *segment) bool {
	switch {
	case other.slot == nil:
		_, ok := s.value(other.before)
		return ok
	case s.slot == nil:
		return false
	case s.before == "" && s.after == "" && s.slot.kind == anything:
		return true
	case other.slot.kind == oneOf:
		for _, value := range other.slot.values {
			if _, ok := s.value(other.before + value + other.after); !ok {
				return false
			}
		}
		return true
	}

	// Never true by mistake; it may be false where the truth is hard to see,
	// which costs a warning and no page.
	if s.slot.kind != anything && (s.slot.kind != other.slot.kind || s.before != other.before ||
		s.after != other.after) {
		return false
	}
	return s.slot.kind != oneOf && strings.HasPrefix(other.before, s.before) &&
		strings.HasSuffix(other.after, s.after)
}
