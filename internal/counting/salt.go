package counting

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/traffic"
)

// Visitors are told apart by a number under a salt, which nodes share for a day: sealed in the
// store with the secret that they have, made by whoever comes first, and removed after the day. A
// node that has no secret, or does not reach the store, numbers under a salt of its own.

// Midnight comes at a moment, and a store may not answer then: the next day's salt is fetched half an
// hour before. A node that has not got it numbers under its own for that day from then on.

// numbering is the salt of now, and its name.
type numbering struct {
	traffic.Salt
	name   string
	begin  int64 // of the day, in Unix time
	shared bool
	next   *numbering // tomorrow's, if it is known already
}

const (
	// shareEvery is how often a node looks for the salt of the others.
	shareEvery = time.Minute
	// early is how long before midnight the salt of the next day is made.
	early = 30 * time.Minute
	// late is how long after midnight the one of the day before is removed.
	late     = 30 * time.Minute
	saltNote = "traffic-salt"
)

// named returns the numbering under a salt.
func named(s traffic.Salt, shared bool) *numbering {
	day, _ := time.Parse(time.DateOnly, s.Day) // it was made from a time
	return &numbering{Salt: s, name: s.Name(), begin: day.Unix(), shared: shared}
}

// numbering returns how visitors are numbered now. It never waits.
func (c *Counter) numbering(now time.Time) *numbering {
	n := c.salt.Load()
	if n != nil && n.begin <= now.Unix() && now.Unix() < n.begin+24*60*60 {
		return n
	}
	today := traffic.DayOf(now)
	next := named(traffic.NewSalt(today), false)
	if n != nil && n.next != nil && n.next.Day == today {
		next = n.next
	}
	if c.salt.CompareAndSwap(n, next) {
		return next
	}
	return c.numbering(now)
}

// share finds the salt that nodes share, of today and soon of tomorrow, or makes it.
func (c *Counter) share(ctx context.Context) {
	now := c.Now()
	n := c.numbering(now)
	if c.Secret == nil || !c.There() {
		c.noteSalt()
		return
	}
	const patience = 10 * time.Second
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if !n.shared {
		if salt, err := c.shared(ctx, n.Day); err == nil {
			c.salt.CompareAndSwap(n, named(salt, true))
		}
	}
	if tomorrow := traffic.DayOf(now.Add(early)); tomorrow != n.Day {
		n = c.salt.Load()
		if n.next == nil || n.next.Day != tomorrow {
			if salt, err := c.shared(ctx, tomorrow); err == nil {
				with := *n
				with.next = named(salt, true)
				c.salt.CompareAndSwap(n, &with)
			}
		}
	} else if c.cleaned != n.Day && traffic.DayOf(now.Add(-late)) == n.Day {
		c.clean(ctx, now)
		c.cleaned = n.Day
	}
	c.noteSalt()
}

// shared returns the salt of a day that is in the store. Of several nodes that make one at once,
// one does.
func (c *Counter) shared(ctx context.Context, day string) (traffic.Salt, error) {
	key := storage.SaltKey(day)
	place := sealed.Place{Store: c.Mark(), Name: key}
	for range 2 {
		data, err := c.Store.Get(ctx, key)
		if err == nil {
			opened, _, err := c.Secret.Open(place, data)
			salt := traffic.Salt{Day: day}
			if err != nil || len(opened) != len(salt.Data) {
				return salt, errors.Join(err, sealed.ErrClosed)
			}
			copy(salt.Data[:], opened)
			return salt, nil
		}
		if !errors.Is(err, storage.ErrNotFound) {
			return traffic.Salt{}, err
		}
		made := traffic.NewSalt(day)
		if data, err = c.Secret.Seal(place, 1, made.Data[:]); err == nil {
			err = c.Store.Create(ctx, key, data)
		}
		if err == nil {
			return made, nil
		}
		if !errors.Is(err, storage.ErrExists) {
			return traffic.Salt{}, err
		}
	}
	return traffic.Salt{}, storage.ErrNotFound
}

// Removing is nobody's in particular: each node tries once a day, and what is gone is gone. A bucket
// that keeps old versions keeps them sealed, until its own rules let them go.

// clean removes the salts of days that are over, with which it could be tried whether somebody
// was among the visitors.
func (c *Counter) clean(ctx context.Context, now time.Time) {
	over := traffic.DayOf(now.Add(-late))
	for item, err := range c.Store.List(ctx, storage.SaltsKey) {
		if err != nil {
			return
		}
		if day := item.Key[len(storage.SaltsKey)+1:]; traffic.IsDay(day) && day < over {
			c.Store.Delete(ctx, item.Key) //nolint:errcheck // the next one does
		}
	}
}

// saltRecord is the note of the salt of now.
type saltRecord struct {
	Day    string
	Data   []byte
	Shared bool
}

// The note is as readable as the node's own memory is to whoever runs it, and is replaced at
// midnight as the salt is.

// noteSalt notes the salt, so that a node that is started again tells the same visitors apart.
func (c *Counter) noteSalt() {
	n := c.salt.Load()
	if c.Notes == nil || n == nil {
		return
	}
	data, err := json.Marshal(saltRecord{n.Day, n.Data[:], n.shared})
	if before, err2 := c.Notes.Noted(saltNote); err2 == nil && string(before) == string(data) {
		return
	}
	if err == nil {
		err = c.Notes.Note(saltNote, data)
	}
	c.told.set(c, "the cache", err)
}

// restoreSalt reads the note of the salt, if it is of today.
func (c *Counter) restoreSalt() {
	data, err := c.Notes.Noted(saltNote)
	var r saltRecord
	if err != nil || json.Unmarshal(data, &r) != nil || r.Day != traffic.DayOf(c.Now()) {
		c.Notes.Forget(saltNote) //nolint:errcheck // of a day that is over: it is replaced
		return
	}
	salt := traffic.Salt{Day: r.Day}
	if copy(salt.Data[:], r.Data) == len(salt.Data) {
		c.salt.Store(named(salt, r.Shared))
	}
}
