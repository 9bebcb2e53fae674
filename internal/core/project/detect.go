package project

import (
	"cmp"
	"encoding/json"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Guess is what a project's own files say about how it is built.
type Guess struct {
	What    string   // what it was recognised as, for people
	Because string   // the file that told
	Prepare []string // proposals for the keys of build
	Run     []string
	Output  string
	Keep    []string
	// Fingerprinted are globs of what the generator names by its content.
	Fingerprinted []string
	Rules         []string // rules files that are there
	Notes         []string // what a person should know: no lock file, an output that needs a server
	Store         string   // that was said; "" for the usual one
}

// Detect looks at a project's files. A Guess without
// Output means that nothing was recognised.
func Detect(files fs.FS) Guess {
	// The most telling first: a project with a package file may have a Makefile
	// too, and seldom the other way round.
	for _, look := range []func(fs.FS) (Guess, bool){detectPackage, detectGenerator, detectMakefile,
		detectScript, detectPlain} {
		if guess, ok := look(files); ok {
			guess.Rules = rulesFiles(files)
			return guess
		}
	}
	return Guess{Rules: rulesFiles(files)}
}

// rulesFiles lists the rules files at the top of a project.
func rulesFiles(files fs.FS) []string {
	names, _ := fs.Glob(files, "*.rules")
	return names
}

// packageFile is what of a package.json matters.
type packageFile struct {
	Name            string            `json:"name"`
	Scripts         map[string]string `json:"scripts"`
	Dependencies    map[string]string `json:"dependencies"`
	DevDependencies map[string]string `json:"devDependencies"`
}

// has reports whether a package is among the dependencies, for the build or for
// what is shipped.
func (p packageFile) has(name string) bool {
	_, direct := p.Dependencies[name]
	_, dev := p.DevDependencies[name]
	return direct || dev
}

// detectPackage guesses from package.json: from the framework among the
// dependencies, else from the script that is called like a build.
func detectPackage(files fs.FS) (Guess, bool) {
	data, err := fs.ReadFile(files, "package.json")
	var p packageFile
	if err != nil || json.Unmarshal(data, &p) != nil {
		return Guess{}, false
	}

	guess := Guess{What: "a package with build scripts", Because: "package.json",
		Keep: []string{"node_modules"}}
	// What the trade calls the script that makes the site, the usual name
	// first.
	scripts := []string{"build", "build:static", "generate", "export", "dist", "docs:build"}
	for _, f := range frameworks {
		if !p.has(f.dependency) {
			continue
		}
		guess.What, guess.Output = "a site made with "+f.dependency, f.output
		if f.where != nil {
			guess.Output = cmp.Or(f.where(p, files), f.output)
		}
		if f.script != "" {
			scripts = append([]string{f.script}, scripts...)
		}

		if f.static != nil {
			if why := f.static(p, files); why != "" {
				guess.Notes = append(guess.Notes, why)
			}
		}
		if f.assets != nil {
			guess.Fingerprinted = f.assets(files)
		}
		break
	}

	script := ""
	for _, name := range scripts {
		if _, ok := p.Scripts[name]; ok {
			script = name
			break
		}
	}

	if script == "" {
		return Guess{}, false
	}
	// The command that keeps to the lock file: a build of a commit must get the
	// same dependencies tomorrow.
	manager, install, note := packageManager(files)
	if note != "" {
		guess.Notes = append(guess.Notes, note)
	}

	if len(p.Dependencies)+len(p.DevDependencies) > 0 {
		guess.Prepare = []string{install}
	} else {
		guess.Keep = nil
	}

	guess.Run = []string{manager + " run " + script}
	// Nobody said where the output goes; a folder that is there is the best
	// guess.
	if guess.Output == "" {
		guess.Output = existingOutput(files, "dist")
	}
	return guess, true
}

// packageManager tells from the lock file which one a project uses, and how it
// installs exactly what the lock file says.
func packageManager(files fs.FS) (manager, install, note string) {
	for _, known := range []struct{ lock, manager, install string }{
		{"package-lock.json", "npm", "npm ci"}, {"npm-shrinkwrap.json", "npm", "npm ci"},
		{"pnpm-lock.yaml", "pnpm", "pnpm install --frozen-lockfile"},
		{"yarn.lock", "yarn", "yarn install --frozen-lockfile"},
		{"bun.lock", "bun", "bun install --frozen-lockfile"},
		{"bun.lockb", "bun", "bun install --frozen-lockfile"},
	} {
		if exists(files, known.lock) {
			return known.manager, known.install, ""
		}
	}
	return "npm", "npm install", "no lock file: the same commit may get other dependencies another " +
		"day; commit package-lock.json"
}

// detectGenerator knows the generators that have a
// configuration file of their own.
func detectGenerator(files fs.FS) (Guess, bool) {
	for _, known := range []struct {
		file    string
		also    string // must be there too; "" for nothing
		what    string
		prepare []string
		run     string
		output  string
	}{
		{"hugo.toml", "", "a Hugo site", nil, "hugo", "public"},
		{"hugo.yaml", "", "a Hugo site", nil, "hugo", "public"},
		{"config.toml", "archetypes", "a Hugo site", nil, "hugo", "public"},
		{"config.toml", "templates", "a Zola site", nil, "zola build", "public"},
		{"_config.yml", "Gemfile", "a Jekyll site", []string{"bundle install"}, "bundle exec jekyll build",
			"_site"},
		{"_config.yml", "", "a Jekyll site", nil, "jekyll build", "_site"},
		{"mkdocs.yml", "", "an MkDocs site", nil, "mkdocs build", "site"},
		{"book.toml", "", "an mdBook", nil, "mdbook build", "book"},
		{"conf.py", "", "a Sphinx site", nil, "sphinx-build -b html . _build/html", "_build/html"},
		{"docs/conf.py", "", "a Sphinx site", nil, "sphinx-build -b html docs docs/_build/html",
			"docs/_build/html"},
		{"pelicanconf.py", "", "a Pelican site", nil, "pelican content", "output"},
	} {
		if exists(files, known.file) && (known.also == "" || exists(files, known.also)) {
			return Guess{What: known.what, Because: known.file, Prepare: known.prepare,
				Run: []string{known.run}, Output: known.output}, true
		}
	}
	return Guess{}, false
}

var makeTarget = regexp.MustCompile(`(?m)^(site|build|html|dist|all)\s*:([^=]|$)`)

// detectMakefile guesses from the targets of a Makefile.
func detectMakefile(files fs.FS) (Guess, bool) {
	for _, name := range []string{"Makefile", "makefile", "GNUmakefile"} {
		data, err := fs.ReadFile(files, name)
		if err != nil {
			continue
		}
		var targets []string
		for _, match := range makeTarget.FindAllStringSubmatch(string(data), -1) {
			targets = append(targets, match[1])
		}

		for _, target := range []string{"site", "html", "build", "dist", "all"} {
			if slices.Contains(targets, target) {
				return Guess{What: "a project built with make", Because: name,
					Run: []string{"make " + target}, Output: existingOutput(files, "")}, true
			}
		}
	}
	return Guess{}, false
}

// detectScript guesses from a script that is called like a build.
func detectScript(files fs.FS) (Guess, bool) {
	for _, name := range []string{"build.sh", "build/build.sh", "scripts/build.sh"} {
		if exists(files, name) {
			return Guess{What: "a project with a build script", Because: name, Run: []string{"sh " + name},
				Output: existingOutput(files, "")}, true
		}
	}
	return Guess{}, false
}

// detectPlain knows folders that are sites as they are.
func detectPlain(files fs.FS) (Guess, bool) {
	if exists(files, "index.html") {
		return Guess{What: "a plain folder of files", Because: "index.html", Output: "."}, true
	}
	if folder := existingOutput(files, ""); folder != "" {
		return Guess{What: "a folder of finished files", Because: path.Join(folder, "index.html"),
			Output: folder}, true
	}
	return Guess{}, false
}

// existingOutput returns the first of the usual output folders that is there
// with an index.html, or preset.
func existingOutput(files fs.FS, preset string) string {
	for _, folder := range []string{"dist", "public", "_site", "build", "out", "output", "site", "www",
		"docs"} {
		if exists(files, folder+"/index.html") {
			return folder
		}
	}
	return preset
}

// exists reports whether there is a file or folder of that name.
func exists(files fs.FS, name string) bool {
	_, err := fs.Stat(files, name)
	return err == nil
}

// Draft writes a commented configuration for a guess.
func Draft(site string, guess Guess, mainBranch string) string {
	var out strings.Builder
	line := func(text string) { out.WriteString(text + "\n") }
	line("# Orilla: how this site is built and published. \"orilla help configuration\" describes " +
		"every key.")
	line("site: " + site)
	line("build:")
	if len(guess.Prepare) > 0 {
		line("  prepare: " + list(guess.Prepare) + "   # dependencies")
	}

	if len(guess.Run) > 0 {
		line("  run: " + list(guess.Run) + "   # in order, in a clean checkout of the commit")
	}
	line("  output: " + quote(guess.Output) + "   # the folder that the build writes")
	if len(guess.Keep) > 0 {
		line("  keep: " + list(guess.Keep) +
			"   # kept from build to build while the lock file is the same")
	}

	if len(guess.Rules) > 0 {
		line("rules: " + list(guess.Rules) + "   # redirects, fallbacks, headers: orilla help rules")
	} else {
		line("# rules: site.rules   # redirects, fallbacks, headers: orilla help rules")
	}

	if len(guess.Fingerprinted) > 0 {
		line("assets:")
		line("  fingerprinted: " + list(guess.Fingerprinted) +
			"   # named by their content: browsers keep them for a year")
	}

	if guess.Store != "" {
		line("store: " + quote(guess.Store) + "   # docs/stores.md")
	}
	line("environments:")
	line("  production:")
	if mainBranch != "" {
		line("    follows: " + quote(mainBranch) + "   # commits of this branch go live")
	}

	line("    # addresses: [https://www.corvane.example/]   # the first is " +
		"canonical; its path is the base path")
	line("    # wait_for: [/, ./audit.sh]   # pages and commands to check after each deploy; if " +
		"one fails, Orilla rolls back")
	line("# previews:   # of all other branches; docs/environments.md")
	line("#   follows: [\"*\", \"!bot/*\"]")
	line("#   expire_after: 30d   # after a branch's last build")
	return out.String()
}

// list writes texts as a list in YAML, on one line.
func list(items []string) string {
	quoted := make([]string, len(items))
	for i, item := range items {
		quoted[i] = quote(item)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

var plainWord = regexp.MustCompile(`^[A-Za-z_./][A-Za-z0-9_./ -]*$`)

// quote writes a text as a YAML scalar.
func quote(text string) string {
	if plainWord.MatchString(text) &&
		!slices.Contains([]string{"true", "false", "null", "yes", "no", "on", "off"},
			strings.ToLower(text)) && strings.TrimSpace(text) == text {
		return text
	}

	// Quoted whatever could be read as something else, such as no, 1.20 or a
	// colon.
	data, err := json.Marshal(text) // a JSON string is a YAML scalar
	if err != nil {
		return `""`
	}
	return string(data)
}
