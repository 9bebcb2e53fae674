package source

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// ErrNoRemote: there is nowhere to fetch from.
var ErrNoRemote = errors.New("the repository has no remote")

// Ref is a name in a repository and the commit that it leads to.
type Ref struct {
	Name   string // in full: refs/heads/main
	Commit string
	When   time.Time // of the commit
}

// Branch returns the name of a branch, or false for other refs.
func (r Ref) Branch() (string, bool) { return strings.CutPrefix(r.Name, "refs/heads/") }

// Refs returns all refs below the prefixes (refs/heads/,
// say) that lead to commits, in order of name.
func (r *Repository) Refs(ctx context.Context, prefixes ...string) ([]Ref, error) {
	fields := []string{
		"%(refname)", "%(objectname)", "%(objecttype)", "%(*objectname)", "%(*objecttype)",
		"%(creatordate:unix)",
	}
	args := []string{"for-each-ref", "--format=" + strings.Join(fields, "%00")}
	out, err := run(ctx, r.Top, append(args, prefixes...)...)
	if err != nil || out == "" {
		return nil, err
	}

	var refs []Ref
	for line := range strings.SplitSeq(out, "\n") {
		fields := strings.Split(line, "\x00")
		if len(fields) != 6 {
			continue
		}
		ref := Ref{Name: fields[0], Commit: fields[1]}

		// An annotated tag is an object of its own; what it points to is the
		// commit.
		if fields[2] == "tag" && fields[4] == "commit" {
			ref.Commit = fields[3]
		} else if fields[2] != "commit" {
			continue
		}

		if seconds, err := strconv.ParseInt(fields[5], 10, 64); err == nil {
			ref.When = time.Unix(seconds, 0)
		}
		refs = append(refs, ref)
	}

	return refs, nil
}

// Tips returns the newest commits of a branch that the
// repository knows of: its own, and those that remotes had. Of a
// ref that is no branch, given by its full name, it is the one.
func (r *Repository) Tips(ctx context.Context, branch, ref string) ([]string, error) {
	asked := []string{"refs/heads/" + branch, "refs/remotes/"}
	if ref != "" {
		asked = []string{ref}
	} else if branch == "" {
		return nil, nil
	}

	refs, err := r.Refs(ctx, asked...)
	if err != nil {
		return nil, err
	}
	var tips []string
	for _, found := range refs {
		remote, isRemote := strings.CutPrefix(found.Name, "refs/remotes/")
		_, name, _ := strings.Cut(remote, "/")
		if (found.Name == asked[0] || isRemote && name == branch) && !slices.Contains(tips, found.Commit) {
			tips = append(tips, found.Commit)
		}
	}

	return tips, nil
}

// InAny reports whether a commit is one of the tips or an ancestor of one. Tips
// that are not here count as not containing it.
func (r *Repository) InAny(ctx context.Context, tips []string, commit string) (bool, error) {
	for _, tip := range tips {
		if tip == commit {
			return true, nil
		}
		if contains, err := r.Contains(ctx, tip, commit); err == nil && contains {
			return true, nil
		}
	}
	return false, ctx.Err()
}

// Since returns the commits that tip has and before does not,
// the newest first, at most limit, and how many there are in
// all. Without before, or if it is gone, it is tip alone.
func (r *Repository) Since(ctx context.Context, tip, before string, limit int) ([]Commit, int, error) {
	// What a merge brings in was never a head of this branch (git-rev-list(1)).
	span := []string{"--first-parent", tip, "^" + before}
	// A force-push may have taken the commit away.
	if before != "" {
		if _, err := r.Commit(ctx, before); err != nil {
			before = ""
		}
	}

	if before == "" {
		commit, err := r.Commit(ctx, tip)
		return []Commit{commit}, 1, errors.Join(err, ctx.Err())
	}
	// Counted first: a branch may be thousands of commits ahead, of which a few
	// are told.
	count, err := run(ctx, r.Top, append([]string{"rev-list", "--count"}, span...)...)
	if err != nil {
		return nil, 0, err
	}

	total, err := strconv.Atoi(count)
	if err != nil || total == 0 {
		return nil, 0, err
	}
	out, err := run(ctx, r.Top,
		append([]string{"log", commitFormat, "--no-show-signature", "-n", strconv.Itoa(limit)}, span...)...)
	if err != nil {
		return nil, 0, err
	}

	var commits []Commit
	for line := range strings.SplitSeq(out, "\n") {
		commit, err := parseCommit(line)
		if err != nil {
			return nil, 0, err
		}
		commits = append(commits, commit)
	}

	return commits, total, nil
}

// Message returns the whole message of a commit.
func (r *Repository) Message(ctx context.Context, commit string) (string, error) {
	return run(ctx, r.Top, "log", "-1", "--format=%B", "--no-show-signature", commit, "--")
}

// IsShallow reports whether the history is cut off somewhere.
func (r *Repository) IsShallow(context.Context) bool {
	_, err := os.Stat(filepath.Join(r.Dir, "shallow"))
	return err == nil
}

// Remote returns the name of the remote that a branch
// comes from, or the first one, or "".
func Remote(ctx context.Context, r *Repository, branch string) string {
	if branch != "" {
		name, err := run(ctx, r.Top, "config", "--get", "branch."+branch+".remote")
		if err == nil && name != "" && name != "." {
			return name
		}
	}
	out, err := run(ctx, r.Top, "remote")
	if err != nil {
		return ""
	}

	names := strings.Fields(out)
	if slices.Contains(names, "origin") {
		return "origin"
	}
	if len(names) > 0 {
		return names[0]
	}
	return ""
}

// FetchMore fetches the newest commits of a branch, or of another ref by its full
// name, and of a history that is cut off so many commits more, or with 0 all. It
// changes no branch.
func (r *Repository) FetchMore(ctx context.Context, branch, ref string, depth int) error {
	remote := Remote(ctx, r, branch)
	if remote == "" {
		return ErrNoRemote
	}
	// Nothing of the user's own is touched: no tags, no FETCH_HEAD, no
	// submodules.
	args := []string{"fetch", "--quiet", "--no-tags", "--no-recurse-submodules", "--no-write-fetch-head"}
	switch shallow := r.IsShallow(ctx); {
	case shallow && depth > 0:
		args = append(args, "--deepen="+strconv.Itoa(depth))
	case shallow:
		args = append(args, "--unshallow")
	}

	args = append(args, "--", remote)
	switch {
	case ref != "":
		args = append(args, "+"+ref+":"+ref)
	case branch != "" && r.Bare: // its branches are brought up to date as a whole
		args = append(args, "refs/heads/"+branch)
	case branch != "":
		args = append(args, "+refs/heads/"+branch+":refs/remotes/"+remote+"/"+branch)
	}
	_, err := runAs(ctx, fetching, r.Top, args...)
	return err
}

// FetchCommit fetches one commit without its history, and
// reports whether the branch's remote has it.
func (r *Repository) FetchCommit(ctx context.Context, branch, commit string) (bool, error) {
	remote := Remote(ctx, r, branch)
	if remote == "" {
		return false, ErrNoRemote
	}
	_, err := runAs(ctx, fetching, r.Top, "fetch", "--quiet", "--no-tags", "--no-recurse-submodules",
		"--no-write-fetch-head", "--depth=1", "--", remote, commit)
	// That the server does not have the commit is an answer.
	if err != nil && (strings.Contains(err.Error(), "not our ref") ||
		strings.Contains(err.Error(), "no such remote ref")) {
		return false, nil
	}
	return err == nil, err
}

// RemoteRefs asks the remote that a branch comes from which branches it has, and
// which other refs that fit the patterns, by their full names. Nothing is fetched.
func RemoteRefs(ctx context.Context, r *Repository, branch string, patterns []string) ([]string, error) {
	remote := Remote(ctx, r, branch)
	if remote == "" {
		return nil, ErrNoRemote
	}
	asked := []string{"refs/heads/*"}
	for _, pattern := range patterns {
		if !strings.HasPrefix(pattern, "!") {
			asked = append(asked, pattern)
		}
	}

	args := append([]string{"ls-remote", "--quiet", "--", remote}, asked...)
	out, err := runAs(ctx, fetching, r.Top, args...)
	if err != nil {
		return nil, err
	}
	var names []string
	for line := range strings.Lines(out) {
		if _, name, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
			names = append(names, name)
		}
	}
	return names, nil
}

// Mirror is a bare repository of ours that has what another one has.
type Mirror struct {
	*Repository
	From string // its address
}

// OpenMirror makes the mirror in a folder, or opens the
// one that is there. borrow is a repository on this
// machine that may have the objects already; nil for none.
func OpenMirror(ctx context.Context, folder, from string, borrow *Repository) (*Mirror, error) {
	if _, err := os.Stat(filepath.Join(folder, "HEAD")); err != nil {
		if err := os.MkdirAll(filepath.Dir(folder), 0o700); err != nil {
			return nil, err
		}
		if _, err := run(ctx, filepath.Dir(folder), "init", "--quiet", "--bare", "--", folder); err != nil {
			return nil, err
		}
	}

	if _, err := run(ctx, folder, "config", "remote.origin.url", from); err != nil {
		return nil, err
	}
	// What the project's own clone has need not be fetched again.
	if borrow != nil {
		objects, err := filepath.Abs(filepath.Join(borrow.Dir, "objects"))
		if err == nil {
			err = os.WriteFile(filepath.Join(folder, "objects", "info", "alternates"), []byte(objects+"\n"),
				0o644)
		}
		if err != nil {
			return nil, err
		}
	}

	return &Mirror{&Repository{Top: folder, Dir: folder, Bare: true}, from}, nil
}

// Fetch brings the mirror up to date: branches, tags, and
// refs of other kinds by their patterns, in which a star
// stands for anything. What is gone there goes here.
func (m *Mirror) Fetch(ctx context.Context, patterns []string) error {
	args := []string{"fetch", "--quiet", "--prune", "--force", "--no-recurse-submodules", "origin",
		"+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"}
	for _, pattern := range patterns {
		if before, _, starred := strings.Cut(pattern, "*"); starred && !strings.HasPrefix(pattern, "!") {
			before = before[:strings.LastIndexByte(before, '/')+1]
			args = append(args, "+"+before+"*:"+before+"*")
		} else if !starred && !strings.HasPrefix(pattern, "!") {
			args = append(args, "+"+pattern+":"+pattern)
		}
	}

	if _, err := runAs(ctx, fetching, m.Top, args...); err != nil {
		return err
	}

	// Which branch is the main one.
	out, err := runAs(ctx, fetching, m.Top, "ls-remote", "--symref", "origin", "HEAD")
	if err != nil {
		return err
	}

	if line, _, _ := strings.Cut(out, "\n"); strings.HasPrefix(line, "ref: ") {
		head, _, _ := strings.Cut(strings.TrimPrefix(line, "ref: "), "\t")
		_, err = run(ctx, m.Top, "symbolic-ref", "HEAD", head)
	}
	return err
}

// RemoteAddress returns the address of a remote by its name, or "".
func RemoteAddress(ctx context.Context, r *Repository, name string) string {
	if name == "" || strings.HasPrefix(name, "-") {
		return ""
	}
	address, err := run(ctx, r.Top, "config", "--get", "remote."+name+".url")
	if err != nil {
		return ""
	}

	if !strings.Contains(address, ":") && !filepath.IsAbs(address) {
		address = filepath.Join(r.Top, address)
	}
	return address
}
