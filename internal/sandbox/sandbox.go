// Package sandbox describes the place in which the steps of an untrusted build
// run, and writes it as a command line of bubblewrap (bwrap(1)): namespaces of its
// own, a system that can be read only, and of everything else just the checkout
// and a folder for temporary files.
//
//	bwrap --unshare-all ...
//	      --ro-bind /usr /usr       the system, to read
//	      --bind <checkout> /build  the one place that stays
//	      --tmpfs /tmp              and one that goes
//
// What is not named is not there: a folder that is new on the machine does not
// become visible by being new. What such a step reaches on the network is decided
// by pasta (passt(1)) and by rules that the keeper of the build sets.
//
// Nothing here starts a process, so a test compares the description on any system.
// docs/trust.md says what is protected, and what is not.
package sandbox

import (
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Where things are inside.
const (
	TreePlace      = "/build" // the checkout
	TemporaryPlace = "/tmp"   // temporary files; the home folder lies below
	HomePlace      = "/tmp/home"
)

// Bounds are how much the processes of a build may take
// together. The keeper looks several times a second, so that
// a build can be over a bound for a moment. 0 is no bound.
type Bounds struct {
	Memory int64 `json:"memory"` // bytes, resident
	Tasks  int   `json:"tasks"`  // processes and threads
	Disk   int64 `json:"disk"`   // bytes on the disk, in the folders that are writable
}

// Cell is one isolated place: which folders a step sees, under which names, and
// what of them it may write.
type Cell struct {
	Tree      string // the checkout, absolute: it can be written
	Temporary string // an empty folder, absolute: it can be written
	Files     string // a folder with the files of FileTexts
	// absolute paths that are never shown, even below what
	// is: stores, state, other checkouts
	Hidden []string
	Path   []string // the folders of programs, as in PATH
	Home   string   // of the user: nothing of it is shown but folders of Path
	// the network namespace is the keeper's, which reaches
	// public addresses; else there is none
	Outside bool
	Tasks   int  // see Bounds; the system holds it too where it counts by namespace
	Strict  bool // the version of bubblewrap can forbid further user namespaces
}

// system are the folders of programs and libraries. What
// is a link here is a link there.
var system = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/opt", "/nix", "/gnu",
	"/snap"}

// configuration is what is shown of /etc: what programs need
// to find libraries, certificates, fonts and types. Not all
// of it: keys and passwords of services lie there too.
var configuration = []string{
	"alternatives", "ca-certificates", "ca-certificates.conf", "crypto-policies", "debian_version", "fonts",
	"gai.conf", "host.conf",
	"ImageMagick-6", "ImageMagick-7", "java-17-openjdk", "java-21-openjdk", "ld.so.cache", "ld.so.conf",
	"ld.so.conf.d", "localtime", "magic",
	"mime.types", "os-release", "pki/ca-trust", "pki/tls/certs", "pki/tls/cert.pem", "protocols", "services",
	"ssl/cert.pem", "ssl/certs",
	"ssl/openssl.cnf", "terminfo", "timezone",
}

// Arguments returns the command line that runs a command in
// the cell. folder is where it starts, from the tree's top,
// with slashes. links returns where a symbolic link leads, ""
// for what is none, and exists whether something is there.
func (c Cell) Arguments(bubblewrap, folder string, command []string, links func(string) string,
	exists func(string) bool,
) []string {
	args := []string{bubblewrap, "--die-with-parent", "--new-session", "--unshare-user", "--unshare-ipc",
		"--unshare-pid", "--unshare-uts",
		"--unshare-cgroup-try", "--uid", "1000", "--gid", "1000", "--cap-drop", "ALL", "--hostname", "build"}
	if !c.Outside {
		args = append(args, "--unshare-net")
	}

	if c.Strict {
		args = append(args, "--disable-userns")
	}

	for _, place := range system {
		switch target := links(place); {
		case target != "":
			args = append(args, "--symlink", target, place)
		case exists(place):
			args = append(args, "--ro-bind", place, place)
		}
	}

	for _, name := range configuration {
		if place := "/etc/" + name; exists(place) {
			args = append(args, "--ro-bind", place, place)
		}
	}

	for _, name := range fileNames {
		args = append(args, "--ro-bind", filepath.Join(c.Files, name), "/etc/"+name)
	}

	// A device folder is a file system in memory, which nothing would bound.
	args = append(args, "--proc", "/proc", "--dev", "/dev", "--size", strconv.Itoa(sharedMemory), "--tmpfs",
		"/dev/shm", "--remount-ro", "/dev")
	for _, hidden := range append(slices.Clone(c.Hidden), c.Home) {
		if slices.ContainsFunc(system, func(place string) bool { return below(hidden, place) }) &&
			exists(hidden) {
			args = append(args, "--tmpfs", hidden, "--remount-ro", hidden)
		}
	}

	args = append(args, "--bind", c.Tree, TreePlace, "--bind", c.Temporary, TemporaryPlace, "--symlink",
		"/tmp", "/var/tmp", "--dir", "/run")
	for _, place := range c.programs(exists) {
		args = append(args, "--ro-bind", place, place)
	}

	// The root itself is in memory too.
	args = append(args, "--remount-ro", "/", "--chdir", filepath.ToSlash(filepath.Join(TreePlace, folder)),
		"--", "/bin/sh", "-c", limited, "sh", strconv.Itoa(c.Tasks))
	return append(args, command...)
}

// sharedMemory is the size of /dev/shm, in bytes.
const sharedMemory = 256 << 20

// limited sets the bound on processes inside, where the system counts those of
// this namespace only (setrlimit(2), RLIMIT_NPROC), and makes the system choose
// the build when memory runs out. Shells disagree about the letter.
const limited = `n=$1; shift; { ulimit -p "$n" || ulimit -u "$n"; } 2>/dev/null; echo 900 2>/dev/null >/proc/self/oom_score_adj; exec "$@"`

// beside are the folders that programs need besides their own: those of an
// installation, as make install lays it out.
var beside = []string{"lib", "lib64", "libexec", "share", "include", "Cellar", "opt"}

// programs returns what is shown of the folders of programs that the system's
// do not hold: each folder itself and, unless it is one of the user's own
// files, what lies beside it.
func (c Cell) programs(exists func(string) bool) []string {
	var found []string
	add := func(place string) {
		shown := slices.ContainsFunc(system, func(one string) bool { return below(place, one) }) ||
			slices.Contains(found, place)
		hidden := slices.ContainsFunc(c.Hidden, func(one string) bool {
			return below(place, one) ||
				below(one, place)
		})
		if !shown && !hidden && exists(place) {
			found = append(found, place)
		}
	}

	for _, place := range c.Path {
		if !filepath.IsAbs(place) || place == "/" {
			continue
		}
		place = filepath.Clean(place)
		if below(c.Home, place) {
			continue // the home folder itself, or one above it
		}

		add(place)

		above := filepath.Dir(place)
		if filepath.Base(place) != "bin" || above == c.Home || above == filepath.Join(c.Home, ".local") {
			continue
		}
		for _, name := range beside {
			add(filepath.Join(above, name))
		}
	}

	return found
}

// below reports whether a path is a folder or lies in it.
func below(path, folder string) bool {
	return folder != "" && (path == folder || strings.HasPrefix(path, strings.TrimSuffix(folder, "/")+"/"))
}

// fileNames are the files of FileTexts.
var fileNames = []string{"passwd", "group", "hosts", "nsswitch.conf", "resolv.conf"}

// FileTexts returns what the files of the cell's /etc
// hold, by name. They say nothing of this machine.
func (c Cell) FileTexts() map[string]string {
	resolver := ""
	if c.Outside {
		resolver = "nameserver " + ResolverPlace + "\noptions edns0\n"
	}
	return map[string]string{
		"passwd": "root:x:0:0:root:/:/bin/sh\nbuild:x:1000:1000:build:" + HomePlace +
			":/bin/sh\nnobody:x:65534:65534:nobody:/:/bin/sh\n",
		"group":         "root:x:0:\nbuild:x:1000:\nnogroup:x:65534:\n",
		"hosts":         "127.0.0.1 localhost build\n::1 localhost\n",
		"nsswitch.conf": "passwd: files\ngroup: files\nhosts: files dns\n",
		"resolv.conf":   resolver,
	}
}

// Inside returns where a folder of the tree, an absolute
// path, is from the tree's top.
func (c Cell) Inside(folder string) string {
	within, err := filepath.Rel(c.Tree, folder)
	if err != nil || within == ".." || strings.HasPrefix(within, "../") {
		return "."
	}
	return within
}
