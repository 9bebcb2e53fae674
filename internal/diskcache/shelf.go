package diskcache

import (
	"container/list"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// Shelf is a part of a cache with a size of its own, before a store: what is read
// through it stays there. It is a storage.Store and a storage.Slicer; only reading
// differs. Keys read through it must be of what never changes.
type Shelf struct {
	storage.Store
	folder string
	limit  int64 // bytes
	most   int   // files
	tell   func(error)

	flight singleflight.Group
	mutex  sync.Mutex
	held   int64
	byAge  *list.List // of *copied, used last first
	known  map[string]*list.Element

	refused map[string]time.Time // keys that could not be kept, and until when that counts
}

// copied is a file on a shelf.
type copied struct {
	key     string
	size    int64
	touched time.Time // when its time on disk was set last
}

// windowSize is how much of an object is fetched at once.
const windowSize = 1 << 20

// touchEvery is how often the time of a file that is used is set: it tells, after a
// restart, what was used lately.
const touchEvery = time.Hour

// Shelf opens a part of the cache of up to limit bytes in up to most files, before a
// store. What was on it is found again; what does not fit goes, the least used first.
// tell is told when something cannot be kept; it may be called from any goroutine.
func (c *Cache) Shelf(name string, limit int64, most int, store storage.Store, tell func(error),
) (*Shelf, error) {
	s := &Shelf{Store: store, folder: filepath.Join(c.folder, name), limit: limit, most: most, tell: tell,
		byAge: list.New(), known: map[string]*list.Element{}}
	if err := os.MkdirAll(s.folder, 0o700); err != nil {
		return nil, err
	}

	// What is there says in its times when it was used last, to an hour or so.
	var found []*copied
	err := filepath.WalkDir(s.folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		if strings.HasPrefix(entry.Name(), temporary) {
			return os.Remove(path) // of a process that died
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		found = append(found, &copied{strings.ReplaceAll(entry.Name(), "+", "/"), info.Size(),
			info.ModTime()})
		return nil
	})
	if err != nil {
		return nil, err
	}

	slices.SortFunc(found, func(a, b *copied) int { return b.touched.Compare(a.touched) })
	for _, one := range found {
		s.known[one.key] = s.byAge.PushBack(one)
		s.held += one.size
	}
	s.mutex.Lock()
	s.shrink()
	s.mutex.Unlock()
	return s, nil
}

// path is where the copy of what is kept under a key lies.
func (s *Shelf) path(key string) string {
	return filepath.Join(s.folder, digest.Of([]byte(key)).String()[:2], flat(key))
}

// Get implements storage.Store.
func (s *Shelf) Get(ctx context.Context, key string) ([]byte, error) {
	if size, ok := s.use(key); ok {
		data, err := os.ReadFile(s.path(key))
		if err == nil && int64(len(data)) == size {
			return data, nil
		}
		s.Drop(key) // somebody removed it, or a loss of power took its end
	}
	data, err := s.Store.Get(ctx, key)
	if err == nil && isWhole(key, digest.Of(data)) {
		s.keep(key, int64(len(data)), func(path string) error { return write(path, data, false) })
	}
	return data, err
}

// Slice implements storage.Slicer. What is not here yet is fetched whole.
func (s *Shelf) Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error) {
	// Twice: a copy may be taken away between being fetched and being read.
	for range 2 {
		if size, ok := s.use(key); ok {
			data, err := s.read(key, size, offset, length)
			if err == nil {
				return data, nil
			}
			s.Drop(key)
		}
		if s.isRefused(key) {
			break
		}
		// Several that want slices of it wait for the same.
		result := s.flight.DoChan(key, func() (any, error) { return nil, s.fetch(ctx, key) })
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case done := <-result:
			if errors.Is(done.Err, errNotKept) {
				s.refuse(key)
				return storage.Slice(ctx, s.Store, key, offset, length)
			}
			if done.Err != nil {
				return nil, done.Err
			}
		}
	}
	return storage.Slice(ctx, s.Store, key, offset, length)
}

// refuse notes that what is kept under a key is not fetched whole for a while: it was,
// and could not be kept, so each slice would cost all of it.
func (s *Shelf) refuse(key string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.refused == nil || len(s.refused) >= refusedMost {
		s.refused = map[string]time.Time{}
	}
	s.refused[key] = time.Now().Add(refusedFor)
}

// isRefused reports whether what is kept under a key is not fetched whole now.
func (s *Shelf) isRefused(key string) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return time.Now().Before(s.refused[key])
}

// For how long it is remembered that something was not kept, and of how much.
const refusedFor, refusedMost = time.Minute, 1000

// read reads a slice of a copy.
func (s *Shelf) read(key string, size, offset int64, length int) ([]byte, error) {
	file, err := os.Open(s.path(key))
	if err != nil {
		return nil, err
	}
	defer file.Close() //nolint:errcheck // read only

	// Only as much as there is: an offset may lie beyond the end.
	data := make([]byte, max(0, min(int64(length), size-offset)))
	n, err := file.ReadAt(data, offset)
	if n == len(data) {
		err = nil
	}
	return data[:n], err
}

// errNotKept: what was read could not be kept, and can be read from the store.
var errNotKept = errors.New("not kept")

// fetch reads what is kept under a key from the store to the end, window by window,
// and keeps it. An object that is not what its name says is not kept: whoever reads
// it finds that out.
func (s *Shelf) fetch(ctx context.Context, key string) error {
	file, err := os.CreateTemp(s.folder, temporary)
	if err != nil {
		s.tell(fmt.Errorf("the cache cannot be written: %w", err))
		return errNotKept
	}
	defer os.Remove(file.Name()) //nolint:errcheck // it was renamed, or is of no use
	defer file.Close()           //nolint:errcheck // closed below

	sum, size, err := s.fill(ctx, file, key)
	if err != nil {
		return err
	}
	if err := file.Close(); err != nil {
		s.tell(fmt.Errorf("the cache cannot be written: %w", err))
		return errNotKept
	}

	// One that takes up a quarter of the room would drive out too much.
	if !isWhole(key, digest.Digest(sum.Sum(nil))) || size > s.limit/4 {
		return errNotKept
	}
	if !s.keep(key, size, func(path string) error { return os.Rename(file.Name(), path) }) {
		return errNotKept
	}
	return nil
}

// fill copies what is kept under a key into a file.
func (s *Shelf) fill(ctx context.Context, file io.Writer, key string) (sum hash.Hash, size int64, err error) {
	sum = sha256.New()
	for {
		data, err := storage.Slice(ctx, s.Store, key, size, windowSize)
		if err != nil {
			return nil, 0, err
		}
		sum.Write(data)
		if _, err := file.Write(data); err != nil {
			s.tell(fmt.Errorf("the cache cannot be written: %w", err))
			return nil, 0, errNotKept
		}
		size += int64(len(data))
		storage.Moved(ctx)
		if len(data) < windowSize || size > 8*storage.MaxObject {
			return sum, size, nil
		}
	}
}

// isWhole reports whether bytes with a digest may lie under a key: what is no object
// has no digest in its name.
func isWhole(key string, d digest.Digest) bool {
	return !strings.HasPrefix(key, storage.ObjectsKey+"/") || d.Key() == key
}

// use reports whether there is a copy, which then counts as used last, and its size.
func (s *Shelf) use(key string) (size int64, ok bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	element, ok := s.known[key]
	if !ok {
		return 0, false
	}
	s.byAge.MoveToFront(element)
	one := element.Value.(*copied)
	if now := time.Now(); now.Sub(one.touched) > touchEvery {
		one.touched = now
		os.Chtimes(s.path(key), now, now) //nolint:errcheck // it may go a little sooner
	}
	return one.size, true
}

// keep puts a copy on the shelf with place, and reports whether it is there.
func (s *Shelf) keep(key string, size int64, place func(path string) error) bool {
	// The folder may have been removed by somebody who wanted room.
	path := s.path(key)
	err := os.MkdirAll(filepath.Dir(path), 0o700)
	if err == nil {
		err = place(path)
	}
	if err != nil {
		s.tell(fmt.Errorf("the cache cannot be written: %w", err))
		return false
	}

	s.mutex.Lock()
	defer s.mutex.Unlock()
	// Somebody else was as fast, with the same bytes.
	if _, ok := s.known[key]; ok {
		return true
	}
	s.known[key] = s.byAge.PushFront(&copied{key, size, time.Now()})
	s.held += size
	s.shrink()
	return true
}

// shrink removes what was used the longest ago until the rest fits.
func (s *Shelf) shrink() {
	for s.byAge.Len() > 0 && (s.held > s.limit || s.byAge.Len() > s.most) {
		s.remove(s.byAge.Back())
	}
}

// remove takes a copy off the shelf.
func (s *Shelf) remove(element *list.Element) {
	gone := s.byAge.Remove(element).(*copied)
	delete(s.known, gone.key)
	s.held -= gone.size
	os.Remove(s.path(gone.key)) //nolint:errcheck // what stays is found at the next start
}

// Drop removes the copy of what is kept under a key, and reports whether there was
// one.
func (s *Shelf) Drop(key string) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	element, ok := s.known[key]
	if ok {
		s.remove(element)
	}
	return ok
}

// Held returns how many bytes and files are on the shelf.
func (s *Shelf) Held() (bytes int64, files int) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.held, s.byAge.Len()
}

// Kept returns the copy of what is kept under a key, without asking the store; nil if
// there is none.
func (s *Shelf) Kept(key string) []byte {
	size, ok := s.use(key)
	if !ok {
		return nil
	}
	data, err := os.ReadFile(s.path(key))
	if err != nil || int64(len(data)) != size {
		s.Drop(key)
		return nil
	}
	return data
}

// Keep puts something on the shelf that was not read through it.
func (s *Shelf) Keep(key string, data []byte) {
	s.keep(key, int64(len(data)), func(path string) error { return write(path, data, false) })
}
