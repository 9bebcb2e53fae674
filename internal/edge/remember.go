package edge

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/wake"
	"orilla.example/orilla/internal/diskcache"
	"orilla.example/orilla/internal/httpanswer"
)

// Cache is what a node keeps on disk: content, what leads to it, and what every
// environment served last. With it a node can begin while its store does not answer.
type Cache struct {
	notes   *diskcache.Cache
	index   *diskcache.Shelf // roots, chunks, documents: a quarter
	content *diskcache.Shelf
	size    int64
}

// OpenCache opens the cache in a folder, of up to size bytes, for a store. memory is
// what the node may use of it: it bounds how many files are known. tell is told when
// something cannot be kept. The error is one of diskcache, or the system's.
func OpenCache(folder string, size, memory int64, store storage.Store, tell func(error)) (*Cache, error) {
	notes, err := diskcache.Open(folder)
	if err != nil {
		return nil, err
	}
	const fileCosts = 400 // bytes of memory for a file that is known
	most := int(max(1000, memory/16/fileCosts))
	c := &Cache{notes: notes, size: size}
	if c.index, err = notes.Shelf("index", size/4, most, store, tell); err == nil {
		c.content, err = notes.Shelf("content", size-size/4, most, store, tell)
	}
	if err != nil {
		notes.Close()
		return nil, err
	}
	return c, nil
}

// held says how full the cache is; nil for no cache.
func (c *Cache) held() *wake.Cache {
	if c == nil {
		return nil
	}
	index, _ := c.index.Held()
	content, _ := c.content.Held()
	return &wake.Cache{Bytes: index + content, Most: c.size}
}

// Size returns how many bytes lie in the cache, and how many may.
func (c *Cache) Size() (bytes, most int64) {
	held := c.held()
	return held.Bytes, held.Most
}

// Notes are where small records are kept, for as long as the cache is open.
func (c *Cache) Notes() *diskcache.Cache { return c.notes }

// Close lets others use the cache.
func (c *Cache) Close() { c.notes.Close() }

// The versions of the notes.
const (
	lastFormat = 1
	nodeFormat = 1
)

// last is the note of what an environment served last. It is as good as an entry of a
// journal: it holds one, whose digest the node knew from the store.
type last struct {
	Format int             `json:"format"`
	Entry  json.RawMessage `json:"entry"`
	Recent []lastRecent    `json:"recent,omitempty"`
	// as the site was when the journal was read from its end
	Incarnation string `json:"incarnation,omitempty"`
	Restored    int    `json:"restored,omitempty"`
}

// lastRecent is an earlier release, whose assets are still answered.
type lastRecent struct {
	Release release.ID `json:"release"`
	Ended   time.Time  `json:"ended"`
}

// lastNode is the note of what a node knew besides.
type lastNode struct {
	Format  int               `json:"format"`
	Mark    string            `json:"mark"`    // of the store
	Reached time.Time         `json:"reached"` // when the store last answered
	Owners  owners            `json:"owners,omitempty"`
	Keys    map[string]string `json:"keys,omitempty"` // what passes of sites are signed with
}

// nodeNote is the name of the note of a node.
const nodeNote = "node"

// lastPrefix begins the names of the notes of environments.
const lastPrefix = "last/"

// noteOf is the name of the note of an environment.
func noteOf(e *environment) string { return lastPrefix + e.journal.Site + "/" + e.journal.Environment }

// keeper keeps what a node knows in its cache, if it has one.
type keeper struct{ *Node }

// remember notes what an environment serves, for a start without the store.
func (n keeper) remember(e *environment) {
	cache, s := n.options.Cache, e.current.Load()
	if cache == nil || s == nil {
		return
	}
	entry, err := s.entry.Encode()
	note := last{Format: lastFormat, Entry: entry, Incarnation: e.origin.incarnation,
		Restored: e.origin.restored}
	for _, r := range s.recent {
		note.Recent = append(note.Recent, lastRecent{r.id, r.ended})
	}
	data, err2 := record.Encode(note)
	if err == nil {
		err = err2
	}
	if err == nil {
		err = cache.notes.Note(noteOf(e), data)
	}
	if err != nil {
		n.trouble(e, "what it serves cannot be noted in the cache: "+err.Error())
	}
}

// dismiss removes the note of an environment that is gone.
func (n keeper) dismiss(e *environment) {
	if n.options.Cache == nil {
		return
	}
	if err := n.options.Cache.notes.Forget(noteOf(e)); err != nil {
		n.trouble(e, "its note cannot be removed from the cache: "+err.Error())
	}
}

// rememberNode notes what the node knows besides its environments.
func (n keeper) rememberNode(mark string) {
	if n.options.Cache == nil {
		return
	}
	note := lastNode{Format: nodeFormat, Mark: mark, Reached: time.Unix(0, n.is.reached.Load()).UTC(),
		Keys: map[string]string{}}
	n.routing.making.Lock()
	note.Owners = n.routing.owners
	n.routing.making.Unlock()
	n.asked.keys.Range(func(site, key any) bool {
		note.Keys[site.(string)] = key.(string)
		return true
	})
	data, err := json.Marshal(note)
	if err == nil {
		err = n.options.Cache.notes.Note(nodeNote, data)
	}
	if err != nil {
		n.trouble(nil, "what the node knows cannot be noted in the cache: "+err.Error())
	}
}

// lastKnown returns the note of the node; false if there is none that is good.
func (n keeper) lastKnown() (lastNode, bool) {
	var note lastNode
	if n.options.Cache == nil {
		return note, false
	}
	data, err := n.options.Cache.notes.Noted(nodeNote)
	return note, err == nil && json.Unmarshal(data, &note) == nil && note.Format == nodeFormat
}

// begin forgets the notes if they are of another store than the one with a mark.
func (n keeper) begin(mark string) {
	if known, ok := n.lastKnown(); !ok || known.Mark == mark {
		return
	}
	names, err := n.options.Cache.notes.Notes("")
	for _, name := range names {
		if err == nil {
			err = n.options.Cache.notes.Forget(name)
		}
	}
	if err != nil {
		n.trouble(nil, "the notes of another store cannot be removed from the cache: "+err.Error())
	}
}

// restore takes up what environments served last, where nothing better is known. It
// returns how many.
func (n keeper) restore(ctx context.Context) (restored int) {
	known, ok := n.lastKnown()
	if !ok {
		return 0
	}
	names, err := n.options.Cache.notes.Notes(lastPrefix)
	if err != nil {
		n.trouble(nil, "the cache cannot be read: "+err.Error())
	}
	for _, name := range names {
		parts := strings.Split(name, "/")
		if len(parts) != 3 {
			continue
		}
		e := n.all.of(parts[1], parts[2])
		if e.current.Load() != nil {
			continue
		}
		if err := n.restoreOne(ctx, e, name); err != nil {
			n.trouble(e, "what it served last cannot be read from the cache: "+err.Error())
			continue
		}
		restored++
	}
	if restored == 0 {
		return 0
	}

	knowsStore(n.Node, known.Mark)
	n.is.reached.CompareAndSwap(0, known.Reached.UnixNano())
	for site, key := range known.Keys {
		n.asked.keys.LoadOrStore(site, key)
	}
	n.routing.making.Lock()
	if n.routing.owners == nil {
		n.routing.owners = known.Owners
	}
	owners := n.routing.owners
	n.routing.making.Unlock()
	n.reroute(owners)
	return restored
}

// restoreOne takes up what an environment served last.
func (n keeper) restoreOne(ctx context.Context, e *environment, name string) error {
	data, err := n.options.Cache.notes.Noted(name)
	if err != nil {
		return err
	}
	var note last
	if err := json.Unmarshal(data, &note); err != nil {
		return err
	}
	var place struct{ Number int64 }
	if err := json.Unmarshal(note.Entry, &place); err != nil || note.Format != lastFormat {
		return fmt.Errorf("the note is of another version (%d)", note.Format)
	}
	entry, err := journal.Decode(note.Entry, e.journal.Site, e.journal.Environment, place.Number)
	if err != nil {
		return err
	}

	e.mutex.Lock()
	defer e.mutex.Unlock()
	next, err := build(ctx, n.Node, e, entry)
	if err != nil {
		return err
	}
	if next.reader != nil {
		for _, r := range note.Recent {
			// One that cannot be read is not carried over, as after a flip.
			if reader, err := openRelease(ctx, n.Node, e.journal.Site, r.Release); err == nil {
				// Whether everybody could look at it then, the note does not say.
				earlier := recent{id: r.Release, files: answer.EarlierOf(reader), ended: r.Ended}
				next.recent = append(next.recent, earlier)
				next.earlier = append(next.earlier, answer.EarlierOf(reader))
			}
		}
	}
	e.origin = origin{note.Incarnation, note.Restored}
	e.current.CompareAndSwap(nil, next)
	return nil
}

// build loads what an environment serves from an entry on, without what was live
// before.
func build(ctx context.Context, n *Node, e *environment, head journal.Entry) (*serving, error) {
	next := &serving{entry: head, serial: serials.Add(1)}
	if !head.Document.IsZero() {
		if err := next.load(ctx, n.index.Objects, head.Document); err != nil {
			return nil, err
		}
	}
	if head.Release.IsZero() {
		return next, nil
	}
	var err error
	if next.reader, err = openRelease(ctx, n, e.journal.Site, head.Release); err == nil {
		next.answers, err = answer.Open(ctx, next.reader)
	}
	return next, err
}

// openedMost bounds how many roots of releases are remembered.
const openedMost = 500

// openRelease opens a release, of which a copy may be in the cache.
func openRelease(ctx context.Context, n *Node, site string, id release.ID) (*release.Reader, error) {
	key := storage.ReleaseKey(site, id.String())
	if reader, ok := n.index.opened.Load(key); ok {
		return reader.(*release.Reader), nil // its id is the digest of its root
	}
	reader, err := release.Open(ctx, n.index.from, site, id, n.index.Get)
	// A copy that is damaged is not the store's fault.
	if dropper, ok := n.index.from.(httpanswer.Dropper); ok && err != nil &&
		dropper.Drop(key) {
		reader, err = release.Open(ctx, n.index.from, site, id, n.index.Get)
	}
	if err == nil {
		// A root takes a few kB: what is in use is held by whoever uses it.
		if n.index.count.Add(1)%openedMost == 0 {
			n.index.opened.Clear()
		}
		n.index.opened.Store(key, reader)
	}
	return reader, err
}
