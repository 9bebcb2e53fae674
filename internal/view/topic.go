package view

import (
	"regexp"
	"strings"

	"charm.land/lipgloss/v2"

	"orilla.example/orilla/internal/console"
)

// topicWidth is how wide pages of the documentation are shown.
const topicWidth = 80

// block is a part of a page: what it is, and its lines.
type block struct {
	kind  blockKind
	lines []string
}

// blockKind says how a part of a page is shown.
type blockKind int

const (
	paragraph blockKind = iota // its lines are joined, and wrapped again
	heading
	code  // shown as it is
	table // its rows are cells between bars
	item  // of a list
)

// The pages are Markdown, and are read by people in three forms: on a code host, in a
// terminal, and as manual pages. What all three can show is what the pages use; so a
// page that needs more is written differently, and no library of a renderer is needed.

// blocks takes a page apart. Of Markdown it knows what the pages of this project
// use: headings, paragraphs, lists, tables, and code that is indented or fenced.
func blocks(page string) []block {
	var list []block
	fenced := false
	add := func(kind blockKind, line string, join bool) {
		if last := len(list) - 1; join && last >= 0 && list[last].kind == kind {
			list[last].lines = append(list[last].lines, line)
			return
		}
		list = append(list, block{kind, []string{line}})
	}

	blank := true
	for line := range strings.Lines(page) {
		line = strings.TrimRight(line, "\r\n")
		switch {
		case strings.HasPrefix(line, "```"):
			fenced = !fenced
		case fenced:
			add(code, line, !blank)
		case strings.TrimSpace(line) == "":
			// Code goes on behind an empty line.
			if last := len(list) - 1; last >= 0 && list[last].kind == code {
				list[last].lines = append(list[last].lines, "")
			}
			blank = true
			continue
		case strings.HasPrefix(line, "#"):
			add(heading, strings.TrimSpace(strings.TrimLeft(line, "#")), false)
		case strings.HasPrefix(line, "|"):
			add(table, line, !blank)
		case strings.HasPrefix(line, "    "):
			add(code, line[4:], true)
		case strings.HasPrefix(line, "- ") || numbered.MatchString(line):
			add(item, line, false)
		default:
			last := len(list) - 1
			if !blank && last >= 0 && list[last].kind == item {
				list[last].lines = append(list[last].lines, strings.TrimSpace(line))
			} else {
				add(paragraph, line, !blank)
			}
		}
		blank = false
	}
	return list
}

var (
	numbered = regexp.MustCompile(`^\d+\. `)
	linked   = regexp.MustCompile(`\[([^\]]+)\]\([^)]+\)`)
	divider  = regexp.MustCompile(`^\|[\s|:-]+\|$`)
)

// Topic shows a page of the documentation, for reading in a terminal or a pager.
func Topic(c *console.Console, page string) {
	list := blocks(page)
	for i, part := range list {
		if i > 0 && (part.kind != item || list[i-1].kind != item) {
			c.Print("")
		}
		switch part.kind {
		case heading:
			c.Print("%s", console.Strong(part.lines[0]))
		case code:
			for _, line := range trimmed(part.lines) {
				c.Print("%s", strings.TrimRight("    "+line, " "))
			}
		case table:
			showTable(c, cells(part.lines))
		case item:
			mark, text, _ := strings.Cut(plainText(strings.Join(part.lines, " ")), " ")
			hanging := "\n" + strings.Repeat(" ", len(mark)+3)
			c.Print("  %s %s", mark, strings.Join(Wrap(text, topicWidth-6), hanging))
		case paragraph:
			c.Print("%s", strings.Join(Wrap(plainText(strings.Join(part.lines, " ")), topicWidth), "\n"))
		}
	}
}

// Tables of two columns are shown as they are; the third one and those behind it follow
// the second, since a terminal of 80 columns has no room for them.

// showTable shows the rows of a table: two short columns beside each other, and
// else each row as a list.
func showTable(c *console.Console, rows [][]string) {
	const widest = 26
	column := 0
	for _, row := range rows {
		if width := lipgloss.Width(row[0]); width <= widest {
			column = max(column, width)
		}
	}
	for i, row := range rows {
		// What is too wide for the column has a line of its own above.
		name, rest := row[0], strings.Join(row[1:], "; ")
		lines := Wrap(rest, topicWidth-column-4)
		if lipgloss.Width(name) > column {
			c.Print("  %s", strings.Join(Wrap(name, topicWidth-2), "\n  "))
			name = ""
		}
		for _, line := range lines {
			room := strings.Repeat(" ", column-lipgloss.Width(name)+2)
			text := strings.TrimRight("  "+name+room+line, " ")
			if i == 0 {
				text = console.Faint(text)
			}
			c.Print("%s", text)
			name = ""
		}
	}
}

// cells takes the rows of a table apart. A bar in code or behind a backslash
// divides nothing.
func cells(lines []string) [][]string {
	var rows [][]string
	for _, line := range lines {
		if divider.MatchString(line) {
			continue
		}
		line = strings.ReplaceAll(strings.Trim(line, "| "), `\|`, "\x00")
		var row []string
		for cell := range strings.SplitSeq(line, "|") {
			row = append(row, plainText(strings.ReplaceAll(strings.TrimSpace(cell), "\x00", "|")))
		}
		rows = append(rows, row)
	}
	return rows
}

// plainText takes the marks of Markdown out of a text: of links, code and stress.
// In code, stars are stars.
func plainText(text string) string {
	parts := strings.Split(linked.ReplaceAllString(text, "$1"), "`")
	for i := range parts {
		if i%2 == 0 {
			parts[i] = strings.ReplaceAll(parts[i], "*", "")
		}
	}
	return strings.Join(parts, "")
}

// trimmed leaves out empty lines at the end.
func trimmed(lines []string) []string {
	for len(lines) > 0 && strings.TrimSpace(lines[len(lines)-1]) == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// Wrap breaks a text between words into lines of at most width columns. A word
// that is longer has a line of its own: options and addresses stay whole.
func Wrap(text string, width int) []string {
	lines := []string{""}
	for _, word := range strings.Fields(text) {
		last := &lines[len(lines)-1]
		switch {
		case *last == "":
			*last = word
		case lipgloss.Width(*last)+1+lipgloss.Width(word) <= width:
			*last += " " + word
		default:
			lines = append(lines, word)
		}
	}
	return lines
}

// Roff writes a page of the documentation in the language of manual pages
// (groff_man(7)).
func Roff(page string) string {
	var out strings.Builder
	line := func(text string) { out.WriteString(text + "\n") }
	safe := func(text string) string {
		text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
		if strings.HasPrefix(text, ".") || strings.HasPrefix(text, "'") {
			text = `\&` + text
		}
		return text
	}

	// Each kind of block has its macro: .SH for headings, .TP for a term and what it
	// means, .nf and .fi around what is shown as it is.
	for _, part := range blocks(page) {
		switch part.kind {
		case heading:
			line(".SH " + strings.ToUpper(safe(part.lines[0])))
		case code:
			line(".PP\n.RS 4\n.nf")
			for _, text := range trimmed(part.lines) {
				line(safe(text))
			}
			line(".fi\n.RE")
		case table:
			for _, row := range cells(part.lines) {
				line(".TP\n" + safe(row[0]) + "\n" + safe(strings.Join(row[1:], "; ")))
			}
		case item:
			mark, text, _ := strings.Cut(plainText(strings.Join(part.lines, " ")), " ")
			line(".IP " + safe(mark) + " 4\n" + safe(text))
		case paragraph:
			line(".PP\n" + safe(plainText(strings.Join(part.lines, " "))))
		}
	}
	return out.String()
}
