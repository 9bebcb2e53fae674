//go:build unix

package cli

import "golang.org/x/sys/unix"

// freeSpace returns how many bytes this user may still write below a folder.
func freeSpace(folder string) (int64, bool) {
	var stat unix.Statfs_t
	if err := unix.Statfs(folder, &stat); err != nil {
		return 0, false
	}
	return int64(stat.Bavail) * int64(stat.Bsize), true
}
