package publish

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/cases"

	"orilla.example/orilla/internal/core/fault"
)

// litter says why a name is never published, or nothing.
func litter(base string) string {
	lower := strings.ToLower(base)
	switch {
	case lower == ".well-known":
		return ""
	case lower == ".git" || lower == ".hg" || lower == ".svn":
		return "version control"
	case lower == ".orilla":
		return "Orilla's own"
	case lower == ".env" || strings.HasPrefix(lower,
		".env."), lower == ".htpasswd", lower == ".netrc", lower == ".npmrc", lower == ".git-credentials":
		return "looks like a secret"
	case strings.HasPrefix(base, "."):
		return "hidden"
	case lower == "thumbs.db" || lower == "desktop.ini" || lower == "__macosx":
		return "system file"
	case strings.HasSuffix(base, "~") || strings.HasPrefix(base, "#") && strings.HasSuffix(base, "#"):
		return "editor file"
	case strings.HasSuffix(lower, ".swp") || strings.HasSuffix(lower, ".swo"):
		return "editor file"
	}

	return ""
}

// isSecret looks into the files whose names suggest keys.
func (w *walker) isSecret(source, name string) bool {
	base := strings.ToLower(path.Base(name))
	switch path.Ext(base) {
	case ".p12", ".pfx", ".kdbx", ".jks":
		return true
	case ".pem", ".key", ".ppk", ".asc", "":
	default:
		return false
	}

	file, err := w.output.FS.Open(source)
	if err != nil {
		return false
	}
	defer file.Close() //nolint:errcheck // read only
	start := make([]byte, 4096)
	n, _ := io.ReadFull(file, start)
	start = start[:n]
	return bytes.Contains(start, []byte("PRIVATE KEY-----")) ||
		bytes.Contains(start, []byte("PRIVATE KEY BLOCK-----")) ||
		bytes.HasPrefix(start, []byte("PuTTY-User-Key-File"))
}

// judge checks the output as a whole, after every file was listed.
func (w *walker) judge() error {
	if err := w.judgeNames(); err != nil {
		return err
	}
	for _, left := range w.scan.LeftOut {
		if left.Why == "looks like a secret" && !slices.Contains(w.secrets, left.Path) {
			w.secrets = append(w.secrets, left.Path)
		}
	}

	w.notice("secret-left-out", "looks like a secret, so it is not published", w.secrets,
		"remove it from the output folder")
	if len(w.scan.Files) == 0 {
		problem := fault.New(fault.Refused, "empty-output", "the output folder has nothing to publish").
			At("%s", w.output.Root)
		if n := len(w.scan.LeftOut); n > 0 {
			problem = problem.With(fmt.Sprintf("left out: %s (%s)", w.scan.LeftOut[0].Path,
				w.scan.LeftOut[0].Why))
		}
		return problem.Then("run the build and check the folder, or set build.output")
	}

	return w.judgeFolder()
}

// judgeNames refuses names that no address can have, and links that lead out of
// the output. All are told at once.
func (w *walker) judgeNames() error {
	if len(w.badName) > 0 {
		problem := fault.New(fault.Refused, "bad-name",
			"file names must be UTF-8 without control characters").At("%s", w.output.Root)
		for _, name := range firstTen(w.badName) {
			problem = problem.With(fmt.Sprintf("%q", name))
		}
		return problem.Then("rename them, or add them to leave_out")
	}

	if len(w.outside) > 0 {
		return fault.New(fault.Refused, "link-outside", "symbolic links lead out of the output").
			At("%s", w.output.Root).
			With(firstTen(w.outside)...).
			Then("copy the files there, or add the links to leave_out")
	}

	fold := folder()
	seen := make(map[string]string, len(w.scan.Files))
	var same, alike []string
	for i, file := range w.scan.Files {
		if i > 0 && w.scan.Files[i-1].Path == file.Path {
			same = append(same, file.Path)
		}
		folded := fold(file.Path)
		if other, ok := seen[folded]; ok && other != file.Path {
			alike = append(alike, other+" and "+file.Path)
		}
		seen[folded] = file.Path
	}

	if len(same) > 0 {
		return fault.New(fault.Refused, "same-name",
			"two files have the same name in different Unicode forms").At("%s", w.output.Root).
			With(firstTen(same)...).Then("remove one of each; addresses are compared in form NFC")
	}

	w.notice("case-only", "names that differ only in upper and lower case", alike,
		"some file systems cannot tell them apart")
	return nil
}

// folder returns a function that takes the difference
// between upper and lower case out of a name.
func folder() func(string) string {
	fold := cases.Fold()
	return func(name string) string {
		for i := range len(name) {
			if name[i] >= utf8.RuneSelf {
				return fold.String(name)
			}
		}
		return strings.ToLower(name)
	}
}

// judgeFolder checks that this is an output at all, and not a folder above or
// beside it.
func (w *walker) judgeFolder() error {
	index, hasIndex := "", false
	var sources, packages []string
	var dependencies []string
	for _, file := range w.scan.Files {
		base := path.Base(file.Path)
		switch {
		case file.Path == "index.html":
			hasIndex = true
		case base == "index.html" &&
			(index == "" || strings.Count(file.Path, "/") < strings.Count(index, "/")):
			index = file.Path
		case isPackageFile(base):
			packages = append(packages, file.Path)
		case isSource(base):
			sources = append(sources, file.Path)
		}

		if folder := dependencyFolder(file.Path); folder != "" && !slices.Contains(dependencies, folder) {
			dependencies = append(dependencies, folder)
		}
	}

	if slices.Contains(dependencies, "node_modules/") && slices.Contains(packages, "package.json") {
		return fault.New(fault.Refused, "not-an-output",
			"this is a project, not its output: it holds package.json and node_modules").
			At("%s", w.output.Root).Then("%s", properFolder(w, index)).
			Then("or, if the project is the site, add \"node_modules/**\" to leave_out")
	}

	if !hasIndex && !w.options.WithoutIndex {
		problem := fault.New(fault.Refused, "no-index",
			"there is no index.html at the top, so the site would have no home page").
			At("%s", w.output.Root)
		if index != "" {
			problem = problem.With("there is one in "+path.Dir(index)+"/").Then("%s", properFolder(w, index))
		}
		return problem.Then("or, if that is meant, pass --without-index")
	}

	w.notice("dependencies-in-output", "the output holds folders of dependencies", dependencies,
		"is this the right folder? If not, set build.output; else add them to leave_out")
	w.notice("packages-in-output", "the output holds package files", packages,
		"is this the right folder? If not, set build.output; else add them to leave_out")
	w.notice("sources-in-output", "the output holds sources", sources,
		"is this the right folder? If not, set build.output; else add them to leave_out")
	return nil
}

// dependencyFolder returns the outermost folder of
// dependencies that a file lies in, or "".
func dependencyFolder(name string) string {
	folders := strings.Split(name, "/")
	for i, folder := range folders[:len(folders)-1] {
		if folder == "node_modules" || folder == "bower_components" || folder == "vendor" && i == 0 {
			return strings.Join(folders[:i+1], "/") + "/"
		}
	}
	return ""
}

// properFolder proposes the folder to publish: the one in which an index.html was
// found, if there is one. Often the output is one folder further down.
func properFolder(w *walker, index string) string {
	switch {
	case index == "":
		return "set build.output to the folder that the build writes"
	case w.options.Output == "":
		return "publish the folder that has an index.html: " +
			path.Join(filepath.ToSlash(w.output.Root), path.Dir(index))
	}
	return "in orilla.yaml: build.output: " + path.Join(w.options.Output, path.Dir(index))
}

// isPackageFile reports whether a file describes a package, as only sources do.
func isPackageFile(base string) bool {
	switch base {
	case "package.json", "package-lock.json", "yarn.lock", "pnpm-lock.yaml", "go.mod", "Gemfile",
		"Gemfile.lock", "composer.json",
		"Cargo.toml", "pyproject.toml", "requirements.txt", "Makefile":
		return true
	}
	return false
}

// isSource reports whether a file is a source that no browser understands.
func isSource(base string) bool {
	switch path.Ext(base) {
	case ".tsx", ".jsx", ".vue", ".svelte", ".scss", ".sass", ".less", ".styl", ".php", ".erb", ".njk",
		".liquid", ".hbs", ".pug":
		return true
	}
	return false
}

// notice tells of paths, if there are any.
func (w *walker) notice(code, what string, paths []string, next string) {
	if len(paths) > 0 {
		w.scan.Notices = append(w.scan.Notices, fault.Notice{Code: code, What: what, Paths: firstTen(paths),
			Next: next})
	}
}

// firstTen returns at most ten of list, the last replaced by
// how many more there are.
func firstTen(list []string) []string {
	const n = 10
	if len(list) <= n {
		return list
	}
	return append(slices.Clone(list[:n]), fmt.Sprintf("and %d more", len(list)-n))
}
