package file

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// disk is the few operations that the engine changes a file
// system with. Behind this interface a test can record them
// and replay every state that a loss of power could leave.
type disk interface {
	// Mkdir makes one folder; one that exists is no error.
	Mkdir(path string) error
	// Write makes a new file and gives it content. Nothing of it is durable.
	Write(path string, data []byte) error
	// SyncFile makes the content of a file durable, not its name.
	SyncFile(path string) error
	// SyncFolder makes the names in a folder durable.
	SyncFolder(path string) error
	// SyncAll makes everything durable that was done before, if it reports
	// true; else the system cannot do that.
	SyncAll() (bool, error)
	// RenameNew gives a file another name, unless that is
	// taken: then the error is fs.ErrExist.
	RenameNew(from, to string) error
	// RenameOver gives a file another name, whatever had it.
	RenameOver(from, to string) error
	// Remove removes a file or an empty folder. What is not there is no error.
	Remove(path string) error
}

// realDisk is the file system that root lies on. root stays open, so that
// SyncAll learns of every write that failed since.
type realDisk struct{ root *os.File }

// Mkdir implements disk. A folder that is there is fine.
func (realDisk) Mkdir(path string) error {
	if err := os.Mkdir(path, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

// Write implements disk: a new file, which must not be there.
func (realDisk) Write(path string, data []byte) error { return writeNew(path, data) }

// SyncFile implements disk: when it returns, the content survives a loss of
// power.
func (realDisk) SyncFile(path string) error {
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(file.Sync(), file.Close())
}

// RenameNew implements disk: it fails with fs.ErrExist if the name is taken.
func (realDisk) RenameNew(from, to string) error { return renameNew(from, to) }

// RenameOver implements disk: it replaces what has the name, in one step.
func (realDisk) RenameOver(from, to string) error { return os.Rename(from, to) }

// Remove implements disk. What is gone already is fine.
func (realDisk) Remove(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// SyncAll implements disk.
func (d realDisk) SyncAll() (bool, error) { return syncAll(d.root) }

// SyncFolder implements disk: when it returns, names in the folder survive a
// loss of power.
func (realDisk) SyncFolder(path string) error { return syncFolder(path) }

// linkNew gives a file another name where the system has
// no rename that does not replace.
func linkNew(from, to string) error {
	if err := os.Link(from, to); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return err
		}
		return errors.Join(err, errors.New(filepath.Dir(to)+
			": this file system can neither rename without replacing nor link, so it cannot hold a store"))
	}
	return os.Remove(from)
}
