// Package counting is how an edge node counts its visits (internal/core/traffic), keeps the counts
// through kills, and writes them to its store.
//
//	Visited --> tallies in memory --> notes in the cache     every few seconds
//	                              \-> a record in the store  after minutes, and at the hour's end
//	                                   \-> notes, if the store does not answer: later
//
// A record is what was counted within an hour, and replaces what was written of that hour before.
// It goes to the store only after the note that it could be counted on from, so that after a kill
// a node goes on where its note was: what came within the last seconds is lost, and nothing is
// counted twice. Without a cache there are no notes; then records go to the store each minute.
//
// No visitor waits for any of this: a visit costs a hash and some additions in memory.
package counting

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/core/visits"
)

// Notebook keeps small records on the node's own disk (diskcache.Cache).
type Notebook interface {
	Note(name string, data []byte) error
	Noted(name string) ([]byte, error)
	Notes(prefix string) ([]string, error)
	Forget(name string) error
}

// What is lost when, at most:
//
//	a kill with a cache           what came since the last note: five seconds, or a twentieth of the
//	                              time that notes of thousands of sites take, never over 45
//	a kill without one            what came since the last record: a minute
//	a full disk                   the same; the store goes on getting records
//	a store that is away          nothing for weeks; then the oldest hours
//	SIGTERM                       nothing

// Options say how a node counts.
type Options struct {
	Store storage.Store
	// Mark returns the random id of the store, to which what is sealed is bound; nil: "".
	Mark         func() string
	Node, Region string
	Notes        Notebook       // nil: without a cache
	Secret       *sealed.Secret // what nodes share; nil: each counts visitors by itself
	// There reports whether the store is the one that it was; nil: it is.
	There func() bool
	Now   func() time.Time // by the store's clock; nil: this machine's
	Tell  func(text string)
	// Memory is about how many bytes names may take.
	Memory int64
	// Save and Publish are how often notes and records are written; 0: 5 s, and 5 minutes, or one
	// without notes.
	Save, Publish time.Duration
}

// How a visit goes on:
//
//	14:00:03   counted: the hour from 14:00 begins, with a random name for its record
//	14:00:05   noted in the cache
//	14:00:23   written to the store, the first time in this hour
//	14:05:23   written again under the same key, with what came meanwhile; and so on
//	15:00:00   the next visit, or the next second without one, ends the hour: it is noted as ended,
//	           and written to the store a last time, or to the outbox if that does not answer
//
// Each of these may be the last thing that a node does: what it begins with then is the note.

// Counter counts the visits of a node. Visited may be called from many goroutines.
type Counter struct {
	Options

	mutex sync.RWMutex
	sites map[string]*counted
	stale map[string]bool // notes in which a site stands that was forgotten
	held  atomic.Int64    // tallies in memory

	salt    atomic.Pointer[numbering]
	cleaned string // the day on which salts of earlier ones were removed

	post outbox
	told troubles
}

// counted is what is counted of a site.
type counted struct {
	site string

	mutex   sync.Mutex
	now     hour
	ended   []hour // that are not in the outbox yet
	changes int64  // of this hour
	noted   int64  // how many of them are in the note
	written int64  // and in the store
	sent    time.Time
	gone    bool // nobody finds it any more
}

// hour is what was counted within an hour, as it is noted.
type hour struct {
	Begin   time.Time                 `json:",omitzero"`  // zero for none
	ID      string                    `json:",omitempty"` // of the record
	Until   time.Time                 `json:",omitzero"`
	Tallies map[string]*traffic.Tally `json:",omitempty"` // by environment
}

// copy returns an hour that shares nothing.
func (h *hour) copy() hour {
	c := *h
	c.Tallies = make(map[string]*traffic.Tally, len(h.Tallies))
	for environment, t := range h.Tallies {
		c.Tallies[environment] = t.Copy()
	}
	return c
}

// New returns a counter that goes on from its notes.
func New(o Options) *Counter {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Mark == nil {
		o.Mark = func() string { return "" }
	}
	if o.There == nil {
		o.There = func() bool { return true }
	}
	if o.Save == 0 {
		o.Save = 5 * time.Second
	}
	if o.Publish == 0 {
		o.Publish = 5 * time.Minute
		if o.Notes == nil {
			o.Publish = time.Minute
		}
	}
	c := &Counter{Options: o, sites: map[string]*counted{}, stale: map[string]bool{}}
	c.post = outbox{notes: o.Notes, bodies: map[string][]byte{}}
	c.restore()
	c.post.restore()
	return c
}

// ofRelease is what visits are counted under that are of no environment: a release was looked at.
const ofRelease = "release"

// Visited counts a visit.
func (c *Counter) Visited(v *visits.Visit) {
	if v.Site == "" {
		return
	}
	now := c.Now()
	n := c.numbering(now)
	number := n.Number(v.Client, v.Agent)
	environment := v.Environment
	if environment == "" {
		environment = ofRelease
	}

	s := c.site(v.Site)
	s.mutex.Lock()
	for s.gone { // it was forgotten since
		s.mutex.Unlock()
		s = c.site(v.Site)
		s.mutex.Lock()
	}
	defer s.mutex.Unlock()
	if begin := now.UTC().Truncate(time.Hour); !begin.Equal(s.now.Begin) {
		c.turn(s, begin)
	}
	t := s.now.Tallies[environment]
	if t == nil {
		t = traffic.NewTally(c.bounds())
		s.now.Tallies[environment] = t
		c.held.Add(1)
	}
	t.Add(v, n.name, number)
	s.now.Until = now
	s.changes++
}

// Names take what memory is given for them, whoever asks for what: a node of a few sites keeps many
// of each, one of thousands few of most, and sums of all. A tally keeps the bounds that it began
// with, so that what was told of an hour is not taken back in it.

// bounds are those of one more tally: when there are many, each has less.
func (c *Counter) bounds() traffic.Bounds {
	const usual, few = 400 << 10, 40 << 10
	switch full := c.Memory / usual; {
	case c.held.Load() < full:
		return traffic.Usual
	case c.held.Load() < full+c.Memory/few:
		return traffic.Few
	}
	return traffic.Bounds{} // sums only
}

// site returns what is counted of a site.
func (c *Counter) site(name string) *counted {
	c.mutex.RLock()
	s := c.sites[name]
	c.mutex.RUnlock()
	if s != nil {
		return s
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if s = c.sites[name]; s == nil {
		s = &counted{site: strings.Clone(name)}
		c.sites[s.site] = s
	}
	return s
}

// turn ends an hour and begins another one. A visitor waits for it, so the one that ended is only
// put aside. A clock that was set back begins a new record too: the one of that hour says what
// it said. The caller holds the site.
func (c *Counter) turn(s *counted, begin time.Time) {
	before := s.now
	s.now = hour{Begin: begin, ID: strings.ToLower(rand.Text()), Tallies: map[string]*traffic.Tally{}}
	if traffic.DayOf(begin) == traffic.DayOf(before.Begin) {
		for environment, t := range before.Tallies {
			s.now.Tallies[environment] = t.Next()
		}
	} else {
		c.held.Add(-int64(len(before.Tallies)))
	}
	if s.changes > s.written {
		s.ended = append(s.ended, before)
	}
	// The first record of an hour is soon there: whoever has just begun wants to see something.
	s.changes, s.written, s.noted, s.sent = 0, 0, -1, c.Now().Add(min(0, soon-c.Publish))
}

// record returns the record of an hour and its key.
func (h *hour) record(o Options, site string) (key string, data []byte) {
	day, name := traffic.DayOf(h.Begin), traffic.HourOf(h.Begin)
	r := traffic.Record{Site: site, Day: day, Node: o.Node, Region: o.Region,
		Until: h.Until.UTC().Truncate(time.Second), Hours: map[string]map[string]traffic.Counts{name: {}}}
	for environment, t := range h.Tallies {
		if t.Sum.Requests > 0 {
			r.Hours[name][environment] = t.Told()
		}
	}
	data, err := r.Encode()
	if err != nil {
		panic(err) // numbers and strings can be encoded
	}
	return storage.TrafficRecord(site, day, name+"-"+h.ID), data
}

// soon is after what time the first record of an hour is written.
const soon = 20 * time.Second

// note is what is kept of a site on the node's own disk.
type note struct {
	Format int
	Node   string
	Site   string
	Now    hour
	Ended  []hour `json:",omitempty"`
	Sent   bool   `json:",omitzero"` // all of it is in the store
}

// A note is written before the record that it leads to, and forgets an hour after the record of that
// hour was written: a node that is killed in between writes the same again.

// Sites are kept in a number of notes, so that thousands of them are flushed together.
const (
	notesFormat = 1
	notesOf     = "traffic/"
	noteCount   = 32
)

// noteOf names the note that a site is in.
func noteOf(site string) string {
	h := fnv.New32a()
	h.Write([]byte(site))
	return notesOf + strconv.Itoa(int(h.Sum32()%noteCount))
}

// restore reads the notes. Those of a node of another name are of a copied machine, which goes on
// with its own, and are dropped.
func (c *Counter) restore() {
	if c.Notes == nil {
		return
	}
	c.restoreSalt()
	names, _ := c.Notes.Notes(notesOf)
	for _, name := range names {
		var list []note
		if data, err := c.Notes.Noted(name); err != nil || json.Unmarshal(data, &list) != nil {
			continue
		}
		for _, n := range list {
			if n.Format != notesFormat || n.Node != c.Node || n.Now.ID == "" {
				continue
			}
			s := &counted{site: n.Site, now: n.Now, ended: n.Ended, changes: 1, noted: 1, sent: c.Now()}
			if n.Sent {
				s.written = 1
			}
			if s.now.Tallies == nil {
				s.now.Tallies = map[string]*traffic.Tally{}
			}
			for environment, t := range s.now.Tallies {
				if t == nil {
					delete(s.now.Tallies, environment)
					continue
				}
				t.Within(c.bounds())
				c.held.Add(1)
			}
			c.sites[n.Site] = s
		}
	}
}

// list returns the sites in order.
func (c *Counter) list() []*counted {
	c.mutex.RLock()
	defer c.mutex.RUnlock()
	list := make([]*counted, 0, len(c.sites))
	for _, s := range c.sites {
		list = append(list, s)
	}
	slices.SortFunc(list, func(a, b *counted) int { return strings.Compare(a.site, b.site) })
	return list
}

// save notes what was counted since it was noted last.
func (c *Counter) save() {
	if c.Notes == nil {
		return
	}
	in := map[string][]*counted{}
	c.mutex.Lock()
	dirty := c.stale
	c.stale = map[string]bool{}
	c.mutex.Unlock()
	for name := range dirty {
		in[name] = nil
	}
	for _, s := range c.list() {
		name := noteOf(s.site)
		in[name] = append(in[name], s)
		s.mutex.Lock()
		dirty[name] = dirty[name] || s.changes != s.noted
		s.mutex.Unlock()
	}
	for name, list := range in {
		switch {
		case !dirty[name]:
		case len(list) == 0:
			c.told.set(c, "the cache", c.Notes.Forget(name))
		default:
			c.told.set(c, "the cache", c.saveOne(name, list))
		}
	}
}

// saveOne writes a note. Sites are copied while visitors wait, and written while they do not.
func (c *Counter) saveOne(name string, list []*counted) error {
	notes, changes := make([]note, len(list)), make([]int64, len(list))
	for i, s := range list {
		s.mutex.Lock()
		notes[i] = note{notesFormat, c.Node, s.site, s.now.copy(), slices.Clone(s.ended),
			s.changes == s.written}
		changes[i] = s.changes
		s.mutex.Unlock()
	}
	data, err := json.Marshal(notes)
	if err == nil {
		err = c.Notes.Note(name, data)
	}
	if err != nil {
		return err
	}
	for i, s := range list {
		s.mutex.Lock()
		if s.now.ID == notes[i].Now.ID {
			s.noted = changes[i]
		}
		s.mutex.Unlock()
	}
	return nil
}

// Run notes and writes what is counted until the context ends, and then, for a few seconds, what
// is left.
func (c *Counter) Run(ctx context.Context) {
	c.meet(ctx)
	tick := time.NewTicker(min(time.Second, c.Save))
	defer tick.Stop()
	saved, shared := time.Now(), time.Now()
	pause := c.Save
	for ctx.Err() == nil {
		if now := time.Now(); now.Sub(shared) > shareEvery {
			shared = now
			c.share(ctx)
		}
		if now := time.Now(); now.Sub(saved) >= pause {
			c.save()
			saved = time.Now()
			// Thousands of sites take their time: no more than a twentieth of it all, and never more
			// than a minute is lost.
			pause = min(max(c.Save, 20*saved.Sub(now)), 45*time.Second)
		}
		c.turnAll()
		c.publish(ctx, false)
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
	const last = 5 * time.Second
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), last)
	defer cancel()
	c.turnAll()
	c.save()
	c.publish(ending, true)
}

// meet finds the salt of the others as soon as the store is there. Visitors come all the same, and
// are counted under one of the node's own until then.
func (c *Counter) meet(ctx context.Context) {
	const often, patience = 20 * time.Millisecond, 10 * time.Second
	for began := time.Now(); !c.There() && time.Since(began) < patience; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(often):
		}
	}
	c.share(ctx)
}

// turnAll ends the hours that are over where nobody came since, and notes what has ended: a record
// that is written from now on is never more than what a restart would write again.
func (c *Counter) turnAll() {
	begin := c.Now().UTC().Truncate(time.Hour)
	ended := false
	for _, s := range c.list() {
		s.mutex.Lock()
		if !s.now.Begin.IsZero() && !s.now.Begin.Equal(begin) {
			c.turn(s, begin)
		}
		ended = ended || len(s.ended) > 0
		// A site that nobody asks for any more costs nothing.
		empty := s.changes == 0 && len(s.now.Tallies) == 0 && len(s.ended) == 0
		s.mutex.Unlock()
		if empty {
			c.forget(s)
		}
	}
	if ended {
		c.save()
	}
}

// forget drops a site that nothing was counted of.
func (c *Counter) forget(s *counted) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.changes == 0 && len(s.now.Tallies) == 0 && len(s.ended) == 0 && c.sites[s.site] == s {
		delete(c.sites, s.site)
		s.gone = true
		c.stale[noteOf(s.site)] = true
	}
}
