package outside_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/outside"
	"orilla.example/orilla/internal/store/memory"
)

// side makes a release of files and rules.
func side(t *testing.T, store *memory.Store, text string, files map[string]string) difference.Side {
	t.Helper()
	put := func(key string, data []byte) { require.NoError(t, store.Replace(t.Context(), key, data)) }
	var list []release.File
	for path, content := range files {
		object := digest.Of([]byte(content))
		put(object.Key(), []byte(content))
		list = append(list, release.File{Path: path, Size: int64(len(content)), Digest: object})
	}
	program, mistakes := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}}, rules.Options{})
	require.Empty(t, mistakes)
	set, objects := release.CutRules(len(program.Rules), rules.Encode(program.Rules))
	index, err := release.Build(list, set, release.Settings{})
	require.NoError(t, err)
	for _, chunk := range append(index.Chunks, objects...) {
		put(digest.Of(chunk.Data).Key(), chunk.Data)
	}
	put(storage.ReleaseKey("corvane", index.ID.String()), index.Data)
	reader, err := release.Read(t.Context(), store, "corvane", index.ID)
	require.NoError(t, err)
	site, err := answer.Open(t.Context(), reader)
	require.NoError(t, err)
	return difference.Side{Files: list, Site: site, Rules: program.Rules, Now: time.Now()}
}

// node answers from a side, as an edge node does.
func node(store *memory.Store, s difference.Side, entry string) http.Handler {
	objects := httpanswer.NewObjects(store, 1<<20, 0)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a, err := answer.Decide(r.Context(), httpanswer.RequestOf(r, "", answer.Production, time.Now()), s.Site)
		if err != nil {
			httpanswer.Fail(w, r, err)
			return
		}
		w.Header().Set(httpanswer.ReleaseField, "r-1234567890; entry="+entry+"; commit=abc")
		httpanswer.Respond(w, r, a, objects) //nolint:errcheck // whoever asked has got a 500
	})
}

const siteRules = "redirect /old -> /fares\nheader / Content-Security-Policy: default-src 'self'\n"

// between stands before a node, and does something to its answers.
func between(t *testing.T, to http.Handler, change func(r *http.Response) error) string {
	t.Helper()
	server := httptest.NewServer(to)
	t.Cleanup(server.Close)
	at, err := url.Parse(server.URL)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(at)
	proxy.ModifyResponse = change
	front := httptest.NewServer(proxy)
	t.Cleanup(front.Close)
	return front.URL + "/"
}

func compare(t *testing.T, s difference.Side, address string) *outside.Proof {
	t.Helper()
	proof, err := outside.Compare(t.Context(), outside.Options{Side: s, Environment: answer.Production, Address: address,
		Entry: "production:2"})
	require.NoError(t, err)
	return proof
}

// told says findings in a line each.
func told(p *outside.Proof) (list []string) {
	for _, f := range p.Found {
		list = append(list, fmt.Sprint(f.Path, " ", f.Kind, " ", f.Text))
	}
	return list
}

func TestWhatStandsInBetween(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	s := side(t, store, siteRules, map[string]string{"index.html": "home", "fares.html": "new fares", "404.html": "not here"})
	handler := node(store, s, "production:2")
	for name, c := range map[string]struct {
		change func(r *http.Response) error
		want   []string
	}{
		"nothing": {func(*http.Response) error { return nil }, nil},
		"a field that is lost": {func(r *http.Response) error { r.Header.Del("Content-Security-Policy"); return nil },
			[]string{`/ field Content-Security-Policy is missing: "default-src 'self'"`}},
		"a field that is rewritten": {func(r *http.Response) error {
			if r.Request.URL.Path == "/fares" {
				r.Header.Set("Cache-Control", "max-age=14400")
			}
			return nil
		}, []string{`/fares field Cache-Control: "max-age=14400" instead of "no-cache"`}},
		"another status": {func(r *http.Response) error {
			if r.StatusCode == http.StatusNotFound && r.Request.URL.Path != "/404" {
				r.StatusCode = http.StatusOK
			}
			return nil
		}, []string{"/orilla-compare-live-is-not-there status 200 instead of 404"}},
		"a redirect elsewhere": {func(r *http.Response) error {
			if r.Header.Get("Location") != "" {
				r.Header.Set("Location", "/")
			}
			return nil
		}, []string{"/old status leads to / instead of /fares"}},
		"what does no harm": {func(r *http.Response) error {
			r.Header.Set("Vary", "Accept-Encoding, Origin")
			r.Header.Set("ETag", "W/"+strings.TrimPrefix(r.Header.Get("ETag"), "W/"))
			r.Header.Set("Via", "1.1 pier")
			r.Header.Set("Server", "pier")
			return nil
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			proof := compare(t, s, between(t, handler, c.change))
			assert.Equal(t, c.want, told(proof))
			assert.Equal(t, 5, proof.Asked)
			assert.Equal(t, 5-len(c.want), proof.Same)
			assert.Equal(t, map[string]int{"production:2": 5}, proof.Entries)
		})
	}
}

// TestWhatACacheKeeps has a cache that keeps the release before.
func TestWhatACacheKeeps(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	before := side(t, store, siteRules, map[string]string{"index.html": "home", "fares.html": "old fares", "404.html": "not here"})
	now := side(t, store, siteRules, map[string]string{"index.html": "home", "fares.html": "the new fares", "404.html": "not here"})
	old, fresh := node(store, before, "production:1"), node(store, now, "production:2")
	address := between(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/fares" {
			old.ServeHTTP(w, r)
			return
		}
		fresh.ServeHTTP(w, r)
	}), func(r *http.Response) error {
		if r.Request.URL.Path == "/fares" {
			r.Header.Set("Age", "340")
			r.Header.Set("Cache-Control", "public, max-age=60, s-maxage=600")
			r.Header.Set("Cache-Status", "pier; hit")
		}
		return nil
	})
	proof := compare(t, now, address)
	require.Len(t, proof.Found, 1)
	f := proof.Found[0]
	assert.Equal(t, outside.Finding{Path: "/fares", Kind: outside.Kept, Text: "9 bytes instead of 13", From: "production:1",
		Age: 340 * time.Second, Keep: 10 * time.Minute, Via: "pier; hit"}, f)
}

// TestHostileServers: what answers may be anything, and is bounded.
func TestHostileServers(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	s := side(t, store, "", map[string]string{"index.html": "home"})
	for name, handler := range map[string]http.HandlerFunc{
		"endless": func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				w.Write(make([]byte, 64<<10)) //nolint:errcheck // until nobody reads
			}
		},
		"cut short": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "100")
			w.Write([]byte("home")) //nolint:errcheck // it is cut short
		},
		"nobody": func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) },
		"a circle": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, r.URL.Path, http.StatusFound)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewServer(handler)
			defer server.Close()
			proof := compare(t, s, server.URL+"/")
			assert.NotEmpty(t, proof.Found)
			assert.LessOrEqual(t, proof.Bytes, int64(4<<20))
		})
	}
}

func TestItAsksNoFasterThanItMay(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	files := map[string]string{}
	for i := range 12 {
		files[fmt.Sprintf("page-%d.html", i)] = fmt.Sprint(i)
	}
	s := side(t, store, "", files)
	var mutex sync.Mutex
	at, most := 0, 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		at++
		most = max(most, at)
		mutex.Unlock()
		time.Sleep(5 * time.Millisecond)
		node(store, s, "production:2").ServeHTTP(w, r)
		mutex.Lock()
		at--
		mutex.Unlock()
	}))
	defer server.Close()
	proof, err := outside.Compare(t.Context(), outside.Options{Side: s, Environment: answer.Production, Parallel: 2,
		Address: server.URL + "/", Entry: "production:2"})
	require.NoError(t, err)
	assert.Empty(t, told(proof))
	assert.LessOrEqual(t, most, 2)
}
