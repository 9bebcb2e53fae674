package hosts_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

func attempt() string { return fmt.Sprint(rand.Uint64()) }

func taking(store storage.Store, site string, served ...hosts.Served) *hosts.Taking {
	return &hosts.Taking{Store: store, Site: site, Who: "Ines Marrow", Now: noon, Attempt: attempt,
		Served: func(context.Context, string) ([]hosts.Served, error) { return served, nil }}
}

func owner(t *testing.T, store storage.Store, host string) string {
	t.Helper()
	entry, err := hosts.Owner(t.Context(), store, host)
	require.NoError(t, err)
	return entry.Site
}

// TestRecordIsFrozen holds the bytes of an entry fast.
func TestRecordIsFrozen(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	_, err := hosts.Append(t.Context(), store, "www.corvane.example", "a",
		func(hosts.Entry) (hosts.Entry, error) {
			return hosts.Entry{Site: "corvane", Grants: []hosts.Grant{{Site: "velley", Path: "/velley/"}},
				Who: "Ines Marrow", When: noon, Why: "first"}, nil
		})
	require.NoError(t, err)
	// sha256 of www.corvane.example
	const hash = "4be900d60f79656db43c3d4a39addc5b3144f3ad322a96abb12bc8c6e81f549a"
	data, err := store.Get(t.Context(), "hosts/"+hash+"/0000000001")
	require.NoError(t, err)
	assert.Equal(t, `{"attempt":"a","format":1,"grants":[{"path":"/velley/","site":"velley"}],"host":"www.corvane.example","number":1,"site":"corvane","when":"2026-11-01T12:00:00Z","who":"Ines Marrow","why":"first"}`, string(data))
	_, err = hosts.Decode(data, "velley.example", 1)
	require.ErrorIs(t, err, hosts.ErrDamaged, "it is of another host")
	_, err = hosts.Decode(append(data, ' '), "www.corvane.example", 1)
	require.ErrorIs(t, err, hosts.ErrDamaged)
}

func TestAHostBelongsToWhoeverTakesItFirst(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	var group sync.WaitGroup
	won := make(chan string, 20)
	for i := range 20 {
		group.Go(func() {
			site := fmt.Sprint("site-", i)
			err := taking(store, site).Take(t.Context(), []string{"https://www.corvane.example/"})
			if _, taken := errors.AsType[*hosts.Taken](err); !taken && assert.NoError(t, err) {
				won <- site
			}
		})
	}
	group.Wait()
	require.Len(t, won, 1, "of twenty at once, one has it")
	first := <-won
	assert.Equal(t, first, owner(t, store, "www.corvane.example"))
	require.NoError(t, taking(store, first).Take(t.Context(), []string{"https://WWW.corvane.example/news/"}),
		"in any letters")
}

func TestNamesBelowAWildcard(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	require.NoError(t, taking(store, "velley").
		Take(t.Context(), []string{"https://old.preview.corvane.example/"}))
	require.NoError(t, taking(store, "corvane").
		Take(t.Context(), []string{"https://*.preview.corvane.example/"}))
	assert.Equal(t, "velley", owner(t, store, "old.preview.corvane.example"), "what was owned before stays")
	assert.Equal(t, "corvane", owner(t, store, "new.preview.corvane.example"))
	assert.Empty(t, owner(t, store, "a.b.preview.corvane.example"), "one label, no more")
	err := taking(store, "velley").Take(t.Context(), []string{"https://new.preview.corvane.example/"})
	taken, ok := errors.AsType[*hosts.Taken](err)
	require.True(t, ok)
	assert.Equal(t, "corvane", taken.Owner.Site)
	assert.Equal(t, "*.preview.corvane.example", taken.Owner.Host)
	_, err = hosts.Append(t.Context(), store, "old.preview.corvane.example", attempt(),
		hosts.HandOver("velley", "", "x", "", noon))
	require.NoError(t, err)
	assert.Equal(t, "corvane", owner(t, store, "old.preview.corvane.example"),
		"what was given up falls to the wildcard")
}

func TestWhatIsServedWhenAHostGetsItsOwnerStays(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	served := []hosts.Served{{Site: "velley", Address: "https://www.corvane.example/velley/"},
		{Site: "corvane", Address: "https://www.corvane.example/"}}
	err := taking(store, "harbour", served...).Take(t.Context(), []string{"https://www.corvane.example/"})
	taken, ok := errors.AsType[*hosts.Taken](err)
	require.True(t, ok, "whoever is served there has it, also if it never asked")
	assert.Equal(t, "corvane", taken.Owner.Site)
	require.NoError(t, taking(store, "velley").
		Take(t.Context(), []string{"https://www.corvane.example/velley/"}), "and the others keep their paths")
	require.Error(t, taking(store, "velley").Take(t.Context(), []string{"https://www.corvane.example/"}))
	require.Error(t, taking(store, "velley").
		Take(t.Context(), []string{"https://www.corvane.example/velleyish/"}))
}

func TestHandOversCannotBothWin(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	require.NoError(t, taking(store, "corvane").Take(t.Context(), []string{"https://www.corvane.example/"}))
	var group sync.WaitGroup
	won := make(chan string, 8)
	for i := range 8 {
		group.Go(func() {
			to := fmt.Sprint("site-", i)
			_, err := hosts.Append(t.Context(), store, "www.corvane.example", attempt(),
				hosts.HandOver("corvane", to, "x", "", noon))
			if _, taken := errors.AsType[*hosts.Taken](err); !taken && assert.NoError(t, err) {
				won <- to
			}
		})
	}
	group.Wait()
	require.Len(t, won, 1)
	assert.Equal(t, <-won, owner(t, store, "www.corvane.example"))
	head, err := hosts.Head(t.Context(), store, "www.corvane.example")
	require.NoError(t, err)
	assert.EqualValues(t, 2, head.Number)

	allow := hosts.Allow(head.Site, hosts.Grant{Site: "velley", Path: "velley"}, false, "x", "", noon)
	entry, err := hosts.Append(t.Context(), store, head.Host, attempt(), allow)
	require.NoError(t, err)
	assert.Equal(t, []hosts.Grant{{Site: "velley", Path: "/velley/"}}, entry.Grants)
	assert.True(t, entry.Allows("velley", "/velley/a/") && entry.Allows("velley",
		"/velley") && !entry.Allows("velley", "/") && !entry.Allows("harbour", "/velley/"))
	entry, err = hosts.Append(t.Context(), store, head.Host, attempt(),
		hosts.Allow(head.Site, hosts.Grant{Site: "velley", Path: "/velley/"}, true, "x", "", noon))
	require.NoError(t, err)
	assert.Empty(t, entry.Grants)
}

// late is a store in which the first answer is an error,
// and the request arrives with the next one.
type late struct {
	*memory.Store
	key  string
	data []byte
}

func (l *late) Create(ctx context.Context, key string, data []byte) error {
	if l.key == "" {
		l.key, l.data = key, data
		return errors.New("connection reset")
	}
	l.Store.Create(ctx, l.key, l.data) //nolint:errcheck // it arrives
	return l.Store.Create(ctx, key, data)
}

func TestAHostIsTakenOnce(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	require.NoError(t, taking(&late{Store: store}, "corvane").
		Take(t.Context(), []string{"https://www.corvane.example/"}))
	head, err := hosts.Head(t.Context(), store, "www.corvane.example")
	require.NoError(t, err)
	assert.EqualValues(t, 1, head.Number)
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"attempt":"a","format":1,"host":"h","number":1,"site":"corvane","when":"2026-11-01T12:00:00Z","who":"x"}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		entry, err := hosts.Decode(data, "h", 1)
		if err == nil {
			require.EqualValues(t, 1, entry.Number)
			require.Equal(t, "h", entry.Host)
			again, err := canon.Marshal(entry)
			require.NoError(t, err)
			require.Equal(t, string(data), string(again))
		}
	})
}

// overtaken is a store in which the first answer is an error, the request
// arrives all the same, and somebody else goes on from it.
type overtaken struct {
	*memory.Store
	next func()
}

func (o *overtaken) Get(ctx context.Context, key string) ([]byte, error) {
	if next := o.next; next != nil && strings.HasSuffix(key, "2") {
		o.next = nil
		_, err := o.Store.Get(ctx, "nowhere/yet") // it is read back too early
		next()
		return nil, err
	}
	return o.Store.Get(ctx, key)
}

func (o *overtaken) Create(ctx context.Context, key string, data []byte) error {
	o.next = func() {
		o.Store.Create(ctx, key, data) //nolint:errcheck // it arrives
		_, err := hosts.Append(ctx, o.Store, "www.corvane.example", "theirs",
			hosts.HandOver("velley", "harbour", "x", "", noon))
		if err != nil {
			panic(err)
		}
	}
	return errors.New("connection reset")
}

// TestAHandOverThatArrivesLateIsASuccess also if the new
// owner was quicker than the answer.
func TestAHandOverThatArrivesLateIsASuccess(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	require.NoError(t, taking(store, "corvane").Take(t.Context(), []string{"https://www.corvane.example/"}))
	entry, err := hosts.Append(t.Context(), &overtaken{Store: store}, "www.corvane.example", "ours",
		hosts.HandOver("corvane", "velley", "x", "", noon))
	require.NoError(t, err)
	assert.Equal(t, []any{int64(2), "velley"}, []any{entry.Number, entry.Site})
	assert.Equal(t, "harbour", owner(t, store, "www.corvane.example"))
	_, err = hosts.Append(t.Context(), &silent{store}, "www.corvane.example", "more",
		hosts.HandOver("harbour", "velley", "x", "", noon))
	require.ErrorIs(t, err, hosts.ErrInDoubt, "any of the tries may still arrive")
}

// silent is a store that never says what became of a record.
type silent struct{ *memory.Store }

func (*silent) Create(context.Context, string, []byte) error { return errors.New("connection reset") }
