//go:build unix

package file

import (
	"errors"
	"syscall"
)

// isFull reports whether a disk or a quota had no room.
func isFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
