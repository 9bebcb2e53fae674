package release

import (
	"context"
	"fmt"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// LoadFrom returns what reads objects of a store and verifies them: one that does not hash to its name is ErrDamaged.
func LoadFrom(store storage.Store) Load {
	return func(ctx context.Context, d digest.Digest) ([]byte, error) {
		data, err := store.Get(ctx, d.Key())
		if err == nil && digest.Of(data) != d {
			return nil, fmt.Errorf("%s: %w", d.Key(), ErrDamaged)
		}
		return data, err
	}
}

// Open reads and verifies the root of a release of a site, and returns a reader that loads all else with load. The error is
// storage.ErrNotFound, ErrDamaged, ErrUnknown, or what the store said.
func Open(ctx context.Context, store storage.Store, site string, id ID, load Load) (*Reader, error) {
	data, err := store.Get(ctx, storage.ReleaseKey(site, id.String()))
	if err != nil {
		return nil, err
	}
	root, err := DecodeRoot(data, id)
	if err != nil {
		return nil, err
	}
	return NewReader(id, root, load), nil
}
