package source

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/publish"
)

// Workspace is a folder that commits are checked out into, one after the other;
// only what differs is touched. One at a time uses it.
//
// Git's own files lie beside the tree, in a repository that borrows the objects
// of the user's: unlike a worktree it leaves no trace there. A build sees them
// only if it asked for the history.
type Workspace struct {
	Folder string // absolute
}

// Tree is where the files of the commit lie.
func (w Workspace) Tree() string { return filepath.Join(w.Folder, "tree") }

// Beneath is Beneath for a folder of the tree, which a
// step may have replaced as a whole.
func (w Workspace) Beneath(name string) (publish.Output, func() error, error) {
	return Beneath(w.Folder, path.Join("tree", name))
}

// git is the repository of the workspace: of its own, so that steps can spoil
// no other.
func (w Workspace) git() string { return filepath.Join(w.Folder, "git") }

// View is what of a commit a build sees.
type View struct {
	Paths []string // folders and files, from the top, with slashes; none: everything
	Keep  []string // folders, from the top, that are not Git's and stay as they are
	// the tree is a repository, with all branches and tags; of an untrusted
	// build, with what led to the commit
	History bool
	// Untrusted: the workspace is new, and goes after the build. Git is told
	// nothing of the user's, submodules come only from public places, and Git's
	// own files are gone before a step runs.
	Untrusted bool
}

// manner is how Git runs in a checkout: of a branch that nobody trusts, without
// filters and hooks that the branch could name.
func (v View) manner() manner {
	if v.Untrusted {
		return foreign
	}
	return reading
}

// Checkout makes the workspace's tree what a commit holds, submodules included,
// and nothing else but what is kept. Whatever an earlier build left there, or
// destroyed, does not matter.
//
// It is not safe for concurrent use on one workspace; the caller holds its
// lock.
func (r *Repository) Checkout(ctx context.Context, commit string, w Workspace, view View) error {
	err := checkout(ctx, r, commit, w, view)
	if err != nil && ctx.Err() == nil && !view.Untrusted {
		// An earlier build may have left what Git cannot take up: begin anew.
		if err := w.Clear(); err != nil {
			return err
		}
		err = checkout(ctx, r, commit, w, view)
	}
	if err != nil {
		if _, known := errors.AsType[*fault.Error](err); known || ctx.Err() != nil {
			return errors.Join(ctx.Err(), err)
		}
		return fault.New(fault.Failed, "checkout", "cannot check out the commit").
			At("%s", Short(commit)).Because(err).
			Then("check the repository with git fsck; check the disk space: orilla doctor")
	}

	return nil
}

// Clear removes everything from the workspace, also what a build has made
// unwritable. It follows no links.
func (w Workspace) Clear() error {
	if removeAll(w.Folder) == nil {
		return nil
	}
	root, err := os.OpenRoot(w.Folder)
	if err != nil {
		return err
	}

	//nolint:errcheck // removing tells
	fs.WalkDir(root.FS(), ".", func(path string, entry fs.DirEntry, _ error) error {
		if entry != nil && entry.IsDir() {
			root.Chmod(path, 0o700) //nolint:errcheck // removing tells
		}
		return nil
	})

	root.Close() //nolint:errcheck // only a handle

	return os.RemoveAll(w.Folder)
}

// lateFor is for how long something that is about to end may still write where it is removed.
const lateFor = 2 * time.Second

// removeAll removes a folder, in which a process that is just ending may still make files: then
// the folder is not empty by the time that it is to go.
func removeAll(folder string) error {
	for deadline := time.Now().Add(lateFor); ; time.Sleep(20 * time.Millisecond) {
		err := os.RemoveAll(folder)
		if err == nil || !errors.Is(err, syscall.ENOTEMPTY) || time.Now().After(deadline) {
			return err
		}
	}
}

// checkout makes the tree of a workspace that of a commit, and removes what
// does not belong there. Files that are right already are left alone.
func checkout(ctx context.Context, r *Repository, commit string, w Workspace, view View) error {
	tree, how := w.Tree(), view.manner()
	// The index of the last checkout is still there, so only what differs is
	// written: a build of the next commit touches a few files, and tools that
	// look at times rebuild as few.
	if err := prepare(ctx, r, w, view); err != nil {
		return err
	}
	if _, err := runAs(ctx, how, tree, "update-ref", "--no-deref", "HEAD", commit); err != nil {
		return err
	}

	if _, err := runAs(ctx, how, tree, "read-tree", "--reset", "-u", commit); err != nil {
		return err
	}
	if !view.Untrusted { // there is nothing else in a new one
		// Twice -f: also repositories that a build has left inside. What is
		// kept is named from the top, so that nothing else of the same name is.
		clean := []string{"clean", "-ffdxq"}
		for _, kept := range view.Keep {
			clean = append(clean, "-e", "/"+escapePattern(kept))
		}
		if _, err := runAs(ctx, how, tree, clean...); err != nil {
			return err
		}
	}

	// Submodules come after the tree, whose .gitmodules names them.
	modules := submodules{repository: r, how: how, origin: origin(ctx, r, how)}
	if err := modules.fill(ctx, tree, r.Dir, modules.origin); err != nil {
		return err
	}
	switch {
	case view.Untrusted:
		return leaveAlone(ctx, r, commit, w, view)
	case view.History:
		_, err := run(ctx, tree, "fetch", "--quiet", "--no-tags", "--update-head-ok", "--prune", "--", r.Dir,
			"+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*")
		return err
	}

	return os.Remove(filepath.Join(tree, ".git"))
}

// leaveAlone makes a checkout stand on its own: of Git's files only those stay,
// inside the tree, that a build which wants the history needs. They hold
// copies, not borrowed objects, and nobody but the build uses them.
func leaveAlone(ctx context.Context, r *Repository, commit string, w Workspace, view View) error {
	tree, dir := w.Tree(), w.git()
	root, err := os.OpenRoot(tree)
	if err != nil {
		return err
	}
	defer root.Close() //nolint:errcheck // only a handle
	// Within the root only: a step may have made .git a link to somewhere else.
	if err := root.RemoveAll(".git"); err != nil {
		return err
	}

	if !view.History {
		return removeAll(dir)
	}

	// An untrusted build sees the history that led to its commit, and no branch
	// or tag beside it.
	tags, err := run(ctx, r.Top, "for-each-ref", "--merged="+commit,
		"--format=create %(refname) %(objectname)", "refs/tags/")
	if err != nil {
		return err
	}

	if _, err := runWith(ctx, foreign, dir, strings.NewReader(tags+"\n"), "update-ref",
		"--stdin"); err != nil {
		return err
	}
	for _, step := range [][]string{{"repack", "-a", "-d", "-q"}, {"config", "--unset", "core.worktree"},
		{"config", "--unset", "remote.origin.url"}} {
		if _, err := runAs(ctx, foreign, dir, step...); err != nil && step[0] != "config" {
			return err
		}
	}

	// Repacked, it needs the shared objects no more, and the path to them is
	// nobody's business.
	if err := os.Remove(filepath.Join(dir, "objects", "info", "alternates")); err != nil {
		return err
	}
	return os.Rename(dir, filepath.Join(tree, ".git"))
}

// prepare makes the repository beside the tree, and lets it
// see what is asked for. What it writes is written beneath
// the workspace, whatever links a build has left there.
func prepare(ctx context.Context, r *Repository, w Workspace, view View) error {
	objects, err := filepath.Abs(filepath.Join(r.Dir, "objects"))
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(w.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(w.Folder, 0o700); err == nil {
			root, err = os.OpenRoot(w.Folder)
		}
	}
	if err != nil {
		return err
	}
	defer root.Close() //nolint:errcheck // only a handle

	for _, name := range []string{"tree", "git"} {
		if info, err := root.Lstat(name); err == nil && !info.IsDir() { // a link that a build has put there
			if err := root.Remove(name); err != nil {
				return err
			}
		}
	}

	if err := root.MkdirAll("tree", 0o755); err != nil {
		return err
	}
	if _, err := root.Stat("git/HEAD"); err != nil {
		if err := initialise(ctx, r, w, view.manner()); err != nil {
			return err
		}
	}

	// Only what the build key names is checked out, so a build cannot depend on
	// anything else.
	patterns := []string{"/*"}
	if len(view.Paths) > 0 {
		patterns = nil
		for _, shown := range view.Paths {
			patterns = append(patterns, "/"+escapePattern(shown))
		}
		patterns = append(patterns, "/.gitmodules", "/.gitattributes")
	}

	for name, text := range map[string]string{
		"git/objects/info/alternates": objects, "git/info/sparse-checkout": strings.Join(patterns, "\n"),
		"tree/.git": "gitdir: " + w.git(), "git/shallow": shallow(r),
	} {
		if err := replaceFile(root, name, text); err != nil {
			return err
		}
	}

	//nolint:errcheck // of a checkout that was killed; the workspace is ours alone
	root.Remove("git/index.lock")
	return nil
}

// initialise makes Git's folder of a workspace.
func initialise(ctx context.Context, r *Repository, w Workspace, how manner) error {
	dir := w.git()
	if _, err := runAs(ctx, how, w.Folder, "init", "--quiet", "--bare", "--template=", "--object-format="+
		objectFormat(ctx, r), "--", dir); err != nil {
		return err
	}

	// Line ends as they are in the commit: the same bytes on every machine.
	settings := [][2]string{{"core.autocrlf", "false"}, {"core.bare", "false"}, {"core.worktree", w.Tree()},
		{"core.sparseCheckout", "true"}, {"gc.auto", "0"},
		{"maintenance.auto", "false"}}
	if origin := origin(ctx, r, how); origin != "" {
		settings = append(settings, [2]string{"remote.origin.url", origin})
	}

	for _, setting := range settings {
		if _, err := runAs(ctx, how, dir, "config", setting[0], setting[1]); err != nil {
			return err
		}
	}
	return nil
}

// origin returns where the repository comes from, "" if it does not say:
// submodules may be written relative to it. For a checkout that is not trusted
// it has no user and password in it.
func origin(ctx context.Context, r *Repository, how manner) string {
	origin, err := run(ctx, r.Top, "config", "--get", "remote.origin.url")
	if err != nil {
		return ""
	}
	if at, err := url.Parse(origin); how == foreign && err == nil {
		at.User = nil
		return at.String()
	}
	return origin
}

// replaceFile writes a file beneath a root, in place of whatever has its name;
// "" removes it. Links in the way are replaced, not followed.
func replaceFile(root *os.Root, name, text string) error {
	// Removed and made anew, exclusively: whatever a build has put there, link
	// or folder, is not followed.
	if err := root.RemoveAll(name); err != nil {
		return err
	}
	if text == "" {
		return nil
	}

	if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	file, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = file.WriteString(text + "\n")
	return errors.Join(err, file.Close())
}

// shallow returns the commits at which the user's history
// is cut off; "" in a whole clone.
func shallow(r *Repository) string {
	data, _ := os.ReadFile(filepath.Join(r.Dir, "shallow"))
	return strings.TrimSpace(string(data))
}

// objectFormat is the hash that a repository names its objects by: sha1 or
// sha256.
func objectFormat(ctx context.Context, r *Repository) string {
	format, err := run(ctx, r.Top, "rev-parse", "--show-object-format")
	if err != nil {
		return "sha1"
	}
	return format
}

// escapePattern makes a path a pattern of gitignore that means just it.
func escapePattern(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, " ", `\ `).
		Replace(strings.TrimSuffix(path, "/"))
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
	out, err := runRaw(ctx, reading, r.Top, "ls-tree", "-z", commit+":"+folder)
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
