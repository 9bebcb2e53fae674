package issuance

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// A lock is held by who created its lowest number, and renews it. One that did not change
// for a while, by the clock of whoever waits, is of a node that was killed: the next number
// takes its place.
//
//	certificates/<sha256 of name>/lock.1    a node, and a random text that changes
//	certificates/<sha256 of name>/lock.2    of who found the first one dead
//
// A lock saves work and orders: if two nodes hold one, for a moment, both order.
type lock struct {
	key  string
	stop context.CancelFunc
	done sync.WaitGroup
}

// How often a lock is written anew, how long one may stay as it is, and how often whoever
// waits looks again. Tests make them shorter.
var (
	renewEvery = 5 * time.Second
	deadAfter  = 30 * time.Second
	lookEvery  = time.Second
)

// lockPrefix begins the names of locks.
const lockPrefix = "lock."

// lockFolder is where the lock of a name is.
func lockFolder(name string) string {
	return storage.CertificatesKey + "/" + digest.Of([]byte("lock "+name)).String()
}

// lockKey is where number n of a lock is.
func lockKey(folder string, n int) string { return folder + "/" + lockPrefix + strconv.Itoa(n) }

// Lock implements certmagic.Storage: it waits until the lock is held, or the context ends.
func (v *vault) Lock(ctx context.Context, name string) error {
	// In this process one at a time: so a lock in the store that bears the node's name is of
	// its life before, when it was killed.
	if err := v.enter(ctx, name); err != nil {
		return err
	}
	held, err := v.hold(ctx, name)
	if err != nil {
		v.leave(name, nil)
		return err
	}
	v.leave(name, held)
	return nil
}

// enter waits until nobody in this process wants or holds a lock.
func (v *vault) enter(ctx context.Context, name string) error {
	for {
		v.mutex.Lock()
		_, taken := v.locks[name]
		if !taken {
			v.locks[name] = nil
		}
		v.mutex.Unlock()
		if !taken {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}

// leave notes the lock that is held; nil for none.
func (v *vault) leave(name string, held *lock) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if v.locks[name] = held; held == nil {
		delete(v.locks, name)
	}
}

// hold waits until the lock in the store is held.
func (v *vault) hold(ctx context.Context, name string) (*lock, error) {
	folder := lockFolder(name)
	seen, since := "", time.Now() // the holder's text, and from when it did not change
	for {
		numbers, err := v.lockNumbers(ctx, folder)
		if err != nil {
			return nil, err
		}
		// The highest number is whose turn it is; without any, the first one is free.
		next := 1
		if len(numbers) > 0 {
			last := numbers[len(numbers)-1]
			data, err := v.store.Get(ctx, lockKey(folder, last))
			if err != nil && !errors.Is(err, storage.ErrNotFound) {
				return nil, err
			}
			if text := fmt.Sprint(last) + string(data); text != seen {
				seen, since = text, time.Now()
			}
			holder, _, _ := strings.Cut(string(data), " ")
			own := holder == v.node
			if next = last + 1; time.Since(since) < deadAfter && !own {
				next = 0
			}
		}
		if next > 0 {
			if held, err := v.take(ctx, folder, next, seen); err != nil || held != nil {
				return held, err
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}

// lockNumbers lists the numbers of a lock, lowest first.
func (v *vault) lockNumbers(ctx context.Context, folder string) (numbers []int, err error) {
	for item, err := range v.store.List(ctx, folder) {
		if err != nil {
			return nil, err
		}
		if text, ok := strings.CutPrefix(item.Name(), lockPrefix); ok {
			if n, err := strconv.Atoi(text); err == nil {
				numbers = append(numbers, n)
			}
		}
	}
	slices.Sort(numbers)
	return numbers, nil
}

// Creating a key that is not there is the one thing that a store does for one only, so that is
// what a lock rests on: of all who want the next number, one gets it.

// take creates a number, and returns the lock; nil if somebody was faster. dead is what
// the number below was seen to be: if it has changed, its holder lives.
func (v *vault) take(ctx context.Context, folder string, n int, dead string) (*lock, error) {
	l := &lock{key: lockKey(folder, n)}
	err := v.store.Create(ctx, l.key, v.beat())
	if errors.Is(err, storage.ErrExists) {
		return nil, nil //nolint:nilnil // somebody was faster
	}
	if err != nil {
		return nil, err
	}
	// Between the last look and now the dead one may have come back, or let go and been
	// followed by another one at its number.
	if n > 1 {
		data, err := v.store.Get(ctx, lockKey(folder, n-1))
		if err != nil || fmt.Sprint(n-1)+string(data) != dead {
			v.store.Delete(context.WithoutCancel(ctx), l.key) //nolint:errcheck // it will be found dead
			return nil, nil                                   //nolint:nilnil,nilerr // its holder lives
		}
		for below := range n {
			v.store.Delete(ctx, lockKey(folder, below)) //nolint:errcheck // its number no longer counts
		}
	}
	renewing, stop := context.WithCancel(context.WithoutCancel(ctx))
	l.stop = stop
	l.done.Go(func() {
		ticker := time.NewTicker(renewEvery)
		defer ticker.Stop()
		for {
			select {
			case <-renewing.Done():
				return
			case <-ticker.C:
				v.store.Replace(renewing, l.key, v.beat()) //nolint:errcheck // the next one may arrive
			}
		}
	})
	return l, nil
}

// beat is what a holder writes: each time another text.
func (v *vault) beat() []byte { return []byte(v.node + " " + rand.Text()) }

// Unlock implements certmagic.Storage.
func (v *vault) Unlock(ctx context.Context, name string) error {
	v.mutex.Lock()
	l := v.locks[name]
	v.mutex.Unlock()
	if l == nil {
		return nil
	}
	defer v.leave(name, nil)
	l.stop()
	l.done.Wait()
	// Whoever ends an order early still lets go.
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), deadAfter/2)
	defer cancel()
	return v.store.Delete(limited, l.key)
}
