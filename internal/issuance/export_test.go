package issuance

import (
	"time"

	"github.com/caddyserver/certmagic"

	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
)

// Hurry makes locks of the dead lapse after a time, and names be tried again after another.
func Hurry(dead, again time.Duration) {
	deadAfter, renewEvery, lookEvery, leadsAgain = dead, dead/6, dead/20, again
	lookAgain, renewCheck = 5*again, 2*again
	for i := range pauses {
		pauses[i] = again
	}
}

// NewVault returns what certificates are kept in.
func NewVault(store storage.Store, id string, secret *sealed.Secret, node string) certmagic.Storage {
	return newVault(Options{Store: store, StoreID: id, Secret: secret, Node: node})
}
