package source

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/fault"
)

// Workspace is a folder that commits are checked out into, one after the other; only what differs is touched. One at a time uses it.
//
// Git's own files lie beside the tree, in a repository that borrows the objects of the user's: unlike a worktree it leaves no trace
// there. A build sees them only if it asked for the history.
type Workspace struct {
	Folder string // absolute
}

// Tree is where the files of the commit lie.
func (w Workspace) Tree() string { return filepath.Join(w.Folder, "tree") }

func (w Workspace) git() string { return filepath.Join(w.Folder, "git") }

// View is what of a commit a build sees.
type View struct {
	Paths   []string // folders and files, from the top, with slashes; none: everything
	Keep    []string // folders, from the top, that are not Git's and stay as they are
	History bool     // the tree is a repository, with all branches and tags
}

// Checkout makes the workspace's tree what a commit holds, submodules included, and nothing else but what is kept. Whatever an
// earlier build left there, or destroyed, does not matter.
func (r *Repository) Checkout(ctx context.Context, commit string, w Workspace, view View) error {
	err := r.checkout(ctx, commit, w, view)
	if err != nil && ctx.Err() == nil {
		// An earlier build may have left what Git cannot take up: begin anew.
		if err := w.Clear(); err != nil {
			return err
		}
		err = r.checkout(ctx, commit, w, view)
	}
	if err != nil {
		if _, known := errors.AsType[*fault.Error](err); known || ctx.Err() != nil {
			return errors.Join(ctx.Err(), err)
		}
		return fault.New(fault.Failed, "checkout", "the commit could not be checked out").At("%s", Short(commit)).Because(err).
			Then("git fsck tells whether the repository is whole; orilla doctor whether there is room")
	}
	return nil
}

// Clear removes everything from the workspace, also what a build has made unwritable.
func (w Workspace) Clear() error {
	if os.RemoveAll(w.Folder) == nil {
		return nil
	}
	filepath.WalkDir(w.Folder, func(path string, entry fs.DirEntry, err error) error { //nolint:errcheck // removing tells
		if entry != nil && entry.IsDir() {
			os.Chmod(path, 0o700) //nolint:errcheck // removing tells
		}
		return nil
	})
	return os.RemoveAll(w.Folder)
}

func (r *Repository) checkout(ctx context.Context, commit string, w Workspace, view View) error {
	tree := w.Tree()
	if err := r.prepare(ctx, w, view); err != nil {
		return err
	}
	if _, err := run(ctx, tree, "update-ref", "--no-deref", "HEAD", commit); err != nil {
		return err
	}
	if _, err := run(ctx, tree, "read-tree", "--reset", "-u", commit); err != nil {
		return err
	}
	clean := []string{"clean", "-ffdxq"}
	for _, kept := range view.Keep {
		clean = append(clean, "-e", "/"+escapePattern(kept))
	}
	if _, err := run(ctx, tree, clean...); err != nil {
		return err
	}
	if err := r.submodules(ctx, tree, r.Dir); err != nil {
		return err
	}
	if view.History {
		_, err := run(ctx, tree, "fetch", "--quiet", "--no-tags", "--update-head-ok", "--prune", "--", r.Dir, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*")
		return err
	}
	return os.Remove(filepath.Join(tree, ".git"))
}

// prepare makes the repository beside the tree, and lets it see what is asked for.
func (r *Repository) prepare(ctx context.Context, w Workspace, view View) error {
	tree, dir := w.Tree(), w.git()
	if err := os.MkdirAll(tree, 0o755); err != nil {
		return err
	}
	objects, err := filepath.Abs(filepath.Join(r.Dir, "objects"))
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, "HEAD")); err != nil {
		if _, err := run(ctx, w.Folder, "init", "--quiet", "--bare", "--object-format="+r.objectFormat(ctx), "--", dir); err != nil {
			return err
		}
		// Line ends as they are in the commit: the same bytes on every machine.
		settings := [][2]string{{"core.autocrlf", "false"}, {"core.bare", "false"}, {"core.worktree", tree}, {"core.sparseCheckout", "true"}, {"gc.auto", "0"}}
		if origin, err := run(ctx, r.Top, "config", "--get", "remote.origin.url"); err == nil && origin != "" {
			settings = append(settings, [2]string{"remote.origin.url", origin})
		}
		for _, setting := range settings {
			if _, err := run(ctx, dir, "config", setting[0], setting[1]); err != nil {
				return err
			}
		}
	}
	patterns := []string{"/*"}
	if len(view.Paths) > 0 {
		patterns = nil
		for _, path := range view.Paths {
			patterns = append(patterns, "/"+escapePattern(path))
		}
		patterns = append(patterns, "/.gitmodules", "/.gitattributes")
	}
	for name, text := range map[string]string{
		"objects/info/alternates": objects, "info/sparse-checkout": strings.Join(patterns, "\n"),
		"../tree/.git": "gitdir: " + dir, "shallow": r.shallow(),
	} {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if text == "" {
			os.Remove(path) //nolint:errcheck // usually not there
			continue
		}
		if info, err := os.Lstat(path); err == nil && info.IsDir() { // a build may have made a repository of its own
			if err := os.RemoveAll(path); err != nil {
				return err
			}
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text+"\n"), 0o644); err != nil {
			return err
		}
	}
	os.Remove(filepath.Join(dir, "index.lock")) //nolint:errcheck // of a checkout that was killed; the workspace is ours alone
	return nil
}

// shallow returns the commits at which the user's history is cut off; "" in a whole clone.
func (r *Repository) shallow() string {
	data, _ := os.ReadFile(filepath.Join(r.Dir, "shallow"))
	return strings.TrimSpace(string(data))
}

func (r *Repository) objectFormat(ctx context.Context) string {
	format, err := run(ctx, r.Top, "rev-parse", "--show-object-format")
	if err != nil {
		return "sha1"
	}
	return format
}

// escapePattern makes a path a pattern of gitignore that means just it.
func escapePattern(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, " ", `\ `).Replace(strings.TrimSuffix(path, "/"))
}

// submodules fills in the submodules of a checkout. Those that the user's repository has are taken from there, without
// network; the others from where .gitmodules says.
func (r *Repository) submodules(ctx context.Context, folder, gitDir string) error {
	if _, err := os.Stat(filepath.Join(folder, ".gitmodules")); err != nil {
		return nil
	}
	out, err := run(ctx, folder, "config", "--file", ".gitmodules", "--get-regexp", `^submodule\..*\.path$`)
	if err != nil {
		return nil
	}
	present, err := run(ctx, folder, "ls-files", "--stage", "-t")
	if err != nil {
		return err
	}
	if _, err := run(ctx, folder, "submodule", "--quiet", "init"); err != nil {
		return submoduleFailed(err)
	}
	for line := range strings.SplitSeq(out, "\n") {
		key, path, _ := strings.Cut(line, " ")
		if !slices.ContainsFunc(strings.Split(present, "\n"), func(entry string) bool {
			return strings.HasPrefix(entry, "H 160000 ") && strings.HasSuffix(entry, "\t"+path)
		}) {
			continue // outside of what the build sees
		}
		name := strings.TrimSuffix(strings.TrimPrefix(key, "submodule."), ".path")
		local := filepath.Join(gitDir, "modules", filepath.FromSlash(name))
		if _, err := os.Stat(local); err == nil {
			if _, err := run(ctx, folder, "config", "submodule."+name+".url", local); err != nil {
				return submoduleFailed(err)
			}
		}
		if _, err := run(ctx, folder, "-c", "protocol.file.allow=always", "submodule", "--quiet", "update", "--force", "--", path); err != nil {
			return submoduleFailed(err)
		}
		below := filepath.Join(folder, filepath.FromSlash(path))
		if _, err := run(ctx, below, "clean", "-ffdxq"); err != nil {
			return submoduleFailed(err)
		}
		if err := r.submodules(ctx, below, local); err != nil {
			return err
		}
	}
	return nil
}

func submoduleFailed(err error) error {
	return fault.New(fault.Failed, "submodule", "a submodule could not be checked out").Because(err).
		Then("git submodule update --init --recursive here, then deploy again: what is here needs no network")
}

// Object returns Git's id of a folder or file of a commit, or ErrNoFile.
func (r *Repository) Object(ctx context.Context, commit, path string) (string, error) {
	id, err := run(ctx, r.Top, "rev-parse", "--verify", "--quiet", commit+":"+strings.TrimSuffix(path, "/"))
	if err != nil {
		return "", errors.Join(fmt.Errorf("%s: %w", path, ErrNoFile), ctx.Err())
	}
	return id, nil
}

// Entries returns what a folder of a commit holds, by name: Git's ids.
func (r *Repository) Entries(ctx context.Context, commit, folder string) (map[string]string, error) {
	if folder == "." {
		folder = ""
	}
	out, err := runRaw(ctx, r.Top, "ls-tree", "-z", commit+":"+folder)
	if err != nil {
		return nil, err
	}
	entries := map[string]string{}
	for entry := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		about, name, _ := strings.Cut(entry, "\t")
		if fields := strings.Fields(about); len(fields) == 3 {
			entries[name] = fields[2]
		}
	}
	return entries, nil
}
