// Package httpanswer turns an answer into HTTP: it sends files with their
// validators and ranges, passes requests on to upstreams, and writes the pages
// that Orilla itself has to show.
//
//	request := httpanswer.RequestOf(r, base, environment, now)
//	a, err := answer.Decide(ctx, request, site)   // what
//	err = httpanswer.Respond(w, r, a, objects)    // how: RFC 9110, 9111
//	err = proxies.Pass(w, r, a, upstreams)        // or who else
//
// It is one half of every server of Orilla's: an edge node and the development
// server differ in where files come from and not in how they are sent. Objects is
// a bounded memory of what the store holds, with one fetch for any number of
// visitors who want the same.
package httpanswer

import (
	"container/list"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// ErrDamaged: the bytes of an object are not what its name
// says. They are never sent.
var ErrDamaged = errors.New("damaged object")

// ErrSlow: the store did not answer in the time that a visitor waits. What was asked
// for goes on being fetched, for whoever asks next.
var ErrSlow = errors.New("the store did not answer in time")

// Objects reads objects from a store, verifies each, and keeps what was used last in
// memory: small ones whole, large ones in slices. What a reader has in use is not
// held besides, so what it is given for memory is what it takes. It is safe for
// concurrent use.
//
//	an object of 8 MiB --> read once, window by window: its digest is compared, and
//	                       the sums of its slices are kept
//	a slice of it      --> from memory, or read alone and compared with its sum
type Objects struct {
	store    storage.Store
	patience time.Duration
	loads    chan struct{} // bounds how many reads go on at once
	seed     maphash.Seed  // of the sums of slices
	moved    atomic.Int64  // when anything came, in nanoseconds

	mutex   sync.Mutex
	content shelf // objects and slices
	sums    shelf // what large objects were when they were compared: without it they are read again
	flights map[pieceKey]*flight

	variants *variants // nil: content is sent as it is
}

// shelf keeps what was used last. It belongs to whoever has the mutex.
type shelf struct {
	limit int64 // of bytes
	held  int64
	byAge *list.List // of *piece, used last first
	known map[pieceKey]*list.Element
}

// newShelf returns an empty shelf.
func newShelf(limit int64) shelf {
	return shelf{limit: limit, byAge: list.New(), known: map[pieceKey]*list.Element{}}
}

// shelfOf is where a piece is kept.
func (o *Objects) shelfOf(key pieceKey) *shelf {
	if key.slice == sums {
		return &o.sums
	}
	return &o.content
}

// The sizes that large objects are read in.
const (
	sliceSize  = 128 << 10 // what a range costs
	windowSize = 4 * sliceSize
	loadsLeast = 4
	loadsMost  = 32
	sumsLeast  = 256 << 10
	// loadTimeout ends a read that nobody waits for any more.
	loadTimeout = time.Minute
)

// pieceKey names what is kept: an object, the sums of its slices, or one of them.
type pieceKey struct {
	digest digest.Digest
	slice  int // or one of those below
}

const (
	whole = -1
	sums  = -2
)

// sumSize is how long the sum of a slice is: a hash under a key that nobody outside this
// process knows, of what was compared with its digest before. It costs a hundredth of a
// SHA-256, which every object gets once.
const sumSize = 8

// sumOf appends the sum of a slice.
func (o *Objects) sumOf(to, slice []byte) []byte {
	return binary.LittleEndian.AppendUint64(to, maphash.Bytes(o.seed, slice))
}

// piece is what is kept in memory.
type piece struct {
	key  pieceKey
	data []byte
}

// overhead is about what keeping a piece takes besides its bytes.
const overhead = 300

// flight is a read that several may wait for.
type flight struct {
	done   chan struct{}
	data   []byte
	err    error
	moved  atomic.Int64 // when something came, in nanoseconds
	queued atomic.Bool  // others are read first
}

// Dropper is a Store before a store: it keeps copies, of which one may be damaged.
type Dropper interface {
	// Drop forgets the copy of what is kept under key, and reports whether there
	// was one.
	Drop(key string) bool
}

// NewObjects returns what reads objects of a store and keeps up to limit bytes
// of them in memory. patience is how long a caller waits while nothing comes; 0 is
// for ever.
func NewObjects(store storage.Store, limit int64, patience time.Duration) *Objects {
	loads := min(max(limit/(8*windowSize), loadsLeast), loadsMost)
	return &Objects{store: store, patience: patience, loads: make(chan struct{}, loads),
		seed: maphash.MakeSeed(), content: newShelf(limit), sums: newShelf(max(limit/8, sumsLeast)),
		flights: map[pieceKey]*flight{}}
}

// Held returns how many bytes of content are kept in memory, and how many may be.
func Held(o *Objects) (bytes, most int64) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	return o.content.held, o.content.limit
}

// Get returns the verified bytes of an object. The caller must
// not change them. Several that ask for the same at once cause
// one read, which does not end with the one who asked first.
//
// The result is shared by all who asked, and must not be changed. The error is
// ErrDamaged, ErrSlow, or the store's.
func (o *Objects) Get(ctx context.Context, d digest.Digest) ([]byte, error) {
	return o.patiently(ctx, d, o.patience)
}

// patiently is Get with another patience.
func (o *Objects) patiently(ctx context.Context, d digest.Digest, patience time.Duration) ([]byte, error) {
	return o.get(ctx, pieceKey{d, whole}, patience, func(ctx context.Context) ([]byte, error) {
		data, err := o.store.Get(ctx, d.Key())
		if err != nil {
			return nil, err
		}
		// Compared before any byte is sent. A damaged store gives errors and
		// never wrong pages.
		if digest.Of(data) != d {
			return nil, fmt.Errorf("%s: %w: its %d bytes have another hash", d.Key(), ErrDamaged, len(data))
		}
		return data, nil
	})
}

// at returns verified bytes of an object of a size from an offset on: one or more, and
// none beyond its end.
func (o *Objects) at(ctx context.Context, d digest.Digest, size, offset int64, patience time.Duration,
) ([]byte, error) {
	if size <= sliceSize {
		data, err := o.patiently(ctx, d, patience)
		if err == nil && int64(len(data)) != size {
			err = fmt.Errorf("%s: %w: it has %d bytes", d.Key(), ErrDamaged, len(data))
		}
		if err != nil {
			return nil, err
		}
		return data[offset:], nil
	}

	sumsOf, err := o.get(ctx, pieceKey{d, sums}, patience, func(ctx context.Context) ([]byte, error) {
		return o.verify(ctx, d, size)
	})
	if err != nil {
		return nil, err
	}
	slice := int(offset / sliceSize)
	data, err := o.get(ctx, pieceKey{d, slice}, patience, func(ctx context.Context) ([]byte, error) {
		return o.slice(ctx, d, slice, sumsOf)
	})
	if err != nil {
		return nil, err
	}
	return data[offset%sliceSize:], nil
}

// slice reads one slice, and compares it with its sum.
func (o *Objects) slice(ctx context.Context, d digest.Digest, slice int, sumsOf []byte) ([]byte, error) {
	data, err := storage.Slice(ctx, o.store, d.Key(), int64(slice)*sliceSize, sliceSize)
	if err != nil {
		return nil, err
	}
	if string(o.sumOf(nil, data)) != string(sumsOf[slice*sumSize:][:sumSize]) {
		// It was whole before, so the copy has changed: the next reader begins anew.
		o.forget(d)
		return nil, fmt.Errorf("%s: %w: its slice %d is another than it was", d.Key(), ErrDamaged, slice)
	}
	return data, nil
}

// verify reads an object from end to end, keeps its slices as far as there is room,
// and returns the sums of all of them.
func (o *Objects) verify(ctx context.Context, d digest.Digest, size int64) ([]byte, error) {
	var sumsOf []byte
	hash, read := sha256.New(), int64(0)
	for read < size {
		data, err := storage.Slice(ctx, o.store, d.Key(), read, windowSize)
		if err != nil {
			return nil, err
		}
		if len(data) == 0 {
			break
		}
		hash.Write(data)
		for at := 0; at < len(data); at += sliceSize {
			part := data[at:min(at+sliceSize, len(data))]
			sumsOf = o.sumOf(sumsOf, part)
			// A copy: a slice that stays must not keep the window.
			o.keep(pieceKey{d, len(sumsOf)/sumSize - 1}, append([]byte(nil), part...))
		}
		read += int64(len(data))
		storage.Moved(ctx)
	}

	// A longer one has one byte more, at least.
	more, err := storage.Slice(ctx, o.store, d.Key(), size, 1)
	if err != nil {
		return nil, err
	}
	if digest.Digest(hash.Sum(nil)) != d || read != size || len(more) > 0 {
		o.forget(d)
		return nil, fmt.Errorf("%s: %w: its %d bytes have another hash", d.Key(), ErrDamaged, read)
	}
	return sumsOf, nil
}

// get returns what is kept under key, or waits for what load reads.
func (o *Objects) get(ctx context.Context, key pieceKey, patience time.Duration,
	load func(context.Context) ([]byte, error),
) ([]byte, error) {
	o.mutex.Lock()
	if element, ok := o.shelfOf(key).known[key]; ok {
		o.shelfOf(key).byAge.MoveToFront(element)
		o.mutex.Unlock()
		came(ctx, FromMemory)
		return element.Value.(*piece).data, nil
	}

	f, ok := o.flights[key]
	if !ok {
		f = &flight{done: make(chan struct{})}
		f.moved.Store(time.Now().UnixNano())
		f.queued.Store(true)
		o.flights[key] = f
		// A page that becomes popular at once is fetched once. The fetch goes on
		// if the visitor who caused it leaves: others wait for it.
		go o.load(context.WithoutCancel(ctx), key, f, load)
	}
	o.mutex.Unlock()

	came(ctx, FromBeyond)
	return o.wait(ctx, f, patience)
}

// load carries out a read, of a copy that is damaged once more from where the copy is
// from.
func (o *Objects) load(ctx context.Context, key pieceKey, f *flight,
	load func(context.Context) ([]byte, error),
) {
	ctx, cancel := context.WithTimeout(ctx, loadTimeout)
	defer cancel()
	progress := func() {
		now := time.Now().UnixNano()
		f.moved.Store(now)
		o.moved.Store(now)
	}
	ctx = storage.WithProgress(ctx, progress)
	select {
	case o.loads <- struct{}{}:
		f.queued.Store(false)
		f.moved.Store(time.Now().UnixNano())
		f.data, f.err = load(ctx)
		if dropper, ok := o.store.(Dropper); ok && errors.Is(f.err, ErrDamaged) &&
			dropper.Drop(key.digest.Key()) {
			f.data, f.err = load(ctx)
		}
		<-o.loads
		progress()
	case <-ctx.Done():
		f.err = ErrSlow
	}

	// Kept before the flight is over: whoever comes in between finds one or the other.
	if f.err == nil {
		o.keep(key, f.data)
	}
	o.mutex.Lock()
	delete(o.flights, key)
	o.mutex.Unlock()
	close(f.done)
}

// wait waits for a read as long as something comes now and then.
func (o *Objects) wait(ctx context.Context, f *flight, patience time.Duration) ([]byte, error) {
	var late <-chan time.Time
	for left := patience; ; {
		if patience > 0 {
			timer := time.NewTimer(left)
			defer timer.Stop()
			late = timer.C
		}
		select {
		case <-f.done:
			return f.data, f.err
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-late:
		}
		// Whoever stands in line waits as long as the line moves.
		moved := f.moved.Load()
		if f.queued.Load() {
			moved = max(moved, o.moved.Load())
		}
		left = patience - time.Since(time.Unix(0, moved))
		if left <= 0 {
			return nil, ErrSlow
		}
	}
}

// forget drops what is kept of an object.
func (o *Objects) forget(d digest.Digest) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	for slice := sums; slice < storage.MaxObject/sliceSize; slice++ {
		key := pieceKey{d, slice}
		if element, ok := o.shelfOf(key).known[key]; ok {
			o.shelfOf(key).remove(element)
		}
	}
}

// remove takes one piece off a shelf.
func (s *shelf) remove(element *list.Element) {
	gone := s.byAge.Remove(element).(*piece)
	delete(s.known, gone.key)
	s.held -= int64(len(gone.data)) + overhead
}

// keep puts a piece into memory, and drops those that were used the longest
// ago until it fits. One that would drive out a quarter of the others is not
// kept.
func (o *Objects) keep(key pieceKey, data []byte) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	s := o.shelfOf(key)
	if _, ok := s.known[key]; ok || int64(len(data)) > s.limit/4 {
		return
	}

	s.known[key] = s.byAge.PushFront(&piece{key, data})
	s.held += int64(len(data)) + overhead
	// What was used the longest ago goes first. What somebody sends for a while is held
	// besides.
	limit := s.limit
	if s == &o.content {
		limit -= o.variants.used()
	}
	for s.held > limit && s.byAge.Len() > 0 {
		s.remove(s.byAge.Back())
	}
}
