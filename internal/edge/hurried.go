package edge

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/storage"
)

// hurried is a store elsewhere whose journals are read twice where the first answer is late:
// one lost packet costs a connection 200 ms and more, and another connection nothing. Whichever
// answer comes first counts; both are of a store that shows what was written to all at once.
//
//	late      two and a half times as long as reads take, but 20 ms at least
//	bounded   five second requests a second, so that a store that is slow is not asked twice as much
//	kept      the request that lost goes on by itself: to end it would cost its connection
type hurried struct {
	storage.Store
	usual atomic.Int64 // how long a read takes, in nanoseconds; 0 before the first
	spare *rate.Limiter
}

const (
	// leastLate is when an answer is late at the soonest.
	leastLate = 20 * time.Millisecond
	// Second requests a second, and at once.
	spareRate, spareMost = 5, 20
)

// newHurried returns what journals are read from: the store itself if it is not elsewhere.
func newHurried(store storage.Store) storage.Store {
	if _, far := store.(storage.Remote); !far {
		return store
	}
	return &hurried{Store: store, spare: rate.NewLimiter(spareRate, spareMost)}
}

// Parallel implements storage.Wide.
func (h *hurried) Parallel() int { return storage.Parallel(h.Store) }

// Get implements storage.Store.
func (h *hurried) Get(ctx context.Context, key string) ([]byte, error) {
	data, err := hurry(ctx, h, func(ctx context.Context) ([]byte, error) { return h.Store.Get(ctx, key) })
	return data, storage.Wrap(err, h.Store, "get", key)
}

// Stat implements storage.Store.
func (h *hurried) Stat(ctx context.Context, key string) (storage.Item, error) {
	item, err := hurry(ctx, h, func(ctx context.Context) (storage.Item, error) {
		return h.Store.Stat(ctx, key)
	})
	return item, storage.Wrap(err, h.Store, "stat", key)
}

// read is what came of a read.
type read[T any] struct {
	value T
	err   error
}

// answered reports whether the store said something: that nothing is there is an answer.
func (r read[T]) answered() bool {
	return r.err == nil || errors.Is(r.err, storage.ErrNotFound)
}

// hurry reads, and reads again beside that if it takes long.
func hurry[T any](ctx context.Context, h *hurried, ask func(context.Context) (T, error)) (T, error) {
	answers := make(chan read[T], 2)
	begin := func() {
		go func() {
			own, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookTimeout)
			defer cancel()
			began := time.Now()
			value, err := ask(own)
			r := read[T]{value, err}
			if r.answered() {
				h.learn(time.Since(began))
			}
			answers <- r
		}()
	}
	begin()
	asked := 1
	late := time.NewTimer(h.late())
	defer late.Stop()
	for {
		select {
		case r := <-answers:
			// One that failed is waited out by the other, if there is one.
			if asked--; r.answered() || asked == 0 {
				return r.value, r.err
			}
		case <-late.C:
			if h.spare.Allow() {
				begin()
				asked++
			}
		case <-ctx.Done():
			var none T
			return none, ctx.Err()
		}
	}
}

// learn moves what is usual an eighth of the way towards a read.
func (h *hurried) learn(took time.Duration) {
	before := h.usual.Load()
	if before == 0 {
		before = int64(took)
	}
	h.usual.Store(before + (int64(took)-before)/8) // of two at once one is lost: it is a guess
}

// late is how long an answer may take before it is asked for again; before anything is known,
// a second.
func (h *hurried) late() time.Duration {
	usual := time.Duration(h.usual.Load())
	if usual == 0 {
		return time.Second
	}
	return max(leastLate, usual*5/2)
}
