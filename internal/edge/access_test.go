package edge_test

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
)

// decide appends an entry and tells the node.
func (w *world) decide(environment string, decide journal.Decide) journal.Entry {
	w.t.Helper()
	j := journal.Journal{Store: w.store, Site: "corvane", Environment: environment, Attempt: rand.Text,
		Now: time.Now}
	entry, err := j.Append(w.t.Context(), journal.Entry{}, decide)
	require.NoError(w.t, err)
	require.NoError(w.t, w.store.Replace(w.t.Context(), storage.PulseKey("corvane"), []byte(rand.Text())))
	return entry
}

// looking sets who may look.
func looking(to *journal.Looking) journal.Decide {
	return journal.SetAccess(func(journal.Looking) (*journal.Looking, error) { return to, nil }, "command",
		"x", "")
}

// password returns a hash that costs little: what hashes
// cost is not tested here.
func password(t *testing.T) string {
	t.Helper()
	hash, err := bcrypt.GenerateFromPassword([]byte("kittiwake"), bcrypt.MinCost)
	require.NoError(t, err)
	return string(hash)
}

func with(password string) map[string]string {
	return map[string]string{"Authorization": "Basic " +
		base64.StdEncoding.EncodeToString([]byte("x:"+password))}
}

// secretly is a site of which every answer has the word.
var secretly = map[string]string{"index.html": "kraken", "style-3f9a2c1b7e.css": "kraken",
	"404.html": "kraken"}

// TestNothingProtectedIsReadableElsewhere asks for a protected environment
// under every name that an edge node answers to.
func TestNothingProtectedIsReadableElsewhere(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	open := w.put(site, release.Settings{})
	w.await("corvane.localhost", w.activate("production", open, "https://www.corvane.example/"))
	w.decide("staging", looking(&journal.Looking{Password: password(t)}))
	secret := w.put(secretly, release.Settings{})
	entry := w.activate("staging", secret, "https://staging.corvane.example/", "https://old.corvane.example/")
	w.await("staging.corvane.localhost", entry)
	digits := secret.String()[:10]
	for _, host := range []string{"staging.corvane.localhost", "staging.corvane.example",
		"old.corvane.example", digits + ".release.corvane.localhost", "corvane.localhost",
		"www.corvane.example",
		"previews.corvane.localhost", "staging.preview.corvane.localhost", "STAGING.corvane.LOCALHOST.",
		"nowhere.example"} {
		for _, path := range []string{"/", "/style-3f9a2c1b7e.css", "/nowhere", "/.orilla/look/x/", "//",
			"/index.html"} {
			for _, method := range []string{"GET", "HEAD", "POST", "OPTIONS"} {
				for i, header := range []map[string]string{nil, {"Cookie": access.Cookie + "=x"},
					{"X-Forwarded-For": "192.0.2.1"}, with("wrong password")} {
					if i == 3 && method+path != "GET/" {
						continue // each guess takes its time by intent
					}
					r, body := w.ask(method, host, path, header)
					assert.NotContains(t, body, "kraken", "%s %s%s", method, host, path)
					for name, values := range r.Header {
						assert.NotContains(t, strings.Join(values, " "), digits, "%s %s%s: %s", method, host,
							path, name)
					}
				}
			}
		}
	}
	r, _ := w.ask("GET", "staging.corvane.localhost", "/", nil)
	assert.Equal(t, 401, r.StatusCode)
	assert.Equal(t, `Basic realm="corvane staging", charset="UTF-8"`, r.Header.Get("WWW-Authenticate"))
	assert.Equal(t, "no-store", r.Header.Get("Cache-Control"))
	assert.Equal(t, "hidden;entry=staging:2", r.Header.Get(httpanswer.ReleaseField))
	for _, host := range []string{"staging.corvane.localhost", "staging.corvane.example",
		digits + ".release.corvane.localhost"} {
		r, body := w.ask("GET", host, "/", with("kittiwake"))
		assert.Equal(t, 200, r.StatusCode, host)
		assert.Equal(t, "kraken", body)
		assert.Equal(t, "no-cache, private", r.Header.Get("Cache-Control"))
		assert.Equal(t, "noindex", r.Header.Get("X-Robots-Tag"))
		r, _ = w.ask("GET", host, "/style-3f9a2c1b7e.css", with("kittiwake"))
		assert.Equal(t, "private, max-age=31536000, immutable", r.Header.Get("Cache-Control"),
			"nor does a shared cache keep what never changes")
	}
	w.await("corvane.localhost", w.activate("production", secret, "https://www.corvane.example/"))
	r, body := w.ask("GET", digits+".release.corvane.localhost", "/",
		map[string]string{"X-Forwarded-For": "192.0.2.1"})
	assert.Equal(t, 200, r.StatusCode, "what everybody was shown has an open address")
	assert.Equal(t, "kraken", body)
}

func TestAReleaseThatWasNeverLiveIsShownOnThisMachineOnly(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.put(site, release.Settings{})))
	host := w.put(secretly, release.Settings{}).String()[:10] + ".release.corvane.localhost"
	r, body := w.ask("GET", host, "/", nil)
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, "kraken", body)
	for _, field := range []string{"X-Forwarded-For", "Forwarded", "Via", "X-Real-Ip"} {
		r, body = w.ask("GET", host, "/", map[string]string{field: "192.0.2.1"})
		assert.Equal(t, 404, r.StatusCode, field)
		assert.NotContains(t, body, "kraken")
	}
}

func TestALinkOpensUntilItExpiresOrIsTakenBack(t *testing.T) {
	t.Parallel()
	var now atomic.Int64
	noon := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	w := start(t, edge.Options{Now: func() time.Time { return noon.Add(time.Duration(now.Load())) }})
	secret := access.Secret()
	hash := password(t)
	w.activateWith("preview.winter", w.put(secretly, release.Settings{}),
		journal.DocumentContent{Addresses: []string{"https://ferries.example/winter/"}})
	entry := w.decide("preview.winter",
		looking(&journal.Looking{Password: hash,
			Shares: []journal.Share{{Digest: access.DigestOf(secret), Until: noon.Add(time.Hour)}}}))
	const host = "ferries.example"
	require.Eventually(t, func() bool {
		r, _ := w.ask("HEAD", host, "/winter/", nil)
		return strings.Contains(r.Header.Get(httpanswer.ReleaseField), entry.Label())
	}, 30*time.Second, time.Millisecond)
	r, _ := w.ask("GET", host, "/winter/.orilla/look/"+secret+"/fares", nil)
	assert.Equal(t, 303, r.StatusCode)
	assert.Equal(t, "/winter/fares", r.Header.Get("Location"))
	require.Len(t, r.Cookies(), 1)
	cookie := r.Cookies()[0]
	assert.Equal(t, []any{"/winter/", true, http.SameSiteLaxMode, 3600},
		[]any{cookie.Path, cookie.HttpOnly, cookie.SameSite, cookie.MaxAge})
	by := map[string]string{"Cookie": "other=1; " + cookie.Name + "=" + cookie.Value}
	r, body := w.ask("GET", host, "/winter/", by)
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, "kraken", body)
	now.Store(int64(time.Hour))
	r, _ = w.ask("GET", host, "/winter/", by)
	assert.Equal(t, 401, r.StatusCode, "its time is over")
	r, _ = w.ask("GET", host, "/winter/.orilla/look/"+secret+"/", nil)
	assert.Equal(t, 403, r.StatusCode)
	now.Store(0)
	entry = w.decide("preview.winter", looking(&journal.Looking{Password: hash}))
	require.Eventually(t, func() bool {
		r, _ := w.ask("HEAD", host, "/winter/", by)
		return r.StatusCode == http.StatusUnauthorized
	}, 30*time.Second, time.Millisecond, "it was taken back")
}

// TestAPasswordForAllPreviewsHoldsForThoseToCome makes a
// preview after the password.
func TestAPasswordForAllPreviewsHoldsForThoseToCome(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.await("corvane.localhost", w.activate("production", w.put(site, release.Settings{})))
	id := w.put(secretly, release.Settings{})
	before := w.activate("preview.before", id)
	w.await("before.preview.corvane.localhost", before)
	digits := id.String()[:10] + ".release.corvane.localhost"
	r, _ := w.ask("GET", digits, "/", map[string]string{"Via": "x"})
	assert.Equal(t, 200, r.StatusCode)
	w.decide(journal.Previews, looking(&journal.Looking{Password: password(t)}))
	after := w.activate("preview.after", id)
	w.await("after.preview.corvane.localhost", after)
	for _, host := range []string{"before.preview.corvane.localhost", "after.preview.corvane.localhost",
		digits} {
		require.Eventually(t, func() bool {
			r, _ := w.ask("GET", host, "/", map[string]string{"Via": "x"})
			return r.StatusCode == http.StatusUnauthorized
		}, 30*time.Second, time.Millisecond, host)
		r, body := w.ask("GET", host, "/", with("kittiwake"))
		assert.Equal(t, 200, r.StatusCode, host)
		assert.Equal(t, "kraken", body)
	}
	r, _ = w.ask("GET", "corvane.localhost", "/", nil)
	assert.Equal(t, 200, r.StatusCode, "production is not a preview")
	require.NoError(t, w.store.Replace(t.Context(), storage.JournalKey("corvane", journal.Previews, 1),
		[]byte("damaged")))
	fresh := edge.New(w.store, edge.Options{})
	ctx, ready := t.Context(), make(chan struct{})
	go fresh.Follow(ctx, func() { close(ready) })
	<-ready
	w.server.Config.Handler = fresh
	r, body := w.ask("GET", "after.preview.corvane.localhost", "/", nil)
	assert.Equal(t, 503, r.StatusCode, "who may look cannot be read, so nobody may")
	assert.NotContains(t, body, "kraken")
}

// lateStore does something right before a key is read for the first time.
type lateStore struct {
	storage.Store
	once   sync.Once
	key    string
	before func()
}

func (s *lateStore) Get(ctx context.Context, key string) ([]byte, error) {
	if key == s.key {
		s.once.Do(s.before)
	}
	return s.Store.Get(ctx, key)
}

// TestAPasswordThatCameBeforeARelease counts, also for a node that was just
// looking: it reads the new entry, and the password after that.
func TestAPasswordThatCameBeforeARelease(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	w.activate("preview.winter", w.put(site, release.Settings{}))
	secret := w.put(secretly, release.Settings{})
	late := &lateStore{Store: w.store, key: storage.JournalKey("corvane", "preview.winter", 2)}
	late.before = func() { // the node has listed the environments, and found no password for previews
		w.decide(journal.Previews, looking(&journal.Looking{Password: password(t)}))
		w.activate("preview.winter", secret)
	}
	node := edge.New(late, edge.Options{})
	ready := make(chan struct{})
	go node.Follow(t.Context(), func() { close(ready) })
	<-ready
	w.server.Config.Handler = node
	require.NoError(t, w.store.Replace(t.Context(), storage.PulseKey("corvane"), []byte("look")))
	require.Eventually(t, func() bool {
		r, body := w.ask("GET", "winter.preview.corvane.localhost", "/", nil)
		require.NotContains(t, body, "kraken")
		return r.StatusCode == http.StatusUnauthorized
	}, 30*time.Second, time.Millisecond)
	r, body := w.ask("GET", "winter.preview.corvane.localhost", "/", with("kittiwake"))
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, "kraken", body)
}

func TestAnEndedPreviewSaysWhereItsWorkIs(t *testing.T) {
	t.Parallel()
	var jump atomic.Int64
	w := start(t, edge.Options{Now: func() time.Time { return time.Now().Add(time.Duration(jump.Load())) }})
	id := w.put(site, release.Settings{})
	w.await("corvane.localhost", w.activate("production", id, "https://www.corvane.example/"))
	ends := time.Now().Add(time.Hour)
	entry := w.decide("preview.winter",
		journal.Activate(journal.Deploy, journal.Move{Release: id, Origin: journal.Origin{Branch: "winter"},
			Expires: &ends}, time.Now()))
	w.await("winter.preview.corvane.localhost", entry)
	const host = "winter.preview.corvane.localhost:7420"
	jump.Store(int64(2 * time.Hour))
	r, body := w.ask("GET", host, "/fares", nil)
	assert.Equal(t, 410, r.StatusCode, "nobody has to remove it")
	assert.Contains(t, body, "It expired.")
	assert.Contains(t, body, "orilla deploy winter")
	r, _ = w.ask("GET", "corvane.localhost", "/fares", nil)
	assert.Equal(t, 200, r.StatusCode, "what production serves too is not taken away")
	jump.Store(0)
	r, _ = w.ask("GET", host, "/fares", nil)
	assert.Equal(t, 200, r.StatusCode, "a clock that jumped and went back has done no harm")
	entry = w.decide("preview.winter",
		journal.Remove(journal.Ended{Reason: journal.Merged, Into: "production"}, "follow", "x", ""))
	require.Eventually(t, func() bool {
		r, body = w.ask("GET", host, "/fares", nil)
		return r.StatusCode == http.StatusGone
	}, 30*time.Second, time.Millisecond)
	assert.Contains(t, body, "The branch winter was merged.")
	assert.Contains(t, body, `<a href="https://www.corvane.example/">`)
	assert.Equal(t, "no-store", r.Header.Get("Cache-Control"))
	assert.Equal(t, "none;entry="+entry.Label(), r.Header.Get(httpanswer.ReleaseField))
}

// TestTheClockOfANodeGoesByTheStore sets this machine's
// clock wrong, as far as the node can tell.
func TestTheClockOfANodeGoesByTheStore(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	id := w.put(site, release.Settings{})
	ends := time.Now().Add(30 * time.Minute)
	w.await("x.preview.corvane.localhost",
		w.decide("preview.x", journal.Activate(journal.Deploy, journal.Move{Release: id, Expires: &ends},
			time.Now())))
	for ahead, want := range map[time.Duration]int{0: 200, 29 * time.Minute: 200, 31 * time.Minute: 410,
		-48 * time.Hour: 200} {
		w.node.SetAhead(ahead)
		r, _ := w.ask("GET", "x.preview.corvane.localhost", "/", nil)
		assert.Equal(t, want, r.StatusCode, "the store's clock is %s before this one", ahead)
	}
}

func TestSettingsTellAReleaseWhereItRuns(t *testing.T) {
	t.Parallel()
	w := start(t, edge.Options{})
	id := w.put(map[string]string{"index.html": "x", "settings.json": `{"from":"the build"}`},
		release.Settings{})
	w.await("corvane.localhost",
		w.activateWith("production", id,
			journal.DocumentContent{Settings: []byte(`{"api":"https://api.corvane.example"}`),
				SettingsPath: "/settings.json"}))
	w.await("staging.corvane.localhost",
		w.activateWith("staging", id,
			journal.DocumentContent{Settings: []byte(`{"api":"https://try.corvane.example"}`),
				SettingsPath: "/settings.json"}))
	w.await("test.corvane.localhost", w.activate("test", id))
	tags := map[string]bool{}
	for host, want := range map[string]string{"corvane": `{"api":"https://api.corvane.example"}`,
		"staging.corvane": `{"api":"https://try.corvane.example"}`, "test.corvane": `{"from":"the build"}`} {
		t.Run(host, func(t *testing.T) {
			r, body := w.ask("GET", host+".localhost", "/settings.json", nil)
			assert.Equal(t, want, body)
			assert.Equal(t, "application/json", r.Header.Get("Content-Type"))
			assert.Equal(t, "no-cache", r.Header.Get("Cache-Control"))
			tags[r.Header.Get("ETag")] = true
			r, body = w.ask("GET", host+".localhost", "/settings.json",
				map[string]string{"If-None-Match": r.Header.Get("ETag")})
			assert.Equal(t, fmt.Sprint(304, ""), fmt.Sprint(r.StatusCode, body))
		})
	}
	assert.Len(t, tags, 3)
	a, err := answer.Decide(t.Context(), answer.Request{Method: "POST", Path: "/settings.json"},
		answer.Site{Config: &answer.EnvironmentConfig{Path: "/settings.json", Data: []byte("1")}})
	require.NoError(t, err)
	assert.Equal(t, 405, a.Status)
}

// TestCookiesPassByteForByte: of a protected environment, an upstream sees what a
// visitor sent, but not what opened it.
func TestCookiesPassByteForByte(t *testing.T) {
	t.Parallel()
	var seen atomic.Pointer[http.Header]
	w := passing(t, "proxy /api/{rest:all} -> harbour:/{rest}", loopback, 0,
		func(_ http.ResponseWriter, r *http.Request) { seen.Store(&r.Header) })
	entry := w.decide("production", looking(&journal.Looking{Password: password(t)}))
	require.Eventually(t, func() bool {
		r, _ := w.ask("HEAD", "corvane.localhost", "/", nil)
		return strings.Contains(r.Header.Get(httpanswer.ReleaseField), entry.Label())
	}, 30*time.Second, time.Millisecond)

	for sent, want := range map[string]string{
		`a="x y, z"; b={"k":1}; c=`:                            `a="x y, z"; b={"k":1}; c=`,
		access.Cookie + `=x; a="q"`:                            `a="q"`,
		`a=1;b=2; ` + access.Cookie + `=x;c=3`:                 `a=1;b=2;c=3`,
		access.Cookie + "=x":                                   "",
		`no-value; x` + access.Cookie + `=1; ` + access.Cookie: `no-value; x` + access.Cookie + `=1`,
	} {
		seen.Store(nil)
		header := with("kittiwake")
		header["Cookie"] = sent
		r, _ := w.ask("GET", "corvane.localhost", "/api/tides", header)
		require.Equal(t, 200, r.StatusCode)
		assert.Equal(t, want, seen.Load().Get("Cookie"), sent)
		assert.Empty(t, seen.Load().Get("Authorization"))
	}
}
