package access_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/text/unicode/norm"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/journal"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

func cookie(value string) []*http.Cookie { return []*http.Cookie{{Name: access.Cookie, Value: value}} }

func TestPasswords(t *testing.T) {
	t.Parallel()
	for password, want := range map[string]error{
		"kittiwake": nil, "1234567": access.ErrShort, strings.Repeat("a", 72): nil, strings.Repeat("a",
			73): access.ErrLong, "tab\tin here": access.ErrControl,
		"å la crème": nil, "ééééééé": access.ErrShort,
	} {
		t.Run(password, func(t *testing.T) {
			_, err := access.Hash(password)
			assert.ErrorIs(t, err, want, "%q", password)
		})
	}
}

// hashOf returns a hash that costs little: what hashes cost is not tested here.
func hashOf(t *testing.T, password string) string {
	t.Helper()
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
	require.NoError(t, err)
	return string(hash)
}

// admits reports whether a gate lets in who has not guessed before.
func admits(g *access.Gate, authorization string, cookies []*http.Cookie, key string, now time.Time) bool {
	may, _ := g.Admits(context.Background(), access.Attempt{Authorization: authorization, Cookies: cookies,
		Key: key, Now: now}, access.NewGuesses(nil))
	return may
}

// client is one of many.
func client(n int) netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 51, byte(n >> 8), byte(n)}), 32)
}

func TestAGateAdmitsWhoKnowsThePasswordAndNobodyElse(t *testing.T) {
	t.Parallel()
	hash := hashOf(t, "la crème brûlée") // composed
	named := hashOf(t, "kittiwake")
	assert.NotContains(t, hash, "brûlée")
	g := access.NewGate("staging", &journal.Looking{Password: hash})
	for authorization, want := range map[string]bool{
		basic("anybody", "la crème brûlée"): true, basic("",
			"la cre\u0300me bru\u0302le\u0301e"): true, strings.Replace(basic("x", "la crème brûlée"),
			"Basic", "bAsIc", 1): true,
		basic("anybody", "la creme brulee"): false, basic("la crème brûlée", ""): false,
		"Bearer la crème brûlée": false, "": false, "Basic !": false,
		"Basic " + base64.StdEncoding.EncodeToString([]byte("no colon")): false,
	} {
		t.Run(authorization, func(t *testing.T) {
			for range 2 { // the second time it is remembered
				assert.Equal(t, want, admits(g, authorization, nil, "key", noon), authorization)
			}
		})
	}
	both := access.NewGate("preview.x", &journal.Looking{Password: named, User: "harbour"}, nil,
		&journal.Looking{Password: hash})
	both.Remember(g)
	assert.True(t, admits(both, basic("harbour", "kittiwake"), nil, "", noon))
	assert.False(t, admits(both, basic("quay", "kittiwake"), nil, "", noon),
		"the name counts where one is set")
	assert.True(t, admits(both, basic("quay", "la crème brûlée"), nil, "", noon),
		"that of all previews opens each")
	other := access.NewGate("staging", &journal.Looking{Password: named})
	other.Remember(g)
	assert.False(t, admits(other, basic("x", "la crème brûlée"), nil, "", noon),
		"what was right before the password changed is not")
	assert.Nil(t, access.NewGate("x", nil, &journal.Looking{}), "without a password there is no gate")
	assert.True(t, admits(nil, "", nil, "", noon))
}

func TestLinksOpenUntilTheyExpire(t *testing.T) {
	t.Parallel()
	hash := hashOf(t, "kittiwake")
	secret := access.Secret()
	assert.Regexp(t, "^[a-z0-9]{26}$", secret)
	looking := journal.Looking{Password: hash,
		Shares: []journal.Share{{Digest: access.DigestOf(secret), Until: noon}}}
	g := access.NewGate("staging", &looking)
	assert.True(t, admits(g, "", cookie(secret), "key", noon.Add(-time.Second)))
	assert.False(t, admits(g, "", cookie(secret), "key", noon), "by the second")
	assert.False(t, admits(g, "", cookie(secret+"x"), "key", noon.Add(-time.Hour)))
	assert.False(t, admits(g, "", cookie(looking.Shares[0].Digest.String()), "key", noon.Add(-time.Hour)),
		"what is kept opens nothing")
	assert.False(t, admits(access.NewGate("staging", &journal.Looking{Password: hash}), "", cookie(secret), "key", noon.Add(-time.Hour)), "taken back")
}

func TestAPassIsForOneEnvironmentAndTenMinutes(t *testing.T) {
	t.Parallel()
	hash := hashOf(t, "kittiwake")
	g := access.NewGate("staging", &journal.Looking{Password: hash})
	pass := access.Pass("key", "staging", noon)
	assert.True(t, admits(g, "", cookie(pass), "key", noon.Add(9*time.Minute)))
	assert.False(t, admits(g, "", cookie(pass), "key", noon.Add(10*time.Minute)))
	assert.False(t, admits(g, "", cookie(pass), "another site's", noon))
	assert.False(t, admits(g, "", cookie(access.Pass("", "staging", noon)), "", noon),
		"without a key there are no passes")
	assert.False(t, admits(g, "", cookie(access.Pass("key", "production", noon)), "key", noon))
	until, signature, _ := strings.Cut(pass, ".")
	assert.False(t, admits(g, "", cookie(until+"0."+signature), "key", noon), "it cannot be lengthened")
}

// TestManyVisitorsAtOnce sends right and wrong passwords together.
func TestManyVisitorsAtOnce(t *testing.T) {
	t.Parallel()
	hash := hashOf(t, "kittiwake")
	g := access.NewGate("staging", &journal.Looking{Password: hash})
	guesses := access.NewGuesses(nil)
	var visitors sync.WaitGroup
	for n := range 12 {
		visitors.Go(func() {
			password, right := "kittiwake", n%3 != 0
			if !right {
				password = fmt.Sprint("wrong password ", n)
			}
			may, _ := g.Admits(t.Context(), access.Attempt{Authorization: basic("x", password), Client: client(n),
				Now: noon}, guesses)
			assert.Equal(t, right, may)
		})
	}
	visitors.Wait()
}

// FuzzAdmits holds that nothing opens but what should, whatever is sent.
func FuzzAdmits(f *testing.F) {
	hash, err := bcrypt.GenerateFromPassword([]byte("kittiwake"), bcrypt.MinCost)
	require.NoError(f, err)
	secret := access.Secret()
	g := access.NewGate("staging", &journal.Looking{Password: string(hash), User: "quay",
		Shares: []journal.Share{{Digest: access.DigestOf(secret), Until: noon.Add(time.Hour)}}})
	for _, seed := range []string{basic("quay", "kittiwake"), "Basic ", "basic !!!", "p1.2",
		access.Pass("key", "staging", noon), access.Pass("key", "production", noon), secret, "p" + secret} {
		f.Add(seed, seed)
	}
	f.Fuzz(func(t *testing.T, authorization, value string) {
		if !admits(g, authorization, cookie(value), "key", noon) {
			return
		}
		until, signature, _ := strings.Cut(strings.TrimPrefix(value, "p"), ".")
		passed := value == secret || len(signature) == 64 && value == "p"+until+"."+signature
		scheme, rest, _ := strings.Cut(authorization, " ")
		data, err := base64.StdEncoding.DecodeString(strings.TrimSpace(rest))
		known := strings.EqualFold(scheme, "basic") && err == nil &&
			norm.NFC.String(string(data)) == "quay:kittiwake"
		assert.True(t, passed || known, "%q %q", authorization, value)
	})
}
