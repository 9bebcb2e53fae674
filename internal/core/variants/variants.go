// Package variants keeps encoded copies of objects in a store, and makes those that
// are missing. What a copy is, and what one is called, package coding says.
//
//	data, err := variants.Load(ctx, store, want)   // proved, or thrown away
//	data, err = variants.Keep(ctx, store, want, data)
//	made, err := variants.Fill(ctx, store, files, options)
//
// A copy may be missing at any time and costs nothing but work. So nobody holds a pin on
// one: a prune removes it with its source, and whoever made it meanwhile has made it for
// the next prune.
package variants

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Wanted names a variant.
type Wanted struct {
	Of     digest.Digest
	Size   int64 // of the object, in bytes
	Coding coding.Coding
}

// Key is where the variant lies in a store.
func (w Wanted) Key() string { return coding.Key(w.Of, w.Coding) }

// Load returns a variant that was proved; nil if the store has none that is good. One that
// is not is removed, and bad is told.
func Load(ctx context.Context, store storage.Store, w Wanted, bad func(key string, err error),
) ([]byte, error) {
	// A variant is smaller than its source. Of one that is not, no more is read.
	data, err := storage.Slice(ctx, store, w.Key(), 0, int(min(w.Size, coding.Most)))
	switch {
	case errors.Is(err, storage.ErrNotFound):
		return nil, nil
	case err != nil:
		return nil, err
	}
	if err := coding.Verify(w.Coding, data, w.Of, w.Size); err != nil {
		bad(w.Key(), err)
		return nil, store.Delete(ctx, w.Key())
	}
	return data, nil
}

// Keep keeps a variant in a store, and returns the one that is there then: of two that make
// the same, one is first, and its bytes are everybody's. The error is the store's.
func Keep(ctx context.Context, store storage.Store, w Wanted, data []byte, bad func(key string, err error),
) ([]byte, error) {
	err := store.Create(ctx, w.Key(), data)
	if !errors.Is(err, storage.ErrExists) {
		return data, err
	}
	theirs, err := Load(ctx, store, w, bad)
	if err != nil || theirs != nil {
		return theirs, err
	}
	return data, store.Create(ctx, w.Key(), data)
}

// Make has the smallest variant of content made, and proves it: a library may have a fault
// too. The error is coding.ErrGainless if it is not worth it.
func Make(ctx context.Context, w Wanted, content []byte, best Encoder) ([]byte, error) {
	data, err := best(ctx, w.Coding, content)
	if err == nil {
		err = coding.Verify(w.Coding, data, w.Of, w.Size)
	}
	return data, err
}

// Encoder makes the smallest variant of content that it can. The error is
// coding.ErrGainless where that saves nothing.
type Encoder func(ctx context.Context, c coding.Coding, content []byte) ([]byte, error)

// Here encodes in this process.
func Here(_ context.Context, c coding.Coding, content []byte) ([]byte, error) {
	return coding.Encode(c, coding.Best, content)
}

// Options say how Fill works.
type Options struct {
	Encoder  Encoder
	Parallel int // variants that are made at once; 0: 1
	Tell     func(done, all int)
}

// Made is what Fill did.
type Made struct {
	Made    int   `json:"made"`    // variants
	Present int   `json:"present"` // that were there
	Before  int64 `json:"before"`  // bytes of the files that gain, each once
	After   int64 `json:"after"`   // of their smallest variants
}

// Fill makes the variants of files that a store lacks, in all codings. It can be run again
// after an interruption. Of what is there it looks at the names only: nodes prove it.
func Fill(ctx context.Context, store storage.Store, files []release.File, options Options) (Made, error) {
	// All names first: of a release that was filled before nothing is read.
	there, err := Sizes(ctx, store, files)
	if err != nil {
		return Made{}, err
	}
	var wanted []Wanted
	smallest := map[digest.Digest]int64{}
	for _, file := range gaining(files) {
		smallest[file.Digest] = file.Size
		for _, c := range coding.All {
			wanted = append(wanted, Wanted{file.Digest, file.Size, c})
		}
	}

	var made Made
	var mutex sync.Mutex
	count := func(w Wanted, size int64, present bool) {
		mutex.Lock()
		defer mutex.Unlock()
		if present {
			made.Present++
		} else if size > 0 {
			made.Made++
		}
		if size > 0 {
			smallest[w.Of] = min(smallest[w.Of], size)
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(options.Parallel, 1))
	for i, w := range wanted {
		if size, ok := there[w.Of][w.Coding]; ok {
			count(w, size, true)
			continue
		}
		if ctx.Err() != nil {
			break
		}
		options.Tell(i, len(wanted))
		group.Go(func() error {
			size, err := one(ctx, store, w, options.Encoder)
			count(w, size, false)
			return err
		})
	}
	err = group.Wait()
	for _, file := range gaining(files) {
		made.Before += file.Size
		made.After += smallest[file.Digest]
	}
	return made, err
}

// one makes a variant and keeps it, and returns its size; 0 of content that does not
// gain.
func one(ctx context.Context, store storage.Store, w Wanted, encoder Encoder) (int64, error) {
	content, err := release.LoadFrom(store)(ctx, w.Of)
	if err != nil {
		return 0, err
	}
	data, err := Make(ctx, w, content, encoder)
	if errors.Is(err, coding.ErrGainless) {
		return 0, nil
	}
	if err == nil {
		data, err = Keep(ctx, store, w, data, func(string, error) {})
	}
	if err != nil {
		return 0, fmt.Errorf("%s of %s: %w", w.Coding, w.Of, err)
	}
	return int64(len(data)), nil
}

// gaining are the files that are worth encoding, each content once.
func gaining(files []release.File) (list []release.File) {
	seen := map[digest.Digest]bool{}
	for _, file := range files {
		if len(file.Parts) == 0 && coding.Gains(file.Type, file.Size) && !seen[file.Digest] {
			seen[file.Digest] = true
			list = append(list, file)
		}
	}
	return list
}

// listFrom is from how many files on all variants of a store are listed, instead of asking
// for each: listing takes 256 requests at least.
const listFrom = 80

// Sizes tells the sizes of the variants of files that a store has, in bytes.
func Sizes(ctx context.Context, store storage.Store, files []release.File,
) (map[digest.Digest]map[coding.Coding]int64, error) {
	sizes := map[digest.Digest]map[coding.Coding]int64{}
	wanted := gaining(files)
	for _, file := range wanted {
		sizes[file.Digest] = map[coding.Coding]int64{}
	}
	var mutex sync.Mutex
	found := func(of digest.Digest, c coding.Coding, size int64) {
		mutex.Lock()
		defer mutex.Unlock()
		if known := sizes[of]; known != nil {
			known[c] = size
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(store))
	if len(wanted) < listFrom {
		for _, file := range wanted {
			for _, c := range coding.All {
				group.Go(func() error {
					item, err := store.Stat(ctx, coding.Key(file.Digest, c))
					if err == nil {
						found(file.Digest, c, item.Size)
					}
					if errors.Is(err, storage.ErrNotFound) {
						err = nil
					}
					return err
				})
			}
		}
		return sizes, group.Wait()
	}

	// Only the folders that may hold any: of a site of a hundred files that is a third.
	folders := map[string]bool{}
	for of := range sizes {
		key := coding.Key(of, coding.Brotli)
		folders[key[:len(coding.Folder)+len("/aa")]] = true
	}
	for folder := range folders {
		group.Go(func() error {
			for item, err := range store.List(ctx, folder) {
				if err != nil {
					return err
				}
				if of, c, ok := coding.FromKey(item.Key); ok {
					found(of, c, item.Size)
				}
			}
			return nil
		})
	}
	return sizes, group.Wait()
}

// Sent tells how many bytes of each content are sent at least, as far as that is known: of
// what does not gain all, of what does the smallest variant that the store has.
func Sent(ctx context.Context, store storage.Store, files []release.File) (map[digest.Digest]int64, error) {
	sizes, err := Sizes(ctx, store, files)
	sent := map[digest.Digest]int64{}
	for _, file := range files {
		known, gains := sizes[file.Digest]
		if !gains {
			sent[file.Digest] = file.Size
			continue
		}
		for _, size := range known {
			if least, ok := sent[file.Digest]; !ok || size < least {
				sent[file.Digest] = size
			}
		}
	}
	return sent, err
}
