package source

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"orilla.example/orilla/internal/core/publish"
)

// ErrOutside: a path leads out of the folder that it is looked for in.
var ErrOutside = errors.New("leads out of the checkout")

// Beneath is an output that a build left below a folder: top is the
// folder, absolute, and name the output's path in it, with slashes.
// Steps are not to be trusted with what they leave, so nothing here
// follows a link out of the output, and what is no file is not
// opened. Close must be called once the output was read. The error
// is fs.ErrNotExist where there is no such folder, or ErrOutside.
func Beneath(top, name string) (publish.Output, func() error, error) {
	outer, err := os.OpenRoot(top)
	if err != nil {
		return publish.Output{}, nil, err
	}
	defer outer.Close() //nolint:errcheck // only a handle

	root, err := outer.OpenRoot(filepath.FromSlash(name))
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return publish.Output{}, nil, err
		}
		if info, lookErr := os.Lstat(filepath.Join(top, filepath.FromSlash(name))); lookErr == nil &&
			info.Mode().IsRegular() {
			return publish.Output{}, nil, fs.ErrNotExist
		}
		return publish.Output{}, nil, errors.Join(ErrOutside, err)
	}

	files, done := newBeneathFS(root)
	output := publish.Output{FS: files, Root: filepath.Join(top, filepath.FromSlash(name)),
		Identify: identify}

	return output, func() error { return errors.Join(done(), root.Close()) }, nil
}

// rootFS opens beneath a root what is a file or a folder, and nothing else:
// opening a pipe would wait for ever.
type rootFS struct {
	fs.StatFS
	root *os.Root
}

// slowBeneathFS opens files beneath a root by looking at each folder on the
// way, which works everywhere.
func slowBeneathFS(root *os.Root) rootFS { return rootFS{root.FS().(fs.StatFS), root} }

// Open implements fs.FS.
func (f rootFS) Open(name string) (fs.File, error) {
	if info, err := f.Stat(name); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	return f.StatFS.Open(name)
}

// ReadDir implements fs.ReadDirFS.
func (f rootFS) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(f.StatFS, name) }

// ReadLink implements fs.ReadLinkFS.
func (f rootFS) ReadLink(name string) (string, error) { return fs.ReadLink(f.StatFS, name) }

// Lstat implements fs.ReadLinkFS.
func (f rootFS) Lstat(name string) (fs.FileInfo, error) { return fs.Lstat(f.StatFS, name) }
