package rules

import (
	"strings"
	"unicode/utf8"

	"orilla.example/orilla/internal/core/finding"
)

// token is a word of a statement. Blanks divide words, but
// for those between quotation marks.
type token struct {
	text string
	line int // index into the lines of the text
	at   int // in bytes, from the start of the line
}

// statement is a line with those that continue it.
type statement struct {
	tokens []token
	rest   []piece // the text behind each token, so that a header's value keeps its blanks
}

// piece is a stretch of one line.
type piece struct {
	text string
	line int
	at   int
}

// source is the text of one rules file.
type source struct {
	name  string
	order int      // among the files that are joined
	lines []string // without line ends
}

// splitLines divides a text into lines. A byte order mark and the carriage
// returns of line ends are no part of them.
func splitLines(text string) []string {
	// Editors on Windows put a byte order mark there.
	text = strings.TrimPrefix(text, "\ufeff")
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = strings.TrimSuffix(line, "\r")
	}

	if last := len(lines) - 1; lines[last] == "" {
		lines = lines[:last]
	}
	return lines
}

// position is where a byte of a line lies, as people count: lines and
// characters from 1.
func (s *source) position(line, at int) finding.Position {
	text := s.lines[line]
	return finding.Position{File: s.name, Line: line + 1,
		Column: utf8.RuneCountInString(text[:min(at, len(text))]) + 1}
}

// isBlank reports whether a byte divides words.
func isBlank(c byte) bool { return c == ' ' || c == '\t' }

// wholeLine reports whether a line's values may hold a
// number sign after a blank.
func wholeLine(line string) bool {
	for _, verb := range []Verb{Header, Withhold} {
		if rest, ok := strings.CutPrefix(line, string(verb)); ok && (rest == "" || isBlank(rest[0])) {
			return true
		}
	}
	return false
}

// commentAt returns where the comment of a line begins, or its length.
func commentAt(line string) int {
	var mark marks
	for i := range len(line) {
		if quoted := mark.read(line[i]); line[i] == '#' && !quoted && (i == 0 || isBlank(line[i-1])) {
			return i
		}
	}
	return len(line)
}

// marks follows a text from its beginning, to know what stands between quotation
// marks. A backslash takes the meaning from the byte behind it.
type marks struct{ open, escaped bool }

// read goes on by one byte, and reports whether it
// stands between quotation marks.
func (m *marks) read(c byte) bool {
	switch {
	case m.escaped:
		m.escaped = false
	case c == '\\':
		m.escaped = true
	case c == '"':
		m.open = !m.open
	}
	return m.open
}

// quotedEnd returns where a text that begins with a quotation
// mark goes on behind the second one, or its length.
func quotedEnd(text string) int {
	var mark marks
	for i := range len(text) {
		if !mark.read(text[i]) {
			return i + 1
		}
	}
	return len(text)
}

// statements divides the lines of a text. Mistakes that
// lie below words are reported.
func (s *source) statements(report func(line, at int, code, text string)) [][]piece {
	var list [][]piece
	open, whole := false, false
	for i, line := range s.lines {
		if !s.readable(i, report) {
			open = false
			continue
		}
		trimmed := strings.TrimLeft(line, " \t")
		switch {
		case trimmed == "":
			open = false
			continue
		case trimmed[0] == '#' && (!whole || !isBlank(line[0]) || !open):
			continue
		}

		// A line that is indented goes on with the statement above.
		continues := isBlank(line[0])
		if continues && !open {
			report(i, len(line)-len(trimmed), "rule-syntax",
				"an indented line continues a statement, and no statement precedes it; start "+
					"statements at the beginning of a line")
			continue
		}

		if !continues {
			whole = wholeLine(line)
			list = append(list, nil)
		}
		open = true
		// The value of a header field may hold a #, so such lines have no
		// comment behind them.
		end := len(line)
		if !whole {
			end = commentAt(line)
		}
		last := len(list) - 1
		list[last] = append(list[last], piece{line[:end], i, 0})
	}

	return list
}

// readable reports bytes that no line of rules has.
func (s *source) readable(i int, report func(line, at int, code, text string)) bool {
	for at, c := range s.lines[i] {
		switch {
		case c == utf8.RuneError:
			if _, size := utf8.DecodeRuneInString(s.lines[i][at:]); size == 1 {
				report(i, at, "rule-text", "this is not UTF-8; save the file in UTF-8")
				return false
			}
		case c < ' ' && c != '\t' || c == 0x7f:
			report(i, at, "rule-text", "a control character")
			return false
		}
	}
	return true
}

// words divides a statement into words.
func words(pieces []piece) statement {
	var s statement
	for _, p := range pieces {
		for i := 0; i < len(p.text); {
			if isBlank(p.text[i]) {
				i++
				continue
			}
			start := i
			for mark := (marks{}); i < len(p.text) && (mark.open || !isBlank(p.text[i])); i++ {
				mark.read(p.text[i])
			}
			s.tokens = append(s.tokens, token{p.text[start:i], p.line, start})
		}
	}
	s.rest = pieces
	return s
}

// from returns the text of the statement from a token on,
// lines joined by one blank.
func (s statement) from(t token) string {
	var parts []string
	for _, p := range s.rest {
		text := p.text
		switch {
		case p.line < t.line:
			continue
		case p.line == t.line:
			text = text[t.at:]
		}

		if text = strings.Trim(text, " \t"); text != "" {
			parts = append(parts, text)
		}
	}

	return strings.Join(parts, " ")
}
