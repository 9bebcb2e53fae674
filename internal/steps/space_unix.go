//go:build unix

package steps

import "golang.org/x/sys/unix"

// FreeSpace returns how many bytes this user may still write below a folder.
func FreeSpace(folder string) (int64, bool) {
	var stat unix.Statfs_t
	if err := unix.Statfs(folder, &stat); err != nil {
		return 0, false
	}
	return int64(stat.Bavail) * int64(stat.Bsize), true //nolint:unconvert // of another type on macOS
}
