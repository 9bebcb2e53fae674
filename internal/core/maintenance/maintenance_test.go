package maintenance_test

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

func quiet(string, int64, int64) {}

func nobody([]pins.Waiting) {}

func settled(func(string) bool) (bool, error) { return false, nil }

// site publishes releases into a store.
type site struct {
	t     *testing.T
	store storage.Store
	name  string
	n     int
}

// publish makes a release of pages, and points an
// environment at it if one is named.
func (s *site) publish(environment string, pages map[string]string, retention *journal.Retention) release.ID {
	s.t.Helper()
	ctx := s.t.Context()
	put := func(key string, data []byte) {
		if _, err := s.store.Stat(ctx, key); err != nil {
			require.NoError(s.t, s.store.Create(ctx, key, data))
		}
	}
	var files []release.File
	for path, text := range pages {
		d := digest.Of([]byte(text))
		put(d.Key(), []byte(text))
		files = append(files, release.File{Path: path, Digest: d, Size: int64(len(text)), Type: "text/html"})
	}
	rules := []byte(`{"pattern":"/x","target":"/` + fmt.Sprint(len(pages)) + `","verb":"redirect"}` + "\n")
	set, parts := release.CutRules(1, rules)
	for _, part := range parts {
		put(part.Digest.Key(), part.Data)
	}
	put(digest.Of(rules).Key(), rules)
	index, err := release.Build(files, set, release.Settings{})
	require.NoError(s.t, err)
	for _, chunk := range index.Chunks {
		put(chunk.Digest.Key(), chunk.Data)
	}
	put(storage.ReleaseKey(s.name, index.ID.String()), index.Data)
	put(storage.ClaimKey(s.name), []byte("a claim of "+s.name))
	s.n++
	log := []byte(fmt.Sprintf("log %d of %s", s.n, s.name))
	put(digest.Of(log).Key(), log)
	record, err := builds.Record{Key: digest.Of(log).String(), Number: 1, Outcome: builds.Succeeded,
		Release: index.ID, Log: []digest.Digest{digest.Of(log)}}.Encode()
	require.NoError(s.t, err)
	put(storage.BuildKey(s.name, digest.Of(log).String(), 1), record)
	if environment != "" {
		document, err := journal.NewDocument(journal.DocumentContent{Retention: retention}, "")
		require.NoError(s.t, err)
		if document.Data != nil {
			put(document.Digest.Key(), document.Data)
		}
		_, err = s.journal(environment).
			Append(ctx, journal.Entry{},
				journal.Activate(journal.Deploy, journal.Move{Release: index.ID, Document: document},
					time.Now()))
		require.NoError(s.t, err)
	}
	return index.ID
}

func (s *site) journal(environment string) *journal.Journal {
	s.n++
	return &journal.Journal{Store: s.store, Site: s.name, Environment: environment,
		Attempt: func() string { s.n++; return fmt.Sprint(s.n, s.name) }, Now: time.Now}
}

// day is the page of a day, which only that day's release has.
func day(n int) map[string]string {
	return map[string]string{"index.html": "home", "today.html": fmt.Sprint("day ", n)}
}

func (s *site) has(id release.ID) bool {
	_, err := s.store.Stat(s.t.Context(), storage.ReleaseKey(s.name, id.String()))
	return err == nil
}

func prune(t *testing.T, store storage.Store, policy maintenance.Policy) maintenance.Pruned {
	t.Helper()
	plan, err := maintenance.Plan(t.Context(), store, "Ines Marrow", policy, quiet)
	require.NoError(t, err)
	planned := plan.Result()
	done, err := plan.CarryOut(t.Context(), nobody, quiet)
	require.NoError(t, err)
	assert.Equal(t, planned.Objects, done.Objects, "what was planned is what is done")
	assert.Equal(t, planned.Bytes, done.Bytes)
	assert.Len(t, done.Releases, len(planned.Releases))
	return done
}

func whole(t *testing.T, store storage.Store) maintenance.Verified {
	t.Helper()
	found, err := maintenance.Verify(t.Context(), store, nil, quiet)
	require.NoError(t, err)
	require.Empty(t, found.Damage)
	return found
}

func TestPruneKeepsWhatSomebodyCouldGoBackTo(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &site{t: t, store: &memory.Store{}, name: "corvane"}
		three := &journal.Retention{Releases: 3, Seconds: 2 * 86400}
		var ids []release.ID
		staged := s.publish("staging", day(100), three)
		for n := range 8 {
			ids = append(ids, s.publish("production", day(n), three))
			time.Sleep(24 * time.Hour)
		}
		built := s.publish("", day(200), nil) // lives nowhere
		time.Sleep(48 * time.Hour)            // now the releases of days 5, 6 and 7 are the last three
		named := "r-" + ids[1].String()[:10]
		policy := maintenance.Policy{Keep: []string{named}, Grace: time.Hour}
		done := prune(t, s.store, policy)
		for n, id := range ids {
			assert.Equal(t, n == 1 || n >= 5, s.has(id), "day %d", n)
		}
		assert.True(t, s.has(staged), "what is live stays, however old")
		assert.True(t, s.has(built), "what was made not long ago stays")
		assert.Len(t, done.Releases, 4)
		assert.Equal(t, 4, done.Builds)
		assert.Equal(t, 4*3, done.Objects, "of each its own page, its chunk, its log")
		found := whole(t, s.store)
		assert.Equal(t, 4, found.Gone)
		assert.Zero(t, prune(t, s.store, policy).Objects)

		time.Sleep(40 * 24 * time.Hour)
		prune(t, s.store, maintenance.Policy{Grace: time.Hour})
		assert.False(t, s.has(built))
		assert.False(t, s.has(ids[1]))
		assert.True(t, s.has(ids[5]), "the last three stay, however old")

		_, err := s.journal("production").Append(t.Context(), journal.Entry{}, s.journal("production").
			Return(t.Context(), journal.Back{
				To: func(e journal.Entry) bool { return e.Release == ids[5] }}))
		require.NoError(t, err)
		prune(t, s.store, maintenance.Policy{Retention: &journal.Retention{Releases: 1}})
		assert.True(t, s.has(ids[5]), "live again")
		assert.True(t, s.has(ids[7]), "its assets are still answered for a day")
		assert.False(t, s.has(ids[6]))
		time.Sleep(25 * time.Hour)
		prune(t, s.store, maintenance.Policy{Retention: &journal.Retention{Releases: 1}})
		assert.False(t, s.has(ids[7]))
		whole(t, s.store)
	})
}

// TestPruneLeavesWhatPreviewsShareAndWhatWaits lets a preview expire whose
// release production serves, and freezes an environment.
func TestPruneLeavesWhatPreviewsShareAndWhatWaits(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &site{t: t, store: &memory.Store{}, name: "corvane"}
		one := &journal.Retention{Releases: 1, Seconds: 1}
		shared := s.publish("preview.winter", day(1), one)
		own := s.publish("preview.own", day(2), one)
		require.Equal(t, shared, s.publish("production", day(1), one))
		waits := s.publish("", day(3), nil)
		ends := time.Now().Add(time.Hour)
		for _, name := range []string{"preview.winter", "preview.own"} {
			_, err := s.journal(name).
				Append(t.Context(), journal.Entry{}, journal.SetExpiry(&ends, "command", "x", "", time.Now()))
			require.NoError(t, err)
		}
		_, err := s.journal("production").
			Append(t.Context(), journal.Entry{},
				journal.SetFrozen(&journal.Frozen{Who: "x", When: time.Now()}, "command", "x", "",
					time.Now()))
		require.NoError(t, err)
		require.NoError(t, s.store.Replace(t.Context(), storage.WaitingKey("corvane", "production")+"/"+
			waits.String(), []byte("{}")))
		require.NoError(t, s.store.Create(t.Context(), storage.OutcomeKey("corvane", "production", 1),
			[]byte("{}")))
		time.Sleep(60 * 24 * time.Hour)
		prune(t, s.store, maintenance.Policy{})
		assert.True(t, s.has(shared), "a preview takes nothing away that another environment serves")
		assert.True(t, s.has(own), "the last release of a preview can be brought back")
		assert.True(t, s.has(waits), "what waits for a thaw stays, however long the freeze")
		for _, name := range []string{"preview.winter", "preview.own"} {
			_, err := s.journal(name).
				Append(t.Context(), journal.Entry{}, journal.Remove(journal.Ended{Reason: journal.Expired},
					"follow", "x", ""))
			require.NoError(t, err)
			_, err = s.journal(name).
				Append(t.Context(), journal.Entry{}, journal.Remove(journal.Ended{}, "follow", "x", ""))
			require.ErrorIs(t, err, journal.ErrGone)
		}
		_, err = s.journal("production").
			Append(t.Context(), journal.Entry{}, journal.SetFrozen(nil, "command", "x", "", time.Now()))
		require.NoError(t, err)
		to := &memory.Store{}
		_, err = maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
			maintenance.CopyOptions{Settle: settled, Tell: quiet})
		require.NoError(t, err)
		for _, key := range []string{storage.OutcomeKey("corvane", "production", 1),
			storage.WaitingKey("corvane", "production") + "/" + waits.String()} {
			_, err := to.Stat(t.Context(), key)
			require.NoError(t, err, "a copy brings what is kept beside the journal: %s", key)
		}
		time.Sleep(60 * 24 * time.Hour)
		prune(t, s.store, maintenance.Policy{})
		assert.True(t, s.has(shared))
		assert.False(t, s.has(waits), "it waits no more")
		whole(t, s.store)
	})
}

func TestPruneLeavesUnfinishedUploadsAndUnreadableRecords(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &site{t: t, store: &memory.Store{}, name: "corvane"}
		s.publish("production", day(1), nil)
		stray := digest.Of([]byte("stray")).Key()
		require.NoError(t, s.store.Create(t.Context(), stray, []byte("stray")))
		require.NoError(t, s.store.Create(t.Context(), "sites/corvane/builds/later/1",
			[]byte(`{"format":2}`)))
		policy := maintenance.Policy{Grace: 24 * time.Hour}
		assert.Zero(t, prune(t, s.store, policy).Objects)
		time.Sleep(60 * 24 * time.Hour)
		done := prune(t, s.store, policy)
		assert.Equal(t, 1, done.Objects)
		assert.EqualValues(t, 5, done.Bytes)
		_, err := s.store.Stat(t.Context(), "sites/corvane/builds/later/1")
		require.NoError(t, err)
	})
}

func TestPruneRefusesToGuess(t *testing.T) {
	t.Parallel()
	s := &site{t: t, store: &memory.Store{}, name: "corvane"}
	id := s.publish("production", day(1), nil)
	root, err := s.store.Get(t.Context(), storage.ReleaseKey("corvane", id.String()))
	require.NoError(t, err)
	decoded, err := release.DecodeRoot(root, id)
	require.NoError(t, err)
	require.NoError(t, s.store.Replace(t.Context(), decoded.Chunks[0].Digest.Key(), []byte("other")))
	_, err = maintenance.Plan(t.Context(), s.store, "x", maintenance.Policy{}, quiet)
	require.ErrorIs(t, err, release.ErrDamaged)
	require.NoError(t, s.store.Delete(t.Context(), decoded.Chunks[0].Digest.Key()))
	_, err = maintenance.Plan(t.Context(), s.store, "x", maintenance.Policy{}, quiet)
	require.ErrorIs(t, err, storage.ErrNotFound)
}

func TestPruneSparesWhatIsNeededAgain(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &site{t: t, store: &memory.Store{}, name: "corvane"}
		old := s.publish("production", day(1), nil)
		for n := range 3 {
			time.Sleep(48 * time.Hour)
			s.publish("production", day(2+n), nil)
		}
		plan, err := maintenance.Plan(t.Context(), s.store, "x",
			maintenance.Policy{Retention: &journal.Retention{Releases: 1}}, quiet)
		require.NoError(t, err)
		assert.Len(t, plan.Result().Releases, 2, "the one before is carried for its assets")
		hold, err := pins.Take(t.Context(), s.store, "w", pins.Pin{Site: "corvane", What: "rollback"})
		require.NoError(t, err)
		waited := false
		done, err := plan.CarryOut(t.Context(), func([]pins.Waiting) {
			waited = true
			j := s.journal("production")
			_, err := j.Append(t.Context(), journal.Entry{},
				j.Return(t.Context(), journal.Back{To: func(e journal.Entry) bool { return e.Release == old }}))
			require.NoError(t, err)
			go hold.Drop(t.Context())
		}, quiet)
		require.NoError(t, err)
		assert.True(t, waited)
		assert.Len(t, done.Releases, 1)
		assert.Positive(t, done.Spared)
		assert.True(t, s.has(old))
		whole(t, s.store)
	})
}

func TestOnePruneAtATime(t *testing.T) {
	t.Parallel()
	s := &site{t: t, store: &memory.Store{}, name: "corvane"}
	s.publish("production", day(1), nil)
	stray := digest.Of([]byte("stray")).Key()
	require.NoError(t, s.store.Create(t.Context(), stray, []byte("stray")))
	plan, err := maintenance.Plan(t.Context(), s.store, "x", maintenance.Policy{}, quiet)
	require.NoError(t, err)
	other, err := pins.Condemn(t.Context(), s.store, "p", pins.Record{Who: "Tobias Quill"})
	require.NoError(t, err)
	_, err = plan.CarryOut(t.Context(), nobody, quiet)
	require.ErrorIs(t, err, maintenance.ErrBusy)
	require.ErrorContains(t, err, "Tobias Quill")
	require.NoError(t, other.End(t.Context()))
	_, err = plan.CarryOut(t.Context(), nobody, quiet)
	require.NoError(t, err)
}

func TestVerifyNamesDamageAndRepairBringsItBack(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := &site{t: t, store: &memory.Store{}, name: "corvane"}
	s.publish("production", day(1), nil)
	old := s.publish("production", day(2), nil)
	live := s.publish("production", day(3), nil)
	other := &memory.Store{}
	_, err := maintenance.Copy(ctx, s.store, other, []string{"corvane"},
		maintenance.CopyOptions{Settle: settled, Tell: quiet})
	require.NoError(t, err)
	whole(t, s.store)
	assert.Equal(t, whole(t, s.store), whole(t, other))

	data, err := s.store.Get(ctx, storage.ReleaseKey("corvane", old.String()))
	require.NoError(t, err)
	root, err := release.DecodeRoot(data, old)
	require.NoError(t, err)
	damage := map[string][]byte{ // nil: missing
		digest.Of([]byte("day 3")).Key(): nil,
		digest.Of([]byte("home")).Key():  []byte("hom3"),
		root.Chunks[0].Digest.Key():      []byte("not a list"),
		storage.ReleaseKey("corvane",
			live.String()): []byte(`{"format":1}`),
		storage.JournalKey("corvane", "production", 1): []byte(`{"half":`),
		storage.JournalKey("corvane", "production", 2): nil,
		digest.Of([]byte("log 1 of corvane")).Key():    nil,
		storage.ClaimKey("corvane"):                    nil,
		root.Rules.Digest.Key(): []byte(
			"redirect / -> https://elsewhere.test/"),
		storage.BuildKey("corvane", digest.Of([]byte("log 1 of corvane")).String(), 1): []byte("{"),
	}
	for key, bytes := range damage {
		require.NoError(t, s.store.Delete(ctx, key))
		if bytes != nil {
			require.NoError(t, s.store.Create(ctx, key, bytes))
		}
	}
	found, err := maintenance.Verify(ctx, s.store, nil, quiet)
	require.NoError(t, err)
	affects := map[string]string{}
	for _, d := range found.Damage {
		affects[d.Key] = strings.Join(d.Affects, "; ")
	}
	for key := range damage {
		if key == digest.Of([]byte("day 3")).Key() || key == digest.Of([]byte("log 1 of corvane")).Key() {
			continue // only what is damaged above it leads there
		}
		assert.Contains(t, affects, key)
	}
	assert.Contains(t, affects[digest.Of([]byte("home")).Key()], "/index.html of corvane")
	assert.Contains(t, affects[storage.ReleaseKey("corvane", live.String())], "live in production")

	for range 2 { // what is repaired leads to more
		require.NoError(t, maintenance.Repair(ctx, s.store, other, &found, quiet))
		for _, d := range found.Damage {
			assert.True(t, d.Repaired, "%s: %s", d.Key, d.Remains)
		}
		found, err = maintenance.Verify(ctx, s.store, nil, quiet)
		require.NoError(t, err)
	}
	assert.Empty(t, found.Damage)
	assert.Equal(t, whole(t, other), found)
}

func TestRepairTakesNothingThatDoesNotProveItself(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := &site{t: t, store: &memory.Store{}, name: "corvane"}
	s.publish("production", day(1), nil)
	s.publish("production", day(2), nil)
	page, entry := digest.Of([]byte("day 2")).Key(), storage.JournalKey("corvane", "production", 1)
	require.NoError(t, s.store.Replace(ctx, page, []byte("day 9")))
	require.NoError(t, s.store.Delete(ctx, entry))
	forged := &site{t: t, store: &memory.Store{}, name: "corvane"}
	forged.publish("production", day(7), nil)
	require.NoError(t, forged.store.Create(ctx, page, []byte("day 8")))
	found, err := maintenance.Verify(ctx, s.store, nil, quiet)
	require.NoError(t, err)
	require.Len(t, found.Damage, 2)
	require.NoError(t, maintenance.Repair(ctx, s.store, forged.store, &found, quiet))
	for _, d := range found.Damage {
		assert.False(t, d.Repaired, d.Key)
		assert.NotEmpty(t, d.Remains)
	}
	require.NoError(t, maintenance.Repair(ctx, s.store, &memory.Store{}, &found, quiet))
	assert.Contains(t, found.Damage[0].Remains, "does not have it")
}

// tired fails every so many writes.
type tired struct {
	memory.Store
	left atomic.Int64
}

func (s *tired) Begin(ctx context.Context) (storage.Batch, error) {
	if s.left.Add(-1) < 0 {
		return nil, storage.ErrUnreachable
	}
	return s.Store.Begin(ctx)
}

func (s *tired) Create(ctx context.Context, key string, data []byte) error {
	if s.left.Add(-1) < 0 {
		return storage.ErrUnreachable
	}
	return s.Store.Create(ctx, key, data)
}

func TestCopyGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	s := &site{t: t, store: &memory.Store{}, name: "corvane"}
	for n := range 5 {
		s.publish("production", day(n), &journal.Retention{Releases: 2, Seconds: 60})
	}
	s.publish("staging", day(9), nil)
	(&site{t: t, store: s.store, name: "velley"}).publish("production", day(1), nil)
	to := &tired{}
	for tries := 1; ; tries++ {
		to.left.Store(int64(tries))
		copied, err := maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
			maintenance.CopyOptions{Settle: settled, Tell: quiet})
		// whatever was reached, it is whole
		for _, id := range listed(t, to, storage.ReleasesKey("corvane")) {
			wholeRelease(t, to, id)
		}
		if err == nil {
			assert.Equal(t, 1, copied.Sites)
			require.Greater(t, tries, 3)
			break
		}
		require.ErrorIs(t, err, storage.ErrUnreachable)
		require.Less(t, tries, 200)
	}
	to.left.Store(1 << 20)
	found := whole(t, to)
	assert.Equal(t, 6, found.Entries)
	assert.Empty(t, listed(t, to, storage.SiteKey("velley")))
	copied, err := maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
		maintenance.CopyOptions{Settle: settled, Tell: quiet})
	require.NoError(t, err)
	assert.Zero(t, copied.Objects)
	assert.Zero(t, copied.Releases)
	assert.Zero(t, copied.Entries)

	s.publish("production", day(20), nil)
	copied, err = maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
		maintenance.CopyOptions{Settle: settled, Tell: quiet})
	require.NoError(t, err)
	assert.Equal(t, 1, copied.Entries)
	(&site{t: t, store: to, name: "corvane", n: 1000}).publish("production", day(30), nil)
	s.publish("production", day(31), nil)
	_, err = maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
		maintenance.CopyOptions{Settle: settled, Tell: quiet})
	require.ErrorIs(t, err, maintenance.ErrDiverged)
}

// TestACopyAndAPruneOfItsTarget lets a removal take away
// what the copy found to be there.
func TestACopyAndAPruneOfItsTarget(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s, to := &site{t: t, store: &memory.Store{}, name: "corvane"}, &memory.Store{}
		s.publish("staging", day(2), nil)
		_, err := maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
			maintenance.CopyOptions{Tell: quiet, Settle: settled})
		require.NoError(t, err)
		there := listed(t, to, storage.ReleasesKey("corvane"))
		require.Len(t, there, 1)
		s.publish("production", day(1), nil)
		home := digest.Of([]byte("home")).Key()
		require.NoError(t, to.Replace(t.Context(), home, []byte("home")))
		doomed := []string{home, storage.ReleasesKey("corvane") + "/" + there[0]}
		removal, err := pins.Condemn(t.Context(), to, "p", pins.Record{Who: "x", Keys: doomed})
		require.NoError(t, err)
		require.NoError(t, removal.Wait(t.Context(), nobody))
		hold, err := pins.Take(t.Context(), to, "c", pins.Pin{Site: "corvane", What: "copy"})
		require.NoError(t, err)
		defer hold.Drop(t.Context())
		go func() {
			time.Sleep(time.Minute)
			assert.NoError(t, removal.Delete(t.Context(), doomed, func(int) {}))
			assert.NoError(t, removal.End(t.Context()))
		}()
		_, err = maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
			maintenance.CopyOptions{Parallel: 1, Tell: quiet, Settle: func(put func(string) bool) (bool, error) {
				return hold.Settle(t.Context(), put, func(string) {})
			}})
		require.NoError(t, err)
		whole(t, to)
		assert.Len(t, listed(t, to, storage.ReleasesKey("corvane")), 2,
			"also what was there, and was on its way out")
	})
}

func listed(t *testing.T, store storage.Store, folder string) (names []string) {
	t.Helper()
	for item, err := range store.List(t.Context(), folder) {
		require.NoError(t, err)
		names = append(names, item.Name())
	}
	return names
}

func wholeRelease(t *testing.T, store storage.Store, name string) {
	t.Helper()
	id, err := release.ParseID(name)
	require.NoError(t, err)
	data, err := store.Get(t.Context(), storage.ReleaseKey("corvane", name))
	require.NoError(t, err)
	root, err := release.DecodeRoot(data, id)
	require.NoError(t, err)
	reader := release.NewReader(id, root, func(ctx context.Context, d digest.Digest) ([]byte,
		error) {
		return store.Get(ctx, d.Key())
	})
	for file, err := range reader.Files(t.Context()) {
		require.NoError(t, err)
		_, err := store.Stat(t.Context(), file.Digest.Key())
		require.NoError(t, err)
	}
}

func TestRemoveSite(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &site{t: t, store: &memory.Store{}, name: "corvane"}
		s.publish("production", day(1), nil)
		s.publish("staging", day(2), nil)
		(&site{t: t, store: s.store, name: "velley"}).publish("production", day(1), nil)
		removed, err := maintenance.RemoveSite(t.Context(), s.store, "corvane", "Ines Marrow", true, nobody, quiet)
		require.NoError(t, err)
		assert.Greater(t, removed, 5)
		assert.Equal(t, []string{"claim"}, listed(t, s.store, storage.SiteKey("corvane")))
		_, err = maintenance.RemoveSite(t.Context(), s.store, "corvane", "Ines Marrow", false, nobody, quiet)
		require.NoError(t, err)
		assert.Equal(t, []string{"velley"}, listed(t, s.store, storage.SitesKey))
		time.Sleep(60 * 24 * time.Hour)
		done := prune(t, s.store, maintenance.Policy{})
		assert.Positive(t, done.Objects)
		whole(t, s.store)
		s.publish("production", day(3), nil) // the name is free
		whole(t, s.store)
	})
}

// careless is a store that writes over what was created.
type careless struct{ memory.Store }

func (s *careless) Create(ctx context.Context, key string, data []byte) error {
	return s.Replace(ctx, key, data)
}

func TestRightsAndTheRace(t *testing.T) {
	t.Parallel()
	good := &memory.Store{}
	require.NoError(t, good.Create(t.Context(), storage.MarkKey, storage.NewMark("x")))
	rights, err := maintenance.Rights(t.Context(), good)
	require.NoError(t, err)
	require.Len(t, rights, 6)
	for _, right := range rights {
		assert.True(t, right.Has, right.Name)
	}
	require.NoError(t, maintenance.Race(t.Context(), good, quiet))
	assert.Empty(t, listed(t, good, "probe"))

	bad := &careless{}
	require.NoError(t, bad.Create(t.Context(), storage.MarkKey, storage.NewMark("x")))
	require.ErrorIs(t, maintenance.Race(t.Context(), bad, quiet), storage.ErrUnable)
	rights, err = maintenance.Rights(t.Context(), bad)
	require.NoError(t, err)
	assert.Equal(t, "create only once", rights[3].Name)
	assert.False(t, rights[3].Has)
}

// TestHostsAreCopiedWithTheirSitesAndVerified as journals are.
func TestHostsAreCopiedWithTheirSitesAndVerified(t *testing.T) {
	t.Parallel()
	s, to := &site{t: t, store: &memory.Store{}, name: "corvane"}, &memory.Store{}
	s.publish("production", day(1), nil)
	own := func(store storage.Store, host, owner string) {
		_, err := hosts.Append(t.Context(), store, host, owner+host,
			func(hosts.Entry) (hosts.Entry, error) { return hosts.Entry{Site: owner, Who: "x"}, nil })
		require.NoError(t, err)
	}
	own(s.store, "www.corvane.example", "velley")
	own(s.store, "www.corvane.example", "corvane")
	own(s.store, "velley.example", "velley")
	own(s.store, "shared.example", "corvane")
	own(to, "shared.example", "harbour")
	for range 2 { // again changes nothing
		_, err := maintenance.Copy(t.Context(), s.store, to, []string{"corvane"},
			maintenance.CopyOptions{Settle: settled, Tell: quiet})
		require.NoError(t, err)
	}
	for host, want := range map[string]string{"www.corvane.example": "corvane", "velley.example": "",
		"shared.example": "harbour"} {
		t.Run(host, func(t *testing.T) {
			owner, err := hosts.Owner(t.Context(), to, host)
			require.NoError(t, err)
			assert.Equal(t, want, owner.Site, host)
		})
	}
	assert.Empty(t, whole(t, to).Damage)
	head, err := hosts.Head(t.Context(), to, "www.corvane.example")
	require.NoError(t, err)
	require.EqualValues(t, 2, head.Number)
	var folder string
	for item, err := range to.List(t.Context(), storage.HostsKey) {
		require.NoError(t, err)
		for entry, err := range to.List(t.Context(), item.Key) {
			require.NoError(t, err)
			if strings.HasSuffix(entry.Key, "2") {
				folder = item.Key
			}
		}
	}
	require.NoError(t, to.Replace(t.Context(), folder+"/0000000001",
		[]byte(`{"attempt":"a","format":1,"host":"www.corvane.example","number":1,"site":"velley","when":"2026-11-01T12:00:00Z","who":"x"}`)))
	verified, err := maintenance.Verify(t.Context(), to, nil, quiet)
	require.NoError(t, err)
	require.Len(t, verified.Damage, 1)
	assert.Equal(t, folder+"/0000000002", verified.Damage[0].Key, "it does not follow on what is there now")
}

// TestVariantsGoWithTheirSources, and verify says which lie; a repair removes those.
func TestVariantsGoWithTheirSources(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &site{t: t, store: &memory.Store{}, name: "corvane"}
		one := &journal.Retention{Releases: 1, Seconds: 1}
		text := func(name string) string { return strings.Repeat(name+" sails to Velley. ", 100) }
		variant := func(of string, c coding.Coding, data []byte) string {
			key := coding.Key(digest.Of([]byte(of)), c)
			require.NoError(t, s.store.Create(t.Context(), key, data))
			return key
		}
		encoded := func(of string, c coding.Coding) []byte {
			data, err := coding.Encode(c, coding.Best, []byte(of))
			require.NoError(t, err)
			return data
		}
		s.publish("production", map[string]string{"index.html": text("Dunlin")}, one)
		gone := variant(text("Dunlin"), coding.Brotli, encoded(text("Dunlin"), coding.Brotli))
		time.Sleep(48 * time.Hour)
		s.publish("production", map[string]string{"index.html": text("Sula")}, one)
		kept := variant(text("Sula"), coding.Brotli, encoded(text("Sula"), coding.Brotli))
		lying := variant(text("Sula"), coding.Gzip, encoded(text("Dunlin"), coding.Gzip))
		orphan := variant(text("nobody"), coding.Zstd, []byte("x"))
		require.NoError(t, s.store.Create(t.Context(), "variants/aa/harbour", []byte("x")))
		time.Sleep(48 * time.Hour)

		found, err := maintenance.Verify(t.Context(), s.store, nil, quiet)
		require.NoError(t, err)
		require.Len(t, found.Damage, 1)
		assert.Equal(t, lying, found.Damage[0].Key)
		assert.Contains(t, found.Damage[0].What, "it becomes more than")
		require.NoError(t, maintenance.Repair(t.Context(), s.store, &memory.Store{}, &found, quiet))
		assert.True(t, found.Damage[0].Repaired)
		assert.EqualValues(t, 2, whole(t, s.store).Variants, "that of a release that can be gone back to too")

		done := prune(t, s.store, maintenance.Policy{Grace: 24 * time.Hour})
		assert.Equal(t, 3, done.Variants)
		for key, there := range map[string]bool{gone: false, kept: true, orphan: false, "variants/aa/harbour": false} {
			_, err := s.store.Stat(t.Context(), key)
			assert.Equal(t, there, err == nil, key)
		}
		assert.EqualValues(t, 1, whole(t, s.store).Variants)
	})
}
