package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/console"
)

// proposals returns what the program proposes to do next, by where it says so: the texts
// of Then and Hint, and of Next in notices.
func proposals(t *testing.T) map[string]string {
	t.Helper()
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		note := func(expr ast.Expr) {
			if text := textOf(expr); text != "" {
				found[files.Position(expr.Pos()).String()] = text
			}
		}
		ast.Inspect(file, func(node ast.Node) bool {
			switch node := node.(type) {
			case *ast.CallExpr:
				called, ok := node.Fun.(*ast.SelectorExpr)
				if ok && called.Sel.Name == "Then" && len(node.Args) > 0 {
					note(node.Args[0])
				}
				if ok && called.Sel.Name == "Hint" && len(node.Args) == 2 {
					note(node.Args[1])
				}
			case *ast.KeyValueExpr:
				if key, ok := node.Key.(*ast.Ident); ok && key.Name == "Next" {
					note(node.Value)
				}
			}
			return true
		})
		return nil
	}))
	return found
}

// textOf is what an expression says, with a word for what is only known later.
func textOf(expr ast.Expr) string {
	switch expr := expr.(type) {
	case *ast.BasicLit:
		text, _ := strconv.Unquote(expr.Value)
		return text
	case *ast.BinaryExpr:
		left, right := textOf(expr.X), textOf(expr.Y)
		if right == "WORD" && !strings.HasSuffix(left, " ") && !strings.HasSuffix(left, ":") {
			right = "" // an argument that may be left out
		}
		if left == "" && right == "" {
			return ""
		}
		return left + right
	case *ast.ParenExpr:
		return textOf(expr.X)
	case *ast.CallExpr:
		if called, ok := expr.Fun.(*ast.SelectorExpr); ok && called.Sel.Name == "Sprintf" {
			return textOf(expr.Args[0])
		}
	}
	return "WORD"
}

var (
	verbs   = regexp.MustCompile(`%(\[\d\])?[sdqv]`)
	someone = regexp.MustCompile(`\borilla [a-z]`)
)

// TestProposalsAreCommandsThatWork parses each command that the program proposes, as it
// would be typed: it stands alone, or at the end of its line after a colon.
func TestProposalsAreCommandsThatWork(t *testing.T) {
	t.Parallel()
	all := proposals(t)
	require.Greater(t, len(all), 250, "they are found")
	commands := 0
	for at, text := range all {
		text = verbs.ReplaceAllString(text, "WORD")
		for line := range strings.Lines(text) {
			line = strings.TrimSpace(line)
			place := someone.FindStringIndex(line)
			if place == nil {
				continue
			}
			commands++
			before := line[:place[0]]
			assert.True(t, before == "" || strings.HasSuffix(before, ": ") || strings.HasSuffix(before, "&& "),
				"%s: a command stands at the end, after a colon: %s", at, line)
			assert.Len(t, someone.FindAllString(line, -1), 1, "%s: one command a line: %s", at, line)
			command, _, _ := strings.Cut(line[place[0]:], " >> ") // a shell's
			require.NoError(t, typedRight(command), "%s: %s", at, line)
		}
	}
	assert.Greater(t, commands, 90)
}

// typedRight parses a command without running it.
func typedRight(line string) error {
	root := (&app{Console: &console.Console{}}).root()
	root.InitDefaultHelpCmd()
	command, args, err := root.Find(words(line)[1:])
	if err != nil {
		return err
	}
	command.InitDefaultHelpFlag()
	if err := command.ParseFlags(args); err != nil {
		return err
	}
	if command.Args == nil {
		return nil
	}
	return command.ValidateArgs(command.Flags().Args())
}

// words splits a line as a shell does, as far as quotes go.
func words(line string) []string {
	var list []string
	word, quote := "", rune(0)
	for _, c := range line {
		switch {
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case c == quote:
			quote = 0
		case quote == 0 && c == ' ':
			list, word = append(list, word), ""
		default:
			word += string(c)
		}
	}
	return append(list, word)
}
