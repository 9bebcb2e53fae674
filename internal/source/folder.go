package source

import (
	"orilla.example/orilla/internal/core/publish"
)

// Folder is an output that lies in a folder of this machine.
func Folder(path string) publish.Output {
	return publish.Output{FS: newFolderFS(path), Root: path, Identify: identify}
}
