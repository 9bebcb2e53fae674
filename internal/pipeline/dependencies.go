package pipeline

import (
	"encoding/hex"
	"encoding/json"
	"hash"
	"os"
	"path/filepath"

	"crypto/sha256"
)

// lockFiles say which dependencies a build has; what they are called in the usual package managers.
var lockFiles = []string{
	"package.json", "package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "bun.lock", "bun.lockb",
	"Gemfile.lock", "composer.lock", "poetry.lock", "uv.lock", "Pipfile.lock", "requirements.txt", "go.sum", "Cargo.lock", "mix.lock",
}

// dependencies are the folders that build.keep carries from build to build.
type dependencies struct {
	folder string   // where the build runs
	kept   string   // where they wait between builds; "" if nothing is kept
	names  []string // relative to both
}

// dependencies returns those of a build in folder. They are found again only with the same lock files and prepare steps.
func (r *Run) dependencies(folder string) dependencies {
	build := r.Plan.Config.Build
	if len(build.Keep) == 0 {
		return dependencies{}
	}
	sum := sha256.New()
	told, _ := json.Marshal([]any{build.Prepare, build.Keep, build.Variables})
	sum.Write(told) //nolint:errcheck // a hash never fails
	for _, name := range lockFiles {
		addFile(sum, folder, name)
	}
	name := r.Plan.Site + "-" + hex.EncodeToString(sum.Sum(nil)[:16])
	return dependencies{folder: folder, kept: filepath.Join(r.Plan.Project.Places.Cache, "kept", name), names: build.Keep}
}

func addFile(sum hash.Hash, folder, name string) {
	data, err := os.ReadFile(filepath.Join(folder, name))
	if err == nil {
		part := sha256.Sum256(data)
		sum.Write(append([]byte(name+"\x00"), part[:]...)) //nolint:errcheck // a hash never fails
	}
}

// take moves what is kept to where the build runs, and reports whether all of it was there. One build at a time gets it:
// another one prepares for itself.
func (d dependencies) take() bool {
	if d.kept == "" {
		return false
	}
	mine := filepath.Join(filepath.Dir(d.folder), ".taken")
	if os.Rename(d.kept, mine) != nil {
		return false
	}
	defer os.RemoveAll(mine) //nolint:errcheck // in the workspace
	for _, name := range d.names {
		target := filepath.Join(d.folder, filepath.FromSlash(name))
		if os.MkdirAll(filepath.Dir(target), 0o755) != nil || os.Rename(filepath.Join(mine, filepath.FromSlash(name)), target) != nil {
			return false
		}
	}
	return true
}

// give puts the folders back for the next build. What cannot be kept is prepared again.
func (d dependencies) give() {
	if d.kept == "" {
		return
	}
	mine := filepath.Join(filepath.Dir(d.folder), ".given")
	for _, name := range d.names {
		target := filepath.Join(mine, filepath.FromSlash(name))
		if os.MkdirAll(filepath.Dir(target), 0o755) != nil || os.Rename(filepath.Join(d.folder, filepath.FromSlash(name)), target) != nil {
			return
		}
	}
	if os.MkdirAll(filepath.Dir(d.kept), 0o755) == nil {
		os.Rename(mine, d.kept) //nolint:errcheck // another build was faster
	}
}
