package project_test

import (
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
