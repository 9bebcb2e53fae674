package access_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/journal"
)

// slow is a gate whose password takes a while to look at, if not as long as usual.
func slow(t *testing.T) *access.Gate {
	t.Helper()
	hash, err := bcrypt.GenerateFromPassword([]byte("kittiwake"), 7)
	require.NoError(t, err)
	return access.NewGate("staging", &journal.Looking{Password: string(hash)})
}

// TestAClientThatGuessesHasToWait: a few mistakes are free, then each doubles the wait,
// and a password that is right ends it.
func TestAClientThatGuessesHasToWait(t *testing.T) {
	t.Parallel()
	now := noon
	guesses := access.NewGuesses(func() time.Time { return now })
	g := access.NewGate("staging", &journal.Looking{Password: hashOf(t, "kittiwake")})
	guess := func(n int, password string) error {
		_, err := g.Admits(t.Context(), access.Attempt{Authorization: basic("x", password), Client: client(n)}, guesses)
		return err
	}
	for n := range 5 {
		require.ErrorIs(t, guess(1, fmt.Sprint("wrong password ", n)), access.ErrWrong)
	}
	assert.Equal(t, time.Second, guesses.Wait(client(1)))
	require.ErrorIs(t, guess(1, "kittiwake"), access.ErrTooMany, "not even a right one is looked at")
	require.ErrorIs(t, guess(1, "wrong password 1"), access.ErrWrong, "what is known to be wrong costs nothing")
	require.NoError(t, guess(2, "kittiwake"), "another client is not concerned")
	require.NoError(t, guess(1, "kittiwake"), "what is known to be right is not guessing")

	now = now.Add(time.Second)
	require.ErrorIs(t, guess(1, "wrong again"), access.ErrWrong)
	assert.Equal(t, 2*time.Second, guesses.Wait(client(1)))
	for n := range 20 {
		now = now.Add(time.Hour)
		require.ErrorIs(t, guess(1, fmt.Sprint("another wrong one ", n)), access.ErrWrong)
	}
	assert.Equal(t, 5*time.Minute, guesses.Wait(client(1)))
}

// TestABrowserThatAsksForManyThingsIsOneGuess sends the same right password many times at
// once, before it is known.
func TestABrowserThatAsksForManyThingsIsOneGuess(t *testing.T) {
	t.Parallel()
	g, guesses := slow(t), access.NewGuesses(nil)
	var requests sync.WaitGroup
	for range 50 {
		requests.Go(func() {
			may, err := g.Admits(t.Context(), access.Attempt{Authorization: basic("x", "kittiwake"), Client: client(1)},
				guesses)
			assert.True(t, may, err)
		})
	}
	requests.Wait()
}

// TestACrowdThatGuessesKeepsNobodyOut: clients guess, one after the other as there is
// room; whoever comes last with the right password is not behind all of them.
func TestACrowdThatGuessesKeepsNobodyOut(t *testing.T) {
	t.Parallel()
	g, guesses := slow(t), access.NewGuesses(nil)
	ctx, cancel := context.WithCancel(t.Context())
	var crowd sync.WaitGroup
	var looked atomic.Int64
	for n := range 60 {
		crowd.Go(func() {
			_, err := g.Admits(ctx, access.Attempt{Authorization: basic("x", fmt.Sprint("guess number ", n)),
				Client: client(n)}, guesses)
			if errors.Is(err, access.ErrWrong) {
				looked.Add(1)
			}
		})
	}
	require.Eventually(t, func() bool { return looked.Load() > 0 }, 30*time.Second, time.Millisecond)
	before := looked.Load()
	may, err := g.Admits(t.Context(), access.Attempt{Authorization: basic("x", "kittiwake"), Client: client(1000)},
		guesses)
	require.NoError(t, err)
	assert.True(t, may)
	assert.Less(t, looked.Load()-before, int64(30+runtime.NumCPU()), "most of the crowd still wait")

	cancel() // guesses end with their connections
	crowd.Wait()
}
