// Package storage is the contract between Orilla and whatever keeps its objects,
// releases and journals.
//
// A store maps keys to byte sequences. Everything that matters is created once and
// never changed: objects, releases, build records and journal entries.
//
//	err := store.Create(ctx, storage.JournalKey("corvane", "production", 17), entry)
//	// errors.Is(err, storage.ErrExists): somebody else wrote entry 17
//
// Create is the only operation that concurrent writers have to agree on, and the
// only one that Orilla's correctness rests on. It is durable when it returns, and
// of any number of callers one succeeds. A new engine has to provide just that,
// by a hard link, If-None-Match, or whatever its medium offers; the rest (Get,
// Stat, List, Replace, Delete, batches of objects) may be as simple as it likes.
//
// The engines live in internal/store; storetest.Run holds the test that each must
// pass. Every error of an engine is an *Error with the operation and the key.
package storage

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// MaxObject is the largest sequence of bytes that a store
// is asked to keep under one key: 8 MiB. Larger content is
// cut into parts before it reaches a store.
const MaxObject = 8 << 20

// Error is an operation on a store that failed, in the way of fs.PathError:
// whoever meets it, however far up, can say which store it was, what was asked
// of it, and of which key. Engines return no other error.
type Error struct {
	Store string // the store's address
	// "get", "stat", "list", "create", "replace", "delete", "remove", "tidy",
	// "begin", "add", "commit"; of some engines also "make" and "watch"
	Op  string
	Key string // or folder; the first of several; "" for what is about none
	Err error  // one of those below, and what the system or server said
}

// Error gives the operation, the key and the cause on one line.
func (e *Error) Error() string {
	if e.Key == "" {
		return e.Op + ": " + e.Err.Error()
	}
	return e.Op + " " + e.Key + ": " + e.Err.Error()
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// Wrap says of an error of a store what was asked. Nil and
// an Error come back as they are.
//
// Engines call it in every method, mostly through Failed.
func Wrap(err error, store interface{ Address() string }, op, key string) error {
	if err == nil {
		return nil
	}
	if _, said := errors.AsType[*Error](err); said {
		return err
	}
	return &Error{Store: store.Address(), Op: op, Key: key, Err: err}
}

// Failed is Wrap for a deferred call: it wraps what the
// function is about to return.
func Failed(err *error, store interface{ Address() string }, op, key string) {
	*err = Wrap(*err, store, op, key)
}

// Errors that callers decide on, by errors.Is. Engines
// return them within an Error.
var (
	// ErrNotFound: nothing is kept under the key.
	ErrNotFound = errors.New("not in the store")
	// ErrExists: Create found the key taken, and left it as it was.
	ErrExists = errors.New("already in the store")
	// ErrBadKey: the key is not one; see CheckKey.
	ErrBadKey = errors.New("not a key")
	// ErrReadOnly: the store may be read, not written.
	ErrReadOnly = errors.New("the store is not writable")
	// ErrDenied: the store knows who asks, and refuses.
	ErrDenied = errors.New("not allowed")
	// ErrCredentials: there are no credentials, or the
	// store does not accept them.
	ErrCredentials = errors.New("the credentials are not accepted")
	// ErrUnreachable: nothing answers at the store's address, or no longer.
	ErrUnreachable = errors.New("the store does not answer")
	// ErrUntrusted: what answers cannot prove to be the store.
	ErrUntrusted = errors.New("the server is not known")
	// ErrFull: there is no room left.
	ErrFull = errors.New("no space left")
	// ErrClock: the clock of this machine and that of the
	// store are too far apart.
	ErrClock = errors.New("the clocks differ")
	// ErrUnable: the server cannot do what a store needs.
	ErrUnable = errors.New("the server cannot hold a store")
)

// Errors of opening a store.
var (
	// ErrNone: nothing is there yet: a store can be made.
	ErrNone = errors.New("no store there yet")
	// ErrNoBucket: the bucket does not exist.
	ErrNoBucket = errors.New("no such bucket")
	// ErrOther: something else is there.
	ErrOther = errors.New("this folder is not empty and is not an Orilla store")
	// ErrFormat: the store has a format of another version.
	ErrFormat = errors.New("the store was made by another version of Orilla")
)

// Store keeps bytes under keys.
//
// All methods may be called from several goroutines and
// several processes at once. Keys follow CheckKey. A
// method that waits ends soon after its context does.
//
// Visibility. What Create, Replace or Batch.Commit wrote is seen whole by every
// reader that begins afterwards; a reader that begins earlier sees either
// nothing (or, for Replace, what was there) or all of it, never a part.
//
// Durability. When Create or Batch.Commit returns nil, the bytes and their key
// survive a loss of power. When either returns another error, the key may or
// may not exist afterwards: the caller reads it back to know.
type Store interface {
	// Get returns what is kept under key, or ErrNotFound. The
	// caller owns the result. It does not verify anything:
	// whoever reads an object compares it with its digest.
	Get(ctx context.Context, key string) ([]byte, error)

	// Stat tells the size of what is kept under key, or ErrNotFound.
	Stat(ctx context.Context, key string) (Item, error)

	// List yields the direct children of folder in byte order
	// of their names: keys one level down, and folders (with
	// Folder set). A folder that does not exist yields nothing.
	// Keys written while it runs may or may not be seen.
	List(ctx context.Context, folder string) iter.Seq2[Item, error]

	// Create keeps data under key if the key is free, else
	// returns ErrExists and changes nothing. Of several that
	// create the same key at once exactly one succeeds.
	Create(ctx context.Context, key string, data []byte) error

	// Replace keeps data under key whatever was there. It is for hints and for
	// who owns a name, where the last word counts; nothing that a release or a
	// journal consists of is ever replaced. It need not be durable: after a
	// loss of power the old bytes or the new ones are there, whole.
	Replace(ctx context.Context, key string, data []byte) error

	// Delete removes key. Removing what is not there is no error.
	Delete(ctx context.Context, key string) error

	// Begin starts a batch of writes that become durable together.
	Begin(ctx context.Context) (Batch, error)

	// Address names the store for people, in the form that configuration takes.
	Address() string
}

// Batch gathers writes so that a thousand of them cost one flush. Add may be
// called from several goroutines; Commit and Discard once, after the last Add
// has returned. Either ends the batch.
//
// Until Commit no key is required to appear. Whenever a
// key has appeared, even if the process died at that very
// moment or the power failed, its content is whole.
type Batch interface {
	// Add keeps data under key when Commit is called. Where asking costs next
	// to nothing, a key that already exists with that size is not written
	// again, and Add reports false; where asking costs as much as writing, it
	// is written without asking. A key under objects/ that exists with another
	// size is damaged and is written anew; no other key is ever replaced. Add
	// does not keep data after it returned.
	Add(ctx context.Context, key string, data []byte) (added bool, err error)

	// Commit makes everything added durable and visible, in any order, and also
	// makes durable whatever Add found present. It returns the keys outside
	// objects/ that another writer had created with other bytes; for objects
	// that is of no interest, since equal names have equal bytes.
	Commit(ctx context.Context) (taken []string, err error)

	// Discard drops what was added. After Commit it does nothing.
	Discard()
}

// Watcher is a Store that can tell of changes sooner than asking again would.
type Watcher interface {
	// Watch sends on the channel, without blocking and possibly once for
	// several changes, after something changed directly in folder. It ends,
	// closing the channel, with the context. Signals may be lost: they save
	// time and are never relied on.
	Watch(ctx context.Context, folder string) (<-chan struct{}, error)
}

// Slicer is a Store that reads a part of what it keeps at the cost of that part.
type Slicer interface {
	// Slice returns length bytes of what is kept under key, from an offset on;
	// fewer if it ends before, none beyond its end. The error is as Get's.
	Slice(ctx context.Context, key string, offset int64, length int) ([]byte, error)
}

// Slice returns a part of what a store keeps; see Slicer. It verifies nothing.
func Slice(ctx context.Context, store Store, key string, offset int64, length int) ([]byte, error) {
	if slicer, ok := store.(Slicer); ok {
		return slicer.Slice(ctx, key, offset, length)
	}
	data, err := store.Get(ctx, key)
	if err != nil {
		return nil, err
	}
	from := min(offset, int64(len(data)))
	return data[from:min(from+int64(length), int64(len(data)))], nil
}

// movedKey is under what a context holds whom WithProgress names.
type movedKey struct{}

// WithProgress returns a context whose calls tell moved when something has come, for
// whoever waits as long as something does. It may be called from any goroutine.
func WithProgress(ctx context.Context, moved func()) context.Context {
	return context.WithValue(ctx, movedKey{}, moved)
}

// Moved tells whoever WithProgress named that something has come.
func Moved(ctx context.Context) {
	if moved, ok := ctx.Value(movedKey{}).(func()); ok {
		moved()
	}
}

// Remover is a Store that removes many keys at the cost of one.
type Remover interface {
	// Remove removes keys, in any order. Removing what is not there is no
	// error. When it returns nil, they do not come back with a loss of power:
	// what is removed afterwards may rely on their being gone.
	Remove(ctx context.Context, keys []string) error
}

// Remove removes keys from a store, several at a time, in
// any order; see Remover.
func Remove(ctx context.Context, store Store, keys []string) error {
	if remover, ok := store.(Remover); ok {
		return remover.Remove(ctx, keys)
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(Parallel(store))
	for _, key := range keys {
		group.Go(func() error { return store.Delete(ctx, key) })
	}
	return group.Wait()
}

// Tidier is a Store in which folders that held something go on being listed.
type Tidier interface {
	// Tidy removes a folder and those below it as far as they hold nothing.
	// Nobody writes there meanwhile.
	Tidy(ctx context.Context, folder string) error
}

// Clock is a Store that learns its clock from answers.
type Clock interface {
	// Ahead returns how far the store's clock is before
	// this machine's; false while that is not known.
	Ahead() (time.Duration, bool)
}

// Ahead returns how far the store's clock is before this machine's, at least:
// whoever waits by it for another's lease to lapse waits rather too long. key
// was written just now, and not before the time written by this machine's
// clock: between the two, the machine may have slept. The error is ErrClock if
// the clocks are more than ClockLimit apart for certain.
func Ahead(ctx context.Context, store Store, key string, written time.Time) (time.Duration, error) {
	done := time.Now()
	least, most := time.Duration(0), time.Duration(0)
	clock, ok := store.(Clock)
	known := false
	if ok {
		least, known = clock.Ahead()
		most = least
	}

	if !known {
		item, err := store.Stat(ctx, key)
		if err != nil {
			return 0, err
		}
		least, most = item.Modified.Sub(done), item.Modified.Sub(written)
	}

	switch {
	case least > ClockLimit:
		return least, Wrap(fmt.Errorf("%w: this machine's is %s behind the store's", ErrClock,
			least.Round(time.Second)), store, "stat", key)
	case most < -ClockLimit:
		return least, Wrap(fmt.Errorf("%w: this machine's is %s ahead of the store's", ErrClock, most.Abs().
			Round(time.Second)), store, "stat", key)
	}

	return least, nil
}

// KnownAhead returns how far the store's clock is before this machine's as far
// as that is known without asking; else 0.
func KnownAhead(store Store) time.Duration {
	if clock, ok := store.(Clock); ok {
		ahead, _ := clock.Ahead()
		return ahead
	}
	return 0
}

// Wide is a Store that is far away, so that many calls at once are worth while.
type Wide interface {
	// Parallel returns how many calls at once the store is asked for at most,
	// unless somebody says otherwise.
	Parallel() int
}

// Parallel returns how many calls of a store at once are worth while.
func Parallel(store Store) int {
	if wide, ok := store.(Wide); ok {
		return wide.Parallel()
	}
	return max(4, 2*runtime.NumCPU())
}

// Item is one thing that a store keeps.
type Item struct {
	Key      string
	Folder   bool      // a folder: only Key is set
	Size     int64     // in bytes
	Modified time.Time // by the store's clock
}

// Name is the last part of the key.
func (i Item) Name() string { return i.Key[strings.LastIndexByte(i.Key, '/')+1:] }

// CheckKey returns ErrBadKey unless key consists of parts joined by "/", each
// of 1 to 200 of the characters a-z, 0-9, dot, dash and underscore, not
// beginning with a dot, 500 bytes in all at most. Every file system and object
// store can hold such keys, also those that do not tell upper from lower case.
func CheckKey(key string) error {
	if len(key) > 500 {
		return fmt.Errorf("%w: longer than 500 bytes", ErrBadKey)
	}
	for part := range strings.SplitSeq(key, "/") {
		if part == "" || len(part) > 200 || part[0] == '.' {
			return fmt.Errorf("%w: %q", ErrBadKey, key)
		}
		for i := range len(part) {
			c := part[i]
			if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '.' && c != '-' && c != '_' {
				return fmt.Errorf("%w: %q", ErrBadKey, key)
			}
		}
	}

	return nil
}

// ClockLimit is how far apart the clocks of a writer and of its store may be.
const ClockLimit = 5 * time.Minute

// First returns the first of several keys, for an Error; "" of none.
func First(keys []string) string {
	if len(keys) == 0 {
		return ""
	}
	return keys[0]
}
