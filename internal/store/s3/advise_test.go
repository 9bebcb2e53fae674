package s3_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/store/s3"
)

// TestSettingsThatWorkAgainstAStoreAreTold asks a server that says what its bucket is set to.
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

func TestPoliciesAllowWhatEachRoleNeeds(t *testing.T) {
	config, err := s3.Parse("s3://corvane/stores?endpoint=http://127.0.0.1:9&region=north", env(nil))
	require.NoError(t, err)
	for role, may := range map[string][]string{
		"deployer": {"s3:PutObject stores/objects/*", "s3:PutObject stores/sites/*", "s3:PutObject stores/pins/*", "s3:DeleteObject stores/pins/*"},
		"edge":     {"s3:PutObject stores/edges/*", "s3:DeleteObject stores/edges/*"},
		"pruner":   {"s3:DeleteObject stores/objects/*", "s3:DeleteObject stores/sites/*", "s3:PutObject stores/prune/*"},
	} {
		var policy struct {
			Statement []struct{ Action, Resource []string }
		}
		require.NoError(t, json.Unmarshal([]byte(config.Policy(role)), &policy))
		allowed := map[string]bool{}
		for _, statement := range policy.Statement {
			for _, action := range statement.Action {
				for _, resource := range statement.Resource {
					allowed[action+" "+strings.TrimPrefix(resource, "arn:aws:s3:::corvane/")] = true
				}
			}
		}
		for _, one := range append(may, "s3:GetObject stores/*") {
			assert.True(t, allowed[one], "%s may %s", role, one)
		}
		assert.Equal(t, role == "pruner", allowed["s3:DeleteObject stores/objects/*"], role)
		assert.False(t, allowed["s3:PutObject stores/*"], role)
	}
}
