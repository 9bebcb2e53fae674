package view_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/golden"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/view"
)

// now is when everything here is looked at.
var now = time.Date(2026, 12, 20, 9, 30, 0, 0, time.UTC)

// screen is a console without colours, and what it wrote.
type screen struct {
	*console.Console
	out, err bytes.Buffer
}

func newScreen() *screen {
	s := &screen{}
	s.Console = &console.Console{
		Out: &colorprofile.Writer{Forward: &s.out, Profile: colorprofile.NoTTY},
		Err: &colorprofile.Writer{Forward: &s.err, Profile: colorprofile.NoTTY},
		Now: func() time.Time { return now },
	}
	return s
}

// both is what went to both streams: the result, and then the notes.
func (s *screen) both() string { return s.out.String() + "-- notes --\n" + s.err.String() }

// lines are the lines of a text without what is blank at their ends.
func lines(text string) []string {
	var all []string
	for line := range strings.Lines(text) {
		if line = strings.TrimRight(line, " \n"); line != "" {
			all = append(all, line)
		}
	}
	return all
}

func ago(d time.Duration) *time.Time { t := now.Add(-d); return &t }

func id(t *testing.T) release.ID {
	t.Helper()
	parsed, err := release.ParseID(strings.Repeat("4", 64))
	require.NoError(t, err)
	return parsed
}

func TestStatusShowsWhatIsLiveAndWhatNeedsAttention(t *testing.T) {
	t.Parallel()
	until := now.Add(26 * time.Hour)
	report := view.StatusReport{EdgeNodes: make([]edge.Presence, 2), Previews: 4,
		Environments: []view.EnvironmentReport{
			{Environment: "production", State: view.StateFrozen, Release: "r-4f1c9a2b07d1", Commit: "77d1c0ffee77",
				Subject: "Fares of the winter", Who: "Ilse Moor <ilse@corvane.example>", When: ago(2 * time.Hour),
				Address: "https://corvane.example/", EdgeServing: 2,
				Frozen:  &view.FrozenReport{Who: "Ilse Moor <ilse@corvane.example>", When: *ago(time.Hour), Why: "storm"},
				Waiting: []view.WaitingReport{{Release: "r-9be0312c55aa", Commit: "9be0312c55", Subject: "Prices", When: now}}},
			{Environment: "staging", State: view.StateUnused, Address: "https://staging.corvane.example/"},
			{Environment: "preview/winter", State: view.StateLive, Release: "r-aaaaaaaaaaaa", Source: "working-tree",
				Commit: "1234567890", Who: "Tobias", When: ago(time.Minute), Expires: &until, Protected: true,
				EdgeServing: 1, Address: "https://winter.corvane.example/"},
			{Environment: "preview/old", State: view.StateRemoved, Who: "Tobias", When: ago(time.Hour),
				Address: "https://old.corvane.example/"},
		}}
	s := newScreen()
	view.ShowEnvironments(s.Console, report)

	golden.Equal(t, "status", s.both())
	assert.NotContains(t, s.out.String(), "https://old.corvane.example/", "nothing answers there")
}

func TestStatusOfNothingSaysSo(t *testing.T) {
	t.Parallel()
	s := newScreen()
	view.ShowEnvironments(s.Console, view.StatusReport{})
	assert.Empty(t, s.out.String())
	assert.Contains(t, s.err.String(), "orilla status shows all")
}

func TestTheStateOfAnEnvironmentIsOneWord(t *testing.T) {
	t.Parallel()
	some := id(t)
	past, future := now.Add(-time.Minute), now.Add(time.Minute)
	for name, test := range map[string]struct {
		head *journal.Entry
		want string
	}{
		"no entry":                      {nil, view.StateUnused},
		"only a password so far":        {&journal.Entry{Kind: journal.Access}, view.StateUnused},
		"a release":                     {&journal.Entry{Release: some}, view.StateLive},
		"removed":                       {&journal.Entry{Ended: &journal.Ended{}}, view.StateRemoved},
		"over its end":                  {&journal.Entry{Release: some, Expires: &past}, view.StateExpired},
		"before its end":                {&journal.Entry{Release: some, Expires: &future}, view.StateLive},
		"frozen":                        {&journal.Entry{Release: some, Frozen: &journal.Frozen{}}, view.StateFrozen},
		"frozen until a moment ago":     {&journal.Entry{Release: some, Frozen: &journal.Frozen{Until: &past}}, view.StateLive},
		"over its end, though frozen":   {&journal.Entry{Release: some, Expires: &past, Frozen: &journal.Frozen{}}, view.StateExpired},
		"a password after its removal":  {&journal.Entry{Kind: journal.Access, Ended: &journal.Ended{}}, view.StateRemoved},
		"frozen until a moment to come": {&journal.Entry{Release: some, Frozen: &journal.Frozen{Until: &future}}, view.StateFrozen},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, test.want, view.StateOf(test.head, now)) })
	}
}

func TestHistoryTellsWhatEachEntryDid(t *testing.T) {
	t.Parallel()
	entry := func(number int64, kind journal.Kind) journal.Entry {
		return journal.Entry{Environment: "production", Number: number, Kind: kind, Release: id(t),
			Origin: journal.Origin{Source: journal.FromCommit, Commit: "77d1c0ffee", Subject: "Fares"},
			Who:    "Ilse", When: *ago(time.Hour)}
	}
	passed := environments.Outcome{Passed: true, Probes: make([]environments.Probe, 3)}
	failed := environments.Outcome{Probes: []environments.Probe{{What: "/fares/"}}}
	rollback := entry(4, journal.Rollback)
	rollback.Reactivates, rollback.Frozen = 2, &journal.Frozen{}
	removal := entry(5, journal.Removal)
	removal.Release, removal.Ended = release.ID{}, &journal.Ended{Reason: journal.Expired, Commit: "77d1c0ffee"}
	thaw := entry(6, journal.Deploy)
	thaw.Cause = environments.ThawCause

	for name, test := range map[string]struct {
		entry   journal.Entry
		outcome *environments.Outcome
		damage  error
		want    []string
	}{
		"a deploy":             {entry(1, journal.Deploy), nil, nil, []string{"production:1", "deploy", "r-4444444444", "77d1c0f", "Fares"}},
		"one that was checked": {entry(2, journal.Deploy), &passed, nil, []string{"deploy, passed 3"}},
		"one that failed":      {entry(3, journal.Deploy), &failed, nil, []string{"deploy, failed: /fares/"}},
		"a rollback":           {rollback, nil, nil, []string{"rollback to :2"}},
		"a removal":            {removal, nil, nil, []string{"removal (expired)", "77d1c0f"}},
		"a thaw that deployed": {thaw, nil, nil, []string{"thaw and deploy"}},
		"a damaged one":        {entry(7, journal.Deploy), nil, errors.New("torn"), []string{"unreadable", "torn"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScreen()
			report := view.DescribeEntry(test.entry, test.damage, 1)
			report.Outcome = test.outcome
			s.Table([][]string{view.HistoryRow(s.Console, test.entry, report)})
			for _, part := range test.want {
				assert.Contains(t, s.out.String(), part)
			}
			assert.Equal(t, test.entry.Number == 1, strings.Contains(s.out.String(), " live"), "only the last is live")
		})
	}
}

func TestHistoryCountsWhatItLeavesOut(t *testing.T) {
	t.Parallel()
	entry := journal.Entry{Environment: "production", Number: 31, Release: id(t), When: now}
	list := view.History{Entries: []journal.Entry{entry}, More: true,
		Reports: []view.EntryReport{view.DescribeEntry(entry, nil, 31)}}

	s := newScreen()
	view.PrintHistory(s.Console, "corvane", "production", list)
	assert.Contains(t, s.err.String(), "30 older entries")

	s = newScreen()
	view.PrintHistory(s.Console, "corvane", "", list)
	assert.NotContains(t, s.err.String(), "30", "of all environments the numbers say nothing")

	s = newScreen()
	view.PrintHistory(s.Console, "corvane", "preview.winter", view.History{})
	assert.Contains(t, s.err.String(), "preview/winter of corvane has no deploys yet")
}

func TestBuildsSayHowTheyEndedAndWhereTo(t *testing.T) {
	t.Parallel()
	run := builds.Run{Begun: builds.Begun{Number: 41, Branch: "fares", Commit: "77d1c0ffee", Environment: "production",
		Source: journal.FromCommit, When: *ago(time.Minute)}}
	lost := view.DescribeRun(newScreen().Console, run)
	assert.Equal(t, "lost", lost.State)
	assert.Equal(t, "trusted", lost.Trust)

	begun := run
	begun.When = *ago(time.Second)
	assert.Equal(t, "running", view.DescribeRun(newScreen().Console, begun).State)

	run.Ended = &builds.Ended{Outcome: builds.Succeeded, Release: id(t), Entry: 7, When: *ago(20 * time.Second)}
	succeeded := view.DescribeRun(newScreen().Console, run)
	assert.EqualValues(t, 40_000, succeeded.Milliseconds)

	s := newScreen()
	view.PrintBuilds(s.Console, []view.BuildRow{succeeded, lost}, nil)
	golden.Equal(t, "builds", s.both())

	succeeded.Trust = "untrusted"
	s = newScreen()
	view.PrintBuilds(s.Console, []view.BuildRow{succeeded, lost}, nil)
	assert.Contains(t, lines(s.out.String())[0], "TRUST", "one is not")
}

func TestADurationIsComparedWhereThatIsWorthAWord(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		took, earlier time.Duration
		want          string
	}{
		"nothing before":        {time.Second, 0, ""},
		"a blink":               {1050 * time.Millisecond, time.Second, ""},
		"less than a tenth":     {10_500 * time.Millisecond, 10 * time.Second, ""},
		"slower":                {3 * time.Second, 2 * time.Second, "+1.0 s"},
		"faster":                {2 * time.Second, 3 * time.Second, "-1.0 s"},
		"a tenth, and no blink": {11 * time.Second, 10 * time.Second, "+1.0 s"},
	} {
		t.Run(name, func(t *testing.T) {
			got := view.Against(test.took, test.earlier)
			assert.Equal(t, test.want, strings.Trim(got, " ()"))
		})
	}
}

func TestUsageAddsUpByMonthAndBranch(t *testing.T) {
	t.Parallel()
	run := func(branch string, month time.Month, outcome builds.Outcome) builds.Run {
		return builds.Run{Begun: builds.Begun{Branch: branch, When: time.Date(2026, month, 3, 0, 0, 0, 0, time.UTC)},
			Ended: &builds.Ended{Outcome: outcome, Sent: 1000}}
	}
	rows := view.AddUp([]builds.Run{run("main", 11, builds.Succeeded), run("main", 12, builds.Failed),
		run("fares", 12, builds.Succeeded), run("main", 12, builds.Succeeded)})

	require.Len(t, rows, 3)
	assert.Equal(t, "2026-12", rows[0].Month, "the newest month first")
	for _, row := range rows {
		if row.Month == "2026-12" && row.Branch == "main" {
			assert.Equal(t, 2, row.Builds)
			assert.Equal(t, 1, row.Failed)
			assert.EqualValues(t, 2000, row.Sent)
		}
	}
	assert.Empty(t, view.AddUp(nil))
}

func TestVerifyNamesWhatIsDamagedAndWhatHelps(t *testing.T) {
	t.Parallel()
	found := maintenance.Verified{Sites: 1, Releases: 2, Entries: 3, Objects: 4, Bytes: 5000, Gone: 1,
		Damage: []maintenance.Damage{
			{Key: "objects/5f/5f3a", What: "other bytes than its name says", Affects: []string{"r-4f, live in production"}},
			{Key: "objects/77/77d1", What: "missing", Repaired: true},
		}}

	s := newScreen()
	view.PrintVerified(s.Console, found, time.Second, "")
	golden.Equal(t, "verify-damaged", s.both())

	s = newScreen()
	view.PrintVerified(s.Console, found, time.Second, "/srv/copy")
	assert.NotContains(t, s.err.String(), "--repair-from", "that was tried")

	s = newScreen()
	view.PrintVerified(s.Console, maintenance.Verified{Damage: found.Damage[1:]}, time.Second, "/srv/copy")
	assert.Contains(t, s.out.String(), "all damage repaired")
	s = newScreen()
	view.PrintVerified(s.Console, maintenance.Verified{}, time.Second, "")
	assert.Contains(t, s.out.String(), "everything is intact")
}

func TestPruneSaysWhatGoesAndWhatStays(t *testing.T) {
	t.Parallel()
	s := newScreen()
	view.PrintPruned(s.Console, maintenance.Pruned{Kept: 3}, "would be removed")
	assert.Contains(t, s.out.String(), "nothing to remove: 3 releases are kept")

	many := maintenance.Pruned{Kept: 1, Bytes: 2_000_000, Objects: 9}
	for range 25 {
		many.Releases = append(many.Releases, maintenance.GoneRelease{Site: "corvane", ID: id(t), Made: *ago(time.Hour)})
	}
	s = newScreen()
	view.PrintPruned(s.Console, many, "would be removed")
	assert.Len(t, lines(s.out.String()), 1+20+1+1, "a heading, twenty rows, how many more, the sum")
	golden.Equal(t, "prune-many", s.both())

	s = newScreen()
	view.PrintRemoved(s.Console, maintenance.Pruned{Objects: 1, Spared: 2, Left: 7})
	assert.Contains(t, s.err.String(), "2 objects were needed again")
	assert.Contains(t, s.err.String(), "run it again")
}

func TestAStoreThatCannotBePrunedIsExplained(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	other := errors.New("no such host")
	require.ErrorIs(t, view.Unprunable(store, other), other)
	require.ErrorContains(t, view.Unprunable(store, maintenance.ErrBusy), "somebody else is removing")
	assert.ErrorContains(t, view.Unprunable(store, storage.ErrNotFound), "nothing removed")
}

func TestFindingsAreShownWithPlaceLineAndNext(t *testing.T) {
	t.Parallel()
	s := newScreen()
	view.ShowCheck(s.Console, view.CheckReport{On: "the working tree", Files: 2, Rules: 1, Errors: 1, Warnings: 1,
		Findings: []finding.Finding{{Level: finding.Error, Code: "rule-no-target", What: "there is no file at /fleet/",
			Position: finding.Position{File: "site.rules", Line: 3, Column: 1}, Next: "make it"}}})
	golden.Equal(t, "check-errors", s.both())

	s = newScreen()
	view.ShowCheck(s.Console, view.CheckReport{On: "r-4f1c9a2b07", Compared: "production:3"})
	golden.Equal(t, "check-well", s.both())
}

func TestASummaryForCIIsNotSteeredByCommits(t *testing.T) {
	t.Parallel()
	values := view.OutputValues{URL: "https://corvane.example/", Release: "r-4f", ReleaseURL: "https://r.example/",
		Environment: "production", Entry: "production:3", Commit: "77d1c0ffee",
		Subject: "a | b <img src=x> [c](https://x.example) `d`", Took: 2 * time.Second}
	text := values.Markdown()
	golden.Equal(t, "ci-summary", text)
	assert.NotContains(t, text, "<img")

	values.Reused = true
	assert.Contains(t, values.Markdown(), "reused an earlier build")
	values.Outcome, values.Entry, values.Why = view.OutcomeUnchanged, "", "it is already live"
	assert.Contains(t, values.Markdown(), "nothing to do")
}

func TestFollowerEventsHaveOneLine(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		event follow.Event
		want  string
	}{
		"builds": {follow.Event{Kind: follow.Builds, Environment: "production", Build: 4}, "builds for production " +
			" build:4"},
		"live": {follow.Event{Kind: follow.Live, Entry: "production:7", Took: 2 * time.Second}, "production:7  built in 2"},
		"known": {follow.Event{Kind: follow.Live, Entry: "production:7", Reused: true}, "reused an earlier " +
			"build"},
		"superseded":  {follow.Event{Kind: follow.Superseded, Why: "9be0312 is newer"}, "superseded: 9be0312 is newer"},
		"waits":       {follow.Event{Kind: follow.Waits, Why: "production is frozen"}, "waits: production is frozen"},
		"cancelled":   {follow.Event{Kind: follow.Cancelled, Why: "by Ilse", Build: 9}, "cancelled: by Ilse  build:9"},
		"without one": {follow.Event{Kind: follow.Failed, Why: "no such branch"}, "failed: no such branch"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScreen()
			s.Print("%s", view.EventText(test.event))
			assert.Contains(t, s.out.String(), test.want)
			assert.Len(t, lines(s.out.String()), 1)
		})
	}
}

func TestSmallWords(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "1 added, 2 removed", view.Changed(deploy.Changes{Added: 1, Removed: 2}))
	assert.Empty(t, view.Changed(deploy.Changes{}))
	assert.Equal(t, "Tórsha…", view.Shorten("Tórshavn quay", 7))
	assert.Equal(t, "Tórshavn", view.Shorten("Tórshavn", 8))
	assert.Empty(t, view.EnvironmentArgument("production"))
	assert.Equal(t, " preview/winter", view.EnvironmentArgument("preview.winter"))
	assert.Equal(t, "http://4444444444.release.corvane.localhost:7420/",
		view.ReleaseAddress("corvane", strings.Repeat("4", 64), "7420"))
	assert.Equal(t, "no edge node is running", view.NodesText(nil))
	assert.Equal(t, []string{"the certificate ends"}, view.Alarms([]edge.Presence{{Alarms: []string{"the certificate ends"}},
		{}, {Alarms: []string{"the certificate ends"}}}))
	assert.Equal(t, "2 edge nodes: a:1 b:2", view.NodesText([]edge.Presence{{Address: "a:1"}, {Address: "b:2"}}))

	nodes := make([]edge.Presence, 3)
	assert.Equal(t, " at all 3 edge nodes in 2 ms", view.Flip{Nodes: nodes, Serving: 3}.Text(2*time.Millisecond))
	assert.Equal(t, " at the edge node", view.Flip{Nodes: nodes[:1], Serving: 1}.Text(0))
	assert.Equal(t, " at 1 of 3 edge nodes; the others will follow", view.Flip{Nodes: nodes, Serving: 1}.Text(time.Second))
}

func TestJSONOfAnEntryHasNoEmptyFields(t *testing.T) {
	t.Parallel()
	entry := journal.Entry{Environment: "production", Number: 3, Kind: journal.Deploy, Release: id(t), When: now}
	data, err := json.Marshal(view.DescribeEntry(entry, nil, 3))
	require.NoError(t, err)
	assert.JSONEq(t, `{"entry":"production:3","kind":"deploy","live":true,"release":"r-`+strings.Repeat("4", 64)+
		`","frozen":false,"who":"","when":"2026-12-20T09:30:00Z"}`, string(data))
}
