package project

import (
	"cmp"
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
	command    string // that builds, for projects without a script; "" for none
	output     string
	keep       []string // caches that are worth keeping

	// Each reads the project's files; nil if there is nothing to read.
	static func(packageFile, fs.FS) string // why the output is not static, "" if it is
	where  func(packageFile, fs.FS) string // where else the output is, "" for nowhere
	assets func(fs.FS) []string            // globs of files that are named by their content
	routes func(packageFile, fs.FS) Routes // client-side routes
}

var frameworks = []framework{
	{dependency: "next", command: "next build", output: "out", keep: []string{".next/cache"},
		where: configured("next.config", "distDir"),
		static: configHas("next.config", `output\s*:\s*['"]export['"]`,
			`its output needs a server unless next.config says output: "export"`),
		assets: func(fs.FS) []string { return []string{"_next/static/{chunks,css,media}/**"} }},
	{dependency: "nuxt", script: "generate", command: "nuxt generate", output: ".output/public",
		assets: folderOf("nuxt.config", `buildAssetsDir`, "_nuxt", "*.{js,css,woff,woff2}")},
	{dependency: "@sveltejs/kit", command: "vite build", output: "build",
		where: configured("svelte.config", "pages"),
		static: needs("@sveltejs/adapter-static",
			"its output needs a server unless it is built with @sveltejs/adapter-static"),
		assets: folderOf("svelte.config", `appDir`, "_app", "immutable/**"), routes: svelteRoutes},
	{dependency: "astro", command: "astro build", output: "dist", where: configured("astro.config", "outDir"),
		static: configLacks("astro.config", `output\s*:\s*['"]server['"]`,
			`its output needs a server, since astro.config says output: "server"`),
		assets: folderOf("astro.config", `assets`, "_astro", "**")},
	{dependency: "@docusaurus/core", command: "docusaurus build", output: "build"},
	{dependency: "gatsby", command: "gatsby build", output: "public"},
	{dependency: "@11ty/eleventy", command: "eleventy", output: "_site", keep: []string{".cache"},
		where: eleventyOutput},
	{dependency: "vitepress", output: ".vitepress/dist", where: vitepressOutput},
	{dependency: "vuepress", output: "docs/.vuepress/dist"},
	{dependency: "react-scripts", command: "react-scripts build", output: "build", routes: routed},
	{dependency: "@vue/cli-service", command: "vue-cli-service build", output: "dist",
		where: configured("vue.config", "outputDir"), routes: routed},
	{dependency: "hexo", command: "hexo generate", output: "public"},
	{dependency: "@angular/core", command: "ng build", output: "dist", keep: []string{".angular/cache"},
		where: angularOutput, routes: routed},
	{dependency: "@react-router/dev", command: "react-router build", output: "build/client",
		static: configHas("react-router.config", `ssr\s*:\s*false`,
			"its output needs a server unless react-router.config says ssr: false"), routes: routed},
	{dependency: "vite", command: "vite build", output: "dist", where: viteOutput, routes: routed},
	{dependency: "parcel", command: "parcel build", output: "dist", keep: []string{".parcel-cache"},
		routes: routed},
	{dependency: "webpack", command: "webpack --mode production", output: "dist",
		where:  func(_ packageFile, files fs.FS) string { return outputOfBundler(files) },
		routes: routed},
}

// frameworkOf returns the framework among a project's dependencies; nil for none.
func frameworkOf(p packageFile) *framework {
	for i := range frameworks {
		if p.has(frameworks[i].dependency) {
			return &frameworks[i]
		}
	}
	return nil
}

// The order of frameworks is that of who builds: a site made with one of the upper ones
// has those below among its dependencies too, and not the other way round.

// describe adds to a guess what the framework says: where its output is, and what to
// know of it.
func (f *framework) describe(guess *Guess, p packageFile, files fs.FS) {
	guess.What, guess.Output = "a site made with "+f.dependency, f.output
	if f.where != nil {
		guess.Output = cmp.Or(f.where(p, files), f.output)
	}
	guess.Keep = append(guess.Keep, f.keep...)
	if f.static != nil {
		if why := f.static(p, files); why != "" {
			guess.Notes = append(guess.Notes, why)
		}
	}
	if f.assets != nil {
		guess.Fingerprinted = f.assets(files)
	}
	if f.routes != nil {
		guess.Routes = f.routes(p, files)
	}
	if base := baseOf(files); base != "" {
		guess.Notes = append(guess.Notes, "its files are looked up below "+base+
			": give production an address that ends in that path")
	}
}

// routers are packages that answer addresses in the browser.
var routers = []string{
	"react-router", "react-router-dom", "vue-router", "@angular/router", "@tanstack/react-router",
	"@solidjs/router", "svelte-routing", "svelte-spa-router", "wouter", "preact-router", "page",
	"@vaadin/router", "navigo", "@reach/router",
}

// hashRouting is in the sources of an application whose routes stand behind a #, which
// browsers never send.
var hashRouting = regexp.MustCompile(`createHashRouter|HashRouter|createWebHashHistory|createHashHistory|` +
	`withHashLocation|useHash\s*:\s*true`)

// Whether addresses are client-side routes cannot be known without running the
// application. A router among the dependencies is a good sign, and the rule that is
// written is one line that can be deleted; without it every reload of a route is 404.
// Behind a # a rule would only turn missing pages into the home page.

// routed tells whether an application of one page has client-side routes: it has a
// router, and does not keep the routes behind a #.
func routed(p packageFile, files fs.FS) Routes {
	if !slices.ContainsFunc(routers, p.has) || p.has("svelte-spa-router") {
		return Routes{}
	}
	looked, hash := 0, false
	//nolint:errcheck // what cannot be read says nothing
	fs.WalkDir(files, "src", func(name string, _ fs.DirEntry, err error) error {
		if looked++; err != nil || hash || looked > 500 {
			return fs.SkipAll
		}
		switch path.Ext(name) {
		case ".js", ".ts", ".jsx", ".tsx", ".vue", ".svelte", ".mjs":
			data, _ := fs.ReadFile(files, name)
			hash = hash || hashRouting.Match(data)
		}
		return nil
	})
	if hash {
		return Routes{}
	}
	return Routes{Path: "/"}
}

var svelteFallback = regexp.MustCompile(`\bfallback\s*:\s*['"]([\w-]+)\.html['"]`)

// svelteRoutes are those for which the configuration names a page of their own. A
// page called 404 answers by itself.
func svelteRoutes(_ packageFile, files fs.FS) Routes {
	found := svelteFallback.FindSubmatch(readConfig(files, "svelte.config"))
	if found == nil || string(found[1]) == "404" {
		return Routes{}
	}
	if string(found[1]) == "index" {
		return Routes{Path: "/"}
	}
	return Routes{Path: "/", Page: "/" + string(found[1])}
}

var viteBase = regexp.MustCompile(`(?m)^\s*base\s*:\s*['"](/[\w./-]+/?)['"]`)

// baseOf returns the path below which a bundler has a site look up its files, as its
// configuration says; "" for the root.
func baseOf(files fs.FS) string {
	for _, name := range []string{"vite.config", "astro.config"} {
		if found := viteBase.FindSubmatch(readConfig(files, name)); found != nil {
			return strings.TrimSuffix(string(found[1]), "/") + "/"
		}
	}
	return ""
}

var viteRoot = regexp.MustCompile(`(?m)\broot\s*:\s*['"](?:\./)?([\w./-]+?)/?['"]`)

// viteOutput is below the root that the configuration names.
func viteOutput(_ packageFile, files fs.FS) string {
	config := readConfig(files, "vite.config")
	root := ""
	if found := viteRoot.FindSubmatch(config); found != nil {
		root = string(found[1])
	}
	folder := "dist"
	if found := viteOutDir.FindSubmatch(config); found != nil {
		folder = string(found[1])
	}
	if folder = path.Join(root, folder); isInside(folder) {
		return folder
	}
	return ""
}

var viteOutDir = regexp.MustCompile(`\boutDir\s*:\s*['"](?:\./)?([\w./-]+?)/?['"]`)

var eleventyDir = regexp.MustCompile(`\boutput\s*:\s*['"](?:\./)?([\w./-]+?)/?['"]`)

// eleventyOutput reads any of the names that its configuration may have.
func eleventyOutput(_ packageFile, files fs.FS) string {
	for _, name := range []string{".eleventy", "eleventy.config"} {
		found := eleventyDir.FindSubmatch(readConfig(files, name))
		if found != nil && isInside(string(found[1])) {
			return string(found[1])
		}
	}
	return ""
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
