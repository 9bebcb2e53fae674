// Package diskcache keeps on disk what was read from a store, so that it is not read
// again, and can be read while the store does not answer.
//
//	FOLDER/orilla-cache      what the folder is, and the version of its layout
//	FOLDER/lock              held by the one process that uses it
//	FOLDER/<shelf>/3f/…      what was read, a file for each key; the least used goes first
//	FOLDER/notes/…           small records that stay until they are removed
//
// A shelf has a size of its own, so that films drive out films and not the indexes that lead
// to them. The order in which things were used is kept in memory, and roughly in the times of
// the files, for the next process.
//
// What lies on a shelf never changes in a store, so a copy is as good as it is whole.
// Whoever reads one compares it with its digest, and drops it if it is damaged: a disk
// may lie. Notes carry their own digest.
package diskcache

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// Errors of opening a cache.
var (
	// ErrOther: the folder holds something else.
	ErrOther = errors.New("this folder is not empty and is not a cache of Orilla's")
	// ErrFormat: the cache was made by another version.
	ErrFormat = errors.New("this cache was made by another version of Orilla")
	// ErrTaken: another process uses the cache.
	ErrTaken = errors.New("another process uses this cache")
)

// format is the version of the layout.
const format = 1

// mark is what says that a folder is a cache.
type mark struct {
	Format int    `json:"format"`
	Kind   string `json:"kind"`
}

const (
	markName  = "orilla-cache"
	markKind  = "orilla-cache"
	notesName = "notes"
	// temporary begins the names of files that are being written.
	temporary = "tmp-"
)

// Cache is a folder that one process uses. Its methods may be called from several
// goroutines.
type Cache struct {
	folder string
	lock   *flock.Flock
}

// Open opens the cache in a folder, which is made if need be. What it holds is for its
// owner only: it may be content behind a password. The error is ErrOther, ErrFormat,
// ErrTaken, or the system's.
func Open(folder string) (*Cache, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}

	// The mark keeps a folder of somebody's from being emptied, file by file.
	name := filepath.Join(folder, markName)
	data, err := os.ReadFile(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if entries, err := os.ReadDir(folder); err != nil || len(entries) > 0 {
			return nil, errors.Join(err, ErrOther)
		}
		data, err = json.Marshal(mark{Format: format, Kind: markKind})
		if err == nil {
			err = os.WriteFile(name, data, 0o600)
		}
		if err != nil {
			return nil, err
		}
	case err != nil:
		return nil, err
	default:
		var m mark
		if json.Unmarshal(data, &m) != nil || m.Kind != markKind {
			return nil, ErrOther
		}
		if m.Format != format {
			return nil, fmt.Errorf("%w: its format is %d", ErrFormat, m.Format)
		}
	}

	// Two processes would each remove what the other counts on.
	c := &Cache{folder: folder, lock: flock.New(filepath.Join(folder, "lock"))}
	if ok, err := c.lock.TryLock(); err != nil || !ok {
		return nil, errors.Join(err, ErrTaken)
	}
	if err := os.MkdirAll(filepath.Join(folder, notesName), 0o700); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// Close lets others use the cache.
func (c *Cache) Close() { c.lock.Unlock() } //nolint:errcheck // the process ends

// noteFile is where a note is kept. Names are keys of a store.
func (c *Cache) noteFile(name string) (string, error) {
	if err := storage.CheckKey(name); err != nil {
		return "", err
	}
	return filepath.Join(c.folder, notesName, flat(name)), nil
}

// flat is a key as a name of one file.
func flat(key string) string { return strings.ReplaceAll(key, "/", "+") }

// Note keeps a small record under a name, in place of the one before, also after a loss
// of power. If it cannot, what was there is removed: no note is better than an old one.
func (c *Cache) Note(name string, data []byte) error {
	path, err := c.noteFile(name)
	if err != nil {
		return err
	}
	sum := digest.Of(data)

	// Flushed: after a loss of power an older note would be taken for the last one, and
	// might let in whoever knows a password that was changed.
	err = write(path, append([]byte(sum.String()+"\n"), data...), true)
	if err != nil {
		err = errors.Join(err, c.Forget(name))
	}
	return err
}

// Noted returns a record, or fs.ErrNotExist; also of one that is damaged, which counts
// as none.
func (c *Cache) Noted(name string) ([]byte, error) {
	path, err := c.noteFile(name)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}

	// One that was torn counts as none.
	sum, rest, _ := strings.Cut(string(data), "\n")
	if digest.Of([]byte(rest)).String() != sum {
		return nil, fmt.Errorf("%s is damaged: %w", name, fs.ErrNotExist)
	}
	return []byte(rest), nil
}

// Notes lists the names of the notes that begin with a prefix, in order.
func (c *Cache) Notes(prefix string) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(c.folder, notesName))
	var names []string
	for _, entry := range entries {
		name := strings.ReplaceAll(entry.Name(), "+", "/")
		if !strings.HasPrefix(entry.Name(), temporary) && strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, err
}

// Forget removes a note. Removing what is not there is no error.
func (c *Cache) Forget(name string) error {
	path, err := c.noteFile(name)
	if err != nil {
		return err
	}
	if err = os.Remove(path); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// write writes a file whole or not at all.
func write(path string, data []byte, durable bool) (err error) {
	file, err := os.CreateTemp(filepath.Dir(path), temporary)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			os.Remove(file.Name()) //nolint:errcheck // it is swept at the next start
		}
	}()
	_, err = file.Write(data)
	if err == nil && durable {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return err
	}
	if err = os.Rename(file.Name(), path); err != nil || !durable {
		return err
	}
	// The name, too. Systems that cannot do that for folders do it by themselves.
	if folder, err := os.Open(filepath.Dir(path)); err == nil {
		folder.Sync()  //nolint:errcheck // as above
		folder.Close() //nolint:errcheck // read only
	}
	return nil
}
