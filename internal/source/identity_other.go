//go:build !linux && !darwin

package source

import (
	"io/fs"

	"orilla.example/orilla/internal/core/publish"
)

// identify knows no file again: Go tells neither inode nor
// change time here, so every file is read.
func identify(fs.FileInfo) (publish.Identity, bool) { return publish.Identity{}, false }
