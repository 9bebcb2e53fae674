package edge

import (
	"context"
	"errors"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/variants"
	"orilla.example/orilla/internal/httpanswer"
)

// worker has the best variants of what visitors ask for made, one at a time. What it makes
// is kept in the store, so that it is made once for all nodes and for ever; or else, where
// the node may not write there, in its cache.
//
//	a visitor --> fast variant, from memory --> want --> in the store? --> adopt
//	                                                     else make it, keep it, adopt
type worker struct {
	*Node
	queue chan variant
	mutex sync.Mutex
	there map[string]bool // what is in the queue, or will be again
	// until when nothing is written to the store, since it does not let the node
	denied time.Time
	again  time.Duration
}

// variant is one that is wanted; lacking tells that the store had none a moment ago.
type variant struct {
	variants.Wanted
	lacking bool
}

const (
	// queueMost is how many variants may wait to be made; more are asked for again.
	queueMost = 10_000
	// deniedFor is how long a node that may not keep variants does not try again.
	deniedFor = time.Hour
	// againAfter is when a variant is looked for again of which the store said nothing.
	againAfter = 10 * time.Second
)

// newWorker returns what makes variants for a node.
func newWorker(n *Node) *worker {
	return &worker{Node: n, queue: make(chan variant, queueMost), there: map[string]bool{}, again: againAfter}
}

// encoding is how contents of a node come by variants.
func (w *worker) encoding() httpanswer.Encoding {
	how := httpanswer.Encoding{Want: w.want, Stored: w.stored, Bad: w.bad}
	if w.options.Cache != nil {
		how.Kept = w.options.Cache.content.Kept
	}
	return how
}

// want notes a variant that was asked for.
func (w *worker) want(v variants.Wanted, lacking bool) {
	key := v.Key()
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.there[key] {
		return
	}
	select {
	case w.queue <- variant{v, lacking}:
		w.there[key] = true
	default: // it is asked for again some time
	}
}

// run makes variants until the context ends.
func (w *worker) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case v := <-w.queue:
			again := w.one(ctx, v)
			w.mutex.Lock()
			delete(w.there, v.Key())
			if again && len(w.there) < queueMost {
				w.there[v.Key()] = true
				w.later(ctx, v)
			}
			w.mutex.Unlock()
			// However many are wanted, a store that does not answer is asked once a second.
			if again {
				pause(ctx, min(w.again, time.Second))
			}
		}
	}
}

// pause waits, or until the context ends.
func pause(ctx context.Context, wait time.Duration) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
}

// later queues a variant again: visitors have the fast one, and will not ask for it.
func (w *worker) later(ctx context.Context, v variant) {
	time.AfterFunc(w.again, func() {
		select {
		case w.queue <- variant{Wanted: v.Wanted}:
		case <-ctx.Done():
		default:
			w.mutex.Lock()
			defer w.mutex.Unlock()
			delete(w.there, v.Key())
		}
	})
}

// one has one variant there, if it gains; it reports whether the store did not answer, so
// that it is to be tried again.
func (w *worker) one(ctx context.Context, v variant) (again bool) {
	// Another node may have made it, or an earlier release, or a deploy.
	var found []byte
	var err error
	if !v.lacking {
		// A node that may not look makes its own.
		if found, err = w.found(ctx, v.Wanted); err != nil && !errors.Is(err, storage.ErrDenied) {
			return httpanswer.Passing(err) // what is there is good enough meanwhile
		}
	}
	if found == nil {
		if found, err = w.make(ctx, v.Wanted); err != nil {
			if httpanswer.Passing(err) {
				return true
			}
			if !errors.Is(err, context.Canceled) {
				w.trouble(nil, "a variant cannot be made: "+err.Error())
			}
			return false
		}
	}
	w.keepHere(v.Wanted, found)
	w.objects.Adopt(v.Of, v.Coding, found)
	return false
}

// keepHere keeps a variant in the node's cache, if it has one.
func (w *worker) keepHere(v variants.Wanted, data []byte) {
	if data != nil && w.options.Cache != nil {
		w.options.Cache.content.Keep(v.Key(), data)
	}
}

// stored returns what the store has, for a visitor who waits.
func (w *worker) stored(ctx context.Context, v variants.Wanted) ([]byte, error) {
	data, err := variants.Load(ctx, w.store, v, w.bad)
	w.keepHere(v, data)
	return data, err
}

// found returns what the store has; nil if it has nothing that is good.
func (w *worker) found(ctx context.Context, v variants.Wanted) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, variantTimeout)
	defer cancel()
	return variants.Load(ctx, w.store, v, w.bad)
}

// bad tells of a variant that is not what its name says, and takes it out of the cache.
func (w *worker) bad(key string, err error) {
	if w.options.Cache != nil {
		w.options.Cache.content.Drop(key)
	}
	w.trouble(nil, key+" was thrown away: "+err.Error())
}

// make encodes content, and keeps the result in the store; nil if it does not gain.
func (w *worker) make(ctx context.Context, v variants.Wanted) ([]byte, error) {
	content, err := w.objects.Get(ctx, v.Of)
	if err != nil {
		return nil, err
	}
	best := w.options.Best
	if best == nil {
		best = variants.Here
	}
	data, err := variants.Make(ctx, v, content, best)
	if errors.Is(err, coding.ErrGainless) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return w.publish(ctx, v, data)
}

// publish keeps a variant in the store, and returns what is there then.
func (w *worker) publish(ctx context.Context, v variants.Wanted, data []byte) ([]byte, error) {
	// In the place of a store that is not mounted nothing is written.
	if time.Now().Before(w.denied) || w.tracker.lost() != "" {
		return data, nil
	}
	ctx, cancel := context.WithTimeout(ctx, variantTimeout)
	defer cancel()
	kept, err := variants.Keep(ctx, w.store, v, data, w.bad)
	if errors.Is(err, storage.ErrDenied) || errors.Is(err, storage.ErrReadOnly) {
		w.denied = time.Now().Add(deniedFor)
	}
	if err != nil || kept == nil {
		return data, nil // it serves this node, and is made again some time
	}
	return kept, nil
}

// variantTimeout is how long the store may take over one variant.
const variantTimeout = time.Minute
