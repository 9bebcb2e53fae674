package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/view"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

func state(name string, change func(*journal.Entry)) environments.State {
	entry := &journal.Entry{Kind: journal.Deploy, Release: release.ID(digest.Of([]byte(name))), When: noon}
	change(entry)
	return environments.State{Name: name, Head: entry}
}

func TestWhichEnvironmentsAreShown(t *testing.T) {
	t.Parallel()
	past, future := noon.Add(-time.Hour), noon.Add(time.Hour)
	states := []environments.State{
		{Name: "production"}, state("staging",
			func(e *journal.Entry) { e.Frozen = &journal.Frozen{} }),
		state("fair", func(e *journal.Entry) { e.Release = release.ID{}; e.Ended = &journal.Ended{} }),
		state("preview.a", func(e *journal.Entry) { e.When = past }),
		state("preview.b", func(e *journal.Entry) { e.Expires = &future }),
		state("preview.c", func(e *journal.Entry) { e.Expires = &past }),
		state("preview.d", func(e *journal.Entry) { e.Release = release.ID{}; e.Kind = journal.Removal }),
		state("preview.e", func(e *journal.Entry) { e.Frozen = &journal.Frozen{Until: &past}; e.When = future }),
		state("preview.f", func(e *journal.Entry) { e.Release = release.ID{}; e.Kind = journal.Access }),
	}
	for _, test := range []struct {
		states []string
		limit  int
		want   []string
	}{
		{nil, 0, []string{"production waiting", "staging frozen", "fair removed", "preview.e live",
			"preview.b live", "preview.c expired", "preview.f waiting", "preview.a live"}},
		{nil, 2, []string{"production waiting", "staging frozen", "fair removed", "preview.e live",
			"preview.b live"}},
		{[]string{view.StateExpired}, 0, []string{"preview.c expired"}},
		{[]string{view.StateRemoved}, 0, []string{"fair removed", "preview.d removed"}},
		{[]string{view.StateFrozen, view.StateRemoved}, 0, []string{"staging frozen", "fair removed",
			"preview.d removed"}},
		{[]string{view.StateLive}, 1, []string{"preview.e live"}},
		{[]string{view.StateUnused, view.StateExpired}, 0, []string{"production waiting", "preview.c expired",
			"preview.f waiting"}},
	} {
		got := []string{}
		for _, s := range chosen(states, statusOptions{states: test.states, limit: test.limit}, noon) {
			got = append(got, s.Name+" "+view.StateOf(s.Head, noon))
		}
		assert.Equal(t, test.want, got, "%v %d", test.states, test.limit)
	}
}

func TestPatternsOfNames(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		patterns []string
		name     string
		want     bool
	}{
		{nil, "anything", true}, {[]string{"winter-*"}, "preview.winter-times",
			true}, {[]string{"preview/winter-*"}, "preview.winter-times", true},
		{[]string{"*"}, "preview.x", true},
		{[]string{"summer", "winter-times"}, "preview.winter-times", true},
		{[]string{"winter"}, "preview.winter-times", false},
		{[]string{"w[aeiou]nter-?imes"}, "preview.winter-times", true}, {[]string{"["}, "preview.x", false},
	} {
		assert.Equal(t, test.want, matchesPreview(test.patterns, test.name), "%v %s", test.patterns,
			test.name)
	}
}
