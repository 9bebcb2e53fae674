//go:build linux || darwin

package connections

import (
	"net"

	"golang.org/x/sys/unix"
)

// boundUnsent bounds what the system takes over from us before the client can take it.
// Otherwise a slow reader seems to take megabytes at once and then nothing for long, and
// the memory of the system stands for it.
func boundUnsent(c net.Conn, bytes int) {
	tcp, ok := c.(*net.TCPConn)
	if !ok {
		return
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return
	}
	//nolint:errcheck // without it, slow readers have a little less time
	raw.Control(func(fd uintptr) {
		unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_NOTSENT_LOWAT,
			bytes) //nolint:errcheck // as above
	})
}
