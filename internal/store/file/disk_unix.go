//go:build unix

package file

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

func syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}

// lock takes a folder for this process, until the returned file is closed or the process ends. It fails if another has it.
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
