package steps

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// unmet is a version that is not here.
type unmet struct{ what, next string }

// versions compares the versions of tools with those that a build needs. Where
// another one is in PATH, the folders of version managers are looked through
// for one that will do; paths are the folders to put before PATH.
func versions(ctx context.Context, needs map[string]string, ask asker) (paths []string, wrong []unmet) {
	for _, tool := range slices.Sorted(maps.Keys(needs)) {
		want := needs[tool]
		have := versionOf(ctx, tool, ask)
		if have != "" && satisfies(have, want) {
			continue
		}

		// A version manager has it on this machine, though it is not the one
		// that is chosen now.
		if folder := managed(tool, want); folder != "" {
			paths = append(paths, folder)
			continue
		}
		what := fmt.Sprintf("the build needs %s %s, but %s is installed", tool, want, have)
		if have == "" {
			what = fmt.Sprintf("the build needs %s %s, which is not installed", tool, want)
		}
		wrong = append(wrong, unmet{what, fmt.Sprintf("install %s %s, or change build.needs", tool, want)})
	}
	return paths, wrong
}

var versionIn = regexp.MustCompile(`\d+(\.\d+)+|\d+`)

// versionOf asks a tool for its version; "" if it is not there or says none.
func versionOf(ctx context.Context, tool string, ask asker) string {
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	// There are three habits of being asked.
	for _, argument := range []string{"--version", "version", "-version"} {
		name, args := shell(`exec "$0" "$1"`)
		out, err := ask(limited, slices.Concat([]string{name}, args, []string{tool, argument})...)
		if err != nil {
			continue
		}

		// The tool's own line before others: some list
		// what they are built with.
		for line := range strings.Lines(string(out)) {
			if version := versionIn.FindString(line); version != "" {
				return version
			}
		}
	}

	return ""
}

// satisfies reports whether a version is one that "20" (20.x), "20.11"
// (20.11.x) or ">=20" asks for.
func satisfies(have, want string) bool {
	least, atLeast := strings.CutPrefix(want, ">=")
	h, w := numbers(have), numbers(least)
	for len(h) < len(w) { // 20 is 20.0
		h = append(h, 0)
	}

	if atLeast {
		return slices.Compare(h, w) >= 0
	}
	return slices.Equal(h[:len(w)], w)
}

// numbers reads the parts of a version that are numbers, up to the first that
// is none.
func numbers(version string) []int {
	var out []int
	for part := range strings.SplitSeq(version, ".") {
		n, err := strconv.Atoi(part)
		if err != nil {
			break
		}
		out = append(out, n)
	}
	return out
}

// Managed returns the folders of those tools that version
// managers hold in a version that will do.
func Managed(needs map[string]string) []string {
	var folders []string
	for _, tool := range slices.Sorted(maps.Keys(needs)) {
		if folder := managed(tool, needs[tool]); folder != "" {
			folders = append(folders, folder)
		}
	}
	return folders
}

// managed returns the folder with the newest installed
// version of a tool that will do, among those that version
// managers keep below the user's home; "" if there is none.
func managed(tool, want string) string {
	home, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	or := func(variable, usual string) string {
		if value := os.Getenv(variable); value != "" {
			return value
		}
		return usual
	}

	data := or("XDG_DATA_HOME", filepath.Join(home, ".local", "share"))
	names := []string{tool}
	if tool == "node" {
		names = append(names, "nodejs")
	}

	var places []string // globs of folders that hold programs; the star is the version
	for _, name := range names {
		places = append(places, filepath.Join(or("MISE_DATA_DIR", filepath.Join(data, "mise")), "installs",
			name, "*", "bin"),
			filepath.Join(or("ASDF_DATA_DIR", filepath.Join(home, ".asdf")), "installs", name, "*", "bin"))
	}

	switch tool {
	case "node", "npm", "npx":
		places = append(places, filepath.Join(or("NVM_DIR", filepath.Join(home, ".nvm")), "versions", "node",
			"*", "bin"),
			filepath.Join(or("FNM_DIR", filepath.Join(data, "fnm")), "node-versions", "*", "installation",
				"bin"))
	case "ruby":
		places = append(places, filepath.Join(or("RBENV_ROOT", filepath.Join(home, ".rbenv")), "versions",
			"*", "bin"))
	case "python", "python3":
		places = append(places, filepath.Join(or("PYENV_ROOT", filepath.Join(home, ".pyenv")), "versions",
			"*", "bin"))
	}

	best, folder := []int(nil), ""
	for _, place := range places {
		found, _ := filepath.Glob(place)
		before, _, _ := strings.Cut(place, "*")
		for _, one := range found {
			version, _, _ := strings.Cut(strings.TrimPrefix(one, before), string(filepath.Separator))
			version = strings.TrimPrefix(version, "v")
			if _, err := os.Stat(filepath.Join(one, tool)); err != nil || !satisfies(version, want) {
				continue
			}
			if n := numbers(version); slices.Compare(n, best) > 0 {
				best, folder = n, one
			}
		}
	}

	return folder
}
