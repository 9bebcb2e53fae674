package lost_test

import (
	"context"
	"iter"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/lost"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/traffic"
)

// side is a release with rules and files.
func side(t *testing.T, text string, files map[string]string) difference.Side {
	t.Helper()
	program, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}}, rules.Options{})
	require.Empty(t, found)
	set, err := program.Compile()
	require.NoError(t, err)
	var list []release.File
	for _, path := range slices.Sorted(maps.Keys(files)) {
		list = append(list, release.File{Path: path, Digest: digest.Of([]byte(files[path])),
			Size: int64(len(files[path])), Type: media.Type(path, true)})
	}
	return difference.Side{Files: list, Rules: program.Rules, Now: time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC),
		Base: "/ferries", Site: answer.Site{Files: check.Map(list), Rules: set},
		Open: func(_ context.Context, file release.File) ([]byte, error) { return []byte(files[file.Path]), nil }}
}

// earlier yields releases, and counts how many were asked for.
func earlier(asked *int, list ...lost.Earlier) iter.Seq2[lost.Earlier, error] {
	return func(yield func(lost.Earlier, error) bool) {
		for _, one := range list {
			*asked++
			if !yield(one, nil) {
				return
			}
		}
	}
}

// TestWhereVisitorsShouldBeLed proposes what is known, and nothing else.
func TestWhereVisitorsShouldBeLed(t *testing.T) {
	t.Parallel()
	const kraken = "the kraken is a ferry of three decks, and sails between the islands twice a day"
	live := side(t, "gone /forever\nredirect /mended -> /fares/", map[string]string{"index.html": "front",
		"fares/index.html": "fares", "boats/kraken/index.html": kraken, "about.html": "about",
		"time-table/index.html": "times", "harbour/opening-hours/index.html": "hours", "app-2.js": "x",
		"planner/index.html": "p"})
	before := side(t, "redirect /timetables -> /time-table/", map[string]string{"index.html": "front",
		"ships/kraken/index.html": kraken, "winter/index.html": "snow", "time-table/index.html": "times"})
	app := side(t, "fallback /{rest:all} -> /index.html", map[string]string{"index.html": "app"})
	var names []traffic.Name
	for i, path := range []string{"/ferries/ships/kraken/", "/ferries/ships/kraken", "/ferries/timetables",
		"/ferries/winter/", "/ferries/Fares", "/ferries/fares.php", "/ferries/index.html.html", "/ferries/old/opening-hours",
		"/ferries/time_table", "/ferries/harbuor/opening-hours", "/ferries/wp-login.php", "/ferries/app-1.js",
		"/ferries/mended", "/ferries/forever", "/elsewhere", "/ferries/x", "/ferries/%zz"} {
		names = append(names, traffic.Name{Name: path, Requests: int64(100 - i), Own: 1})
	}
	asked := 0
	list, err := lost.Find(t.Context(), live, earlier(&asked, lost.Earlier{Label: "production:13", Side: app},
		lost.Earlier{Label: "production:12", Side: before}), names)
	require.NoError(t, err)
	got := map[string][2]string{}
	for _, a := range list {
		got[a.Path] = [2]string{a.Rule, a.Why}
		if a.Rule != "" {
			// What is proposed does what it says, and leads to what is there.
			program, found := rules.Parse([]rules.Source{{Name: "more.rules", Text: []byte(a.Rule)}}, rules.Options{})
			require.Empty(t, found, a.Rule)
			set, err := program.Compile()
			require.NoError(t, err)
			site := live.Site
			site.Rules = set
			answered, err := answer.Decide(t.Context(), answer.Request{Method: "GET", Path: "/ferries" + a.Path,
				Base: "/ferries", Scheme: "https", Now: live.Now}, site)
			require.NoError(t, err)
			assert.Equal(t, "/ferries"+a.To, answered.Location, a.Rule)
		}
	}
	assert.Equal(t, map[string][2]string{
		"/ships/kraken/":     {"redirect /ships/kraken -> /boats/kraken/", "it moved after production:12"},
		"/timetables":        {"redirect /timetables -> /time-table/", "a rule led there until production:12"},
		"/winter/":           {"", "it was there until production:12"},
		"/Fares":             {"redirect /Fares -> /fares/", "it is written otherwise"},
		"/fares.php":         {"redirect /fares.php -> /fares/", "it is written otherwise"},
		"/old/opening-hours": {"redirect /old/opening-hours -> /harbour/opening-hours/", "the only page of that name"},
		"/time_table":        {"redirect /time_table -> /time-table/", "it is written otherwise"},
		"/harbuor/opening-hours": {"redirect /harbuor/opening-hours -> /harbour/opening-hours/",
			"the only page of that name"},
		"/index.html.html": {"", ""}, "/wp-login.php": {"", ""}, "/app-1.js": {"", ""}, "/x": {"", ""},
	}, got)
	assert.Equal(t, 2, asked)
	assert.Equal(t, int64(100+99), list[0].Requests, "with the slash and without are one address")

	// Nothing is read of earlier releases when there is nothing to find.
	list, err = lost.Find(t.Context(), live, earlier(&asked, lost.Earlier{Side: before}),
		[]traffic.Name{{Name: "/ferries/mended", Requests: 9}})
	require.NoError(t, err)
	assert.Empty(t, list)
	assert.Equal(t, 2, asked)
}
