package project

import (
	"encoding/json"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
)

// framework says where a tool of the package world leaves its output, and how
// its own files tell that the output is static.
type framework struct {
	dependency string
	script     string // if it is not the usual one
	output     string
	static     func(packageFile, fs.FS) string // says why the output is not static; nil if it always is
	where      func(packageFile, fs.FS) string // says where else the output is, "" for nowhere; may be nil
	assets     func(fs.FS) []string            // globs of files that are named by their content; nil for none
}

var frameworks = []framework{
	{dependency: "next", output: "out", static: configHas("next.config", `output\s*:\s*['"]export['"]`,
		`its output needs a server unless next.config says output: "export"`),
		assets: func(fs.FS) []string { return []string{"_next/static/{chunks,css,media}/**"} }},
	{dependency: "nuxt", script: "generate", output: ".output/public",
		assets: folderOf("nuxt.config", `buildAssetsDir`, "_nuxt", "*.{js,css,woff,woff2}")},
	{dependency: "@sveltejs/kit", output: "build", static: needs("@sveltejs/adapter-static",
		"its output needs a server unless it is built with @sveltejs/adapter-static"),
		assets: folderOf("svelte.config", `appDir`, "_app", "immutable/**")},
	{dependency: "astro", output: "dist", static: configLacks("astro.config", `output\s*:\s*['"]server['"]`,
		`its output needs a server, since astro.config says output: "server"`),
		assets: folderOf("astro.config", `assets`, "_astro", "**")},
	{dependency: "@docusaurus/core", output: "build"},
	{dependency: "gatsby", output: "public"},
	{dependency: "@11ty/eleventy", output: "_site"},
	{dependency: "vitepress", output: ".vitepress/dist", where: vitepressOutput},
	{dependency: "react-scripts", output: "build"},
	{dependency: "hexo", output: "public"},
	{dependency: "@angular/core", output: "dist", where: angularOutput},
	{dependency: "@react-router/dev", output: "build/client", static: configHas("react-router.config",
		`ssr\s*:\s*false`, "its output needs a server unless react-router.config says ssr: false")},
	{dependency: "vite", output: "dist", where: configured("vite.config", `outDir`)},
	{dependency: "parcel", output: "dist"},
}

// folderOf makes what names the folder of a generator in which all files are
// named by their content: the one that its configuration gives under a key, else
// the usual one.
func folderOf(config, key, usual, below string) func(fs.FS) []string {
	pattern := regexp.MustCompile(`\b` + key + `\s*:\s*['"]/?([\w./-]+?)/?['"]`)
	return func(files fs.FS) []string {
		folder := usual
		if found := pattern.FindSubmatch(readConfig(files, config)); found != nil {
			folder = string(found[1])
		}
		return []string{folder + "/" + below}
	}
}

// configured makes what reads a folder from a configuration file, where it
// stands under a key. It returns "" for none, and for one outside the project.
func configured(config, key string) func(packageFile, fs.FS) string {
	pattern := regexp.MustCompile(`\b` + key + `\s*:\s*['"](?:\./)?([\w./-]+?)/?['"]`)
	return func(_ packageFile, files fs.FS) string {
		found := pattern.FindSubmatch(readConfig(files, config))
		if found != nil && isInside(string(found[1])) {
			return string(found[1])
		}
		return ""
	}
}

// isInside reports whether a path leads to a folder below the project.
func isInside(folder string) bool { return fs.ValidPath(folder) && folder != "." }

var vitepressBuild = regexp.MustCompile(`vitepress build ([\w./-]+)`)

// vitepressOutput is below the folder that the script builds.
func vitepressOutput(p packageFile, _ fs.FS) string {
	for _, script := range p.Scripts {
		found := vitepressBuild.FindStringSubmatch(script)
		if found != nil && fs.ValidPath(path.Clean(found[1])) {
			return path.Join(found[1], ".vitepress/dist")
		}
	}
	return ""
}

// angularOutput is where angular.json has the first application's output, whose
// pages lie in a folder called browser of their own.
func angularOutput(_ packageFile, files fs.FS) string {
	data, err := fs.ReadFile(files, "angular.json")
	var workspace struct {
		DefaultProject string `json:"defaultProject"`
		Projects       map[string]struct {
			Type      string `json:"projectType"`
			Architect struct {
				Build struct {
					Builder string `json:"builder"`
					Options struct {
						OutputPath json.RawMessage `json:"outputPath"`
					} `json:"options"`
				} `json:"build"`
			} `json:"architect"`
		} `json:"projects"`
	}
	if err != nil || json.Unmarshal(data, &workspace) != nil {
		return ""
	}

	names := slices.Sorted(maps.Keys(workspace.Projects))
	names = slices.DeleteFunc(names,
		func(name string) bool { return workspace.Projects[name].Type == "library" })
	if len(names) == 0 {
		return ""
	}
	name := names[0]
	if slices.Contains(names, workspace.DefaultProject) {
		name = workspace.DefaultProject
	}

	build := workspace.Projects[name].Architect.Build
	output := struct {
		Base    string  `json:"base"`
		Browser *string `json:"browser"`
	}{Base: "dist/" + name}
	if json.Unmarshal(build.Options.OutputPath, &output.Base) != nil {
		json.Unmarshal(build.Options.OutputPath, &output) //nolint:errcheck // then it is the usual one
	}
	browser := ""
	if strings.HasSuffix(build.Builder, ":application") {
		browser = "browser"
	}
	if output.Browser != nil {
		browser = *output.Browser
	}
	if folder := path.Join(output.Base, browser); isInside(folder) {
		return folder
	}
	return ""
}

// needs makes the test of a generator that publishes static files only with a
// further package. The test returns why the output is not static, or "".
func needs(dependency, why string) func(packageFile, fs.FS) string {
	return func(p packageFile, _ fs.FS) string {
		if p.has(dependency) {
			return ""
		}
		return why
	}
}

// configMatches reports whether a configuration file, under any of the
// extensions that scripts have, says something. It is read, not run: what it
// computes is not known.
func configMatches(files fs.FS, name, pattern string) bool {
	return regexp.MustCompile(pattern).Match(readConfig(files, name))
}

// readConfig returns a configuration file, whichever of the extensions that
// scripts have it has; nil for none.
func readConfig(files fs.FS, name string) []byte {
	for _, extension := range []string{".js", ".mjs", ".cjs", ".ts", ".mts"} {
		if data, err := fs.ReadFile(files, name+extension); err == nil {
			return data
		}
	}
	return nil
}

// configHas makes the test of a generator that publishes static files only if
// its configuration says so.
func configHas(name, pattern, why string) func(packageFile, fs.FS) string {
	return func(_ packageFile, files fs.FS) string {
		if configMatches(files, name, pattern) {
			return ""
		}
		return why
	}
}

// configLacks makes the test of a generator that publishes static files unless
// its configuration says otherwise.
func configLacks(name, pattern, why string) func(packageFile, fs.FS) string {
	return func(_ packageFile, files fs.FS) string {
		if configMatches(files, name, pattern) {
			return why
		}
		return ""
	}
}
