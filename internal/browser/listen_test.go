package browser_test

import (
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// listen takes a port of this machine.
func listen(t *testing.T) net.Listener {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return listener
}
