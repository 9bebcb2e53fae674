package difference

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"unicode/utf8"

	"github.com/pmezard/go-difflib/difflib"

	"orilla.example/orilla/internal/core/release"
)

// Errors of Text.
var (
	ErrNowhere = errors.New("on neither side")
	ErrBinary  = errors.New("is not text")
	ErrLarge   = errors.New("is too large to compare line by line")
)

// textSize bounds what is compared line by line.
const textSize = 2 << 20

// Text returns the lines in which a file differs, in unified form with three
// lines around each change, each with its end; none if it does not. path is
// that of the file in either side, or of what moved in the one after it. The
// error is ErrNowhere, ErrBinary, ErrLarge, or that of reading it.
func Text(ctx context.Context, before, after Side, from, path string) ([]string, error) {
	old, was := find(before.Files, from)
	next, is := find(after.Files, path)
	if !was && !is {
		return nil, ErrNowhere
	}

	read := func(side Side, file release.File, there bool) (string, error) {
		if !there {
			return "", nil
		}
		if file.Size > textSize {
			return "", ErrLarge
		}

		data, err := side.Open(ctx, file)
		if err == nil && (!utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0) {
			err = ErrBinary
		}
		return string(data), err
	}

	a, err := read(before, old, was)
	if err != nil {
		return nil, err
	}
	b, err := read(after, next, is)
	if err != nil {
		return nil, err
	}

	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: lines(a), B: lines(b), FromFile: from,
		ToFile: path, Context: 3})
	if text == "" || err != nil {
		return nil, err
	}
	return difflib.SplitLines(strings.TrimSuffix(text, "\n")), nil
}

// lines splits a text; a last line without an end gets
// one, and a mark that says so, as usual.
func lines(text string) []string {
	if text == "" {
		return nil
	}
	list := strings.SplitAfter(text, "\n")
	if last := list[len(list)-1]; last == "" {
		return list[:len(list)-1]
	}
	list[len(list)-1] += "\n\\ no newline at the end\n"
	return list
}
