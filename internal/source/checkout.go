package source

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/core/fault"
)

// Checkout puts the files of a commit, submodules included, into a new folder. The folder is a clone that borrows the
// repository's objects: unlike a worktree it leaves no trace in the repository, and what a build does to it, also with git,
// stays there.
func (r *Repository) Checkout(ctx context.Context, commit, folder string) error {
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return err
	}
	if _, err := run(ctx, filepath.Dir(folder), "clone", "--quiet", "--shared", "--no-checkout", "--", r.Dir, folder); err != nil {
		return checkoutFailed(commit, err)
	}
	if origin, err := run(ctx, r.Top, "config", "--get", "remote.origin.url"); err == nil && origin != "" {
		if _, err := run(ctx, folder, "remote", "set-url", "origin", origin); err != nil {
			return checkoutFailed(commit, err)
		}
	}
	// Line ends as they are in the commit: the same bytes on every machine.
	if _, err := run(ctx, folder, "config", "core.autocrlf", "false"); err != nil {
		return checkoutFailed(commit, err)
	}
	if _, err := run(ctx, folder, "checkout", "--quiet", "--detach", commit); err != nil {
		return checkoutFailed(commit, err)
	}
	return r.submodules(ctx, folder, r.Dir)
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
	if _, err := run(ctx, folder, "submodule", "--quiet", "init"); err != nil {
		return submoduleFailed(err)
	}
	for line := range strings.SplitSeq(out, "\n") {
		key, path, _ := strings.Cut(line, " ")
		name := strings.TrimSuffix(strings.TrimPrefix(key, "submodule."), ".path")
		local := filepath.Join(gitDir, "modules", filepath.FromSlash(name))
		if _, err := os.Stat(local); err == nil {
			if _, err := run(ctx, folder, "config", "submodule."+name+".url", local); err != nil {
				return submoduleFailed(err)
			}
		}
		if _, err := run(ctx, folder, "-c", "protocol.file.allow=always", "submodule", "--quiet", "update", "--", path); err != nil {
			return submoduleFailed(err)
		}
		if err := r.submodules(ctx, filepath.Join(folder, filepath.FromSlash(path)), local); err != nil {
			return err
		}
	}
	return nil
}

func checkoutFailed(commit string, err error) error {
	return fault.New(fault.Failed, "checkout", "the commit could not be checked out").At("%s", Short(commit)).Because(err).
		Then("git fsck tells whether the repository is whole; orilla doctor whether there is room")
}

func submoduleFailed(err error) error {
	return fault.New(fault.Failed, "submodule", "a submodule could not be checked out").Because(err).
		Then("git submodule update --init --recursive here, then deploy again: what is here needs no network")
}
