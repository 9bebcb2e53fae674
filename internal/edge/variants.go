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
	queue chan variants.Wanted
	mutex sync.Mutex
	there map[string]bool // what is in the queue
	// until when nothing is written to the store, since it does not let the node
	denied time.Time
}

const (
	// queueMost is how many variants may wait to be made; more are asked for again.
	queueMost = 10_000
	// deniedFor is how long a node that may not keep variants does not try again.
	deniedFor = time.Hour
)

// newWorker returns what makes variants for a node.
func newWorker(n *Node) *worker {
	return &worker{Node: n, queue: make(chan variants.Wanted, queueMost), there: map[string]bool{}}
}

// encoding is how contents of a node come by variants.
func (w *worker) encoding() httpanswer.Encoding {
	how := httpanswer.Encoding{Want: w.want, Bad: w.bad}
	if w.options.Cache != nil {
		how.Kept = w.options.Cache.content.Kept
	}
	return how
}

// want notes a variant that was asked for.
func (w *worker) want(v variants.Wanted) {
	key := v.Key()
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.there[key] {
		return
	}
	select {
	case w.queue <- v:
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
			w.one(ctx, v)
			w.mutex.Lock()
			delete(w.there, v.Key())
			w.mutex.Unlock()
		}
	}
}

// one has one variant there, if it gains.
func (w *worker) one(ctx context.Context, v variants.Wanted) {
	// Another node may have made it, or an earlier release, or a deploy.
	found, err := w.found(ctx, v)
	if err != nil {
		return // the store does not answer; what is there is good enough meanwhile
	}
	if found == nil {
		if found, err = w.make(ctx, v); err != nil {
			if !errors.Is(err, context.Canceled) && !httpanswer.Passing(err) {
				w.trouble(nil, "a variant cannot be made: "+err.Error())
			}
			return
		}
	}
	if found != nil && w.options.Cache != nil {
		w.options.Cache.content.Keep(v.Key(), found)
	}
	w.objects.Adopt(v.Of, v.Coding, found)
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
