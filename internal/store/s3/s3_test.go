package s3_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/store/storetest"
)

func env(pairs map[string]string) func(string) string {
	return func(name string) string { return pairs[name] }
}

func open(t *testing.T, address string) *s3.Store {
	t.Helper()
	t.Setenv("AWS_ACCESS_KEY_ID", storetest.AccessKey)
	t.Setenv("AWS_SECRET_ACCESS_KEY", storetest.SecretKey)
	config, err := s3.Parse(address, env(nil))
	require.NoError(t, err)
	store, err := s3.Open(config, env(nil))
	require.NoError(t, err)
	return store
}

func TestContract(t *testing.T) {
	server := storetest.S3(t)
	storetest.Run(t, storetest.Options{WritesWithoutAsking: true},
		func(t *testing.T) (storage.Store, func() storage.Store) {
			t.Helper()
			address := server.Store(storetest.Name(t), "")
			return open(t, address), func() storage.Store { return open(t, address) }
		})
}

// faulty stands before a server for the length of a test.
func faulty(t *testing.T, target string, rate float64) *storetest.Faulty {
	t.Helper()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	proxy, err := storetest.StartFaulty(target, rate, seed)
	require.NoError(t, err)
	t.Cleanup(proxy.Stop)
	return proxy
}

// TestContractOnABadDay asks the same of an engine whose
// every twentieth request goes wrong.
func TestContractOnABadDay(t *testing.T) {
	server := storetest.S3(t)
	proxy := faulty(t, server.Listen, 0.05)
	storetest.Run(t, storetest.Options{WritesWithoutAsking: true},
		func(t *testing.T) (storage.Store, func() storage.Store) {
			t.Helper()
			address := server.Store(storetest.Name(t), proxy.Listen)
			return open(t, address), func() storage.Store { return open(t, address) }
		})
	t.Logf("%d requests went wrong, of which %d had succeeded", proxy.Faults.Load(), proxy.Lost.Load())
	assert.Positive(t, proxy.Lost.Load())
}

// TestALostAnswerIsNotALostRace makes sure that a record whose writing
// succeeded without an answer is known to be the writer's own.
func TestALostAnswerIsNotALostRace(t *testing.T) {
	server := storetest.S3(t)
	proxy := faulty(t, server.Listen, 0.5)
	proxy.Only(storetest.Lost)
	store, direct := open(t, server.Store("lost", proxy.Listen)), open(t, server.Store("lost", ""))
	for i := range soak.Rounds(8, 100) {
		key, mine := fmt.Sprintf("race/%d", i), fmt.Sprintf("mine %d", i)
		err := store.Create(t.Context(), key, []byte(mine))
		data, readErr := direct.Get(t.Context(), key)
		if err == nil {
			require.NoError(t, readErr)
			require.Equal(t, mine, string(data))
		} else {
			require.ErrorIs(t, err, storage.ErrUnreachable, "it says that it does not know")
		}
		theirs := fmt.Sprintf("theirs/%d", i)
		require.NoError(t, direct.Create(t.Context(), theirs, []byte("theirs")))
		require.Error(t, store.Create(t.Context(), theirs, []byte("ours")))
		data, err = direct.Get(t.Context(), theirs)
		require.NoError(t, err)
		require.Equal(t, "theirs", string(data))
	}
	assert.Positive(t, proxy.Lost.Load())
}

func TestWhatServersSayIsUnderstood(t *testing.T) {
	server := storetest.S3(t)
	proxy := faulty(t, server.Listen, 0)
	store := open(t, server.Store("said", proxy.Listen))
	for _, test := range []struct {
		status int
		code   string
		want   error
	}{
		{403, "AccessDenied", storage.ErrDenied}, {403, "InvalidAccessKeyId", storage.ErrCredentials}, {403,
			"SignatureDoesNotMatch", storage.ErrCredentials},
		{400, "ExpiredToken", storage.ErrCredentials}, {403, "RequestTimeTooSkewed", storage.ErrClock},
		{507, "InsufficientStorage", storage.ErrFull},
		{400, "QuotaExceeded", storage.ErrFull}, {404, "NoSuchBucket", storage.ErrNoBucket},
		{501, "NotImplemented", storage.ErrUnable},
	} {
		proxy.Answer(func(*http.Request) (int, string) { return test.status, test.code })
		started := time.Now()
		require.ErrorIs(t, store.Create(t.Context(), "pins/x", []byte("x")), test.want, test.code)
		_, err := store.Get(t.Context(), "pins/x")
		require.ErrorIs(t, err, test.want, test.code)
		assert.Less(t, time.Since(started), 2*time.Second, "%s is not asked again", test.code)
	}
	proxy.Answer(nil)
	proxy.Ahead(24 * time.Hour)
	_, err := store.Stat(t.Context(), "pins/x")
	require.ErrorIs(t, err, storage.ErrNotFound)
	ahead, known := store.Ahead()
	require.True(t, known)
	assert.InDelta(t, 24, ahead.Hours(), 0.01)
}

func TestWrongKeysBucketsAndServers(t *testing.T) {
	server := storetest.S3(t)
	address := server.Store("there", "")
	config, err := s3.Parse(address, env(nil))
	require.NoError(t, err)
	_, err = s3.Open(config,
		env(map[string]string{"AWS_SHARED_CREDENTIALS_FILE": filepath.Join(t.TempDir(), "none")}))
	require.ErrorIs(t, err, storage.ErrCredentials, "there are none")

	profiles := filepath.Join(t.TempDir(), "credentials")
	require.NoError(t, os.WriteFile(profiles,
		[]byte("[wrong]\naws_access_key_id = corvanetester\naws_secret_access_key = "+
			"wrong\n[right]\naws_access_key_id = "+
			storetest.AccessKey+"\naws_secret_access_key = "+storetest.SecretKey+"\n"), 0o600))
	t.Setenv("AWS_SHARED_CREDENTIALS_FILE", profiles)
	for profile, want := range map[string]error{"wrong": storage.ErrCredentials,
		"right": storage.ErrNotFound} {
		t.Run(profile, func(t *testing.T) {
			config, err := s3.Parse(address+"&profile="+profile, env(nil))
			require.NoError(t, err)
			store, err := s3.Open(config, env(map[string]string{"AWS_SHARED_CREDENTIALS_FILE": profiles}))
			require.NoError(t, err)
			assert.Contains(t, store.Account(), "profile "+profile)
			_, err = store.Get(t.Context(), storage.MarkKey)
			require.ErrorIs(t, err, want, profile)
		})
	}
	_, err = open(t, strings.Replace(address, "there", "elsewhere", 1)).Get(t.Context(), storage.MarkKey)
	require.ErrorIs(t, err, storage.ErrNoBucket)
	started := time.Now()
	_, err = open(t, strings.Replace(address, server.Listen, "127.0.0.1:9", 1)).
		Get(t.Context(), storage.MarkKey)
	require.ErrorIs(t, err, storage.ErrUnreachable)
	assert.Less(t, time.Since(started), 10*time.Second)
	readable, err := open(t, address).Stranger(t.Context())
	require.NoError(t, err)
	assert.False(t, readable)
}

// TestAnObjectThatIsNotWhatItsNameSaysIsRefused lets the server compare.
func TestAnObjectThatIsNotWhatItsNameSaysIsRefused(t *testing.T) {
	store := open(t, storetest.S3(t).Store("sums", ""))
	batch, err := store.Begin(t.Context())
	require.NoError(t, err)
	_, err = batch.Add(t.Context(), digest.Of([]byte("a page")).Key(), []byte("a pagf"))
	require.Error(t, err)
	_, err = store.Stat(t.Context(), digest.Of([]byte("a page")).Key())
	require.ErrorIs(t, err, storage.ErrNotFound)
}

func TestListingGoesOverPages(t *testing.T) {
	store := open(t, storetest.S3(t).Store("pages", ""))
	var writers sync.WaitGroup
	for i := range 8 {
		writers.Go(func() {
			for n := i; n < 1203; n += 8 {
				assert.NoError(t, store.Create(t.Context(), fmt.Sprintf("objects/aa/%04d", n), nil))
			}
		})
	}
	writers.Wait()
	count := 0
	for item, err := range store.List(t.Context(), "objects/aa") {
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("objects/aa/%04d", count), item.Key)
		count++
	}
	assert.Equal(t, 1203, count)
	var keys []string
	for n := range 1203 {
		keys = append(keys, fmt.Sprintf("objects/aa/%04d", n))
	}
	require.NoError(t, storage.Remove(t.Context(), store, keys))
	empty, err := store.Empty(t.Context())
	require.NoError(t, err)
	assert.True(t, empty)
}

func TestParse(t *testing.T) {
	t.Parallel()
	none := filepath.Join(t.TempDir(), "none")
	for _, test := range []struct {
		address string
		env     map[string]string
		want    string // place, and how the bucket is named; "" for an error
	}{
		{"s3://corvane/stores/a", nil, "s3://corvane/stores/a at s3.amazonaws.com host"},
		{"s3://corvane", map[string]string{"AWS_REGION": "north",
			"AWS_ENDPOINT_URL": "https://storage.example"}, "s3://corvane at storage.example (north) path"},
		{"s3://corvane?endpoint=http://127.0.0.1:9&region=south&style=host",
			map[string]string{"AWS_REGION": "north"}, "s3://corvane at 127.0.0.1:9 (south) host"},
		{"s3://", nil, ""}, {"s3://st", nil, ""}, {"s3://Corvane", nil, ""},
		{"s3://key:secret@corvane", nil, ""}, {"s3://corvane/UPPER", nil, ""},
		{"s3://corvane?endpont=x", nil, ""}, {"s3://corvane?endpoint=ftp://x", nil, ""},
		{"s3://corvane?endpoint=http://x/path", nil, ""}, {"s3://corvane?style=virtual", nil, ""},
		{"s3://corvane?timeout=soon", nil, ""}, {"s3://corvane#x", nil, ""},
	} {
		if test.env == nil {
			test.env = map[string]string{}
		}
		test.env["AWS_CONFIG_FILE"], test.env["AWS_SHARED_CREDENTIALS_FILE"] = none, none
		config, err := s3.Parse(test.address, env(test.env))
		if test.want == "" {
			require.ErrorIs(t, err, s3.ErrAddress, test.address)
			continue
		}
		require.NoError(t, err, test.address)
		assert.Equal(t, test.want, config.Place()+map[bool]string{true: " path",
			false: " host"}[config.PathStyle])
	}
}
