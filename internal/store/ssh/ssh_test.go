package ssh_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/ssh"
	"orilla.example/orilla/internal/store/storetest"
)

func open(t *testing.T, address string) *ssh.Store {
	t.Helper()
	config, err := ssh.Parse(address)
	require.NoError(t, err)
	store := ssh.Open(config)
	t.Cleanup(store.Close)
	return store
}

func TestContract(t *testing.T) {
	server := storetest.SSH(t, "")
	storetest.Run(t, storetest.Options{}, func(t *testing.T) (storage.Store, func() storage.Store) {
		address := server.Store(storetest.Name(t))
		return open(t, address), func() storage.Store { return open(t, address) }
	})
}
