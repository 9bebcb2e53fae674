package source

import (
	"context"
	"slices"
	"strings"
	"time"
)

// Which branch is the main one decides whose word counts: where environments lie, who is trusted,
// who is told. So it is found out without anything that is checked out: the files of a branch say
// what its author wants.
//
//	no remote           the repository's own: a branch with a usual name, or the one checked out
//	origin/HEAD         what the remote called its main branch when it was cloned; a clone of one
//	                    branch has that branch there, whatever it is
//	a usual name        main, master, trunk: not in CI, where somebody else chose what is there
//	the remote          asked, where all that tells nothing

// usualMain are names that main branches have.
var usualMain = []string{"main", "master", "trunk"}

// askTime is how long a remote may take to say which branch is its main one.
const askTime = 10 * time.Second

// FindMain returns the main branch. In CI others chose what this clone holds. doubt says why it is
// not known, with what is taken for it, or ""; it is "" otherwise.
func FindMain(ctx context.Context, r *Repository, inCI bool) (name, doubt string) {
	remote := Remote(ctx, r, "")
	if r.Bare || remote == "" {
		return r.MainBranch(ctx), ""
	}
	patterns, _ := run(ctx, r.Top, "config", "--get-all", "remote."+remote+".fetch")
	whole := strings.Contains(patterns, "*")
	if head, err := run(ctx, r.Top, "symbolic-ref", "--quiet", "--short",
		"refs/remotes/"+remote+"/HEAD"); err == nil && whole {
		return strings.TrimPrefix(head, remote+"/"), ""
	}
	named := usual(ctx, r, remote)
	if named != "" && whole && !inCI {
		return named, ""
	}

	limited, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	out, err := runAs(limited, fetching, r.Top, "ls-remote", "--symref", "--", remote, "HEAD")
	line, _, _ := strings.Cut(out, "\n")
	head, says := strings.CutPrefix(line, "ref: refs/heads/")
	switch {
	case err == nil && says:
		head, _, _ = strings.Cut(head, "\t")
		return head, ""
	case err == nil && out == "": // it has no branch yet
		return r.MainBranch(ctx), ""
	case named != "":
		return named, ""
	}
	return "", "this clone does not say which branch is the main one of " + remote + ", and " + remote +
		" does not answer"
}

// A name is a guess that is right in nearly all repositories that somebody works in, and costs
// nothing. In CI somebody else chose the branch that is there, and may have chosen its name.

// usual returns a branch with a usual name, here or at the remote as it was fetched; "" for none.
func usual(ctx context.Context, r *Repository, remote string) string {
	branches := r.Branches(ctx)
	out, _ := run(ctx, r.Top, "for-each-ref", "--format=%(refname:lstrip=3)", "refs/remotes/"+remote+"/")
	branches = append(branches, strings.Fields(out)...)
	names := usualMain
	if own, err := run(ctx, r.Top, "config", "--get", "init.defaultBranch"); err == nil && own != "" {
		names = append([]string{own}, usualMain...)
	}
	for _, name := range names {
		if slices.Contains(branches, name) {
			return name
		}
	}
	return ""
}

// Head returns the newest commit of a branch, here, or else as it was fetched from the remote. It
// is fetched if neither is there, without its history where that is cut off anyway. The error is
// ErrNoCommit if there is no such branch.
func Head(ctx context.Context, r *Repository, branch string) (Commit, error) {
	commit, err := r.Commit(ctx, "refs/heads/"+branch)
	remote := ""
	if err != nil && !r.Bare {
		remote = Remote(ctx, r, "")
	}
	if err == nil || remote == "" {
		return commit, err
	}
	at := "refs/remotes/" + remote + "/" + branch
	if commit, err = r.Commit(ctx, at); err == nil {
		return commit, nil
	}
	args := []string{"fetch", "--quiet", "--no-tags", "--no-recurse-submodules", "--no-write-fetch-head"}
	if r.IsShallow(ctx) {
		args = append(args, "--depth=1")
	}
	limited, cancel := context.WithTimeout(ctx, fetchTime)
	defer cancel()
	//nolint:errcheck // that it is not there then is the error
	runAs(limited, fetching, r.Top, append(args, "--", remote, "+refs/heads/"+branch+":"+at)...)
	return r.Commit(ctx, at)
}

// fetchTime is how long fetching the main branch may take, which is mostly one commit.
const fetchTime = 2 * time.Minute
