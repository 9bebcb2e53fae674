package encoder_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/encoder"
)

func TestMain(m *testing.M) {
	encoder.IfAsked()
	os.Exit(m.Run())
}

// TestAProcessEncodes as this one would.
func TestAProcessEncodes(t *testing.T) {
	t.Parallel()
	content := []byte(strings.Repeat("Corvane Ferries sail between Sula and Velley. ", 20_000))
	for _, c := range coding.All {
		data, err := encoder.Best(t.Context(), c, content)
		require.NoError(t, err)
		require.NoError(t, coding.Verify(c, data, digest.Of(content), int64(len(content))))
	}
	noise := make([]byte, 10_000)
	for i := range noise {
		noise[i] = byte(rand.Uint32())
	}
	_, err := encoder.Best(t.Context(), coding.Brotli, noise)
	require.ErrorIs(t, err, coding.ErrGainless)
	_, err = encoder.Best(t.Context(), coding.Brotli, bytes.Repeat([]byte("a"), coding.Most+1))
	require.Error(t, err)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = encoder.Best(ended, coding.Brotli, content)
	assert.Error(t, err)
}
