// Package trial lays a store that forgets over another one: what is written stays in
// memory and is read from there, and everything else is read from the store beneath,
// which nothing changes.
//
//	dry := trial.Over(store)
//	deploy.Prepare(ctx, deploy.Job{Store: dry, ...})   // refuses what a deploy would refuse
//
// A dry run is the run itself on such a store. So it cannot tell anything else than
// the run would, and no command needs a second way through its code.
package trial

import (
	"context"
	"errors"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

// Store is a store over another one. It is safe for concurrent use.
type Store struct {
	beneath storage.Store
	written memory.Store

	mutex   sync.Mutex
	removed map[string]bool  // keys beneath that count as gone
	hollow  map[string]int64 // objects of which only the size is kept
	kept    int64            // bytes of objects that are kept
}

// maxKept is how many bytes of objects are kept. A site of gigabytes is tried too,
// and what it consists of is not read again: of the rest the size is enough.
const maxKept = 64 << 20

// errHollow: an object is read of which only the size was kept.
var errHollow = errors.New("not kept in a dry run")

var (
	_ storage.Store = (*Store)(nil)
	_ storage.Clock = (*Store)(nil)
	_ storage.Wide  = (*Store)(nil)
)

// Over returns an empty trial over a store.
func Over(beneath storage.Store) *Store {
	return &Store{beneath: beneath, removed: map[string]bool{}, hollow: map[string]int64{}}
}

// Nothing returns a trial of a store that is not there yet; address is where it
// would be.
func Nothing(address string) *Store { return Over(&nothing{address: address}) }

// nothing is an empty store with an address.
type nothing struct {
	memory.Store
	address string
}

// Address implements storage.Store.
func (n *nothing) Address() string { return n.address }

// Beneath returns the store beneath a trial, and any other store itself.
func Beneath(store storage.Store) storage.Store {
	if s, ok := store.(*Store); ok {
		return s.beneath
	}
	return store
}

// Address is that of the store beneath: messages name what is tried.
func (s *Store) Address() string { return s.beneath.Address() }

// Ahead implements storage.Clock. Records in memory are dated by this machine's
// clock, and those beneath by the store's, so the store's counts if it is known.
func (s *Store) Ahead() (time.Duration, bool) {
	if clock, ok := s.beneath.(storage.Clock); ok {
		return clock.Ahead()
	}
	return 0, true
}

// Parallel implements storage.Wide.
func (s *Store) Parallel() int { return storage.Parallel(s.beneath) }

// Get implements storage.Store.
func (s *Store) Get(ctx context.Context, key string) ([]byte, error) {
	if _, hollow := s.sizeOf(key); hollow {
		return nil, storage.Wrap(errHollow, s, "get", key)
	}
	data, err := s.written.Get(ctx, key)
	if !errors.Is(err, storage.ErrNotFound) || s.isRemoved(key) {
		return data, err
	}
	return s.beneath.Get(ctx, key)
}

// Stat implements storage.Store.
func (s *Store) Stat(ctx context.Context, key string) (storage.Item, error) {
	if size, hollow := s.sizeOf(key); hollow {
		return storage.Item{Key: key, Size: size, Modified: time.Now()}, nil
	}
	item, err := s.written.Stat(ctx, key)
	if !errors.Is(err, storage.ErrNotFound) || s.isRemoved(key) {
		return item, err
	}
	return s.beneath.Stat(ctx, key)
}

// sizeOf returns the size of an object of which nothing else was kept.
func (s *Store) sizeOf(key string) (size int64, hollow bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	size, hollow = s.hollow[key]
	return size, hollow
}

// Of what a trial wrote itself, what is written last counts, as in any store; of what
// lies beneath, what was removed here counts as gone until it is written anew.

// isRemoved reports whether a key beneath counts as gone.
func (s *Store) isRemoved(key string) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.removed[key]
}

// List implements storage.Store: what lies in either, in one order. What was written
// hides what lies beneath it.
func (s *Store) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		items := map[string]storage.Item{}
		for _, source := range []storage.Store{s.beneath, &s.written} {
			for item, err := range source.List(ctx, folder) {
				if err != nil {
					yield(storage.Item{}, err)
					return
				}
				if source == s.beneath && s.isRemoved(item.Key) {
					continue
				}
				items[item.Key] = item
			}
		}

		names := make([]string, 0, len(items))
		for key := range items {
			names = append(names, key)
		}
		slices.Sort(names)
		for _, key := range names {
			if ctx.Err() != nil || !yield(items[key], nil) {
				return
			}
		}
	}
}

// Create implements storage.Store.
func (s *Store) Create(ctx context.Context, key string, data []byte) error {
	if _, err := s.Stat(ctx, key); err == nil {
		return storage.Wrap(storage.ErrExists, s, "create", key)
	} else if !errors.Is(err, storage.ErrNotFound) {
		return err
	}
	return s.written.Create(ctx, key, data)
}

// Replace implements storage.Store.
func (s *Store) Replace(ctx context.Context, key string, data []byte) error {
	return s.written.Replace(ctx, key, data)
}

// Delete implements storage.Store.
func (s *Store) Delete(ctx context.Context, key string) error {
	if err := s.written.Delete(ctx, key); err != nil {
		return err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.removed[key] = true
	return nil
}

// Begin implements storage.Store.
func (s *Store) Begin(ctx context.Context) (storage.Batch, error) {
	inner, err := s.written.Begin(ctx)
	return &batch{store: s, Batch: inner}, err
}

// batch gathers writes in memory, and leaves out what lies beneath already.
type batch struct {
	storage.Batch
	store *Store
}

// Add implements storage.Batch.
func (b *batch) Add(ctx context.Context, key string, data []byte) (bool, error) {
	isObject := strings.HasPrefix(key, "objects/")
	// A store far away writes objects without asking, so a trial of it does not ask.
	if _, far := b.store.beneath.(storage.Remote); far && isObject {
		return b.add(ctx, key, data)
	}
	found, err := b.store.Stat(ctx, key)
	if err == nil && (found.Size == int64(len(data)) || !isObject) {
		return false, nil
	}
	if err != nil && !errors.Is(err, storage.ErrNotFound) {
		return false, err
	}
	return b.add(ctx, key, data)
}

// add keeps what is added, or its size once much was kept.
func (b *batch) add(ctx context.Context, key string, data []byte) (bool, error) {
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return false, err
	}
	s := b.store
	s.mutex.Lock()
	s.kept += int64(len(data))
	full := s.kept > maxKept && strings.HasPrefix(key, "objects/")
	if full {
		s.hollow[key] = int64(len(data))
	}
	s.mutex.Unlock()
	if full {
		return true, nil
	}
	return b.Batch.Add(ctx, key, data)
}
