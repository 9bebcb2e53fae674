// Package memory keeps a store in memory, for tests and for what need not last.
// It is also the shortest reading of the contract: whoever writes another engine
// may begin here.
package memory

import (
	"context"
	"errors"
	"iter"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// Store is a store in memory. The zero value is empty and ready to use.
type Store struct {
	mutex sync.Mutex
	items map[string]item
}

// item is the value of one key, with the time it was written.
type item struct {
	data     []byte
	modified time.Time
}

var _ storage.Store = (*Store)(nil)

// Address says that it is in memory.
func (s *Store) Address() string { return "memory" }

// Get implements storage.Store.
func (s *Store) Get(ctx context.Context, key string) (_ []byte, err error) {
	defer storage.Failed(&err, s, "get", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return nil, err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	found, ok := s.items[key]
	if !ok {
		return nil, storage.ErrNotFound
	}
	return slices.Clone(found.data), nil
}

// Slice implements storage.Slicer.
func (s *Store) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	data, err := s.Get(ctx, key)
	from := min(offset, int64(len(data)))
	return data[from:min(from+int64(length), int64(len(data)))], err
}

// Stat implements storage.Store.
func (s *Store) Stat(ctx context.Context, key string) (_ storage.Item, err error) {
	defer storage.Failed(&err, s, "stat", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return storage.Item{}, err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	found, ok := s.items[key]
	if !ok {
		return storage.Item{}, storage.ErrNotFound
	}
	return storage.Item{Key: key, Size: int64(len(found.data)), Modified: found.modified}, nil
}

// List implements storage.Store.
func (s *Store) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		if err := errors.Join(ctx.Err(), storage.CheckKey(folder)); err != nil {
			yield(storage.Item{}, storage.Wrap(err, s, "list", folder))
			return
		}
		for _, child := range s.children(folder + "/") {
			if ctx.Err() != nil || !yield(child, nil) {
				return
			}
		}
	}
}

// children returns what lies directly below a prefix, in order.
func (s *Store) children(prefix string) []storage.Item {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	seen := map[string]storage.Item{}
	for key, found := range s.items {
		rest, ok := strings.CutPrefix(key, prefix)
		if !ok {
			continue
		}
		if name, _, below := strings.Cut(rest, "/"); below {
			seen[name] = storage.Item{Key: prefix + name, Folder: true}
		} else {
			seen[name] = storage.Item{Key: key, Size: int64(len(found.data)), Modified: found.modified}
		}
	}

	items := make([]storage.Item, 0, len(seen))
	for _, child := range seen {
		items = append(items, child)
	}
	sort.Slice(items, func(i, j int) bool { return items[i].Key < items[j].Key })
	return items
}

// Create implements storage.Store.
func (s *Store) Create(ctx context.Context, key string, data []byte) (err error) {
	defer storage.Failed(&err, s, "create", key)
	return s.put(ctx, key, data, false)
}

// Replace implements storage.Store.
func (s *Store) Replace(ctx context.Context, key string, data []byte) (err error) {
	defer storage.Failed(&err, s, "replace", key)
	return s.put(ctx, key, data, true)
}

// put keeps data under a key; over says whether that may be taken.
func (s *Store) put(ctx context.Context, key string, data []byte, over bool) error {
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if _, taken := s.items[key]; taken && !over {
		return storage.ErrExists
	}

	if s.items == nil {
		s.items = map[string]item{}
	}
	s.items[key] = item{slices.Clone(data), time.Now()}
	return nil
}

// Delete implements storage.Store.
func (s *Store) Delete(ctx context.Context, key string) (err error) {
	defer storage.Failed(&err, s, "delete", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	delete(s.items, key)
	return nil
}

// Begin implements storage.Store.
func (s *Store) Begin(ctx context.Context) (_ storage.Batch, err error) {
	defer storage.Failed(&err, s, "begin", "")
	return &batch{store: s, added: map[string][]byte{}}, ctx.Err()
}

// batch gathers what is kept together.
type batch struct {
	store *Store
	mutex sync.Mutex
	added map[string][]byte
	ended bool
}

// Add implements storage.Batch.
func (b *batch) Add(ctx context.Context, key string, data []byte) (_ bool, err error) {
	defer storage.Failed(&err, b.store, "add", key)
	found, err := b.store.Stat(ctx, key)
	if err == nil && (found.Size == int64(len(data)) || !strings.HasPrefix(key, "objects/")) {
		return false, nil
	}
	if err != nil && !errors.Is(err, storage.ErrNotFound) {
		return false, err
	}

	b.mutex.Lock()
	defer b.mutex.Unlock()
	if _, twice := b.added[key]; twice {
		return false, nil
	}
	b.added[key] = slices.Clone(data)
	return true, nil
}

// Commit implements storage.Batch.
func (b *batch) Commit(ctx context.Context) (taken []string, err error) {
	defer storage.Failed(&err, b.store, "commit", "")
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.ended {
		return nil, errors.New("the batch has ended")
	}

	b.ended = true
	for key, data := range b.added {
		err := b.store.put(ctx, key, data, strings.HasPrefix(key, "objects/"))
		if errors.Is(err, storage.ErrExists) {
			taken = append(taken, key)
		} else if err != nil {
			return nil, err
		}
	}

	return taken, nil
}

// Discard implements storage.Batch.
func (b *batch) Discard() {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.ended = true
}
