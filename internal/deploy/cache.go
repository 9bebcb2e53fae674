package deploy

import (
	"context"
	"sync"
	"sync/atomic"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// cache reads small objects of a store and remembers the first of them: chunks
// that are looked at for what is new are looked at again for what it changes. So are
// the roots of releases, which lead to them.
// It is safe for concurrent use.
type cache struct {
	store storage.Store
	known sync.Map // []byte by digest.Digest
	count atomic.Int32
	roots sync.Map // *release.Reader by release.ID: of releases that were read
}

const (
	maxCached = 64      // objects
	maxSmall  = 1 << 20 // bytes of one
)

// load implements release.Load.
func (c *cache) load(ctx context.Context, d digest.Digest) ([]byte, error) {
	if data, ok := c.known.Load(d); ok {
		return data.([]byte), nil
	}
	data, err := release.Object(ctx, c.store, d)
	if err == nil && len(data) < maxSmall && c.count.Add(1) <= maxCached {
		c.known.Store(d, data)
	}
	return data, err
}
