package maintenance

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync/atomic"

	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Copied is what a copy brought over.
type Copied struct {
	Sites    int   `json:"sites"`
	Releases int   `json:"releases"` // that were not there
	Entries  int   `json:"entries"`
	Objects  int64 `json:"objects"`
	Bytes    int64 `json:"bytes"`
	Present  int64 `json:"present"` // objects that were there
}

// ErrDiverged: the site has another history in the other store.
var ErrDiverged = errors.New("the site has another history there")

// copying brings sites from one store to another.
type copying struct {
	keeper // of the source
	to     keeper
	CopyOptions
	there  map[digest.Digest]int64 // sizes of objects at the target
	done   map[digest.Digest]bool  // brought, or found to be there
	listed map[digest.Digest]bool  // chunks that were gone through

	copied         Copied
	objects, bytes atomic.Int64
	present        atomic.Int64
}

// Settle is asked whether objects that were put, or found to be there, may have
// been removed meanwhile; see pins.Hold.
type Settle func(put func(key string) bool) (again bool, err error)

// CopyOptions say how a copy works.
type CopyOptions struct {
	Rate     *rate.Limiter // bytes a second; nil for no limit
	Parallel int           // objects at once; 0: as many as the target is good for
	Settle   Settle        // of the pin that the caller holds in the target
	Writer   storage.Store // of that pin, for roots and entries; nil: the target
	Tell     Tell
}

// Copy brings sites from one store to another, each release before the entries
// that name it, so that what is there at any moment is whole. What is there is
// not brought again, so an interrupted copy goes on where it was. Every object
// is verified on the way. The caller holds pins in both stores.
func Copy(ctx context.Context, from, to storage.Store, sites []string, options CopyOptions) (Copied, error) {
	c := &copying{
		CopyOptions: options, keeper: keeper{store: from, tell: options.Tell},
		to:   keeper{store: to, tell: options.Tell, parallel: options.Parallel},
		done: map[digest.Digest]bool{}, listed: map[digest.Digest]bool{},
	}
	if c.Writer == nil {
		c.Writer = to
	}

	// What the target has is listed once; asking for each object would take a
	// round trip each.
	err := c.listTarget(ctx)
	for _, site := range sites {
		if err != nil {
			break
		}
		if err = c.site(ctx, site); err != nil {
			err = fmt.Errorf("%s: %w", site, err)
			break
		}
		c.copied.Sites++
	}
	c.copied.Objects, c.copied.Bytes, c.copied.Present = c.objects.Load(), c.bytes.Load(), c.present.Load()
	return c.copied, err
}

// listTarget lists what the target has, names and sizes: a few requests for
// each thousand objects.
func (c *copying) listTarget(ctx context.Context) error {
	items, err := c.to.objects(ctx)
	c.there = make(map[digest.Digest]int64, len(items))
	for _, item := range items {
		if d, err := digest.Parse(item.Name()); err == nil {
			c.there[d] = item.Size
		}
	}
	return err
}

// head is how far a journal went when the copy began.
type head struct {
	environment string
	number      int64
}

// site copies one site: its releases first, then its journals, so that no entry
// is there before its release.
func (c *copying) site(ctx context.Context, site string) error {
	environments, err := c.environments(ctx, site)
	if err != nil {
		return err
	}
	// How far each journal goes is read first. Entries that are written while
	// the copy runs are left to the next one: their releases may not be brought
	// over.
	var heads []head
	for _, environment := range environments {
		n, err := c.journal(site, environment).HeadNumber(ctx, 0)
		if err != nil {
			return err
		}
		heads = append(heads, head{environment, n})
	}

	// Before one byte is sent: a store that went its own way is to be told at
	// once, and not after an hour.
	if err := c.same(ctx, site, heads); err != nil {
		return err
	}
	claim, err := c.store.Get(ctx, storage.ClaimKey(site))
	if err != nil {
		return err
	}

	if err := c.create(ctx, storage.ClaimKey(site), claim); err != nil {
		return err
	}
	// Releases before journals, so that at no moment an entry names what is not
	// there.
	if err := c.allReleases(ctx, site); err != nil {
		return err
	}

	if err := c.allRuns(ctx, site); err != nil {
		return err
	}
	for _, h := range heads {
		if err := c.entries(ctx, site, h); err != nil {
			return err
		}
		if err := c.beside(ctx, site, h); err != nil {
			return err
		}
	}

	if err := c.owners(ctx, site); err != nil {
		return err
	}
	// Nodes on the target learn of it at once.
	hints := journal.Hints{}
	for _, h := range heads {
		if h.number > 0 {
			hints.Pulse(ctx, c.to.store, journal.Entry{Site: site, Environment: h.environment,
				Number: h.number, Attempt: claimed(claim)})
		}
	}

	return nil
}

// owners brings over which hosts belong to a site. One that another site has at
// the target stays as it is there.
func (c *copying) owners(ctx context.Context, site string) error {
	folders, err := c.list(ctx, storage.HostsKey)
	if err != nil {
		return err
	}
	return each(ctx, &c.keeper, folders, func(ctx context.Context, folder storage.Item) error {
		items, err := c.list(ctx, folder.Key)
		if err != nil || len(items) == 0 {
			return err
		}
		var entries [][]byte
		for _, item := range items {
			data, err := c.store.Get(ctx, item.Key)
			if err != nil {
				return err
			}
			entries = append(entries, data)
		}

		// Only a host whose last entry is of this site; its whole journal then,
		// since entries hang together.
		if head, err := hosts.Read(entries[len(entries)-1]); err != nil || head.Site != site {
			return nil //nolint:nilerr // one that cannot be read is the matter of a verify
		}
		for i, data := range entries {
			// The host has another history at the target, where another site
			// may have it. That is theirs to settle, and no reason to copy
			// nothing.
			if err := c.create(ctx, items[i].Key, data); errors.Is(err, ErrDiverged) {
				return nil
			} else if err != nil {
				return err
			}
		}

		return nil
	})
}

// claimed makes a hint differ from the one before.
func claimed(claim []byte) string { return digest.Of(claim).String()[:16] }

// same makes sure, before anything is brought over, that what the target has of
// a journal is its beginning.
func (c *copying) same(ctx context.Context, site string, heads []head) error {
	for _, h := range heads {
		n, err := c.to.journal(site, h.environment).HeadNumber(ctx, 0)
		if err != nil || n == 0 {
			if err != nil {
				return err
			}
			continue
		}

		key := storage.JournalKey(site, h.environment, n)
		theirs, err := c.to.store.Get(ctx, key)
		if err != nil {
			return err
		}

		// Each entry names the hash of the one before. So if the target's last
		// one is the same here, all before it are.
		ours, err := c.store.Get(ctx, key)
		if errors.Is(err, storage.ErrNotFound) || err == nil && !bytes.Equal(ours, theirs) {
			return fmt.Errorf("%w: %s:%d differs", ErrDiverged, journal.DisplayName(h.environment), n)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// create writes a record that must not be there with other bytes: else the two
// stores have gone separate ways.
func (c *copying) create(ctx context.Context, key string, data []byte) error {
	err := c.Writer.Create(ctx, key, data)
	if !errors.Is(err, storage.ErrExists) {
		return err
	}
	there, err := c.to.store.Get(ctx, key)
	if err == nil && !bytes.Equal(there, data) {
		err = fmt.Errorf("%w: %s", ErrDiverged, key)
	}
	return err
}

// allReleases brings every release over that the target
// lacks, and how they were built.
func (c *copying) allReleases(ctx context.Context, site string) error {
	for again := true; again; { // a root of the target that is on its way out is not there
		var err error
		if again, err = c.settle(ctx,
			func(key string) bool { return strings.HasPrefix(key, storage.SiteKey(site)+"/") }); err != nil {
			return err
		}
	}

	ours, err := c.releases(ctx, site)
	if err != nil {
		return err
	}
	theirs, err := c.to.releases(ctx, site)
	if err != nil {
		return err
	}

	var missing []release.ID
	for id := range ours {
		if _, there := theirs[id]; !there {
			missing = append(missing, id)
		}
	}

	// In the order in which they were made, so that an interrupted copy has the
	// oldest and goes on from there.
	slices.SortFunc(missing, func(a, b release.ID) int { return ours[a].Modified.Compare(ours[b].Modified) })
	records, err := c.builds(ctx, site, func(string, error) {})
	if err != nil {
		return err
	}

	var roots, objects = map[string][]byte{}, []digest.Digest{}
	for _, record := range records {
		objects = append(objects, record.objects()...)
	}
	for _, id := range missing {
		needs, err := c.needs(ctx, site, id)
		if err != nil {
			return fmt.Errorf("release %s: %w", id.Short(), err)
		}
		objects = append(objects, needs...)
	}

	if err := c.bring(ctx, objects); err != nil { // roots come after all that they need
		return err
	}
	for _, id := range missing {
		key := storage.ReleaseKey(site, id.String())
		if roots[key], err = c.store.Get(ctx, key); err != nil {
			return err
		}
	}

	for _, record := range records {
		if roots[record.item.Key], err = c.store.Get(ctx, record.item.Key); err != nil {
			return err
		}
	}

	c.copied.Releases += len(missing)
	var keys []string
	for key := range roots {
		keys = append(keys, key)
	}
	return each(ctx, &c.to, keys,
		func(ctx context.Context, key string) error { return c.create(ctx, key, roots[key]) })
}

// needs lists what a release consists of, but for its root. A chunk that was
// listed for another release is not gone through again.
func (c *copying) needs(ctx context.Context, site string, id release.ID) ([]digest.Digest, error) {
	reader, err := c.open(ctx, site, id)
	if err != nil {
		return nil, err
	}
	objects := reader.Root.Objects()

	err = reader.Visit(ctx, func(chunk digest.Digest) bool {
		// Releases of a site share most of their chunks, and with them most of
		// what there is to list.
		known := c.listed[chunk]
		c.listed[chunk] = true
		if !known {
			objects = append(objects, chunk)
		}
		return !known
	}, func(file release.File) error {
		objects = append(objects, file.Objects()...)
		return nil
	})

	return objects, err
}

// bring copies objects that the target does not have, and
// makes sure that nobody there removes them.
func (c *copying) bring(ctx context.Context, objects []digest.Digest) error {
	for {
		if err := c.send(ctx, objects); err != nil {
			return err
		}
		again, err := c.settle(ctx, func(key string) bool {
			d, isObject := digest.FromKey(key)
			return isObject && c.done[d]
		})
		if err != nil || !again {
			return err
		}
	}
}

// settle is Settle, and lists the target again if something was removed.
func (c *copying) settle(ctx context.Context, put func(key string) bool) (again bool, err error) {
	if again, err = c.Settle(put); err == nil && again {
		clear(c.done)
		err = c.listTarget(ctx)
	}
	return again, err
}

// send copies objects that were not copied yet, many in a batch.
func (c *copying) send(ctx context.Context, objects []digest.Digest) error {
	put := publish.NewRolling(ctx, c.to.store, 32<<20)
	defer put.Keep()
	var missing []digest.Digest
	for _, d := range objects {
		if !c.done[d] {
			c.done[d] = true
			missing = append(missing, d)
		}
	}

	err := each(ctx, &c.to, missing, func(ctx context.Context, d digest.Digest) error {
		// By name and size: bytes at the target are its own matter, which its
		// verify looks at.
		size, there := c.there[d]
		if there {
			if item, err := c.store.Stat(ctx, d.Key()); err != nil || item.Size == size {
				c.present.Add(1)
				return err
			}
		}

		data, err := c.load(ctx, d)
		if err != nil {
			return err
		}
		if err := publish.Wait(ctx, c.Rate, len(data)); err != nil {
			return err
		}

		if _, err := put.Add(ctx, d.Key(), data); err != nil {
			return err
		}
		c.bytes.Add(int64(len(data)))
		c.tell("copying objects", c.objects.Add(1), 0)
		return nil
	})
	if err != nil {
		return err
	}

	return put.Commit()
}

// beside brings over what is kept beside a journal: what came of activations
// that were waited for, and which releases wait for a thaw.
func (c *copying) beside(ctx context.Context, site string, h head) error {
	outcomes, _ := path.Split(storage.OutcomeKey(site, h.environment, 1))
	for _, folder := range []string{strings.TrimSuffix(outcomes, "/"),
		storage.WaitingKey(site, h.environment)} {
		items, err := c.list(ctx, folder)
		if err != nil {
			return err
		}
		for _, item := range items {
			data, err := c.store.Get(ctx, item.Key)
			if errors.Is(err, storage.ErrNotFound) {
				continue // it waits no more
			}
			if err == nil {
				err = c.to.store.Replace(ctx, item.Key, data)
			}
			if err != nil {
				return err
			}
		}
	}

	return nil
}

// entries brings over the entries of a journal, in order,
// and the documents that they name.
func (c *copying) entries(ctx context.Context, site string, h head) error {
	from, err := c.to.journal(site, h.environment).HeadNumber(ctx, 0)
	if err != nil {
		return err
	}
	j := c.journal(site, h.environment)
	for n := from + 1; n <= h.number; n++ {
		key := storage.JournalKey(site, h.environment, n)
		data, err := c.store.Get(ctx, key)
		if err != nil {
			return err
		}

		entry, err := journal.Decode(data, j.Site, j.Environment, n)
		if err != nil {
			return err
		}
		if !entry.Document.IsZero() {
			err := c.bring(ctx, []digest.Digest{entry.Document})
			if errors.Is(err, storage.ErrNotFound) && n < h.number {
				err = nil // of an entry that is long past
			}
			if err != nil {
				return err
			}
		}

		if err := c.create(ctx, key, data); err != nil {
			return err
		}
		c.copied.Entries++
		c.tell("copying entries", n, h.number)
	}

	return nil
}
