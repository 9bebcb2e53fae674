package past_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/bits"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/past"
	"orilla.example/orilla/internal/store/memory"
)

// shelf is a store with a journal of production.
type shelf struct {
	*testing.T
	store *memory.Store
	last  int64
}

// live puts files live: contents by their paths.
func (s *shelf) live(files map[string]string) journal.Entry {
	s.Helper()
	var list []release.File
	for path, text := range files {
		object := digest.Of([]byte(text))
		s.put(object.Key(), []byte(text))
		list = append(list, release.File{Path: path, Size: int64(len(text)), Digest: object})
	}
	index, err := release.Build(list, nil, release.Settings{})
	require.NoError(s, err)
	for _, chunk := range index.Chunks {
		s.put(digest.Of(chunk.Data).Key(), chunk.Data)
	}
	s.put(storage.ReleaseKey("corvane", index.ID.String()), index.Data)
	return s.enter(journal.Deploy, index.ID)
}

// put keeps what may be there.
func (s *shelf) put(key string, data []byte) {
	s.Helper()
	require.NoError(s, s.store.Replace(s.Context(), key, data))
}

// enter writes the next entry.
func (s *shelf) enter(kind journal.Kind, id release.ID) journal.Entry {
	s.Helper()
	s.last++
	entry := journal.Entry{Format: journal.Format, Site: "corvane", Environment: "production", Number: s.last,
		Attempt: fmt.Sprint("a", s.last), Kind: kind, Release: id, Cause: "command", Who: "Ines Marrow", When: time.Now()}
	data, err := entry.Encode()
	require.NoError(s, err)
	s.put(storage.JournalKey("corvane", "production", s.last), data)
	return entry
}

func (s *shelf) walk() *past.Walk { return past.New(s.store, "corvane", "production", time.Now()) }

func newShelf(t *testing.T) *shelf {
	t.Helper()
	return &shelf{t, &memory.Store{}, 0}
}

func quiet(int64, int64) {}

func TestWhichEntriesChangedAnAddress(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	none, err := s.walk().Changes(t.Context(), "/fares", 0, quiet)
	require.NoError(t, err)
	assert.Empty(t, none.Changes)

	s.live(map[string]string{"index.html": "home", "fares.html": "one\ntwo\n"})
	first := s.live(map[string]string{"index.html": "home 2", "fares.html": "one\ntwo\n"})
	s.enter(journal.Freeze, first.Release)
	for i := range 40 { // more than one window, without a change of this address
		s.live(map[string]string{"index.html": fmt.Sprint("home ", i), "fares.html": "one\ntwo\n"})
	}
	s.live(map[string]string{"index.html": "home", "fares.html": "one\nthree\n"})
	s.live(map[string]string{"index.html": "home"})
	s.enter(journal.Removal, release.ID{})
	back := s.live(map[string]string{"index.html": "home", "fares.html": "one\nthree\n"})

	walk := s.walk()
	found, err := walk.Changes(t.Context(), "/fares", 0, quiet)
	require.NoError(t, err)
	assert.Equal(t, s.last, found.Entries)
	assert.Equal(t, back.Label(), found.Head.Label())
	var got []string
	for _, c := range found.Changes {
		lines, err := walk.Lines(t.Context(), c)
		require.NoError(t, err)
		got = append(got, fmt.Sprint(c.Entry.Number, " ", c.Was.Status, " ", c.Is.Status, " ", strings.Contains(strings.Join(lines, ""), "+three")))
	}
	assert.Equal(t, []string{"47 0 200 false", "46 404 0 false", "45 200 404 false", "44 200 200 true", "1 0 200 false"}, got)

	some, err := walk.Changes(t.Context(), "/fares", 2, quiet)
	require.NoError(t, err)
	assert.Len(t, some.Changes, 2)
	assert.True(t, some.More)

	// What was pruned, or cannot be read, is passed over.
	require.NoError(t, s.store.Delete(t.Context(), storage.ReleaseKey("corvane", first.Release.String())))
	s.put(storage.JournalKey("corvane", "production", 3), []byte("{"))
	found, err = s.walk().Changes(t.Context(), "/fares", 0, quiet)
	require.NoError(t, err)
	assert.True(t, found.Changes[len(found.Changes)-2].After.Pruned)
	assert.True(t, found.Changes[len(found.Changes)-3].Before.Pruned)
}

// fetch is a test by what an address answers.
func fetch(ctx context.Context, address, path string) (int, string, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address+path, nil)
	if err != nil {
		return 0, "", err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return 0, "", err
	}
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	return response.StatusCode, string(bytes.TrimSpace(body)), err
}

// TestBisect searches journals in which what is broken began anywhere, and in which some releases
// cannot be tested: it finds the place, in about as many tests as halving takes.
func TestBisect(t *testing.T) {
	t.Parallel()
	for range 60 {
		s := newShelf(t)
		count := 2 + rand.IntN(120)
		broken := 2 + rand.IntN(count-1) // from this entry on
		skips := map[int]bool{}
		for i := 1; i <= count; i++ {
			text := "good"
			if i >= broken {
				text = "bad"
			}
			if rand.IntN(12) == 0 && i != broken && i != broken-1 && i != 1 && i != count {
				text, skips[i] = "unknown", true
			}
			s.live(map[string]string{"index.html": fmt.Sprint(text, " ", i)})
		}
		tests := 0
		culprit, err := s.walk().Bisect(t.Context(), 1, 0, func(ctx context.Context, _ *past.Moment, address string,
		) (past.Verdict, string, error) {
			tests++
			status, text, err := fetch(ctx, address, "/")
			assert.Equal(t, http.StatusOK, status)
			word, _, _ := strings.Cut(text, " ")
			return map[string]past.Verdict{"good": past.Good, "bad": past.Bad, "unknown": past.Skipped}[word], text, err
		}, func(past.Tested) {})
		require.NoError(t, err)
		assert.EqualValues(t, broken, culprit.Bad.Moment.Entry.Number)
		assert.EqualValues(t, broken-1, culprit.Good.Moment.Entry.Number)
		assert.Equal(t, tests, culprit.Tests)
		assert.LessOrEqual(t, tests, 2+bits.Len(uint(count))+2*len(skips))
	}
}

func TestBisectWhereThereIsNothingToFind(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	for i := range 20 {
		s.live(map[string]string{"index.html": fmt.Sprint(i)})
	}
	always := func(v past.Verdict) past.Test {
		return func(context.Context, *past.Moment, string) (past.Verdict, string, error) { return v, "", nil }
	}
	_, err := s.walk().Bisect(t.Context(), 0, 0, always(past.Good), func(past.Tested) {})
	require.ErrorIs(t, err, past.ErrNeverBad)
	_, err = s.walk().Bisect(t.Context(), 0, 0, always(past.Bad), func(past.Tested) {})
	require.ErrorIs(t, err, past.ErrNeverGood)
	_, err = s.walk().Bisect(t.Context(), 3, 0, always(past.Bad), func(past.Tested) {})
	require.ErrorIs(t, err, past.ErrNeverGood)
	_, err = s.walk().Bisect(t.Context(), 99, 0, always(past.Bad), func(past.Tested) {})
	require.ErrorContains(t, err, "no such entry")
}

// TestBisectTestsWhatIsTheSameOnce: of a hundred entries that serve two releases, two are tested.
func TestBisectTestsWhatIsTheSameOnce(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	for range 60 {
		s.live(map[string]string{"index.html": "good"})
	}
	for range 40 {
		s.live(map[string]string{"index.html": "bad"})
	}
	culprit, err := s.walk().Bisect(t.Context(), 0, 0, func(ctx context.Context, _ *past.Moment, address string,
	) (past.Verdict, string, error) {
		_, text, err := fetch(ctx, address, "/")
		return past.Verdict(text), text, err
	}, func(past.Tested) {})
	require.NoError(t, err)
	assert.EqualValues(t, 61, culprit.Bad.Moment.Entry.Number)
	assert.Equal(t, 2, culprit.Tests)
}

// TestADamagedReleaseIsNoVerdict: what cannot be read is told, and not taken for bad.
func TestADamagedReleaseIsNoVerdict(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.live(map[string]string{"index.html": "good"})
	s.live(map[string]string{"index.html": "bad"})
	require.NoError(t, s.store.Replace(t.Context(), digest.Of([]byte("bad")).Key(), []byte("torn")))
	_, err := s.walk().Bisect(t.Context(), 0, 0, func(ctx context.Context, _ *past.Moment, address string,
	) (past.Verdict, string, error) {
		if status, _, _ := fetch(ctx, address, "/"); status != http.StatusOK {
			return past.Bad, "", nil
		}
		return past.Good, "", nil
	}, func(past.Tested) {})
	require.Error(t, err)
}
