package storage_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
)

func TestTheMarkIsFrozen(t *testing.T) {
	t.Parallel()
	assert.Equal(t, `{"format":1,"id":"abc","kind":"orilla-store"}`, string(storage.NewMark("abc")))
	for text, want := range map[string]error{
		`{"format":1,"id":"abc","kind":"orilla-store"}`: nil,
		`{"format":1,"kind":"orilla-store"}`:            nil, // of the first stores
		`{"format":2,"id":"abc","kind":"orilla-store"}`: storage.ErrFormat,
		`{"format":1,"kind":"something"}`:               storage.ErrOther,
		`hello`:                                         storage.ErrOther,
		``:                                              storage.ErrOther,
	} {
		id, err := storage.CheckMark([]byte(text))
		if want != nil {
			require.ErrorIs(t, err, want, text)
			continue
		}
		require.NoError(t, err, text)
		assert.Contains(t, []string{"abc", ""}, id)
	}
}
