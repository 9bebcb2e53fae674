package pins

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// lease is a record that counts for Lease after it was last written, and is
// written again until it is ended.
type lease struct {
	store storage.Store
	key   string
	data  []byte
	stop  context.CancelFunc
	ended chan struct{} // closed when nothing is written any more

	unclear atomic.Bool // something was done of which it is not known whether it took effect, or still will

	mutex sync.Mutex
	until time.Time // by this machine's clock
	over  bool      // it has lapsed; nothing makes it count again
}

// hold renews a record that was written at a time by this machine's clock.
func hold(ctx context.Context, store storage.Store, key string, data []byte, written time.Time) *lease {
	l := &lease{store: store, key: key, data: data, ended: make(chan struct{}), until: written.Add(Lease)}
	ctx, l.stop = context.WithCancel(context.WithoutCancel(ctx))
	go l.renew(ctx)
	return l
}

// renew writes the lease anew until the context ends. A renewal that arrives
// late, since this machine slept or the store hung, does not make up for the
// time between: whoever waits may have taken the lease for lapsed.
func (l *lease) renew(ctx context.Context) {
	defer close(l.ended)
	ticker := time.NewTicker(renew)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}

		if !l.holds() {
			return // others may have acted on its end: it does not come back to life
		}
		now := time.Now()

		if l.store.Replace(ctx, l.key, l.data) == nil && l.holds() {
			l.mutex.Lock()
			l.until = now.Add(Lease)
			l.mutex.Unlock()
		}
	}
}

// end stops the renewing.
func (l *lease) end() {
	l.stop()
	<-l.ended
}

// holds reports whether others still count it, with a margin.
// Once it does not, it never does again. It goes by the wall
// clock: the other one stands still while a machine sleeps.
func (l *lease) holds() bool {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.over = l.over || !time.Now().Round(0).Before(l.until.Round(0).Add(-margin))

	return !l.over
}

// within returns a context that ends before the lease does,
// for what must not happen after it. A request that is
// given up then may still arrive; the margin is for that.
func (l *lease) within(ctx context.Context) (context.Context, context.CancelFunc) {
	l.mutex.Lock()
	defer l.mutex.Unlock()

	return context.WithDeadline(ctx, l.until.Add(-margin))
}

// during does something that must not happen after the lease's end. late is the
// error if it would have. An error says that it may still happen, but for those
// of which certain says that it will not.
func (l *lease) during(ctx context.Context, late error, do func(context.Context) error,
	certain func(error) bool,
) error {
	if !l.holds() {
		return late
	}
	within, cancel := l.within(ctx)
	defer cancel()
	err := do(within)
	if err != nil && !certain(err) {
		l.unclear.Store(true)
	}
	if err != nil && ctx.Err() == nil && within.Err() != nil {
		return errors.Join(late, err)
	}
	return err
}

// never is for what consists of several requests: the error is of one of them.
func never(error) bool { return false }

// refused reports whether an error of a store says that
// one request did nothing, and will not.
func refused(err error) bool {
	for _, reason := range []error{storage.ErrExists, storage.ErrReadOnly, storage.ErrDenied,
		storage.ErrCredentials, storage.ErrBadKey} {
		if errors.Is(err, reason) {
			return true
		}
	}
	return false
}

// writer is a store whose writes end before a lease does: none that counts is
// begun after its end, or waited for beyond it.
type writer struct {
	storage.Store
	lease *lease
	late  error
}

// Create implements storage.Store, while the lease lasts.
func (w *writer) Create(ctx context.Context, key string, data []byte) error {
	return w.lease.during(ctx, w.late,
		func(ctx context.Context) error { return w.Store.Create(ctx, key, data) }, refused)
}

// Replace implements storage.Store, while the lease lasts.
func (w *writer) Replace(ctx context.Context, key string, data []byte) error {
	return w.lease.during(ctx, w.late,
		func(ctx context.Context) error { return w.Store.Replace(ctx, key, data) }, refused)
}

// Begin implements storage.Store. What is added may arrive whenever it does;
// only Commit is bound to the lease.
func (w *writer) Begin(ctx context.Context) (storage.Batch, error) {
	batch, err := w.Store.Begin(ctx)
	return &writerBatch{batch, w}, err
}

// writerBatch is a batch of a writer. What is added is
// visible, if at all, only where it leads to nothing.
type writerBatch struct {
	storage.Batch
	writer *writer
}

// Commit implements storage.Batch, while the lease lasts.
func (b *writerBatch) Commit(ctx context.Context) (taken []string, err error) {
	err = b.writer.lease.during(ctx, b.writer.late, func(ctx context.Context) (err error) {
		taken, err = b.Batch.Commit(ctx)
		return err
	}, never)
	return taken, err
}

// lapsed reports whether a record that was last written at
// a time by the store's clock counts no longer for anybody.
// ahead is how far that clock is before this machine's.
func lapsed(modified time.Time, ahead time.Duration) bool {
	return time.Now().Add(ahead).After(modified.Add(Lease + margin))
}
