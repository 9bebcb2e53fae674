package s3_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/store/storetest"
)

func env(pairs map[string]string) func(string) string {
	return func(name string) string { return pairs[name] }
}

func open(t *testing.T, address string) *s3.Store {
	t.Helper()
	t.Setenv("AWS_ACCESS_KEY_ID", storetest.AccessKey)
	t.Setenv("AWS_SECRET_ACCESS_KEY", storetest.SecretKey)
	config, err := s3.Parse(address, env(nil))
	require.NoError(t, err)
	store, err := s3.Open(config, env(nil))
	require.NoError(t, err)
	return store
}

func TestContract(t *testing.T) {
	server := storetest.S3(t)
	storetest.Run(t, storetest.Options{WritesWithoutAsking: true}, func(t *testing.T) (storage.Store, func() storage.Store) {
		address := server.Store(storetest.Name(t), "")
		return open(t, address), func() storage.Store { return open(t, address) }
	})
}
