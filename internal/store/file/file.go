// Package file keeps a store in a folder.
//
//	/srv/orilla/objects/5f/5f3a…          each key is a file below the folder
//	/srv/orilla/tmp/<random>              what has no name yet
//
// A file gets its name only when its content is durable, by a rename that does not
// replace (or a hard link), so that no reader ever sees a part of one, and of two
// who create the same key one succeeds: also across processes, and on network file
// systems that keep to POSIX.
//
// The order is always the same: write, fsync the file, name it, fsync the folder.
// A batch does each step for all its files before the next, so that 30,000 files
// cost a handful of flushes and not 60,000. powerloss_test.go cuts the power after
// each single operation, and looks at what is left.
package file

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// Store is a store in a folder. It implements
// storage.Store and storage.Watcher.
type Store struct {
	root string
	disk disk
}

var (
	_ storage.Store   = (*Store)(nil)
	_ storage.Watcher = (*Store)(nil)
	_ storage.Tidier  = (*Store)(nil)
	_ storage.Remover = (*Store)(nil)
)

// Open opens the store in a folder. The error is storage.ErrNone, ErrOther or
// ErrFormat, or what the system said.
//
// Opening writes nothing and creates nothing.
func Open(root string) (*Store, error) {
	root, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	// The mark keeps a mistyped folder, or one that is not mounted, from being
	// taken for an empty store.
	data, err := os.ReadFile(filepath.Join(root, storage.MarkKey))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, unmarked(root)
	case err != nil:
		return nil, explain(err)
	}

	if _, err := storage.CheckMark(data); err != nil {
		return nil, fmt.Errorf("%s: %w", root, err)
	}
	// Held open: the descriptor is what the whole file system is flushed by,
	// where that is possible.
	folder, err := os.Open(root)
	if err != nil {
		return nil, err
	}
	return &Store{root: root, disk: realDisk{folder}}, nil
}

// Unasked returns the store in a folder that may not be there: what it cannot read is
// an error of each call.
func Unasked(root string) *Store { return &Store{root: root, disk: realDisk{}} }

// unmarked says what a folder without a mark is.
func unmarked(root string) error {
	entries, err := os.ReadDir(root)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, entry := range entries {
		switch entry.Name() {
		case "tmp", storage.PulsesKey, "lost+found": // somebody else is just making it
		default:
			return fmt.Errorf("%s: %w", root, storage.ErrOther)
		}
	}
	return fmt.Errorf("%s: %w", root, storage.ErrNone)
}

// Make opens the store in a folder, and makes it first if the folder is missing
// or empty. Several may do so at once.
//
// A folder with anything else in it is never made a store: the error is
// storage.ErrOther.
func Make(root string) (*Store, error) {
	store, err := Open(root)
	if !errors.Is(err, storage.ErrNone) {
		return store, err
	}
	// Two who make the same store at once both come here; the mark has one
	// winner, and both go on.
	if err := os.MkdirAll(filepath.Join(root, storage.PulsesKey), 0o755); err != nil {
		return nil, err
	}

	folder, err := os.Open(root)
	if err != nil {
		return nil, err
	}
	root, err = filepath.Abs(root)
	if err != nil {
		return nil, err
	}

	store = &Store{root: root, disk: realDisk{folder}}
	err = store.Create(context.Background(), storage.MarkKey, storage.NewMark(strings.ToLower(rand.Text())))
	if err != nil && !errors.Is(err, storage.ErrExists) {
		return nil, err
	}
	return store, errors.Join(syncFolder(root), syncFolder(filepath.Dir(root)))
}

// Address returns the folder.
func (s *Store) Address() string { return s.root }

// path is where a key lies.
func (s *Store) path(key string) string { return filepath.Join(s.root, filepath.FromSlash(key)) }

// Get implements storage.Store.
func (s *Store) Get(ctx context.Context, key string) (_ []byte, err error) {
	defer storage.Failed(&err, s, "get", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(s.path(key))
	return data, explain(err)
}

// Slice implements storage.Slicer.
func (s *Store) Slice(ctx context.Context, key string, offset int64, length int) (_ []byte, err error) {
	defer storage.Failed(&err, s, "get", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return nil, err
	}
	file, err := os.Open(s.path(key))
	if err != nil {
		return nil, explain(err)
	}
	defer file.Close() //nolint:errcheck // read only
	data := make([]byte, length)
	n, err := file.ReadAt(data, offset)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return data[:n], explain(err)
}

// Stat implements storage.Store.
func (s *Store) Stat(ctx context.Context, key string) (_ storage.Item, err error) {
	defer storage.Failed(&err, s, "stat", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return storage.Item{}, err
	}
	// Lstat: a link in a store is nobody's record, wherever it leads.
	info, err := os.Lstat(s.path(key))
	if err == nil && !info.Mode().IsRegular() {
		err = fs.ErrNotExist
	}
	if err != nil {
		return storage.Item{}, explain(err)
	}
	return storage.Item{Key: key, Size: info.Size(), Modified: info.ModTime()}, nil
}

// List implements storage.Store.
func (s *Store) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		if err := errors.Join(ctx.Err(), storage.CheckKey(folder)); err != nil {
			yield(storage.Item{}, storage.Wrap(err, s, "list", folder))
			return
		}
		entries, err := os.ReadDir(s.path(folder))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			yield(storage.Item{}, storage.Wrap(explain(err), s, "list", folder))
			return
		}

		for _, entry := range entries {
			item := storage.Item{Key: folder + "/" + entry.Name(), Folder: entry.IsDir()}
			if !item.Folder {
				info, err := entry.Info()
				if err != nil || !info.Mode().IsRegular() {
					continue // gone since
				}
				item.Size, item.Modified = info.Size(), info.ModTime()
			}

			if ctx.Err() != nil || !yield(item, nil) {
				return
			}
		}
	}
}

// Create implements storage.Store.
func (s *Store) Create(ctx context.Context, key string, data []byte) (err error) {
	defer storage.Failed(&err, s, "create", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	temporary, err := s.temporary(data)
	if err != nil {
		return err
	}
	defer s.disk.Remove(temporary) //nolint:errcheck // it has its name, or is litter that is cleaned later
	// Content before name, name before folder: at any moment that the power may
	// go, a name that is there has its content.
	if err := s.disk.SyncFile(temporary); err != nil {
		return explain(err)
	}

	folders, err := s.folders(s.path(key))
	if err != nil {
		return explain(err)
	}
	// The last moment to give up: with the rename it counts.
	if err := ctx.Err(); err != nil { // it may have taken long
		return err
	}

	if err := s.disk.RenameNew(temporary, s.path(key)); err != nil {
		return explain(err)
	}
	return explain(s.syncFolders(folders))
}

// Replace implements storage.Store.
func (s *Store) Replace(ctx context.Context, key string, data []byte) (err error) {
	defer storage.Failed(&err, s, "replace", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	temporary, err := s.temporary(data)
	if err != nil {
		return err
	}

	// else a loss of power could leave the name with half the bytes
	if err = s.disk.SyncFile(temporary); err == nil {
		_, err = s.folders(s.path(key))
	}
	if err == nil {
		err = s.disk.RenameOver(temporary, s.path(key))
	}
	if err != nil {
		s.disk.Remove(temporary) //nolint:errcheck // the first error counts
	}

	return explain(err)
}

// Delete implements storage.Store.
func (s *Store) Delete(ctx context.Context, key string) (err error) {
	defer storage.Failed(&err, s, "delete", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	return explain(s.disk.Remove(s.path(key)))
}

// Remove implements storage.Remover: the names are gone
// for certain when it returns.
func (s *Store) Remove(ctx context.Context, keys []string) (err error) {
	defer storage.Failed(&err, s, "remove", storage.First(keys))
	// Each folder is flushed once, after all its names went.
	folders := map[string]bool{}
	for _, key := range keys {
		if err := storage.CheckKey(key); err != nil {
			return err
		}
		folders[filepath.Dir(s.path(key))] = true
	}

	err = each(keys, func(key string) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return storage.Wrap(explain(s.disk.Remove(s.path(key))), s, "remove", key)
	})
	if err != nil {
		return err
	}

	for folder := range folders {
		if _, err := os.Lstat(folder); errors.Is(err, fs.ErrNotExist) {
			delete(folders, folder)
		}
	}

	return explain(s.syncNames(folders))
}

// Tidy implements storage.Tidier.
func (s *Store) Tidy(ctx context.Context, folder string) (err error) {
	defer storage.Failed(&err, s, "tidy", folder)
	if err := errors.Join(ctx.Err(), storage.CheckKey(folder)); err != nil {
		return err
	}
	entries, err := os.ReadDir(s.path(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}

	for _, entry := range entries {
		if err == nil && entry.IsDir() {
			err = s.Tidy(ctx, folder+"/"+entry.Name())
		}
	}

	if err == nil {
		os.Remove(s.path(folder)) //nolint:errcheck // what is not empty stays
	}
	return explain(err)
}

// temporary writes data to a file that has no name in the store yet.
func (s *Store) temporary(data []byte) (string, error) {
	if err := s.disk.Mkdir(s.path("tmp")); err != nil {
		return "", explain(err)
	}
	path := s.path("tmp/" + strings.ToLower(rand.Text()))
	if err := s.disk.Write(path, data); err != nil {
		s.disk.Remove(path) //nolint:errcheck // the first error counts
		return "", explain(err)
	}
	return path, nil
}

// folders makes the folders above a file. It returns them all: each must be
// flushed for the file to be durable, also those that were there, since whoever
// made them may not have come to flush them yet.
func (s *Store) folders(path string) ([]string, error) {
	above := s.above(path)
	// From the top down; the last of above is the root, which is there.
	for i := len(above) - 2; i >= 0; i-- {
		if _, err := os.Lstat(above[i]); err == nil {
			continue
		}
		if err := s.disk.Mkdir(above[i]); err != nil {
			return nil, err
		}
	}
	return above, nil
}

// above lists the folders above a file, the nearest first,
// the store's own last.
func (s *Store) above(path string) []string {
	var above []string
	for folder := filepath.Dir(path); len(folder) > len(s.root); folder = filepath.Dir(folder) {
		above = append(above, folder)
	}
	return append(above, s.root)
}

// syncFolders makes the names in folders durable, the deepest first: a folder
// whose own name is lost takes along what is in it.
func (s *Store) syncFolders(folders []string) error {
	for _, folder := range folders {
		if err := s.disk.SyncFolder(folder); err != nil {
			return err
		}
	}
	return nil
}

// explain turns the system's error into the contract's.
func explain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return storage.ErrNotFound
	case errors.Is(err, fs.ErrExist):
		return storage.ErrExists
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		return fmt.Errorf("%w: %w", storage.ErrReadOnly, err)
	case isFull(err):
		return fmt.Errorf("%w: %w", storage.ErrFull, err)
	}
	return err
}

// A writer that was killed leaves its temporary files. They are removed when
// nobody holds them and they are no longer young.
const (
	youngFolder = time.Minute    // a folder may have been made and not yet locked
	youngFile   = time.Hour      // a single record takes no time to be written
	youngAtAll  = 24 * time.Hour // where folders cannot be locked
)

// clean removes what writers that are gone have left in tmp/.
func (s *Store) clean(now time.Time) {
	entries, err := os.ReadDir(s.path("tmp"))
	if err != nil {
		return
	}
	for _, entry := range entries {
		path := s.path("tmp/" + entry.Name())
		info, err := entry.Info()
		if err != nil {
			continue
		}

		age := now.Sub(info.ModTime())
		if !entry.IsDir() {
			if age > youngFile {
				s.disk.Remove(path) //nolint:errcheck // the next cleaning tries again
			}
			continue
		}

		held, err := lock(path)
		if err == nil && age > youngFolder || err != nil && held == nil && age > youngAtAll {
			os.RemoveAll(path) //nolint:errcheck // the next cleaning tries again
		}
		if held != nil {
			held.Close() //nolint:errcheck // only a lock
		}
	}
}
