package build

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/steps"
)

// workspace is a place to build in that this process holds: a folder in the
// cache, a file that the system locks for whoever uses it (and unlocks when
// that process ends, however it ends), and a file with what lies in it.
//
//	work/corvane/trusted/1         the folder; trusted builds find it again
//	work/corvane/trusted/1.lock
//	work/corvane/trusted/1.json    workspaceState
//	work/corvane/untrusted/<id>    goes with its build: what that leaves there reaches no other
type workspace struct {
	source.Workspace
	lock  *flock.Flock
	state workspaceState
	once  bool // it goes when it is released
}

// workspaceState is what lies in a workspace.
type workspaceState struct {
	// whose are in the folders that are kept; "" if they cannot be relied on
	Dependencies string `json:"dependencies,omitempty"`
	// the folders of build.keep that were there once the dependencies were: a cache comes
	// later, or never
	Kept     []string  `json:"kept,omitempty"`
	Building string    `json:"building,omitempty"` // the id of the build that goes on, or was killed
	Output   *finished `json:"output,omitempty"`   // a finished output that is not in the store yet
}

// finished is the output of a build that succeeded.
type finished struct {
	Key    string        `json:"key"`
	Record builds.Record `json:"record"`
}

// log is the file that gets what the steps print. It lies outside the checkout,
// where a step cannot mistake it for a source.
func (w *workspace) log() string { return filepath.Join(w.Folder, "log") }

// temporary is the folder for temporary files of the steps. It is emptied
// before each build.
func (w *workspace) temporary() string { return filepath.Join(w.Folder, "tmp") }

// stateFile lies beside the workspace, not in it: steps can write there
// whatever they like.
func (w *workspace) stateFile() string { return w.Folder + ".json" }

// save keeps the state. A state that cannot be kept is
// removed: an old one would be wrong.
func (w *workspace) save() {
	if w.once {
		return
	}
	// Written beside and renamed, so that whoever reads it sees the state
	// before or after.
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

// readState reads what lies in a workspace. A state that cannot be read says
// that nothing in it can be relied on.
func readState(file string) (state workspaceState) {
	data, err := os.ReadFile(file)
	if err != nil || json.Unmarshal(data, &state) != nil {
		return workspaceState{}
	}
	return state
}

// release lets others use the workspace. One of an untrusted build is removed,
// lock and all.
func (w *workspace) release() {
	if w.once {
		w.Clear()                //nolint:errcheck // the next build that is not trusted tries again
		os.Remove(w.lock.Path()) //nolint:errcheck // as above
	}
	w.lock.Unlock() //nolint:errcheck // the end of the process does it too
}

// emptyTemporary makes an empty folder for temporary files.
func (w *workspace) emptyTemporary() error {
	if err := os.RemoveAll(w.temporary()); err != nil {
		return err
	}
	return os.MkdirAll(w.temporary(), 0o700)
}

// workspaces are those of a site on this machine.
type workspaces struct {
	cache string // the folder that they lie in, below "work"
	site  string
	now   func() time.Time
}

// take returns a workspace for build id, held by this process. Of
// trusted builds it is the one with the finished output of this
// very build (its key), else one with the same dependencies, else
// any that holds no output somebody may come back for, else a new
// one. Processes that a killed build left in it are ended.
func (ws workspaces) take(id, key, dependencies string, untrusted bool) (*workspace, error) {
	// Sweeping is done by whoever comes next: a build that was killed cannot.
	ws.clearShared()
	if err := ws.clearUntrusted(); err != nil {
		return nil, err
	}
	if untrusted {
		return ws.fresh(id)
	}

	folder, err := ws.folder("trusted")
	if err != nil {
		return nil, err
	}
	// The best one that is free, and a new one if none is: two builds at once
	// never wait for each other.
	candidates, last, err := ws.candidates(folder, key, dependencies)
	if err != nil {
		return nil, err
	}

	for _, base := range candidates {
		if w, err := lockWorkspace(base); w != nil || err != nil {
			return w, err
		}
	}

	for n := last + 1; ; n++ {
		if w, err := lockWorkspace(filepath.Join(folder, strconv.Itoa(n))); w != nil || err != nil {
			return w, err
		}
	}
}

// candidates lists the workspaces in a folder that a build may use, the best
// first, and the highest number of all.
func (ws workspaces) candidates(folder, key, dependencies string) (bases []string, last int, err error) {
	locks, err := filepath.Glob(filepath.Join(escapeGlob(folder), "*.lock"))
	if err != nil {
		return nil, 0, err
	}
	rank := map[string]int{}
	for _, lock := range locks {
		base := strings.TrimSuffix(lock, ".lock")
		n, _ := strconv.Atoi(filepath.Base(base))
		last = max(last, n)
		// Best is one that holds this very output; then one with the same
		// dependencies; one whose output somebody may come back for is left.
		switch state := readState(base + ".json"); {
		case state.Output != nil && state.Output.Key == key:
			rank[base] = 0
		case state.Output != nil && ws.young(base+".json"):
			continue // somebody may come back for it
		case state.Output != nil:
			rank[base] = 3
		case state.Dependencies != dependencies:
			rank[base] = 2
		default:
			rank[base] = 1
		}
		bases = append(bases, base)
	}
	slices.SortStableFunc(bases, func(a, b string) int { return rank[a] - rank[b] })
	return bases, last, nil
}

// folder makes and returns the folder, with links resolved, of the workspaces
// of a class of builds: "trusted" or "untrusted".
func (ws workspaces) folder(class string) (string, error) {
	folder := filepath.Join(ws.cache, "work", ws.site, class)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	// Steps and sandboxes compare paths as the system gives them.
	return filepath.EvalSymlinks(folder)
}

// fresh makes a workspace for one build that is not trusted.
func (ws workspaces) fresh(id string) (*workspace, error) {
	folder, err := ws.folder("untrusted")
	if err != nil {
		return nil, err
	}
	for range 10 {
		w, err := lockWorkspace(filepath.Join(folder, id))
		if err != nil {
			return nil, err
		}
		if w != nil {
			w.once = true
			return w, nil
		}
		time.Sleep(20 * time.Millisecond) // somebody who sweeps has just looked at it
	}

	return nil, errors.New("another process is using the new workspace")
}

// clearUntrusted removes the workspaces of untrusted builds that were killed.
func (ws workspaces) clearUntrusted() error {
	folder, err := ws.folder("untrusted")
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
		case isLock:
			// one that a step takes away just now is not made anew: whoever
			// holds it would not be noticed
			options = append(options, flock.SetFlag(os.O_RDWR))
		case ws.young(filepath.Join(folder, base)):
			continue // its lock tells; if a step has taken that away, its build may go on
		}

		if left, err := lockWorkspace(filepath.Join(folder, base), options...); left != nil && err == nil {
			steps.EndStrays(base) // a workspace is named after its build
			left.once = true
			left.release()
		}
	}

	return nil
}

// clearShared removes workspaces as they were before trusted and untrusted
// builds had their own: anything may lie in their folders.
func (ws workspaces) clearShared() {
	locks, _ := filepath.Glob(filepath.Join(escapeGlob(filepath.Join(ws.cache, "work", ws.site)), "*.lock"))
	for _, lock := range locks {
		if left, err := lockWorkspace(strings.TrimSuffix(lock, ".lock")); left != nil && err == nil {
			os.Remove(left.stateFile()) //nolint:errcheck // tried again by the next build
			left.once = true
			left.release()
		}
	}
}

// young reports whether a file was changed lately, so that somebody may come
// back for it.
func (ws workspaces) young(file string) bool {
	info, err := os.Stat(file)
	return err == nil && ws.now().Sub(info.ModTime()) < oldOutput
}

// escapeGlob returns the pattern that matches just a path.
func escapeGlob(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(path)
}

// lockWorkspace returns the workspace in a folder, which
// is made, or nil if another process uses it.
func lockWorkspace(folder string, options ...flock.Option) (*workspace, error) {
	w := &workspace{Workspace: source.Workspace{Folder: folder}, lock: flock.New(folder+".lock", options...)}
	locked, err := w.lock.TryLock()
	if err != nil || !locked {
		return nil, err
	}

	w.state = readState(w.stateFile())
	if w.state.Building != "" { // killed: what it left is not to be relied on
		steps.EndStrays(w.state.Building)
		w.state = workspaceState{}
		w.save()
	}

	if err := os.MkdirAll(folder, 0o700); err != nil {
		w.release()
		return nil, err
	}
	return w, nil
}
