package rules

import (
	"strings"
	"unicode/utf8"
)

// Format aligns the columns of a text of rules, and changes
// nothing else: order, comments, spelling and continued lines
// stay. Lines that follow each other without an empty one between
// them share their columns. Formatting twice is formatting once.
//
// A text with mistakes can be formatted too, as far as its
// lines can be divided into words.
func Format(text []byte) []byte {
	body, mark := strings.CutPrefix(string(text), "\ufeff")
	lines := strings.SplitAfter(body, "\n")
	var out strings.Builder
	if mark {
		out.WriteString("\ufeff")
	}

	// Columns are aligned within a block; an empty line ends one, so that a
	// long path does not move rules elsewhere.
	var block []formatted
	flush := func() {
		writeBlock(&out, block)
		block = block[:0]
	}

	for _, line := range lines {
		content := strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r")
		ending := line[len(content):]
		content = strings.TrimRight(content, " \t\r")
		if strings.Trim(content, " \t") == "" {
			flush()
			out.WriteString(ending)
			continue
		}
		block = append(block, divide(content, ending))
	}
	flush()
	return []byte(out.String())
}

// formatted is a line divided into cells.
type formatted struct {
	cells   []string // verb, path, target or first words, the rest; nil for a line that stays as it is
	free    bool     // the last cell pushes no column
	whole   string
	comment string
	ending  string
}

// widest is how long a cell may be and still push the
// columns of its neighbours.
const widest = 60

// divide cuts a line into cells. A comment or a continued line stays as it is.
func divide(content, ending string) formatted {
	line := formatted{whole: strings.TrimRight(content, " \t"), ending: ending}
	if isBlank(content[0]) || content[0] == '#' {
		return line
	}
	end := len(content)
	if !wholeLine(content) {
		end = commentAt(content)
		line.comment = strings.TrimRight(content[end:], " \t")
	}

	s := words([]piece{{content[:end], 0, 0}})
	texts := make([]string, len(s.tokens))
	for i, t := range s.tokens {
		texts[i] = t.text
	}

	from := func(i int) string {
		if i >= len(s.tokens) {
			return ""
		}
		return strings.Trim(content[s.tokens[i].at:end], " \t")
	}

	join := func(from, to int) string {
		return strings.Join(texts[min(from, len(texts)):min(to, len(texts))],
			" ")
	}
	switch verb := Verb(texts[0]); {
	case len(texts) < 2:
		line.cells = texts
	case verb == Header || verb == Withhold:
		line.cells, line.free = []string{texts[0], texts[1], headerRest(texts, from)}, true
	case verb == Expect:
		path := 1
		if isMethod(texts[1]) {
			path = 2
		}
		given := path + 1
		for given < len(texts) && texts[given] != "given" && texts[given] != "header" &&
			texts[given] != "no" {
			given++
		}
		rest := given
		for rest < len(texts) && texts[rest] != "header" {
			rest++
		}
		last := join(given, len(texts))
		if rest < len(texts) { // a value keeps its blanks
			last = strings.TrimSpace(join(given, rest) + " " + from(rest))
		}
		line.cells = []string{texts[0], join(1, path+1), join(path+1, given), last}
	case len(texts) > 2 && texts[2] == "->":
		line.cells = []string{texts[0], texts[1], join(2, 4), join(4, len(texts))}
	default:
		line.cells = []string{texts[0], texts[1], join(2, len(texts))}
	}

	for len(line.cells) > 1 && line.cells[len(line.cells)-1] == "" {
		line.cells = line.cells[:len(line.cells)-1]
	}
	return line
}

// headerRest is what follows the path: conditions, in single blanks, and the
// field with its value as it is written.
func headerRest(texts []string, from func(int) string) string {
	field := 2
	if len(texts) > 2 && texts[2] == "when" {
		for i := 3; i < len(texts); i++ {
			if strings.HasSuffix(texts[i], ":") || i == len(texts)-1 {
				field = i
				break
			}
		}
	}

	if len(texts) <= 2 {
		return ""
	}
	return strings.TrimSpace(strings.Join(texts[2:field], " ") + " " + from(field))
}

// writeBlock writes statements that stand together with their columns aligned.
// One long path does not push the others to the right.
func writeBlock(out *strings.Builder, block []formatted) {
	var widths []int
	for _, line := range block {
		for i, cell := range line.cells {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			// A path that is longer than most would push everybody's columns
			// off the screen.
			if n := utf8.RuneCountInString(cell); n <= widest && i < 3 &&
				(i < len(line.cells)-1 || !line.free) {
				widths[i] = max(widths[i], n)
			}
		}
	}

	for _, line := range block {
		text := line.whole
		if line.cells != nil {
			var row strings.Builder
			for i, cell := range line.cells {
				row.WriteString(cell)
				if i < len(line.cells)-1 {
					row.WriteString(strings.Repeat(" ", max(0, widths[i]-utf8.RuneCountInString(cell))+2))
				}
			}

			if line.comment != "" {
				row.WriteString("  " + line.comment)
			}
			text = row.String()
		}
		out.WriteString(text + line.ending)
	}
}
