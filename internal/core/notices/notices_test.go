package notices_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

var began = time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)

// world is a store in which things happen, one second after the other.
type world struct {
	*testing.T
	store *memory.Store
	now   time.Time
	heads map[string]journal.Entry
	hints journal.Hints
	count int
}

func newWorld(t *testing.T) *world {
	t.Helper()
	return &world{t, &memory.Store{}, began, map[string]journal.Entry{}, journal.Hints{}, 0}
}

// enter writes the next entry of an environment.
func (w *world) enter(environment string, kind journal.Kind, change func(*journal.Entry)) journal.Entry {
	w.Helper()
	entry := w.heads[environment]
	w.count++
	w.now = w.now.Add(time.Second)
	entry = journal.Entry{Format: journal.Format, Site: "corvane", Environment: environment, Number: entry.Number + 1,
		Attempt: fmt.Sprint("a", w.count), Kind: kind, Release: entry.Release, Origin: entry.Origin, Frozen: entry.Frozen,
		Cause: "command", Who: "Ines Roe <ines@corvane.example>", When: w.now}
	if kind.Activates() {
		entry.Release = release.ID{byte(w.count)}
		entry.Origin = journal.Origin{Source: journal.FromCommit, Commit: strings.Repeat("a", 40), Subject: "Fares"}
	}
	if kind == journal.Removal {
		entry.Release = release.ID{}
	}
	if change != nil {
		change(&entry)
	}
	data, err := entry.Encode()
	require.NoError(w, err)
	require.NoError(w, w.store.Create(w.Context(), storage.JournalKey("corvane", environment, entry.Number), data))
	w.heads[environment] = entry
	w.hints.Pulse(w.Context(), w.store, entry)
	return entry
}

// look returns what a look finds, as kinds and subjects.
func (w *world) look(r *notices.Record, environments ...string) []string {
	w.Helper()
	return w.looking(r, notices.Looking{Environments: environments})
}

func (w *world) looking(r *notices.Record, l notices.Looking) (found []string) {
	w.Helper()
	l.Store, l.Site, l.Now = w.store, "corvane", w.now
	refs, err := r.Look(w.Context(), l)
	require.NoError(w, err)
	for _, ref := range refs {
		found = append(found, string(ref.Kind)+" "+ref.Subject())
	}
	return found
}

func freeze(e *journal.Entry) { e.Frozen = &journal.Frozen{Who: "Ines Roe", When: e.When} }
func thaw(e *journal.Entry)   { e.Frozen = nil }

func TestWhatEntriesTell(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var none *notices.Record
	r := none.Next("Ines Roe", "quay", 7, w.now)
	assert.Empty(t, w.look(r, "production"))

	w.enter("production", journal.Settings, nil)
	w.enter("production", journal.Deploy, nil)
	w.enter("production", journal.Promotion, nil)
	assert.Equal(t, []string{"live production:2", "promoted production:3"}, w.look(r))
	assert.Empty(t, w.look(r), "nothing is told twice")

	w.enter("production", journal.Rollback, freeze)
	w.enter("production", journal.Freeze, nil) // a freeze that is lengthened
	w.enter("production", journal.Deploy, thaw)
	w.enter("production", journal.Freeze, freeze)
	w.enter("production", journal.Thaw, thaw)
	w.enter("production", journal.Access, nil)
	w.enter("production", journal.Removal, nil)
	assert.Equal(t, []string{"rolled-back production:4", "thawed production:6", "live production:6",
		"frozen production:7", "thawed production:8", "removed production:10"}, w.look(r))

	preview := journal.PreviewPrefix + "boat-1"
	w.enter(preview, journal.Deploy, nil)
	w.enter(preview, journal.Deploy, nil)
	w.enter(preview, journal.Removal, func(e *journal.Entry) { e.Ended = &journal.Ended{Reason: journal.Merged} })
	w.enter(preview, journal.Deploy, nil)
	w.enter("previews", journal.Settings, nil)
	assert.Equal(t, []string{"preview-created preview/boat-1:1", "live preview/boat-1:2",
		"preview-ended preview/boat-1:3", "preview-created preview/boat-1:4"}, w.look(r))
}

func TestWhatWasBeforeIsNoNews(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for range 30 {
		w.enter("production", journal.Deploy, nil)
	}
	w.enter("staging", journal.Deploy, nil)
	w.now = w.now.Add(time.Minute)
	var none *notices.Record
	r := none.Next("", "", 1, w.now)
	assert.Empty(t, w.looking(r, notices.Looking{All: true}))
	w.enter("production", journal.Deploy, nil)
	w.enter("staging", journal.Deploy, nil)
	w.enter(journal.PreviewPrefix+"new", journal.Deploy, nil)
	assert.Equal(t, []string{"live production:31", "live staging:2", "preview-created preview/new:1"},
		w.looking(r, notices.Looking{All: true}))
}

// TestClocksDoNotTurnAJournalRound: whoever rolled back has a clock that is an hour behind.
func TestClocksDoNotTurnAJournalRound(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var none *notices.Record
	r := none.Next("", "", 1, w.now.Add(-3*time.Hour))
	r.Recipients([]string{"all"}, w.now.Add(-2*time.Hour))
	w.enter("production", journal.Deploy, nil)
	w.now = w.now.Add(-time.Hour)
	w.enter("production", journal.Rollback, nil)
	w.enter("staging", journal.Deploy, nil)
	refs, err := r.Look(t.Context(), notices.Looking{Store: w.store, Site: "corvane", Now: w.now})
	require.NoError(t, err)
	r.Add(refs, map[string]notices.Wants{"all": {Kinds: notices.All}})
	var got []string
	for _, ref := range r.Queues["all"].Waiting {
		got = append(got, string(ref.Kind)+" "+ref.Subject())
	}
	assert.Equal(t, []string{"live staging:1", "live production:1", "rolled-back production:2"}, got)
}

func TestHintsMayBeLost(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var none *notices.Record
	r := none.Next("", "", 1, w.now)
	w.enter("production", journal.Deploy, nil)
	w.enter("staging", journal.Deploy, nil)
	require.NoError(t, w.store.Delete(t.Context(), storage.PulseKey("corvane")))
	assert.Equal(t, []string{"live production:1"}, w.look(r, "production"), "what was named is looked at")
	assert.Equal(t, []string{"live staging:1"}, w.looking(r, notices.Looking{All: true}))
}

func TestWhatCannotBeReadHoldsUpNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var none *notices.Record
	r := none.Next("", "", 1, w.now)
	w.enter("production", journal.Deploy, nil)
	w.enter("production", journal.Deploy, nil)
	w.enter("production", journal.Deploy, nil)
	require.NoError(t, w.store.Replace(t.Context(), storage.JournalKey("corvane", "production", 2), []byte("{")))
	assert.Equal(t, []string{"live production:1", "live production:3"}, w.look(r))

	// Of a store that was brought back from a copy there are fewer; what comes then is new.
	r.Entries["production"] = 7
	assert.Empty(t, w.look(r, "production"))
	w.enter("production", journal.Deploy, nil)
	assert.Equal(t, []string{"live production:4"}, w.look(r))
}

// gone is a store that does not answer.
type gone struct{ storage.Store }

func (gone) Get(context.Context, string) ([]byte, error) { return nil, storage.ErrUnreachable }
func (gone) Stat(context.Context, string) (storage.Item, error) {
	return storage.Item{}, storage.ErrUnreachable
}

func TestAStoreThatDoesNotAnswerLosesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var none *notices.Record
	r := none.Next("", "", 1, w.now)
	w.enter("production", journal.Deploy, nil)
	_, err := r.Look(t.Context(), notices.Looking{Store: gone{w.store}, Site: "corvane", Now: w.now,
		Environments: []string{"production"}})
	require.ErrorIs(t, err, storage.ErrUnreachable)
	assert.Equal(t, []string{"live production:1"}, w.look(r, "production"))
}

func TestBuildsAndChecksAndWhatWaits(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var none *notices.Record
	r := none.Next("", "", 1, w.now)
	runs := builds.Runs{Store: w.store, Site: "corvane"}
	begin := func(environment string) builds.Begun {
		w.now = w.now.Add(time.Second)
		begun, err := runs.Begin(t.Context(), builds.Begun{Key: "k", Source: journal.FromCommit, Branch: "boat",
			Environment: environment, Cause: "command", Who: "Ines", Where: "quay", When: w.now}, 0)
		require.NoError(t, err)
		return begun
	}
	end := func(begun builds.Begun, outcome builds.Outcome) {
		w.now = w.now.Add(time.Second)
		require.NoError(t, runs.End(t.Context(), builds.Ended{Number: begun.Number, Outcome: outcome, When: w.now}))
	}
	first, second := begin("production"), begin(journal.PreviewPrefix+"boat")
	assert.Equal(t, []string{"build-started build:1", "build-started build:2"}, w.look(r))
	end(second, builds.Failed)
	assert.Equal(t, []string{"build-failed build:2"}, w.look(r))
	end(first, builds.Succeeded)
	end(begin("production"), builds.Cancelled)
	end(begin("production"), builds.Abandoned)
	assert.Equal(t, []string{"build-succeeded build:1", "build-started build:3", "build-started build:4",
		"build-failed build:4"}, w.look(r))

	entry := w.enter("production", journal.Deploy, nil)
	assert.Equal(t, []string{"live production:1"}, w.look(r))
	outcome := `{"attempt":"` + entry.Attempt + `","entry":1,"format":1,"looks":[],"passed":false,"when":"2026-11-29T05:00:00Z"}`
	require.NoError(t, w.store.Create(t.Context(), storage.OutcomeKey("corvane", "production", 1), []byte(outcome)))
	assert.Equal(t, []string{"check-failed production:1"}, w.look(r))
	assert.Empty(t, w.look(r))

	w.enter("production", journal.Freeze, func(e *journal.Entry) {
		freeze(e)
		e.Frozen.When = time.Now().Add(-time.Minute) // waiting is told by the store's clock
	})
	w.now = time.Now()
	assert.Equal(t, []string{"frozen production:2"}, w.look(r))
	require.NoError(t, w.store.Replace(t.Context(), storage.WaitingKey("corvane", "production")+"/abc", []byte("{}")))
	assert.Equal(t, []string{"waiting production"}, w.look(r, "production"))
	assert.Empty(t, w.look(r, "production"))

	assert.Equal(t, []string{"certificate nodes"}, w.looking(r, notices.Looking{Alarms: []string{"it ends on Monday"}}))
	assert.Empty(t, w.looking(r, notices.Looking{Alarms: []string{"it ends on Monday"}}))
	w.now = w.now.Add(8 * 24 * time.Hour)
	assert.Len(t, w.looking(r, notices.Looking{Alarms: []string{"it ends on Monday"}}), 1, "a week later again")
}

// slow is a store that is 20 ms away, and counts what is asked of it at once.
type slow struct {
	storage.Store
	asked atomic.Int64
}

func (s *slow) Parallel() int { return 32 }

func (s *slow) Get(ctx context.Context, key string) ([]byte, error) {
	s.asked.Add(1)
	time.Sleep(20 * time.Millisecond)
	return s.Store.Get(ctx, key)
}

func (s *slow) Stat(ctx context.Context, key string) (storage.Item, error) {
	s.asked.Add(1)
	time.Sleep(20 * time.Millisecond)
	return s.Store.Stat(ctx, key)
}

// TestAThousandPreviews are looked at in a store that is far away, in time for a command.
func TestAThousandPreviews(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for i := range 1000 {
		w.enter(fmt.Sprintf("%spr-%d", journal.PreviewPrefix, i), journal.Deploy, nil)
	}
	synctest.Test(t, func(t *testing.T) { // the time of the ways, and not that of this machine
		store := &slow{Store: w.store}
		var none *notices.Record
		r := none.Next("", "", 1, w.now.Add(time.Minute))
		look := func() time.Duration {
			began := time.Now()
			found, err := r.Look(t.Context(), notices.Looking{Store: store, Site: "corvane", Now: w.now, All: true})
			require.NoError(t, err)
			assert.Empty(t, found)
			return time.Since(began)
		}
		assert.Less(t, look(), 10*time.Second, "the first time")
		store.asked.Store(0)
		assert.Less(t, look(), 5*time.Second)
		assert.Less(t, store.asked.Load(), int64(2200), "two questions for each that did not move")
	})
}

func TestALookIsBoundedAndGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var none *notices.Record
	r := none.Next("", "", 1, w.now)
	w.enter("production", journal.Deploy, nil)
	w.look(r)
	for range 150 {
		w.enter("production", journal.Deploy, nil)
	}
	all := w.look(r, "production")
	for range 3 {
		all = append(all, w.look(r, "production")...)
	}
	require.Len(t, all, 150)
	for i, one := range all {
		assert.Equal(t, fmt.Sprintf("live production:%d", i+2), one)
	}
}

func TestEachIsToldWhatItWants(t *testing.T) {
	t.Parallel()
	var none *notices.Record
	r := none.Next("Ines", "quay", 7, began)
	r.Recipients([]string{"all", "usual"}, began)
	r.Recipients([]string{"all", "usual", "late"}, began.Add(time.Minute))
	wants := map[string]notices.Wants{
		"all":   {Kinds: notices.All, Environments: []string{"*"}},
		"usual": {Kinds: notices.Usual},
		"late":  {Kinds: notices.All, Environments: []string{"preview/*"}},
	}
	at := func(seconds int) time.Time { return began.Add(time.Duration(seconds) * time.Second) }
	r.Add([]notices.Ref{
		{Kind: notices.Live, Environment: "production", Number: 2, When: at(3)},
		{Kind: notices.BuildStarted, Environment: "production", Number: 1, When: at(1)},
		{Kind: notices.BuildFailed, Environment: journal.PreviewPrefix + "boat", Number: 3, When: at(70)},
		{Kind: notices.Live, Environment: journal.PreviewPrefix + "boat", Number: 1, When: at(71)},
		{Kind: notices.Live, Environment: journal.PreviewPrefix + "old", Number: 1, When: at(2)},
		{Kind: notices.Certificate, What: "it ends", When: at(80)},
	}, wants)
	subjects := func(name string) (list []string) {
		for _, ref := range r.Queues[name].Waiting {
			list = append(list, string(ref.Kind)+" "+ref.Subject())
		}
		return list
	}
	assert.Equal(t, []string{"build-started build:1", "live preview/old:1", "live production:2", "build-failed build:3",
		"live preview/boat:1", "certificate nodes"}, subjects("all"))
	assert.Equal(t, []string{"live production:2", "build-failed build:3", "certificate nodes"}, subjects("usual"))
	assert.Equal(t, []string{"build-failed build:3", "live preview/boat:1", "certificate nodes"}, subjects("late"),
		"who is new is not told of what was before")
	// The clock of whoever did it may be an hour behind: it is new all the same.
	r.Add([]notices.Ref{{Kind: notices.Live, Environment: "preview.boat", Number: 2, When: began.Add(-time.Hour)}}, wants)
	assert.Len(t, r.Queues["late"].Waiting, 4)
	r.Recipients([]string{"late"}, at(90))
	assert.Len(t, r.Queues, 1)
}

func TestWhatIsNotTakenIsTriedForThreeDays(t *testing.T) {
	t.Parallel()
	var none *notices.Record
	r := none.Next("Ines", "quay", 7, began)
	r.Recipients([]string{"board"}, began)
	ref := notices.Ref{Kind: notices.Live, Environment: "production", Number: 2, When: began}
	next := notices.Ref{Kind: notices.Live, Environment: "production", Number: 3, When: began}
	r.Add([]notices.Ref{ref, next}, map[string]notices.Wants{"board": {Kinds: notices.All}})
	queue, now := r.Queues["board"], began
	var pauses []time.Duration
	for len(queue.Waiting) == 2 {
		got, due := queue.Due(now, false)
		require.True(t, due)
		assert.Equal(t, ref, got)
		r.Failed("board", now, time.Second, "connection refused", false)
		if queue.Next == nil {
			break
		}
		_, due = queue.Due(queue.Next.Add(-time.Second), false)
		assert.False(t, due)
		_, due = queue.Due(now, true)
		assert.True(t, due, "who asks for it need not wait")
		pauses = append(pauses, queue.Next.Sub(now))
		now = *queue.Next
		// What is kept is what the next holder has.
		data, err := r.Encode()
		require.NoError(t, err)
		if r, err = notices.Decode(data); err != nil {
			t.Fatal(err)
		}
		queue = r.Queues["board"]
	}
	assert.Equal(t, []time.Duration{time.Minute, 4 * time.Minute, 9 * time.Minute}, pauses[:3])
	assert.Equal(t, 6*time.Hour, pauses[len(pauses)-1])
	assert.InDelta(t, 72, now.Sub(began).Hours(), 6)
	require.Len(t, queue.Waiting, 1, "the next one has its turn")
	assert.Equal(t, "connection refused", r.Last("board").Problem)
	assert.Equal(t, len(pauses)+1, r.Last("board").Tries)
	assert.Zero(t, queue.Tries)
	r.Failed("board", now, time.Second, "no such mailbox", true)
	assert.Empty(t, queue.Waiting, "refused for good")
	assert.Zero(t, r.Counts["board"])
}

func TestHostileTextsStayOnTheirLine(t *testing.T) {
	t.Parallel()
	hostile := "Fares\r\nBcc: everybody@corvane.example\r\n\r\n<b>\x1b[31m\u202egnp.exe\x00" + strings.Repeat("x", 5000)
	event := notices.NewEvent(notices.Ref{Kind: notices.Live, Environment: "production", Number: 12, When: began},
		notices.Data{Site: "corvane", Summary: hostile, Branch: hostile, Who: hostile, Why: hostile, Problem: hostile,
			Before: &notices.Before{Entry: "production:11", Release: "r-1", Summary: hostile},
			Checks: []notices.Check{{What: hostile, Text: hostile}}, Changed: &notices.Changed{Paths: []string{hostile}}})
	assert.Equal(t, "production:12/live/20261129T040000.000Z", event.ID)
	assert.Equal(t, "0000000012", event.Sequence)
	assert.LessOrEqual(t, len([]rune(event.Data.Title)), 150)
	assert.True(t, strings.HasPrefix(event.Data.Title, "corvane: production is live: Fares Bcc: everybody@corvane.example <b> [31mgnp"))
	for _, row := range event.Data.Rows() {
		for _, text := range row.Texts {
			assert.Less(t, len([]rune(text)), 1000)
			assert.False(t, strings.ContainsFunc(text, func(r rune) bool {
				return unicode.IsControl(r) || r == '\u202e'
			}), "%q", text)
		}
	}
	data, err := event.Encode()
	require.NoError(t, err)
	var fields map[string]any
	require.NoError(t, json.Unmarshal(data, &fields))
	for _, required := range []string{"specversion", "id", "source", "type"} { // CloudEvents 1.0, 3.1
		assert.NotEmpty(t, fields[required])
	}
}

func TestRecordsOfOthers(t *testing.T) {
	t.Parallel()
	for _, data := range []string{"", "{", `{"format":2,"turn":1}`, `{"format":1,"turn":0}`, `[]`} {
		_, err := notices.Decode([]byte(data))
		require.ErrorIs(t, err, notices.ErrUnreadable, data)
	}
	r, err := notices.Decode([]byte(`{"format":1,"turn":3,"later":{"x":1},"entries":{"production":7}}`))
	require.NoError(t, err, "what a later program notes besides is passed over")
	next := r.Next("Ines", "quay", 7, began)
	assert.Equal(t, int64(4), next.Turn)
	assert.Equal(t, int64(7), next.Entries["production"])
}

func FuzzOneLine(f *testing.F) {
	f.Add("Fares\r\nBcc: x")
	f.Add("\u202e\x00\xff")
	f.Fuzz(func(t *testing.T, text string) {
		line := notices.OneLine(text, 40)
		assert.LessOrEqual(t, len([]rune(line)), 40)
		assert.False(t, strings.ContainsFunc(line, unicode.IsControl))
		assert.Equal(t, line, notices.OneLine(line, 40))
	})
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"format":1,"turn":3,"queues":{"a":null},"entries":null}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := notices.Decode(data)
		if err != nil {
			return
		}
		next := r.Next("Ines", "quay", 7, began)
		next.Recipients([]string{"a"}, began)
		next.Add([]notices.Ref{{Kind: notices.Live, Environment: "production", Number: 1, When: began.Add(time.Hour)}},
			map[string]notices.Wants{"a": {Kinds: notices.All}})
		_, err = next.Look(t.Context(), notices.Looking{Store: &memory.Store{}, Site: "corvane", Now: began})
		require.NoError(t, err)
		_, err = next.Encode()
		require.NoError(t, err)
	})
}
