package access

import (
	"context"
	"crypto/sha256"
	"errors"
	"net/netip"
	"runtime"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// ErrTooMany: a client has guessed too often, or too many guess at once. The password
// was not looked at.
var ErrTooMany = errors.New("too many guesses")

// Guesses bounds what guessing passwords can take of a machine, for all gates of a
// server together. Guesses of one client are looked at one by one, and each that is
// wrong makes it wait longer; of clients that wait, the last one is served first, so
// that a crowd keeps nobody out who comes with a password that is right. It is safe
// for concurrent use.
type Guesses struct {
	now func() time.Time

	mutex   sync.Mutex
	free    int             // how many more may be looked at now
	waiting []chan struct{} // for a place, the last one served first
	clients map[netip.Prefix]*guesser
	wrong   map[[sha256.Size]byte]bool // guesses that were wrong
	flights map[[sha256.Size]byte]*flight
}

// guesser is a client that has guessed.
type guesser struct {
	busy  bool      // one of its guesses is being looked at
	wrong int       // how many were wrong in a row
	until time.Time // until when none is looked at
}

const (
	freeGuesses = 4               // that are wrong, before a client has to wait
	firstWait   = time.Second     // after the next one; each further one doubles it
	longestWait = 5 * time.Minute // at most
	forgetAfter = time.Hour       // a client that has not guessed since

	mostWaiting = 64    // guesses that wait for a place
	mostClients = 10000 // that are remembered
	mostWrong   = 10000 // guesses that are remembered
	waitsFor    = 3 * time.Second
)

// NewGuesses returns bounds by a clock; nil is the machine's.
func NewGuesses(now func() time.Time) *Guesses {
	if now == nil {
		now = time.Now
	}
	// Half of the processors: the others serve pages.
	return &Guesses{now: now, free: max(1, runtime.NumCPU()/2), clients: map[netip.Prefix]*guesser{},
		wrong: map[[sha256.Size]byte]bool{}, flights: map[[sha256.Size]byte]*flight{}}
}

// Wait returns how long a client has to wait before its next guess is looked at.
func (g *Guesses) Wait(client netip.Prefix) time.Duration {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if found := g.clients[client]; found != nil {
		return max(0, found.until.Sub(g.now()))
	}
	return 0
}

// guess is a password with the hashes that it may belong to.
type guess struct {
	password string
	hashes   []string
	sum      [sha256.Size]byte // of all of it
}

// flight is a guess that is being looked at, for all who made the same.
type flight struct {
	done  chan struct{}
	right int // the index of the hash that fits; -1 for none
	err   error
}

// look returns the index of the hash that a password belongs to, -1 for none. The error
// is ErrTooMany, or that of the context.
func (g *Guesses) look(ctx context.Context, client netip.Prefix, of guess) (right int, err error) {
	for {
		f, mine, err := g.begin(client, of.sum)
		if f == nil {
			return -1, err // it is wrong for certain, or not looked at
		}
		if mine {
			f.right, f.err = g.compare(ctx, of)
			g.end(client, of.sum, f)
			return f.right, f.err
		}

		select {
		case <-f.done:
		case <-ctx.Done():
			return -1, ctx.Err()
		}
		// Whoever looked may have gone before the end.
		if f.err == nil || errors.Is(f.err, ErrTooMany) {
			return f.right, f.err
		}
	}
}

// compare looks at a guess as soon as there is a place.
func (g *Guesses) compare(ctx context.Context, of guess) (int, error) {
	if err := g.enter(ctx); err != nil {
		return -1, err
	}
	defer g.leave()
	for i, hash := range of.hashes {
		if bcrypt.CompareHashAndPassword([]byte(hash), []byte(of.password)) == nil {
			return i, nil
		}
	}
	return -1, nil
}

// begin begins a guess of a client, or joins the one that is the same. Without a flight
// it is wrong, or the error says why it is not looked at.
func (g *Guesses) begin(client netip.Prefix, sum [sha256.Size]byte) (f *flight, mine bool, err error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if g.wrong[sum] {
		return nil, false, nil // a browser that asks for many things with the same wrong password
	}
	if f, ok := g.flights[sum]; ok {
		return f, false, nil
	}
	now := g.now()
	found := g.clients[client]
	if found == nil {
		if len(g.clients) >= mostClients {
			g.forget(now)
		}
		found = &guesser{}
		g.clients[client] = found
	}
	if found.busy || now.Before(found.until) {
		return nil, false, ErrTooMany
	}
	found.busy = true
	f = &flight{done: make(chan struct{}), right: -1}
	g.flights[sum] = f
	return f, true, nil
}

// forget makes room for a client: those go that have not guessed for long, or else any.
func (g *Guesses) forget(now time.Time) {
	for client, one := range g.clients {
		if !one.busy && now.Sub(one.until) > forgetAfter {
			delete(g.clients, client)
		}
	}
	for client, one := range g.clients {
		if len(g.clients) < mostClients {
			break
		}
		if !one.busy {
			delete(g.clients, client)
		}
	}
}

// end ends a guess of a client, and tells those who made the same.
func (g *Guesses) end(client netip.Prefix, sum [sha256.Size]byte, f *flight) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	delete(g.flights, sum)
	close(f.done)
	found := g.clients[client]
	found.busy = false
	switch {
	case f.err != nil:
	case f.right >= 0:
		delete(g.clients, client)
	default:
		if len(g.wrong) >= mostWrong {
			clear(g.wrong)
		}
		g.wrong[sum] = true
		found.wrong++
		found.until = g.now()
		if over := found.wrong - freeGuesses; over > 0 {
			found.until = found.until.Add(min(firstWait<<min(over-1, 20), longestWait))
		}
	}
}

// enter waits for a place among the guesses that are looked at. It fails with the
// context, or if too many wait for too long.
func (g *Guesses) enter(ctx context.Context) error {
	g.mutex.Lock()
	if g.free > 0 {
		g.free--
		g.mutex.Unlock()
		return nil
	}
	place := make(chan struct{})
	g.waiting = append(g.waiting, place)
	if len(g.waiting) > mostWaiting {
		// The one that has waited the longest has no hope.
		close(g.waiting[0])
		g.waiting = g.waiting[1:]
	}
	g.mutex.Unlock()

	timer := time.NewTimer(waitsFor)
	defer timer.Stop()
	var err error
	select {
	case _, given := <-place:
		if given {
			return nil
		}
		return ErrTooMany
	case <-ctx.Done():
		err = ctx.Err()
	case <-timer.C:
		err = ErrTooMany
	}

	g.mutex.Lock()
	defer g.mutex.Unlock()
	for i, other := range g.waiting {
		if other == place {
			g.waiting = append(g.waiting[:i], g.waiting[i+1:]...)
			return err
		}
	}
	// It was given a place, or put off, at this very moment.
	go func() {
		if _, given := <-place; given {
			g.leave()
		}
	}()
	return err
}

// leave gives a place to whoever came last.
func (g *Guesses) leave() {
	g.mutex.Lock()
	if len(g.waiting) == 0 {
		g.free++
		g.mutex.Unlock()
		return
	}
	last := g.waiting[len(g.waiting)-1]
	g.waiting = g.waiting[:len(g.waiting)-1]
	g.mutex.Unlock()
	last <- struct{}{}
}
