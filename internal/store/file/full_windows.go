package file

import (
	"errors"

	"golang.org/x/sys/windows"
)

// isFull reports whether a disk had no room.
func isFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}
