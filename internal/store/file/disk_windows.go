package file

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/windows"
)

// renameNew renames a file unless the new name is taken (MoveFileEx without
// MOVEFILE_REPLACE_EXISTING).
func renameNew(from, to string) error {
	source, err := windows.UTF16PtrFromString(from)
	if err != nil {
		return err
	}
	target, err := windows.UTF16PtrFromString(to)
	if err != nil {
		return err
	}

	err = windows.MoveFileEx(source, target, windows.MOVEFILE_WRITE_THROUGH)
	if errors.Is(err, windows.ERROR_ALREADY_EXISTS) || errors.Is(err, windows.ERROR_FILE_EXISTS) {
		err = fs.ErrExist
	}
	if err != nil {
		return &fs.PathError{Op: "rename", Path: to, Err: err}
	}
	return nil
}

// writeNew makes a file that must not be there.
func writeNew(path string, data []byte) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	return errors.Join(err, file.Close())
}

// syncAll reports that there is no call that waits for everything to be on the
// disk.
func syncAll(*os.File) (bool, error) { return false, nil }

// syncFolder does nothing: Windows has no flush for folders, and
// MOVEFILE_WRITE_THROUGH returns when the name is on the disk.
func syncFolder(string) error { return nil }

// errNoLock makes the cleaning of temporary files go by their age alone.
var errNoLock = errors.New("this file system cannot lock folders")

// lock reports that folders cannot be locked: age tells what is litter.
func lock(string) (*os.File, error) { return nil, errNoLock }
