package source

import (
	"io/fs"
	"syscall"

	"orilla.example/orilla/internal/core/publish"
)

// identify takes what the system knows of a file; see publish.Identity.
func identify(info fs.FileInfo) (publish.Identity, bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return publish.Identity{}, false
	}
	return publish.Identity{
		Device: int64(stat.Dev), Inode: int64(stat.Ino), Size: stat.Size,
		Modified: stat.Mtim.Nano(), Changed: stat.Ctim.Nano(),
	}, true
}
