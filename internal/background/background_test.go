package background_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/background"
)

// TestWhoeverWritesNeverWaits writes to what is never emptied.
func TestWhoeverWritesNeverWaits(t *testing.T) {
	t.Parallel()
	reader, full := io.Pipe()
	w := background.New(full, 1000, 0)
	for i := range 1000 {
		fmt.Fprintf(w, "line %d\n", i) //nolint:errcheck // it never fails
	}
	assert.False(t, w.Flush(20*time.Millisecond))
	dropped := w.Dropped()
	assert.Positive(t, dropped)
	// What was accepted comes, whole and in order, once somebody reads.
	read := make(chan []byte)
	go func() {
		data, err := io.ReadAll(reader)
		assert.NoError(t, err)
		read <- data
	}()
	w.Close(10 * time.Second)
	require.NoError(t, full.Close())
	lines := strings.Split(strings.TrimSuffix(string(<-read), "\n"), "\n")
	assert.Equal(t, int64(1000), dropped+int64(len(lines)))
	before := -1
	for _, line := range lines {
		var n int
		_, err := fmt.Sscanf(line, "line %d", &n)
		require.NoError(t, err, line)
		assert.Greater(t, n, before)
		before = n
	}
}

// TestAPipeThatIsNeverReadKeepsNobodyFromEnding closes one.
func TestAPipeThatIsNeverReadKeepsNobodyFromEnding(t *testing.T) {
	t.Parallel()
	_, full := io.Pipe()
	w := background.New(full, 1000, time.Hour)
	io.WriteString(w, "line\n") //nolint:errcheck // it never fails
	began := time.Now()
	w.Close(50 * time.Millisecond)
	assert.Less(t, time.Since(began), 10*time.Second)
}

// broken refuses until it is mended.
type broken struct {
	mutex  sync.Mutex
	mended bool
	got    bytes.Buffer
}

// Write implements io.Writer.
func (b *broken) Write(data []byte) (int, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if !b.mended {
		return 0, errors.New("the disk is full")
	}
	return b.got.Write(data)
}

// TestADestinationThatRefusesIsTriedAgain counts what it refused.
func TestADestinationThatRefusesIsTriedAgain(t *testing.T) {
	t.Parallel()
	to := &broken{}
	w := background.New(to, 1<<20, 0)
	io.WriteString(w, "one\ntwo\n") //nolint:errcheck // it never fails
	require.Eventually(t, func() bool { return w.Dropped() == 2 }, 30*time.Second, time.Millisecond)
	require.ErrorContains(t, w.Trouble(), "full")
	to.mutex.Lock()
	to.mended = true
	to.mutex.Unlock()
	var writing sync.WaitGroup
	for range 8 {
		writing.Go(func() {
			for range 500 {
				io.WriteString(w, "three\n") //nolint:errcheck // it never fails
			}
		})
	}
	writing.Wait()
	require.True(t, w.Flush(10*time.Second))
	require.NoError(t, w.Trouble())
	w.Close(time.Second)
	assert.Equal(t, strings.Repeat("three\n", 4000), to.got.String())
	assert.Equal(t, int64(2), w.Dropped())
}

// slow takes its time with each write.
type slow struct{ bytes.Buffer }

// Write implements io.Writer.
func (s *slow) Write(data []byte) (int, error) {
	time.Sleep(time.Millisecond)
	return s.Buffer.Write(data)
}

// TestFlushingEndsWhileOthersWrite: it waits for what was there, and not for quiet.
func TestFlushingEndsWhileOthersWrite(t *testing.T) {
	t.Parallel()
	w := background.New(&slow{}, 1<<20, 0)
	done := make(chan struct{})
	var others sync.WaitGroup
	others.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
				io.WriteString(w, "line\n") //nolint:errcheck // it never fails
			}
		}
	})
	for range 20 {
		assert.True(t, w.Flush(10*time.Second))
	}
	close(done)
	others.Wait()
	w.Close(10 * time.Second)
}
