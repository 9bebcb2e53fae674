package httpanswer

import (
	"context"
	"errors"
	"io"
	"runtime"
	"time"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	core "orilla.example/orilla/internal/core/variants"
)

// Variant is the content of a file in a coding. Its bytes are shared: they must not be
// changed, and Done tells that they are used no longer.
type Variant struct {
	Coding coding.Coding
	Data   []byte
	Sum    digest.Digest // of Data; only as much of it as an entity tag names
	done   func()
}

// Done says that the bytes are used no longer.
func (v Variant) Done() {
	if v.done != nil {
		v.done()
	}
}

// Encoding is how Objects come by variants. Kept, Stored and Want may be nil, and then
// visitors get what can be made in a moment.
//
//	memory:        best, else fast
//	this machine:  Kept, proved again each time it is read
//	the store:     Stored, while the content is fetched, and little longer
//	made now:      fast; then Want tells whoever makes the best
type Encoding struct {
	// Kept returns a variant that is on this machine; nil for none. It is proved before
	// it is used, and Bad is told if it is not what its name says.
	Kept func(key string) []byte
	// Stored returns a variant that the store has, proved; nil if it has none that is good.
	Stored func(ctx context.Context, w core.Wanted) ([]byte, error)
	// Want is told what visitors ask for, and whether the store is known to lack it; it does
	// not block.
	Want func(w core.Wanted, lacking bool)
	Bad  func(key string, err error)
}

// variants are the encoded copies among Objects, under their mutex.
//
//	best   from Adopt: made by whoever has time, or found
//	fast   made for the first who asks
//
// Both lie on the shelf of content as pieces that begin with a part of their digest. Those
// that are small are in use for a moment. A large one may be in use for as long as a
// visitor takes: it is counted, and beyond a quarter of the memory nobody gets another.
type variants struct {
	*Objects
	Encoding
	encoders  chan struct{} // bounds how many encode at once
	large     chan struct{} // of objects that take long
	inUse     map[pieceKey]*use
	usedBytes int64
}

// use counts who sends a large variant.
type use struct {
	count int
	size  int64
}

// sumLength is how much of its digest a piece begins with.
const sumLength = 16

// largeSource is from what size on objects are encoded one at a time while visitors wait.
const largeSource = 512 << 10

// variantKey is under what a variant is kept in memory.
func variantKey(d digest.Digest, c coding.Coding, level coding.Level) pieceKey {
	const first = -10 // below whole and sums
	return pieceKey{d, first - 2*int(c) - int(level)}
}

// Encode has Objects send content in codings. Call it before any is read.
func (o *Objects) Encode(how Encoding) {
	o.variants = &variants{Objects: o, Encoding: how, encoders: make(chan struct{}, runtime.GOMAXPROCS(0)),
		large: make(chan struct{}, 1), inUse: map[pieceKey]*use{}}
}

// Variant returns a file in the first of some codings in which it is there. If it is in
// none, it is encoded at once, as fast as that goes. It returns false where the file is to
// be sent as it is: it does not gain, or everybody who could encode is busy.
func (o *Objects) Variant(ctx context.Context, file release.File, codings []coding.Coding) (Variant, bool) {
	if o.variants == nil || len(codings) == 0 || len(file.Parts) > 0 {
		return Variant{}, false
	}
	if found, known := o.variants.held(file.Digest, codings); known {
		return found, found.Data != nil
	}
	c := codings[0]
	if data := o.variants.kept(file, c); data != nil {
		o.Adopt(file.Digest, c, data)
	} else if !o.variants.encode(ctx, file, c) {
		return Variant{}, false
	}
	found, _ := o.variants.held(file.Digest, codings)
	return found, found.Data != nil
}

// held returns a variant that is in memory; without data, and known, of content that does
// not gain.
func (v *variants) held(d digest.Digest, codings []coding.Coding) (found Variant, known bool) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	for _, c := range codings {
		for _, level := range []coding.Level{coding.Best, coding.Fast} {
			if found, known = v.under(variantKey(d, c, level), c); known {
				return found, true
			}
		}
	}
	return Variant{}, false
}

// under is held of one key.
func (v *variants) under(key pieceKey, c coding.Coding) (found Variant, known bool) {
	element, ok := v.content.known[key]
	if !ok {
		return Variant{}, false
	}
	v.content.byAge.MoveToFront(element)
	data := element.Value.(*piece).data
	if len(data) == sumLength || !v.takeUp(key, data) {
		return Variant{}, true
	}
	found = Variant{Coding: c, Data: data[sumLength:]}
	copy(found.Sum[:], data[:sumLength])
	if len(data) > sliceSize {
		found.done = func() { v.layDown(key) }
	}
	return found, true
}

// takeUp counts a user of a large variant, if there is room.
func (v *variants) takeUp(key pieceKey, data []byte) bool {
	if len(data) <= sliceSize {
		return true
	}
	u := v.inUse[key]
	if u == nil {
		if v.usedBytes+int64(len(data)) > v.content.limit/4 {
			return false
		}
		u = &use{size: int64(len(data))}
		v.inUse[key] = u
		v.usedBytes += u.size
	}
	u.count++
	return true
}

// layDown ends what takeUp began.
func (v *variants) layDown(key pieceKey) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if u := v.inUse[key]; u != nil {
		if u.count--; u.count == 0 {
			v.usedBytes -= u.size
			delete(v.inUse, key)
		}
	}
}

// used returns how many bytes are in use besides those on the shelf, at most.
func (v *variants) used() int64 {
	if v == nil {
		return 0
	}
	return v.usedBytes
}

// Adopt keeps the best variant of an object in memory. Whoever calls it has proved it;
// nil is one of content that does not gain.
func (o *Objects) Adopt(d digest.Digest, c coding.Coding, data []byte) {
	o.variants.keepVariant(variantKey(d, c, coding.Best), data)
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if element, ok := o.content.known[variantKey(d, c, coding.Fast)]; ok {
		o.content.remove(element)
	}
}

// keepVariant keeps a variant in memory.
func (v *variants) keepVariant(key pieceKey, data []byte) {
	with := make([]byte, sumLength, sumLength+len(data))
	if data != nil {
		sum := digest.Of(data)
		copy(with, sum[:])
	}
	v.keep(key, append(with, data...))
}

// kept returns a variant that is on this machine and is what its name says.
func (v *variants) kept(file release.File, c coding.Coding) []byte {
	if v.Kept == nil {
		return nil
	}
	key := coding.Key(file.Digest, c)
	data := v.Kept(key)
	if data == nil {
		return nil
	}
	if err := coding.Verify(c, data, file.Digest, file.Size); err != nil {
		v.Bad(key, err)
		return nil
	}
	return data
}

// encode makes a variant for a visitor who waits, and reports whether one was made, or is
// known not to gain.
func (v *variants) encode(ctx context.Context, file release.File, c coding.Coding) bool {
	w := core.Wanted{Of: file.Digest, Size: file.Size, Coding: c}
	found, made := stored{}, false
	there := v.once(ctx, variantKey(file.Digest, c, coding.Fast), file.Size, func() ([]byte, error) {
		look := v.look(w)
		began := time.Now()
		content, err := v.patiently(ctx, file.Digest, v.patience)
		if err != nil {
			return nil, err // told to whoever sends the content as it is
		}
		// What the store has is smaller than what can be made in a moment, and takes about as
		// long as the content did.
		if found = look(storedWait + time.Since(began)); found.data != nil {
			return found.data, nil
		}
		data, err := coding.Encode(c, coding.Fast, content)
		made = err == nil
		return data, err
	})
	// It was kept as the fast one for a moment, so that whoever waited has it.
	switch {
	case found.data != nil:
		v.Adopt(file.Digest, c, found.data)
	case made && v.Want != nil:
		v.Want(w, found.lacking)
	}
	return there
}

// stored is what the store said of a variant: neither, if it has not said anything.
type stored struct {
	data    []byte
	lacking bool
}

// storedWait is how long a visitor waits for a variant when the content is there.
const storedWait = 30 * time.Millisecond

// look begins to look for a variant in the store, and returns what waits for it.
func (v *variants) look(w core.Wanted) func(time.Duration) stored {
	if v.Stored == nil {
		return func(time.Duration) stored { return stored{} }
	}
	came := make(chan stored, 1)
	go func() {
		// It goes on when nobody waits any more, as fetching content does.
		ctx, cancel := context.WithTimeout(context.Background(), v.patience)
		defer cancel()
		data, err := v.Stored(ctx, w)
		came <- stored{data, err == nil && data == nil}
	}()
	return func(wait time.Duration) stored {
		timer := time.NewTimer(wait)
		defer timer.Stop()
		select {
		case found := <-came:
			return found
		case <-timer.C:
			return stored{}
		}
	}
}

// once has something encoded of so many bytes, and keeps it under a key; it reports whether
// it is there then, or is known not to gain. Several who want the same wait for one.
func (v *variants) once(ctx context.Context, key pieceKey, size int64, encode func() ([]byte, error)) bool {
	// Large ones one at a time: several would keep all processors from visitors.
	slots, wait := v.encoders, slotWait
	if size > largeSource {
		slots, wait = v.large, 0
	}
	if f, _ := v.fly(key, false); f != nil {
		return f.arrives(ctx)
	}
	if !slot(ctx, slots, wait) {
		return false
	}
	f, mine := v.fly(key, true)
	if !mine {
		<-slots
		return f.arrives(ctx)
	}
	defer func() {
		<-slots
		v.mutex.Lock()
		delete(v.flights, key)
		v.mutex.Unlock()
		close(f.done)
	}()

	data, err := encode()
	if err != nil && !errors.Is(err, coding.ErrGainless) {
		return false
	}
	v.keepVariant(key, data)
	f.err = nil
	return true
}

// fly returns the encoding of a variant that goes on, and begins one if there is none and
// begin says so; mine tells that it did.
func (v *variants) fly(key pieceKey, begin bool) (f *flight, mine bool) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if f, ok := v.flights[key]; ok || !begin {
		return f, false
	}
	f = &flight{done: make(chan struct{}), err: ErrSlow}
	v.flights[key] = f
	return f, true
}

// arrives waits for an encoding, and reports whether it came to something.
func (f *flight) arrives(ctx context.Context) bool {
	select {
	case <-f.done:
		return f.err == nil
	case <-ctx.Done():
		return false
	}
}

// slotWait is how long a visitor waits for a processor: encoding what is not large takes
// some milliseconds, and saves more than that on the way. After that the content goes as it
// is, which always can be done.
const slotWait = 100 * time.Millisecond

// slot takes one of some slots, and reports whether one was free in time.
func slot(ctx context.Context, slots chan struct{}, wait time.Duration) bool {
	select {
	case slots <- struct{}{}:
		return true
	default:
	}
	if wait == 0 {
		return false
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case slots <- struct{}{}:
		return true
	case <-timer.C:
	case <-ctx.Done():
	}
	return false
}

// EncodeNow encodes the content of a file for one visitor, as fast as that goes, and keeps
// nothing. It returns false where the file is to be sent as it is.
func EncodeNow(from io.Reader, file release.File, codings []coding.Coding) (Variant, bool) {
	if len(codings) == 0 || file.Size > coding.Most {
		return Variant{}, false
	}
	content, err := io.ReadAll(io.LimitReader(from, file.Size+1))
	if err != nil || int64(len(content)) != file.Size {
		return Variant{}, false
	}
	data, err := coding.Encode(codings[0], coding.Fast, content)
	if err != nil {
		return Variant{}, false
	}
	v := Variant{Coding: codings[0], Data: data}
	sum := digest.Of(data)
	copy(v.Sum[:sumLength], sum[:])
	return v, true
}
