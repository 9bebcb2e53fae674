//go:build !unix

package source

import (
	"io/fs"
	"os"
)

func newFolderFS(root string) fs.FS { return os.DirFS(root) }
