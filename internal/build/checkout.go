package build

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path"
	"path/filepath"
	"slices"

	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/steps"
)

// lockFiles say which dependencies a build has: what they
// are called in the usual package managers.
var lockFiles = []string{
	"package.json", "package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml",
	"pnpm-workspace.yaml",
	"bun.lock", "bun.lockb", ".npmrc", "Gemfile", "Gemfile.lock", "composer.lock", "poetry.lock", "uv.lock",
	"Pipfile.lock",
	"requirements.txt", "go.mod", "go.sum", "Cargo.lock", "mix.lock",
}

// dependenciesOf names what lies in the folders that are kept from build to
// build: it changes with the lock files, the steps that prepare, the variables
// and the versions of tools. "" if nothing is kept.
func dependenciesOf(ctx context.Context, plan *site.Plan) (string, error) {
	build := plan.Config.Build
	if len(build.Keep) == 0 {
		return "", nil
	}
	folder := path.Join(plan.Project.Prefix, build.Folder)
	entries, err := plan.Project.Repository.Entries(ctx, plan.Commit.Hash, folder)
	if err != nil {
		return "", err
	}

	locks := map[string]string{}
	for name, id := range entries {
		if slices.Contains(lockFiles, name) {
			locks[path.Join(folder, name)] = id
		}
	}

	for name, id := range plan.Inputs.Also {
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

// keepsAll reports whether everything that is kept is there, in a folder of the
// workspace's tree, with slashes.
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

// inWorkspace checks the commit out into a workspace and runs the steps there.
// The output that is returned holds the workspace.
func (b *Build) inWorkspace(ctx context.Context, w *workspace, session *steps.Session, key,
	dependencies string,
) (*Output, error) {
	config := b.Plan.Config.Build
	below := path.Join(b.Plan.Project.Prefix, config.Folder)
	folder := filepath.Join(w.Tree(), filepath.FromSlash(below))
	output := &Output{
		Folder: filepath.Join(folder, filepath.FromSlash(config.Output)),
		Name:   path.Join(config.Folder, config.Output),
		Log:    w.log(), workspace: w,
	}

	if w.state.Output != nil && w.state.Output.Key == key && !b.Rebuild {
		output.Kept, output.Record = true, w.state.Output.Record
		return output, nil
	}

	// What is kept counts only if it was made for the same dependencies.
	known := dependencies != "" && w.state.Dependencies == dependencies
	keep, kept := config.Keep, w.state.Kept
	if len(kept) == 0 {
		kept = config.Keep // by a version that did not note it
	}
	if !known {
		keep = nil
	}

	w.state = workspaceState{Building: b.id}
	w.save()
	if err := b.checkout(ctx, w, below, keep); err != nil {
		return nil, err
	}

	home, err := b.isolation.home(w)
	if err != nil {
		return nil, err
	}

	prepared := known && w.keepsAll(below, kept)
	output.KeptDependencies = prepared && len(config.Prepare) > 0
	run := stepRun{
		Build: b, folder: folder, log: w.log(), prepare: config.Prepare, run: config.Run, prepared: prepared,
		session:   session,
		temporary: w.temporary(), home: home,
		fetched: func() {
			if !prepared {
				kept = slices.DeleteFunc(slices.Clone(config.Keep),
					func(name string) bool { return !w.keepsAll(below, []string{name}) })
			}
			w.state.Dependencies, w.state.Kept = dependencies, kept
			w.save()
		},
	}

	output.Record, err = run.all(ctx)
	b.leave(ctx, w, output, key, err)
	if err != nil {
		return nil, err
	}
	return output, nil
}

// leave says in the state of a workspace what the steps
// have left there. err is how they ended.
func (b *Build) leave(ctx context.Context, w *workspace, output *Output, key string, err error) {
	below := path.Join(b.Plan.Project.Prefix, b.Plan.Config.Build.Folder)
	w.state.Building = ""
	if err == nil {
		w.state.Output = &finished{Key: key, Record: output.Record}
	} else if ctx.Err() != nil || !w.keepsAll(below, w.state.Kept) {
		w.state.Dependencies = "" // ended in the middle of something
	}
	if err != nil && fullDisk(w.Folder) != "" {
		w.Clear()                  //nolint:errcheck // what filled the disk goes at once, as far as it can
		w.state = workspaceState{} // nothing is left
	}

	w.save()
	if !w.once {
		os.RemoveAll(w.temporary()) //nolint:errcheck // the next build tries again
	}
}

// checkout makes a workspace ready for the steps. below is the site's folder in
// the repository; of it keep stays as it is.
func (b *Build) checkout(ctx context.Context, w *workspace, below string, keep []string) error {
	config := b.Plan.Config.Build
	view := source.View{History: slices.Contains(config.Tell, "history"), Untrusted: w.once}
	if below != "." && below != "" {
		view.Paths = append([]string{below}, config.Also...)
	}

	for _, name := range keep {
		view.Keep = append(view.Keep, path.Join(below, name))
	}

	return b.Phases.Time("checkout", b.Plan.Commit.Short(), func() error {
		if err := b.Plan.Project.Repository.Checkout(ctx, b.Plan.Commit.Hash, w.Workspace, view); err != nil {
			return err
		}
		if err := w.emptyTemporary(); err != nil {
			return err
		}

		if cell := b.isolation.options(b.id, w).Cell; cell != nil {
			return steps.Furnish(*cell)
		}
		return nil
	})
}
