//go:build !unix

package source

import (
	"io/fs"
	"os"
)

// newFolderFS reads the files of a folder.
func newFolderFS(root string) fs.FS { return os.DirFS(root) }
