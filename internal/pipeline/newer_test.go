package pipeline_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/pipeline"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/storetest"
)

// silent is told how a run goes, and tells nobody.
type silent struct{}

func (silent) Begin(string, string)                  {}
func (silent) Line(string)                           {}
func (silent) Step(builds.Step)                      {}
func (silent) Uploaded(publish.Progress, int, int64) {}
func (silent) Notice(fault.Notice)                   {}

func loadProject(t *testing.T, folder string) *pipeline.Project {
	t.Helper()
	home := t.TempDir()
	p, err := pipeline.Load(t.Context(), folder, pipeline.Places{Data: home, Cache: filepath.Join(home, "cache")})
	require.NoError(t, err)
	return p
}

// deploy puts a commit of main live as an automatic run does.
func deploy(ctx context.Context, p *pipeline.Project, store storage.Store, commit string) error {
	plan, err := p.MakePlan(ctx, pipeline.Order{Commit: commit, Branch: "main"})
	if err != nil {
		return err
	}
	run := &pipeline.Run{Plan: plan, Store: store, Report: silent{}, Automatic: true, NoIndex: true, Cause: "follow", Now: time.Now}
	defer run.Close(ctx)
	if _, err := run.Release(ctx); err != nil {
		return err
	}
	return run.Activate(ctx)
}

func pages(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "orilla.yaml"), []byte("site: corvane\nenvironments: {production: {follows: main}}\n"), 0o644))
	git(t, folder, "init", "-q", "-b", "main")
	return folder
}

func commitPage(t *testing.T, folder, text string) string {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.html"), []byte(text), 0o644))
	git(t, folder, "add", ".")
	git(t, folder, "commit", "-q", "-m", text)
	return git(t, folder, "rev-parse", "HEAD")
}

// TestWhateverEndsLastTheNewestIsLive puts commits live in orders that chance makes up, several at once, among them some that a
// force-push took away: what is live at the end is the tip of the branch, and it never went back on the way.
func TestWhateverEndsLastTheNewestIsLive(t *testing.T) {
	folder := pages(t)
	var commits []string
	for i := range 6 {
		commits = append(commits, commitPage(t, folder, fmt.Sprint("page ", i)))
	}
	git(t, folder, "reset", "-q", "--hard", "HEAD~2") // the last two are taken away
	for i := range 3 {
		commits = append(commits, commitPage(t, folder, fmt.Sprint("instead ", i)))
	}
	tip := commits[len(commits)-1]
	for seed := range uint64(6) {
		chance := rand.New(rand.NewPCG(seed, 2))
		store, p := &memory.Store{}, loadProject(t, folder)
		order := chance.Perm(len(commits))
		require.NoError(t, deploy(t.Context(), p, store, commits[0]), "what is live at first")
		var wait sync.WaitGroup
		turns := make(chan string)
		for range 3 {
			wait.Go(func() {
				for commit := range turns {
					err := deploy(t.Context(), p, store, commit)
					assert.True(t, err == nil || fault.Code(err) == "superseded", "%v", err)
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
			git(t, folder, "merge-base", "--is-ancestor", entry.Commit, newer)
			newer = entry.Commit
		}
	}
}

// broken is a store that does not answer now and then.
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

// TestAFollowerTriesAgainWhatWasNoFaultOfTheCommit loses the store for a moment.
func TestAFollowerTriesAgainWhatWasNoFaultOfTheCommit(t *testing.T) {
	folder := pages(t)
	commit := commitPage(t, folder, "one")
	store := &broken{Store: &memory.Store{}}
	store.failing.Store(2)
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	var kinds []string
	f := &pipeline.Follower{Project: loadProject(t, folder), Store: store, Every: 50 * time.Millisecond,
		NewRun: func(plan *pipeline.Plan) *pipeline.Run {
			return &pipeline.Run{Plan: plan, Report: silent{}, NoIndex: true, Now: time.Now}
		},
		Tell: func(event pipeline.Event) {
			if kinds = append(kinds, event.Kind); event.Kind == "live" {
				cancel()
			}
		},
	}
	err := f.Run(ctx)
	require.ErrorIs(t, err, context.Canceled)
	assert.Contains(t, kinds, "trouble")
	head, err := (&journal.Journal{Store: store, Site: "corvane", Environment: "production"}).Head(t.Context(), 0)
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

// TestTheBranchOfACheckoutOfCI reads what CI systems say.
func TestTheBranchOfACheckoutOfCI(t *testing.T) {
	for name, test := range map[string]struct {
		set    map[string]string
		branch string
	}{
		"nothing said":               {nil, ""},
		"a push":                     {map[string]string{"GITHUB_REF_TYPE": "branch", "GITHUB_REF_NAME": "main"}, "main"},
		"a tag":                      {map[string]string{"GITHUB_REF_TYPE": "tag", "GITHUB_REF_NAME": "v1"}, ""},
		"a proposed change":          {map[string]string{"GITHUB_REF_TYPE": "branch", "GITHUB_REF_NAME": "7/merge", "GITHUB_HEAD_REF": "winter"}, "winter"},
		"a full name":                {map[string]string{"BUILD_SOURCEBRANCH": "refs/heads/winter/times"}, "winter/times"},
		"a ref that is no branch":    {map[string]string{"BUILD_SOURCEBRANCH": "refs/tags/v1"}, ""},
		"with the remote's name":     {map[string]string{"GIT_BRANCH": "origin/main"}, "main"},
		"a branch that is so called": {map[string]string{"CI_COMMIT_BRANCH": "origin/main"}, "origin/main"},
		"detached":                   {map[string]string{"GIT_BRANCH": "HEAD"}, ""},
	} {
		branch, variable := pipeline.CIBranch(func(name string) string { return test.set[name] })
		assert.Equal(t, test.branch, branch, name)
		assert.Equal(t, branch != "", variable != "", name)
	}
}

// TestAPlanIsToldAndSeesWhatItsKeySays compares keys of plans.
func TestAPlanIsToldAndSeesWhatItsKeySays(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	config := "site: corvane\nbuild: {run: [make], output: out, also: [shared, tools/make.sh], secrets: [MAP_KEY], secrets_for: [main, '!main-old'], tell: [branch]}\nenvironments: {production: {follows: main}}\n"
	write("web/orilla.yaml", config)
	write("web/index.html", "1")
	write("shared/a", "1")
	write("tools/make.sh", "1")
	write("tools/other.sh", "1")
	git(t, folder, "init", "-q", "-b", "main")
	git(t, folder, "add", ".")
	git(t, folder, "commit", "-q", "-m", "First")
	key := func(order pipeline.Order) string {
		p, err := pipeline.Load(t.Context(), filepath.Join(folder, "web"), pipeline.Places{})
		require.NoError(t, err)
		plan, err := p.MakePlan(t.Context(), order)
		require.NoError(t, err)
		key, err := plan.Inputs.Key()
		require.NoError(t, err)
		return key
	}
	main := key(pipeline.Order{})
	assert.NotEqual(t, main, key(pipeline.Order{Branch: "winter"}), "it is told its branch, and given no secrets")
	change := func(name, text string) string {
		write(name, text)
		git(t, folder, "commit", "-q", "-am", name)
		return key(pipeline.Order{})
	}
	assert.Equal(t, main, change("tools/other.sh", "2"), "it does not see that")
	shared := change("shared/a", "2")
	assert.NotEqual(t, main, shared)
	assert.NotEqual(t, shared, change("tools/make.sh", "2"))
	p, err := pipeline.Load(t.Context(), filepath.Join(folder, "web"), pipeline.Places{})
	require.NoError(t, err)
	for _, test := range []struct {
		order pipeline.Order
		given bool
	}{{pipeline.Order{}, true}, {pipeline.Order{Branch: "winter"}, false}, {pipeline.Order{Branch: "main-old"}, false},
		{pipeline.Order{Branch: "main", Ref: "refs/proposed/1/main"}, false}, {pipeline.Order{Branch: "proposed/2/head", Ref: "refs/proposed/2/head"}, false}} {
		plan, err := p.MakePlan(t.Context(), test.order)
		require.NoError(t, err)
		assert.Equal(t, test.given, len(plan.Secrets()) == 1, "%+v", test.order)
		assert.Equal(t, map[string]string{"branch": plan.Origin.Branch}, plan.Told)
	}
	// A branch cannot give itself secrets.
	git(t, folder, "checkout", "-q", "-b", "thief")
	write("web/orilla.yaml", "site: corvane\nbuild: {run: [make], output: out, secrets: [MAP_KEY]}\n")
	git(t, folder, "commit", "-q", "-am", "Give me")
	p, err = pipeline.Load(t.Context(), filepath.Join(folder, "web"), pipeline.Places{})
	require.NoError(t, err)
	plan, err := p.MakePlan(t.Context(), pipeline.Order{})
	require.NoError(t, err)
	assert.Empty(t, plan.Secrets())
	write("web/orilla.yaml", "site: corvane\nbuild: {also: [nowhere]}\n")
	git(t, folder, "commit", "-q", "-am", "Wrong")
	_, err = p.MakePlan(t.Context(), pipeline.Order{})
	problem, _ := errors.AsType[*fault.Error](err)
	require.NotNil(t, problem)
	assert.Equal(t, "no-also", problem.Code)
}

// TestABuildAsksLittleOfTheStore counts what the second build of a site costs, which far away is a request each.
func TestABuildAsksLittleOfTheStore(t *testing.T) {
	folder := pages(t)
	commitPage(t, folder, "one")
	store, p := &storetest.Noting{Store: &memory.Store{}}, loadProject(t, folder)
	require.NoError(t, deploy(t.Context(), p, store, ""))
	commitPage(t, folder, "two")
	p = loadProject(t, folder)
	store.Asked()
	require.NoError(t, deploy(t.Context(), p, store, ""))
	built := store.Asked()
	t.Logf("%d: %s", len(built), strings.Join(built, "\n"))
	assert.LessOrEqual(t, len(built), 28)
	git(t, folder, "revert", "--no-edit", "HEAD")
	p = loadProject(t, folder)
	require.NoError(t, deploy(t.Context(), p, store, ""))
	known := store.Asked()
	t.Logf("%d without a build: %s", len(known), strings.Join(known, "\n"))
	assert.Less(t, len(known), len(built)-8)
}

// TestABuilderElsewhereThatFallsSilentIsTakenOver announces the same build from another machine: while that one says that it goes on, a
// deploy waits; when it falls silent, the deploy takes over and says what became of it.
func TestABuilderElsewhereThatFallsSilentIsTakenOver(t *testing.T) {
	folder := pages(t)
	commitPage(t, folder, "one")
	p := loadProject(t, folder)
	plan, err := p.MakePlan(t.Context(), pipeline.Order{})
	require.NoError(t, err)
	key, err := plan.Inputs.Key()
	require.NoError(t, err)
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		runs := builds.Runs{Store: store, Site: "corvane"}
		begun, err := runs.Begin(t.Context(), builds.Begun{Key: key, Branch: "main", Who: "Tobias", Where: "another harbour", When: time.Now()}, 0)
		require.NoError(t, err)
		lease := storage.RunningKey("corvane", key) + ".lease"
		say := func(beat int64) {
			data, err := json.Marshal(pipeline.Running{Format: 1, Begun: begun, Process: 1, Beat: beat})
			require.NoError(t, err)
			require.NoError(t, store.Replace(t.Context(), lease, data))
		}
		say(0)
		require.NoError(t, store.Create(t.Context(), storage.RunningKey("corvane", key)+".log.00000000", []byte("half a log")))
		last := time.Now()
		go func() {
			for beat := range int64(20) {
				time.Sleep(5 * time.Second)
				say(beat + 1)
				last = time.Now()
			}
		}()
		require.NoError(t, deploy(t.Context(), p, store, ""))
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
