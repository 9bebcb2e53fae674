package builds_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

var began = time.Date(2026, 11, 23, 8, 10, 0, 123_456_789, time.FixedZone("", 3600))

// TestTheRecordsOfRunsAreFrozen compares their bytes with
// those that stores hold.
func TestTheRecordsOfRunsAreFrozen(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	runs := builds.Runs{Store: store, Site: "corvane"}
	begun, err := runs.Begin(t.Context(), builds.Begun{Key: "k1", Source: journal.FromCommit,
		Commit: "4be21c7", Branch: "main", Subject: "Fares", Author: "Ines", Environment: "production",
		Cause: "follow", Who: "Tobias", Where: "harbour", When: began}, 0)
	require.NoError(t, err)
	assert.Equal(t, "build:1", begun.Label())
	data, err := store.Get(t.Context(), "sites/corvane/runs/0000000001/begun")
	require.NoError(t, err)
	assert.Equal(t, `{"author":"Ines","branch":"main","cause":"follow","commit":"4be21c7","environment":"production","format":1,"key":"k1","number":1,"source":"commit","subject":"Fares","when":"2026-11-23T07:10:00.123Z","where":"harbour","who":"Tobias"}`, string(data))
	ended := builds.Ended{Number: 1, Outcome: builds.Succeeded, Build: "k1/1",
		Release: release.ID(digest.Of([]byte("r"))), Entry: 12, Files: 2, Size: 30, Sent: 10, When: began,
		Phases: []builds.Phase{{Name: "checkout", Milliseconds: 80},
			{Name: "prepare", What: "npm ci", Milliseconds: 2000},
			{Name: "step", What: "make", Milliseconds: 500}}}
	require.NoError(t, runs.End(t.Context(), ended))
	data, err = store.Get(t.Context(), "sites/corvane/runs/0000000001/ended")
	require.NoError(t, err)
	assert.Equal(t, `{"build":"k1/1","entry":12,"files":2,"format":1,"number":1,"outcome":"succeeded","phases":[{"milliseconds":80,"name":"checkout"},{"milliseconds":2000,"name":"prepare","what":"npm ci"},`+
		`{"milliseconds":500,"name":"step","what":"make"}],"release":"`+digest.Of([]byte("r")).
		String()+`","sent":10,"size":30,"when":"2026-11-23T07:10:00.123Z"}`, string(data))
	require.ErrorIs(t, runs.End(t.Context(), builds.Ended{Number: 1, Outcome: builds.Abandoned, When: began}),
		storage.ErrExists, "who first says how it ended has said it")
	run, err := runs.Get(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, builds.Succeeded, run.Ended.Outcome)
	assert.Equal(t, 2500*time.Millisecond, run.Ended.BuildTime(), "only steps count")
	assert.Equal(t, 80*time.Millisecond, run.Ended.Took("checkout", "upload"))
	for _, damaged := range []string{"", "{}", `{"format":1,"number":2}`, `{"format":9,"number":1}`,
		string(data) + " ", `{"x":1,"format":1,"number":1}`} {
		_, err := builds.DecodeEnded([]byte(damaged), 1)
		require.ErrorIs(t, err, builds.ErrUnreadable, damaged)
	}
}

// TestNumbersAreTakenOnceWhoeverBegins begins runs from many goroutines, with
// hints that are right, old and none.
func TestNumbersAreTakenOnceWhoeverBegins(t *testing.T) {
	t.Parallel()
	runs := builds.Runs{Store: &memory.Store{}, Site: "corvane"}
	var mutex sync.Mutex
	taken := map[int64]bool{}
	var wait sync.WaitGroup
	for i := range 8 {
		wait.Go(func() {
			hint := int64(0)
			for range 10 {
				begun, err := runs.Begin(t.Context(), builds.Begun{Key: "k", When: began}, hint)
				if !assert.NoError(t, err) { //nolint:testifylint // in a goroutine
					return
				}
				if i%2 == 0 {
					hint = begun.Number
				}
				mutex.Lock()
				assert.False(t, taken[begun.Number])
				taken[begun.Number] = true
				mutex.Unlock()
			}
		})
	}
	wait.Wait()
	last, err := runs.Last(t.Context(), 3)
	require.NoError(t, err)
	assert.EqualValues(t, 80, last, "without gaps")
	found, err := runs.Back(t.Context(), last, 0, func(run builds.Run) bool { return run.Number > 30 })
	require.NoError(t, err)
	require.Len(t, found, 50)
	assert.Equal(t, []int64{80, 31}, []int64{found[0].Number, found[49].Number}, "the newest first")
	found, err = runs.Back(t.Context(), 75, 5, func(builds.Run) bool { return true })
	require.NoError(t, err)
	assert.Len(t, found, 5)
}

func TestWhatABuildWasToldBindsItsRelease(t *testing.T) {
	t.Parallel()
	told := builds.Record{Told: map[string]string{"branch": "main", "environment": "staging",
		"commit": "4be21c7"}}
	what, was := told.Bound("production", "main", "")
	assert.Equal(t, []string{"environment", "staging"}, []string{what, was})
	what, was = told.Bound("staging", "next", "")
	assert.Equal(t, []string{"branch", "main"}, []string{what, was})
	what, _ = told.Bound("staging", "main", "https://x.example/")
	assert.Empty(t, what, "it was not told an address, and the commit goes with it")
	what, _ = builds.Record{}.Bound("production", "main", "https://x.example/")
	assert.Empty(t, what)
}

// FuzzRuns reads any bytes as the halves of a run: what is
// read writes the same bytes again.
func FuzzRuns(f *testing.F) {
	f.Add([]byte(`{"format":1,"number":1,"outcome":"failed","when":"2026-11-23T07:10:00Z"}`))
	f.Add([]byte(`{"cause":"command","format":1,"key":"k","number":1,"source":"commit","when":"2026-11-23T07:10:00Z","where":"","who":""}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		if ended, err := builds.DecodeEnded(data, 1); err == nil {
			again, err := canon.Marshal(ended)
			require.NoError(t, err)
			require.Equal(t, string(data), string(again))
		}
		if begun, err := builds.DecodeBegun(data, 1); err == nil {
			again, err := canon.Marshal(begun)
			require.NoError(t, err)
			require.Equal(t, string(data), string(again))
		}
	})
}
