package release_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

func pages(n int) []release.File {
	files := make([]release.File, n)
	for i := range files {
		files[i] = release.File{Path: fmt.Sprintf("notices/%07d.html", i), Digest: digest.Of([]byte{byte(i)}),
			Size: 1, Type: "text/html"}
	}
	return files
}

// TestSpansAreTheChunksOfAnIndex holds what is known before any file is read to
// what is put together afterwards.
func TestSpansAreTheChunksOfAnIndex(t *testing.T) {
	t.Parallel()
	for _, n := range []int{0, 1, 255, 5000} {
		files := pages(n)
		index, err := release.Build(files, nil, release.Settings{})
		require.NoError(t, err)
		spans := release.Spans(n, func(i int) string { return files[i].Path })
		require.Len(t, spans, len(index.Chunks))
		next := 0
		for i, span := range spans {
			require.Equal(t, next, span.First)
			next = span.End
			require.Equal(t, index.Chunks[i].Digest, release.ChunkOf(files[span.First:span.End]).Digest)
		}
		require.Equal(t, n, next)
	}
}

func TestBetweenLoadsTheChunksThatLieThere(t *testing.T) {
	t.Parallel()
	files := pages(8_000)
	index, err := release.Build(files, nil, release.Settings{})
	require.NoError(t, err)
	loads, chunks := 0, map[digest.Digest][]byte{}
	for _, chunk := range index.Chunks {
		chunks[chunk.Digest] = chunk.Data
	}
	reader := release.NewReader(index.ID, index.Root, func(_ context.Context, d digest.Digest) ([]byte,
		error) {
		loads++
		return chunks[d], nil
	})
	refs, err := reader.Refs(t.Context())
	require.NoError(t, err)
	for i, ref := range refs {
		loads = 0
		found, err := reader.Between(t.Context(), refs, ref.First, ref.Last)
		require.NoError(t, err)
		require.Equal(t, 1, loads)
		require.Len(t, found, int(ref.Files), "chunk %d", i)
	}
	for _, test := range []struct{ first, last string }{{"a", "b"}, {"z", "zz"}} {
		t.Run(test.first, func(t *testing.T) {
			loads = 0
			found, err := reader.Between(t.Context(), refs, test.first, test.last)
			require.NoError(t, err)
			assert.Empty(t, found)
			assert.Zero(t, loads)
		})
	}
	found, err := reader.Between(t.Context(), refs, "a", "z")
	require.NoError(t, err)
	assert.Len(t, found, len(files))

	seen, entered := 0, 0
	require.NoError(t, reader.Visit(t.Context(),
		func(digest.Digest) bool { entered++; return entered%2 == 0 },
		func(release.File) error { seen++; return nil }))
	assert.Equal(t, len(refs), entered)
	assert.Less(t, seen, len(files), "what is not entered is left out")
	stop := fmt.Errorf("enough")
	require.ErrorIs(t, reader.Visit(t.Context(), func(digest.Digest) bool { return true },
		func(release.File) error { return stop }), stop)
}
