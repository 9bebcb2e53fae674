//go:build unix

package file

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// writeNew writes with the bare system calls: os.File asks
// of each file whether it could be polled, which for ten
// thousand small ones takes longer than opening them.
func writeNew(path string, data []byte) error {
	fd, err := retry(func() (int, error) {
		return unix.Open(path, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_CLOEXEC, 0o644)
	})
	if err != nil {
		return &fs.PathError{Op: "create", Path: path, Err: err}
	}

	for len(data) > 0 {
		n, err := retry(func() (int, error) { return unix.Write(fd, data) })
		if err != nil {
			unix.Close(fd) //nolint:errcheck // the first error counts
			return &fs.PathError{Op: "write", Path: path, Err: err}
		}
		data = data[n:]
	}

	if err := unix.Close(fd); err != nil {
		return &fs.PathError{Op: "close", Path: path, Err: err}
	}
	return nil
}

// retry repeats a call that a signal interrupted.
func retry(call func() (int, error)) (int, error) {
	for {
		n, err := call()
		if !errors.Is(err, unix.EINTR) {
			return n, err
		}
	}
}

// syncFolder makes the names in a folder durable (fsync(2)).
func syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}

// lock takes a folder for this process, until the returned file is closed or
// the process ends. It fails if another has it.
func lock(path string) (*os.File, error) {
	folder, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(folder.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(err, folder.Close())
	}
	return folder, nil
}
