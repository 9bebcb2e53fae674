package metrics

import (
	"context"
	"errors"
	"iter"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// A store around a store counts what is asked of it. It must be all that the one beneath is: a
// node looks otherwise at one that is far away, or that tells of changes.

// Store returns a store that counts what is asked of another one.
func (m *Metrics) Store(beneath storage.Store) storage.Store {
	counted := counting{beneath, m}
	switch beneath := beneath.(type) {
	case storage.Remote:
		return &far{counted, beneath}
	case storage.Watcher:
		return &near{counted, beneath}
	}
	return &counted
}

// counting counts requests.
type counting struct {
	storage.Store

	m *Metrics
}

// far is a store elsewhere.
type far struct {
	counting

	remote storage.Remote
}

// near is a store that tells of changes.
type near struct {
	counting

	watcher storage.Watcher
}

// done counts a request that began at a time.
func (c *counting) done(operation string, began time.Time, err error) {
	c.m.storeSeconds.WithLabelValues(operation).Observe(time.Since(began).Seconds())
	// Whoever has gone is no failure of the store's, and neither is an answer.
	for _, answer := range []error{storage.ErrNotFound, storage.ErrExists, context.Canceled} {
		if errors.Is(err, answer) {
			return
		}
	}
	if err != nil {
		c.m.storeFailed.WithLabelValues(operation).Inc()
	}
}

// Get implements storage.Store.
func (c *counting) Get(ctx context.Context, key string) ([]byte, error) {
	began := time.Now()
	data, err := c.Store.Get(ctx, key)
	c.done("get", began, err)
	return data, err
}

// Slice implements storage.Slicer.
func (c *counting) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	began := time.Now()
	data, err := storage.Slice(ctx, c.Store, key, offset, length)
	c.done("get", began, err)
	return data, err
}

// Stat implements storage.Store.
func (c *counting) Stat(ctx context.Context, key string) (storage.Item, error) {
	began := time.Now()
	item, err := c.Store.Stat(ctx, key)
	c.done("stat", began, err)
	return item, err
}

// List implements storage.Store. What counts is how long the whole list took.
func (c *counting) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		began := time.Now()
		var failed error
		defer func() { c.done("list", began, failed) }()
		for item, err := range c.Store.List(ctx, folder) {
			if failed = err; !yield(item, err) {
				return
			}
		}
	}
}

// Create implements storage.Store.
func (c *counting) Create(ctx context.Context, key string, data []byte) error {
	began := time.Now()
	err := c.Store.Create(ctx, key, data)
	c.done("put", began, err)
	return err
}

// Replace implements storage.Store.
func (c *counting) Replace(ctx context.Context, key string, data []byte) error {
	began := time.Now()
	err := c.Store.Replace(ctx, key, data)
	c.done("put", began, err)
	return err
}

// Delete implements storage.Store.
func (c *counting) Delete(ctx context.Context, key string) error {
	began := time.Now()
	err := c.Store.Delete(ctx, key)
	c.done("delete", began, err)
	return err
}

// Parallel implements storage.Wide.
func (c *counting) Parallel() int { return storage.Parallel(c.Store) }

// Ahead implements storage.Clock.
func (c *counting) Ahead() (time.Duration, bool) {
	if clock, ok := c.Store.(storage.Clock); ok {
		return clock.Ahead()
	}
	return 0, false
}

// Empty implements storage.Remote.
func (f *far) Empty(ctx context.Context) (bool, error) { return f.remote.Empty(ctx) }

// Place implements storage.Remote.
func (f *far) Place() string { return f.remote.Place() }

// Account implements storage.Remote.
func (f *far) Account() string { return f.remote.Account() }

// Watch implements storage.Watcher.
func (n *near) Watch(ctx context.Context, folder string) (<-chan struct{}, error) {
	return n.watcher.Watch(ctx, folder)
}
