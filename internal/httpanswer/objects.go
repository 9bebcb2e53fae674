// Package httpanswer turns an answer into HTTP: it sends files with their
// validators and ranges, passes requests on to upstreams, and writes the pages
// that Orilla itself has to show.
//
//	request := httpanswer.RequestOf(r, base, environment, now)
//	a, err := answer.Decide(ctx, request, site)   // what
//	err = httpanswer.Respond(w, r, a, objects)    // how: RFC 9110, 9111
//	err = proxies.Pass(w, r, a, upstreams)        // or who else
//
// It is one half of every server of Orilla's: an edge node and the development
// server differ in where files come from and not in how they are sent. Objects is
// a bounded memory of what the store holds, with one fetch for any number of
// visitors who want the same.
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

// Objects reads objects from a store, verifies each, and keeps those used last
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

// object is one that is kept in memory.
type object struct {
	digest digest.Digest
	data   []byte
}

// NewObjects returns what reads objects of a store and keeps up to limit bytes
// of them in memory.
func NewObjects(store storage.Store, limit int64) *Objects {
	return &Objects{store: store, limit: limit, byAge: list.New(), known: map[digest.Digest]*list.Element{}}
}

// Get returns the verified bytes of an object. The caller must
// not change them. Several that ask for the same at once cause
// one read, which does not end with the one who asked first.
//
// The result is shared by all who asked, and must not be changed. The error is
// ErrDamaged, or the store's.
func (o *Objects) Get(ctx context.Context, d digest.Digest) ([]byte, error) {
	if data, ok := o.recall(d); ok {
		return data, nil
	}
	// A page that becomes popular at once is fetched once. The fetch goes on if
	// the visitor who caused it leaves: others wait for it.
	result := o.flight.DoChan(string(d[:]), func() (any, error) {
		data, err := o.store.Get(context.WithoutCancel(ctx), d.Key())
		if err != nil {
			return nil, err
		}
		// Compared before any byte is sent. A damaged store gives errors and
		// never wrong pages.
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

// recall returns an object that is in memory, which then counts as used last.
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

// keep puts an object into memory, and drops those that were used the longest
// ago until it fits. One that would drive out a quarter of the others is not
// kept.
func (o *Objects) keep(d digest.Digest, data []byte) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if _, ok := o.known[d]; ok || int64(len(data)) > o.limit/4 {
		return
	}

	o.known[d] = o.byAge.PushFront(&object{d, data})
	o.held += int64(len(data))
	// What was used the longest ago goes first.
	for o.held > o.limit {
		last := o.byAge.Remove(o.byAge.Back()).(*object)
		delete(o.known, last.digest)
		o.held -= int64(len(last.data))
	}
}
