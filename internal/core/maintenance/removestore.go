package maintenance

import (
	"context"
	"errors"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// A bucket can be deleted only when nothing lies in it, and what a store consists of is
// nobody's to know by heart. So the program that wrote it takes it away.

// ErrInUse: somebody is at work in the store.
var ErrInUse = errors.New("somebody is at work in the store")

// freshPin is for how long a pin counts as that of somebody who is at work.
const freshPin = 15 * time.Minute

// RemoveStore removes what is left of a store without sites: objects, hints, records of
// hosts and of removed sites, and last the mark that says that it is a store. The caller
// makes sure that there is no site and that no edge node is running. It returns how
// many keys were removed. An interrupted removal can be run again: as long as the mark is
// there, it is a store.
//
// The error is ErrInUse if somebody pinned something lately: a deploy that has begun
// would find nothing of what it relies on.
func RemoveStore(ctx context.Context, store storage.Store, now time.Time, tell Tell,
) (removed int, err error) {
	k := &keeper{store: store, tell: tell}
	pinned, err := k.list(ctx, "pins")
	if err != nil {
		return 0, err
	}
	for _, pin := range pinned {
		if now.Sub(pin.Modified) < freshPin {
			return 0, ErrInUse
		}
	}

	// Whoever begins now finds the mark, and then nothing that it leads to: that is told as
	// a damaged store, which is what it is by then.
	//
	// From the table of all kinds of keys: nothing else is ever written.
	folders := map[string]bool{}
	for _, kind := range storage.Kinds {
		if folder, _, ok := strings.Cut(kind.Pattern, "/"); ok {
			folders[folder] = true
		}
	}
	var top []string
	for folder := range folders {
		top = append(top, folder)
	}
	items, err := k.deep(ctx, top...)
	if err != nil {
		return 0, err
	}

	// Step by step, so that an interruption loses little, and what is done is told.
	const step = 1000
	for len(items) > 0 {
		some := items[:min(step, len(items))]
		keys := make([]string, len(some))
		for i, item := range some {
			keys[i] = item.Key
		}
		if err := storage.Remove(ctx, store, keys); err != nil {
			return removed, err
		}
		removed, items = removed+len(some), items[len(some):]
		tell("removing", int64(removed), int64(removed+len(items)))
	}
	if tidier, ok := store.(storage.Tidier); ok {
		for _, folder := range top {
			if err := tidier.Tidy(ctx, folder); err != nil {
				return removed, err
			}
		}
	}
	return removed + 1, store.Delete(ctx, storage.MarkKey)
}
