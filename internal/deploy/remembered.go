package deploy

import (
	"errors"
	"os"
	"path/filepath"

	"encoding/hex"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/storage"
)

// What this machine remembers from deploy to deploy lies in the cache and may
// be lost: then the next one is slower.
//
//	unfinished/<hash of store and site>   an upload was interrupted: the next one asks what is there
//	digests/<hash of the folder>          the digests of the files of an output (publish.Memory)

// unfinishedFile says that an upload of the plan's site to
// its store goes on, or was interrupted.
func unfinishedFile(p *Prepared) string {
	return cacheFile(p, "unfinished", p.Store.Address()+" "+p.Plan.Site)
}

// cacheFile is the file in the cache for what a text says.
func cacheFile(p *Prepared, folder, text string) string {
	sum := digest.Of([]byte(text))
	return filepath.Join(p.Plan.Project.Places.Cache, folder, hex.EncodeToString(sum[:12]))
}

// beginUpload reports whether an earlier upload was
// interrupted, and notes that one goes on. A folder is asked
// in any case what it has: that costs next to nothing.
func beginUpload(p *Prepared) (unfinished bool) {
	if _, far := p.Store.(storage.Remote); !far {
		return false
	}
	path := unfinishedFile(p)
	if _, err := os.Stat(path); err == nil {
		return true
	}

	if os.MkdirAll(filepath.Dir(path), 0o700) == nil {
		os.WriteFile(path, nil, 0o600) //nolint:errcheck // then the next upload sends everything again
	}
	return false
}

//nolint:errcheck // then the next upload asks without need
func endUpload(p *Prepared) { os.Remove(unfinishedFile(p)) }

// digestsFile is where the digests of the files in a folder are remembered.
func digestsFile(p *Prepared, folder string) string {
	absolute, err := filepath.Abs(folder)
	if err != nil {
		absolute = folder
	}
	return cacheFile(p, "digests", absolute)
}

// loadDigests returns what is remembered of the files in a folder; nothing if
// that cannot be read.
func loadDigests(p *Prepared, folder string) *publish.Memory {
	data, err := os.ReadFile(digestsFile(p, folder))
	if err == nil {
		if memory, err := publish.DecodeMemory(data); err == nil {
			return memory
		}
	}
	return publish.NewMemory()
}

// saveDigests keeps the digests for the next time, but for
// a workspace, whose files are new then.
func saveDigests(p *Prepared, folder string, memory *publish.Memory) {
	if p.Plan.Origin.Source == journal.FromCommit {
		return
	}
	path := digestsFile(p, folder)
	if os.MkdirAll(filepath.Dir(path), 0o700) != nil {
		return
	}

	temporary, err := os.CreateTemp(filepath.Dir(path), "new-*")
	if err != nil {
		return
	}
	_, err = temporary.Write(memory.Encode())
	if errors.Join(err, temporary.Close()) != nil || os.Rename(temporary.Name(), path) != nil {
		os.Remove(temporary.Name()) //nolint:errcheck // litter in the cache
	}
}
