package httpanswer

import (
	"context"
	"sync/atomic"
)

// An answer may need several objects: a page and the rules of its site, the parts of a large
// file. One that had to be fetched is what the visitor waited for, so the worst place counts.

// Came notes where the content of an answer came from. The zero value has none.
type Came struct{ from atomic.Int32 }

// From is where content came from.
type From int32

// Where content comes from: the worst of all that an answer needed counts.
const (
	FromNowhere From = iota // there was none
	FromMemory
	FromBeyond // the disk, or the store
)

// From returns where content came from.
func (c *Came) From() From { return From(c.from.Load()) }

// Note notes a place, unless a worse one was noted.
func (c *Came) Note(from From) {
	for {
		now := c.from.Load()
		if now >= int32(from) || c.from.CompareAndSwap(now, int32(from)) {
			return
		}
	}
}

// cameKey is under what a context holds a Came.
type cameKey struct{}

// WithCame returns a context in which objects note where they came from.
func WithCame(ctx context.Context, c *Came) context.Context {
	return context.WithValue(ctx, cameKey{}, c)
}

// came notes a place, if anybody wants to know.
func came(ctx context.Context, from From) {
	if c, ok := ctx.Value(cameKey{}).(*Came); ok {
		c.Note(from)
	}
}
