package edge

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// contents is what content is read from, a store or a cache before it. That something
// is missing there which a release names means damage, or that the store is gone: a
// folder that is not mounted says of everything that it is not there. So it is asked
// for its mark before anybody is told of damage.
type contents struct {
	storage.Store
	isThere func(ctx context.Context) bool

	mutex *sync.Mutex
	asked *time.Time // when it was last asked for its mark
	there *bool      // what it said
}

// markEvery is how often the mark is asked for at most.
const markEvery = time.Second

// newContents returns what reads from a store, or a cache before it.
func newContents(from storage.Store, isThere func(ctx context.Context) bool) contents {
	return contents{from, isThere, &sync.Mutex{}, &time.Time{}, new(bool)}
}

// Get implements storage.Store.
func (c contents) Get(ctx context.Context, key string) ([]byte, error) {
	data, err := c.Store.Get(ctx, key)
	return data, c.suspect(ctx, err)
}

// Slice implements storage.Slicer.
func (c contents) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	data, err := storage.Slice(ctx, c.Store, key, offset, length)
	return data, c.suspect(ctx, err)
}

// Drop implements httpanswer.Dropper.
func (c contents) Drop(key string) bool {
	dropper, ok := c.Store.(httpanswer.Dropper)
	return ok && dropper.Drop(key)
}

// suspect returns an error, or another one if the store is gone.
func (c contents) suspect(ctx context.Context, err error) error {
	if !errors.Is(err, storage.ErrNotFound) {
		return err
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if time.Since(*c.asked) > markEvery {
		*c.there, *c.asked = c.isThere(ctx), time.Now()
	}
	if *c.there {
		return err
	}
	return fmt.Errorf("%w: it is not the store that it was: %w", storage.ErrUnreachable, err)
}
