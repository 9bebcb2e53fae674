package deploy_test

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
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/site/sitetest"
	"orilla.example/orilla/internal/store/memory"
)

type listening struct {
	deploy.Silent
	notices chan fault.Notice
}

func (l listening) Notice(notice fault.Notice) { l.notices <- notice }

// publishFolder puts a folder of ready output live.
func publishFolder(ctx context.Context, p *site.Project, store storage.Store, folder string,
	report deploy.Reporter,
) (*deploy.Release, error) {
	plan, err := site.MakePlan(ctx, p, site.Order{From: folder, To: "production"})
	if err != nil {
		return nil, err
	}
	made, _, err := deploy.Put(ctx, deploy.Job{Plan: plan, Store: store, Report: report, Now: time.Now,
		NoIndex: true, Cause: "command"})
	return made, err
}

func TestWhatIsBeingRemovedIsMadeAgain(t *testing.T) {
	t.Parallel()
	folder := sitetest.Pages(t)
	sitetest.CommitPage(t, folder, "one")
	p, store := sitetest.Load(t, folder), &memory.Store{}
	output := t.TempDir()
	publish := func(text string, report deploy.Reporter) (*deploy.Release, error) {
		require.NoError(t, os.WriteFile(filepath.Join(output, "index.html"), []byte(text), 0o644))
		return publishFolder(t.Context(), p, store, output, report)
	}
	for i, condemned := range []func(*deploy.Release) string{
		func(first *deploy.Release) string { return storage.ReleaseKey("corvane", first.ID.String()) },
		func(first *deploy.Release) string {
			return storage.BuildKey("corvane", first.Made.Build.Key, first.Made.Build.Number)
		},
	} {
		first, err := publish("one", deploy.Silent{})
		require.NoError(t, err)
		_, err = publish("two", deploy.Silent{})
		require.NoError(t, err)
		keys := []string{condemned(first)}
		removal, err := pins.Condemn(t.Context(), store, fmt.Sprint("p", i),
			pins.Record{Who: "Tobias Quill", Keys: keys})
		require.NoError(t, err)
		require.NoError(t, removal.Wait(t.Context(), func([]pins.Waiting) {}))

		report := listening{notices: make(chan fault.Notice, 10)}
		done := make(chan *deploy.Release, 1)
		go func() {
			again, err := publish("one", report)
			assert.NoError(t, err)
			done <- again
		}()
		var again *deploy.Release
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
		require.Equal(t, first.ID, again.ID)
		_, err = environments.CheckIntegrity(t.Context(), store, "corvane", again.ID, release.ID{})
		require.NoError(t, err, "what is live is whole, though %s was condemned", keys)
		_, err = store.Get(t.Context(), storage.BuildKey("corvane", again.Made.Build.Key,
			again.Made.Build.Number))
		require.NoError(t, err, "and the record of its build is there, though %s was condemned", keys)
	}
}
