package journal

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// ErrEmpty: the environment has no entry yet.
var ErrEmpty = errors.New("nothing was ever deployed there")

// ErrInDoubt: whether an entry was written could not be
// learnt, because the store stopped answering.
var ErrInDoubt = errors.New("the store stopped answering while the entry was written")

// Journal is the journal of one environment.
type Journal struct {
	Store       storage.Store
	Site        string
	Environment string
	Attempt     func() string    // makes a random text that no other call makes
	Now         func() time.Time // the writer's clock
}

// Get returns entry n, or storage.ErrNotFound.
//
// The error is ErrDamaged or ErrUnknown for one that cannot be read, with the
// number in the entry all the same.
func (j *Journal) Get(ctx context.Context, n int64) (Entry, error) {
	data, err := j.Store.Get(ctx, storage.JournalKey(j.Site, j.Environment, n))
	if err != nil {
		return Entry{}, err
	}
	entry, err := Decode(data, j.Site, j.Environment, n)
	entry.sum = digest.Of(data)
	return entry, err
}

// HeadNumber returns the number of the last entry, 0 if there is none. hint is
// as storage.LastNumber takes it.
//
// It asks whether numbers are there and reads none of them.
func (j *Journal) HeadNumber(ctx context.Context, hint int64) (int64, error) {
	if hint == 0 {
		hint = ReadHints(ctx, j.Store, j.Site)[j.Environment]
	}
	return storage.LastNumber(ctx, hint, j.exists)
}

// exists reports whether entry n was written. Entries are never removed one by
// one, so what was there once is there still.
func (j *Journal) exists(ctx context.Context, n int64) (bool, error) {
	_, err := j.Store.Stat(ctx, storage.JournalKey(j.Site, j.Environment, n))
	if errors.Is(err, storage.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Head returns the last entry, or ErrEmpty. A hint that is
// right, or a few entries old, costs one read more than
// the entries that came since; see HeadNumber for others.
func (j *Journal) Head(ctx context.Context, hint int64) (Entry, error) {
	// Entries are never removed while the site lives, so a hint that names one
	// is a place to begin from, however old it is. Mostly it is the last one: that
	// there is no next is asked at the same time.
	if hint == 0 {
		hint = ReadHints(ctx, j.Store, j.Site)[j.Environment]
	}
	if hint > 0 {
		var next Entry
		var none error
		var group sync.WaitGroup
		group.Go(func() { next, none = j.Get(ctx, hint+1) })
		entry, err := j.Get(ctx, hint)
		group.Wait()
		switch {
		case err == nil && errors.Is(none, storage.ErrNotFound):
			return entry, nil
		case err == nil && none == nil:
			return j.following(ctx, next)
		case err == nil && ctx.Err() == nil:
			return Entry{}, none
		case ctx.Err() != nil:
			return Entry{}, errors.Join(err, none)
		}
	}

	n, err := storage.LastNumber(ctx, 0, j.exists)
	if err != nil {
		return Entry{}, err
	}
	if n == 0 {
		return Entry{}, ErrEmpty
	}
	return j.Get(ctx, n)
}

// ErrBehind: the journal does not go on from an entry that was there: it ends
// before, or another one has its place.
var ErrBehind = errors.New("the journal does not go on from what it was")

// From returns the last entry of a journal that goes on from an entry that was
// there, or ErrBehind. It costs what Head costs with a hint.
//
// An edge node asks this: an entry that is gone, or another one than it was,
// means that the store is not what it was.
func (j *Journal) From(ctx context.Context, known Entry) (Entry, error) {
	entry, err := j.Get(ctx, known.Number)
	if errors.Is(err, storage.ErrNotFound) || err == nil && entry.Attempt != known.Attempt {
		return Entry{}, fmt.Errorf("%w: %s", ErrBehind, known.Label())
	}
	if err != nil {
		return Entry{}, err
	}
	return j.following(ctx, entry)
}

// After returns the last entry of a journal, of which known was read before: known
// itself if nothing follows. It costs one read less than From, and does not notice
// that known is gone as long as nothing follows. The error is ErrBehind if what
// follows does not go on from it.
func (j *Journal) After(ctx context.Context, known Entry) (Entry, error) {
	next, err := j.Get(ctx, known.Number+1)
	switch {
	case errors.Is(err, storage.ErrNotFound):
		return known, nil
	case err != nil:
		return Entry{}, err
	case !known.sum.IsZero() && next.Previous != known.sum:
		return Entry{}, fmt.Errorf("%w: %s", ErrBehind, known.Label())
	}
	return j.following(ctx, next)
}

// Expecting is After where somebody has said that the last entry has a number. If that is the
// next one, it and what might follow it are asked for side by side: to a store far away that
// is half the time. A number that is wrong costs nothing more than After.
func (j *Journal) Expecting(ctx context.Context, known Entry, number int64) (Entry, error) {
	if number != known.Number+1 {
		return j.After(ctx, known)
	}
	var beyond Entry
	var behind error
	var asking sync.WaitGroup
	asking.Go(func() { beyond, behind = j.Get(ctx, number+1) })
	next, err := j.Get(ctx, number)
	asking.Wait()
	switch {
	case errors.Is(err, storage.ErrNotFound) && errors.Is(behind, storage.ErrNotFound):
		return known, nil
	// One that came between the two questions: asked in order, the answer is certain.
	case err != nil, behind != nil && !errors.Is(behind, storage.ErrNotFound):
		return j.After(ctx, known)
	case !known.sum.IsZero() && next.Previous != known.sum:
		return Entry{}, fmt.Errorf("%w: %s", ErrBehind, known.Label())
	case behind == nil:
		return j.following(ctx, beyond)
	}
	return next, nil
}

// following walks on from an entry to the last one.
func (j *Journal) following(ctx context.Context, entry Entry) (Entry, error) {
	// Mostly there is none or one more. After four, a search that doubles its
	// steps is faster.
	for range 4 {
		next, err := j.Get(ctx, entry.Number+1)
		if errors.Is(err, storage.ErrNotFound) {
			return entry, nil
		}
		if err != nil {
			return Entry{}, err
		}
		entry = next
	}

	n, err := j.HeadNumber(ctx, entry.Number)
	if err != nil || n == entry.Number {
		return entry, err
	}
	return j.Get(ctx, n)
}

// Counting returns the newest entry at or before head that
// counts at a time; ErrEmpty if none does.
func (j *Journal) Counting(ctx context.Context, head Entry, now time.Time) (Entry, error) {
	if head.Counts(now) {
		return head, nil
	}
	for entry, err := range j.Back(ctx, head.Number-1) {
		if err != nil {
			return Entry{}, err
		}
		if entry.Counts(now) {
			return entry, nil
		}
	}
	return Entry{}, ErrEmpty
}

// Back yields the entries from number n down to 1. An entry that cannot be read
// is yielded with its error, and the walk goes on below it.
//
// The first is read alone. Whoever goes on wants more, so the next are read twice as
// many at once each time, up to what the store is good for: a few more may be read
// than are yielded.
func (j *Journal) Back(ctx context.Context, n int64) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		most := int64(storage.Parallel(j.Store))
		for width := int64(1); n > 0; width = min(2*width, most) {
			width = min(width, n)
			entries, errs := make([]Entry, width), make([]error, width)
			var group sync.WaitGroup
			for i := range width {
				number := n - i
				read := func() {
					entries[i], errs[i] = j.Get(ctx, number)
					entries[i].Number = number
				}
				if width == 1 {
					read()
					continue
				}
				group.Go(read)
			}
			group.Wait()

			for i := range width {
				if !yield(entries[i], errs[i]) || ctx.Err() != nil {
					return
				}
			}
			n -= width
		}
	}
}

// LeftBy returns the rollback by which what is live came to be, and tells of an
// entry, by left, whether that rollback left it behind. It returns false if
// what is live was not chosen by a rollback.
func (j *Journal) LeftBy(ctx context.Context, head Entry, left func(Entry) bool,
) (rollback, entry Entry, found bool) {
	rollback = j.Current(ctx, head)
	if rollback.Kind != Rollback {
		return Entry{}, Entry{}, false
	}
	for entry, err := range j.Back(ctx, rollback.Number-1) {
		if entry.Number <= rollback.Reactivates {
			break
		}
		if err == nil && entry.Kind.Activates() && left(entry) {
			return rollback, entry, true
		}
	}
	return rollback, Entry{}, false
}

// Decide makes the entry that should follow head, which is nil in an empty
// journal. Append fills in the fields that say where and when. It may be called
// several times, each time with a newer head.
type Decide func(head *Entry) (Entry, error)

// tries is how often Append reads back and decides again before it gives up on
// a store that answers nothing but errors.
const tries = 5

// Append writes the next entry. after is the last one as far as the
// caller knows: an entry that was read, one of which only the number
// is set as a hint, or none. Whoever loses a race reads the winner and
// decides again; after an unclear answer the number is read back: the
// writer's own attempt is success, another's a lost race, nothing
// means try again. The error is what decide returned, or what the
// store did; ErrInDoubt if the store answers neither the write nor the
// reading back, or none of the tries, so that one may still arrive.
//
// All tries of one call are one attempt: a request of
// which nothing is known may arrive long after another was
// made, and then the decision has been carried out, once.
//
// It is safe to call from any number of processes at once. The error is
// decide's, or ErrInDoubt if the store stopped answering at a moment that
// leaves open whether the entry counts.
func (j *Journal) Append(ctx context.Context, after Entry, decide Decide) (Entry, error) {
	// One attempt for all tries of this decision: an entry that carries it is
	// ours, whichever try wrote it.
	failures, attempt, unclear := 0, j.Attempt(), int64(0) // the number of a try of which nothing is known
	for {
		head := &after
		if after.sum.IsZero() {
			last, err := j.Head(ctx, after.Number)
			switch {
			case err == nil:
				head = &last
			case errors.Is(err, ErrEmpty):
				head = nil
			case unclear > 0:
				return Entry{}, inDoubt(Entry{Environment: j.Environment, Number: unclear}, err)
			default:
				return Entry{}, err
			}
		}

		// A try whose answer was lost may have landed since. It has to be found
		// before another one is made.
		if own, err := j.landed(ctx, unclear, head); own.Attempt == attempt || err != nil {
			return own, err
		}
		// Asked with each new head, so a decision is never about a state that
		// is over.
		entry, err := decide(head)
		if err != nil && !after.sum.IsZero() {
			after = Entry{Number: after.Number} // what refuses may be over since that was read
			continue
		}

		j.place(&entry, head)
		if err != nil && entry.Number == unclear {
			err = inDoubt(entry, err) // the number is free, and the earlier try may still take it
		}
		if err != nil {
			return Entry{}, err
		}

		entry.Attempt = attempt
		written, err := j.write(ctx, &entry)
		if written {
			return entry, nil
		}

		after = Entry{Number: entry.Number - 1} // somebody was faster
		if err != nil {
			// A refusal is clear: nothing was written. Of anything else it
			// cannot be known.
			refused := errors.Is(err, storage.ErrReadOnly) || errors.Is(err, storage.ErrDenied) ||
				errors.Is(err, storage.ErrCredentials)
			if !refused {
				unclear = entry.Number // any earlier one is taken by now
			}

			if failures++; refused || errors.Is(err, ErrInDoubt) {
				return Entry{}, err
			}
			if failures == tries || ctx.Err() != nil {
				return Entry{}, inDoubt(entry, err)
			}
		}
	}
}

// landed returns the entry that is now under the number of which nothing was
// known, if there is one: its attempt tells whose it is.
func (j *Journal) landed(ctx context.Context, unclear int64, head *Entry) (Entry, error) {
	if unclear == 0 || head == nil || head.Number < unclear {
		return Entry{}, nil // should it land now, then the next try finds it
	}
	own, err := j.Get(ctx, unclear)
	if err != nil {
		return Entry{}, inDoubt(Entry{Environment: j.Environment, Number: unclear}, err)
	}
	return own, nil
}

// place gives an entry its place in the journal, after head or, where that is
// nil, as the first: its number, its time, and the digest of the entry before,
// which makes the journal a chain.
func (j *Journal) place(entry *Entry, head *Entry) {
	entry.Format, entry.Site, entry.Environment = entry.formatOf(), j.Site, j.Environment
	entry.Number, entry.When = 1, j.Now().UTC().Truncate(time.Millisecond)
	if head != nil {
		entry.Number, entry.Previous = head.Number+1, head.sum
	}
}

// write creates the entry and reports whether it is there. Without an error,
// false means that another writer was faster.
func (j *Journal) write(ctx context.Context, entry *Entry) (bool, error) {
	data, err := entry.Encode()
	if err != nil {
		return false, err
	}
	entry.sum = digest.Of(data)
	// The moment at which visitors get something else.
	failed := j.Store.Create(ctx, storage.JournalKey(j.Site, j.Environment, entry.Number), data)
	if failed == nil {
		return true, nil
	}

	// The caller may have been interrupted; what became of
	// the entry must be known all the same.
	check, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	there, err := j.Get(check, entry.Number)
	switch {
	case err == nil && there.Attempt == entry.Attempt:
		*entry = there // an earlier try may have been the one that arrived
		return true, nil
	case err == nil:
		return false, nil
	case errors.Is(err, storage.ErrNotFound):
		return false, failed
	case errors.Is(err, ErrDamaged), errors.Is(err, ErrUnknown):
		return false, err
	}

	return false, inDoubt(*entry, failed)
}

// inDoubt is the error of an entry of which nobody knows whether it was
// written.
func inDoubt(entry Entry, failed error) error {
	return fmt.Errorf("%w: %s: %w", ErrInDoubt, entry.Label(), failed)
}
