package file

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// renameNew renames a file unless the new name is taken (renameat2(2),
// RENAME_NOREPLACE). File systems that cannot do so get a hard link instead.
func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.EEXIST):
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS):
		return linkNew(from, to)
	}
	return &fs.PathError{Op: "rename", Path: to, Err: err}
}

// syncAll waits until everything on the store's file system is on the disk
// (syncfs(2)).
func syncAll(root *os.File) (bool, error) { return true, unix.Syncfs(int(root.Fd())) }
