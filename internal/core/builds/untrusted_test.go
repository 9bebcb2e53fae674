package builds_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/builds"
)

// TestRecordsSayWhoMadeThem: trusted builds are written as before; the others
// so that earlier programs pass them over.
func TestRecordsSayWhoMadeThem(t *testing.T) {
	t.Parallel()
	trusted, err := builds.Record{Key: "k", Number: 1, Outcome: builds.Succeeded}.Encode()
	require.NoError(t, err)
	assert.Equal(t, `{"finished":"0001-01-01T00:00:00Z","format":1,"key":"k","number":1,"outcome":"succeeded","source":"","started":"0001-01-01T00:00:00Z","who":""}`, string(trusted))

	how := &builds.Untrusted{Isolation: builds.IsolationNone}
	untrusted, err := builds.Record{Key: "k", Number: 1, Outcome: builds.Succeeded, Untrusted: how}.Encode()
	require.NoError(t, err)
	assert.Contains(t, string(untrusted), `"format":2`)
	for _, data := range [][]byte{trusted, untrusted} {
		_, err := builds.Decode(data)
		require.NoError(t, err)
	}
	// A record that hides who made it, or has the wrong
	// number for what it says, is none.
	for _, text := range []string{strings.Replace(string(untrusted), `"format":2`, `"format":1`, 1),
		strings.Replace(string(trusted), `"format":1`, `"format":2`, 1),
		strings.Replace(string(trusted), `"format":1`, `"format":3`, 1)} {
		_, err := builds.Decode([]byte(text))
		require.ErrorIs(t, err, builds.ErrUnreadable, text)
	}

	assert.True(t, (*builds.Untrusted)(nil).Contained())
	assert.False(t, how.Contained())
	assert.True(t, (&builds.Untrusted{Isolation: builds.IsolationBubblewrap, Network: "none"}).Contained())
	assert.True(t, (&builds.Untrusted{Isolation: builds.IsolationNoSteps}).Contained())
	assert.False(t, (&builds.Untrusted{Isolation: "something new"}).
		Contained(), "what is not known holds nothing")
}
