// Package maintenance looks after a whole store: what is reachable, whether it is
// whole, what may go, and how it gets elsewhere. It goes over storage.Store and
// has no interface of its own.
//
//	Measure, Verify    read only: how much there is, and whether each hash is right
//	Plan, CarryOut     remove what nothing needs
//	Repair             bring back from another store what is damaged
//	Copy               another store with the same content, journals last
//	RemoveSite         all of one site
//	Rights             which keys which role has to read, write and remove
//
// What is reachable follows from the journals: their last entries and as many
// earlier ones as retention keeps, their releases, those releases' chunks, and the
// objects that those name. Everything else may go, but for what a writer relies on
// right now (package pins).
package maintenance

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Tell is told how far long work is, from several goroutines: what is being
// done, how many of how many (0 if that is not known).
type Tell func(what string, done, of int64)

// keeper is what all work on a store shares.
type keeper struct {
	store    storage.Store
	tell     Tell
	parallel int // calls at once; 0: as many as the store is good for
	mutex    sync.Mutex
}

// each calls do for every item, several at a time.
func each[T any](ctx context.Context, k *keeper, items []T, do func(context.Context, T) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(cmp.Or(k.parallel, storage.Parallel(k.store)))
	for _, item := range items {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error { return do(ctx, item) })
	}
	return group.Wait()
}

// list lists what lies in a folder, one level deep.
func (k *keeper) list(ctx context.Context, folder string) (items []storage.Item, err error) {
	for item, err := range k.store.List(ctx, folder) {
		if err != nil {
			return nil, err
		}
		items = append(items, item)
	}
	return items, nil
}

// deep lists the keys below folders, several folders at a time.
func (k *keeper) deep(ctx context.Context, folders ...string) (keys []storage.Item, err error) {
	// Level by level, each many folders at once: a walk one by one would take a
	// round trip for each.
	for len(folders) > 0 {
		var mutex sync.Mutex
		var below []string
		err := each(ctx, k, folders, func(ctx context.Context, folder string) error {
			items, err := k.list(ctx, folder)
			mutex.Lock()
			defer mutex.Unlock()
			for _, item := range items {
				if item.Folder {
					below = append(below, item.Key)
				} else {
					keys = append(keys, item)
				}
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		folders = below
	}
	slices.SortFunc(keys, func(a, b storage.Item) int { return compare(a.Key, b.Key) })
	return keys, nil
}

// compare orders texts by their bytes, as stores list them.
func compare(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// objects lists all objects.
func (k *keeper) objects(ctx context.Context) ([]storage.Item, error) {
	folders, err := k.list(ctx, storage.ObjectsKey)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, folder := range folders {
		names = append(names, folder.Key)
	}

	var done atomic.Int64
	var mutex sync.Mutex
	var found []storage.Item
	err = each(ctx, k, names, func(ctx context.Context, folder string) error {
		items, err := k.list(ctx, folder)
		mutex.Lock()
		defer mutex.Unlock()
		found = append(found, items...)
		k.tell("listing objects", done.Add(1), int64(len(names)))
		return err
	})

	return found, err
}

// load reads an object and verifies it.
func (k *keeper) load(ctx context.Context, d digest.Digest) ([]byte, error) {
	return release.LoadFrom(k.store)(ctx, d)
}

// open reads the root of a release.
func (k *keeper) open(ctx context.Context, site string, id release.ID) (*release.Reader, error) {
	return release.Open(ctx, k.store, site, id, k.load)
}

// Sites returns the names of all sites of a store.
func Sites(ctx context.Context, store storage.Store) (names []string, err error) {
	for item, err := range store.List(ctx, storage.SitesKey) {
		if err != nil {
			return nil, err
		}
		names = append(names, item.Name())
	}
	return names, nil
}

// HasSite reports whether a store holds anything of a site: its name is taken,
// or a first build was begun.
func HasSite(ctx context.Context, store storage.Store, site string) (bool, error) {
	// A name is claimed by the first build that succeeds; one that only failed
	// has left records too.
	_, err := store.Stat(ctx, storage.ClaimKey(site))
	if !errors.Is(err, storage.ErrNotFound) {
		return err == nil, err
	}
	for _, err := range store.List(ctx, storage.SiteKey(site)) {
		return err == nil, err
	}
	return false, nil
}

// environments returns the stored names of a site's environments.
func (k *keeper) environments(ctx context.Context, site string) (names []string, err error) {
	items, err := k.list(ctx, storage.EnvironmentsKey(site))
	for _, item := range items {
		names = append(names, item.Name())
	}
	return names, err
}

// journal returns the journal of an environment, to read it.
func (k *keeper) journal(site, environment string) *journal.Journal {
	return &journal.Journal{Store: k.store, Site: site, Environment: environment, Now: time.Now}
}

// releases returns the roots that a site has.
func (k *keeper) releases(ctx context.Context, site string) (map[release.ID]storage.Item, error) {
	items, err := k.list(ctx, storage.ReleasesKey(site))
	found := map[release.ID]storage.Item{}
	for _, item := range items {
		if id, err := release.ParseID(item.Name()); err == nil {
			found[id] = item
		}
	}
	return found, err
}

// built is a build record and where it was found.
type built struct {
	builds.Record
	item storage.Item
}

// builds reads the build records of a site. What cannot be
// read is told to bad, or else is the error.
func (k *keeper) builds(ctx context.Context, site string, bad func(key string, err error),
) (found []built, err error) {
	items, err := k.deep(ctx, storage.SiteKey(site)+"/builds")
	if err != nil {
		return nil, err
	}
	var mutex sync.Mutex

	err = each(ctx, k, items, func(ctx context.Context, item storage.Item) error {
		data, err := k.store.Get(ctx, item.Key)
		var one builds.Record
		if err == nil {
			one, err = builds.Decode(data)
		}

		mutex.Lock()
		defer mutex.Unlock()
		switch {
		case err == nil:
			found = append(found, built{one, item})
		case errors.Is(err, storage.ErrNotFound): // removed since
		case bad != nil && (errors.Is(err, builds.ErrUnreadable)):
			bad(item.Key, err)
		default:
			return fmt.Errorf("%s: %w", item.Key, err)
		}

		return nil
	})

	return found, err
}

// objects lists what a build record leads to.
func (r built) objects() []digest.Digest {
	objects := slices.Clone(r.Log)
	for _, rules := range r.Rules {
		objects = append(objects, rules.Objects...)
	}
	return objects
}
