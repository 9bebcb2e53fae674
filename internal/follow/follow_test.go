package follow_test

import (
	"context"
	"fmt"
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
