package schedule_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/schedule"
)

func TestTheNewestOfEachBranchIsBuiltAndProductionFirst(t *testing.T) {
	t.Parallel()
	q := schedule.Queue{Parallel: 2}
	q.Push(schedule.Job{Ref: "winter", Commit: "w1", Rank: 2})
	q.Push(schedule.Job{Ref: "staging", Commit: "s1", Rank: 1})
	superseded, running := q.Push(schedule.Job{Ref: "winter", Commit: "w2", Rank: 2})
	require.NotNil(t, superseded)
	assert.Equal(t, "w1", superseded.Commit)
	assert.Nil(t, running)
	q.Push(schedule.Job{Ref: "main", Commit: "m1"})
	first, _ := q.Next()
	second, _ := q.Next()
	assert.Equal(t, []string{"m1", "s1"}, []string{first.Commit, second.Commit})
	_, more := q.Next()
	assert.False(t, more, "two at once")
	_, running = q.Push(schedule.Job{Ref: "main", Commit: "m2"})
	require.NotNil(t, running)
	assert.Equal(t, "m1", running.Commit)
	q.Done("staging")
	third, _ := q.Next()
	assert.Equal(t, "w2", third.Commit, "m2 waits until m1 has ended")
	q.Done("winter")
	_, more = q.Next()
	assert.False(t, more)
	superseded, _ = q.Push(schedule.Job{Ref: "main", Commit: "m1"})
	require.NotNil(t, superseded, "back to what is being built: nothing more to do")
	q.Done("main")
	assert.True(t, q.Idle())
}

// TestWhateverComesWhen pushes commits in orders that
// chance makes up: no branch is forgotten, none is built
// twice at once, and each ends on its newest.
func TestWhateverComesWhen(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		chance := rand.New(rand.NewPCG(seed, 1))
		q := schedule.Queue{Parallel: 1 + chance.IntN(4)}
		newest, built, running := map[string]string{}, map[string]string{}, map[string]string{}
		begin := func() {
			for {
				job, ok := q.Next()
				if !ok {
					return
				}
				require.NotContains(t, running, job.Ref)
				running[job.Ref] = job.Commit
				require.LessOrEqual(t, len(running), q.Parallel)
			}
		}
		end := func() {
			for ref, commit := range running {
				built[ref] = commit
				delete(running, ref)
				q.Done(ref)
				return
			}
		}
		for i := range 200 {
			ref := fmt.Sprint("branch-", chance.IntN(20))
			newest[ref] = fmt.Sprint("c", i)
			q.Push(schedule.Job{Ref: ref, Commit: newest[ref], Rank: chance.IntN(3)})
			if chance.IntN(3) == 0 {
				begin()
			}
			if chance.IntN(3) == 0 {
				end()
			}
		}
		for !q.Idle() {
			begin()
			end()
		}
		require.Equal(t, newest, built, "seed %d", seed)
	}
}

func TestWhatAsksNotToBeBuilt(t *testing.T) {
	t.Parallel()
	for message, words := range map[string]string{
		"Fares\n\nSigned-off-by: Ines\nOrilla: skip": "Orilla: skip", "Fares\n\norilla:  SKIP": "orilla:  SKIP",
		"Fares\n\nOrilla: build": "", "Orilla: skip\n\nFares, and more": "", "Fares [skip ci]": "", "Fares": "",
		"": "",
	} {
		t.Run(message, func(t *testing.T) {
			assert.Equal(t, words, schedule.Skips(message), message)
		})
	}
}
