// Package ssh keeps a store in a folder of an SSH server, over its file transfer
// subsystem (SFTP, version 3, with the extensions of OpenSSH).
//
//	sftp://deploy@harbour.example/srv/orilla
//
// The folder is laid out like that of package file, so that an edge node on the
// server reads it directly. Create is a hard link (hardlink@openssh.com), which
// fails if the name is taken, and data is durable before it is named
// (fsync@openssh.com); a server without these is refused, not trusted.
//
// Requests are sent without waiting for the answers to those before, so that a
// thousand small files cost some round trips and not thousands. A connection that
// breaks is made anew, and a request whose answer was lost is decided by looking at
// what is there.
package ssh

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/storage"
)

// Store is a store on an SSH server. It implements storage.Store and
// storage.Wide. Close ends its connection.
type Store struct {
	config Config
	line   *line

	mutex   sync.Mutex
	made    map[string]bool // folders that are known to be there
	cleaned bool
}

var (
	_ storage.Remote  = (*Store)(nil)
	_ storage.Wide    = (*Store)(nil)
	_ storage.Tidier  = (*Store)(nil)
	_ storage.Remover = (*Store)(nil)
)

// Open returns the store at an address. Nothing is asked of the server yet.
func Open(config Config) *Store {
	return &Store{config: config, line: &line{config: config}, made: map[string]bool{}}
}

// Close ends the connection.
func (s *Store) Close() { s.line.end() }

// Address returns what was given to Parse.
func (s *Store) Address() string { return s.config.given }

// Place implements storage.Remote.
func (s *Store) Place() string { return s.config.Place() }

// Account implements storage.Remote.
func (s *Store) Account() string { return s.config.User }

// Empty implements storage.Remote. A folder that is not there is empty.
func (s *Store) Empty(ctx context.Context) (_ bool, err error) {
	defer storage.Failed(&err, s, "list", "")
	empty := true
	err = s.do(ctx, func(c *sftp.Client, _ int) error {
		entries, err := c.ReadDir(s.config.Folder)
		for _, entry := range entries {
			empty = empty && (entry.Name() == "tmp" || entry.Name() == "lost+found")
		}
		return err
	})
	if errors.Is(err, storage.ErrNotFound) {
		err = nil
	}
	return empty, err
}

// Parallel implements storage.Wide.
func (s *Store) Parallel() int { return 4 * sessions }

// path is where a key lies on the server.
func (s *Store) path(key string) string { return path.Join(s.config.Folder, key) }

// tries is how often something is begun again over a new connection.
const tries = 5

// do calls one or several operations on a session. If the connection breaks, it
// calls them again over a new one, so they must be repeatable. It returns soon
// after the context has ended, and then gives the connection up.
func (s *Store) do(ctx context.Context, operate func(c *sftp.Client, attempt int) error) error {
	for attempt := 0; ; attempt++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		// Sessions are shared by all calls; a server allows few.
		session, err := s.line.take(ctx)
		if err == nil {
			// The library's calls take no context. Cutting the connection is
			// the only way to end one that waits.
			stop := context.AfterFunc(ctx, func() { s.line.cut(session) })
			err = operate(session.Client, attempt)
			stop()
			if !lost(err) {
				err = s.explain(session.Client, err)
				s.line.release(session, false)
				return err
			}
			s.line.release(session, true)
			// Trying again would not make a key right or a host trusted, and some
			// servers lock out who tries often.
		} else if errors.Is(err, storage.ErrCredentials) || errors.Is(err, storage.ErrUntrusted) ||
			errors.Is(err, storage.ErrUnable) {
			return err
		}

		if attempt+1 == tries {
			if !errors.Is(err, storage.ErrUnreachable) {
				err = fmt.Errorf("%w any more: %w", storage.ErrUnreachable, err)
			}
			return err
		}

		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(attempt+1) * 300 * time.Millisecond):
		}
	}
}

// lost reports whether an operation failed because its connection broke.
func lost(err error) bool {
	if err == nil {
		return false
	}
	var status *sftp.StatusError
	if errors.As(err, &status) {
		code := status.FxCode()
		return code == sftp.ErrSSHFxConnectionLost || code == sftp.ErrSSHFxNoConnection
	}

	return !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) &&
		!errors.Is(err, storage.ErrExists) &&
		!errors.Is(err, storage.ErrNotFound) && !errors.Is(err, storage.ErrUnable)
}

// explain turns the server's error into the contract's. A plain failure says
// nothing; if there is no room left, it was that.
func (s *Store) explain(c *sftp.Client, err error) error {
	var status *sftp.StatusError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return storage.ErrNotFound
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w: %w", storage.ErrReadOnly, err)
	case errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure:
		// what several sessions write at once, and take
		// away again when it fails
		if space, statErr := c.StatVFS(s.config.Folder); statErr == nil &&
			space.FreeSpace() < sessions*storage.MaxObject {
			return fmt.Errorf("%w: %s has %d bytes free", storage.ErrFull, s.config.Folder, space.FreeSpace())
		}
	}

	return err
}

// Get implements storage.Store.
func (s *Store) Get(ctx context.Context, key string) (data []byte, err error) {
	defer storage.Failed(&err, s, "get", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return nil, err
	}
	err = s.do(ctx, func(c *sftp.Client, _ int) error {
		data, err = read(c, s.path(key))
		return err
	})
	return data, err
}

// read reads a file, up to what is no part of a store any more.
func read(c *sftp.Client, name string) ([]byte, error) {
	file, err := c.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close() //nolint:errcheck // read only
	var data bytes.Buffer
	_, err = io.Copy(&data, io.LimitReader(file, 8*storage.MaxObject))
	return data.Bytes(), err
}

// Slice implements storage.Slicer.
func (s *Store) Slice(ctx context.Context, key string, offset int64, length int) (data []byte, err error) {
	defer storage.Failed(&err, s, "get", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return nil, err
	}
	err = s.do(ctx, func(c *sftp.Client, _ int) error {
		file, err := c.Open(s.path(key))
		if err != nil {
			return err
		}
		defer file.Close() //nolint:errcheck // read only
		data = make([]byte, length)
		n, err := file.ReadAt(data, offset)
		data = data[:n]
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return err
	})
	return data, err
}

// Stat implements storage.Store.
func (s *Store) Stat(ctx context.Context, key string) (item storage.Item, err error) {
	defer storage.Failed(&err, s, "stat", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return storage.Item{}, err
	}
	err = s.do(ctx, func(c *sftp.Client, _ int) error {
		info, err := c.Lstat(s.path(key))
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			return fs.ErrNotExist
		}
		item = storage.Item{Key: key, Size: info.Size(), Modified: info.ModTime()}
		return nil
	})

	return item, err
}

// List implements storage.Store.
func (s *Store) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		if err := errors.Join(ctx.Err(), storage.CheckKey(folder)); err != nil {
			yield(storage.Item{}, storage.Wrap(err, s, "list", folder))
			return
		}
		var entries []os.FileInfo
		err := s.do(ctx, func(c *sftp.Client, _ int) (err error) {
			entries, err = c.ReadDir(s.path(folder))
			return err
		})
		if err != nil {
			if !errors.Is(err, storage.ErrNotFound) {
				yield(storage.Item{}, storage.Wrap(err, s, "list", folder))
			}
			return
		}

		slices.SortFunc(entries, func(a, b os.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
		for _, entry := range entries {
			item := storage.Item{Key: folder + "/" + entry.Name(), Folder: entry.IsDir()}
			if !item.Folder {
				if !entry.Mode().IsRegular() {
					continue
				}
				item.Size, item.Modified = entry.Size(), entry.ModTime()
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
	temporary, err := s.temporary(ctx, data)
	if err != nil {
		return err
	}

	folders, err := folders(ctx, s, key)
	if err != nil {
		return err
	}
	err = s.do(ctx, func(c *sftp.Client, attempt int) error {
		return link(s, c, temporary, key, data,
			attempt)
	})
	if err != nil {
		return err
	}

	return syncFolders(ctx, s, folders)
}

// link gives a file its name unless that is taken. After a connection that
// broke, the name may be this writer's own.
func link(s *Store, c *sftp.Client, temporary, key string, data []byte, attempt int) error {
	err := c.Link(temporary, s.path(key))
	if lost(err) {
		return err
	}
	if err != nil {
		switch _, there := c.Lstat(s.path(key)); {
		case there == nil:
			err = storage.ErrExists
		case lost(there):
			return there
		}
		// The answer to an earlier try may have been lost after the link was
		// made.
		if attempt > 0 && errors.Is(err, storage.ErrExists) {
			present, readErr := read(c, s.path(key))
			if lost(readErr) {
				return readErr
			}
			if readErr == nil && bytes.Equal(present, data) {
				err = nil
			}
		}
	}

	if removed := c.Remove(temporary); lost(removed) {
		return err // litter, which is cleaned later
	}
	return err
}

// Replace implements storage.Store.
func (s *Store) Replace(ctx context.Context, key string, data []byte) (err error) {
	defer storage.Failed(&err, s, "replace", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	if _, err := folders(ctx, s, key); err != nil {
		return err
	}

	return s.do(ctx, func(c *sftp.Client, _ int) error {
		temporary := s.path("tmp/" + strings.ToLower(rand.Text()))
		if err := write(c, temporary, data); err != nil {
			return err
		}
		return c.PosixRename(temporary, s.path(key))
	})
}

// Delete implements storage.Store.
func (s *Store) Delete(ctx context.Context, key string) (err error) {
	defer storage.Failed(&err, s, "delete", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	err = s.do(ctx, func(c *sftp.Client, _ int) error { return c.Remove(s.path(key)) })
	if errors.Is(err, storage.ErrNotFound) {
		return nil
	}
	return err
}

// Remove implements storage.Remover: the names are gone
// for certain when it returns.
func (s *Store) Remove(ctx context.Context, keys []string) (err error) {
	defer storage.Failed(&err, s, "remove", storage.First(keys))
	// Names first, then their folders, each folder once however many files it
	// lost.
	removing, eachKey := errgroup.WithContext(ctx)
	removing.SetLimit(s.Parallel())
	folders := map[string]bool{}
	for _, key := range keys {
		folders[above(key)[0]] = true
		removing.Go(func() error { return s.Delete(eachKey, key) })
	}

	if err := removing.Wait(); err != nil {
		return err
	}
	flushing, each := errgroup.WithContext(ctx)
	flushing.SetLimit(s.Parallel())

	for folder := range folders {
		flushing.Go(func() error {
			err := syncFolders(each, s, []string{folder})
			if errors.Is(err, storage.ErrNotFound) {
				return nil // nothing was there
			}
			return err
		})
	}

	return flushing.Wait()
}

// Tidy implements storage.Tidier.
func (s *Store) Tidy(ctx context.Context, folder string) (err error) {
	defer storage.Failed(&err, s, "tidy", folder)
	for item, err := range s.List(ctx, folder) {
		if err == nil && item.Folder {
			err = s.Tidy(ctx, item.Key)
		}
		if err != nil {
			return err
		}
	}

	s.mutex.Lock()
	// Forgotten before it is removed: a writer that still believed in it would
	// fail.
	delete(s.made, folder)
	s.mutex.Unlock()
	return s.do(ctx, func(c *sftp.Client, _ int) error {
		if err := c.RemoveDirectory(s.path(folder)); lost(err) {
			return err
		}
		return nil // what is not empty stays
	})
}

// temporary writes a flushed file that has no name in the store yet.
func (s *Store) temporary(ctx context.Context, data []byte) (name string, err error) {
	if err := ready(ctx, s); err != nil {
		return "", err
	}
	err = s.do(ctx, func(c *sftp.Client, _ int) error {
		name = s.path("tmp/" + strings.ToLower(rand.Text()))
		return write(c, name, data)
	})
	return name, err
}

// write makes a file and flushes it.
func write(c *sftp.Client, name string, data []byte) error {
	file, err := c.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	if err == nil {
		// A server without fsync would let a loss of power turn a record into a
		// name without content.
		err = able(c)
	}
	if err == nil {
		err = file.Sync()
	}

	if err = errors.Join(err, file.Close()); err != nil && !lost(err) {
		c.Remove(name) //nolint:errcheck // the first error counts
	}
	return err
}

// ready makes the folder of temporary files, and removes old ones once.
func ready(ctx context.Context, s *Store) error {
	if err := mkdir(ctx, s, "tmp"); err != nil {
		return err
	}
	s.mutex.Lock()
	// Once in the life of a process: litter of interrupted uploads is rare.
	cleaned := s.cleaned
	s.cleaned = true
	s.mutex.Unlock()
	if cleaned {
		return nil
	}

	var old []string
	for item, err := range s.List(ctx, "tmp") {
		if err != nil {
			return err
		}
		if !item.Folder && time.Since(item.Modified) > tooOld {
			old = append(old, item.Key)
		}
	}

	return storage.Remove(ctx, s, old)
}

// tooOld is after what time a temporary file is nobody's:
// no write takes that long.
const tooOld = 24 * time.Hour

// mkdir makes a folder below the store's, and those above it.
func mkdir(ctx context.Context, s *Store, folder string) error {
	s.mutex.Lock()
	there := s.made[folder]
	s.mutex.Unlock()
	if there {
		return nil
	}

	err := s.do(ctx, func(c *sftp.Client, _ int) error { return makeFolder(c, s.path(folder)) })
	if err == nil {
		s.mutex.Lock()
		s.made[folder] = true
		s.mutex.Unlock()
	}
	return err
}

// makeFolder makes a folder and those above it. That one is there already is a
// plain failure, which is settled by looking.
func makeFolder(c *sftp.Client, name string) (err error) {
	for range 2 { // the second time with the folder above it
		if err = c.Mkdir(name); err == nil || lost(err) {
			return err
		}
		// SFTP 3 has no status for "it is there already", so it is looked at
		// what is there.
		info, lookErr := c.Lstat(name)
		switch {
		case lookErr == nil && info.IsDir():
			return nil
		case lookErr == nil:
			return err // a file has the name
		case !errors.Is(lookErr, fs.ErrNotExist):
			return lookErr
		}

		if above := makeFolder(c, path.Dir(name)); above != nil {
			return above
		}
	}
	return err
}

// folders makes the folders above a key. It returns them all: each must be
// flushed for the key to be durable.
func folders(ctx context.Context, s *Store, key string) ([]string, error) {
	if err := ready(ctx, s); err != nil {
		return nil, err
	}
	folders := above(key)
	if folders[0] == "." {
		return folders, nil
	}
	return folders, mkdir(ctx, s, folders[0])
}

// above lists the folders above a key, the nearest first,
// the store's own, ".", last.
func above(key string) []string {
	var folders []string
	for folder := path.Dir(key); folder != "."; folder = path.Dir(folder) {
		folders = append(folders, folder)
	}
	return append(folders, ".")
}

// syncFolders makes the names in folders durable.
func syncFolders(ctx context.Context, s *Store, folders []string) error {
	return s.do(ctx, func(c *sftp.Client, _ int) error {
		for _, folder := range folders {
			if err := syncFolder(c, s.path(folder)); err != nil {
				return err
			}
		}
		return nil
	})
}

// syncFolder makes the names in a folder durable, by the fsync extension of
// OpenSSH on its handle.
func syncFolder(c *sftp.Client, folder string) error {
	handle, err := c.Open(folder)
	if err != nil {
		return err
	}
	return errors.Join(handle.Sync(), handle.Close())
}
