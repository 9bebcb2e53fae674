package counting

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/storage"
)

// Records are put with Replace: the last word counts, and needs no more of a store than a hint does.
// Nobody else writes under the key, whose end is random.

// publish writes records of hours that have ended, and those of this one that are due; all of them
// if all is set.
func (c *Counter) publish(ctx context.Context, all bool) {
	r := &round{Counter: c, now: c.Now(), broken: !c.There()}
	r.ctx, r.stop = context.WithCancel(ctx)
	defer r.stop()
	if all {
		c.post.tried = time.Time{} // there is no later
	}
	if !r.broken {
		r.fail(c.post.send(r.ctx, c.Store))
	}
	r.each(func(s *counted) bool { return len(s.ended) > 0 }, r.end)
	// What goes on is noted first, once for all: it may take a while until the last one is written.
	due := func(s *counted) bool {
		return s.changes > s.written && (all || r.now.Sub(s.sent) >= c.Publish || s.sent.After(r.now))
	}
	if r.any(due) && !r.isBroken() {
		c.save()
		r.each(due, func(s *counted) {
			if !r.isBroken() {
				r.fail(c.write(r.ctx, s))
			}
		})
	}
	if !r.isBroken() {
		c.told.set(c, "the store", nil)
	}
}

// A round writes, in this order, as far as nothing fails:
//
//	the outbox       hours that could not be written when they ended, one after the other
//	what has ended   each site's last hour, side by side; what fails now goes into the outbox
//	what is due      the hour that goes on, of sites that were visited since
//
// At the beginning of an hour that is every site that was visited in the one before: ten thousand
// of them take half a minute at a store that is 20 ms away, and no visitor waits for it.

// round is one round of writing. After the first thing that fails nothing more is tried.
type round struct {
	*Counter
	ctx  context.Context
	stop context.CancelFunc
	now  time.Time

	mutex  sync.Mutex
	broken bool
}

// isBroken reports whether something has failed.
func (r *round) isBroken() bool {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	return r.broken
}

// fail notes that something went wrong; nil is nothing.
func (r *round) fail(err error) {
	if err == nil {
		return
	}
	r.mutex.Lock()
	first := !r.broken
	r.broken = true
	r.mutex.Unlock()
	if first {
		r.told.set(r.Counter, "the store", err)
		r.stop()
	}
}

// any reports whether something is to be done for a site.
func (r *round) any(wanted func(*counted) bool) bool {
	return slices.ContainsFunc(r.list(), func(s *counted) bool {
		s.mutex.Lock()
		defer s.mutex.Unlock()
		return wanted(s)
	})
}

// each does something for the sites that want it, as many at once as the store is good for.
func (r *round) each(wanted func(*counted) bool, do func(*counted)) {
	var group errgroup.Group
	group.SetLimit(storage.Parallel(r.Store))
	for _, s := range r.list() {
		s.mutex.Lock()
		is := wanted(s)
		s.mutex.Unlock()
		if is {
			group.Go(func() error { do(s); return nil })
		}
	}
	group.Wait() //nolint:errcheck // each tells of its own
}

// end writes the hours of a site that have ended, or puts them into the outbox.
func (r *round) end(s *counted) {
	s.mutex.Lock()
	ended := slices.Clone(s.ended)
	s.mutex.Unlock()
	for _, h := range ended {
		key, data := h.record(r.Options, s.site)
		written := false
		if !r.isBroken() {
			ctx, cancel := context.WithTimeout(r.ctx, writeTime)
			err := r.Store.Replace(ctx, key, data)
			cancel()
			r.fail(err)
			written = err == nil
		}
		if !written {
			r.post.put(key, data)
		}
	}
	s.mutex.Lock()
	s.ended = s.ended[len(ended):]
	s.noted = -1
	s.mutex.Unlock()
}

// write writes the record of a site's hour, which was noted a moment ago.
func (c *Counter) write(ctx context.Context, s *counted) error {
	s.mutex.Lock()
	h, changes := s.now.copy(), s.changes
	s.mutex.Unlock()
	key, data := h.record(c.Options, s.site)
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	err := c.Store.Replace(ctx, key, data)
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.now.ID != h.ID {
		return err // the hour has ended meanwhile, and is written as a whole
	}
	s.sent = c.Now()
	if err == nil {
		s.written = changes
	}
	return err
}

const (
	// writeTime is how long a record may take.
	writeTime = 20 * time.Second
	// pausedAfter is how long nothing is tried after something failed.
	pausedAfter = 10 * time.Second
)

// While the store does not answer, the first thing that fails ends the round: each try may take as
// long as a store can hang, and the others would go no better. What has ended goes before what
// goes on, since it can only wait.

// outbox keeps records of hours that have ended, until they are in the store.
type outbox struct {
	notes Notebook

	mutex  sync.Mutex
	keys   []string          // in the order in which they came
	bodies map[string][]byte // of those that are in no note
	tried  time.Time
}

// outOf is how the notes of records begin, and the bounds of what waits: a week of a site, or
// some hours of thousands.
const (
	outOf    = "traffic-out/"
	outMost  = 20_000
	heldMost = 200 // in memory
)

// restore finds what waits.
func (o *outbox) restore() {
	if o.notes == nil {
		return
	}
	names, _ := o.notes.Notes(outOf)
	for _, name := range names {
		o.keys = append(o.keys, strings.TrimPrefix(name, outOf))
	}
}

// put adds a record. The oldest go when there are too many. One that waits already says more: it
// comes a second time from a note that was older, after a kill.
func (o *outbox) put(key string, data []byte) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if slices.Contains(o.keys, key) {
		return
	}
	most := outMost
	if o.notes == nil || o.notes.Note(outOf+key, data) != nil {
		o.bodies[key] = data
		most = heldMost
	}
	o.keys = append(o.keys, key)
	for len(o.keys) > most {
		o.drop(o.keys[0])
	}
}

// drop removes a record. The caller holds the outbox.
func (o *outbox) drop(key string) {
	for i, k := range o.keys {
		if k == key {
			o.keys = append(o.keys[:i:i], o.keys[i+1:]...)
			break
		}
	}
	delete(o.bodies, key)
	if o.notes != nil {
		o.notes.Forget(outOf + key) //nolint:errcheck // it is written again, with the same bytes
	}
}

// next returns the record that waits longest.
func (o *outbox) next() (key string, data []byte) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	for len(o.keys) > 0 {
		key = o.keys[0]
		if data = o.bodies[key]; data == nil && o.notes != nil {
			data, _ = o.notes.Noted(outOf + key)
		}
		if data != nil {
			return key, data
		}
		o.drop(key) // its note is damaged
	}
	return "", nil
}

// send writes what waits. After a failure nothing is tried for a while.
func (o *outbox) send(ctx context.Context, store storage.Store) error {
	for {
		key, data := o.next()
		if key == "" {
			return nil
		}
		if time.Since(o.tried) < pausedAfter {
			return errPaused
		}
		one, cancel := context.WithTimeout(ctx, writeTime)
		err := store.Replace(one, key, data)
		cancel()
		if err != nil {
			if ctx.Err() == nil {
				o.tried = time.Now()
			}
			return err
		}
		o.mutex.Lock()
		o.drop(key)
		o.mutex.Unlock()
	}
}

// errPaused: something failed a moment ago.
var errPaused = errors.New("tried a moment ago")

// An operator reads one line when it begins, whatever is tried meanwhile, and the metrics of the store
// for the rest.

// troubles tells of what goes wrong when it begins, and not each time.
type troubles struct {
	mutex sync.Mutex
	is    map[string]bool
}

// set notes that something went wrong, or well.
func (t *troubles) set(c *Counter, where string, err error) {
	if errors.Is(err, errPaused) || errors.Is(err, context.Canceled) {
		return
	}
	t.mutex.Lock()
	was := t.is[where]
	if t.is == nil {
		t.is = map[string]bool{}
	}
	t.is[where] = err != nil
	t.mutex.Unlock()
	if err == nil || was || c.Tell == nil {
		return
	}
	text := fmt.Sprintf("what visitors ask for cannot be written to %s; it is counted on, and tried "+
		"again: %s", where, err)
	if errors.Is(err, storage.ErrDenied) || errors.Is(err, storage.ErrReadOnly) {
		text = fmt.Sprintf("what visitors ask for cannot be written to %s: the node lacks the rights to "+
			"traffic/ and salts/ (docs/stores.md), or count nothing: orilla edge --traffic=false", where)
	}
	c.Tell(text)
}
