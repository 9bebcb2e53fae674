package storage_test

import (
	"cmp"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
)

// TestEveryKeyIsOfAKind asks for the kind of each key that
// docs/store-format.md lists.
func TestEveryKeyIsOfAKind(t *testing.T) {
	t.Parallel()
	for key, pattern := range map[string]string{
		storage.MarkKey: "orilla-store", "objects/ab/ab12": "objects/**", storage.ClaimKey(
			"corvane"): "sites/SITE/claim",
		storage.ReleaseKey("corvane", "ab"):                 "sites/SITE/releases/*",
		storage.BuildKey("corvane", "ab", 1):                "sites/SITE/builds/**",
		storage.JournalKey("corvane", "production", 1):      "sites/SITE/environments/*/journal/*",
		storage.OutcomeKey("corvane", "production", 1):      "sites/SITE/environments/*/outcomes/*",
		storage.WaitingKey("corvane", "production") + "/ab": "sites/SITE/environments/*/waiting/*",
		storage.RunBegunKey("corvane", 1):                   "sites/SITE/runs/**",
		storage.RunningKey("corvane", "ab") + ".lease":      "sites/SITE/running/*",
		storage.FollowersKey("corvane") + "/x":              "sites/SITE/followers/*",
		storage.NoticeKey("corvane", 7):                     "sites/SITE/notices/*",
		storage.PausedKey("corvane"):                        "sites/SITE/paused",
		storage.PulseKey("corvane"):                         "pulse/SITE",
		storage.PinKey("x"):                                 "pins/*", "prune/x.list": "prune/*",
		storage.EdgeKey("x"): "edges/*", "probe/x": "probe/*",
	} {
		t.Run(key, func(t *testing.T) {
			kind, known := storage.KindOf(key)
			assert.True(t, known, key)
			assert.Equal(t, pattern, kind.Pattern, key)
		})
	}
	for _, key := range []string{"sites", "sites/corvane", "sites/corvane/else", "sites/corvane/claim/x",
		"pins", "pins/x/y", "objects", "elsewhere"} {
		_, known := storage.KindOf(key)
		assert.False(t, known, key)
	}
}

// row is how docs/stores.md tells of a kind.
func row(kind storage.Kind) string {
	list := func(roles []storage.Role) string {
		var names []string
		for _, role := range roles {
			names = append(names, string(role))
		}
		return cmp.Or(strings.Join(names, ", "), "-")
	}
	return fmt.Sprintf("| `%s` | %s | %s | %s | %s |", kind.Pattern, kind.What, list(kind.Create),
		list(kind.Replace), list(kind.Delete))
}

func TestTheTableOfRightsIsTold(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../../docs/stores.md")
	require.NoError(t, err)
	var rows []string
	for _, kind := range storage.Kinds {
		rows = append(rows, row(kind))
	}
	assert.Contains(t, string(page), strings.Join(rows, "\n")+"\n\n",
		"docs/stores.md should say\n%s", strings.Join(rows, "\n"))
}

// TestNobodyWritesMoreThanItsRole holds what must never be:
// an edge node writes no content but encoded copies, which everybody proves, and what only
// nodes can open, and counts of visits, which decide nothing; a deployer deletes nothing
// that counts, and nobody but a prune replaces what counts.
func TestNobodyWritesMoreThanItsRole(t *testing.T) {
	t.Parallel()
	for _, kind := range storage.Kinds {
		if kind.Pattern != "edges/*" && kind.Pattern != "variants/**" &&
			kind.Pattern != "certificates/*/*" && kind.Pattern != "traffic/SITE/*/*" && kind.Pattern != "salts/*" {
			assert.False(t, kind.Writes(storage.Edge) || kind.Deletes(storage.Edge), kind.Pattern)
		}
		switch kind.Pattern {
		case "sites/SITE/releases/*", "sites/SITE/builds/**", "sites/SITE/environments/*/journal/*",
			"sites/SITE/runs/**":
			assert.False(t, kind.Deletes(storage.Deployer), kind.Pattern)
			assert.NotContains(t, kind.Replace, storage.Deployer, kind.Pattern)
		case "objects/**":
			assert.False(t, kind.Deletes(storage.Deployer), kind.Pattern)
		}
	}
}
