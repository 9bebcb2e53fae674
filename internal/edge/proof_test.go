package edge_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
)

// TestANodeProvesWhoseItIs asks at hosts that the node knows, protects, and has never heard
// of: the answer is about the store, and tells a stranger nothing.
func TestANodeProvesWhoseItIs(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	// No rule of a release takes the path, and neither does a fallback.
	w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"index.html": "one",
		".orilla/proof/0123456789abcdef": "a lie"}, release.Settings{})))
	mark, err := w.store.Get(t.Context(), storage.MarkKey)
	require.NoError(t, err)
	id, err := storage.CheckMark(mark)
	require.NoError(t, err)
	require.NotEmpty(t, id)

	const nonce = "0123456789abcdef"
	for _, host := range []string{"corvane.localhost", "corvane.example", "new.corvane.example:8080", "192.0.2.1"} {
		response, body := w.ask(http.MethodGet, host, names.ProofPath+nonce, nil)
		require.Equal(t, http.StatusOK, response.StatusCode, host)
		var answer names.ProofAnswer
		require.NoError(t, json.Unmarshal([]byte(body), &answer))
		name, _, _ := strings.Cut(host, ":")
		assert.True(t, answer.Holds(id, name, nonce), host)
		assert.False(t, answer.Holds("other", name, nonce))
		assert.False(t, answer.Secure)
		assert.Equal(t, "no-store", response.Header.Get("Cache-Control"))
		assert.NotContains(t, body, id)
	}
	for _, bad := range []string{"", "short", strings.Repeat("a", 65), "0123456789abcde%2f", "../" + nonce} {
		response, _ := w.ask(http.MethodGet, "corvane.localhost", names.ProofPath+bad, nil)
		assert.Equal(t, http.StatusNotFound, response.StatusCode, bad)
	}
	response, _ := w.ask(http.MethodPost, "corvane.localhost", names.ProofPath+nonce, nil)
	assert.Equal(t, http.StatusNotFound, response.StatusCode)
}
