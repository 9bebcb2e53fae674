package file

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/storage"
)

// manySyncs is from how many files on one flush of the whole file system is
// taken to cost less than a flush of each.
const manySyncs = 64

// Begin implements storage.Store.
func (s *Store) Begin(ctx context.Context) (_ storage.Batch, err error) {
	defer storage.Failed(&err, s, "begin", "")
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	s.clean(time.Now())
	return &batch{store: s, present: map[string]bool{}, added: map[string]pending{}}, nil
}

// pending is something that was written and has no name in the store yet.
type pending struct {
	temporary string
	over      bool // a damaged object lies under the name
}

// batch gathers files in a folder of its own below tmp, which it locks: a
// writer that was killed is told from one that works by that lock.
type batch struct {
	store *Store

	mutex   sync.Mutex
	folder  string // below tmp, made when the first thing is added
	held    *os.File
	present map[string]bool    // folders above what was found in the store
	added   map[string]pending // by key
	ended   bool
}

// Add implements storage.Batch.
func (b *batch) Add(ctx context.Context, key string, data []byte) (_ bool, err error) {
	defer storage.Failed(&err, b.store, "add", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return false, err
	}
	path := b.store.path(key)
	info, err := os.Lstat(path)
	exists, over := err == nil, false
	if exists {
		// An object of another length than its content has was torn once, on a
		// file system that had lied.
		if over = strings.HasPrefix(key, "objects/") && info.Size() != int64(len(data)); !over {
			b.mutex.Lock()
			defer b.mutex.Unlock()
			if !b.present[filepath.Dir(path)] {
				for _, folder := range b.store.above(path) {
					b.present[folder] = true
				}
			}
			return false, nil
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return false, explain(err)
	}

	temporary, err := b.reserve(key, over)
	if err != nil || temporary == "" {
		return false, explain(err)
	}
	return true, explain(b.store.disk.Write(temporary, data))
}

// reserve returns the temporary name for a key, or "" if
// the batch has the key already.
func (b *batch) reserve(key string, over bool) (string, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.ended {
		return "", errors.New("the batch has ended")
	}

	if _, twice := b.added[key]; twice {
		return "", nil
	}
	if b.folder == "" {
		if err := b.begin(); err != nil {
			return "", err
		}
	}

	temporary := filepath.Join(b.folder, strconv.Itoa(len(b.added)))
	b.added[key] = pending{temporary, over}
	return temporary, nil
}

// begin makes the folder, when there is something to put into it.
func (b *batch) begin() error {
	if err := b.store.disk.Mkdir(b.store.path("tmp")); err != nil {
		return err
	}
	folder := b.store.path("tmp/" + strings.ToLower(rand.Text()))
	if err := b.store.disk.Mkdir(folder); err != nil {
		return err
	}

	b.folder = folder
	// Whoever cleans up tries the lock, and so spares a batch whose process
	// lives.
	b.held, _ = lock(folder) // without a lock, age protects it
	return nil
}

// Commit implements storage.Batch. The order is: contents
// durable, then names, then names durable.
func (b *batch) Commit(ctx context.Context) (_ []string, err error) {
	defer storage.Failed(&err, b.store, "commit", "")
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.ended {
		return nil, errors.New("the batch has ended")
	}
	defer b.end()
	if err := ctx.Err(); err != nil {
		return nil, err
	}

	// All contents, then all names, then all folders: at no moment is a name
	// there without its content.
	if err := b.syncContents(); err != nil {
		return nil, err
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}

	flush, taken, err := b.name()
	if err != nil {
		return nil, err
	}
	for folder := range b.present {
		flush[folder] = true
	}
	return taken, b.store.syncNames(flush)
}

// syncContents makes what was written durable: of many files all at once, which
// is one wait for the disk instead of thousands.
func (b *batch) syncContents() error {
	// Flushing the whole file system once is faster than flushing many files
	// one by one.
	if len(b.added) > manySyncs {
		if done, err := b.store.disk.SyncAll(); done || err != nil {
			return err
		}
	}

	var paths []string
	for _, p := range b.added {
		paths = append(paths, p.temporary)
	}
	return each(paths, b.store.disk.SyncFile)
}

// name gives everything added its name. It returns the folders whose names
// changed, and the keys that were taken.
func (b *batch) name() (flush map[string]bool, taken []string, err error) {
	flush = map[string]bool{}
	keys := make([]string, 0, len(b.added))
	made := map[string]bool{}
	for key := range b.added {
		keys = append(keys, key)
		// Folders are made once for all that lies in them.
		if parent := filepath.Dir(b.store.path(key)); !made[parent] {
			folders, err := b.store.folders(b.store.path(key))
			if err != nil {
				return nil, nil, storage.Wrap(explain(err), b.store, "commit", key)
			}
			for _, folder := range folders {
				flush[folder] = true
			}
			made[parent] = true
		}
	}

	var mutex sync.Mutex
	err = each(keys, func(key string) error {
		p := b.added[key]
		rename := b.store.disk.RenameNew
		if p.over {
			rename = b.store.disk.RenameOver
		}

		err := rename(p.temporary, b.store.path(key))
		if errors.Is(err, fs.ErrExist) {
			mutex.Lock()
			defer mutex.Unlock()
			taken = append(taken, key)
			return b.store.disk.Remove(p.temporary)
		}
		return storage.Wrap(explain(err), b.store, "commit", key)
	})

	return flush, taken, err
}

// syncNames makes the names in folders durable.
func (s *Store) syncNames(folders map[string]bool) error {
	if len(folders) > manySyncs {
		if done, err := s.disk.SyncAll(); done || err != nil {
			return err
		}
	}

	var paths []string
	for folder := range folders {
		paths = append(paths, folder)
	}
	return each(paths, s.disk.SyncFolder)
}

// Discard implements storage.Batch.
func (b *batch) Discard() {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if !b.ended {
		b.end()
	}
}

// end removes the folder with what is left in it.
func (b *batch) end() {
	b.ended = true
	if b.folder == "" {
		return
	}
	os.RemoveAll(b.folder) //nolint:errcheck // what is left is cleaned later
	if b.held != nil {
		b.held.Close() //nolint:errcheck // only a lock
	}
}

// each calls do for every item, a few at a time.
func each(items []string, do func(string) error) error {
	var group errgroup.Group
	group.SetLimit(2 * runtime.NumCPU())
	const run = 64 // items for one goroutine, so that starting them costs little
	for len(items) > 0 {
		some := items[:min(run, len(items))]
		items = items[len(some):]
		group.Go(func() error {
			for _, item := range some {
				if err := do(item); err != nil {
					return err
				}
			}
			return nil
		})
	}

	return group.Wait()
}
