// Package publish takes a folder of files to a release in a store: scan,
// fingerprint, upload.
//
//	scan, err := publish.Find(output, options, now)          // names, sizes, mistakes
//	files, progress, err := upload.Run(ctx, output, scan)    // puts what the store has not
//
// Most deploys change a few files of many, and each stage is built for that. Find
// walks the tree once, and Run takes the digest of a file that has
// not been touched from a Memory (by size, times and inode, as Git's index does),
// and asks the store about nothing that lies in a chunk of the index which came
// out as in the live release. So the cost of a deploy is a walk, plus the reading
// of what changed.
//
// What a file is while it is read may differ from what it was when it was scanned:
// a build that goes on in the background would be published by halves. Run notices
// a size or a time that moved, and refuses the output.
package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"
	"golang.org/x/text/unicode/norm"

	"orilla.example/orilla/internal/core/fault"
)

// Output is a folder of files, as a build leaves it.
type Output struct {
	FS   fs.FS  // should implement fs.ReadLinkFS, else symbolic links are unknown to it
	Root string // where it lies, for messages and for links with an absolute target
	// where those who made it saw it, if elsewhere: links
	// with an absolute target may lead there too
	Seen string
	// Identify tells a file from any other and from itself at another time;
	// nil, or false, where that is not possible.
	Identify func(fs.FileInfo) (Identity, bool)
}

// Identity changes whenever the content of a file may have changed.
type Identity struct {
	Device, Inode, Size, Modified, Changed int64 // times in nanoseconds
}

// Found is a file that will be published.
type Found struct {
	Path     string // in the release: slash-separated, NFC
	Source   string // in the output's file system, links resolved
	Size     int64
	Identity Identity
	Known    bool // Identity is set
}

// LeftOut is a file or folder that will not be published.
type LeftOut struct {
	Path string `json:"path"` // a folder ends in a slash
	Why  string `json:"why"`
}

// Options say what a scan leaves out, and when it refuses.
type Options struct {
	LeaveOut     []string // globs with ** for any number of folders
	Rules        []string // rules files, left out by their paths
	MaxFiles     int64    // 0: any number
	MaxBytes     int64    // 0: any size
	MaxFile      int64    // of one file; 0: any size
	WithoutIndex bool     // an output without index.html is fine
	// Output is the folder as build.output names it, for proposals; "" of ready output,
	// which is named by its path.
	Output string
}

// Scan is what a folder holds that would be published, what was left out of it,
// and what deserves a word.
type Scan struct {
	Files   []Found // in order of path
	Bytes   int64
	LeftOut []LeftOut
	Notices []fault.Notice
	Started time.Time // before the first file was looked at
}

// Find walks the output. Its errors are fault.Errors that say what is wrong
// with which path; all names that no release can have are listed at once.
//
// It reads no content but for the first bytes of what looks like a key or a
// password file. Links are followed as far as they stay in the output.
func Find(output Output, options Options, now time.Time) (*Scan, error) {
	walk := &walker{output: output, options: options, scan: &Scan{Started: now}}
	if err := walk.folder(".", "", nil); err != nil {
		return nil, err
	}
	// Names first and sizes afterwards, many at a time: on a network file
	// system each stat is a round trip.
	if err := walk.measure(); err != nil {
		return nil, err
	}

	sort.Slice(walk.scan.Files,
		func(i, j int) bool { return walk.scan.Files[i].Path < walk.scan.Files[j].Path })
	if err := walk.judge(); err != nil {
		return nil, err
	}
	return walk.scan, nil
}

// walker is a scan that goes on.
type walker struct {
	output  Output
	options Options
	scan    *Scan
	badName []string // paths that no release can have
	outside []string // links that lead out of the output
	secrets []string
}

// folder walks the folder at source, which appears in the release under name.
// above are the folders being walked, to end loops of links.
func (w *walker) folder(source, name string, above []string) error {
	// A link to a folder above would be walked for ever.
	for _, folder := range above {
		if folder == source {
			w.leaveOut(name+"/", "a link to a folder that it is in")
			return nil
		}
	}

	entries, err := fs.ReadDir(w.output.FS, source)
	if err != nil {
		return fault.New(fault.Failed, "unreadable", "cannot read the folder").At("%s", w.place(source)).
			Because(err)
	}

	above = append(above, source)
	for _, entry := range entries {
		if err := w.entry(path.Join(source, entry.Name()), path.Join(name, entry.Name()), entry,
			above); err != nil {
			return err
		}
	}
	return nil
}

// entry looks at one file or folder. above are the folders, with links
// resolved, that lead to it: a link to one of them would never end.
func (w *walker) entry(source, name string, entry fs.DirEntry, above []string) error {
	isFolder := entry.IsDir()
	if why := w.whyNot(name, entry.Name(), isFolder); why != "" {
		w.leaveOut(withSlash(name, isFolder), why)
		return nil
	}

	if !utf8.ValidString(name) || strings.ContainsFunc(name, isControl) {
		w.badName = append(w.badName, name)
		return nil
	}
	// A link is published as what it leads to, as long as that lies in the
	// output: a link to /etc would publish it.
	if entry.Type()&fs.ModeSymlink != 0 {
		target, inside := w.resolve(source, 0)
		if !inside {
			w.outside = append(w.outside, name)
			return nil
		}
		source = target
	} else if isFolder {
		return w.folder(source, name, above)
	}

	if !entry.Type().IsRegular() {
		return w.other(source, name, above)
	}
	return w.take(source, name)
}

// take adds a file to what was found, unless it holds a key.
func (w *walker) take(source, name string) error {
	if w.isSecret(source, name) {
		w.secrets = append(w.secrets, name)
		w.leaveOut(name, "looks like a secret")
		return nil
	}
	// macOS gives names in parts (NFD); an address has one spelling.
	w.scan.Files = append(w.scan.Files, Found{Path: norm.NFC.String(name), Source: source})
	return w.tooMany()
}

// other takes what is not plainly a file: the target of a
// link, or nothing that can be published.
func (w *walker) other(source, name string, above []string) error {
	info, err := fs.Stat(w.output.FS, source)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		w.leaveOut(name, "a broken link")
	case err != nil:
		return w.unreadable(source, err)
	case info.IsDir():
		return w.folder(source, name, above)
	case !info.Mode().IsRegular():
		w.leaveOut(name, "neither a file nor a folder")
	default:
		return w.take(source, name)
	}

	return nil
}

// unreadable is the error of a file that the system does not let us read.
func (w *walker) unreadable(source string, err error) error {
	return fault.New(fault.Failed, "unreadable", "cannot read the file").At("%s", w.place(source)).
		Because(err)
}

// measure reads the size and identity of every file, several at a time.
func (w *walker) measure() error {
	// In runs, so that goroutines do not cost more than what they do.
	const run = 256
	var group errgroup.Group
	group.SetLimit(workers())
	for start := 0; start < len(w.scan.Files); start += run {
		some := w.scan.Files[start:min(start+run, len(w.scan.Files))]
		group.Go(func() error {
			for i := range some {
				info, err := fs.Stat(w.output.FS, some[i].Source)
				if err != nil {
					return w.unreadable(some[i].Source, err)
				}
				some[i].Size = info.Size()
				if w.output.Identify != nil {
					some[i].Identity, some[i].Known = w.output.Identify(info)
				}
			}
			return nil
		})
	}

	if err := group.Wait(); err != nil {
		return err
	}
	for _, file := range w.scan.Files {
		w.scan.Bytes += file.Size
	}
	return w.limits()
}

// tooMany refuses, as soon as that is known, an output with more files than
// there may be. It is asked for each file.
func (w *walker) tooMany() error {
	if limit := w.options.MaxFiles; limit > 0 && int64(len(w.scan.Files)) > limit {
		return fault.New(fault.Refused, "too-many-files", "the output has more than %d files", limit).
			At("%s", w.output.Root).
			Then("is this the right folder? If so, raise limits.files in orilla.yaml")
	}
	return nil
}

// limits refuses what is over a limit, and tells what is
// near one, once all files are known.
func (w *walker) limits() error {
	files, bytes := int64(len(w.scan.Files)), w.scan.Bytes
	if limit := w.options.MaxBytes; limit > 0 && bytes > limit {
		return fault.New(fault.Refused, "too-large", "the output is larger than %s", megabytes(limit)).
			At("%s", w.output.Root).
			Then("is this the right folder? If so, raise limits.size in orilla.yaml")
	}

	var large, near []string
	for _, file := range w.scan.Files {
		switch limit := w.options.MaxFile; {
		case limit > 0 && file.Size > limit:
			large = append(large, file.Path+"  "+megabytes(file.Size))
		case NearLimit(file.Size, limit):
			near = append(near, file.Path)
		}
	}

	if len(large) > 0 {
		return fault.New(fault.Refused, "file-too-large", "%d of the files are larger than %s", len(large),
			megabytes(w.options.MaxFile)).At("%s", w.output.Root).
			With(large[:min(10, len(large))]...).
			Then("make them smaller, leave them out, or raise limits.file_size in orilla.yaml")
	}

	w.near(NearLimit(files, w.options.MaxFiles), "files", fmt.Sprintf("%d of %d files", files,
		w.options.MaxFiles), nil)
	w.near(NearLimit(bytes, w.options.MaxBytes), "size", megabytes(bytes)+" of "+
		megabytes(w.options.MaxBytes), nil)
	w.near(len(near) > 0, "file_size", "files near "+megabytes(w.options.MaxFile), near)
	return nil
}

// near tells of a limit that is nearly reached.
func (w *walker) near(is bool, limit, what string, paths []string) {
	if is {
		w.scan.Notices = append(w.scan.Notices,
			fault.Notice{Code: "near-limit", What: "over 80 % of limits." + limit + ": " + what,
				Paths: paths[:min(5, len(paths))], Next: "at 100 % Orilla refuses it"})
	}
}

// NearLimit reports whether an amount is 80 % of a limit
// or more; a limit of 0 is none.
func NearLimit(amount, limit int64) bool { return limit > 0 && amount >= limit-limit/5 }

// megabytes writes a number of bytes in decimal units.
func megabytes(bytes int64) string { return humanize.Bytes(uint64(max(bytes, 0))) }

// resolve follows a link to what it finally names. inside
// is false if that is not in the output.
func (w *walker) resolve(source string, depth int) (target string, inside bool) {
	links, ok := w.output.FS.(fs.ReadLinkFS)
	if !ok || depth > 40 {
		return "", false
	}
	target, err := links.ReadLink(source)
	if err != nil {
		return "", false
	}

	target = filepath.ToSlash(target)
	if path.IsAbs(target) || filepath.IsAbs(target) {
		if target, inside = w.below(path.Clean(target)); !inside {
			return "", false
		}
	} else {
		target = path.Join(path.Dir(source), target)
	}

	if !fs.ValidPath(target) {
		return "", false
	}
	// A link may lead to a link; forty of them are a circle (POSIX,
	// SYMLOOP_MAX).
	info, err := links.Lstat(target)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return w.resolve(target, depth+1)
	}
	return target, true
}

// below returns where an absolute path is in the output.
func (w *walker) below(target string) (within string, inside bool) {
	for _, root := range []string{w.output.Root, w.output.Seen} {
		root = strings.TrimSuffix(filepath.ToSlash(root), "/")
		if within, inside = strings.CutPrefix(target, root+"/"); inside && root != "" {
			return within, true
		}
	}
	return "", false
}

// leaveOut notes what is not published, and why.
func (w *walker) leaveOut(name, why string) {
	w.scan.LeftOut = append(w.scan.LeftOut, LeftOut{Path: name, Why: why})
}

// place is where something lies, as the user would write it.
func (w *walker) place(source string) string {
	return path.Join(filepath.ToSlash(w.output.Root), source)
}

// whyNot says why a name is left out, or nothing.
func (w *walker) whyNot(name, base string, isFolder bool) string {
	for _, glob := range w.options.LeaveOut {
		if doublestar.MatchUnvalidated(glob, name) ||
			isFolder && doublestar.MatchUnvalidated(strings.TrimSuffix(glob, "/"), name) {
			return "leave_out: " + glob
		}
	}

	if name == "orilla.yaml" || name == "orilla.yml" {
		return "Orilla's own"
	}
	for _, rules := range w.options.Rules {
		if name == path.Clean(rules) {
			return "a rules file"
		}
	}

	return litter(base)
}

// withSlash ends the name of a folder in a slash, as people write it.
func withSlash(name string, isFolder bool) string {
	if isFolder {
		return name + "/"
	}
	return name
}

// isControl reports whether a character cannot stand in a path: a control
// character, or none at all.
func isControl(c rune) bool { return c < ' ' || c == 0x7f || c == utf8.RuneError }
