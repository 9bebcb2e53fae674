// Package fingerprint finds the files of a release whose names tell their content:
// those that build tools put a digest into. Such a file never changes at its
// address, so that browsers may keep it for ever (RFC 8246).
//
//	assets/index-4-jA9vrI.css   beside   assets/Page4-DSojwwyk.js        both
//	static/js/main.8f3a2b1c.chunk.js, but not its .map                   it
//	vendor-polyfill.js, IMG_20240612.jpg, report-2024dec31.png           none
//
// One name alone often says too little: DSojwwyk may be a digest or somebody's
// initials. So all paths of a release are looked at together. A name that can be
// nothing but a digest is a witness for its form (how long it is, which letters it
// may have), and doubtful names of that form then count as well.
//
// What is wrong in one direction costs a question to the server (the file is asked
// for again each time), in the other a year in which visitors see old content. So
// in doubt a name tells nothing.
//
// The result depends on the paths alone, and is kept in the release: what is
// recognised may become better without changing what is live.
package fingerprint

import (
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"orilla.example/orilla/internal/core/media"
)

// List returns those of the paths, in order, whose names tell their content.
// fingerprinted and plain are globs with the site's own word on it, of which
// plain has the last. What goes with a script under its name, such as a source
// map, is never one.
func List(paths, fingerprinted, plain []string) []string {
	found := recognise(paths)
	var list []string
	for i, path := range paths {
		if Matches(plain, path) || media.IsCompanion(path) {
			continue
		}
		if found[i] || Matches(fingerprinted, path) {
			list = append(list, path)
		}
	}

	slices.Sort(list)
	return list
}

// Matches reports whether any of the globs fits a path. They were checked when
// the configuration was read.
func Matches(globs []string, path string) bool {
	return slices.ContainsFunc(globs,
		func(glob string) bool { return doublestar.MatchUnvalidated(glob, path) })
}

// Possible reports whether the name of a file could tell its content in some
// release, by itself or with witnesses: what cannot needs no look at any list.
func Possible(name string) bool {
	f := look(name)
	return f.settled || f.image != "" || len(f.marks) > 0
}

// file is what one path says.
type file struct {
	class   media.Class
	folder  string
	image   string // the digest that several sizes of one picture share; "" for none
	settled bool   // the path alone tells the content
	long    bool   // by a long hexadecimal digest in the name
	marks   []mark
}

// loaded reports whether the file is a script, a style sheet or a font: build
// tools name those, and hardly anybody else puts digests into their names.
func (f *file) loaded() bool {
	return f.class == media.Script || f.class == media.Style || f.class == media.Font
}

// groups are what the paths of a release say together.
type groups struct {
	witnesses map[form]bool           // of scripts, style sheets and fonts
	random    map[form]map[string]int // how many of these, by folder, can be no words
	loaded    map[string]int          // how many of them there are, by folder
	alike     map[place]int           // how many of them have what may be a digest of a length
	mixed     map[place]bool          // one of those has digits, capitals and small letters
	pictures  map[string]int          // how many sizes of a picture share a digest
}

// place is a folder, and how long the digests in it may be.
type place struct {
	folder string
	length int
}

// recognise tells of each path whether its name tells the content.
func recognise(paths []string) []bool {
	files := make([]file, len(paths))
	g := groups{witnesses: map[form]bool{}, random: map[form]map[string]int{}, loaded: map[string]int{},
		pictures: map[string]int{}, alike: map[place]int{}, mixed: map[place]bool{}}
	for i, path := range paths {
		files[i] = look(path)
		g.count(&files[i])
	}

	// What is fetched as data is told by its name only beside scripts of the
	// same form: a bundler has named it.
	beside := map[form]map[string]bool{}
	found := make([]bool, len(paths))
	for i := range files {
		f := &files[i]
		_, ok := g.tells(f)
		found[i] = ok && !isData(f.class)
		for _, m := range f.marks {
			if !found[i] || !f.loaded() {
				break
			}
			if beside[m.form] == nil {
				beside[m.form] = map[string]bool{}
			}
			beside[m.form][f.folder] = true
		}
	}

	for i := range files {
		f := &files[i]
		if mark, ok := g.tells(f); ok && isData(f.class) {
			found[i] = beside[mark][f.folder]
		}
	}
	return found
}

// anyHex is the form of digests that are told by their length alone: where
// scripts have them, what has a shorter hexadecimal one counts as well.
var anyHex = form{hex, 0}

// isData reports whether a class is one that people link to as well, and whose
// names often hold numbers of other kinds.
func isData(class media.Class) bool { return class == media.Data || class == media.Document }

// count notes what a path says about the others.
func (g *groups) count(f *file) {
	if f.image != "" {
		g.pictures[f.folder+"/"+f.image]++
	}
	if !f.loaded() {
		return
	}

	g.loaded[f.folder]++
	if len(f.marks) > 0 {
		mark := f.marks[len(f.marks)-1] // in the largest alphabet
		at := place{f.folder, mark.form.length}
		if mark.shape >= random || mark.capitals {
			g.alike[at]++
		}
		g.mixed[at] = g.mixed[at] || mark.shape >= random && mark.kinds
	}
	if f.long {
		g.witnesses[anyHex] = true
	}
	for _, m := range f.marks {
		if m.shape == certain {
			g.witnesses[m.form] = true
		}
		if m.shape >= random {
			if g.random[m.form] == nil {
				g.random[m.form] = map[string]int{}
			}
			g.random[m.form][f.folder]++
		}
	}
}

// unanimous reports whether everything that is loaded from a folder, two files at least, has
// what may be a digest of a length.
func (g *groups) unanimous(folder string, length int) bool {
	at := place{folder, length}
	return g.loaded[folder] > 1 && g.alike[at] == g.loaded[folder] && g.mixed[at]
}

// tells reports whether a file's name tells its content, and by which form.
func (g *groups) tells(f *file) (form, bool) {
	if f.settled || f.image != "" && g.pictures[f.folder+"/"+f.image] > 1 {
		return form{}, true
	}
	for _, m := range f.marks {
		switch {
		case m.shape == certain && f.loaded():
			return m.form, true
		case m.shape >= random && g.witnesses[m.form]:
			return m.form, true
		// A small site has no witness in one release of five. But where everything that is
		// loaded has eight such characters behind a dash, nobody has written them.
		case f.loaded() && (m.shape >= random || m.capitals) && g.unanimous(f.folder, m.form.length):
			return m.form, true
		// Some tools give pictures shorter digests than scripts.
		case m.shape == certain && m.form.alphabet == hex && g.witnesses[anyHex]:
			return m.form, true
		// Where at least half of a folder's scripts, styles and fonts have
		// digests, what looks like initials or a number is one as well.
		case m.shape == doubtful && f.loaded() && g.witnesses[m.form] &&
			2*g.random[m.form][f.folder] >= g.loaded[f.folder]:
			return m.form, true
		}
	}
	return form{}, false
}

// look reads one path.
func look(name string) file {
	stem, extension := media.Split(name)
	f := file{class: media.ClassOf(name)}
	// The addresses of pages and feeds last, whatever they are called. What goes
	// with a script has its name, and other bytes when a comment changes.
	if extension == "" || f.class == media.Page || f.class == media.Feed || media.IsCompanion(name) {
		return file{}
	}

	// An old service worker that is kept for a year would answer for itself that
	// long.
	if f.class == media.Script && ofServiceWorker(stem) {
		return file{}
	}
	f.folder = path.Dir(name)

	f.long = longDigest(stem)
	f.settled = !isData(f.class) && (f.long || settledBy(f))
	if f.settled && !f.loaded() {
		return f
	}
	if f.class == media.Image {
		f.image = sharedDigest(stem)
	}
	f.marks = marks(trim(stem, f.class), f.class)
	return f
}

// settledBy reports whether a folder on the path tells the content of what lies
// in it: one that says so by its name, that is a digest, or that one build has
// made for itself.
func settledBy(f file) bool {
	for folder := range strings.SplitSeq(f.folder, "/") {
		switch {
		case folder == "immutable":
			return true
		// 40 digits may be a commit, whose builds can differ.
		case (len(folder) == 32 || len(folder) == 64) && allOf(folder, hex) &&
			strings.ContainsAny(folder, digits):
			return true
		case f.loaded() && len(folder) >= 16 && allOf(folder, base64URL) && shapeOf(folder) == random &&
			isCertain(folder, base64URL):
			return true
		}
	}
	return false
}
