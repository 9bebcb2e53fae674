package journal_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/store/memory"
)

func at(t time.Time) *time.Time { return &t }

// TestRecordsOfPreviewsAreFrozen holds the bytes of what entries and documents
// say of access, expiry, removal and settings fast.
func TestRecordsOfPreviewsAreFrozen(t *testing.T) {
	t.Parallel()
	entry := journal.Entry{
		Format: 1, Site: "corvane", Environment: "preview.x", Number: 2, Attempt: "a", Kind: journal.Access,
		Release: id("a"), Cause: "command", Who: "Ines Marrow", When: noon,
		Expires: at(noon.Add(time.Hour)),
		Access: &journal.Looking{Password: "$2a$10$x", User: "quay",
			Shares: []journal.Share{{Digest: digest.Of([]byte("s")), Until: noon, Who: "Ines Marrow",
				Why: "for Tobias"}}},
	}
	data, err := entry.Encode()
	require.NoError(t, err)
	assert.Equal(t, `{"access":{"password":"$2a$10$x","shares":[{"digest":"043a718774c572bd8a25adbeb1bfcd5c0256ae11cecf9f9c3f925d0e52beaf89","until":"2026-11-01T12:00:00Z",`+
		`"who":"Ines Marrow","why":"for Tobias"}],"user":"quay"},"attempt":"a","cause":"command","environment":"preview.x","expires":"2026-11-01T13:00:00Z","format":1,`+
		`"kind":"access","number":2,"release":"ca978112ca1bbdcafac231b39a23dc4da786eff8147c4e72b9807785afee48bb","site":"corvane","when":"2026-11-01T12:00:00Z","who":"Ines Marrow"}`, string(data))
	again, err := journal.Decode(data, "corvane", "preview.x", 2)
	require.NoError(t, err)
	assert.Equal(t, entry.Access, again.Access)
	ended := journal.Entry{Format: 1, Site: "corvane", Environment: "preview.x", Number: 3, Attempt: "b",
		Kind: journal.Removal, Who: "x", When: noon,
		Ended: &journal.Ended{Reason: journal.Merged, Into: "production", Commit: "c", Branch: "b"}}
	data, err = ended.Encode()
	require.NoError(t, err)
	assert.Equal(t, `{"attempt":"b","cause":"","ended":{"branch":"b","commit":"c","into":"production","reason":"merged"},"environment":"preview.x","format":1,"kind":"removal","number":3,"site":"corvane","when":"2026-11-01T12:00:00Z","who":"x"}`, string(data))
	document, err := journal.NewDocument(journal.DocumentContent{Settings: []byte(
		`{"api":"https://x.example"}`), SettingsPath: "/settings.json"}, "")
	require.NoError(t, err)
	assert.Equal(t, `{"format":1,"settings":{"api":"https://x.example"},"settings_path":"/settings.json"}`,
		string(document.Data))
}

// TestWhoMayLookOutlivesEveryOtherDecision makes every kind of entry after a
// password was set: none may open the environment.
func TestWhoMayLookOutlivesEveryOtherDecision(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	set := func(hash string) journal.Decide {
		return journal.SetAccess(func(now journal.Looking) (*journal.Looking,
			error) {
			now.Password = hash
			return &now, nil
		}, "command", "x", "")
	}
	first, err := j.Append(t.Context(), journal.Entry{}, set("before anything was live"))
	require.NoError(t, err, "a password may be there first")
	assert.True(t, first.Access.Protects())
	assert.True(t, deploy(t, j, "a").Access.Protects())
	document, err := journal.NewDocument(journal.DocumentContent{Addresses: []string{"https://x.example/"}},
		"")
	require.NoError(t, err)
	for what, decide := range map[string]journal.Decide{
		"deploy": journal.Activate(journal.Deploy, journal.Move{Release: id("b")}, noon),
		"promotion": journal.Activate(journal.Promotion,
			journal.Move{Release: id("c"), Expires: at(noon.Add(time.Hour))}, noon),
		"rollback": j.Return(t.Context(),
			journal.Back{To: func(e journal.Entry) bool { return e.Release == id("a") }}),
		"freeze":   journal.SetFrozen(&journal.Frozen{Who: "x"}, "command", "x", "", noon),
		"settings": journal.SetDocument(document, false, "command", "x", "", noon),
		"expiry":   journal.SetExpiry(at(noon.Add(2*time.Hour)), "command", "x", "", noon),
		"removal":  journal.Remove(journal.Ended{Reason: journal.OnRequest}, "command", "x", ""),
	} {
		j := of(&memory.Store{})
		deploy(t, j, "a")
		deploy(t, j, "d")
		_, err := j.Append(t.Context(), journal.Entry{}, set("hash"))
		require.NoError(t, err)
		if what == "rollback" {
			decide = j.Return(t.Context(),
				journal.Back{To: func(e journal.Entry) bool { return e.Release == id("a") }})
		}
		entry, err := j.Append(t.Context(), journal.Entry{}, decide)
		require.NoError(t, err, what)
		assert.Equal(t, "hash", entry.Access.Password, what)
		assert.True(t, deployAgain(t, j).Access.Protects(), "and a deploy after the %s", what)
	}
}

func deployAgain(t *testing.T, j *journal.Journal) journal.Entry {
	t.Helper()
	entry, err := j.Append(t.Context(), journal.Entry{},
		journal.Activate(journal.Deploy, journal.Move{Release: id("again"), DuringFreezeOK: true}, noon))
	require.NoError(t, err)
	return entry
}

func TestExpiryIsByTheLastActivationUnlessSomebodyExtendedIt(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	activate := func(now time.Time, after time.Duration) journal.Entry {
		entry, err := j.Append(t.Context(), journal.Entry{},
			journal.Activate(journal.Deploy, journal.Move{Release: id("a"), Expires: at(now.Add(after))},
				now))
		require.NoError(t, err)
		return entry
	}
	assert.Equal(t, noon.Add(time.Hour), *activate(noon, time.Hour).Expires)
	assert.Equal(t, noon.Add(90*time.Minute), *activate(noon.Add(30*time.Minute), time.Hour).Expires,
		"it counts anew")
	extended, err := j.Append(t.Context(), journal.Entry{}, journal.SetExpiry(at(noon.Add(9*time.Hour)),
		"command", "x", "", noon))
	require.NoError(t, err)
	assert.False(t, extended.Gone(noon.Add(9*time.Hour-1)))
	assert.True(t, extended.Gone(noon.Add(9*time.Hour)))
	assert.Equal(t, noon.Add(9*time.Hour), *activate(noon.Add(time.Hour), time.Hour).Expires,
		"what was extended stays so")
	assert.Equal(t, noon.Add(11*time.Hour), *activate(noon.Add(10*time.Hour), time.Hour).Expires,
		"once it is over, it counts anew")
	for _, zone := range []string{"Atlantic/Azores", "Pacific/Auckland"} {
		place, err := time.LoadLocation(zone)
		require.NoError(t, err)
		assert.True(t, extended.Gone(noon.Add(9*time.Hour).In(place)), "a moment is a moment everywhere")
	}
	_, err = j.Append(t.Context(), journal.Entry{}, journal.Remove(journal.Ended{Reason: journal.Expired},
		"follow", "x", ""))
	require.NoError(t, err)
	_, err = j.Append(t.Context(), journal.Entry{}, journal.Remove(journal.Ended{}, "follow", "x", ""))
	require.ErrorIs(t, err, journal.ErrGone)
	_, err = j.Append(t.Context(), journal.Entry{}, journal.SetExpiry(nil, "command", "x", "", noon))
	require.ErrorIs(t, err, journal.ErrGone)
	back, err := j.Append(t.Context(), journal.Entry{}, j.Return(t.Context(), journal.Back{}))
	require.NoError(t, err)
	assert.Equal(t, id("a"), back.Release, "a rollback of what was removed brings its last release back")
}

func TestAFreezeThatEndsByItselfNeedsNoThaw(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	deploy(t, j, "a")
	_, err := j.Append(t.Context(), journal.Entry{},
		journal.SetFrozen(&journal.Frozen{Who: "x", When: noon, Until: at(noon.Add(time.Hour))}, "command",
			"x", "", noon))
	require.NoError(t, err)
	move := journal.Move{Release: id("b")}
	_, err = j.Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, move,
		noon.Add(time.Hour-1)))
	require.ErrorIs(t, err, journal.ErrFrozen)
	document, err := journal.NewDocument(journal.DocumentContent{Addresses: []string{"https://x.example/"}},
		"")
	require.NoError(t, err)
	_, err = j.Append(t.Context(), journal.Entry{}, journal.SetDocument(document, true, "follow", "x", "",
		noon))
	require.ErrorIs(t, err, journal.ErrFrozen, "nor do its addresses change by themselves")
	_, err = j.Append(t.Context(), journal.Entry{}, journal.SetFrozen(nil, "command", "x", "",
		noon.Add(time.Hour)))
	require.ErrorIs(t, err, journal.ErrAlready)
	entry, err := j.Append(t.Context(), journal.Entry{}, journal.Activate(journal.Deploy, move,
		noon.Add(time.Hour)))
	require.NoError(t, err)
	assert.Nil(t, entry.Frozen)
	_, err = j.Append(t.Context(), journal.Entry{},
		journal.SetAccess(func(journal.Looking) (*journal.Looking, error) { return nil, journal.ErrAlready },
			"command", "x", ""))
	var refusal *journal.Refusal
	require.ErrorAs(t, err, &refusal)
	assert.EqualValues(t, 3, refusal.Entry.Number)
}

func TestWhatARollbackLeftIsKnown(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	for _, name := range []string{"a", "b", "c"} {
		deploy(t, j, name)
	}
	commit := func(name string) func(journal.Entry) bool {
		return func(e journal.Entry) bool { return e.Commit == name }
	}
	left := func(name string) bool {
		head, err := j.Head(t.Context(), 0)
		require.NoError(t, err)
		_, _, found := j.LeftBy(t.Context(), head, commit(name))
		return found
	}
	assert.False(t, left("b"), "nothing was rolled back")
	_, err := back(t, j, commit("a"))
	require.NoError(t, err)
	_, err = j.Append(t.Context(), journal.Entry{}, journal.SetFrozen(&journal.Frozen{Who: "x"}, "command",
		"x", "", noon))
	require.NoError(t, err)
	assert.Equal(t, []bool{true, true, false, false}, []bool{left("c"), left("b"), left("a"), left("d")})
	_, err = j.Append(t.Context(), journal.Entry{}, journal.SetFrozen(nil, "command", "x", "", noon))
	require.NoError(t, err)
	assert.True(t, left("c"), "a thaw does not change that")
	deploy(t, j, "d")
	assert.False(t, left("c"), "what was put live since does")
}

func TestChangesOfADocumentAreTold(t *testing.T) {
	t.Parallel()
	before := journal.DocumentContent{Addresses: []string{"https://a.example/"},
		Upstreams: map[string]string{"harbour": "https://h.example"}, Settings: []byte(`1`),
		SettingsPath: "/a.json"}
	after := journal.DocumentContent{Addresses: []string{"https://b.example/"},
		Upstreams: map[string]string{"quay": "https://q.example"}, Settings: []byte(`2`),
		SettingsPath: "/b.json",
		Retention:    &journal.Retention{Releases: 3, Seconds: 3600}}
	assert.Equal(t, []string{
		"addresses: https://a.example/ -> https://b.example/", "upstream harbour: https://h.example -> none",
		"upstream quay: none -> https://q.example", "settings: 1 -> 2",
		"settings are at: /a.json -> /b.json", "retention: none -> 3 releases, and those of the last 1h0m0s",
	}, after.Changes(before))
	assert.Empty(t, before.Changes(before))
}

// TestLinksThatAreSharedAtOnceAreAllKept lets many writers
// change who may look at the same moment.
func TestLinksThatAreSharedAtOnceAreAllKept(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	deploy(t, of(store), "a")
	var people sync.WaitGroup
	for n := range 16 {
		people.Go(func() {
			share := journal.Share{Digest: digest.Of(fmt.Append(nil, n)), Until: noon, Who: fmt.Sprint(n)}
			_, err := of(store).Append(t.Context(), journal.Entry{},
				journal.SetAccess(func(now journal.Looking) (*journal.Looking, error) {
					now.Shares = append(now.Shares, share)
					return &now, nil
				}, "command", "x", ""))
			assert.NoError(t, err)
		})
	}
	people.Wait()
	head, err := of(store).Head(t.Context(), 0)
	require.NoError(t, err)
	assert.EqualValues(t, 17, head.Number)
	kept := map[string]bool{}
	for _, share := range head.Access.Shares {
		kept[share.Who] = true
	}
	assert.Len(t, kept, 16, "no change is lost")
	early, err := of(store).Get(t.Context(), 3)
	require.NoError(t, err)
	assert.Len(t, early.Access.Shares, 2, "and no entry is changed by a later one")
}

// TestAJournalMayBeginWithADocument says where an environment is before anything is live
// there, and of one that was removed: that stays so.
func TestAJournalMayBeginWithADocument(t *testing.T) {
	t.Parallel()
	j, document := of(&memory.Store{}), journal.Document{Digest: digest.Of([]byte("addresses")), Commit: "c1"}
	set := func(d journal.Document) (journal.Entry, error) {
		return j.Append(t.Context(), journal.Entry{}, journal.SetDocument(d, false, "command", "Ines Marrow", "", noon))
	}
	entry, err := set(document)
	require.NoError(t, err)
	assert.Equal(t, int64(1), entry.Number)
	assert.True(t, entry.NeverLive())
	_, err = set(document)
	require.ErrorIs(t, err, journal.ErrAlready)

	move := journal.Move{Release: id("a"), KeepDocument: true}
	entry, err = j.Append(t.Context(), entry, journal.Activate(journal.Deploy, move, noon))
	require.NoError(t, err)
	assert.Equal(t, document.Digest, entry.Document)
	assert.False(t, entry.NeverLive())
	entry, err = j.Append(t.Context(), entry, journal.Remove(journal.Ended{Reason: journal.OnRequest}, "command", "x", ""))
	require.NoError(t, err)
	assert.False(t, entry.NeverLive())
	entry, err = set(journal.Document{})
	require.NoError(t, err)
	assert.Equal(t, journal.OnRequest, entry.Ended.Reason)
	assert.False(t, entry.NeverLive(), "what was removed does not wait for its first deploy")
}
