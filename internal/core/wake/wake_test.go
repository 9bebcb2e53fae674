package wake_test

import (
	"crypto/ed25519"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/wake"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

// TestOnlyWhoKnowsTheSitesKeyWakes changes each part of a call.
func TestOnlyWhoKnowsTheSitesKeyWakes(t *testing.T) {
	t.Parallel()
	call := wake.NewCall("corvane", noon)
	call.Look = map[string]int64{"production": 12}
	call.Coming = strings.Repeat("a", 64)
	body, signature, err := call.Sign("k3v9")
	require.NoError(t, err)
	opened, err := wake.Open(body, signature, "k3v9", noon.Add(time.Minute))
	require.NoError(t, err)
	assert.Equal(t, call, opened)
	site, err := wake.SiteOf(body)
	require.NoError(t, err)
	assert.Equal(t, "corvane", site)
	again := wake.NewCall("corvane", noon)
	assert.NotEqual(t, call.Nonce, again.Nonce)

	other := []byte(strings.Replace(string(body), "12", "13", 1))
	for name, c := range map[string]struct {
		body           []byte
		signature, key string
		now            time.Time
		err            error
	}{
		"another key":       {body, signature, "k3v8", noon, wake.ErrForged},
		"no key":            {body, signature, "", noon, wake.ErrForged},
		"another number":    {other, signature, "k3v9", noon, wake.ErrForged},
		"no signature":      {body, "", "k3v9", noon, wake.ErrForged},
		"a short signature": {body, signature[:62], "k3v9", noon, wake.ErrForged},
		"no hex":            {body, "zz", "k3v9", noon, wake.ErrForged},
		"too late":          {body, signature, "k3v9", noon.Add(wake.Late + time.Second), wake.ErrLate},
		"too early":         {body, signature, "k3v9", noon.Add(-wake.Late - time.Second), wake.ErrLate},
		"nothing":           {nil, signature, "k3v9", noon, wake.ErrMalformed},
		"another format":    {[]byte(`{"format":2,"site":"x","nonce":"y"}`), signature, "k3v9", noon, wake.ErrMalformed},
		"no site":           {[]byte(`{"format":1,"nonce":"y"}`), signature, "k3v9", noon, wake.ErrMalformed},
	} {
		_, err := wake.Open(c.body, c.signature, c.key, c.now)
		require.ErrorIs(t, err, c.err, name)
	}
	many := wake.NewCall("corvane", noon)
	many.Look = map[string]int64{}
	for i := range wake.MaxLook + 1 {
		many.Look[fmt.Sprint("e", i)] = 1
	}
	body, signature, err = many.Sign("k3v9")
	require.NoError(t, err)
	_, err = wake.Open(body, signature, "k3v9", noon)
	require.ErrorIs(t, err, wake.ErrMalformed)
}

// TestWhatANodeSaysIsItsOwn checks answers under keys and nonces.
func TestWhatANodeSaysIsItsOwn(t *testing.T) {
	t.Parallel()
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	stranger, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	answer := wake.Answer{Node: "pier-443", State: "ready", Serves: map[string]wake.Serving{
		"production": {Entry: 12, Attempt: "a", Release: "9be0", Milliseconds: 3.25}}}
	body, signature, err := answer.Sign(private, "nonce")
	require.NoError(t, err)
	assert.Equal(t, `{"format":1,"node":"pier-443","state":"ready","serves":{"production":{"entry":12,"attempt":"a","release":"9be0","milliseconds":3.25}}}`+
		"\n", string(body))
	key := wake.FormatKey(public)
	read, proved, err := wake.Read(body, signature, "nonce", key)
	require.NoError(t, err)
	assert.True(t, proved)
	assert.Equal(t, answer.Serves, read.Serves)
	for name, c := range map[string]struct{ signature, nonce, key string }{
		"another call":  {signature, "other", key},
		"another node":  {signature, "nonce", wake.FormatKey(stranger)},
		"no key":        {signature, "nonce", ""},
		"a short key":   {signature, "nonce", "ed25519:AAAA"},
		"no signature":  {"", "nonce", key},
		"another form":  {"!", "nonce", key},
		"another order": {signature[1:], "nonce", key},
	} {
		_, proved, err := wake.Read(body, c.signature, c.nonce, c.key)
		require.NoError(t, err, name)
		assert.False(t, proved, name)
	}
	_, _, err = wake.Read([]byte("<html>"), signature, "nonce", key)
	require.ErrorIs(t, err, wake.ErrMalformed)
	parsed, err := wake.ParseKey(key)
	require.NoError(t, err)
	assert.Equal(t, public, parsed)
}

// FuzzOpen opens whatever comes: nothing unsigned is opened.
func FuzzOpen(f *testing.F) {
	body, signature, err := wake.NewCall("corvane", noon).Sign("k3v9")
	require.NoError(f, err)
	f.Add(body, signature)
	f.Fuzz(func(t *testing.T, data []byte, given string) {
		call, err := wake.Open(data, given, "k3v9", noon)
		if err != nil {
			return
		}
		again, _, err := call.Sign("k3v9")
		require.NoError(t, err)
		_, err = wake.SiteOf(again)
		require.NoError(t, err)
	})
}
