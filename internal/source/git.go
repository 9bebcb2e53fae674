// Package source reads what is to be published: commits through Git's command
// line, folders, and archives.
//
//	repository, err := source.FindRepository(ctx, folder)
//	err = repository.Checkout(ctx, commit, workspace, view)   // one commit's files, and no others
//	output, done, err := source.Beneath(top, "dist")          // a folder that links cannot lead out of
//
// A repository is somebody else's input. No name from a tree or an archive is
// opened in a way that could leave its folder: not by "..", not by a link, not by
// a name that Windows takes for a device. What a repository could make Git run
// (hooks, filters, external programs) is turned off where the commit is not
// trusted.
package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/process"
)

// Repository is a Git repository, used through the git command. Nothing here
// changes its working tree, index, HEAD or stash.
type Repository struct {
	Top string // of the working tree; of the repository itself if it is bare
	Dir string // the .git folder that the work trees share
	// Bare: there is no working tree.
	Bare bool
}

// Errors that callers decide on.
var (
	// ErrNoGit: there is no git command.
	ErrNoGit = errors.New("git is not installed")
	// ErrNoRepository: the folder is not in a repository.
	ErrNoRepository = errors.New("not in a Git repository")
	// ErrNoCommit: the name means no commit.
	ErrNoCommit = errors.New("no such commit")
	// ErrShallow: the history that is here is cut off
	// before what was asked for.
	ErrShallow = errors.New("shallow clone")
)

// FindRepository returns the repository that folder is in.
func FindRepository(ctx context.Context, folder string) (*Repository, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, ErrNoGit
	}
	// The common folder, not that of a linked work tree: objects and refs lie
	// there.
	out, err := run(ctx, folder, "rev-parse", "--is-bare-repository", "--git-common-dir", "--show-toplevel")
	if err != nil { // a bare one has no working tree to show
		out, err = run(ctx, folder, "rev-parse", "--is-bare-repository", "--git-common-dir")
	}
	if err != nil {
		// Git's own advice would be to trust every folder. LC_ALL=C keeps the
		// words what they are here.
		if strings.Contains(err.Error(), "dubious ownership") {
			return nil, fault.New(fault.Failed, "git-ownership",
				"Git refuses this repository because it belongs to another user").At("%s", folder).
				Then("if you trust it: git config --global --add safe.directory %s", folder)
		}
		return nil, ErrNoRepository
	}

	lines := strings.Split(strings.ReplaceAll(out, "\r\n", "\n"), "\n")
	if len(lines) < 2 {
		return nil, ErrNoRepository
	}
	dir := lines[1]
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(folder, dir)
	}

	if lines[0] == "true" {
		return &Repository{Top: dir, Dir: dir, Bare: true}, nil
	}
	if len(lines) < 3 {
		return nil, ErrNoRepository // inside the .git folder
	}
	return &Repository{Top: filepath.FromSlash(lines[2]), Dir: dir}, nil
}

// manner is on whose behalf git is called: that decides what it is told.
type manner int

const (
	// reading: of what is on this machine. It needs no keys.
	reading manner = iota
	// fetching: from where the user may fetch, with the
	// user's keys and helpers.
	fetching
	// foreign: a checkout that is not trusted. No settings of the user or the
	// machine, no keys, no helpers, no filters.
	foreign
)

// run calls git in a folder and returns its output without the final newline.
func run(ctx context.Context, folder string, args ...string) (string, error) {
	return runAs(ctx, reading, folder, args...)
}

// runAs runs Git and returns what it prints, without the end of the last line.
func runAs(ctx context.Context, how manner, folder string, args ...string) (string, error) {
	out, err := runRaw(ctx, how, folder, args...)
	return strings.TrimRight(string(out), "\r\n"), err
}

// runRaw runs Git and returns what it prints, byte for byte.
func runRaw(ctx context.Context, how manner, folder string, args ...string) ([]byte, error) {
	return runWith(ctx, how, folder, nil, args...)
}

// runWith is runRaw for a command that reads.
func runWith(ctx context.Context, how manner, folder string, in io.Reader, args ...string) ([]byte, error) {
	command := exec.CommandContext(ctx, "git", args...)
	command.Dir = folder
	command.Env = how.environment()
	// Whatever Git has started (a transport, a helper) may hold the pipe after
	// Git itself was ended.
	command.WaitDelay = 5 * time.Second
	// A repository decides how much Git prints.
	out, complaint := bounded{most: mostOutput}, bounded{most: 1 << 20}
	command.Stdin, command.Stdout, command.Stderr = in, &out, &complaint

	if err := process.Run(command); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return out.taken.Bytes(), fmt.Errorf("git %s: %w: %s", args[0], err,
			strings.TrimSpace(complaint.taken.String()))
	}
	return out.taken.Bytes(), nil
}

// mostOutput is how much git may answer, in bytes: lists of a repository's
// files are long, but what anybody commits must not fill the memory.
const mostOutput = 512 << 20

var errTooMuch = errors.New("git answers too much")

// bounded is a buffer that takes no more than so many bytes.
type bounded struct {
	taken bytes.Buffer // no embedded one: its other methods would know no bound
	most  int
}

// Write implements io.Writer.
func (b *bounded) Write(data []byte) (int, error) {
	if b.taken.Len()+len(data) > b.most {
		return 0, errTooMuch
	}
	return b.taken.Write(data)
}

// redirecting are variables that would point git at
// another repository, as in a hook.
var redirecting = []string{"GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_PREFIX",
	"GIT_QUARANTINE_PATH",
	"GIT_ALTERNATE_OBJECT_DIRECTORIES", "GIT_COMMON_DIR", "GIT_NAMESPACE"}

// environment is what git is told: little of this process's, no questions on
// the terminal, and no hooks, for reading a repository runs nothing of it.
func (how manner) environment() []string {
	// What a child is told depends on what it does. A checkout of a stranger's
	// commit is told nothing of the user's.
	var told []string
	switch how {
	case reading:
		told = process.Environment("GIT_CONFIG*", "GIT_EXEC_PATH", "GIT_CEILING_DIRECTORIES", "EMAIL")
	case fetching: // whatever a credential helper needs can be given in a variable that begins with GIT_
		told = process.Environment(append([]string{"GIT_*", "SSH_*", "DISPLAY", "WAYLAND_DISPLAY",
			"XDG_RUNTIME_DIR", "DBUS_SESSION_BUS_ADDRESS", "EMAIL"}, process.Network...)...)
	case foreign:
		told = append(process.Environment(process.Network...), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL="+
			os.DevNull, "GIT_ATTR_NOSYSTEM=1",
			"GIT_ALLOW_PROTOCOL=https", "GIT_LFS_SKIP_SMUDGE=1", "HOME="+os.DevNull, "XDG_CONFIG_HOME="+
				os.DevNull)
	}

	// Settings may come in numbered variables; more are appended behind them,
	// and the last one of a name wins.
	settings := 0
	environment := make([]string, 0, len(told)+8)
	for _, variable := range told {
		name, value, _ := strings.Cut(variable, "=")
		if name == "GIT_CONFIG_COUNT" {
			settings, _ = strconv.Atoi(value)
		}
		// Run from a hook, the environment names another repository than the
		// one that is meant.
		if name != "GIT_CONFIG_COUNT" && !slices.Contains(redirecting, name) {
			environment = append(environment, variable)
		}
	}

	// No hook of the repository runs by our doing: post-checkout is anybody's
	// code.
	more := [][2]string{{"core.hooksPath", os.DevNull}}
	if how == foreign {
		more = append(more, [2]string{"http.followRedirects", "false"}, [2]string{"core.protectHFS", "true"},
			[2]string{"core.protectNTFS", "true"},
			[2]string{"core.fsmonitor", "false"}, [2]string{"credential.helper", ""})
	}

	for i, one := range more {
		environment = append(environment, fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", settings+i, one[0]),
			fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", settings+i, one[1]))
	}
	return append(environment, fmt.Sprintf("GIT_CONFIG_COUNT=%d", settings+len(more)),
		"GIT_TERMINAL_PROMPT=0", "GIT_OPTIONAL_LOCKS=0", "LC_ALL=C")
}

// Commit is what is known of a commit.
type Commit struct {
	Hash    string // the full hash
	Tree    string // the hash of its tree
	Subject string // the first line of its message
	Author  string // name and address
	When    time.Time
}

// Short returns the form that people read.
func (c Commit) Short() string { return Short(c.Hash) }

// Short cuts the hash of a commit to seven digits.
func Short(hash string) string { return hash[:min(7, len(hash))] }

// Commit finds the commit that name means: a branch, a
// tag, a hash or anything else that git understands.
//
// Any name that Git resolves is one: a branch, a tag, HEAD~2, the beginning of
// a hash. The error is ErrNoCommit.
func (r *Repository) Commit(ctx context.Context, name string) (Commit, error) {
	// A name that begins with a dash would be an option (gitcli(7)).
	if strings.HasPrefix(name, "-") {
		return Commit{}, fmt.Errorf("%q: %w", name, ErrNoCommit)
	}
	out, err := run(ctx, r.Top, "log", "-1", commitFormat, "--no-show-signature", name+"^{commit}", "--")
	if err != nil {
		return Commit{}, errors.Join(fmt.Errorf("%q: %w", name, ErrNoCommit), ctx.Err())
	}
	return parseCommit(out)
}

const commitFormat = "--format=%H%x00%T%x00%s%x00%an <%ae>%x00%ct"

// parseCommit reads a line that git log was told to print: five fields, divided
// by zero bytes, which no field can hold.
func parseCommit(line string) (Commit, error) {
	fields := strings.Split(line, "\x00")
	if len(fields) != 5 {
		return Commit{}, fmt.Errorf("git log answered %q", line)
	}
	var seconds int64
	if _, err := fmt.Sscan(fields[4], &seconds); err != nil {
		return Commit{}, err
	}
	return Commit{Hash: fields[0], Tree: fields[1], Subject: printable(fields[2]),
		Author: printable(fields[3]), When: time.Unix(seconds, 0).UTC()}, nil
}

// printable takes out what would steer a terminal: whoever
// proposes a commit writes its message.
func printable(text string) string {
	return strings.Map(func(c rune) rune {
		if unicode.IsControl(c) {
			return -1
		}
		return c
	}, text)
}

// Branch returns the branch that is checked out, or "" when HEAD is detached.
func (r *Repository) Branch(ctx context.Context) string {
	name, err := run(ctx, r.Top, "symbolic-ref", "--quiet", "--short", "HEAD")
	if err != nil {
		return ""
	}
	return name
}

// Tags returns the names of tags, the newest first, 100 at most.
func Tags(ctx context.Context, r *Repository) []string {
	out, err := run(ctx, r.Top, "for-each-ref", "--format=%(refname:short)", "--sort=-creatordate",
		"--count=100", "refs/tags/")
	if err != nil {
		return nil
	}
	return strings.Fields(out)
}

// Branches returns the names of the local branches.
func (r *Repository) Branches(ctx context.Context) []string {
	out, err := run(ctx, r.Top, "for-each-ref", "--format=%(refname:short)", "refs/heads/")
	if err != nil || out == "" {
		return nil
	}
	return strings.Split(out, "\n")
}

// Named returns the paths of the files of a commit that
// have a name, in any folder.
func Named(ctx context.Context, r *Repository, commit, name string) []string {
	out, err := run(ctx, r.Top, "ls-tree", "-r", "--name-only", commit)
	if err != nil {
		return nil
	}
	var found []string
	for file := range strings.SplitSeq(out, "\n") {
		if path.Base(file) == name {
			found = append(found, file)
		}
	}
	return found
}

// IsBranch reports whether name is a local branch.
func (r *Repository) IsBranch(ctx context.Context, name string) bool {
	_, err := run(ctx, r.Top, "show-ref", "--verify", "--quiet", "refs/heads/"+name)
	return err == nil
}

// MainBranch returns the branch that the repository's origin, or else the
// repository, treats as its main one.
func (r *Repository) MainBranch(ctx context.Context) string {
	// What the remote calls its main branch is the best answer; names that are
	// usual are the next, and what is checked out the last.
	if head, err := run(ctx, r.Top, "symbolic-ref", "--quiet", "--short",
		"refs/remotes/origin/HEAD"); err == nil {
		return strings.TrimPrefix(head, "origin/")
	}
	branches := r.Branches(ctx)
	if head := r.Branch(ctx); r.Bare && slices.Contains(branches, head) {
		return head
	}

	candidates := []string{"main", "master", "trunk"}
	if configured, err := run(ctx, r.Top, "config", "--get", "init.defaultBranch"); err == nil &&
		configured != "" {
		candidates = append([]string{configured}, candidates...)
	}

	for _, candidate := range candidates {
		for _, branch := range branches {
			if branch == candidate {
				return branch
			}
		}
	}

	if branch := r.Branch(ctx); branch != "" {
		return branch
	}
	return "main"
}

// Roots returns the hashes of the commits without parents that HEAD descends
// from. They tell one repository from another wherever it is cloned. In a
// shallow clone they cannot be known.
func (r *Repository) Roots(ctx context.Context) ([]string, error) {
	if r.IsShallow(ctx) {
		return nil, fault.New(fault.Refused, "shallow",
			"the clone is shallow and lacks the first commit, which identifies the owner of the "+
				"site's name").
			Marked(ErrShallow).
			At("%s", r.Top).Then("git fetch --unshallow")
	}

	out, err := run(ctx, r.Top, "rev-list", "--max-parents=0", "HEAD")
	if err != nil {
		return nil, err
	}
	return strings.Fields(out), nil
}

// Uncommitted returns how many files differ from HEAD or are not tracked.
func Uncommitted(ctx context.Context, r *Repository) int {
	out, err := run(ctx, r.Top, "status", "--porcelain", "--no-renames")
	if err != nil || out == "" {
		return 0
	}
	return strings.Count(out, "\n") + 1
}

// ErrNoFile: the commit has no such file.
var ErrNoFile = errors.New("no such file in the commit")

// Touching returns the last commits of a ref that changed a file, the newest first,
// at most limit.
func Touching(ctx context.Context, r *Repository, ref, file string, limit int) ([]string, error) {
	out, err := run(ctx, r.Top, "log", "--format=%H", "-n", strconv.Itoa(limit), ref, "--", file)
	return strings.Fields(out), err
}

// File returns the content of a file in a commit. name is
// relative to the top, with slashes.
func (r *Repository) File(ctx context.Context, commit, name string) ([]byte, error) {
	out, err := runRaw(ctx, reading, r.Top, "cat-file", "blob", commit+":"+name)
	if errors.Is(err, errTooMuch) || len(out) > largestFile {
		return nil, fault.New(fault.Usage, "file-too-large", "the file is larger than %d MB",
			largestFile>>20).At("%s:%s", Short(commit), name)
	}
	if err != nil && ctx.Err() == nil {
		return nil, fmt.Errorf("%s: %w", name, ErrNoFile)
	}
	return out, err
}

// largestFile is how large a file may be that is read whole from a commit, in
// bytes: configurations and rules are.
const largestFile = 32 << 20

// Tree returns an id of what a folder of a commit holds, but for the files that
// without names, relative to the folder: Git's own id of the tree where there
// is none of them, else the SHA-256 of what its trees list without them.
//
// The id is Git's own where nothing is left out, and a SHA-256 of the listing
// otherwise; the two differ in length and are never mixed up.
func (r *Repository) Tree(ctx context.Context, commit, folder string, without ...string) (string, error) {
	if folder == "." {
		folder = ""
	}
	tree, err := run(ctx, r.Top, "rev-parse", "--verify", "--quiet", commit+":"+folder)
	if err != nil {
		return "", err
	}
	return treeWithout(ctx, r, tree, without)
}

// treeWithout returns the id that a tree would have without some of its
// entries. It is computed by Git, in the objects of the repository.
func treeWithout(ctx context.Context, r *Repository, tree string, without []string) (string, error) {
	if len(without) == 0 {
		return tree, nil
	}
	listing, err := runRaw(ctx, reading, r.Top, "ls-tree", "-z", tree)
	if err != nil {
		return "", err
	}

	// A tree without some of its files has no id of Git's, so it gets one here:
	// the hash of its listing. If nothing was left out, it is Git's own.
	sum, same := sha256.New(), true
	for entry := range bytes.SplitSeq(bytes.TrimSuffix(listing, []byte{0}), []byte{0}) {
		about, name, _ := strings.Cut(string(entry), "\t")
		if slices.Contains(without, name) {
			same = false
			continue
		}

		fields := strings.Fields(about) // mode, type, id
		var below []string
		for _, path := range without {
			if rest, ok := strings.CutPrefix(path, name+"/"); ok {
				below = append(below, rest)
			}
		}

		if len(below) > 0 && len(fields) == 3 && fields[1] == "tree" {
			id, err := treeWithout(ctx, r, fields[2], below)
			if err != nil {
				return "", err
			}
			same = same && id == fields[2]
			about = fields[0] + " tree " + id
		}
		fmt.Fprintf(sum, "%s\t%s\x00", about, name) //nolint:errcheck // a hash takes everything
	}

	if same {
		return tree, nil
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// Ignored returns those of some absolute paths that Git ignores.
func Ignored(ctx context.Context, r *Repository, paths []string) map[string]bool {
	// status 1 says that none is
	out, _ := runWith(ctx, reading, r.Top, strings.NewReader(strings.Join(paths, "\x00")), "check-ignore",
		"-z", "--stdin")
	ignored := map[string]bool{}
	for path := range strings.SplitSeq(string(out), "\x00") {
		ignored[path] = true
	}
	return ignored
}

// Tracked reports whether Git tracks an absolute path.
func Tracked(ctx context.Context, r *Repository, path string) bool {
	_, err := run(ctx, r.Top, "ls-files", "--error-unmatch", "--", path)
	return err == nil
}

// Contains reports whether ancestor is commit or one of the commits that it
// descends from. Commits that are not in the repository are an error.
//
// A commit contains itself. The error is ErrNoCommit if one of them is not
// here, as in a shallow clone.
func (r *Repository) Contains(ctx context.Context, commit, ancestor string) (bool, error) {
	_, err := run(ctx, r.Top, "merge-base", "--is-ancestor", ancestor, commit)
	// Status 1 is the answer "no"; anything else is that there is none, as in a
	// shallow clone.
	if exit, exited := errors.AsType[*exec.ExitError](err); exited && exit.ExitCode() == 1 {
		return false, nil
	}
	if err != nil && ctx.Err() == nil {
		return false, fmt.Errorf("%s or %s: %w: %w", ancestor, commit, ErrNoCommit, err)
	}
	return err == nil, err
}

// Person returns who Git thinks the user is: "Name
// <address>", or "" if it does not know.
func Person(ctx context.Context, folder string) string {
	name, address := "", ""
	out, _ := run(ctx, folder, "config", "--get-regexp", `^user\.(name|email)$`)
	for line := range strings.SplitSeq(out, "\n") {
		switch key, value, _ := strings.Cut(line, " "); key { // the last one of each counts
		case "user.name":
			name = value
		case "user.email":
			address = value
		}
	}

	switch {
	case name == "":
		return address
	case address == "":
		return name
	}
	return name + " <" + address + ">"
}

// PersonName is a person as Person returns one, without the address.
func PersonName(who string) string {
	name, _, _ := strings.Cut(who, " <")
	return name
}
