package pins

import (
	"context"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// lease is a record that counts for Lease after it was last written, and is written again until it is ended.
type lease struct {
	store storage.Store
	key   string
	data  []byte
	stop  context.CancelFunc
	ended chan struct{} // closed when nothing is written any more

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

// holds reports whether others still count it, with a margin. Once it does not, it never does again. It goes by the wall clock: the other
// one stands still while a machine sleeps.
func (l *lease) holds() bool {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.over = l.over || !time.Now().Round(0).Before(l.until.Round(0).Add(-margin))

	return !l.over
}

// within returns a context that ends before the lease does, for what must not happen after it. A request that is given up then may still
// arrive; the margin is for that.
func (l *lease) within(ctx context.Context) (context.Context, context.CancelFunc) {
	l.mutex.Lock()
	defer l.mutex.Unlock()

	return context.WithDeadline(ctx, l.until.Add(-margin))
}

// lapsed reports whether a record that was last written at a time by the store's clock counts no longer for anybody. ahead is how
// far that clock is before this machine's.
func lapsed(modified time.Time, ahead time.Duration) bool {
	return time.Now().Add(ahead).After(modified.Add(Lease + margin))
}
