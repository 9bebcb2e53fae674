package journal_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

// TestFormat2IsFrozen holds the bytes of what format 2 says besides fast, and
// that nothing else takes it.
func TestFormat2IsFrozen(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	from := noon.Add(time.Hour)
	entry, err := of(store).Append(t.Context(), journal.Entry{}, func(*journal.Entry) (journal.Entry, error) {
		return journal.Entry{Kind: journal.Deploy, Release: id("a"), Cause: "command", Who: "Ines Marrow",
			From: &from, Signature: "c2lnbmVk"}, nil
	})
	require.NoError(t, err)
	assert.Equal(t, journal.Format2, entry.Format)
	data, err := store.Get(t.Context(), storage.JournalKey("corvane", "production", 1))
	require.NoError(t, err)
	assert.Equal(t, `{"attempt":"`+entry.Attempt+
		`","cause":"command","environment":"production","format":2,"from":"2026-11-01T13:00:00Z","kind":"deploy","number":1,"release":"`+id("a").String()+
		`","signature":"c2lnbmVk","site":"corvane","when":"2026-11-01T12:00:00Z","who":"Ines Marrow"}`,
		string(data))
	for _, wrong := range []string{
		`{"attempt":"a","cause":"","environment":"e","format":1,"kind":"freeze","number":1,"signature":"x","site":"s","when":"2026-11-01T12:00:00Z","who":""}`,
		`{"attempt":"a","cause":"","environment":"e","format":2,"kind":"freeze","number":1,"site":"s","when":"2026-11-01T12:00:00Z","who":""}`,
	} {
		_, err = journal.Decode([]byte(wrong), "s", "e", 1)
		require.ErrorIs(t, err, journal.ErrDamaged, "each entry has the lowest format that can say it: %s",
			wrong)
	}
	assert.Equal(t, journal.Format, deploy(t, of(&memory.Store{}), "a").Format)
}

func TestAnEntryCountsFromItsMomentOn(t *testing.T) {
	t.Parallel()
	j := of(&memory.Store{})
	deploy(t, j, "a")
	from := noon.Add(time.Hour)
	later, err := j.Append(t.Context(), journal.Entry{}, func(*journal.Entry) (journal.Entry, error) {
		return journal.Entry{Kind: journal.Deploy, Release: id("b"), From: &from}, nil
	})
	require.NoError(t, err)
	before, err := j.Counting(t.Context(), later, from.Add(-1))
	require.NoError(t, err)
	assert.Equal(t, id("a"), before.Release)
	now, err := j.Counting(t.Context(), later, from)
	require.NoError(t, err)
	assert.Equal(t, id("b"), now.Release)
	_, err = of(&memory.Store{}).Counting(t.Context(), journal.Entry{Number: 1, From: &from}, noon)
	require.ErrorIs(t, err, journal.ErrEmpty)
}

// TestADocumentOfFormat2SaysMoreThanIsKnown and what it
// needs decides whether it is understood.
func TestADocumentOfFormat2SaysMoreThanIsKnown(t *testing.T) {
	t.Parallel()
	content, err := journal.DecodeDocument([]byte(
		`{"addresses":["https://www.corvane.example/"],"colour":"blue","format":2}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"https://www.corvane.example/"}, content.Addresses)
	_, err = journal.DecodeDocument([]byte(
		`{"addresses":["https://www.corvane.example/"],"format":2,"needs":["tides"],"tides":1}`))
	require.ErrorIs(t, err, journal.ErrUnknown)
	for _, wrong := range []string{`{"format":2,"addresses":[]}`, `{"format":1,"needs":["tides"]}`,
		`{"colour":"blue","format":1}`} {
		_, err = journal.DecodeDocument([]byte(wrong))
		require.ErrorIs(t, err, journal.ErrDamaged, wrong)
	}
	_, err = journal.DecodeDocument([]byte(`{"format":3}`))
	require.ErrorIs(t, err, journal.ErrUnknown)
	document, err := journal.NewDocument(content, "")
	require.NoError(t, err)
	assert.Equal(t, digest.Of([]byte(`{"addresses":["https://www.corvane.example/"],"format":1}`)),
		document.Digest, "what is written is format 1 as long as that can say it")
}
