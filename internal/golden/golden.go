// Package golden compares what the program says with files that hold it, so that
// whoever changes a sentence sees the whole output change.
//
//	golden.Equal(t, "status", screen)   // is it testdata/golden/status.txt?
//
//	go test ./internal/view -update     // it is now
package golden

import (
	"errors"
	"flag"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/pmezard/go-difflib/difflib"
)

// update is the flag that tests get which use this package.
var update = flag.Bool("update", false, "write golden files anew, instead of comparing with them")

// Updating reports whether golden files are being written anew.
func Updating() bool { return *update }

// Equal compares a text with testdata/golden/NAME.txt of the test's package. If it
// differs, the test fails and shows how, and goes on.
func Equal(t testing.TB, name, got string) {
	t.Helper()
	EqualFile(t, filepath.Join("testdata", "golden", name+".txt"), got)
}

// EqualFile compares a text with any file, by its path from the test's package.
func EqualFile(t testing.TB, path, got string) {
	t.Helper()
	want, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		t.Error(err)
		return
	}
	if string(want) == got && err == nil {
		return
	}
	if *update {
		write(t, path, got)
		return
	}

	diff, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(string(want)),
		B: difflib.SplitLines(got), FromFile: path, ToFile: "the output now", Context: 3})
	if err != nil {
		t.Error(err)
	}
	t.Errorf("the output differs from its golden file:\n%s\n"+
		"if that is meant, run this test with -update, and review the change with git diff", diff)
}

func write(t testing.TB, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	t.Logf("%s is written anew", path)
}
