package answer

import (
	"context"
	"sync"

	"orilla.example/orilla/internal/core/release"
)

// Earlier is a release that was live before.
type Earlier interface {
	Files
	// Immutable reports whether its file at path never changes at its address.
	Immutable(ctx context.Context, path string) (bool, error)
}

// EarlierOf returns the release that a reader reads, as one that was live before.
// Its list of immutable files is read when it is first asked for: most requests
// never do. It is safe for concurrent use if the reader is.
func EarlierOf(reader *release.Reader) Earlier { return &earlier{Reader: reader} }

// earlier is a release in a store.
type earlier struct {
	*release.Reader
	mutex sync.Mutex
	site  *Site // nil until the list was read
}

// Immutable implements Earlier. An error is that of reading, and not kept.
func (e *earlier) Immutable(ctx context.Context, path string) (bool, error) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if e.site == nil {
		list, err := e.Reader.Immutable(ctx)
		if err != nil {
			return false, err
		}
		e.site = &Site{Settings: e.Root.Settings, Semantics: e.Root.Semantics, Unchanging: list}
	}
	return e.site.Immutable(path), nil
}
