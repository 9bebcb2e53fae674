package s3_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/s3"
)

// TestSettingsThatWorkAgainstAStoreAreTold asks a server
// that says what its bucket is set to.
func TestSettingsThatWorkAgainstAStoreAreTold(t *testing.T) {
	answers := map[string]string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for query, body := range answers {
			if r.URL.Query().Has(query) {
				w.Write([]byte(body)) //nolint:errcheck // the client notices
				return
			}
		}
		w.WriteHeader(http.StatusNotFound)
		w.Write([]byte("<Error><Code>NoSuchConfiguration</Code></Error>")) //nolint:errcheck // see above
	}))
	defer server.Close()
	store := open(t, "s3://corvane/stores?region=north&endpoint="+server.URL)
	assert.Empty(t, store.Advise(t.Context()), "what the server does not tell is left out")
	answers["versioning"] = "<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>"
	answers["object-lock"] = "<ObjectLockConfiguration><ObjectLockEnabled>Enabled</ObjectLockEnabled></ObjectLockConfiguration>"
	answers["lifecycle"] = "<LifecycleConfiguration><Rule><ID>old</ID><Status>Enabled</Status><Filter><Prefix></Prefix></Filter><Expiration><Days>30</Days></Expiration></Rule>" +
		"<Rule><ID>parts</ID><Status>Enabled</Status><Filter><Prefix></Prefix></Filter><AbortIncompleteMultipartUpload><DaysAfterInitiation>1</DaysAfterInitiation></AbortIncompleteMultipartUpload></Rule></LifecycleConfiguration>"
	advice := strings.Join(store.Advise(t.Context()), "\n")
	assert.Contains(t, advice, "old versions")
	assert.Contains(t, advice, "locks objects")
	assert.Contains(t, advice, "lifecycle rule (old)")
	assert.NotContains(t, advice, "(parts)", "a rule that removes no object is fine")
	answers["versioning"] = "<VersioningConfiguration><Status>Suspended</Status></VersioningConfiguration>"
	assert.NotContains(t, strings.Join(store.Advise(t.Context()), "\n"), "old versions")
}

// allowed reads a policy: "ACTION PATTERN" of what may be done below the store,
// and for whom; "" in a policy for a user.
func allowed(t *testing.T, text string) map[string]map[string]bool {
	t.Helper()
	var policy struct {
		Statement []struct {
			Principal        struct{ AWS []string }
			Action, Resource []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text), &policy))
	may := map[string]map[string]bool{}
	for _, statement := range policy.Statement {
		for _, who := range append(statement.Principal.AWS, "")[:max(1, len(statement.Principal.AWS))] {
			if may[who] == nil {
				may[who] = map[string]bool{}
			}
			for _, resource := range statement.Resource {
				may[who][statement.Action[0]+" "+strings.TrimPrefix(resource,
					"arn:aws:s3:::corvane/stores/")] = true
			}
		}
	}
	return may
}

// covers reports whether any pattern of an action covers a key.
func covers(may map[string]bool, action, key string) bool {
	for one := range may {
		if pattern, ok := strings.CutPrefix(one, action+" "); ok {
			expression := strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, ".*")
			if regexp.MustCompile("^" + expression + "$").MatchString(key) {
				return true
			}
		}
	}
	return false
}

// TestPoliciesSayWhatTheTableOfRightsSays asks policies of both forms, for all
// sites and for one, about a key of each kind.
func TestPoliciesSayWhatTheTableOfRightsSays(t *testing.T) {
	t.Parallel()
	config, err := s3.Parse("s3://corvane/stores?endpoint=http://127.0.0.1:9&region=north", env(nil))
	require.NoError(t, err)
	who := map[storage.Role][]string{storage.Deployer: {"arn:aws:iam::1:user/ci"},
		storage.Edge:   {"arn:aws:iam::1:user/pier", "arn:aws:iam::1:user/quay"},
		storage.Pruner: {"arn:aws:iam::1:user/night"}}
	whole, ofSite := allowed(t, config.BucketPolicy(who, "")), allowed(t, config.BucketPolicy(who, "corvane"))
	for _, role := range storage.Roles {
		user := allowed(t, config.Policy(role, ""))[""]
		for _, name := range who[role] {
			assert.Equal(t, user, whole[name], "both forms allow the same")
		}
		for _, kind := range storage.Kinds {
			key := strings.NewReplacer("SITE", "corvane", "**", "aa/ab", "*", "ab").Replace(kind.Pattern)
			got, known := storage.KindOf(key)
			require.True(t, known && got.Pattern == kind.Pattern, key)
			assert.True(t, covers(user, "s3:GetObject", key), "%s reads %s", role, key)
			assert.Equal(t, kind.Writes(role), covers(user, "s3:PutObject", key), "%s writes %s", role, key)
			assert.Equal(t, kind.Deletes(role), covers(user, "s3:DeleteObject", key), "%s deletes %s", role,
				key)
			if role != storage.Deployer {
				continue
			}
			own, other := ofSite[who[role][0]], strings.ReplaceAll(key, "corvane", "velley")
			assert.Equal(t, kind.Writes(role), covers(own, "s3:PutObject", key),
				"of its site, a deployer writes %s", key)
			assert.Equal(t, kind.Deletes(role), covers(own, "s3:DeleteObject", key),
				"of its site, a deployer deletes %s", key)
			if kind.OfSite() {
				assert.False(t, covers(own, "s3:PutObject", other) || covers(own, "s3:DeleteObject",
					other) || covers(own, "s3:GetObject", other), "of another site, it has nothing: %s",
					other)
			}
		}
	}
}

// TestAListingThatDoesNotSayHowItGoesOnIsAnError: what is
// left out of it would be taken for gone.
func TestAListingThatDoesNotSayHowItGoesOnIsAnError(t *testing.T) {
	token := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		truncated, key := "true", "a"
		if r.URL.Query().Get("continuation-token") != "" {
			truncated, key = "false", "b"
		}
		//nolint:errcheck // the client notices
		w.Write([]byte("<ListBucketResult><IsTruncated>" + truncated + "</IsTruncated>" + token +
			"<Contents><Key>stores/pins/" + key +
			"</Key><Size>1</Size><LastModified>2026-11-01T12:00:00Z</LastModified></Contents></ListBucketResult>"))
	}))
	defer server.Close()
	store := open(t, "s3://corvane/stores?region=north&endpoint="+server.URL)
	list := func() (names []string, err error) {
		for item, err := range store.List(t.Context(), "pins") {
			if err != nil {
				return names, err
			}
			names = append(names, item.Name())
		}
		return names, nil
	}
	_, err := list()
	require.Error(t, err)
	token = "<NextContinuationToken>next</NextContinuationToken>"
	names, err := list()
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, names)
}
