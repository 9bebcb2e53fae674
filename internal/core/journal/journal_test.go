package journal_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

func of(store storage.Store) *journal.Journal {
	return &journal.Journal{
		Store: store, Site: "corvane", Environment: "production",
		Attempt: func() string { return fmt.Sprint(rand.Uint64()) }, Now: func() time.Time { return noon },
	}
}

func id(name string) release.ID { return release.ID(digest.Of([]byte(name))) }

func deploy(t *testing.T, j *journal.Journal, name string) journal.Entry {
	t.Helper()
	move := journal.Move{Release: id(name), Origin: journal.Origin{Source: journal.FromCommit, Commit: name},
		Who: "Ines Marrow", Cause: "command"}
	entry, err := j.Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, move, noon))
	require.NoError(t, err)
	return entry
}

func back(t *testing.T, j *journal.Journal, to func(journal.Entry) bool) (journal.Entry, error) {
	t.Helper()
	return j.Append(t.Context(), journal.Entry{},
		j.Return(t.Context(), journal.Back{To: to, KeepFollowing: true, Who: "Ines Marrow"}))
}

// TestFormatIsFrozen holds the bytes of format 1 fast.
func TestFormatIsFrozen(t *testing.T) {
	t.Parallel()
	entry := journal.Entry{
		Format: 1, Site: "corvane", Environment: "preview.winter-times", Number: 7, Attempt: "x",
		Kind: journal.Rollback, Release: id("a"),
		Origin: journal.Origin{Source: journal.FromCommit, Commit: "c", Branch: "main",
			Subject: "Winter sailings <&> é", Build: "k/1"},
		Reactivates: 3, Frozen: &journal.Frozen{Who: "Tobias Quill", When: noon}, Cause: "command",
		Who: "Ines Marrow", When: noon.Add(1234567), Why: "wrong fare",
	}
	data, err := entry.Encode()
	require.NoError(t, err)
	assert.Equal(t, `{"attempt":"x","branch":"main","build":"k/1","cause":"command","commit":"c","environment":"preview.winter-times","format":1,`+
		`"frozen":{"when":"2026-11-01T12:00:00Z","who":"Tobias Quill"},"kind":"rollback","number":7,"reactivates":3,`+
		`"release":"ca978112ca1bbdcafac231b39a23dc4da786eff8147c4e72b9807785afee48bb","site":"corvane","source":"commit",`+
		`"subject":"Winter sailings <&> é","when":"2026-11-01T12:00:00.001Z","who":"Ines Marrow","why":"wrong fare"}`, string(data))
	again, err := journal.Decode(data, "corvane", "preview.winter-times", 7)
	require.NoError(t, err)
	assert.Equal(t, "preview/winter-times:7", again.Label())
}

func TestDecodeRefuses(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	j := of(store)
	deploy(t, j, "a")
	data, err := store.Get(t.Context(), storage.JournalKey("corvane", "production", 1))
	require.NoError(t, err)
	for name, place := range map[string]struct {
		site, environment string
		number            int64
	}{"another site": {"velley", "production", 1}, "another environment": {"corvane", "staging", 1},
		"another number": {"corvane", "production", 2}} {
		t.Run(name, func(t *testing.T) {
			_, err := journal.Decode(data, place.site, place.environment, place.number)
			require.ErrorIs(t, err, journal.ErrDamaged, name)
		})
	}
	_, err = journal.Decode(data[:len(data)/2], "corvane", "production", 1)
	require.ErrorIs(t, err, journal.ErrDamaged, "torn")
	_, err = journal.Decode([]byte(`{"format":3}`), "corvane", "production", 1)
	assert.ErrorIs(t, err, journal.ErrUnknown)
}

func TestHeadIsFoundFromAnyHint(t *testing.T) {
	t.Parallel()
	store := &counting{Store: &memory.Store{}}
	j := of(store)
	_, err := j.Head(t.Context(), 5)
	require.ErrorIs(t, err, journal.ErrEmpty)
	for n := int64(1); n <= 70; n++ {
		deploy(t, j, fmt.Sprint(n))
		for _, hint := range []int64{0, 1, n - 1, n, n + 1, n + 100} {
			head, err := j.HeadNumber(t.Context(), hint)
			require.NoError(t, err)
			require.Equal(t, n, head, "hint %d", hint)
		}
	}
	store.calls = 0
	_, err = j.HeadNumber(t.Context(), 0)
	require.NoError(t, err)
	assert.LessOrEqual(t, store.calls, 26, "the logarithm of the length, some at once")
	store.calls = 0
	_, err = j.HeadNumber(t.Context(), 70)
	require.NoError(t, err)
	assert.Equal(t, 2, store.calls, "a good hint")
}

func TestWritersThatMeetAreAllWrittenOnce(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	var writers sync.WaitGroup
	for i := range 8 {
		writers.Go(func() {
			for k := range 20 {
				deploy(t, of(store), fmt.Sprintf("%d-%d", i, k))
			}
		})
	}
	writers.Wait()
	j := of(store)
	head, err := j.HeadNumber(t.Context(), 0)
	require.NoError(t, err)
	require.EqualValues(t, 160, head)
	seen := map[string]bool{}
	var after journal.Entry
	for entry, err := range j.Back(t.Context(), head) {
		require.NoError(t, err)
		require.False(t, seen[entry.Commit])
		seen[entry.Commit] = true
		if after.Number > 0 {
			data, err := store.Get(t.Context(), storage.JournalKey("corvane", "production", entry.Number))
			require.NoError(t, err)
			require.Equal(t, digest.Of(data), after.Previous, "each entry names the bytes of the one before")
		}
		after = entry
	}
	assert.Len(t, seen, 160)
}

// unclear is a store that sometimes fails to answer:
// before or after it did what it was asked.
type unclear struct {
	*memory.Store
	random *rand.Rand
	dead   bool
}

var errUnclear = errors.New("connection reset")

func (u *unclear) Create(ctx context.Context, key string, data []byte) error {
	if u.random.IntN(4) == 0 {
		return errUnclear
	}
	err := u.Store.Create(ctx, key, data)
	if err == nil && u.random.IntN(3) == 0 {
		return errUnclear
	}
	return err
}

func (u *unclear) Get(ctx context.Context, key string) ([]byte, error) {
	if u.dead {
		return nil, errUnclear
	}
	return u.Store.Get(ctx, key)
}

func TestAnUnclearAnswerIsSettledByReadingBack(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	var writers sync.WaitGroup
	var mutex sync.Mutex
	wrote, gaveUp := map[string]bool{}, 0
	for i := range 4 {
		writers.Go(func() {
			j := of(&unclear{Store: store, random: rand.New(rand.NewPCG(uint64(i), 7))})
			for k := range 50 {
				name := fmt.Sprintf("%d-%d", i, k)
				_, err := j.Append(t.Context(), journal.Entry{},
					journal.Activate(journal.Deploy,
						journal.Move{Release: id(name), Origin: journal.Origin{Commit: name}}, noon))
				mutex.Lock()
				wrote[name] = err == nil
				if err != nil {
					gaveUp++
				}
				mutex.Unlock()
			}
		})
	}
	writers.Wait()
	j := of(store)
	head, err := j.HeadNumber(t.Context(), 0)
	require.NoError(t, err)
	there := map[string]int{}
	for entry, err := range j.Back(t.Context(), head) {
		require.NoError(t, err)
		there[entry.Commit]++
	}
	for name, ok := range wrote {
		want := 0
		if ok {
			want = 1
		}
		assert.Equal(t, want, there[name], "%s: what was reported is what happened", name)
	}
	assert.Less(t, gaveUp, 10)
}

// late is a store in which the first request to create an entry fails, and
// arrives all the same, after a number of further calls.
type late struct {
	*memory.Store
	after int
	key   string
	data  []byte
	mutex sync.Mutex
	calls int
}

func (l *late) call(ctx context.Context) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.calls++; l.key != "" && l.calls == l.after {
		l.Store.Create(ctx, l.key, l.data) //nolint:errcheck // somebody may have been faster
	}
}

func (l *late) Create(ctx context.Context, key string, data []byte) error {
	l.call(ctx)
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.key == "" {
		l.key, l.data, l.calls = key, data, 0
		return errUnclear
	}
	return l.Store.Create(ctx, key, data)
}

func (l *late) Get(ctx context.Context, key string) ([]byte, error) {
	l.call(ctx)
	return l.Store.Get(ctx, key)
}

func (l *late) Stat(ctx context.Context, key string) (storage.Item, error) {
	l.call(ctx)
	return l.Store.Stat(ctx, key)
}

// TestADecisionIsCarriedOutOnce whenever a request arrives whose answer was an
// error: a rollback goes back one release, not two.
func TestADecisionIsCarriedOutOnce(t *testing.T) {
	t.Parallel()
	for after := range 30 {
		store := &memory.Store{}
		for _, name := range []string{"a", "b", "c"} {
			deploy(t, of(store), name)
		}
		entry, err := back(t, of(&late{Store: store, after: after}), nil)
		require.NoError(t, err, "after %d calls", after)
		assert.Equal(t, id("b"), entry.Release, "after %d calls", after)
		head, err := of(store).Head(t.Context(), 0)
		require.NoError(t, err)
		assert.Equal(t, id("b"), head.Release, "after %d calls", after)
		assert.EqualValues(t, 4, head.Number, "after %d calls", after)
		assert.Equal(t, entry, head, "what is told is what is there")
	}
}

// refusing answers nothing but errors to those who create.
type refusing struct {
	*memory.Store
	err error
}

func (r *refusing) Create(context.Context, string, []byte) error { return r.err }

func TestDoubtIsSaidOnlyWhereThereIsDoubt(t *testing.T) {
	t.Parallel()
	_, err := of(&refusing{&memory.Store{}, errUnclear}).
		Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, journal.Move{Release: id("a")},
			noon))
	require.ErrorIs(t, err, journal.ErrInDoubt, "any of the tries may still arrive")
	_, err = of(&refusing{&memory.Store{}, storage.ErrDenied}).
		Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, journal.Move{Release: id("a")},
			noon))
	require.ErrorIs(t, err, storage.ErrDenied)
	require.NotErrorIs(t, err, journal.ErrInDoubt)
}

func TestDoubtIsSaid(t *testing.T) {
	t.Parallel()
	store := &unclear{Store: &memory.Store{}, random: rand.New(rand.NewPCG(1, 1))}
	j := of(store)
	_, err := j.Append(t.Context(), journal.Entry{}, func(*journal.Entry) (journal.Entry, error) {
		store.dead = true
		store.random = rand.New(zero{})
		return journal.Entry{Kind: journal.Deploy, Release: id("a")}, nil
	})
	require.ErrorIs(t, err, journal.ErrInDoubt)
}

// zero is a source of nothing but zeros: every write fails.
type zero struct{}

func (zero) Uint64() uint64 { return 0 }

func TestRollback(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	_, err := back(t, j, nil)
	require.ErrorIs(t, err, journal.ErrEmpty)
	deploy(t, j, "a") // 1
	_, err = back(t, j, nil)
	require.ErrorIs(t, err, journal.ErrNothingBefore)
	deploy(t, j, "b") // 2
	deploy(t, j, "b") // 3: the same release again
	deploy(t, j, "c") // 4
	for _, step := range []struct {
		name        string
		reactivates int64
	}{{"b", 3}, {"a", 1}} {
		entry, err := back(t, j, nil)
		require.NoError(t, err)
		assert.Equal(t, id(step.name), entry.Release)
		assert.Equal(t, step.reactivates, entry.Reactivates, "rolling back twice goes further back")
		assert.Equal(t, step.name, entry.Commit)
	}
	_, err = back(t, j, nil)
	require.ErrorIs(t, err, journal.ErrNothingBefore)
	deploy(t, j, "d") // 7
	entry, err := back(t, j, nil)
	require.NoError(t, err)
	assert.Equal(t, id("a"), entry.Release, "what was live before the head")
	assert.EqualValues(t, 1, entry.Reactivates)

	entry, err = back(t, j, func(e journal.Entry) bool { return e.Commit == "c" })
	require.NoError(t, err)
	assert.EqualValues(t, 4, entry.Reactivates)
	_, err = back(t, j, func(e journal.Entry) bool { return e.Commit == "c" })
	require.ErrorIs(t, err, journal.ErrAlready)
	_, err = back(t, j, func(e journal.Entry) bool { return e.Commit == "zz" })
	require.ErrorIs(t, err, journal.ErrNeverThere)
}

func TestFreeze(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	deploy(t, j, "a")
	deploy(t, j, "b")
	_, err := j.Append(t.Context(), journal.Entry{},
		j.Return(t.Context(), journal.Back{Who: "Tobias Quill", Why: "wrong fare"}))
	require.NoError(t, err)
	move := journal.Move{Release: id("c")}
	_, err = j.Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, move, noon))
	var refusal *journal.Refusal
	require.ErrorAs(t, err, &refusal)
	require.ErrorIs(t, err, journal.ErrFrozen)
	assert.Equal(t, "Tobias Quill", refusal.Entry.Frozen.Who)

	move.DuringFreezeOK = true
	entry, err := j.Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, move, noon))
	require.NoError(t, err)
	assert.NotNil(t, entry.Frozen, "a deploy that a person insisted on does not thaw")

	entry, err = j.Append(t.Context(), journal.Entry{}, journal.SetFrozen(nil, "command", "Ines Marrow", "",
		noon))
	require.NoError(t, err)
	assert.Nil(t, entry.Frozen)
	assert.Equal(t, id("c"), entry.Release, "a thaw moves nothing")
	_, err = j.Append(t.Context(), journal.Entry{}, journal.SetFrozen(nil, "command", "Ines Marrow", "",
		noon))
	require.ErrorIs(t, err, journal.ErrAlready)
	entry, err = back(t, j, nil)
	require.NoError(t, err)
	assert.Equal(t, id("a"), entry.Release, "a thaw does not count as a step back")

	until := noon.Add(time.Hour)
	assert.True(t, (&journal.Frozen{Until: &until}).At(noon))
	assert.False(t, (&journal.Frozen{Until: &until}).At(until))
}

func TestADeployKeepsANewerDocument(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	document, err := journal.NewDocument(
		journal.DocumentContent{Addresses: []string{"https://www.corvane.example/"}}, "c1")
	require.NoError(t, err)
	_, err = j.Append(t.Context(), journal.Entry{},
		journal.Activate(journal.Deploy, journal.Move{Release: id("a"), Document: document}, noon))
	require.NoError(t, err)
	entry, err := j.Append(t.Context(), journal.Entry{},
		journal.Activate(journal.Deploy, journal.Move{Release: id("b"), KeepDocument: true}, noon))
	require.NoError(t, err)
	assert.Equal(t, document.Digest, entry.Document)
	assert.Equal(t, "c1", entry.DocumentCommit)
	entry, err = back(t, j, nil)
	require.NoError(t, err)
	assert.Equal(t, document.Digest, entry.Document, "a rollback brings back a release, not addresses")
	content, err := journal.DecodeDocument(document.Data)
	require.NoError(t, err)
	assert.Equal(t, document.DocumentContent, content)
}

// TestAThawKeepsTheExpiry of the preview that it puts something live in.
func TestAThawKeepsTheExpiry(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	ends := now.Add(time.Hour)
	head := journal.Entry{Format: 1, Site: "s", Environment: "preview.winter", Number: 3,
		Kind: journal.Freeze, Release: id("a"), Expires: &ends, Frozen: &journal.Frozen{Who: "Ines"}}
	entry, err := journal.Activate(journal.Deploy, journal.Move{Release: id("b"), KeepDocument: true,
		Thaws: true}, now)(&head)
	require.NoError(t, err)
	assert.Nil(t, entry.Frozen)
	require.NotNil(t, entry.Expires, "a preview that was frozen once does not last for ever")
	assert.Equal(t, ends, *entry.Expires)
	never := head
	never.Expires = nil
	entry, err = journal.Activate(journal.Deploy, journal.Move{Release: id("b"), KeepDocument: true,
		Thaws: true}, now)(&never)
	require.NoError(t, err)
	assert.Nil(t, entry.Expires)
}

// counting counts what a journal asks of its store.
// TestGoingBackToAnEntryReadsThatOne, and not all that came since.
func TestGoingBackToAnEntryReadsThatOne(t *testing.T) {
	t.Parallel()
	store := &askingStore{Store: &memory.Store{}}
	j := of(store)
	last := journal.Entry{}
	for n := range 300 {
		entry, err := j.Append(t.Context(), last,
			journal.Activate(journal.Deploy, journal.Move{Release: id(fmt.Sprint(n))}, noon))
		require.NoError(t, err)
		last = entry
	}
	store.asked = nil
	entry, err := j.Append(t.Context(), last, j.Return(t.Context(), journal.Back{From: 3,
		To: func(e journal.Entry) bool { return e.Release == id("2") }}))
	require.NoError(t, err)
	assert.EqualValues(t, 3, entry.Reactivates)
	assert.Equal(t, []string{"get 0000000003"}, store.asked)

	// Without its number it is looked for, many at once.
	store.asked = nil
	entry, err = j.Append(t.Context(), entry, j.Return(t.Context(), journal.Back{
		To: func(e journal.Entry) bool { return e.Release == id("250") }}))
	require.NoError(t, err)
	assert.EqualValues(t, 251, entry.Reactivates)
	assert.Less(t, len(store.asked), 80)
}

type counting struct {
	storage.Store
	mutex sync.Mutex
	calls int
}

func (c *counting) Stat(ctx context.Context, key string) (storage.Item, error) {
	c.mutex.Lock()
	c.calls++
	c.mutex.Unlock()
	return c.Store.Stat(ctx, key)
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"format":1}`))
	entry := journal.Entry{Format: 1, Site: "s", Environment: "e", Number: 1, Kind: journal.Deploy,
		Release: id("a")}
	data, err := entry.Encode()
	require.NoError(f, err)
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		entry, err := journal.Decode(data, "s", "e", 1)
		if err != nil {
			return
		}
		again, err := entry.Encode()
		if err != nil {
			t.Fatal(err)
		}
		if string(again) != string(data) {
			t.Fatalf("%q became %q", data, again)
		}
	})
}
