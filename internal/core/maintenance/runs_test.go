package maintenance_test

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

// failed records a build that led to nothing, and returns the key of its log.
func (s *site) failed(text string) string {
	s.t.Helper()
	log := digest.Of([]byte(text))
	require.NoError(s.t, s.store.Create(s.t.Context(), log.Key(), []byte(text)))
	runs := builds.Runs{Store: s.store, Site: s.name}
	begun, err := runs.Begin(s.t.Context(), builds.Begun{Key: "k", Branch: "main", When: time.Now()}, 0)
	require.NoError(s.t, err)
	require.NoError(s.t, runs.End(s.t.Context(), builds.Ended{Number: begun.Number, Outcome: builds.Failed,
		Problem: text, Log: []digest.Digest{log}, When: time.Now()}))
	return log.Key()
}

func there(t *testing.T, store storage.Store, key string) bool {
	t.Helper()
	_, err := store.Stat(t.Context(), key)
	return err == nil
}

// TestLogsOfBuildsAreKeptForAWhile prunes while they are
// young and when they are old; the records stay.
func TestLogsOfBuildsAreKeptForAWhile(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &site{t: t, store: &memory.Store{}, name: "corvane"}
		s.publish("production", day(1), nil)
		old := s.failed("no such layer: piers")
		time.Sleep(20 * 24 * time.Hour)
		young := s.failed("no such layer: buoys")
		prune(t, s.store, maintenance.Policy{Grace: time.Hour})
		assert.True(t, there(t, s.store, old), "within thirty days")
		time.Sleep(20 * 24 * time.Hour)
		prune(t, s.store, maintenance.Policy{Grace: time.Hour})
		assert.False(t, there(t, s.store, old))
		assert.True(t, there(t, s.store, young))
		run, err := builds.Runs{Store: s.store, Site: "corvane"}.Get(t.Context(), 1)
		require.NoError(t, err)
		assert.Equal(t, "no such layer: piers", run.Ended.Problem, "that it failed, and why, is still known")
		whole(t, s.store)
	})
}

// TestRecordsOfBuildsAreCopiedAndVerified copies them,
// with the logs that are there, and damages them.
func TestRecordsOfBuildsAreCopiedAndVerified(t *testing.T) {
	t.Parallel()
	s := &site{t: t, store: &memory.Store{}, name: "corvane"}
	s.publish("production", day(1), nil)
	gone, kept := s.failed("gone"), s.failed("kept")
	require.NoError(t, s.store.Delete(t.Context(), gone))
	running, err := builds.Runs{Store: s.store, Site: "corvane"}.Begin(t.Context(),
		builds.Begun{Key: "k", When: time.Now()}, 0)
	require.NoError(t, err)
	target := &memory.Store{}
	for range 2 { // it goes on where it was
		_, err := maintenance.Copy(t.Context(), s.store, target, []string{"corvane"},
			maintenance.CopyOptions{Tell: quiet, Settle: settled})
		require.NoError(t, err)
	}
	assert.True(t, there(t, target, kept))
	assert.True(t, there(t, target, storage.RunBegunKey("corvane", running.Number)))
	last, err := builds.Runs{Store: target, Site: "corvane"}.Last(t.Context(), 0)
	require.NoError(t, err)
	assert.EqualValues(t, 3, last)
	whole(t, target)
	require.NoError(t, builds.Runs{Store: target, Site: "corvane"}.End(t.Context(),
		builds.Ended{Number: 3, Outcome: builds.Abandoned, When: time.Now()}))
	own, err := builds.Runs{Store: target, Site: "corvane"}.Begin(t.Context(),
		builds.Begun{Key: "own", When: time.Now()}, 0)
	require.NoError(t, err)
	s.failed("of the other store")
	_, err = maintenance.Copy(t.Context(), s.store, target, []string{"corvane"},
		maintenance.CopyOptions{Tell: quiet, Settle: settled})
	require.NoError(t, err)
	run, err := builds.Runs{Store: target, Site: "corvane"}.Get(t.Context(), own.Number)
	require.NoError(t, err)
	assert.Equal(t, "own", run.Key)
	assert.Nil(t, run.Ended, "what the target builds stays its own")

	for _, key := range []string{storage.RunBegunKey("corvane", 1), storage.RunEndedKey("corvane", 2)} {
		data, err := target.Get(t.Context(), key)
		require.NoError(t, err)
		require.NoError(t, target.Replace(t.Context(), key,
			[]byte(strings.Replace(string(data), "format", "formed", 1))))
	}
	found, err := maintenance.Verify(t.Context(), target, nil, quiet)
	require.NoError(t, err)
	require.Len(t, found.Damage, 2)
	assert.Contains(t, found.Damage[0].What, "unreadable build record")
	require.NoError(t, maintenance.Repair(t.Context(), target, s.store, &found, quiet))
	for _, damage := range found.Damage {
		assert.True(t, damage.Repaired, damage.Key)
	}
	whole(t, target)
}
