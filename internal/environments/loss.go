package environments

import (
	"errors"

	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// isLost reports whether an error says that a release, or
// a part of it, is damaged or gone.
func isLost(err error) bool {
	return errors.Is(err, storage.ErrNotFound) || errors.Is(err, release.ErrDamaged) ||
		errors.Is(err, release.ErrUnknown)
}
