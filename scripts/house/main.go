// House measures how the code reads, apart from tests: comments,
// air, the lengths of lines and functions, and types that have
// grown too large to have one subject. It prints the figures, and
// names what is outside the bounds that docs/decisions.md gives reasons for.
//
//	go run ./scripts/house [FOLDER...]
//
// Other folders can be given to compare with, such as "$(go env
// GOROOT)/src/net/http". The status is 1 if anything of ours is outside.
package main

import (
	"bytes"
	"cmp"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"
)

// The bounds.
const (
	longestLine     = 110 // columns, with tabs as four
	longestFunction = 70  // lines, with its first and last
	mostFields      = 12  // of a type that is not a plain record
	mostMethods     = 20
	leastComments   = 15 // lines of a hundred
	leastAir        = 5  // blank or comment lines of a hundred lines inside functions
)

// figures are what is measured of a tree.
type figures struct {
	files     int
	code      int // lines that are neither blank nor comments
	comments  int
	inside    int // lines inside functions
	air       int // of these, blank ones and comments
	longest   int // columns
	tooLong   int // lines
	functions []int
	outside   []string // what is outside the bounds
}

func main() {
	folders := os.Args[1:]
	own := len(folders) == 0
	if own {
		folders = []string{"."}
	}

	status := 0
	fmt.Printf("%-34s %5s %9s %5s %8s %8s %7s %5s\n", "", "files", "comments", "air", "longest", "too long",
		"median", "95 %")
	for _, folder := range folders {
		f, err := measure(folder, own)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}

		f.print(folder)
		if own {
			status = f.judge()
		}
	}
	os.Exit(status)
}

// measure reads the Go files of a folder that are not
// tests; with all, of those below it too.
func measure(folder string, all bool) (*figures, error) {
	f := &figures{}
	types := map[string]*typ{}
	err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && path != folder && (!all || strings.HasPrefix(entry.Name(), ".") ||
			entry.Name() == "testdata"):
			return filepath.SkipDir
		case entry.IsDir(), filepath.Ext(path) != ".go", strings.HasSuffix(path, "_test.go"):
			return nil
		}
		return f.add(path, types)
	})

	for name, t := range types {
		if t.fields > mostFields && !t.record() {
			f.outside = append(f.outside, fmt.Sprintf("%s has %d fields", name, t.fields))
		}
		if t.methods > mostMethods {
			f.outside = append(f.outside, fmt.Sprintf("%s has %d methods", name, t.methods))
		}
	}
	slices.Sort(f.outside)
	return f, err
}

// typ is what is known of a struct type.
type typ struct {
	fields, methods int
	unexported      int // fields
}

// record reports whether a type only holds data: others fill it in and read it,
// or it has hardly a method of its own, as the flags of a command.
func (t *typ) record() bool { return t.unexported <= 1 || t.methods <= 3 }

// add measures one file. types is filled with what it declares, so that methods
// in other files of the package are counted for their type.
func (f *figures) add(path string, types map[string]*typ) error {
	src, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, src, parser.ParseComments)
	if err != nil {
		return err
	}

	f.files++
	isComment := f.lines(path, src, set, file)
	of := func(name string) *typ {
		name = filepath.ToSlash(filepath.Dir(path)) + "." + name
		if types[name] == nil {
			types[name] = &typ{}
		}
		return types[name]
	}

	for _, decl := range file.Decls {
		switch decl := decl.(type) {
		case *ast.FuncDecl:
			if decl.Recv != nil {
				of(receiver(decl)).methods++
			}
			f.function(path, src, set, decl, isComment)
		case *ast.GenDecl:
			for _, spec := range decl.Specs {
				if spec, ok := spec.(*ast.TypeSpec); ok {
					countFields(of(spec.Name.Name), spec)
				}
			}
		}
	}

	return nil
}

// lines counts the lines of a file, and returns which are comments.
func (f *figures) lines(path string, src []byte, set *token.FileSet, file *ast.File) map[int]bool {
	isComment := map[int]bool{}
	all := bytes.Split(src, []byte("\n"))
	for _, group := range file.Comments {
		for _, comment := range group.List {
			from, to := set.Position(comment.Pos()).Line, set.Position(comment.End()).Line
			for line := from; line <= to; line++ {
				if line > from || strings.HasPrefix(strings.TrimSpace(string(all[line-1])), "/") {
					isComment[line] = true
				}
			}
		}
	}

	raw := literals(set, file)
	for i, line := range all {
		columns := utf8.RuneCount(bytes.ReplaceAll(line, []byte("\t"), []byte("    ")))
		if !raw[i+1] {
			f.longest = max(f.longest, columns)
			if columns > longestLine {
				f.tooLong++
				f.outside = append(f.outside, fmt.Sprintf("%s:%d has %d columns", path, i+1, columns))
			}
		}

		switch {
		case isComment[i+1]:
			f.comments++
		case len(bytes.TrimSpace(line)) > 0:
			f.code++
		}
	}

	return isComment
}

// literals returns the lines inside literals that keep their lines as they are:
// pages, scripts, long texts.
func literals(set *token.FileSet, file *ast.File) map[int]bool {
	raw := map[int]bool{}
	ast.Inspect(file, func(node ast.Node) bool {
		if literal, ok := node.(*ast.BasicLit); ok && strings.HasPrefix(literal.Value, "`") {
			for line := set.Position(literal.Pos()).Line; line <= set.Position(literal.End()).Line; line++ {
				raw[line] = true
			}
		}
		return true
	})
	return raw
}

// function measures one function: its length, and how many of its lines are
// blank or comments.
func (f *figures) function(path string, src []byte, set *token.FileSet, decl *ast.FuncDecl,
	isComment map[int]bool,
) {
	if decl.Body == nil {
		return
	}
	from, to := set.Position(decl.Pos()).Line, set.Position(decl.End()).Line
	length := to - from + 1
	f.functions = append(f.functions, length)
	if length > longestFunction {
		f.outside = append(f.outside, fmt.Sprintf("%s:%d %s has %d lines", path, from, decl.Name.Name,
			length))
	}

	all := bytes.Split(src, []byte("\n"))
	for line := set.Position(decl.Body.Lbrace).Line + 1; line < to; line++ {
		f.inside++
		if isComment[line] || len(bytes.TrimSpace(all[line-1])) == 0 {
			f.air++
		}
	}
}

// receiver returns the name of a method's type, without star and type
// parameters.
func receiver(decl *ast.FuncDecl) string {
	of := decl.Recv.List[0].Type
	if pointer, ok := of.(*ast.StarExpr); ok {
		of = pointer.X
	}
	switch generic := of.(type) {
	case *ast.IndexExpr:
		of = generic.X
	case *ast.IndexListExpr:
		of = generic.X
	}
	return of.(*ast.Ident).Name
}

// countFields counts the fields of a structure, unless it is a plain record:
// one without methods that do anything.
func countFields(t *typ, spec *ast.TypeSpec) {
	fields, ok := spec.Type.(*ast.StructType)
	if !ok {
		return
	}
	for _, field := range fields.Fields.List {
		t.fields += max(1, len(field.Names))
		for _, name := range field.Names {
			if !name.IsExported() {
				t.unexported++
			}
		}
	}
}

// share is a part of a whole in percent.
func share(part, whole int) float64 { return 100 * float64(part) / float64(max(whole, 1)) }

// print writes one row of the table.
func (f *figures) print(folder string) {
	slices.Sort(f.functions)
	at := func(percent int) int {
		if len(f.functions) == 0 {
			return 0
		}
		return f.functions[min(len(f.functions)-1, len(f.functions)*percent/100)]
	}

	name := folder
	if len(name) > 34 {
		name = "..." + name[len(name)-31:]
	}
	fmt.Printf("%-34s %5d %7.1f %% %3.1f %% %7d %7.2f %% %7d %5d\n", cmp.Or(name, "."), f.files,
		share(f.comments, f.code+f.comments),
		share(f.air, f.inside), f.longest, share(f.tooLong, f.code+f.comments), at(50), at(95))
}

// judge prints what is outside the bounds, and returns the status.
func (f *figures) judge() int {
	if comments := share(f.comments, f.code+f.comments); comments < leastComments {
		f.outside = append(f.outside, fmt.Sprintf("comments are %.1f %%, less than %d", comments,
			leastComments))
	}
	if air := share(f.air, f.inside); air < leastAir {
		f.outside = append(f.outside,
			fmt.Sprintf("blank and comment lines are %.1f %% inside functions, less than %d", air, leastAir))
	}

	for _, what := range f.outside {
		fmt.Println(what)
	}
	return min(len(f.outside), 1)
}
