//go:build !linux

package connections

// monotonic is only asked for where systemd is.
func monotonic() int64 { return 0 }
