package rules

import (
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/spelling"
)

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
		times(r, &c, word)
	case "host":
		c.Values = r.values(strings.ToLower)
	case "language":
		at := r.next
		c.Values = r.values(nil)
		languages(r, c.Values, at)
	case "environment":
		at := r.next
		c.Values = r.values(nil)
		for _, name := range c.Values {
			if known := r.options.Environments; known != nil && !slices.Contains(known, name) &&
				name != "preview" && name != "release" && !strings.HasPrefix(name, "preview/") {
				r.fail(r.tokens[at], 0, "rule-condition", "unknown environment %q%s", name,
					spelling.DidYouMean(name, append([]string{"preview", "release"}, known...)))
			}
		}
	case "query", "cookie":
		named(r, &c)
	case "status":
		if rule == nil || rule.Verb != Header && rule.Verb != Withhold {
			r.fail(word, 0, "rule-condition",
				"only header and withhold can use status: it is known last")
		}
		at := r.next
		c.Values = r.values(nil)
		for _, value := range c.Values {
			if !isStatus(value) || value == "304" || value == "206" {
				r.fail(r.tokens[at], 0, "rule-condition",
					"unknown status %q (206 and 304 carry the headers of the 200)", value)
			}
		}
	default:
		known := []string{"host", "language", "query", "cookie", "environment", "status", "from", "until",
			"through"}
		hint := spelling.DidYouMean(word.text, known)
		if hint == "" {
			hint = "; the conditions are " + strings.Join(known, ", ")
		}
		r.fail(word, 0, "rule-condition", "unknown condition %q%s", word.text, hint)
	}

	if c.Not && c.Bind != nil {
		r.fail(word, 0, "rule-condition", "a negated condition cannot set a placeholder")
	}
	return c
}

// languages checks that the site has all the languages of a condition: another
// one would never be met.
func languages(r *reading, values []string, at int) {
	if len(r.options.Languages) == 0 {
		r.fail(r.tokens[at], 0, "rule-condition",
			"orilla.yaml lists no languages; add languages: [en, gl], the default first")
	}
	for _, tag := range values {
		if !slices.ContainsFunc(r.options.Languages,
			func(known string) bool { return strings.EqualFold(known, tag) }) {
			r.fail(r.tokens[at], 0, "rule-condition",
				"%q is not one of the site's languages (orilla.yaml: languages: [%s])", tag,
				strings.Join(r.options.Languages, ", "))
		}
	}
}

// values reads A|B, in which a value may stand between quotation marks.
func (r *reading) values(change func(string) string) []string {
	word := r.need("a value")
	values := split(r, word, 0)
	for i := range values {
		if change != nil {
			values[i] = change(values[i])
		}
		if values[i] == "" {
			r.fail(word, 0, "rule-condition", "a value is empty")
		}
	}
	// One of several, in any order: sorted, two spellings are one rule.
	slices.Sort(values)
	return slices.Compact(values)
}

// split divides the text of a word from offset on at its bars.
func split(r *reading, word token, offset int) []string {
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
				r.fail(word, len(word.text)-len(text), "rule-syntax", "unclosed quotation mark")
			}
			text = text[i:]
		} else {
			end := strings.IndexByte(text, '|')
			if end < 0 {
				end = len(text)
			}
			if at := strings.IndexByte(text[:end], '"'); at >= 0 {
				r.fail(word, len(word.text)-len(text)+at, "rule-syntax",
					"quote a value with a quotation mark, and write the mark as \\\"")
			}
			value.WriteString(text[:end])
			text = text[end:]
		}

		values = append(values, value.String())
		if text == "" {
			return values
		}
		if text[0] != '|' {
			r.fail(word, len(word.text)-len(text), "rule-syntax", "separate values with bars: A|B")
		}
		text = text[1:]
	}
}

// named reads NAME, NAME=VALUES or, of a query, NAME={placeholder}.
func named(r *reading, c *Condition) {
	word := r.need("a name")
	// A name between quotation marks may hold an equals sign of its own.
	name, value, valued := strings.Cut(word.text, "=")
	if strings.HasPrefix(word.text, `"`) {
		at := quotedEnd(word.text)
		name = word.text[:at]
		value, valued = strings.CutPrefix(word.text[at:], "=")
		if rest := word.text[at:]; rest != "" && !valued {
			r.fail(word, at, "rule-syntax", "after a name comes = or nothing")
		}
	}

	names := split(r, token{name, word.line, word.at}, 0)
	c.Name = names[0]
	if c.Name == "" || len(names) > 1 {
		r.fail(word, 0, "rule-condition", "this names no %s", c.Kind)
	}
	offset := len(word.text) - len(value)
	switch {
	case !valued:
	case c.Kind == ByQuery && strings.HasPrefix(value, "{"):
		if !strings.HasSuffix(value, "}") {
			r.fail(word, offset, "rule-syntax", "a placeholder must be the whole value: %s={name}", c.Name)
		}
		s, all, err := parseSlot(value[1:len(value)-1], offset+1)
		r.check(word, err)
		if all {
			r.fail(word, offset, "rule-placeholder", "a parameter has one value; {name} takes it")
		}
		c.Bind = s
	default:
		c.Values = split(r, word, offset)
		slices.Sort(c.Values)
		c.Values = slices.Compact(c.Values)
	}

	if c.Kind == ByQuery {
		unescape(r, c, word)
	}
}

// unescape decodes the names and values of a query, which
// may be written as they stand in a URL.
func unescape(r *reading, c *Condition, word token) {
	// A plus sign in a rule is one; only in a request it means a blank.
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

// times reads: from DAY|TIME [through DAY | until TIME],
// until TIME, through DAY.
func times(r *reading, c *Condition, word token) {
	c.Kind = ByTime
	var parts []string
	for {
		at := r.need("a day or a time")
		moment, day := moment(r, at)
		parts = append(parts, word.text, at.text)
		switch word.text {
		case "from":
			c.From = moment
		case "until":
			if day {
				r.fail(at, 0, "rule-condition",
					"until takes a time, such as %sT00:00; through takes a day", at.text)
			}
			c.Until = moment
		case "through":
			if !day {
				r.fail(at, 0, "rule-condition", "through takes a day, such as 2027-01-02; until takes a time")
			}
			c.Until = dayAfter(r, at)
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

// inUTC turns a time into UTC, and leaves the zero time as it is.
func inUTC(t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return t.UTC()
}

// moment reads 2026-12-20 or 2026-12-20T12:00, 2026-12-20T12:00:30, both also
// with Z or an offset such as +01:00.
func moment(r *reading, word token) (t time.Time, day bool) {
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
			r.fail(word, 0, "rule-condition",
				"the time zone is missing; add an offset (2026-12-20T12:00+01:00) or set time_zone "+
					"in orilla.yaml, such as time_zone: Atlantic/Azores")
		}
		// Without an offset it is what a clock on the wall shows there.
		wall, _ := time.Parse(layout, word.text)
		return onTheWall(wall, zone), i == 0
	}

	r.fail(word, 0, "rule-condition", "not a day (2026-12-20) or a time (2026-12-20T12:00): %q",
		word.text)
	return
}

// dayAfter is the first moment after a day.
func dayAfter(r *reading, word token) time.Time {
	day, _ := time.Parse(time.DateOnly, word.text)
	return onTheWall(day.AddDate(0, 0, 1), r.options.Zone)
}

// onTheWall returns the first moment at which clocks in a zone show a time, or
// at which they have passed it: an hour that is left out when clocks go forward
// has no moment of its own, and one that comes twice when they go back has two.
func onTheWall(wall time.Time, zone *time.Location) time.Time {
	t := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, zone)
	shows := func(t time.Time) time.Time {
		return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
	}
	// A wall clock jumps twice a year. A time that it skips means the moment of
	// the jump; one that it shows twice means the first.
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
		if earlier := t.Add(time.Duration(now-before) * time.Second); earlier.Before(start) && shows(earlier).
			Equal(wall) {
			return earlier
		}
	}

	return t
}
