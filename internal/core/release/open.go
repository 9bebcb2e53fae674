package release

import (
	"context"
	"fmt"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// LoadFrom returns what reads objects of a store and verifies them: one that
// does not hash to its name is ErrDamaged.
//
// What it returns is safe for concurrent use and remembers nothing.
func LoadFrom(store storage.Store) Load {
	return func(ctx context.Context, d digest.Digest) ([]byte, error) {
		data, err := store.Get(ctx, d.Key())
		if err == nil && digest.Of(data) != d {
			return nil, fmt.Errorf("%s: %w", d.Key(), ErrDamaged)
		}
		return data, err
	}
}

// Open reads and verifies the root of a release of a site, and returns a reader
// that loads all else with load. The error is storage.ErrNotFound, ErrDamaged,
// ErrUnknown, or what the store said.
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

// Read opens a release of a site: its root is read and verified, all else when
// it is asked for. The error is as Open's.
func Read(ctx context.Context, store storage.Store, site string, id ID) (*Reader, error) {
	return Open(ctx, store, site, id, LoadFrom(store))
}

// Object reads an object of a store and verifies it. The
// error is as that of what LoadFrom returns.
func Object(ctx context.Context, store storage.Store, d digest.Digest) ([]byte, error) {
	return LoadFrom(store)(ctx, d)
}

// SameSet reports whether two releases keep the same of something that a root
// names by its digest, such as their rules; nil is nothing.
func SameSet(a, b *RuleSet) bool {
	return a == nil && b == nil || a != nil && b != nil && a.Digest == b.Digest
}
