package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/view"
)

func TestUsageIsAddedUpByMonthAndBranch(t *testing.T) {
	t.Parallel()
	run := func(when, branch string, outcome builds.Outcome, milliseconds, sent int64) builds.Run {
		at, err := time.Parse(time.RFC3339, when)
		require.NoError(t, err)
		return builds.Run{Begun: builds.Begun{Branch: branch, When: at},
			Ended: &builds.Ended{Outcome: outcome, Sent: sent,
				Phases: []builds.Phase{{Name: "checkout", Milliseconds: 90_000},
					{Name: "prepare", Milliseconds: milliseconds / 2},
					{Name: "step", Milliseconds: milliseconds / 2}}}}
	}
	rows := view.AddUp([]builds.Run{
		run("2026-11-02T10:00:00Z", "main", builds.Succeeded, 61_200, 10), run("2026-11-01T00:30:00+02:00",
			"main", builds.Failed, 1000, 0),
		run("2026-11-03T10:00:00Z", "winter", builds.Failed, 400, 5), run("2026-11-03T10:00:00Z", "winter",
			builds.Succeeded, 400, 5),
		{Begun: builds.Begun{Branch: "main", When: time.Date(2026, 11, 4, 0, 0, 0, 0, time.UTC)}},
	})
	assert.Equal(t, []view.UsageRow{
		{Month: "2026-11", Branch: "main", Builds: 2, BuildSeconds: 61, BuildTime: 61_200 * time.Millisecond,
			Sent: 10},
		{Month: "2026-11", Branch: "winter", Builds: 2, Failed: 1, BuildSeconds: 1, BuildTime: 800 * time.Millisecond,
			Sent: 10},
		{Month: "2026-10", Branch: "main", Builds: 1, Failed: 1, BuildSeconds: 1, BuildTime: time.Second},
	}, rows, "months are those of UTC; only steps count; a build that goes on counts as one")
}

func TestAChangeIsToldWhenItIsWorthAWord(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		took, earlier time.Duration
		want          string
	}{
		{3 * time.Second, 2 * time.Second, " (+1.0 s)"}, {2 * time.Second, 3 * time.Second,
			" (-1.0 s)"}, {time.Second, 0, ""}, {50 * time.Millisecond, 10 * time.Millisecond, ""},
		{10_200 * time.Millisecond, 10 * time.Second, ""}, {200 * time.Millisecond, 100 * time.Millisecond,
			" (+100 ms)"},
	} {
		assert.Equal(t, test.want, view.Against(test.took, test.earlier), "%s after %s", test.took,
			test.earlier)
	}
}

// TestFilesForCIAreAddedTo writes three times, in each form, and into a folder
// that is not there.
func TestFilesForCIAreAddedTo(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	lines, page := filepath.Join(folder, "lines"), filepath.Join(folder, "summary.md")
	list := filepath.Join(folder, "results.json")
	o := writeOptions{write: []string{"lines:" + lines, "json:" + list}, summary: page}
	require.NoError(t, o.check())
	require.NoError(t, os.WriteFile(lines, []byte("before=1\n"), 0o644))
	require.NoError(t, o.save(view.OutputValues{Outcome: view.OutcomeLive, URL: "http://corvane.localhost:7420/",
		ReleaseURL: "http://3f9a2c1b7e.release.corvane.localhost:7420/", Release: "r-3f9a2c1b7e",
		Environment: "production",
		Entry:       "production:12", Commit: "4be21c7000", Subject: "Fares | <b>new</b> [x]", Changed: true,
		Took: 3100 * time.Millisecond}))
	require.NoError(t, o.save(view.OutputValues{Outcome: view.OutcomeUnchanged, Environment: "production",
		Commit: "4be21c7000", Subject: "Fares", Why: "it is already live"}))
	require.NoError(t, o.save(view.OutputValues{Outcome: view.OutcomeFailed, Environment: "production",
		Commit: "4be21c7000", Subject: "Fares", Why: "the build failed"}))

	data, err := os.ReadFile(lines)
	require.NoError(t, err)
	assert.Equal(t, "before=1\noutcome=live\nurl=http://corvane.localhost:7420/\nrelease_url=http://3f9a2c1b7e.release.corvane.localhost:7420/\nrelease=r-3f9a2c1b7e\nenvironment=production\nentry=production:12\ncommit=4be21c7000\nchanged=true\nreused=false\n"+
		"outcome=unchanged\nurl=\nrelease_url=\nrelease=\nenvironment=production\nentry=\ncommit=4be21c7000\nchanged=false\nreused=false\n"+
		"outcome=failed\nurl=\nrelease_url=\nrelease=\nenvironment=production\nentry=\ncommit=4be21c7000\nchanged=false\nreused=false\n", string(data))
	data, err = os.ReadFile(page)
	require.NoError(t, err)
	assert.Contains(t, string(data), "| commit | `4be21c7` Fares \\| &lt;b>new&lt;/b> \\[x] |\n",
		"a subject cannot break the table")
	assert.Contains(t, string(data), "| build | built in 3.1 s |")
	assert.Contains(t, string(data), "### production: nothing to do\n"+
		"\n`4be21c7` Fares: it is already live\n")
	assert.Contains(t, string(data), "### production: failed\n\n`4be21c7` Fares: the build failed\n")
	data, err = os.ReadFile(list)
	require.NoError(t, err)
	first, _, _ := strings.Cut(string(data), "\n")
	assert.JSONEq(t, `{"outcome":"live","url":"http://corvane.localhost:7420/","environment":"production",
		"release_url":"http://3f9a2c1b7e.release.corvane.localhost:7420/","release":"r-3f9a2c1b7e",
		"entry":"production:12","commit":"4be21c7000","subject":"Fares | <b>new</b> [x]","changed":true,
		"reused":false,"milliseconds":3100}`, first)
	assert.Equal(t, 3, strings.Count(string(data), "\n"))

	require.NoError(t, (&writeOptions{}).save(view.OutputValues{}), "nothing is written that was "+
		"not asked for")
	require.ErrorContains(t, (&writeOptions{write: []string{"lines:" + filepath.Join(folder, "none", "x")}}).
		save(view.OutputValues{}), "cannot write the results")
	for _, wrong := range []string{"lines", "lines:", "text:x", ":x", ""} {
		assert.ErrorContains(t, (&writeOptions{write: []string{wrong}}).check(), "a form and a file are needed")
	}
}
