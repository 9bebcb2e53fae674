package pipeline_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/pipeline"
	"orilla.example/orilla/internal/store/memory"
)

// listening tells of notices.
type listening struct {
	silent
	notices chan fault.Notice
}

func (l listening) Notice(notice fault.Notice) { l.notices <- notice }

// publishFolder puts a folder of ready output live.
func publishFolder(ctx context.Context, p *pipeline.Project, store storage.Store, folder string, report pipeline.Reporter) (*pipeline.Result, error) {
	plan, err := p.MakePlan(ctx, pipeline.Order{From: folder, To: "production"})
	if err != nil {
		return nil, err
	}
	run := &pipeline.Run{Plan: plan, Store: store, Report: report, NoIndex: true, Cause: "command", Now: time.Now}
	defer run.Close(ctx)
	result, err := run.Release(ctx)
	if err == nil {
		err = run.Activate(ctx)
	}
	return result, err
}

// TestWhatIsBeingRemovedIsMadeAgain deploys just what a prune has condemned and is about to delete: its root, or the record of its build.
func TestWhatIsBeingRemovedIsMadeAgain(t *testing.T) {
	folder := pages(t)
	commitPage(t, folder, "one")
	p, store := loadProject(t, folder), &memory.Store{}
	output := t.TempDir()
	publish := func(text string, report pipeline.Reporter) (*pipeline.Result, error) {
		require.NoError(t, os.WriteFile(filepath.Join(output, "index.html"), []byte(text), 0o644))
		return publishFolder(t.Context(), p, store, output, report)
	}
	for i, condemned := range []func(*pipeline.Result) string{
		func(first *pipeline.Result) string { return storage.ReleaseKey("corvane", first.Release.String()) },
		func(first *pipeline.Result) string {
			return storage.BuildKey("corvane", first.Build.Key, first.Build.Number)
		},
	} {
		first, err := publish("one", silent{})
		require.NoError(t, err)
		_, err = publish("two", silent{})
		require.NoError(t, err)
		keys := []string{condemned(first)}
		removal, err := pins.Condemn(t.Context(), store, fmt.Sprint("p", i), pins.Record{Who: "Tobias Quill", Keys: keys})
		require.NoError(t, err)
		require.NoError(t, removal.Wait(t.Context(), func([]pins.Waiting) {}))

		report := listening{notices: make(chan fault.Notice, 10)}
		done := make(chan *pipeline.Result, 1)
		go func() {
			again, err := publish("one", report)
			assert.NoError(t, err)
			done <- again
		}()
		var again *pipeline.Result
		select {
		case notice := <-report.notices:
			require.Equal(t, "waiting-for-prune", notice.Code)
		case again = <-done: // it does not rely on what is condemned, and need not wait
		case <-time.After(20 * time.Second):
			t.Fatal("neither waiting nor done")
		}
		require.NoError(t, removal.Delete(t.Context(), keys, func(int) {}))
		require.NoError(t, removal.End(t.Context()))
		if again == nil {
			again = <-done
		}
		require.Equal(t, first.Release, again.Release)
		_, err = pipeline.CheckIntegrity(t.Context(), store, "corvane", again.Release, release.ID{})
		require.NoError(t, err, "what is live is whole, though %s was condemned", keys)
		_, err = store.Get(t.Context(), storage.BuildKey("corvane", again.Build.Key, again.Build.Number))
		require.NoError(t, err, "and the record of its build is there, though %s was condemned", keys)
	}
}
