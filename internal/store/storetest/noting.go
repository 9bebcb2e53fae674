package storetest

import (
	"context"
	"iter"
	"sync"

	"orilla.example/orilla/internal/core/storage"
)

// Noting writes down what is asked of a store: "get KEY", "put KEY" for what is
// added to a batch, and so on. Far away each is a request.
type Noting struct {
	storage.Store
	mutex sync.Mutex
	asked []string
}

// note counts a call.
func (n *Noting) note(what, key string) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	n.asked = append(n.asked, what+" "+key)
}

// Asked returns what was asked since it was last called.
func (n *Noting) Asked() []string {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	asked := n.asked
	n.asked = nil
	return asked
}

// Get implements storage.Store.
func (n *Noting) Get(ctx context.Context, key string) ([]byte, error) {
	n.note("get", key)
	return n.Store.Get(ctx, key)
}

// Stat implements storage.Store.
func (n *Noting) Stat(ctx context.Context, key string) (storage.Item, error) {
	n.note("stat", key)
	return n.Store.Stat(ctx, key)
}

// List implements storage.Store.
func (n *Noting) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	n.note("list", folder)
	return n.Store.List(ctx, folder)
}

// Create implements storage.Store.
func (n *Noting) Create(ctx context.Context, key string, data []byte) error {
	n.note("create", key)
	return n.Store.Create(ctx, key, data)
}

// Replace implements storage.Store.
func (n *Noting) Replace(ctx context.Context, key string, data []byte) error {
	n.note("replace", key)
	return n.Store.Replace(ctx, key, data)
}

// Delete implements storage.Store.
func (n *Noting) Delete(ctx context.Context, key string) error {
	n.note("delete", key)
	return n.Store.Delete(ctx, key)
}

// Begin implements storage.Store.
func (n *Noting) Begin(ctx context.Context) (storage.Batch, error) {
	batch, err := n.Store.Begin(ctx)
	return &notingBatch{batch, n}, err
}

// notingBatch notes what a batch is given.
type notingBatch struct {
	storage.Batch
	store *Noting
}

// Add implements storage.Batch.
func (b *notingBatch) Add(ctx context.Context, key string, data []byte) (bool, error) {
	b.store.note("put", key)
	return b.Batch.Add(ctx, key, data)
}
