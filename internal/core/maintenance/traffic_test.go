package maintenance_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/store/memory"
)

// stops is a store that deletes some counts and then no more.
type stops struct {
	storage.Store
	deletes int
}

// Delete implements storage.Store.
func (s *stops) Delete(ctx context.Context, key string) error {
	if strings.HasPrefix(key, storage.TrafficKey) {
		if s.deletes--; s.deletes < 0 {
			return storage.ErrUnreachable
		}
	}
	return s.Store.Delete(ctx, key)
}

// TestDaysOfCountsBecomeOneRecord prunes what nodes counted, also interrupted, and loses nothing
// but what is too old.
func TestDaysOfCountsBecomeOneRecord(t *testing.T) {
	t.Parallel()
	store, now := &memory.Store{}, time.Now().UTC()
	s := &site{t: t, store: store, name: "corvane"}
	s.publish("production", map[string]string{"a": "1"}, nil)
	put := func(day, name string, requests int64) {
		hour := name[:2]
		data, err := traffic.Record{Site: "corvane", Day: day, Node: name[3:], Hours: map[string]map[string]traffic.Counts{
			hour: {"production": {Totals: traffic.Totals{Requests: requests}}}}}.Encode()
		require.NoError(t, err)
		require.NoError(t, store.Replace(t.Context(), storage.TrafficRecord("corvane", day, name), data))
	}
	day := func(ago int) string { return traffic.DayOf(now.AddDate(0, 0, -ago)) }
	for _, ago := range []int{0, 1, 5, 6, 500} {
		for hour := range 3 {
			put(day(ago), fmt.Sprintf("%02d-a", hour), 10)
			put(day(ago), fmt.Sprintf("%02d-b", hour), 1)
		}
	}
	sum := func() int64 {
		s := &traffic.Sum{From: now.AddDate(0, 0, -399), To: now.Add(24 * time.Hour)}
		found, err := traffic.Read(t.Context(), store, "corvane", s.From, s.To, nil)
		require.NoError(t, err)
		for _, r := range found.Records {
			s.Add(r, "production")
		}
		return s.Totals().Requests
	}
	require.Equal(t, int64(4*33), sum())
	prune := func(on storage.Store) (maintenance.Pruned, error) {
		p, err := maintenance.Plan(t.Context(), on, "somebody", maintenance.Policy{Grace: time.Hour}, quiet)
		require.NoError(t, err)
		planned := p.Result()
		_, err = p.CarryOut(t.Context(), nobody, quiet)
		return planned, err
	}
	// A plan changes nothing.
	_, err := maintenance.Plan(t.Context(), store, "somebody", maintenance.Policy{Grace: time.Hour}, quiet)
	require.NoError(t, err)
	assert.Len(t, listed(t, store, storage.TrafficOf("corvane", day(5))), 6)

	// Interrupted after the record of the day was written.
	limited := &stops{Store: store, deletes: 3}
	_, err = prune(limited)
	require.Error(t, err)
	assert.Equal(t, int64(4*33), sum())
	planned, err := prune(store)
	require.NoError(t, err)
	assert.Positive(t, planned.TrafficDays)
	assert.Equal(t, int64(4*33), sum())
	for _, ago := range []int{5, 6} {
		assert.Equal(t, []string{"day"}, listed(t, store, storage.TrafficOf("corvane", day(ago))))
	}
	assert.Len(t, listed(t, store, storage.TrafficOf("corvane", day(1))), 6, "somebody may still write that day's")
	assert.Empty(t, listed(t, store, storage.TrafficOf("corvane", day(500))))

	// A node that was away writes late, and one writes again what has gone into the day.
	put(day(5), "07-c", 100)
	put(day(5), "00-a", 10)
	assert.Equal(t, int64(4*33+100), sum())
	_, err = prune(store)
	require.NoError(t, err)
	assert.Equal(t, int64(4*33+100), sum())
	planned, err = prune(store)
	require.NoError(t, err)
	assert.Zero(t, planned.TrafficDays+planned.TrafficGone)
	assert.Equal(t, []string{"day"}, listed(t, store, storage.TrafficOf("corvane", day(5))))
	// What a node still had of a site that was removed goes.
	orphan := storage.TrafficRecord("velley", day(0), "01-a")
	require.NoError(t, store.Replace(t.Context(), orphan, []byte("{}")))
	_, err = prune(store)
	require.NoError(t, err)
	_, err = store.Stat(t.Context(), orphan)
	require.ErrorIs(t, err, storage.ErrNotFound)
	// A record of a later version is nobody's to merge.
	require.NoError(t, store.Replace(t.Context(), storage.TrafficRecord("corvane", day(6), "day"), []byte(`{"format":9}`)))
	put(day(6), "08-c", 5)
	_, err = prune(store)
	require.NoError(t, err)
	assert.Equal(t, []string{"08-c", "day"}, listed(t, store, storage.TrafficOf("corvane", day(6))))
}
