package digest_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
)

func TestADigestHasOneSpelling(t *testing.T) {
	t.Parallel()
	// FIPS 180-4, of no bytes
	const empty = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
	d := digest.Of(nil)
	assert.Equal(t, empty, d.String())
	assert.Equal(t, "objects/e3/"+empty, d.Key())
	again, err := digest.Parse(empty)
	require.NoError(t, err)
	assert.Equal(t, d, again)
	for _, text := range []string{"", empty[:63], empty + "0", strings.ToUpper(empty),
		strings.Replace(empty, "e", "g", 1), " " + empty[1:]} {
		_, err := digest.Parse(text)
		require.Error(t, err, "%q", text)
	}
	var list []digest.Digest
	require.NoError(t, json.Unmarshal([]byte(`["`+empty+`",""]`), &list))
	assert.Equal(t, d, list[0])
	assert.True(t, list[1].IsZero())
}
