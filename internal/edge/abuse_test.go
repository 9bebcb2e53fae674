package edge_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
)

// TestManyRangesCostNoMoreThanTheFile asks, in one request of 8 kB, for hundreds of
// single bytes that lie in another part of a long file each time. Answered one by
// one, each would cost a read of 8 MiB.
func TestManyRangesCostNoMoreThanTheFile(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{Memory: 1 << 20}) // no part of a file is kept
	chance := rand.NewChaCha8([32]byte{})
	data := make([]byte, 3*release.PartSize)
	chance.Read(data) //nolint:errcheck // it never fails
	film := string(data)
	id := w.put(map[string]string{"index.html": "home", "film.bin": film}, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id))

	var ranges []string
	for i := range 450 {
		at := i%3*release.PartSize + i*1000
		ranges = append(ranges, fmt.Sprintf("%d-%d", at, at))
	}
	before := w.read.Load()
	r, body := w.ask("GET", "corvane.localhost", "/film.bin",
		map[string]string{"Range": "bytes=" + strings.Join(ranges, ",")})
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, digest.Of(data), digest.Of([]byte(body)), "everything, once")
	// The first part is compared before the status is sent, and then sent.
	assert.LessOrEqual(t, w.read.Load()-before, int64(len(film)+release.PartSize))

	before = w.read.Load()
	r, body = w.ask("GET", "corvane.localhost", "/film.bin", map[string]string{"Range": fmt.Sprintf(
		"bytes=5-6,%d-%d,-2", release.PartSize, release.PartSize+1)})
	assert.Equal(t, 206, r.StatusCode)
	assert.Contains(t, body, film[len(film)-2:])
	assert.LessOrEqual(t, w.read.Load()-before, int64(len(film)+release.PartSize), "a few are answered")
}
