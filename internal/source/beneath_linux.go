package source

import (
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// beneathFS is rootFS with one system call where os.Root takes one for each
// folder of a path: openat2(2) with RESOLVE_BENEATH.
type beneathFS struct {
	rootFS
	folder *os.File
}

// newBeneathFS opens files beneath a root with one system call each, where the
// kernel can do that (openat2, Linux 5.6).
func newBeneathFS(root *os.Root) (files fs.FS, done func() error) {
	slow := slowBeneathFS(root)
	folder, err := root.Open(".")
	if err != nil {
		return slow, func() error { return nil }
	}

	f := beneathFS{slow, folder}
	fd, err := f.openat2(".", unix.O_PATH)
	if err != nil { // Linux before 5.6, or a filter of system calls
		return slow, folder.Close
	}

	unix.Close(fd) //nolint:errcheck // only a handle

	return f, folder.Close
}

// openat2 opens a name, and has the kernel refuse whatever leads out of the
// folder.
func (f beneathFS) openat2(name string, flags uint64) (int, error) {
	how := unix.OpenHow{Flags: flags | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS}
	for {
		fd, err := unix.Openat2(int(f.folder.Fd()), name, &how)
		if err != unix.EINTR && err != unix.EAGAIN { // EAGAIN: a folder was moved meanwhile
			return fd, err
		}
	}
}

// Open implements fs.FS.
func (f beneathFS) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	fd, err := f.openat2(name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY) // a pipe would wait for a writer
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}

	var stat unix.Stat_t
	switch err := unix.Fstat(fd, &stat); {
	case err != nil:
		unix.Close(fd) //nolint:errcheck // read only
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	case stat.Mode&unix.S_IFMT == unix.S_IFDIR:
		unix.Close(fd) //nolint:errcheck // read only
		return f.rootFS.Open(name)
	case stat.Mode&unix.S_IFMT != unix.S_IFREG:
		unix.Close(fd) //nolint:errcheck // read only
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}

	return &plainFile{fd: fd, path: filepath.Join(f.root.Name(), filepath.FromSlash(name))}, nil
}
