package finding_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
)

func at(line, column int, text string) finding.Finding {
	return finding.Finding{Level: finding.Error, Code: "code", What: "what",
		Position: finding.Position{File: "site.rules", Line: line, Column: column}, Text: text}
}

func TestPositions(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "site.rules:3:7", at(3, 7, "").Position.String())
	assert.Equal(t, "site.rules:3", at(3, 0, "").Position.String())
	assert.Equal(t, "site.rules", finding.Position{File: "site.rules"}.String())
	assert.Empty(t, finding.Position{}.String())
}

func TestTheCaretStandsBelowThePlace(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		text   string
		column int
		below  string // the character that the caret is below
	}{
		"the first":       {"redirect /a", 1, "r"},
		"in the middle":   {"redirect /a", 10, "/"},
		"behind the end":  {"redirect", 9, ""},
		"far behind":      {"redirect", 40, ""},
		"behind a tab":    {"redirect\t/a", 10, "/"},
		"behind an é":     {"redirect /é/x", 12, "/"},
		"of a long line":  {strings.Repeat("a", 200) + "X" + strings.Repeat("b", 300), 201, "X"},
		"near a long end": {strings.Repeat("é", 500) + "X", 501, "X"},
	} {
		lines := at(1, test.column, test.text).Excerpt()
		require.Len(t, lines, 2, name)
		shown, caret := []rune(lines[0]), strings.Index(lines[1], "^")
		assert.LessOrEqual(t, len(shown), 150, name)
		if test.below == "" {
			assert.Equal(t, len(shown), caret, name)
			continue
		}
		require.Less(t, caret, len(shown), name)
		assert.Equal(t, test.below, string(shown[caret]), name)
	}
	wide := at(1, 3, "地图/x").Excerpt()
	assert.Equal(t, 4, strings.Index(wide[1], "^"), "wide characters take two columns")
	assert.Empty(t, finding.Finding{}.Excerpt())
	assert.Equal(t, []string{"line"}, at(1, 0, "line").Excerpt())
}

func TestProblem(t *testing.T) {
	t.Parallel()
	var list finding.List
	require.NoError(t, list.Problem())
	list.Add(finding.Finding{Level: finding.Warning, Code: "w"})
	require.NoError(t, list.Problem(), "warnings are none")
	for i := range 25 {
		f := at(25-i, 1, "text")
		f.What, f.Next = fmt.Sprint("mistake ", 25-i), fmt.Sprint("do ", 25-i)
		list.Add(f)
	}
	list.Sort()
	assert.Equal(t, 25, list.Errors())
	problem, ok := errors.AsType[*fault.Error](list.Problem())
	require.True(t, ok)
	assert.Equal(t, fault.Findings, problem.Kind)
	assert.Equal(t, "mistake 1", problem.What)
	assert.Equal(t, "site.rules:1:1", problem.Where)
	assert.Equal(t, []string{"do 1"}, problem.Next)
	text := strings.Join(problem.Detail, "\n")
	for i := 2; i <= 20; i++ {
		assert.Contains(t, text, fmt.Sprintf("site.rules:%d:1: mistake %d [code]", i, i))
		assert.Contains(t, text, fmt.Sprintf("next: do %d", i))
	}
	assert.NotContains(t, text, "mistake 21")
	assert.True(t, strings.HasSuffix(text, "and 5 more"))
}

func TestSort(t *testing.T) {
	t.Parallel()
	list := finding.List{at(2, 1, ""), at(1, 9, ""), at(1, 2, ""),
		{Level: finding.Warning, Position: finding.Position{File: "a.rules", Line: 9}}}
	list = append(list, finding.Finding{Level: finding.Warning, Position: finding.Position{File: "site.rules",
		Line: 1, Column: 2}})
	list.Sort()
	var places []string
	for _, f := range list {
		places = append(places, fmt.Sprint(f.Level, " ", f.Position))
	}
	assert.Equal(t, []string{"warning a.rules:9", "error site.rules:1:2", "warning site.rules:1:2",
		"error site.rules:1:9", "error site.rules:2:1"}, places)
}
