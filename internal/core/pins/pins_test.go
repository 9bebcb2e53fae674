package pins_test

import (
	"context"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

func take(t *testing.T, store storage.Store, id string) *pins.Hold {
	t.Helper()
	hold, err := pins.Take(t.Context(), store, id, pins.Pin{Site: "corvane", Who: "Ines Marrow",
		What: "deploy", Since: time.Now()})
	require.NoError(t, err)
	return hold
}

func condemn(t *testing.T, store storage.Store, id string, keys ...string) *pins.Removal {
	t.Helper()
	removal, err := pins.Condemn(t.Context(), store, id, pins.Record{Who: "Tobias Quill", Keys: keys})
	require.NoError(t, err)
	return removal
}

// killed leaves what a remover leaves that is killed after
// it has published its list.
func killed(t *testing.T, store storage.Store, id string, keys ...string) {
	t.Helper()
	require.NoError(t, store.Create(t.Context(), "prune/"+id+".run", []byte(`{"format":1}`)))
	list := `{"begun":"2026-11-01T10:00:00Z","format":1,"keys":["` + strings.Join(keys, `","`) +
		`"],"who":"Tobias Quill"}`
	require.NoError(t, store.Create(t.Context(), "prune/"+id+".list", []byte(list)))
}

func only(keys ...string) func(string) bool {
	return func(key string) bool { return strings.Contains(strings.Join(keys, " "), key) }
}

func nobody([]pins.Waiting) {}

func TestARemoverWaitsForPinsThatWereThere(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		hold := take(t, store, "w")
		removal := condemn(t, store, "p", "objects/aa/x")
		var told []pins.Waiting
		done := make(chan error)
		started := time.Now()
		go func() {
			done <- removal.Wait(t.Context(),
				func(w []pins.Waiting) { told = append(told, w...) })
		}()
		time.Sleep(40 * time.Minute) // it is renewed
		again, err := hold.Settle(t.Context(), only("objects/aa/x"),
			func(string) { t.Error("it waits for us, not we for it") })
		require.NoError(t, err)
		assert.False(t, again)
		assert.False(t, hold.Doomed("objects/aa/x"))
		hold.Drop(t.Context())
		require.NoError(t, <-done)
		assert.InDelta(t, 40, time.Since(started).Minutes(), 1)
		require.Len(t, told, 1)
		assert.Equal(t, "Ines Marrow", told[0].Who)
		require.NoError(t, removal.End(t.Context()))
	})
}

func TestAPinThatIsNotRenewedIsWaitedForAsLongAsItLasts(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		require.NoError(t, store.Create(t.Context(), "pins/killed",
			[]byte(`{"format":1,"since":"2026-11-01T10:00:00Z","site":"corvane","what":"deploy","who":"x"}`)))
		removal := condemn(t, store, "p", "objects/aa/x")
		started := time.Now()
		require.NoError(t, removal.Wait(t.Context(), nobody))
		require.NoError(t, removal.End(t.Context()))
		assert.InDelta(t, (pins.Lease + time.Minute).Seconds(), time.Since(started).Seconds(), 2)
	})
}

func TestAWriterWhoComesLaterWaitsOnlyIfItMust(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		removal := condemn(t, store, "p", "objects/aa/x", "sites/corvane/releases/old")
		require.NoError(t, removal.Wait(t.Context(), nobody))
		hold := take(t, store, "w")
		defer hold.Drop(t.Context())
		assert.True(t, hold.Doomed("sites/corvane/releases/old"))
		assert.False(t, hold.Doomed("sites/corvane/releases/other"))
		started := time.Now()
		again, err := hold.Settle(t.Context(), only("objects/bb/y"),
			func(string) { t.Error("nothing to wait for") })
		require.NoError(t, err)
		assert.False(t, again)
		assert.Zero(t, time.Since(started))

		waited := ""
		go func() {
			time.Sleep(time.Minute)
			assert.NoError(t, removal.Delete(t.Context(), []string{"objects/aa/x"}, func(int) {}))
			assert.NoError(t, removal.End(t.Context()))
		}()
		again, err = hold.Settle(t.Context(), only("objects/aa/x"), func(who string) { waited = who })
		require.NoError(t, err)
		assert.True(t, again, "what was put may be gone")
		assert.Equal(t, "Tobias Quill", waited)
		assert.InDelta(t, 60, time.Since(started).Seconds(), 1)
		again, err = hold.Settle(t.Context(), only("objects/aa/x"), func(string) {})
		require.NoError(t, err)
		assert.False(t, again, "put again, it stays")
	})
}

func TestARemoverThatWasKilledHoldsUpOnlyWhatItTouches(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		killed(t, store, "p", "objects/aa/x") // and never another step
		started := time.Now()
		hold := take(t, store, "w")
		defer hold.Drop(t.Context())
		assert.Less(t, time.Since(started), 5*time.Second)
		again, err := hold.Settle(t.Context(), only("objects/bb/y"), func(string) {})
		require.NoError(t, err)
		assert.False(t, again)
		again, err = hold.Settle(t.Context(), only("objects/aa/x"), func(string) {})
		require.NoError(t, err)
		assert.True(t, again)
		assert.InDelta(t, (pins.Lease + time.Minute).Minutes(), time.Since(started).Minutes(), 1)
	})
}

func TestARemoverThatLapsedDeletesNothing(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &stuck{}
		require.NoError(t, store.Create(t.Context(), "objects/aa/x", nil))
		removal := condemn(t, store, "p", "objects/aa/x")
		defer removal.End(t.Context()) //nolint:errcheck // it cannot be written
		time.Sleep(time.Hour)
		require.NoError(t, removal.Delete(t.Context(), nil, func(int) {}), "it is renewed")
		store.stuck.Store(true)
		time.Sleep(pins.Lease)
		require.ErrorIs(t, removal.Delete(t.Context(), []string{"objects/aa/x"}, func(int) {}), pins.ErrLate)
		_, err := store.Stat(t.Context(), "objects/aa/x")
		require.NoError(t, err)
	})
}

// stuck is a store that can no longer be written.
type stuck struct {
	memory.Store
	stuck atomic.Bool
}

func (s *stuck) Replace(ctx context.Context, key string, data []byte) error {
	if s.stuck.Load() {
		return storage.ErrUnreachable
	}
	return s.Store.Replace(ctx, key, data)
}

// slept is a store whose writer does not come back from a renewal for a while,
// as on a machine that sleeps.
type slept struct {
	memory.Store
	once sync.Once
	time time.Duration
}

func (s *slept) Replace(ctx context.Context, key string, data []byte) error {
	s.once.Do(func() { time.Sleep(s.time) })
	return s.Store.Replace(ctx, key, data)
}

// TestWhatHasLapsedStaysLapsed: renewals that come after
// the end of a lease make nothing count again.
func TestWhatHasLapsedStaysLapsed(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &slept{time: 12 * time.Minute}
		require.NoError(t, store.Create(t.Context(), "objects/aa/x", []byte("x")))
		removal := condemn(t, store, "p", "objects/aa/x")
		require.NoError(t, removal.Wait(t.Context(), nobody))
		time.Sleep(20 * time.Minute) // the first renewal took twelve; those after it went well
		require.ErrorIs(t, removal.Delete(t.Context(), []string{"objects/aa/x"}, func(int) {}), pins.ErrLate)
		_, err := store.Get(t.Context(), "objects/aa/x")
		require.NoError(t, err)
		require.NoError(t, removal.End(t.Context()))

		asleep := &slept{time: 12 * time.Minute}
		hold := take(t, asleep, "w")
		time.Sleep(20 * time.Minute)
		require.ErrorIs(t, hold.Check(), pins.ErrLapsed)
		hold.Drop(t.Context())
	})
}

// hanging is a store whose deletions do not come back
// before their time is over.
type hanging struct{ memory.Store }

func (*hanging) Delete(ctx context.Context, _ string) error {
	<-ctx.Done()
	return ctx.Err()
}

// TestADeletionEndsWithItsLease, and nobody is told that the removal is over:
// what was asked may still be done.
func TestADeletionEndsWithItsLease(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &hanging{}
		removal := condemn(t, store, "p", "objects/aa/x")
		require.NoError(t, removal.Wait(t.Context(), nobody))
		began := time.Now()
		err := removal.Delete(t.Context(), []string{"objects/aa/x"},
			func(int) { t.Error("it was not deleted") })
		require.ErrorIs(t, err, pins.ErrLate)
		assert.LessOrEqual(t, time.Since(began), 10*time.Minute)
		require.NoError(t, removal.End(t.Context()))
		_, err = store.Get(t.Context(), "prune/p.end")
		require.ErrorIs(t, err, storage.ErrNotFound, "it counts until it lapses")

		ctx, cancel := context.WithCancel(t.Context())
		other := condemn(t, store, "q", "objects/aa/y")
		require.NoError(t, other.Wait(t.Context(), nobody))
		time.AfterFunc(time.Second, cancel) // Ctrl-C
		require.ErrorIs(t, other.Delete(ctx, []string{"objects/aa/y"}, func(int) {}), context.Canceled)
		require.NoError(t, other.End(t.Context()))
		_, err = store.Get(t.Context(), "prune/q.end")
		require.ErrorIs(t, err, storage.ErrNotFound)
	})
}

func TestAPinThatLapsedIsNotReliedOn(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &stuck{}
		hold := take(t, store, "w")
		defer hold.Drop(t.Context())
		time.Sleep(30 * time.Minute)
		require.NoError(t, hold.Check(), "it is renewed")
		store.stuck.Store(true)
		time.Sleep(pins.Lease)
		require.ErrorIs(t, hold.Check(), pins.ErrLapsed)
		_, err := hold.Settle(t.Context(), only(), func(string) {})
		require.ErrorIs(t, err, pins.ErrLapsed)
	})
}

func TestNobodyWritesToASiteThatIsBeingRemoved(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		removal, err := pins.Condemn(t.Context(), store, "p",
			pins.Record{Who: "Tobias Quill", Keys: []string{}, Sites: []string{"corvane"}})
		require.NoError(t, err)
		_, err = pins.Take(t.Context(), store, "w", pins.Pin{Site: "corvane"})
		require.ErrorIs(t, err, pins.ErrRemoved)
		other, err := pins.Take(t.Context(), store, "v", pins.Pin{Site: "velley"})
		require.NoError(t, err)
		other.Drop(t.Context())
		require.NoError(t, removal.End(t.Context()))
		take(t, store, "x").Drop(t.Context())
		time.Sleep(25 * time.Hour)
		require.NoError(t, pins.Clean(t.Context(), store, 0))
		for _, folder := range []string{storage.PinsKey, storage.PruneKey} {
			for item, err := range store.List(t.Context(), folder) {
				require.NoError(t, err)
				t.Errorf("%s is left", item.Key)
			}
		}
	})
}

// sleepy is a store in which a machine sleeps while it takes a pin.
type sleepy struct {
	memory.Store
	sleeps time.Duration
}

func (s *sleepy) Create(ctx context.Context, key string, data []byte) error {
	time.Sleep(s.sleeps)
	err := s.Store.Create(ctx, key, data)
	time.Sleep(s.sleeps / 2)
	return err
}

// TestAClockIsNotMisjudgedByAMachineThatSleeps: who believed the store's clock
// to be ahead would take another's lease for lapsed too soon.
func TestAClockIsNotMisjudgedByAMachineThatSleeps(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		for _, sleeps := range []time.Duration{0, time.Second, 4 * time.Minute, 8 * time.Minute} {
			hold, err := pins.Take(t.Context(), &sleepy{sleeps: sleeps}, "w", pins.Pin{})
			require.NoError(t, err, "the clocks are the same")
			assert.LessOrEqual(t, hold.Ahead, time.Duration(0))
			assert.GreaterOrEqual(t, hold.Ahead, -sleeps/2)
			hold.Drop(t.Context())
		}
	})
}

// skewed is a store whose clock differs.
type skewed struct {
	memory.Store
	by time.Duration
}

func (s *skewed) Ahead() (time.Duration, bool) { return s.by, true }

func TestAClockThatIsOffIsRefused(t *testing.T) {
	t.Parallel()
	for by, fine := range map[time.Duration]bool{4 * time.Minute: true, -4 * time.Minute: true,
		24 * time.Hour: false, -6 * time.Minute: false} {
		store := &skewed{by: by}
		hold, err := pins.Take(t.Context(), store, "w", pins.Pin{})
		if fine {
			require.NoError(t, err)
			hold.Drop(t.Context())
			continue
		}
		require.ErrorIs(t, err, storage.ErrClock)
		for item, err := range store.List(t.Context(), storage.PinsKey) {
			require.NoError(t, err)
			t.Errorf("%s is left", item.Key)
		}
		_, err = pins.Condemn(t.Context(), store, "p", pins.Record{})
		require.ErrorIs(t, err, storage.ErrClock)
	}
}

// TestRecordsAreFrozen holds what lies in a store to what
// docs/store-format.md says.
func TestRecordsAreFrozen(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store := &memory.Store{}
		when := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
		hold, err := pins.Take(t.Context(), store, "abc", pins.Pin{Site: "corvane", Who: "Ines Marrow",
			What: "deploy", Since: when})
		require.NoError(t, err)
		removal, err := pins.Condemn(t.Context(), store, "xyz", pins.Record{Who: "Tobias Quill", Begun: when,
			Keys: []string{"objects/aa/x"}, Sites: []string{"velley"}})
		require.NoError(t, err)
		done := make(chan error)
		go func() { done <- removal.Wait(t.Context(), nobody) }()
		time.Sleep(time.Second)
		for key, want := range map[string]string{
			"pins/abc":       `{"format":1,"since":"2026-11-23T12:00:00Z","site":"corvane","what":"deploy","who":"Ines Marrow"}`,
			"prune/xyz.run":  `{"format":1}`,
			"prune/xyz.list": `{"begun":"2026-11-23T12:00:00Z","format":1,"keys":["objects/aa/x"],"sites":["velley"],"who":"Tobias Quill"}`,
			"prune/xyz.pins": `{"format":1,"pins":["pins/abc"]}`,
		} {
			data, err := store.Get(t.Context(), key)
			require.NoError(t, err, key)
			assert.Equal(t, want, string(data), key)
		}
		hold.Drop(t.Context())
		require.NoError(t, <-done)
		require.NoError(t, removal.End(t.Context()))
		data, err := store.Get(t.Context(), "prune/xyz.end")
		require.NoError(t, err)
		assert.Equal(t, `{"format":1}`, string(data))
	})
}
