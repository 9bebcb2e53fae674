//go:build unix

package connections

import "syscall"

// MaxFiles returns how many files and connections this process may have open; 0 if
// that is not known.
func MaxFiles() int {
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) != nil {
		return 0
	}
	const many = 1 << 30
	return int(min(uint64(limit.Cur), many)) //nolint:unconvert // it is signed on some systems
}
