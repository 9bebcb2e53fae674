package connections

import "golang.org/x/sys/unix"

// monotonic is the time since the machine started, in microseconds: systemd wants to
// know when a reload began.
func monotonic() int64 {
	var now unix.Timespec
	if unix.ClockGettime(unix.CLOCK_MONOTONIC, &now) != nil {
		return 0
	}
	return now.Nano() / 1000
}
