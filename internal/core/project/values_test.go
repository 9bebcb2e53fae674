package project_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/project"
)

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "10m": 10 * time.Minute, "24h": 24 * time.Hour, "7d": 7 * 24 * time.Hour, "1d12h": 36 * time.Hour, "0s": 0, "1h30m": 90 * time.Minute,
	} {
		got, err := project.ParseDuration(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, time.Duration(got), text)
	}
	for _, text := range []string{"", "7", "d", "-1h", "1w", "99999999999d", "1d-1h", "1d2d"} {
		_, err := project.ParseDuration(text)
		assert.Error(t, err, text)
	}
}

func TestSizes(t *testing.T) {
	for text, want := range map[string]project.Size{
		"0": 0, "512": 512, "500kB": 500_000, "1.5 MB": 1_500_000, "10GB": 10_000_000_000, "2TB": 2_000_000_000_000, "7B": 7,
	} {
		got, err := project.ParseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "-1", "1 kilobyte", "MB", "1,5MB", "1e6"} {
		_, err := project.ParseSize(text)
		assert.Error(t, err, text)
	}
}

func TestPreviewPatterns(t *testing.T) {
	for _, test := range []struct {
		patterns []string
		branch   string
		want     bool
	}{
		{[]string{"*"}, "any/branch", true}, {nil, "any", false}, {[]string{"feature/*"}, "feature/a/b", true}, {[]string{"feature/*"}, "fix/a", false},
		{[]string{"*", "!bot/*"}, "bot/up", false}, {[]string{"*", "!bot/*", "bot/keep"}, "bot/keep", true}, {[]string{"main"}, "main2", false},
		{[]string{"*-times"}, "winter-times", true}, {[]string{"w*t*s"}, "winter-times", true}, {[]string{"w*x*s"}, "winter-times", false}, {[]string{"a*a"}, "a", false},
	} {
		assert.Equal(t, test.want, project.Previews{Follows: test.patterns}.FollowsBranch(test.branch), "%v %s", test.patterns, test.branch)
	}
}

// TestPatternsOfRefsAndOfWhoGetsSecrets: the last pattern that matches decides, and refs that are no branches only match their own.
func TestPatternsOfRefsAndOfWhoGetsSecrets(t *testing.T) {
	previews := project.Previews{Refs: []string{"refs/proposed/*/head", "!refs/proposed/draft-*"}}
	for ref, follows := range map[string]bool{"refs/proposed/7/head": true, "refs/proposed/a/b/head": true, "refs/proposed/draft-7/head": false, "refs/proposed/7/merge": false, "refs/heads/main": false} {
		assert.Equal(t, follows, previews.FollowsRef(ref), ref)
	}
	for _, test := range []struct {
		patterns []string
		name     string
		given    bool
	}{
		{[]string{"*"}, "main", true}, {[]string{"*"}, "refs/proposed/7/head", false}, {[]string{"*", "refs/proposed/7/*"}, "refs/proposed/7/head", true},
		{[]string{"*", "!bot/*"}, "bot/updates", false}, {[]string{"main"}, "main-2", false}, {[]string{}, "main", false}, {[]string{"!*", "main"}, "main", true},
	} {
		build := project.Build{SecretsFor: test.patterns}
		assert.Equal(t, test.given, build.GivesSecrets(test.name), "%v %s", test.patterns, test.name)
	}
}

func TestMomentsToCome(t *testing.T) {
	now := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	azores, err := time.LoadLocation("Atlantic/Azores")
	require.NoError(t, err)
	for text, want := range map[string]string{
		"2h": "2026-11-01T14:00:00Z", "3d": "2026-11-04T12:00:00Z", "90s": "2026-11-01T12:01:30Z", "2026-12-27": "2026-12-27T01:00:00Z", "2026-12-27T08:00": "2026-12-27T09:00:00Z",
		"2026-12-27 08:00": "2026-12-27T09:00:00Z", "2026-12-27T08:00:05": "2026-12-27T09:00:05Z", "2026-12-27T08:00+02:00": "2026-12-27T06:00:00Z", "2026-12-27T08:00:00Z": "2026-12-27T08:00:00Z",
		"2027-03-28T00:30": "2027-03-28T02:00:00Z", // an hour that is left out there: the clock goes from midnight to one
	} {
		got, err := project.ParseMoment(text, now, azores)
		require.NoError(t, err, text)
		if text == "2027-03-28T00:30" {
			assert.WithinDuration(t, time.Date(2027, 3, 28, 1, 0, 0, 0, time.UTC), got, time.Hour, text)
			continue
		}
		assert.Equal(t, want, got.Format(time.RFC3339), text)
	}
	for _, text := range []string{"", "0s", "2026-11-01", "2026-11-01T10:59", "soon", "2026-13-01", "27.12.2026", "2026-12-27T25:00", "-1h"} {
		_, err := project.ParseMoment(text, now, azores)
		assert.Error(t, err, "%q", text)
	}
	got, err := project.ParseMoment("1h", now.In(azores), nil)
	require.NoError(t, err)
	assert.True(t, got.Equal(now.Add(time.Hour)), "a length of time is the same in every zone")
}

// TestLabelsOfPreviewsAreDistinctNames makes labels of branches that look alike.
func TestLabelsOfPreviewsAreDistinctNames(t *testing.T) {
	branches := []string{"a", "A", "a-", "-a", "a/b", "a-b", "a_b", "a.b", "a/b/c", "ä", "ae", "winter-times", "Winter-Times", "winter_times", "refs/x", "日本", "中国", "", strings.Repeat("x", 40), strings.Repeat("x", 41),
		strings.Repeat("x", 200), strings.Repeat("x", 199) + "y", "a-0a1b2c3d", "preview", "x-" + strings.Repeat("a", 8), "feature/" + strings.Repeat("very-", 30) + "long"}
	seen := map[string]string{}
	for _, secret := range []string{"", "one", "another"} {
		for _, branch := range branches {
			label := project.PreviewLabel(branch, secret)
			assert.True(t, project.IsLabel(label), "%q: %q", branch, label)
			other, taken := seen[label]
			assert.False(t, taken, "%q and %q have the label %q", branch, other, label)
			seen[label] = branch
			assert.Equal(t, label, project.PreviewLabel(branch, secret), "it stays the same")
		}
	}
	assert.NotEqual(t, project.PreviewLabel("a", "one")[2:], project.PreviewLabel("b", "one")[2:])
}
