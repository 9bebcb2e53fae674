package deploy_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/site/sitetest"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/storetest"
)

// deployMain puts a commit of main live as an automatic run does.
func deployMain(ctx context.Context, p *site.Project, store storage.Store, commit string) error {
	plan, err := site.MakePlan(ctx, p, site.Order{Commit: commit, Branch: "main"})
	if err != nil {
		return err
	}
	_, _, err = deploy.Put(ctx, deploy.Job{
		Plan: plan, Store: store, Report: deploy.Silent{}, Now: time.Now, Automatic: true, NoIndex: true,
		Cause: "follow",
	})
	return err
}

func TestWhateverEndsLastTheNewestIsLive(t *testing.T) {
	t.Parallel()
	folder := sitetest.Pages(t)
	var commits []string
	for i := range 6 {
		commits = append(commits, sitetest.CommitPage(t, folder, fmt.Sprint("page ", i)))
	}
	sitetest.Git(t, folder, "reset", "-q", "--hard", "HEAD~2") // the last two are taken away
	for i := range 3 {
		commits = append(commits, sitetest.CommitPage(t, folder, fmt.Sprint("instead ", i)))
	}
	tip := commits[len(commits)-1]
	for seed := range uint64(soak.Rounds(3, 30)) {
		chance := rand.New(rand.NewPCG(seed, 2))
		store, p := &memory.Store{}, sitetest.Load(t, folder)
		order := chance.Perm(len(commits))
		require.NoError(t, deployMain(t.Context(), p, store, commits[0]), "what is live at first")
		var wait sync.WaitGroup
		turns := make(chan string)
		for range 3 {
			wait.Go(func() {
				for commit := range turns {
					err := deployMain(t.Context(), p, store, commit)
					assert.True(t, err == nil || errors.Is(err, builds.ErrSuperseded), "%v", err)
				}
			})
		}
		for _, i := range order {
			turns <- commits[i]
		}
		close(turns)
		wait.Wait()
		j := &journal.Journal{Store: store, Site: "corvane", Environment: "production"}
		head, err := j.Head(t.Context(), 0)
		require.NoError(t, err)
		assert.Equal(t, tip, head.Commit, "seed %d, order %v", seed, order)
		newer := head.Commit
		for entry, err := range j.Back(t.Context(), head.Number-1) {
			require.NoError(t, err)
			assert.NotContains(t, commits[4:6], entry.Commit, "what was taken away was never live")
			sitetest.Git(t, folder, "merge-base", "--is-ancestor", entry.Commit, newer)
			newer = entry.Commit
		}
	}
}

func TestABuildAsksLittleOfTheStore(t *testing.T) {
	t.Parallel()
	folder := sitetest.Pages(t)
	sitetest.CommitPage(t, folder, "one")
	store, p := &storetest.Noting{Store: &memory.Store{}}, sitetest.Load(t, folder)
	require.NoError(t, deployMain(t.Context(), p, store, ""))
	sitetest.CommitPage(t, folder, "two")
	p = sitetest.Load(t, folder)
	store.Asked()
	require.NoError(t, deployMain(t.Context(), p, store, ""))
	// The lease is renewed and cancellations are looked for once a second:
	// how often depends on the machine.
	built := slices.DeleteFunc(store.Asked(), func(asked string) bool {
		return strings.HasSuffix(asked, ".cancel") ||
			strings.HasPrefix(asked, "replace ") && strings.HasSuffix(asked, ".lease")
	})
	t.Logf("%d: %s", len(built), strings.Join(built, "\n"))
	assert.LessOrEqual(t, len(built), 29) // one of them is who is to be called afterwards
	sitetest.Git(t, folder, "revert", "--no-edit", "HEAD")
	p = sitetest.Load(t, folder)
	require.NoError(t, deployMain(t.Context(), p, store, ""))
	known := store.Asked()
	t.Logf("%d without a build: %s", len(known), strings.Join(known, "\n"))
	assert.LessOrEqual(t, len(known), len(built)-8)
}

func TestABuilderElsewhereThatFallsSilentIsTakenOver(t *testing.T) {
	t.Parallel()
	folder := sitetest.Pages(t)
	sitetest.CommitPage(t, folder, "one")
	p := sitetest.Load(t, folder)
	plan, err := site.MakePlan(t.Context(), p, site.Order{})
	require.NoError(t, err)
	key, err := plan.Inputs.Key()
	require.NoError(t, err)
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		runs := builds.Runs{Store: store, Site: "corvane"}
		begun, err := runs.Begin(t.Context(), builds.Begun{Key: key, Branch: "main", Who: "Tobias",
			Where: "another harbour", When: time.Now()}, 0)
		require.NoError(t, err)
		lease := storage.RunningKey("corvane", key) + ".lease"
		say := func(beat int64) {
			data, err := json.Marshal(build.Running{Format: 1, Begun: begun, Process: 1, Beat: beat})
			require.NoError(t, err)
			require.NoError(t, store.Replace(t.Context(), lease, data))
		}
		say(0)
		require.NoError(t, store.Create(t.Context(), storage.RunningKey("corvane", key)+".log.00000000",
			[]byte("half a log")))
		last := time.Now()
		go func() {
			for beat := range int64(20) {
				time.Sleep(5 * time.Second)
				say(beat + 1)
				last = time.Now()
			}
		}()
		require.NoError(t, deployMain(t.Context(), p, store, ""))
		assert.InDelta(t, 25, time.Since(last).Seconds(), 2, "25 seconds after the last word")
		run, err := runs.Get(t.Context(), begun.Number)
		require.NoError(t, err)
		assert.Equal(t, builds.Abandoned, run.Ended.Outcome)
		assert.Contains(t, run.Ended.Problem, "another harbour")
		run, err = runs.Get(t.Context(), begun.Number+1)
		require.NoError(t, err)
		assert.Equal(t, builds.Succeeded, run.Ended.Outcome)
		for item, err := range store.List(t.Context(), storage.RunningKey("corvane", "")) {
			require.NoError(t, err)
			t.Errorf("left: %s", item.Key)
		}
	})
}
