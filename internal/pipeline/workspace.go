package pipeline

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/source"
)

// workspace is a place to build in that this process holds. Workspaces of a site's trusted builds are numbered; each is a folder in the
// cache, a file that the system locks for whoever uses it (and unlocks when that process ends, however it ends), and a file with what lies
// in it. An untrusted build has one of its own, elsewhere, which goes with it: what it leaves there reaches no other build.
type workspace struct {
	source.Workspace
	lock  *flock.Flock
	state workspaceState
	once  bool // it goes when it is released
}

// workspaceState is what lies in a workspace.
type workspaceState struct {
	Dependencies string    `json:"dependencies,omitempty"` // whose are in the folders that are kept; "" if they cannot be relied on
	Building     string    `json:"building,omitempty"`     // the id of the build that goes on, or was killed
	Output       *finished `json:"output,omitempty"`       // a finished output that is not in the store yet
}

// finished is the output of a build that succeeded.
type finished struct {
	Key    string        `json:"key"`
	Record builds.Record `json:"record"`
}

func (w *workspace) log() string       { return filepath.Join(w.Folder, "log") }
func (w *workspace) temporary() string { return filepath.Join(w.Folder, "tmp") }
func (w *workspace) stateFile() string { return w.Folder + ".json" }

// save keeps the state. A state that cannot be kept is removed: an old one would be wrong.
func (w *workspace) save() {
	if w.once {
		return
	}
	data, err := json.Marshal(w.state)
	if err == nil {
		err = os.WriteFile(w.stateFile()+".new", data, 0o600)
	}
	if err == nil {
		err = os.Rename(w.stateFile()+".new", w.stateFile())
	}
	if err != nil {
		os.Remove(w.stateFile()) //nolint:errcheck // then the lock's holder goes on without
	}
}

func readState(file string) (state workspaceState) {
	data, err := os.ReadFile(file)
	if err != nil || json.Unmarshal(data, &state) != nil {
		return workspaceState{}
	}
	return state
}

// release lets others use the workspace.
func (w *workspace) release() {
	if w.once {
		w.Clear()                //nolint:errcheck // the next build that is not trusted tries again
		os.Remove(w.lock.Path()) //nolint:errcheck // as above
	}
	w.lock.Unlock() //nolint:errcheck // the end of the process does it too
}

// takeWorkspace returns a free workspace of the plan's site: the one with the finished output of this very build if there is one, else
// one with the same dependencies, else any that holds no output somebody may come back for, else a new one. Processes that a killed
// build left in it are ended.
func (r *Run) takeWorkspace(key, dependencies string) (*workspace, error) {
	r.clearShared()
	if err := r.clearUntrusted(); err != nil {
		return nil, err
	}
	if r.untrusted != nil {
		return r.newWorkspace()
	}
	folder, err := r.workspaces("trusted")
	if err != nil {
		return nil, err
	}
	locks, err := filepath.Glob(filepath.Join(globEscape(folder), "*.lock"))
	if err != nil {
		return nil, err
	}
	last := 0
	rank := map[string]int{}
	for _, lock := range locks {
		base := strings.TrimSuffix(lock, ".lock")
		n, _ := strconv.Atoi(filepath.Base(base))
		last = max(last, n)
		switch state := readState(base + ".json"); {
		case state.Output != nil && state.Output.Key == key:
			rank[lock] = 0
		case state.Output != nil:
			rank[lock] = 3
		case state.Dependencies != dependencies:
			rank[lock] = 2
		default:
			rank[lock] = 1
		}
	}
	slices.SortStableFunc(locks, func(a, b string) int { return rank[a] - rank[b] })
	for _, lock := range locks {
		if rank[lock] == 3 && r.young(strings.TrimSuffix(lock, ".lock")+".json") {
			continue
		}
		if w, err := lockWorkspace(strings.TrimSuffix(lock, ".lock")); w != nil || err != nil {
			return w, err
		}
	}
	for n := last + 1; ; n++ {
		if w, err := lockWorkspace(filepath.Join(folder, strconv.Itoa(n))); w != nil || err != nil {
			return w, err
		}
	}
}

// workspaces returns the folder, made and with links resolved, of the workspaces of a class of the site's builds.
func (r *Run) workspaces(class string) (string, error) {
	folder := filepath.Join(r.Plan.Project.Places.Cache, "work", r.Plan.Site, class)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(folder)
}

// clearUntrusted removes the workspaces of untrusted builds that were killed.
func (r *Run) clearUntrusted() error {
	folder, err := r.workspaces("untrusted")
	if err != nil {
		return err
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	for _, entry := range entries {
		base, isLock := strings.CutSuffix(entry.Name(), ".lock")
		var options []flock.Option
		switch {
		case isLock: // one that a step takes away just now is not made anew: whoever holds it would not be noticed
			options = append(options, flock.SetFlag(os.O_RDWR))
		case r.young(filepath.Join(folder, base)):
			continue // its lock tells; if a step has taken that away, its build may go on
		}
		if left, err := lockWorkspace(filepath.Join(folder, base), options...); left != nil && err == nil {
			builder.EndStrays(base) // a workspace is named after its build
			left.once = true
			left.release()
		}
	}
	return nil
}

// newWorkspace makes a workspace for one build that is not trusted.
func (r *Run) newWorkspace() (*workspace, error) {
	folder, err := r.workspaces("untrusted")
	if err != nil {
		return nil, err
	}
	for range 10 {
		w, err := lockWorkspace(filepath.Join(folder, r.id()))
		if err != nil {
			return nil, err
		}
		if w != nil {
			w.once = true
			return w, nil
		}
		time.Sleep(20 * time.Millisecond) // somebody who sweeps has just looked at it
	}
	return nil, errors.New("somebody else uses the new workspace")
}

// clearShared removes workspaces as they were before trusted and untrusted builds had their own: anything may lie in their folders.
func (r *Run) clearShared() {
	locks, _ := filepath.Glob(filepath.Join(globEscape(filepath.Join(r.Plan.Project.Places.Cache, "work", r.Plan.Site)), "*.lock"))
	for _, lock := range locks {
		if left, err := lockWorkspace(strings.TrimSuffix(lock, ".lock")); left != nil && err == nil {
			os.Remove(left.stateFile()) //nolint:errcheck // tried again by the next build
			left.once = true
			left.release()
		}
	}
}

// oldOutput is after what time nobody comes back for an output that was not uploaded.
const oldOutput = 24 * time.Hour

func (r *Run) young(file string) bool {
	info, err := os.Stat(file)
	return err == nil && r.Now().Sub(info.ModTime()) < oldOutput
}

func globEscape(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(path)
}

// lockWorkspace returns a workspace, or nil if another process uses it.
func lockWorkspace(folder string, options ...flock.Option) (*workspace, error) {
	w := &workspace{Workspace: source.Workspace{Folder: folder}, lock: flock.New(folder+".lock", options...)}
	locked, err := w.lock.TryLock()
	if err != nil || !locked {
		return nil, err
	}
	w.state = readState(w.stateFile())
	if w.state.Building != "" { // killed: what it left is not to be relied on
		builder.EndStrays(w.state.Building)
		w.state = workspaceState{}
		w.save()
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		w.release()
		return nil, err
	}
	return w, nil
}

// emptyTemporary makes an empty folder for temporary files.
func (w *workspace) emptyTemporary() error {
	if err := os.RemoveAll(w.temporary()); err != nil {
		return err
	}
	return os.MkdirAll(w.temporary(), 0o700)
}

// lockFiles say which dependencies a build has; what they are called in the usual package managers.
var lockFiles = []string{
	"package.json", "package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "pnpm-workspace.yaml", "bun.lock", "bun.lockb", ".npmrc",
	"Gemfile", "Gemfile.lock", "composer.lock", "poetry.lock", "uv.lock", "Pipfile.lock", "requirements.txt", "go.mod", "go.sum", "Cargo.lock", "mix.lock",
}

// dependencies names what lies in the folders that are kept from build to build: it changes with the lock files, the steps that
// prepare, the variables and the versions of tools. "" if nothing is kept.
func (r *Run) dependencies(ctx context.Context) (string, error) {
	build := r.Plan.Config.Build
	if len(build.Keep) == 0 {
		return "", nil
	}
	repository, folder := r.Plan.Project.Repository, path.Join(r.Plan.Project.Prefix, build.Folder)
	entries, err := repository.Entries(ctx, r.Plan.Commit.Hash, folder)
	if err != nil {
		return "", err
	}
	locks := map[string]string{}
	for name, id := range entries {
		if slices.Contains(lockFiles, name) {
			locks[path.Join(folder, name)] = id
		}
	}
	for name, id := range r.Plan.Inputs.Also {
		if slices.Contains(lockFiles, path.Base(name)) {
			locks[name] = id
		}
	}
	told, err := json.Marshal([]any{build.Prepare, build.Keep, build.Variables, build.Needs, folder, locks})
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(told)
	return hex.EncodeToString(sum[:16]), nil
}

// keepsAll reports whether everything that is kept is there, in a folder of the workspace's tree, with slashes.
func (w *workspace) keepsAll(folder string, keep []string) bool {
	root, err := os.OpenRoot(w.Folder)
	if err != nil {
		return false
	}
	defer root.Close() //nolint:errcheck // only a handle
	for _, name := range keep {
		if _, err := root.Stat(filepath.FromSlash(path.Join("tree", folder, name))); err != nil {
			return false
		}
	}
	return true
}

// buildCommit checks the commit out into a workspace and runs the steps there.
func (r *Run) buildCommit(ctx context.Context, w *workspace, session *builder.Session, key, dependencies string) (ready, error) {
	build := r.Plan.Config.Build
	below := path.Join(r.Plan.Project.Prefix, build.Folder)
	folder := filepath.Join(w.Tree(), filepath.FromSlash(below))
	output := ready{folder: filepath.Join(folder, filepath.FromSlash(build.Output)), name: path.Join(build.Folder, build.Output), log: w.log(), workspace: w}
	if w.state.Output != nil && w.state.Output.Key == key && !r.Rebuild {
		r.result.Kept = true
		output.record = w.state.Output.Record
		return output, nil
	}

	keep := build.Keep
	known := dependencies != "" && w.state.Dependencies == dependencies
	if !known {
		keep = nil
	}
	w.state = workspaceState{Building: r.id()}
	w.save()
	if err := r.checkout(ctx, w, below, keep); err != nil {
		return output, err
	}
	home, err := r.home(w)
	if err != nil {
		return output, err
	}

	prepared := known && w.keepsAll(below, build.Keep)
	r.result.KeptDeps = prepared && len(build.Prepare) > 0
	output.record, err = r.build(ctx, folder, steps{prepare: build.Prepare, run: build.Run, prepared: prepared, session: session, home: home, done: func() {
		w.state.Dependencies = dependencies
		w.save()
	}}, w)
	w.state.Building = ""
	if err == nil {
		w.state.Output = &finished{Key: key, Record: output.record}
	} else if ctx.Err() != nil || !w.keepsAll(below, build.Keep) {
		w.state.Dependencies = "" // ended in the middle of something
	}
	if err != nil && r.diskFull(w.Folder) != "" {
		w.Clear()                  //nolint:errcheck // what filled the disk goes at once, as far as it can
		w.state = workspaceState{} // nothing is left
	}
	w.save()
	if !w.once {
		os.RemoveAll(w.temporary()) //nolint:errcheck // the next build tries again
	}
	return output, err
}

// checkout makes a workspace ready for the steps. below is the site's folder in the repository; of it keep stays.
func (r *Run) checkout(ctx context.Context, w *workspace, below string, keep []string) error {
	build := r.Plan.Config.Build
	view := source.View{History: slices.Contains(build.Tell, "history"), Untrusted: w.once}
	if below != "." && below != "" {
		view.Paths = append([]string{below}, build.Also...)
	}
	for _, name := range keep {
		view.Keep = append(view.Keep, path.Join(below, name))
	}
	return r.timed("checkout", r.Plan.Commit.Short(), func() error {
		if err := r.Plan.Project.Repository.Checkout(ctx, r.Plan.Commit.Hash, w.Workspace, view); err != nil {
			return err
		}
		if err := w.emptyTemporary(); err != nil {
			return err
		}
		if cell := r.options(w).Cell; cell != nil {
			return builder.Furnish(*cell)
		}
		return nil
	})
}

// id is random, and known to every process that the run starts.
func (r *Run) id() string {
	if r.buildID == "" {
		r.buildID = strings.ToLower(rand.Text())
	}
	return r.buildID
}

// workFolder makes a folder for what is unpacked or logged and goes when the run ends. Those of runs that were killed go after a while.
func (r *Run) workFolder() (string, error) {
	parent := filepath.Join(r.Plan.Project.Places.Cache, "scratch")
	if entries, err := os.ReadDir(parent); err == nil {
		for _, entry := range entries {
			if info, err := entry.Info(); err == nil && r.Now().Sub(info.ModTime()) > oldOutput {
				os.RemoveAll(filepath.Join(parent, entry.Name())) //nolint:errcheck // the next run tries again
			}
		}
	}
	folder := filepath.Join(parent, fmt.Sprintf("%s-%s", r.Plan.Site, r.id()[:12]))
	return folder, errors.Join(os.RemoveAll(folder), os.MkdirAll(folder, 0o700))
}
