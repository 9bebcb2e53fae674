package check

import (
	"context"
	"sync"

	"orilla.example/orilla/internal/core/release"
)

// files finds files of a list by path. The table is made
// when it is first asked.
type files struct {
	list   []release.File
	once   sync.Once
	byPath map[string]release.File
}

// Map returns what finds files of a list.
func Map(list []release.File) interface {
	Lookup(ctx context.Context, path string) (release.File, bool, error)
} {
	return &files{list: list}
}

// Lookup implements answer.Files.
func (f *files) Lookup(_ context.Context, path string) (release.File, bool, error) {
	f.once.Do(func() {
		f.byPath = make(map[string]release.File, len(f.list))
		for _, file := range f.list {
			f.byPath[file.Path] = file
		}
	})
	file, ok := f.byPath[path]
	return file, ok, nil
}
