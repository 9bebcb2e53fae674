package connections_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/connections"
)

// TestWhatHTTPRefusesIsTold sends what is no request, and what is one.
func TestWhatHTTPRefusesIsTold(t *testing.T) {
	t.Parallel()
	told := make(chan connections.Refusal, 10)
	server := &connections.Server{Handler: http.NotFoundHandler(), Refused: func(r connections.Refusal) { told <- r }}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan error)
	go func() { ended <- server.Serve(ctx, nil, listener) }()
	t.Cleanup(func() { stop(); assert.NoError(t, <-ended) })
	send := func(text string) string {
		conn, err := net.Dial("tcp", listener.Addr().String())
		require.NoError(t, err)
		defer conn.Close()         //nolint:errcheck // read
		io.WriteString(conn, text) //nolint:errcheck // the answer says what came
		answer, _ := io.ReadAll(conn)
		return string(answer)
	}
	for text, status := range map[string]int{
		"GARBAGE that is longer than a preface\r\n\r\n":                              http.StatusBadRequest,
		"GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n":                               http.StatusBadRequest,
		"GET / HTTP/1.1\r\nHost: a\r\nConnection: keep-alive\r\n\r\nGARBAGE\r\n\r\n": http.StatusBadRequest,
		"GET / HTTP/9.9\r\nHost: a\r\n\r\n":                                          http.StatusHTTPVersionNotSupported,
	} {
		assert.Contains(t, send(text), fmt.Sprint("HTTP/1.1 ", status), text)
		select {
		case r := <-told:
			assert.Equal(t, status, r.Status, text)
			assert.True(t, r.Client.IsLoopback())
		case <-time.After(10 * time.Second):
			assert.Fail(t, "nobody was told", text)
		}
	}
	send("GET / HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n")
	conn, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	io.WriteString(conn, "GET / HT") //nolint:errcheck // it goes at once
	require.NoError(t, conn.Close())
	assert.Contains(t, send("\x00 that is longer than a preface\r\n\r\n"), "400")
	r := <-told
	assert.Equal(t, http.StatusBadRequest, r.Status)
	assert.Empty(t, told, "requests, and those who go, are no refusals")
}
