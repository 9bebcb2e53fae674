package builds_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

var inputs = builds.Inputs{
	Source: journal.FromCommit, Tree: "t1", Folder: ".", Run: []string{"make"}, Output: "out",
	LeaveOut:  []string{"b", "a"},
	Variables: map[string]string{"A": "1"}, Secrets: []string{"Y", "X"},
}

func TestTheKeyIsWhatABuildCanSee(t *testing.T) {
	t.Parallel()
	key, err := inputs.Key()
	require.NoError(t, err)
	assert.Equal(t, "342cafb459d2d4918a46931dec9a5f65", key[:32],
		"a key is frozen: what is built once is found again")
	seen := map[string]bool{key: true}
	for name, change := range map[string]func(*builds.Inputs){
		"tree":           func(i *builds.Inputs) { i.Tree = "t2" },
		"folder":         func(i *builds.Inputs) { i.Folder = "web" },
		"run":            func(i *builds.Inputs) { i.Run = []string{"make all"} },
		"prepare":        func(i *builds.Inputs) { i.Prepare = []string{"npm ci"} },
		"output":         func(i *builds.Inputs) { i.Output = "dist" },
		"variables":      func(i *builds.Inputs) { i.Variables = map[string]string{"A": "2"} },
		"secrets":        func(i *builds.Inputs) { i.Secrets = []string{"X"} },
		"also":           func(i *builds.Inputs) { i.Also = map[string]string{"shared": "t3"} },
		"told":           func(i *builds.Inputs) { i.Told = map[string]string{"branch": "main"} },
		"told otherwise": func(i *builds.Inputs) { i.Told = map[string]string{"branch": "next"} },
		"needs":          func(i *builds.Inputs) { i.Needs = map[string]string{"node": "20"} },
		"leave_out":      func(i *builds.Inputs) { i.LeaveOut = nil },
		"source":         func(i *builds.Inputs) { i.Source = journal.FromOutput },
	} {
		t.Run(name, func(t *testing.T) {
			changed := inputs
			change(&changed)
			other, err := changed.Key()
			require.NoError(t, err)
			assert.False(t, seen[other], name)
			seen[other] = true
		})
	}
	reordered := inputs
	reordered.LeaveOut, reordered.Secrets = []string{"a", "b"}, []string{"X", "Y"}
	same, err := reordered.Key()
	require.NoError(t, err)
	assert.Equal(t, key, same, "the order of names does not count")
}

func TestLastFindsTheNewestThatIsWanted(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	put := func(n int, outcome builds.Outcome) {
		record := builds.Record{Key: "k", Number: n, Outcome: outcome,
			Release: release.ID(digest.Of([]byte{byte(n)})), Started: time.Now(), Finished: time.Now()}
		data, err := record.Encode()
		require.NoError(t, err)
		require.NoError(t, store.Create(t.Context(), storage.BuildKey("corvane", "k", n), data))
	}
	good := func(r builds.Record) bool { return r.Outcome == builds.Succeeded }
	_, newest, found, err := builds.Last(t.Context(), store, "corvane", "k", good)
	require.NoError(t, err)
	assert.False(t, found)
	assert.Zero(t, newest)
	for n, outcome := range map[int]builds.Outcome{1: builds.Succeeded, 2: builds.Succeeded, 9: builds.Failed,
		10: builds.Failed} {
		put(n, outcome)
	}
	require.NoError(t, store.Create(t.Context(), storage.BuildKey("corvane", "k", 11), []byte("torn")))
	require.NoError(t, store.Create(t.Context(), storage.BuildsKey("corvane", "k")+"/other", []byte("{}")))
	record, newest, found, err := builds.Last(t.Context(), store, "corvane", "k", good)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, 2, record.Number)
	assert.Equal(t, "k/2", record.Name())
	assert.Equal(t, 11, newest, "a damaged record takes its number all the same")
}
