package edge

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

// afar is a store elsewhere whose reads take what they are told to.
type afar struct {
	storage.Store
	asked atomic.Int64
	takes func(number int64) (time.Duration, error)
}

func (s *afar) Empty(context.Context) (bool, error) { return false, nil }
func (s *afar) Place() string                       { return "afar" }
func (s *afar) Account() string                     { return "" }

func (s *afar) Get(ctx context.Context, key string) ([]byte, error) {
	takes, err := s.takes(s.asked.Add(1))
	select {
	case <-time.After(takes):
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	return s.Store.Get(ctx, key)
}

// usually returns a store whose reads take 20 ms, read so often that this is known; from then
// on they take what is asked for.
func usually(t *testing.T, takes func(number int64) (time.Duration, error)) (*afar, storage.Store) {
	t.Helper()
	inner := &memory.Store{}
	require.NoError(t, inner.Replace(t.Context(), "pulses/corvane", []byte("7")))
	store := &afar{Store: inner, takes: func(int64) (time.Duration, error) { return 20 * time.Millisecond, nil }}
	hurried := newHurried(store)
	for range 50 {
		_, err := hurried.Get(t.Context(), "pulses/corvane")
		require.NoError(t, err)
	}
	store.asked.Store(0)
	store.takes = takes
	return store, hurried
}

func TestALateReadIsAskedForAgain(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		store, hurried := usually(t, func(number int64) (time.Duration, error) {
			if number == 1 {
				return 220 * time.Millisecond, nil
			}
			return 20 * time.Millisecond, nil
		})
		began := time.Now()
		data, err := hurried.Get(t.Context(), "pulses/corvane")
		require.NoError(t, err)
		assert.Equal(t, "7", string(data))
		assert.Equal(t, 70*time.Millisecond, time.Since(began), "50 ms until it is late, and 20")
		assert.EqualValues(t, 2, store.asked.Load())
		time.Sleep(time.Second) // the one that lost ends by itself

		began = time.Now()
		_, err = hurried.Get(t.Context(), "pulses/not-there")
		require.ErrorIs(t, err, storage.ErrNotFound, "that nothing is there is an answer")
		assert.Equal(t, 20*time.Millisecond, time.Since(began))
		assert.EqualValues(t, 3, store.asked.Load(), "an answer in time is asked for once")
	})
}

func TestASlowStoreIsNotAskedTwiceAsMuch(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		broken := errors.New("broken")
		store, hurried := usually(t, func(int64) (time.Duration, error) { return time.Second, broken })
		for range 200 {
			_, err := hurried.Get(t.Context(), "pulses/corvane")
			require.ErrorIs(t, err, broken, "of two that fail, it fails")
		}
		assert.LessOrEqual(t, store.asked.Load(), int64(400))
		// Ten at a time: a second request for five of them a second, and the first twenty.
		store.asked.Store(0)
		done := make(chan bool)
		for range 10 {
			go func() {
				for range 20 {
					hurried.Get(t.Context(), "pulses/corvane") //nolint:errcheck // it fails
				}
				done <- true
			}()
		}
		for range 10 {
			<-done
		}
		assert.LessOrEqual(t, store.asked.Load(), int64(200+20+5*21))
		assert.Greater(t, store.asked.Load(), int64(200))
	})
}

func TestWhoeverWaitsNoLongerIsNotHeld(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		_, hurried := usually(t, func(int64) (time.Duration, error) { return 10 * time.Second, nil })
		ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		defer cancel()
		began := time.Now()
		_, err := hurried.Get(ctx, "pulses/corvane")
		require.ErrorIs(t, err, context.DeadlineExceeded)
		assert.Equal(t, 100*time.Millisecond, time.Since(began))
		time.Sleep(time.Minute)
	})
}
