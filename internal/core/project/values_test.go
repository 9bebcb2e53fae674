package project_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/project"
)

func TestDurations(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "10m": 10 * time.Minute, "24h": 24 * time.Hour, "7d": 7 * 24 * time.Hour,
		"1d12h": 36 * time.Hour, "0s": 0, "1h30m": 90 * time.Minute,
	} {
		t.Run(text, func(t *testing.T) {
			got, err := project.ParseDuration(text)
			require.NoError(t, err, text)
			assert.Equal(t, want, time.Duration(got), text)
		})
	}
	for _, text := range []string{"", "7", "d", "-1h", "1w", "99999999999d", "1d-1h", "1d2d"} {
		_, err := project.ParseDuration(text)
		assert.Error(t, err, text)
	}
}

func TestSizes(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]project.Size{
		"0": 0, "512": 512, "500kB": 500_000, "1.5 MB": 1_500_000, "10GB": 10_000_000_000,
		"2TB": 2_000_000_000_000, "7B": 7,
	} {
		t.Run(text, func(t *testing.T) {
			got, err := project.ParseSize(text)
			require.NoError(t, err, text)
			assert.Equal(t, want, got, text)
		})
	}
	for _, text := range []string{"", "-1", "1 kilobyte", "MB", "1,5MB", "1e6"} {
		_, err := project.ParseSize(text)
		assert.Error(t, err, text)
	}
}

func TestPreviewPatterns(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		patterns []string
		branch   string
		want     bool
	}{
		{[]string{"*"}, "any/branch", true}, {nil, "any", false}, {[]string{"feature/*"}, "feature/a/b",
			true}, {[]string{"feature/*"}, "fix/a", false},
		{[]string{"*", "!bot/*"}, "bot/up", false}, {[]string{"*", "!bot/*", "bot/keep"}, "bot/keep", true},
		{[]string{"main"}, "main2", false},
		{[]string{"*-times"}, "winter-times", true}, {[]string{"w*t*s"}, "winter-times", true},
		{[]string{"w*x*s"}, "winter-times", false}, {[]string{"a*a"}, "a", false},
	} {
		assert.Equal(t, test.want, project.Previews{Follows: test.patterns}.FollowsBranch(test.branch),
			"%v %s", test.patterns, test.branch)
	}
}

// TestPatternsOfRefsAndOfWhoGetsSecrets: the last pattern that matches decides,
// and refs that are no branches only match their own.
func TestPatternsOfRefsAndOfWhoGetsSecrets(t *testing.T) {
	t.Parallel()
	previews := project.Previews{Refs: []string{"refs/proposed/*/head", "!refs/proposed/draft-*"}}
	for ref, follows := range map[string]bool{"refs/proposed/7/head": true, "refs/proposed/a/b/head": true,
		"refs/proposed/draft-7/head": false, "refs/proposed/7/merge": false, "refs/heads/main": false} {
		t.Run(ref, func(t *testing.T) {
			assert.Equal(t, follows, previews.FollowsRef(ref), ref)
		})
	}
}

func TestWhoIsTrusted(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		build   project.Build
		ref     string
		trusted bool
		secrets bool
	}{
		"a branch that an environment follows": {project.Build{}, "refs/heads/main", true, true},
		"another one":                          {project.Build{}, "refs/heads/winter", false, false},
		"one that is listed": {project.Build{Trust: []string{"winter"}},
			"refs/heads/winter", true, true},
		"all but some": {project.Build{Trust: []string{"*", "!bot/*"}},
			"refs/heads/bot/updates", false, false},
		"one that gets secrets": {project.Build{SecretsFor: []string{"winter"}},
			"refs/heads/winter", true, true},
		"a name that only begins so": {project.Build{SecretsFor: []string{"main"}},
			"refs/heads/main-2", false, false},
		"listed, but not for secrets": {project.Build{Trust: []string{"*"},
			SecretsFor: []string{"main"}}, "refs/heads/winter", true, false},
		"a proposed change, whatever is said": {project.Build{Trust: []string{"*"},
			SecretsFor: []string{"*"}}, "refs/proposed/7/head", false, false},
		"a commit of no branch": {project.Build{Trust: []string{"*"}}, "", false, false},
	} {
		t.Run(name, func(t *testing.T) {
			config := project.Config{Build: test.build}.WithDefaults("main")
			assert.Equal(t, test.trusted, config.Trusts(test.ref))
			assert.Equal(t, test.secrets, config.GivesSecrets(test.ref, false))
		})
	}
	byHand := project.Config{}.WithDefaults("main")
	assert.True(t, byHand.GivesSecrets("refs/heads/winter", true),
		"what somebody runs by hand has that person's secrets")
	byHand.Build.SecretsFor = []string{"main"}
	assert.False(t, byHand.GivesSecrets("refs/heads/winter", true), "unless it is said")
}

// TestRefsAndBranchesShareNoPreview compares labels of refs with those of
// branches that are named to meet them.
func TestRefsAndBranchesShareNoPreview(t *testing.T) {
	t.Parallel()
	label := project.RefLabel("refs/proposed/7/head", "")
	assert.True(t, project.IsLabel(label))
	for _, branch := range []string{"proposed/7/head", "refs/proposed/7/head", label, "proposed-7-head"} {
		assert.NotEqual(t, label, project.Previews{}.LabelOf("refs/heads/"+branch, ""), branch)
		assert.NotEqual(t, project.RefLabel("refs/proposed/7/head", "s"), project.Previews{}.LabelOf("refs/heads/"+branch, "s"),
			branch)
	}
	assert.NotEqual(t, label, project.RefLabel("refs/proposed/7-head", ""))
}

func TestMomentsToCome(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	azores, err := time.LoadLocation("Atlantic/Azores")
	require.NoError(t, err)
	for text, want := range map[string]string{
		"2h": "2026-11-01T14:00:00Z", "3d": "2026-11-04T12:00:00Z", "90s": "2026-11-01T12:01:30Z",
		"2026-12-27": "2026-12-27T01:00:00Z", "2026-12-27T08:00": "2026-12-27T09:00:00Z",
		"2026-12-27 08:00": "2026-12-27T09:00:00Z", "2026-12-27T08:00:05": "2026-12-27T09:00:05Z",
		"2026-12-27T08:00+02:00": "2026-12-27T06:00:00Z", "2026-12-27T08:00:00Z": "2026-12-27T08:00:00Z",
		// an hour that is left out there: the clock goes from midnight to one
		"2027-03-28T00:30": "2027-03-28T02:00:00Z",
	} {
		got, err := project.ParseMoment(text, now, azores)
		require.NoError(t, err, text)
		if text == "2027-03-28T00:30" {
			assert.WithinDuration(t, time.Date(2027, 3, 28, 1, 0, 0, 0, time.UTC), got, time.Hour, text)
			continue
		}
		assert.Equal(t, want, got.Format(time.RFC3339), text)
	}
	for _, text := range []string{"", "0s", "2026-11-01", "2026-11-01T10:59", "soon", "2026-13-01",
		"27.12.2026", "2026-12-27T25:00", "-1h"} {
		_, err := project.ParseMoment(text, now, azores)
		require.Error(t, err, "%q", text)
	}
	got, err := project.ParseMoment("1h", now.In(azores), nil)
	require.NoError(t, err)
	assert.True(t, got.Equal(now.Add(time.Hour)), "a not a duration is the same in every zone")
}

// TestLabelsOfPreviewsAreDistinctNames makes labels of
// branches that look alike.
func TestLabelsOfPreviewsAreDistinctNames(t *testing.T) {
	t.Parallel()
	branches := []string{"a", "A", "a-", "-a", "a/b", "a-b", "a_b", "a.b", "a/b/c", "ä", "ae", "winter-times",
		"Winter-Times", "winter_times", "refs/x", "日本", "中国", "", strings.Repeat("x", 40),
		strings.Repeat("x", 41),
		strings.Repeat("x", 200), strings.Repeat("x", 199) + "y", "a-0a1b2c3d", "preview",
		"x-" + strings.Repeat("a", 8), "feature/" + strings.Repeat("very-", 30) + "long"}
	seen := map[string]string{}
	for _, secret := range []string{"", "one", "another"} {
		for _, branch := range branches {
			label := project.Previews{}.LabelOf("refs/heads/"+branch, secret)
			assert.True(t, project.IsLabel(label), "%q: %q", branch, label)
			other, taken := seen[label]
			assert.False(t, taken, "%q and %q have the label %q", branch, other, label)
			seen[label] = branch
			assert.Equal(t, label, project.Previews{}.LabelOf("refs/heads/"+branch, secret), "it stays the same")
		}
	}
	assert.NotEqual(t, project.Previews{}.LabelOf("refs/heads/a", "one")[2:], project.Previews{}.LabelOf("refs/heads/b", "one")[2:])
}

// TestLabelsOfTemplates gives any two refs different labels, whatever they are
// called.
func TestLabelsOfTemplates(t *testing.T) {
	t.Parallel()
	previews := project.Previews{Labels: project.Labels{"refs/proposed/*/head": "change-*", "feature/*": "f-*-x"}}
	for ref, want := range map[string]string{
		"refs/proposed/7/head":          "change-7",
		"refs/heads/feature/piers":      "f-piers-x",
		"refs/heads/winter-times":       "winter-times",
		"refs/heads/change":             "change",
		"refs/heads/change-7":           "change-7-",
		"refs/heads/f-piers-x":          "f-piers-x-",
		"refs/heads/feature/Piers":      "feature-piers-",
		"refs/proposed/7-0a1b2c3d/head": "proposed-7-0a1b2c3d-head-",
		"refs/proposed/a/b/head":        "proposed-a-b-head-",
		"refs/proposed//head":           "proposed-head-",
	} {
		label := previews.LabelOf(ref, "")
		if strings.HasSuffix(want, "-") {
			assert.Regexp(t, "^"+want+"[0-9a-f]{8}$", label, ref)
		} else {
			assert.Equal(t, want, label, ref)
		}
		assert.True(t, project.IsLabel(label))
		assert.Regexp(t, "^"+label+"-[a-z2-7]{10}$", previews.LabelOf(ref, "secret"))
	}

	for text, want := range map[string]string{
		`{"refs/proposed/*/head": change}`:                            "needs a star on each side",
		`{"refs/proposed/7/head": change-*}`:                          "needs a star on each side",
		`{"refs/*/*/head": change-*}`:                                 "needs a star on each side",
		`{"refs/proposed/*/head": "*"}`:                               "text beside the star",
		`{"refs/proposed/*/head": "Change-*"}`:                        "cannot be part of an address",
		`{"refs/proposed/*/head": change-*, "feature/*": change-f-*}`: "could be the same label",
		`{"refs/proposed/*/head": change-*, "feature/*": "*-f"}`:      "could be the same label",
	} {
		_, err := project.Parse([]byte("site: a\npreviews: {labels: "+text+"}\n"), "orilla.yaml")
		require.ErrorContains(t, err, want, text)
	}
	config, err := project.Parse([]byte("site: a\n"+
		"previews:\n"+
		"  labels:\n"+
		"    refs/proposed/*/head: change-*\n"+
		"    \"feature/*\": f-*\n"),
		"orilla.yaml")
	require.NoError(t, err)
	assert.Equal(t, project.Labels{"refs/proposed/*/head": "change-*", "feature/*": "f-*"}, config.Previews.Labels)
}

// FuzzLabels makes sure that no two refs share a preview, and so an address.
func FuzzLabels(f *testing.F) {
	f.Add("refs/proposed/7/head", "refs/heads/change-7", "change-*")
	f.Add("refs/heads/feature/a", "refs/heads/f-a", "f-*")
	f.Fuzz(func(t *testing.T, one, other, made string) {
		text, err := json.Marshal(map[string]string{"refs/proposed/*/head": made, "feature/*": "f-*"})
		require.NoError(t, err)
		config, err := project.Parse([]byte(`{"site": "a", "previews": {"labels": `+string(text)+"}}"), "orilla.yaml")
		if err != nil || one == other || !strings.HasPrefix(one, "refs/") || !strings.HasPrefix(other, "refs/") {
			return
		}
		if a, b := config.Previews.LabelOf(one, ""), config.Previews.LabelOf(other, ""); a == b {
			t.Fatalf("%q and %q are both %s", one, other, a)
		}
	})
}
