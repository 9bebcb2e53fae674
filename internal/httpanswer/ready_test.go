package httpanswer_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/store/memory"
)

// TestWhatWaitsToBeEncodedIsNotReady: whoever is sent content as it is, since everybody who
// could encode it was busy, must not decide for those who come later.
func TestWhatWaitsToBeEncodedIsNotReady(t *testing.T) {
	t.Parallel()
	content := []byte(strings.Repeat("Sula to Velley. ", 100))
	file := release.File{Path: "a.css", Digest: digest.Of(content), Size: int64(len(content)), Type: "text/css"}
	store := &memory.Store{}
	require.NoError(t, store.Create(t.Context(), file.Digest.Key(), content))
	objects := httpanswer.NewObjects(store, 1<<20, 0)
	objects.Encode(httpanswer.Encoding{})
	_, err := objects.Get(t.Context(), file.Digest)
	require.NoError(t, err)
	a := answer.Answer{Status: http.StatusOK, File: &file, ETag: `"x"`, Codings: []coding.Coding{coding.Gzip}}
	assert.Nil(t, objects.Make(a, http.Header{}))
	_, ok := objects.Variant(t.Context(), file, a.Codings)
	require.True(t, ok)
	assert.NotNil(t, objects.Make(a, http.Header{}))
	a.Codings = nil
	assert.NotNil(t, objects.Make(a, http.Header{}), "a client that takes none gets it as it is")
	objects.Adopt(file.Digest, coding.Zstd, nil)
	a.Codings = []coding.Coding{coding.Zstd}
	assert.NotNil(t, objects.Make(a, http.Header{}), "it is known not to gain")
}
