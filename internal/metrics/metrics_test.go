package metrics_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/metrics"
	"orilla.example/orilla/internal/store/file"
	"orilla.example/orilla/internal/store/memory"
)

func newMetrics() *metrics.Metrics {
	return metrics.New(metrics.Sources{Version: "1.2", Looked: func() time.Time { return time.Now().Add(-time.Minute) },
		Entries: func() []metrics.Entry {
			return []metrics.Entry{{Site: "corvane", Environment: "production", Number: 12}}
		},
		Connections: func() (int, int64) { return 3, 4 }, Dropped: func() int64 { return 5 },
		Certificates: func() map[string]time.Time {
			return map[string]time.Time{"www.corvane.example": time.Unix(1793000000, 0)}
		},
		Memory: func() (int64, int64, int64, int64) { return 10, 20, 3, 5 },
		Cache:  func() (int64, int64) { return 6, 7 }})
}

// text is what is answered to whoever asks.
func text(t *testing.T, m *metrics.Metrics) string {
	t.Helper()
	recorder := httptest.NewRecorder()
	request := httptest.NewRequest(http.MethodGet, "/metrics", nil)
	request.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	m.Handler().ServeHTTP(recorder, request)
	assert.Contains(t, recorder.Header().Get("Content-Type"), "application/openmetrics-text")
	body, err := io.ReadAll(recorder.Body)
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(string(body), "# EOF\n"))
	return string(body)
}

// TestWhatIsCounted counts requests, and asks the node for the rest.
func TestWhatIsCounted(t *testing.T) {
	t.Parallel()
	m := newMetrics()
	for range 3 {
		m.Visited(&visits.Visit{Site: "corvane", Status: 200, By: visits.ByFile, Bytes: 100, Cache: visits.Hit,
			Took: 3 * time.Millisecond})
	}
	m.Visited(&visits.Visit{Status: 400, By: visits.ByRefusal})
	for _, status := range []int{200, 204, 502, 0} {
		m.Visited(&visits.Visit{Site: "velley", Status: status, By: visits.ByProxy, Proxied: true, Upstream: "harbour",
			Took: 300 * time.Millisecond})
	}
	all := text(t, m)
	for _, line := range []string{`orilla_requests_total{by="file",site="corvane",status="200"} 3.0`,
		`orilla_requests_total{by="refusal",site="",status="400"} 1.0`, `orilla_response_bytes_total{site="corvane"} 300.0`,
		`orilla_request_seconds_bucket{by="file",le="0.001"} 0`, `orilla_request_seconds_bucket{by="file",le="0.005"} 3`,
		`orilla_cache_total{result="hit"} 3.0`, `orilla_entry{environment="production",site="corvane"} 12.0`,
		`orilla_connections 3.0`, `orilla_connections_turned_away_total 4.0`, `orilla_access_log_dropped_total 5.0`,
		`orilla_certificate_end_timestamp_seconds{name="www.corvane.example"} 1.793e+09`, `orilla_cache_bytes{what="held"} 6.0`,
		`orilla_memory_bytes{of="content",what="held"} 10.0`, `orilla_memory_bytes{of="indexes",what="limit"} 5.0`,
		`orilla_upstream_requests_total{site="velley",status="2xx",upstream="harbour"} 2.0`,
		`orilla_upstream_requests_total{site="velley",status="5xx",upstream="harbour"} 1.0`,
		`orilla_upstream_requests_total{site="velley",status="none",upstream="harbour"} 1.0`,
		`orilla_upstream_seconds_bucket{site="velley",upstream="harbour",le="0.1"} 0`,
		`orilla_upstream_seconds_bucket{site="velley",upstream="harbour",le="0.5"} 4`,
		`orilla_info{version="1.2"} 1.0`} {
		assert.Contains(t, all, line+"\n")
	}
	assert.Contains(t, all, "orilla_store_last_answer_seconds 6")
}

// TestStrangersMakeNoSeries asks for a hundred thousand addresses.
func TestStrangersMakeNoSeries(t *testing.T) {
	t.Parallel()
	m := newMetrics()
	for i := range 100_000 {
		m.Visited(&visits.Visit{Site: "corvane", Host: fmt.Sprint(i, ".example"), Path: fmt.Sprint("/", i), Agent: fmt.Sprint(i),
			Method: fmt.Sprint(i), Status: 404, By: visits.ByMissing})
	}
	all := text(t, m)
	assert.Contains(t, all, `orilla_requests_total{by="missing",site="corvane",status="404"} 100000.0`)
	assert.Less(t, strings.Count(all, "\norilla_"), 60)
}

// elsewhere is a store far away that fails.
type elsewhere struct{ *memory.Store }

func (elsewhere) Empty(context.Context) (bool, error) { return false, nil }
func (elsewhere) Place() string                       { return "place" }
func (elsewhere) Account() string                     { return "account" }
func (elsewhere) Get(context.Context, string) ([]byte, error) {
	return nil, errors.New("the line is down")
}

// TestAStoreThatCountsIsTheSameStore compares what the node asks of it.
func TestAStoreThatCountsIsTheSameStore(t *testing.T) {
	t.Parallel()
	m := newMetrics()
	far := m.Store(elsewhere{&memory.Store{}})
	remote, ok := far.(storage.Remote)
	require.True(t, ok)
	assert.Equal(t, "place account", remote.Place()+" "+remote.Account())
	_, err := far.Get(t.Context(), "orilla-store")
	require.Error(t, err)
	_, err = far.Stat(t.Context(), "orilla-store")
	require.ErrorIs(t, err, storage.ErrNotFound)
	require.NoError(t, far.Create(t.Context(), "restored/a", []byte("a")))
	require.ErrorIs(t, far.Create(t.Context(), "restored/a", []byte("a")), storage.ErrExists)
	count := 0
	for _, err := range far.List(t.Context(), "restored") {
		require.NoError(t, err)
		count++
	}
	assert.Equal(t, 1, count)

	folder, err := file.Make(t.TempDir() + "/store")
	require.NoError(t, err)
	near := m.Store(folder)
	_, isFar := near.(storage.Remote)
	assert.False(t, isFar)
	watcher, ok := near.(storage.Watcher)
	require.True(t, ok, "a folder tells of changes")
	_, err = watcher.Watch(t.Context(), storage.PulsesKey)
	require.NoError(t, err)
	_, ok = near.(storage.Slicer)
	assert.True(t, ok)
	assert.Equal(t, storage.Parallel(folder), storage.Parallel(near))
	assert.Equal(t, folder.Address(), near.Address())
	plain := m.Store(&memory.Store{})
	_, isFar = plain.(storage.Remote)
	_, watches := plain.(storage.Watcher)
	assert.False(t, isFar || watches)

	all := text(t, m)
	assert.Contains(t, all, `orilla_store_errors_total{operation="get"} 1.0`)
	assert.NotContains(t, all, `orilla_store_errors_total{operation="stat"}`, "that something is not there is an answer")
	assert.NotContains(t, all, `orilla_store_errors_total{operation="put"}`)
	assert.Contains(t, all, `orilla_store_request_seconds_count{operation="put"} 2`)
}
