package follow_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/site/sitetest"
	"orilla.example/orilla/internal/store/memory"
)

type broken struct {
	*memory.Store
	failing atomic.Int32 // how many times more
}

func (b *broken) Create(ctx context.Context, key string, data []byte) error {
	if b.failing.Add(-1) >= 0 {
		return fmt.Errorf("%s: %w", key, storage.ErrUnreachable)
	}
	return b.Store.Create(ctx, key, data)
}

func TestAFollowerTriesAgainWhatWasNoFaultOfTheCommit(t *testing.T) {
	t.Parallel()
	folder := sitetest.Pages(t)
	commit := sitetest.CommitPage(t, folder, "one")
	store := &broken{Store: &memory.Store{}}
	store.failing.Store(2)
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	var kinds []follow.Kind
	f := &follow.Follower{Project: sitetest.Load(t, folder), Store: store, Every: 50 * time.Millisecond,
		Job: func(plan *site.Plan) deploy.Job {
			return deploy.Job{Plan: plan, Report: deploy.Silent{}, NoIndex: true, Now: time.Now}
		},
		Tell: func(event follow.Event) {
			if kinds = append(kinds, event.Kind); event.Kind == follow.Live {
				cancel()
			}
		},
	}
	err := f.Run(ctx)
	require.ErrorIs(t, err, context.Canceled)
	assert.Contains(t, kinds, follow.Trouble)
	head, err := (&journal.Journal{Store: store, Site: "corvane", Environment: "production"}).
		Head(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, commit, head.Commit)
	assert.EqualValues(t, 1, head.Number)
	found := false
	for item, err := range store.List(t.Context(), storage.FollowersKey("corvane")) {
		require.NoError(t, err)
		found = true
		t.Logf("left: %s", item.Key)
	}
	assert.False(t, found, "nobody follows any more")
}

// TestFollowingOnceOutlastsATrouble tries again what a store did not answer, and
// says what it was, also if it then gives up: it never ends as if there was
// nothing new.
func TestFollowingOnceOutlastsATrouble(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		failing int32
		live    bool
	}{"that passes": {2, true}, "that stays": {1000, false}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := sitetest.Pages(t)
			commit := sitetest.CommitPage(t, folder, "one")
			store := &broken{Store: &memory.Store{}}
			store.failing.Store(test.failing)
			var events []follow.Event
			f := &follow.Follower{Project: sitetest.Load(t, folder), Store: store, Once: true, Every: time.Second,
				Job: func(plan *site.Plan) deploy.Job {
					return deploy.Job{Plan: plan, Report: deploy.Silent{}, NoIndex: true, Now: time.Now}
				},
				Tell: func(event follow.Event) { events = append(events, event) },
			}
			err := f.Run(t.Context())
			require.NotEmpty(t, events)
			assert.Equal(t, follow.Trouble, events[0].Kind)
			require.ErrorIs(t, events[0].Error, storage.ErrUnreachable)

			last := events[len(events)-1]
			if !test.live {
				require.Error(t, err)
				assert.Equal(t, follow.Failed, last.Kind)
				assert.Contains(t, last.Why, "gave up after 4 tries")
				assert.Equal(t, 1, f.Counts.Failed)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, []any{follow.Live, commit}, []any{last.Kind, last.Commit})
			assert.Zero(t, f.Counts.Failed)
		})
	}
}

// TestABranchThatIsNotThereIsTold names it, once, and what there is.
func TestABranchThatIsNotThereIsTold(t *testing.T) {
	t.Parallel()
	folder := sitetest.Pages(t)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "orilla.yaml"), []byte("site: corvane\n"+
		"build: {output: .}\n"+
		"environments: "+
		"{production: "+
		"{follows: trunk}}\n"), 0o644))
	sitetest.CommitPage(t, folder, "one")
	var told []string
	f := &follow.Follower{Project: sitetest.Load(t, folder), Store: &memory.Store{}, Once: true, Every: time.Second,
		Job: func(plan *site.Plan) deploy.Job {
			return deploy.Job{Plan: plan, Report: deploy.Silent{}, NoIndex: true, Now: time.Now}
		},
		Tell: func(event follow.Event) {
			if event.Ref == "" {
				told = append(told, event.Error.Error())
			}
		},
	}
	require.NoError(t, f.Run(t.Context()))
	require.Len(t, told, 1)
	assert.Contains(t, told[0], "trunk should go to production, but there is no such branch")
}
