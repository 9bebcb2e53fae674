package rules

import (
	"fmt"
	"strings"
)

// Other languages of rules write /old/* and /notices/:slug where this one has
// placeholders in braces. Taken literally, such a rule would never apply, and
// nobody would see why. So a statement may hold neither; the literal characters
// are written %2A and %3A. Releases that were made before keep their rules: what
// is read from a record may hold both.

// readPattern reads a pattern as people write it.
func readPattern(text string) (Pattern, *problem) {
	if wrong := foreign(text, false, true); wrong != nil {
		return Pattern{}, wrong
	}
	return parsePattern(text)
}

// readTarget reads a target as people write it. pattern is the text of the
// pattern before it, whose last star is what a last placeholder here stands for.
func readTarget(text, pattern string) (Target, *problem) {
	starred := strings.HasSuffix(strings.TrimSuffix(pattern, "/"), "/*")
	if wrong := foreign(text, starred, false); wrong != nil {
		return Target{written: true}, wrong
	}
	return parseTarget(text)
}

// foreign finds a placeholder that is not written as one, and says how to write
// it. Queries and fragments are not looked at: a star is common there. starred
// tells, of a target, that the pattern ends in a star.
func foreign(text string, starred, pattern bool) *problem {
	path := text
	for at, c := range text {
		if (c == '?' || c == '#') && !insideBraces(text, at) {
			path = text[:at]
			break
		}
	}

	offset := 0
	segments := strings.Split(path, "/")
	for i, part := range segments {
		star := strings.IndexByte(part, '*')
		switch {
		case strings.HasPrefix(part, ":"):
			return wrong(offset,
				"a colon does not make a placeholder; write %s. Write a literal colon as %%3A",
				meant(segments, starred, pattern)+text[len(path):])
		case star >= 0 && !insideBraces(part, star):
			where := offset + star
			// The host of a target is told by what reads hosts.
			if i < 3 && strings.Contains(text, "://") {
				return nil
			}
			return wrong(where, "a star is not a placeholder; write %s. Write a literal star as %%2A",
				meant(segments, starred, pattern)+text[len(path):])
		}
		offset += len(part) + 1
	}
	return nil
}

// meant writes a path with placeholders in the place of stars and colons: what
// takes all that is left is called rest, everything else by its own name.
func meant(segments []string, starred, pattern bool) string {
	stars := 0
	name := func() string {
		if stars++; stars > 1 {
			return fmt.Sprintf("name%d", stars)
		}
		return "name"
	}
	kind := ""
	if pattern {
		kind = ":all"
	}

	out := make([]string, len(segments))
	for i, part := range segments {
		last := i == len(segments)-1 || i == len(segments)-2 && segments[i+1] == ""
		called, colon := strings.CutPrefix(part, ":")
		all := strings.TrimRight(called, "*+?")
		switch {
		case colon && last && starred:
			part = "{rest}"
		case colon && last && isName(all) && all != called:
			part = "{" + all + kind + "}"
		case colon && isName(all):
			part = "{" + all + "}"
		case colon:
			part = "{" + name() + "}"
		case last && strings.Trim(part, "*") == "" && part != "":
			part = "{rest" + kind + "}"
		case strings.Contains(part, "*"):
			before, after, _ := strings.Cut(part, "*")
			part = before + "{" + name() + "}" + strings.ReplaceAll(after, "*", "")
		}
		out[i] = part
	}
	return strings.Join(out, "/")
}

// typed writes a segment's literal text as it may stand in a statement. start
// tells that it begins the segment.
func typed(text string, start bool) string {
	text = strings.ReplaceAll(encodeLiteral(text), "*", "%2A")
	if rest, colon := strings.CutPrefix(text, ":"); colon && start {
		return "%3A" + rest
	}
	return text
}
