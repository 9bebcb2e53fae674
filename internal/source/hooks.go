package source

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/core/fault"
)

// Hook is a Git hook and what was done to it.
type Hook struct {
	Name  string `json:"hook"`
	Path  string `json:"path"`
	State string `json:"state"`
}

// The states of hooks.
const (
	HookMade     = "made"
	HookAdded    = "added"
	HookThere    = "there"
	HookRemoved  = "removed"
	HookTakenOut = "taken-out"
	HookAbsent   = "absent"
	HookForeign  = "foreign"
)

// TriggerFile is what a hook touches in a repository's Git
// folder to wake whoever watches it.
const TriggerFile = "orilla.wake"

// hookNames are those after which a branch may have another commit.
var hookNames = []string{"post-commit", "post-merge", "post-rewrite", "post-receive"}

// The line stands between these, so that it can be found again.
const (
	hookBegin = "# orilla: begin (orilla hook remove takes this out)\n"
	hookLine  = `: > "$(git rev-parse --git-common-dir)/` + TriggerFile + `" 2>/dev/null || true` + "\n"
	hookEnd   = "# orilla: end\n"
	hookBlock = hookBegin + hookLine + hookEnd
)

// hooksFolder returns where Git looks for hooks.
func hooksFolder(ctx context.Context, r *Repository) (string, error) {
	// Not through run: that one leaves hooks out.
	folder, err := run(ctx, r.Top, "config", "--type=path", "--get", "--local", "core.hooksPath")
	if err != nil || folder == "" {
		return filepath.Join(r.Dir, "hooks"), ctx.Err()
	}

	if !filepath.IsAbs(folder) {
		folder = filepath.Join(r.Top, folder)
	}
	return folder, nil
}

// InstallHooks adds the line that wakes a follower to the hooks. Hooks that are
// no shell scripts are left alone. With dry nothing is written: what is returned says
// what would be.
func InstallHooks(ctx context.Context, r *Repository, dry bool) ([]Hook, error) {
	return eachHook(ctx, r, dry, func(text []byte, there bool) (after []byte, state string) {
		switch {
		case !there:
			return []byte("#!/bin/sh\n" + hookBlock), HookMade
		case bytes.Contains(text, []byte(hookBegin)):
			return nil, HookThere
		case !isShell(text):
			return nil, HookForeign
		}

		// Before everything else: the hook may end itself.
		first, rest, _ := bytes.Cut(text, []byte("\n"))
		return append(append(append(bytes.Clone(first), '\n'), hookBlock...), rest...), HookAdded
	})
}

// RemoveHooks takes the line out again; a hook that was nothing else goes. With dry
// nothing is written.
func RemoveHooks(ctx context.Context, r *Repository, dry bool) ([]Hook, error) {
	return eachHook(ctx, r, dry, func(text []byte, there bool) (after []byte, state string) {
		// Just the lines between the two marks: the rest is somebody else's.
		before, rest, found := bytes.Cut(text, []byte(hookBegin))
		_, behind, whole := bytes.Cut(rest, []byte(hookEnd))
		if !there || !found || !whole {
			return nil, HookAbsent
		}

		after = append(bytes.Clone(before), behind...)
		if strings.TrimSpace(string(after)) == "#!/bin/sh" {
			return []byte{}, HookRemoved
		}
		return after, HookTakenOut
	})
}

// isShell reports whether a hook is a script for a shell, so that a line of
// shell can be added to it.
func isShell(text []byte) bool {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	line := string(first)
	return strings.HasPrefix(line, "#!") &&
		(strings.HasSuffix(strings.Fields(line + " ")[0], "sh") || strings.Contains(line, "env sh") ||
			strings.Contains(line, "env bash"))
}

// eachHook changes hooks: to what change returns, nothing
// if that is nil; removed if it is empty.
func eachHook(ctx context.Context, r *Repository, dry bool,
	change func(text []byte, there bool) ([]byte, string),
) ([]Hook, error) {
	folder, err := hooksFolder(ctx, r)
	if err != nil {
		return nil, err
	}
	var hooks []Hook
	for _, name := range hookNames {
		if r.Bare != (name == "post-receive") {
			continue // who works there does not push to it, and the other way round
		}
		hook := Hook{Name: name, Path: filepath.Join(folder, name)}
		text, err := os.ReadFile(hook.Path)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return hooks, hookTrouble(hook.Path, err)
		}

		after, state := change(text, err == nil)
		switch hook.State = state; {
		case after == nil, dry:
		case len(after) == 0:
			err = os.Remove(hook.Path)
		default:
			err = writeHook(hook.Path, after)
		}

		if after != nil && !dry && err != nil {
			return hooks, hookTrouble(hook.Path, err)
		}
		hooks = append(hooks, hook)
	}

	return hooks, nil
}

// writeHook replaces a hook in one step, with the rights that it had.
func writeHook(path string, text []byte) error {
	mode := fs.FileMode(0o755)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}

	// Git may run the hook at this very moment, so it is replaced in one step.
	if err := os.WriteFile(path+".orilla-new", text, mode); err != nil {
		return err
	}
	return os.Rename(path+".orilla-new", path)
}

// hookTrouble is the error of a hook that cannot be changed.
func hookTrouble(path string, err error) error {
	return fault.New(fault.Failed, "hook", "cannot change the hook").At("%s", path).Because(err)
}
