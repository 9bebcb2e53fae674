package record_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

// TestRecordsAreFrozen holds what lies in a store to what
// docs/store-format.md says.
func TestRecordsAreFrozen(t *testing.T) {
	t.Parallel()
	for want, encode := range map[string]func() ([]byte, error){
		`{"format":1,"incarnation":"i","roots":["c0"],"site":"corvane","when":"2026-11-01T12:00:00Z","who":"Ines Marrow"}`:    record.Claim{Site: "corvane", Incarnation: "i", Roots: []string{"c0"}, Who: "Ines Marrow", When: noon}.Encode,
		`{"folder":"x@y:/z","format":1,"incarnation":"i","site":"corvane","when":"2026-11-01T12:00:00Z","who":"Ines Marrow"}`: record.Claim{Site: "corvane", Incarnation: "i", Folder: "x@y:/z", Who: "Ines Marrow", When: noon}.Encode,
		`{"format":1,"incarnation":"i","site":"corvane","when":"2026-11-01T12:00:00Z","who":"Ines Marrow"}`:                   record.Removed{Site: "corvane", Incarnation: "i", Who: "Ines Marrow", When: noon}.Encode,
		`{"format":1,"when":"2026-11-01T12:00:00Z","who":"Ines Marrow","why":"w"}`:                                            record.Restored{Who: "Ines Marrow", When: noon, Why: "w"}.Encode,
	} {
		t.Run(want, func(t *testing.T) {
			data, err := encode()
			require.NoError(t, err)
			assert.Equal(t, want, string(data))
		})
	}
}

func TestAClaimCountsOnlyAsItIsWritten(t *testing.T) {
	t.Parallel()
	const claim = `{"format":1,"incarnation":"i","roots":["c0"],"site":"corvane","when":"2026-11-01T12:00:00Z","who":"Ines Marrow"}`
	_, err := record.DecodeClaim([]byte(claim), "corvane")
	require.NoError(t, err)
	_, err = record.DecodeClaim([]byte(claim), "velley")
	require.ErrorIs(t, err, record.ErrUnreadable, "it is another site's")
	for _, other := range []string{claim + " ", `{"Format":1` + claim[11:], `{"format":2` + claim[11:],
		`{"extra":1,` + claim[1:], `{}`, ``} {
		_, err := record.DecodeClaim([]byte(other), "corvane")
		require.ErrorIs(t, err, record.ErrUnreadable, other)
	}
}

func TestASiteIsRemovedAsItWas(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	removed, err := record.IsRemoved(t.Context(), store, "corvane", "first")
	require.NoError(t, err)
	assert.False(t, removed)
	data, err := record.Removed{Site: "corvane", Incarnation: "first", Who: "x", When: noon}.Encode()
	require.NoError(t, err)
	require.NoError(t, store.Create(t.Context(), storage.RemovedKey("corvane", "first"), data))
	require.NoError(t, store.Create(t.Context(), storage.RemovedKey("corvane", "second"), data))
	removed, err = record.IsRemoved(t.Context(), store, "corvane", "first")
	require.NoError(t, err)
	assert.True(t, removed)
	_, err = record.IsRemoved(t.Context(), store, "corvane", "second")
	require.ErrorIs(t, err, record.ErrUnreadable, "a record of another place proves nothing")
}

func FuzzClaim(f *testing.F) {
	f.Add([]byte(`{"format":1,"incarnation":"i","roots":["c0"],"site":"s","when":"2026-11-01T12:00:00Z","who":"x"}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		claim, err := record.DecodeClaim(data, "s")
		if err != nil {
			return
		}
		again, err := claim.Encode()
		require.NoError(t, err)
		require.Equal(t, string(data), string(again))
	})
}
