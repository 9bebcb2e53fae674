package access_test

import (
	"encoding/base64"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/journal"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

func cookie(value string) []*http.Cookie { return []*http.Cookie{{Name: access.Cookie, Value: value}} }

func TestPasswords(t *testing.T) {
	for password, want := range map[string]error{
		"kittiwake": nil, "1234567": access.ErrShort, strings.Repeat("a", 72): nil, strings.Repeat("a", 73): access.ErrLong, "tab\tin here": access.ErrControl,
		"å la crème": nil, "ééééééé": access.ErrShort,
	} {
		_, err := access.Hash(password)
		assert.ErrorIs(t, err, want, "%q", password)
	}
}

func TestAGateAdmitsWhoKnowsThePasswordAndNobodyElse(t *testing.T) {
	hash, err := access.Hash("la crème brûlée") // composed
	require.NoError(t, err)
	named, err := access.Hash("kittiwake")
	require.NoError(t, err)
	assert.NotContains(t, hash, "brûlée")
	g := access.NewGate("staging", &journal.Looking{Password: hash})
	for authorization, want := range map[string]bool{
		basic("anybody", "la crème brûlée"): true, basic("", "la cre\u0300me bru\u0302le\u0301e"): true, strings.Replace(basic("x", "la crème brûlée"), "Basic", "bAsIc", 1): true,
		basic("anybody", "la creme brulee"): false, basic("la crème brûlée", ""): false, "Bearer la crème brûlée": false, "": false, "Basic !": false,
		"Basic " + base64.StdEncoding.EncodeToString([]byte("no colon")): false,
	} {
		for range 2 { // the second time it is remembered
			assert.Equal(t, want, g.Admits(authorization, nil, "key", noon), authorization)
		}
	}
	both := access.NewGate("preview.x", &journal.Looking{Password: named, User: "harbour"}, nil, &journal.Looking{Password: hash})
	both.Remember(g)
	assert.True(t, both.Admits(basic("harbour", "kittiwake"), nil, "", noon))
	assert.False(t, both.Admits(basic("quay", "kittiwake"), nil, "", noon), "the name counts where one is set")
	assert.True(t, both.Admits(basic("quay", "la crème brûlée"), nil, "", noon), "that of all previews opens each")
	other := access.NewGate("staging", &journal.Looking{Password: named})
	other.Remember(g)
	assert.False(t, other.Admits(basic("x", "la crème brûlée"), nil, "", noon), "what was right before the password changed is not")
	assert.Nil(t, access.NewGate("x", nil, &journal.Looking{}), "without a password there is no gate")
	assert.True(t, (*access.Gate)(nil).Admits("", nil, "", noon))
}

func TestLinksOpenUntilTheyExpire(t *testing.T) {
	hash, err := access.Hash("kittiwake")
	require.NoError(t, err)
	secret := access.Secret()
	assert.Regexp(t, "^[a-z0-9]{26}$", secret)
	looking := journal.Looking{Password: hash, Shares: []journal.Share{{Digest: access.DigestOf(secret), Until: noon}}}
	g := access.NewGate("staging", &looking)
	assert.True(t, g.Admits("", cookie(secret), "key", noon.Add(-time.Second)))
	assert.False(t, g.Admits("", cookie(secret), "key", noon), "by the second")
	assert.False(t, g.Admits("", cookie(secret+"x"), "key", noon.Add(-time.Hour)))
	assert.False(t, g.Admits("", cookie(looking.Shares[0].Digest.String()), "key", noon.Add(-time.Hour)), "what is kept opens nothing")
	assert.False(t, access.NewGate("staging", &journal.Looking{Password: hash}).Admits("", cookie(secret), "key", noon.Add(-time.Hour)), "taken back")
}

func TestAPassIsForOneEnvironmentAndTenMinutes(t *testing.T) {
	hash, err := access.Hash("kittiwake")
	require.NoError(t, err)
	g := access.NewGate("staging", &journal.Looking{Password: hash})
	pass := access.Pass("key", "staging", noon)
	assert.True(t, g.Admits("", cookie(pass), "key", noon.Add(9*time.Minute)))
	assert.False(t, g.Admits("", cookie(pass), "key", noon.Add(10*time.Minute)))
	assert.False(t, g.Admits("", cookie(pass), "another site's", noon))
	assert.False(t, g.Admits("", cookie(access.Pass("", "staging", noon)), "", noon), "without a key there are no passes")
	assert.False(t, g.Admits("", cookie(access.Pass("key", "production", noon)), "key", noon))
	until, signature, _ := strings.Cut(pass, ".")
	assert.False(t, g.Admits("", cookie(until+"0."+signature), "key", noon), "it cannot be lengthened")
}
