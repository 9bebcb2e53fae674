package connections

import (
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDeadlinesAreKept, though the connection below is told only of those that have come:
// by a round of the watch, or at once by who wants a reader to stop.
func TestDeadlinesAreKept(t *testing.T) {
	t.Parallel()
	here, there := net.Pipe()
	defer there.Close() //nolint:errcheck // a test
	server := &Server{}
	server.SetLimits(Limits{})
	c := &connection{Conn: here, server: server}
	server.admission.all = append(server.admission.all, c)
	read := func() (string, error) {
		buffer := make([]byte, 10)
		n, err := c.Read(buffer)
		return string(buffer[:n]), err
	}
	look := func(after time.Duration) { server.look(time.Now().Add(after), server.limits.Load()) }

	// One to come, and one that has come.
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Hour)))
	ended := make(chan error, 1)
	go func() { _, err := read(); ended <- err }()
	look(30 * time.Minute)
	select {
	case err := <-ended:
		t.Fatal("too soon", err)
	case <-time.After(20 * time.Millisecond):
	}
	look(2 * time.Hour)
	require.ErrorIs(t, <-ended, os.ErrDeadlineExceeded)

	// Whoever goes on reads again, and may be stopped at once.
	require.NoError(t, c.SetReadDeadline(time.Time{}))
	go there.Write([]byte("harbour")) //nolint:errcheck // it is read
	text, err := read()
	require.NoError(t, err)
	assert.Equal(t, "harbour", text)
	look(1000 * time.Hour)
	go func() { _, err := read(); ended <- err }()
	time.Sleep(10 * time.Millisecond)
	require.NoError(t, c.SetReadDeadline(stop))
	require.ErrorIs(t, <-ended, os.ErrDeadlineExceeded)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Hour)))
	go there.Write([]byte("quay")) //nolint:errcheck // it is read
	text, err = read()
	require.NoError(t, err)
	assert.Equal(t, "quay", text)
}
