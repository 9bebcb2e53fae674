package project

import (
	"cmp"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
)

// This file finds the folder that a build leaves: as scripts and bundlers say, and as
// it lies there.

// outputNames are what the trade calls an output, the usual name first.
var outputNames = []string{
	"dist", "public", "_site", "build", "out", "output", "site", "www", "htdocs", "html", "docs", "browser",
	"client",
}

// neverOutput are folders whose pages are sources, or somebody else's.
var neverOutput = map[string]bool{
	"node_modules": true, "vendor": true, "bower_components": true, "src": true, "source": true, "app": true,
	"test": true, "tests": true, "spec": true, "coverage": true, "examples": true, "templates": true,
	"layouts": true, "themes": true, "archetypes": true, "content": true,
}

// How far an output is looked for.
const (
	deepestOutput = 4    // folders below the project
	mostEntries   = 5000 // files and folders that are looked at
)

// A wrong guess is seen and corrected; a guess of a folder of sources would publish them,
// so what is not called like an output is one only if Git ignores it.

// existingOutput returns the folder that is there with an index.html and is most
// likely the output, or preset. Git ignores most outputs, so that counts first, then
// the name, then how near it lies.
func existingOutput(files fs.FS, preset string) string {
	ignored := ignoredFolders(files)
	type candidate struct {
		folder string
		rank   int
	}
	var found []candidate
	looked := 0
	//nolint:errcheck // what cannot be read is not there
	fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
		looked++
		base := path.Base(name)
		switch {
		case err != nil || looked > mostEntries:
			return fs.SkipDir
		case entry.IsDir() && name != "." && (neverOutput[base] || strings.HasPrefix(base, ".") ||
			strings.Count(name, "/") >= deepestOutput):
			return fs.SkipDir
		case entry.IsDir() || base != "index.html" || name == base:
			return nil
		}

		folder := path.Dir(name)
		rank := len(outputNames)
		if at := slices.Index(outputNames, path.Base(folder)); at >= 0 {
			rank = at
		}
		if !isIgnored(folder, ignored) {
			rank += 100
		}
		found = append(found, candidate{folder, rank + 20*strings.Count(folder, "/")})
		return fs.SkipDir // what lies below are its pages
	})
	if len(found) == 0 {
		return preset
	}
	best := slices.MinFunc(found, func(a, b candidate) int { return cmp.Compare(a.rank, b.rank) })
	// A page in some folder of any name is no sign of an output.
	if best.rank%20 == len(outputNames) && best.rank >= 100 {
		return preset
	}
	return best.folder
}

// ignoredFolders returns the folders that .gitignore names by their path.
func ignoredFolders(files fs.FS) []string {
	data, _ := fs.ReadFile(files, ".gitignore")
	var folders []string
	for line := range strings.Lines(string(data)) {
		if line = strings.Trim(strings.TrimSpace(line), "/"); plainFolder.MatchString(line) {
			folders = append(folders, line)
		}
	}
	return folders
}

var plainFolder = regexp.MustCompile(`^[\w][\w./-]*$`)

// Of .gitignore only plain paths are understood, which is what outputs are listed as.

// isIgnored reports whether a folder, or one that it lies in, is among those that Git
// ignores. A name without a slash counts at any depth.
func isIgnored(folder string, ignored []string) bool {
	for _, one := range ignored {
		if folder == one || strings.HasPrefix(folder, one+"/") ||
			!strings.Contains(one, "/") && slices.Contains(strings.Split(folder, "/"), one) {
			return true
		}
	}
	return false
}

// outputOption finds the folder that a command is given for its output. -d is that
// of hugo, parcel and rollup only.
var outputOption = regexp.MustCompile(
	`(?:--(?:outDir|out-dir|outdir|dist-dir|output-path|output|destination|dest)` +
		`|\b(?:hugo|parcel build|rollup|jekyll build)\b[^&|;]* -d)` +
		`[= ]['"]?(?:\./)?([\w./-]+?)/?['"]?(?:\s|$)`)

// outputOfScript returns the folder that a script names for its output, "" for none.
func outputOfScript(script string) string {
	// tsc compiles before the bundler runs, and has an option of the same name.
	for part := range strings.SplitSeq(script, "&&") {
		part = strings.TrimSpace(part)
		found := outputOption.FindStringSubmatch(part)
		if found != nil && isInside(found[1]) && !strings.HasPrefix(part, "tsc") {
			return found[1]
		}
	}
	return ""
}

// bundlerOutput finds the folder in the configuration of webpack or rollup.
var bundlerOutput = regexp.MustCompile(
	`\bpath\s*:\s*(?:path\.)?(?:resolve|join)\(\s*__dirname\s*,\s*['"](?:\./)?([\w./-]+?)/?['"]` +
		`|\b(?:dir|outdir)\s*:\s*['"](?:\./)?([\w./-]+?)/?['"]`)

// outputOfBundler returns the folder that a bundler's configuration names, "" for
// none.
func outputOfBundler(files fs.FS) string {
	for _, name := range []string{"webpack.config", "webpack.prod", "webpack.config.prod", "rollup.config",
		"esbuild.config", "esbuild", "build"} {
		if found := bundlerOutput.FindSubmatch(readConfig(files, name)); found != nil {
			if folder := string(found[1]) + string(found[2]); isInside(folder) {
				return folder
			}
		}
	}
	return ""
}
