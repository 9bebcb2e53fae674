//go:build !linux && !darwin

package connections

import "net"

// boundUnsent does nothing: this system has no such bound.
func boundUnsent(net.Conn, int) {}
