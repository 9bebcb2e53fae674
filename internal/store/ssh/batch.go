package ssh

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/storage"
)

// Begin implements storage.Store.
func (s *Store) Begin(ctx context.Context) (_ storage.Batch, err error) {
	defer storage.Failed(&err, s, "begin", "")
	return &batch{store: s, added: map[string]pending{}, present: map[string]bool{}}, ctx.Err()
}

// pending is a flushed file that has no name in the store yet.
type pending struct {
	temporary string
	data      []byte // of a record, to know it again after a connection that broke
	over      bool   // a damaged object lies under the name
}

// batch gathers files that are flushed, and have no name yet.
type batch struct {
	store *Store

	mutex   sync.Mutex
	added   map[string]pending
	present map[string]bool // folders above what was found in the store
	ended   bool
}

// Add implements storage.Batch.
func (b *batch) Add(ctx context.Context, key string, data []byte) (_ bool, err error) {
	defer storage.Failed(&err, b.store, "add", key)
	if b.reserved(key) {
		return false, nil
	}
	// Asking costs a round trip, and sending may cost a megabyte.
	item, err := b.store.Stat(ctx, key)
	isObject := strings.HasPrefix(key, "objects/")
	p := pending{over: err == nil}

	switch {
	case err == nil && (!isObject || item.Size == int64(len(data))):
		b.mutex.Lock()
		defer b.mutex.Unlock()
		delete(b.added, key)
		// What was found may have its name only in the server's memory, if
		// another one's commit was interrupted; its folders are flushed too.
		for _, folder := range above(key) {
			b.present[folder] = true
		}
		return false, nil
	case err != nil && !errors.Is(err, storage.ErrNotFound):
		return false, err
	}

	if !isObject {
		p.data = slices.Clone(data)
	}
	if p.temporary, err = b.store.temporary(ctx, data); err != nil {
		return false, err
	}

	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.added[key] = p
	if b.ended {
		return false, errors.New("the batch has ended")
	}
	return true, nil
}

// reserved reports whether the batch has a key, and takes
// it for the caller if not.
func (b *batch) reserved(key string) bool {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if _, twice := b.added[key]; twice {
		return true
	}
	b.added[key] = pending{}
	return false
}

// Commit implements storage.Batch. The contents are
// durable; the order is: names, then names durable.
func (b *batch) Commit(ctx context.Context) (taken []string, err error) {
	defer storage.Failed(&err, b.store, "commit", "")
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.ended {
		return nil, errors.New("the batch has ended")
	}

	b.ended = true
	flush := maps.Clone(b.present)
	var mutex sync.Mutex
	group, each := errgroup.WithContext(ctx)
	group.SetLimit(b.store.Parallel())

	for key, p := range b.added {
		if p.temporary == "" {
			continue
		}
		group.Go(func() error {
			folders, err := folders(each, b.store, key)
			if err == nil {
				err = b.store.do(each, func(c *sftp.Client, attempt int) error {
					return b.name(c, key, p,
						attempt)
				})
			}

			mutex.Lock()
			defer mutex.Unlock()
			for _, folder := range folders {
				flush[folder] = true
			}

			if errors.Is(err, storage.ErrExists) {
				taken = append(taken, key)
				return nil
			}
			return storage.Wrap(err, b.store, "commit", key)
		})
	}

	if err := group.Wait(); err != nil {
		return nil, err
	}
	// Folders last, each once: with them the names survive a loss of power.
	flushing, inner := errgroup.WithContext(ctx)
	flushing.SetLimit(b.store.Parallel())
	for folder := range flush {
		flushing.Go(func() error { return syncFolders(inner, b.store, []string{folder}) })
	}

	return taken, flushing.Wait()
}

// name gives what was added its name. An object that came
// meanwhile has the same bytes.
func (b *batch) name(c *sftp.Client, key string, p pending, attempt int) error {
	s := b.store
	switch {
	case p.over:
		err := c.PosixRename(p.temporary, s.path(key))
		if attempt > 0 && errors.Is(err, fs.ErrNotExist) {
			_, err = c.Lstat(s.path(key)) // it has its name already
		}
		return err
	case p.data != nil || !strings.HasPrefix(key, "objects/"):
		return link(s, c, p.temporary, key, p.data, attempt)
	}

	// SFTP 3: a plain rename fails if the name is taken. For an object that is
	// as good as success, since equal names have equal bytes.
	err := c.Rename(p.temporary, s.path(key))
	if err == nil || lost(err) {
		return err
	}
	switch _, there := c.Lstat(s.path(key)); {
	case lost(there):
		return there
	case there != nil:
		return err
	}

	if err := c.Remove(p.temporary); lost(err) {
		return err
	}
	return nil
}

// Discard implements storage.Batch.
func (b *batch) Discard() {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.ended {
		return
	}

	b.ended = true
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second) // what is left is cleaned later
	defer cancel()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(b.store.Parallel())

	for _, p := range b.added {
		if p.temporary != "" {
			group.Go(func() error {
				return b.store.do(ctx, func(c *sftp.Client, _ int) error { return c.Remove(p.temporary) })
			})
		}
	}
	group.Wait() //nolint:errcheck // see above
}
