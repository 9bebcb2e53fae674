package file

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// renameNew renames a file unless the new name is taken (renamex_np(2)). File
// systems that cannot do so get a hard link instead.
func renameNew(from, to string) error {
	err := unix.RenamexNp(from, to, unix.RENAME_EXCL)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.EEXIST):
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	case errors.Is(err, unix.ENOTSUP), errors.Is(err, unix.EINVAL):
		return linkNew(from, to)
	}
	return &fs.PathError{Op: "rename", Path: to, Err: err}
}

// syncAll reports that there is no call that waits for everything to be on the
// disk.
func syncAll(*os.File) (bool, error) { return false, nil }
