// Package edge answers visitors: it follows the journals
// of a store and turns answers into HTTP.
package httpanswer

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sync/singleflight"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// ErrDamaged: the bytes of an object are not what its name
// says. They are never sent.
var ErrDamaged = errors.New("damaged object")

// objects reads objects from a store, verifies each, and keeps those used last
// in memory. It is safe for concurrent use.
type Objects struct {
	store  storage.Store
	flight singleflight.Group

	mutex sync.Mutex
	limit int64 // of bytes in memory
	held  int64
	byAge *list.List // of *object, used last first
	known map[digest.Digest]*list.Element
}

type object struct {
	digest digest.Digest
	data   []byte
}

func NewObjects(store storage.Store, limit int64) *Objects {
	return &Objects{store: store, limit: limit, byAge: list.New(), known: map[digest.Digest]*list.Element{}}
}

// get returns the verified bytes of an object. The caller must
// not change them. Several that ask for the same at once cause
// one read, which does not end with the one who asked first.
func (o *Objects) Get(ctx context.Context, d digest.Digest) ([]byte, error) {
	if data, ok := o.recall(d); ok {
		return data, nil
	}
	result := o.flight.DoChan(string(d[:]), func() (any, error) {
		data, err := o.store.Get(context.WithoutCancel(ctx), d.Key())
		if err != nil {
			return nil, err
		}
		if digest.Of(data) != d {
			return nil, fmt.Errorf("%s: %w: its %d bytes have another hash", d.Key(), ErrDamaged, len(data))
		}
		o.keep(d, data)
		return data, nil
	})

	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case done := <-result:
		if done.Err != nil {
			return nil, done.Err
		}
		return done.Val.([]byte), nil
	}
}

func (o *Objects) recall(d digest.Digest) ([]byte, bool) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	element, ok := o.known[d]
	if !ok {
		return nil, false
	}
	o.byAge.MoveToFront(element)
	return element.Value.(*object).data, true
}

func (o *Objects) keep(d digest.Digest, data []byte) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if _, ok := o.known[d]; ok || int64(len(data)) > o.limit/4 {
		return
	}

	o.known[d] = o.byAge.PushFront(&object{d, data})
	o.held += int64(len(data))
	for o.held > o.limit {
		last := o.byAge.Remove(o.byAge.Back()).(*object)
		delete(o.known, last.digest)
		o.held -= int64(len(last.data))
	}
}
