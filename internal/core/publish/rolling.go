package publish

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/storage"
)

// Rolling is a Putter that commits what it was given now and then, so that an
// interrupted upload goes on where it was.
type Rolling struct {
	ctx   context.Context // of the whole upload: a batch outlives the calls that add to it
	late  context.Context // of commits: it ends a while after the upload's
	end   context.CancelFunc
	store storage.Store
	every int64

	mutex   sync.Mutex
	current *rolled
	group   errgroup.Group // of commits
}

// rolled is one batch of a Rolling.
type rolled struct {
	storage.Batch
	adding sync.WaitGroup
	bytes  int64
}

// lastCommit is how long whoever interrupts an upload waits at most until what was
// sent is kept.
//
// A second interrupt ends the process at once, so nobody has to wait for it either.
const lastCommit = 10 * time.Second

// NewRolling returns one that commits about every so many
// bytes, until the context ends.
//
// Add may be called from several goroutines; Commit and Keep are called when all of
// them have returned. Whoever gets a Rolling calls Keep last.
func NewRolling(ctx context.Context, store storage.Store, every int64) *Rolling {
	r := &Rolling{ctx: ctx, store: store, every: every}
	// What was sent is worth more than the moment that committing it takes, also to
	// whoever has just interrupted it.
	r.late, r.end = context.WithCancel(context.WithoutCancel(ctx))
	end := r.end
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(lastCommit, end) })
	r.end = func() { // what watches over a process of hours must not keep each upload
		stop()
		end()
	}
	// One commit at a time: a second one would only make both slower.
	r.group.SetLimit(1)
	return r
}

// Add implements Putter.
func (r *Rolling) Add(ctx context.Context, key string, data []byte) (bool, error) {
	// Who fills a batch has it committed in the background, and nobody waits
	// for the disk or the network meanwhile.
	batch, full, err := r.reserve(int64(len(data)))
	if err != nil {
		return false, err
	}
	added, err := batch.Add(ctx, key, data)
	batch.adding.Done()

	if full != nil {
		r.group.Go(func() error {
			// Others may still be adding to the batch that was just taken away
			// from them.
			full.adding.Wait()
			_, err := full.Commit(r.late)
			return err
		})
	}
	return added, err
}

// reserve returns the batch to add to, and the one that is full with it.
func (r *Rolling) reserve(size int64) (batch, full *rolled, err error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.current == nil {
		begun, err := r.store.Begin(r.ctx)
		if err != nil {
			return nil, nil, err
		}
		r.current = &rolled{Batch: begun}
	}

	batch = r.current
	batch.adding.Add(1)
	if batch.bytes += size; batch.bytes >= r.every {
		full, r.current = batch, nil
	}
	return batch, full, nil
}

// Commit makes everything durable that was added. Nothing is added any more.
func (r *Rolling) Commit() error {
	err := r.group.Wait()
	r.mutex.Lock()
	defer r.mutex.Unlock()
	last := r.current
	if last == nil {
		return err
	}

	r.current = nil
	if err != nil {
		last.Discard()
		return err
	}
	_, err = last.Commit(r.late)
	return err
}

// Keep makes durable what was added and not committed yet, as far as that can be
// done: whoever tries again need not send it again. After Commit it does nothing.
func (r *Rolling) Keep() {
	defer time.AfterFunc(lastCommit, r.end).Stop()
	r.Commit() //nolint:errcheck // whoever keeps has an error already
	r.end()
}
