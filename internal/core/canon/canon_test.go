package canon_test

import (
	"encoding/json"
	"testing"
	"unicode/utf8"

	"github.com/gowebpki/jcs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/canon"
)

func TestUnmarshalTakesOneSpelling(t *testing.T) {
	t.Parallel()
	type record struct {
		A int    `json:"a"`
		B string `json:"b"`
		C string `json:"c,omitempty"`
	}
	var r record
	require.NoError(t, canon.Unmarshal([]byte(`{"a":1,"b":"é"}`), &r))
	assert.Equal(t, record{1, "é", ""}, r)
	for _, other := range []string{`{"b":"é","a":1}`, `{"a": 1,"b":"é"}`, `{"a":1,"b":"\u00e9"}`,
		`{"A":1,"b":"é"}`, `{"a":1,"a":1,"b":"é"}`, `{"a":1}`, `{"a":1,"b":"é","c":""}`} {
		r = record{}
		require.ErrorIs(t, canon.Unmarshal([]byte(other), &r), canon.ErrNotCanonical, other)
	}
	for _, other := range []string{`{"a":1,"b":"","d":0}`, `{"a":1,"b":""}{}`, `{"a":1`, ``} {
		assert.Error(t, canon.Unmarshal([]byte(other), &r), other)
	}
}

// FuzzAppendString compares the fast path with the library
// that implements RFC 8785.
func FuzzAppendString(f *testing.F) {
	for _, seed := range []string{"", "boats/dunlin.html", `quote " back \ slash`, "\x00\x1f\x7f\b\f\n\r\t",
		"é 渡し船 \u2028 \U0001F6A2 </script>&"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			t.Skip()
		}
		plain, err := json.Marshal([]string{text})
		require.NoError(t, err)
		want, err := jcs.Transform(plain)
		require.NoError(t, err)
		require.Equal(t, string(want), "["+string(canon.AppendString(nil, text))+"]")
	})
}
