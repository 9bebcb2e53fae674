package past_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/past"
	"orilla.example/orilla/internal/store/memory"
)

// TestStepsTellWhatChangedAndWhatItWeighs compares each entry with what was live before it.
func TestStepsTellWhatChangedAndWhatItWeighs(t *testing.T) {
	t.Parallel()
	s := &shelf{T: t, store: &memory.Store{}}
	page := `<link rel="stylesheet" href="/a.css"><img src="/boat.webp"><script src="https://other.example/x.js"></script>`
	css, boat := strings.Repeat("p { color: teal }\n", 100), strings.Repeat("boat", 500)
	first := s.live(map[string]string{"index.html": page, "a.css": css, "boat.webp": boat, "fares.html": "fares"})
	second := s.live(map[string]string{"index.html": page, "a.css": css, "boat.webp": boat + boat, "times.html": "times"})
	gone := s.enter(journal.Removal, release.ID{})
	third := s.live(map[string]string{"data.json": "{}"})
	walk, wires := past.New(s.store, "corvane", "production", time.Now()), &check.Wires{}

	one, err := walk.Step(t.Context(), first, wires)
	require.NoError(t, err)
	assert.Equal(t, int64(4), one.Files)
	assert.Equal(t, int64(len(page)+len(css)+len(boat)+len("fares")), one.Bytes)
	assert.Equal(t, &notices.Changed{Added: 4, Paths: []string{"fares.html", "index.html", "a.css", "boat.webp"}}, one.Changed)
	assert.Equal(t, int64(3), one.Requests, "the page, its style and its picture; nothing of other hosts")
	assert.Greater(t, one.Wire, int64(len(boat)))
	assert.Less(t, one.Wire, int64(len(page)+len(css)+len(boat)), "text counts as gzip sends it")

	two, err := walk.Step(t.Context(), second, wires)
	require.NoError(t, err)
	assert.Equal(t, &notices.Changed{Added: 1, Changed: 1, Removed: 1,
		Paths: []string{"fares.html", "times.html", "boat.webp"}}, two.Changed)
	assert.Equal(t, one.Wire+int64(len(boat)), two.Wire)
	assert.Equal(t, first.Number, two.Before.Number)

	nothing, err := walk.Step(t.Context(), gone, wires)
	require.NoError(t, err)
	assert.Nil(t, nothing)
	three, err := walk.Step(t.Context(), third, wires)
	require.NoError(t, err)
	assert.Equal(t, &notices.Changed{Added: 1, Paths: []string{"data.json"}}, three.Changed, "nothing was live before")
	assert.Zero(t, three.Wire, "/ answers with no page")

	// What was pruned cannot be compared any more, and the rest is told.
	require.NoError(t, s.store.Delete(t.Context(), storage.ReleaseKey("corvane", first.Release.String())))
	walk = past.New(s.store, "corvane", "production", time.Now())
	two, err = walk.Step(t.Context(), second, wires)
	require.NoError(t, err)
	assert.Nil(t, two.Changed)
	assert.Positive(t, two.Wire)
	one, err = walk.Step(t.Context(), first, wires)
	require.NoError(t, err)
	assert.Nil(t, one)
}
