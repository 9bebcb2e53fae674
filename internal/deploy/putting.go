package deploy

import (
	"context"
	"errors"
	"sync"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// putting puts objects into the store and knows which it put, so that it can
// tell whether somebody has removed one meanwhile.
type putting struct {
	*publish.Rolling
	store  storage.Store
	hold   *pins.Hold
	report Reporter
	root   string // the key of the root that will be written; "" for none

	mutex sync.Mutex
	keys  map[digest.Digest]struct{} // of objects
}

// Bytes after which what was uploaded is committed, so that an upload that is
// interrupted goes on from there. A store far away takes longer for them.
const (
	rollNear = 256 << 20
	rollFar  = 32 << 20
)

// newPutting begins a batch that commits as it goes: every 256 MiB near by,
// every 32 MiB far away.
func newPutting(ctx context.Context, p *Prepared) *putting {
	// A batch becomes visible with its commit. One that is too large loses too
	// much with its connection; one that is too small waits for the store too
	// often.
	every := int64(rollNear)
	if _, far := p.Store.(storage.Remote); far {
		every = rollFar
	}
	return &putting{
		Rolling: publish.NewRolling(ctx, p.Store, every), store: p.Store, hold: p.hold, report: p.Report,
		keys: map[digest.Digest]struct{}{},
	}
}

// Add implements publish.Putter.
func (p *putting) Add(ctx context.Context, key string, data []byte) (bool, error) {
	// Noted before it is put: also an object that was there already is relied
	// on, and may be condemned.
	if d, isObject := digest.FromKey(key); isObject {
		p.note(d)
	}
	return p.Rolling.Add(ctx, key, data)
}

// note remembers that an object is relied on, whoever put it.
func (p *putting) note(d digest.Digest) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.keys[d] = struct{}{}
}

// addAll puts objects.
func (p *putting) addAll(ctx context.Context, objects []release.Chunk) error {
	for _, object := range objects {
		if _, err := p.Add(ctx, object.Digest.Key(), object.Data); err != nil {
			return err
		}
	}
	return nil
}

// there reports whether an object, of size bytes, was put by an earlier try.
func (p *putting) there(ctx context.Context, d digest.Digest, size int) (bool, error) {
	item, err := p.store.Stat(ctx, d.Key())
	if errors.Is(err, storage.ErrNotFound) {
		return false, nil
	}
	if err == nil && item.Size == int64(size) {
		p.note(d)
		return true, nil
	}
	return false, err
}

// settle commits, and reports whether somebody removed any of these objects in
// the meantime, so that they have to be put again. A root that is about to be
// removed must be gone before it is written again.
func (p *putting) settle(ctx context.Context) (again bool, err error) {
	// Durable first, and then the question: an object that is put after the
	// question could be condemned in between.
	if err := p.Commit(); err != nil {
		return false, err
	}
	relied := func(key string) bool {
		d, isObject := digest.FromKey(key)
		_, put := p.keys[d]
		return isObject && put || key == p.root
	}

	return p.hold.Settle(ctx, relied, func(who string) {
		p.report.Notice(fault.Notice{
			Code: "waiting-for-prune",
			What: "waiting for " + who +
				", who is pruning objects that this release needs; Orilla uploads them again",
		})
	})
}

// untilKept puts something, again and again until nobody removed it meanwhile.
func untilKept(ctx context.Context, p *Prepared, put func(*putting) error) error {
	for {
		again, err := keepOnce(ctx, p, put)
		if err != nil || !again {
			return err
		}
	}
}

// keepOnce puts something in a batch of its own, and reports whether it has to
// be put again.
func keepOnce(ctx context.Context, p *Prepared, put func(*putting) error) (again bool, err error) {
	batch := newPutting(ctx, p)
	defer batch.Keep()
	if err := put(batch); err != nil {
		return false, err
	}
	return batch.settle(ctx)
}
