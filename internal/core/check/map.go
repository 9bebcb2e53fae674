package check

import (
	"context"

	"orilla.example/orilla/internal/core/release"
)

// files is a list of files by path.
type files map[string]release.File

// Map returns what finds files of a list.
func Map(list []release.File) interface {
	Lookup(ctx context.Context, path string) (release.File, bool, error)
} {
	f := make(files, len(list))
	for _, file := range list {
		f[file.Path] = file
	}
	return f
}

// Lookup implements answer.Files.
func (f files) Lookup(_ context.Context, path string) (release.File, bool, error) {
	file, ok := f[path]
	return file, ok, nil
}
