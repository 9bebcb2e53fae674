package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
)

// target is where a folder was published last: the site, and the environment as
// people call it.
type target struct {
	Format      int    `json:"format"`
	Folder      string `json:"folder"` // for whoever reads the file
	Site        string `json:"site"`
	Environment string `json:"environment,omitempty"`
}

// targetFormat is the number of the form in which targets are remembered.
const targetFormat = 1

// targetFile is where the target of a folder is remembered: on this machine, for
// this user, and never in the folder itself, which may be published.
func targetFile(a *app, root string) string {
	sum := sha256.Sum256([]byte(root))
	return filepath.Join(a.places.Cache, "targets", hex.EncodeToString(sum[:8])+".json")
}

// Nothing is remembered in the folder itself: what lies there may be published, copied,
// or committed, and belongs to everybody who has it.

// lastTarget returns where a folder was published last. It is a proposal for
// somebody at a terminal, and never used without one: a script must not do
// something else because of what a person did before.
func lastTarget(a *app, root string) (last target, ok bool) {
	if !a.Asks {
		return target{}, false
	}
	data, err := os.ReadFile(targetFile(a, root))
	if err != nil || json.Unmarshal(data, &last) != nil || last.Format != targetFormat {
		return target{}, false
	}
	return last, last.Site != ""
}

// rememberTarget notes where a folder was published. That it fails is no reason to
// say that a deploy failed.
func rememberTarget(a *app, root, site, environment string) {
	file := targetFile(a, root)
	data, err := json.Marshal(target{Format: targetFormat, Folder: root, Site: site,
		Environment: environment})
	if err != nil || os.MkdirAll(filepath.Dir(file), 0o700) != nil {
		return
	}
	//nolint:errcheck // see above; renamed, so that a reader sees all of it or what was there
	if os.WriteFile(file+".new", data, 0o600) == nil {
		os.Rename(file+".new", file)
	}
}
