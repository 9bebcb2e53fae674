package memory_test

import (
	"testing"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/storetest"
)

func TestContract(t *testing.T) {
	t.Parallel()
	storetest.Run(t, storetest.Options{}, func(*testing.T) (storage.Store, func() storage.Store) {
		store := &memory.Store{}
		return store, func() storage.Store { return store }
	})
}
