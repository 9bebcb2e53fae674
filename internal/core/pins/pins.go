// Package pins lets writers rely on what is in a store
// while others remove from it.
//
// A writer takes a pin before it looks at what is there, and drops it when its
// journal entry is written. Who removes publishes the list of what it condemns,
// and only then reads the pins:
//
//	writer:   pin -- look at the lists -- put objects -- look again -- root, entry -- drop the pin
//	remover:  list -- read the pins -- wait for them -- spare what is reachable now -- delete -- end
//
// Either the remover sees the pin, and then waits for the writer and spares
// what it has made; or the pin is younger than the remover's look, and then the
// writer sees the list: it does not rely on a release that is on it, and of
// objects that it put and that are on it, it waits for the end of the removal
// and puts them again. Neither waits for the other at the same time: a writer
// that a remover waits for goes on.
//
// Both are leases by the store's clock, which are renewed.
// A writer writes nothing that counts once its pin has
// lapsed; a remover deletes nothing once its removal has.
package pins

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/storage"
)

// Times of the protocol.
const (
	Lease = 10 * time.Minute // how long a pin or a removal counts after it was last written
	renew = 2 * time.Minute  // how often it is written again
	// before which a lease counts as over for its holder,
	// and after which for others
	margin = 1 * time.Minute
	keep   = 24 * time.Hour // how long ended removals and lapsed pins are kept
)

// Landing is how long after a request was given up it may still take effect.
// Longer is assumed not to happen (docs/trust.md): a lease's holder gives up
// its requests that long before the lease ends.
const Landing = margin

// Errors that callers decide on.
var (
	// ErrLapsed: the pin could not be renewed in time, so
	// what it protected may be gone.
	ErrLapsed = errors.New("this machine was too slow, or asleep, so that another may " +
		"have removed what was relied on")
	// ErrRemoved: the site is being removed.
	ErrRemoved = errors.New("the site is being removed")
)

// Pin says that somebody relies on what is in the store right now.
type Pin struct {
	Format int       `json:"format"`
	Site   string    `json:"site"`
	Who    string    `json:"who"`
	What   string    `json:"what"` // "deploy", "rollback", ...
	Since  time.Time `json:"since"`
}

const format = 1

// Hold is a pin that this process has.
type Hold struct {
	Ahead time.Duration // how far the store's clock is before this machine's

	store  storage.Store
	key    string
	pin    Pin
	lease  *lease
	runs   map[string]*run // by id, as they were last seen
	before map[string]bool // runs that had ended before the pin was taken, or were settled
}

// Take pins. id is random. It reads what is being removed, so that Doomed
// knows. The error is storage.ErrClock if this machine's clock is off by more
// than storage.ClockLimit, or what the store said. The caller calls Drop.
func Take(ctx context.Context, store storage.Store, id string, pin Pin) (*Hold, error) {
	h := &Hold{store: store, key: storage.PinKey(id), pin: pin, runs: map[string]*run{},
		before: map[string]bool{}}
	h.pin.Format = format
	// Taken before the write: whatever the request takes makes the lease
	// shorter for its holder, and never longer.
	now := time.Now()
	data, err := canon.Marshal(h.pin)
	if err != nil {
		return nil, err
	}

	if err := store.Create(ctx, h.key, data); err != nil {
		return nil, err
	}
	// Renewed from here on by a goroutine of its own; a build may take longer
	// than a lease.
	h.lease = hold(ctx, store, h.key, data, now)
	if h.Ahead, err = storage.Ahead(ctx, store, h.key, now); err == nil {
		err = h.first(ctx)
	}

	if err != nil {
		h.Drop(ctx)
		return nil, err
	}
	return h, nil
}

// Drop ends the hold. Without it, the pin lapses; so it
// does if something was written of which nothing is known:
// it may still arrive, and then it relies on what is there.
func (h *Hold) Drop(ctx context.Context) {
	if h == nil {
		return
	}
	// A write of which no answer came may still arrive. The pin stays to
	// protect what it writes, and lapses.
	if h.lease.end(); h.lease.unclear.Load() {
		return
	}

	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	h.store.Delete(ctx, h.key) //nolint:errcheck // it lapses
}

// Check returns ErrLapsed if the pin may no longer be relied on. It is asked
// just before something is written that counts.
func (h *Hold) Check() error {
	if !h.lease.holds() {
		return ErrLapsed
	}
	return nil
}

// Writer returns the store for what counts: roots, build records and entries.
// It refuses to write once the pin has lapsed (ErrLapsed), and waits for no
// write beyond that. Writers of such records use no other.
func (h *Hold) Writer() storage.Store { return &writer{h.store, h.lease, ErrLapsed} }

// first reads which removals are going on, and whether they know of this pin.
func (h *Hold) first(ctx context.Context) error {
	var wait patient
	// A removal that began before the pin may not have read the pins yet. A few
	// seconds tell whether it waits for this one; if not, this writer keeps
	// away from what is on its list, which is always right.
	for deadline := time.Now().Add(patience); ; {
		unsure := false
		if err := h.refresh(ctx); err != nil {
			return err
		}
		for id, r := range h.runs {
			if r.over() {
				h.before[id] = true
			} else if !r.hasPins {
				unsure = true
			}
		}

		if !unsure || time.Now().After(deadline) {
			return nil
		}
		if err := wait.pause(ctx); err != nil {
			return err
		}
	}
}

// patience is how long a writer waits for a remover to say
// whether it knows of the writer's pin. One that was killed
// in between never does; it counts as one that does not.
const patience = 3 * time.Second

// patient waits between looks, first for a tenth of a second, then longer and
// longer, up to two seconds: each look asks the store.
type patient time.Duration

// pause waits a little longer each time, from 100 milliseconds to two seconds:
// who waits for minutes need not ask ten times a second.
func (p *patient) pause(ctx context.Context) error {
	*p = min(max(*p*5/4, patient(100*time.Millisecond)), patient(2*time.Second))
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Duration(*p)):
		return nil
	}
}

// against returns the removals that do not know of this
// pin and were not over when it was taken.
func (h *Hold) against() (runs []*run) {
	for id, r := range h.runs {
		if !h.before[id] && !r.waitsFor[h.key] {
			runs = append(runs, r)
		}
	}
	return runs
}

// Doomed reports whether the key of a release is being removed, so that nothing
// may rely on it. It asks nothing of the store.
func (h *Hold) Doomed(key string) bool {
	for _, r := range h.against() {
		if r.keys[key] {
			return true
		}
	}
	return false
}

// Settle is called when everything that a release consists of has been
// put, before its root is written. put says whether a key was put, or
// was found to be there, since the pin was taken, or is about to be:
// the root's own key too. It waits for removals that touch those,
// telling of each; again says that some may have been deleted since,
// so that they must be put once more, and Settle be called again.
func (h *Hold) Settle(ctx context.Context, put func(key string) bool, waiting func(who string),
) (again bool, err error) {
	told, pauses := map[string]bool{}, patient(0)
	for {
		if err := h.refresh(ctx); err != nil {
			return false, err
		}
		wait := false
		for _, r := range h.against() {
			switch {
			// What it removes is nothing of ours.
			case !r.touches(put):
			case !r.over():
				wait = true
				if !told[r.id] {
					told[r.id] = true
					waiting(r.Who)
				}
			default:
				// It has ended, and objects of ours may be gone with it. From
				// now on it counts as earlier, and what was put is put again.
				h.before[r.id] = true
				again = true
			}
		}

		if !wait {
			return again, h.Check()
		}
		if err := pauses.pause(ctx); err != nil {
			return false, err
		}
	}
}

// refresh reads what is in prune/. A list is read once.
func (h *Hold) refresh(ctx context.Context) error {
	runs, err := readRuns(ctx, h.store, h.Ahead, h.runs)
	if err != nil {
		return err
	}
	h.runs = runs

	for id, r := range runs {
		if r.sites[h.pin.Site] && !h.before[id] && !r.over() && !r.waitsFor[h.key] {
			return fmt.Errorf("%w by %s", ErrRemoved, r.Who)
		}
	}
	return nil
}

// run is one removal as a writer sees it: what it condemned, and how far it is.
type run struct {
	Record
	id       string
	keys     map[string]bool
	sites    map[string]bool
	hasPins  bool
	waitsFor map[string]bool
	ended    bool
	lapsed   bool
}

// over reports whether nothing will be deleted any more.
func (r *run) over() bool { return r.ended || r.lapsed }

// touches reports whether a removal takes away something that was put.
func (r *run) touches(put func(string) bool) bool {
	for key := range r.keys {
		if put(key) {
			return true
		}
	}
	return false
}

// Record is the list of a removal: prune/<id>.list.
type Record struct {
	Format int       `json:"format"`
	Who    string    `json:"who"`
	Begun  time.Time `json:"begun"`
	Keys   []string  `json:"keys"`            // what will be deleted
	Sites  []string  `json:"sites,omitempty"` // that are removed as a whole
}

// waitRecord is prune/<id>.pins: which pins the remover waits for.
type waitRecord struct {
	Format int      `json:"format"`
	Pins   []string `json:"pins"`
}

// readRuns reads the removals that prune/ tells of. known
// are those of an earlier look.
func readRuns(ctx context.Context, store storage.Store, ahead time.Duration, known map[string]*run,
) (map[string]*run, error) {
	type stages struct {
		list       bool
		renewed    time.Time
		pins, ends bool
	}

	found := map[string]*stages{}
	for item, err := range store.List(ctx, storage.PruneKey) {
		if err != nil {
			return nil, err
		}
		// Four records for each removal: its list, its lease, the pins that it
		// waits for, its end.
		id, stage, _ := strings.Cut(item.Name(), ".")
		if found[id] == nil {
			found[id] = &stages{}
		}

		switch stage {
		case "list":
			found[id].list = true
		case "run":
			found[id].renewed = item.Modified
		case "pins":
			found[id].pins = true
		case "end":
			found[id].ends = true
		}
	}

	runs := map[string]*run{}
	for id, s := range found {
		// Without a list nothing was condemned.
		if !s.list {
			continue
		}
		r := known[id]
		if r == nil {
			r = &run{id: id}
		}

		r.ended, r.lapsed = s.ends, lapsed(s.renewed, ahead)
		if err := r.read(ctx, store, s.pins); errors.Is(err, storage.ErrNotFound) {
			continue // cleaned since
		} else if err != nil {
			return nil, err
		}
		runs[id] = r
	}

	return runs, nil
}

// read loads what of a removal is not known yet.
func (r *run) read(ctx context.Context, store storage.Store, pins bool) error {
	// Lists never change, so each is read once.
	if r.keys == nil {
		data, err := store.Get(ctx, storage.PruneKey+"/"+r.id+".list")
		if err != nil {
			return err
		}
		if err := canon.Unmarshal(data, &r.Record); err != nil || r.Format != format {
			return fmt.Errorf("%s/%s.list cannot be read: %w", storage.PruneKey, r.id, canon.Cause(err))
		}
		r.keys, r.sites = set(r.Keys), set(r.Sites)
	}

	if pins && !r.hasPins {
		data, err := store.Get(ctx, storage.PruneKey+"/"+r.id+".pins")
		if err != nil {
			return err
		}
		var wait waitRecord
		if err := canon.Unmarshal(data, &wait); err != nil {
			return fmt.Errorf("%s/%s.pins cannot be read: %w", storage.PruneKey, r.id, err)
		}
		r.hasPins, r.waitsFor = true, set(wait.Pins)
	}

	return nil
}

// set returns a list as a set.
func set(list []string) map[string]bool {
	all := make(map[string]bool, len(list))
	for _, one := range list {
		all[one] = true
	}
	return all
}
