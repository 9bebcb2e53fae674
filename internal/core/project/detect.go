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
	Folder  string   // that the site lies in, if not at the top
	Prepare []string // proposals for the keys of build
	Run     []string
	Output  string
	Keep    []string
	// Fingerprinted are globs of what the generator names by its content.
	Fingerprinted []string
	Rules         []string // rules files that are there
	Routes        Routes
	Notes         []string // what a person should know: no lock file, an output that needs a server
	Store         string   // that was said; "" for the usual one
}

// Routes are client-side routes: addresses that an application answers in the
// browser, and no file has.
type Routes struct {
	Path string // below which they lie, "" for none
	Page string // that answers them, "" for the index.html there
}

// Detect looks at a project's files. A Guess without
// Output means that nothing was recognised.
//
// It reads names and texts, and runs nothing: configuration that is a program says
// what its text says, and what it computes is not known. A proposal that is wrong is
// seen when it is shown, and costs a word; so of two guesses the usual one is made.
func Detect(files fs.FS) Guess {
	guess := detectHere(files)
	if guess.Output == "" || guess.unsure() {
		if below, ok := detectBelow(files); ok {
			return below
		}
	}
	return guess
}

// unsure reports whether a guess was made of files that projects have for many
// purposes: a Makefile builds anything.
func (g Guess) unsure() bool { return g.What == whatMake || g.What == whatScript }

// What is recognised by something that is no sign of a site.
const (
	whatMake   = "a project built with make"
	whatScript = "a project with a build script"
)

// detectHere looks at the files at the top of a project.
func detectHere(files fs.FS) Guess {
	// The most telling first: a project with a package file may have a Makefile
	// too, and seldom the other way round.
	for _, look := range []func(fs.FS) (Guess, bool){detectPackage, detectGenerator, detectMakefile,
		detectScript, detectPlain} {
		if guess, ok := look(files); ok {
			guess.Rules = rulesFiles(files)
			return guess
		}
	}
	// Nobody knows what builds it, and still a build that is given needs its
	// dependencies.
	prepare, keep, _ := dependencies(files)
	return Guess{Rules: rulesFiles(files), Prepare: prepare, Keep: keep}
}

// mostProjects is how many folders are looked into for a project of their own.
const mostProjects = 50

// detectBelow looks for a project one folder down, as where a repository has a server
// beside its site. Of several none is guessed.
func detectBelow(files fs.FS) (Guess, bool) {
	entries, _ := fs.ReadDir(files, ".")
	var found []Guess
	looked := 0
	for _, entry := range entries {
		name := entry.Name()
		if !entry.IsDir() || strings.HasPrefix(name, ".") || neverOutput[name] || looked == mostProjects {
			continue
		}
		looked++
		below, err := fs.Sub(files, name)
		if err != nil {
			continue
		}
		guess, ok := detectPackage(below)
		if !ok {
			guess, ok = detectGenerator(below)
		}
		if ok && guess.Output != "" {
			guess.Folder, guess.Because = name, path.Join(name, guess.Because)
			guess.Rules = rulesFiles(below)
			found = append(found, guess)
		}
	}

	switch len(found) {
	case 0:
		return Guess{}, false
	case 1:
		return found[0], true
	}
	var folders []string
	for _, guess := range found {
		folders = append(folders, guess.Folder+"/")
	}
	return Guess{Notes: []string{"there are several projects: " + strings.Join(folders, ", ") +
		"; choose one: build.folder in orilla.yaml, or orilla init in that folder"}}, true
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
	PackageManager  string            `json:"packageManager"` // pnpm@9.1.0
	Workspaces      json.RawMessage   `json:"workspaces"`
}

// readPackage reads a package.json; ok is false if there is none that can be read.
func readPackage(files fs.FS, name string) (p packageFile, ok bool) {
	data, err := fs.ReadFile(files, name)
	return p, err == nil && json.Unmarshal(data, &p) == nil
}

// has reports whether a package is among the dependencies, for the build or for
// what is shipped.
func (p packageFile) has(name string) bool {
	_, direct := p.Dependencies[name]
	_, dev := p.DevDependencies[name]
	return direct || dev
}

// detectPackage guesses from package.json: from the framework among the
// dependencies, and from the script that is called like a build.
func detectPackage(files fs.FS) (Guess, bool) {
	p, ok := readPackage(files, "package.json")
	if !ok {
		return Guess{}, false
	}
	guess := Guess{What: "a package with build scripts", Because: "package.json"}
	known := frameworkOf(p)
	script := buildScript(p, known)
	if script == "" && (known == nil || known.command == "") {
		return detectWorkspace(files, p)
	}

	manager := packageManager(files, p)
	if manager.note != "" {
		guess.Notes = append(guess.Notes, manager.note)
	}
	if len(p.Dependencies)+len(p.DevDependencies) > 0 || manager.lock != "" {
		guess.Prepare, guess.Keep = []string{manager.install}, []string{"node_modules"}
	}
	guess.Run = []string{manager.name + " run " + script}
	if script == "" {
		guess.Run = []string{manager.execute + " " + known.command}
	}

	if known != nil {
		known.describe(&guess, p, files)
	}
	// What the script itself says has the last word: it is given to the tool.
	if folder := outputOfScript(p.Scripts[script]); folder != "" {
		guess.Output = folder
	}
	// Nobody said where the output goes; a folder that is there is the best
	// guess.
	if guess.Output == "" {
		guess.Output = cmp.Or(outputOfBundler(files), existingOutput(files, "dist"))
	}
	return guess, true
}

// detectWorkspace guesses from the packages of a workspace, whose root builds nothing
// itself, if one of them is a site.
func detectWorkspace(files fs.FS, root packageFile) (Guess, bool) {
	if len(root.Workspaces) == 0 && !exists(files, "pnpm-workspace.yaml") {
		return Guess{}, false
	}
	manager := packageManager(files, root)
	packages, _ := fs.Glob(files, "*/*/package.json")
	shallow, _ := fs.Glob(files, "*/package.json")
	var found []Guess
	for _, name := range append(shallow, packages...) {
		folder := path.Dir(name)
		p, ok := readPackage(files, name)
		known := frameworkOf(p)
		if !ok || known == nil || strings.HasPrefix(folder, "node_modules") {
			continue
		}
		below, err := fs.Sub(files, folder)
		script := buildScript(p, known)
		if err != nil || script == "" {
			continue
		}

		// From the top, where the lock file is: the packages depend on each other.
		guess := Guess{What: "a package of a workspace", Because: name, Prepare: []string{manager.install},
			Keep: []string{"node_modules"}, Run: []string{manager.within(folder, p.Name, script)}}
		known.describe(&guess, p, below)
		if inside := outputOfScript(p.Scripts[script]); inside != "" {
			guess.Output = inside
		}
		guess.Output, guess.Rules = path.Join(folder, guess.Output), rulesFiles(files)
		for i, keep := range guess.Keep[1:] {
			guess.Keep[i+1] = path.Join(folder, keep)
		}
		found = append(found, guess)
	}
	if len(found) != 1 {
		return Guess{}, false
	}
	return found[0], true
}

// scriptNames are what the trade calls the script that makes the site, the usual
// name first.
var scriptNames = []string{
	"build", "build:prod", "build:production", "build:static", "build:site", "build:web", "build:client",
	"build-prod", "build-site", "generate", "export", "dist", "docs:build", "site:build", "web:build",
	"client:build", "build:docs", "prod", "production",
}

// buildScript returns the name of the script that makes the site, "" for none.
func buildScript(p packageFile, known *framework) string {
	names := scriptNames
	if known != nil && known.script != "" {
		names = append([]string{known.script}, names...)
	}
	for _, name := range names {
		if _, ok := p.Scripts[name]; ok {
			return name
		}
	}
	return ""
}

// manager is a package manager, and how it is asked for what a build needs.
type manager struct {
	name, lock string
	install    string // what installs exactly what the lock file says
	execute    string // what runs a program of a dependency
	note       string // what a person should know
}

// within is the command that runs a script of a package of a workspace, from its top.
func (m manager) within(folder, name, script string) string {
	switch m.name {
	case "pnpm":
		return "pnpm --dir " + folder + " run " + script
	case "yarn":
		return "yarn workspace " + name + " run " + script
	case "bun":
		return "bun run --cwd " + folder + " " + script
	}
	return "npm run " + script + " --workspace " + folder
}

// packageManager tells from the lock file which one a project uses, and how it
// installs exactly what the lock file says: a build of a commit must get the same
// dependencies tomorrow.
func packageManager(files fs.FS, p packageFile) manager {
	for _, known := range []manager{
		{name: "npm", lock: "package-lock.json", install: "npm ci", execute: "npx"},
		{name: "npm", lock: "npm-shrinkwrap.json", install: "npm ci", execute: "npx"},
		{name: "pnpm", lock: "pnpm-lock.yaml", install: "pnpm install --frozen-lockfile",
			execute: "pnpm exec"},
		{name: "yarn", lock: "yarn.lock", install: "yarn install --frozen-lockfile", execute: "yarn run"},
		{name: "bun", lock: "bun.lock", install: "bun install --frozen-lockfile", execute: "bunx"},
		{name: "bun", lock: "bun.lockb", install: "bun install --frozen-lockfile", execute: "bunx"},
	} {
		if !exists(files, known.lock) {
			continue
		}
		// Yarn changed the option with its second version.
		modern := exists(files, ".yarnrc.yml") || modernYarn.MatchString(p.PackageManager)
		if known.name == "yarn" && modern {
			known.install = "yarn install --immutable"
		}
		return known
	}
	return manager{name: "npm", install: "npm install", execute: "npx",
		note: "no lock file: the same commit may get other dependencies another day; " +
			"commit package-lock.json"}
}

var modernYarn = regexp.MustCompile(`^yarn@([2-9]|\d\d)`)

// dependencies returns the steps that install what a lock file says, whatever builds
// the project, and what of it is worth keeping.
func dependencies(files fs.FS) (prepare, keep []string, tools string) {
	p, ok := readPackage(files, "package.json")
	if m := packageManager(files, p); ok && (m.lock != "" || len(p.Dependencies)+len(p.DevDependencies) > 0) {
		return []string{m.install}, []string{"node_modules"}, ""
	}
	const venv = "python3 -m venv .venv"
	switch {
	case exists(files, "Gemfile"):
		return []string{"bundle config set --local path vendor/bundle", "bundle install"},
			[]string{"vendor/bundle"}, "bundle exec "
	case exists(files, "uv.lock"):
		return []string{"uv sync --locked"}, []string{".venv"}, "uv run "
	case exists(files, "poetry.lock"):
		return []string{"poetry install --no-root"}, nil, "poetry run "
	case exists(files, "requirements.txt"):
		return []string{venv, ".venv/bin/pip install -r requirements.txt"}, []string{".venv"}, ".venv/bin/"
	}
	return nil, nil, ""
}

// generator is a program that has a configuration file of its own.
type generator struct {
	file   string
	also   string // must be there too; "" for nothing
	what   string
	run    string
	output string
	key    string // under which its configuration says where the output goes; "" for nowhere
	keep   string // a cache that is worth keeping
	tools  bool   // it comes from the project's own dependencies
}

var generators = []generator{
	{"hugo.toml", "", "a Hugo site", "hugo", "public", "publishDir", "resources/_gen", false},
	{"hugo.yaml", "", "a Hugo site", "hugo", "public", "publishDir", "resources/_gen", false},
	{"hugo.json", "", "a Hugo site", "hugo", "public", "publishDir", "resources/_gen", false},
	{"config/_default", "", "a Hugo site", "hugo", "public", "publishDir", "resources/_gen", false},
	{"config.toml", "archetypes", "a Hugo site", "hugo", "public", "publishDir", "resources/_gen", false},
	{"config.toml", "templates", "a Zola site", "zola build", "public", "output_dir", "", false},
	{"config.toml", "content", "a Hugo site", "hugo", "public", "publishDir", "resources/_gen", false},
	{"_config.yml", "", "a Jekyll site", "jekyll build", "_site", "destination", ".jekyll-cache", true},
	{"mkdocs.yml", "", "an MkDocs site", "mkdocs build", "site", "site_dir", "", true},
	{"mkdocs.yaml", "", "an MkDocs site", "mkdocs build", "site", "site_dir", "", true},
	{"book.toml", "", "an mdBook", "mdbook build", "book", "build-dir", "", false},
	{"conf.py", "", "a Sphinx site", "sphinx-build -b html . _build/html", "_build/html", "", "", true},
	{"docs/conf.py", "", "a Sphinx site", "sphinx-build -b html docs docs/_build/html", "docs/_build/html",
		"", "", true},
	{"docs/source/conf.py", "", "a Sphinx site", "sphinx-build -b html docs/source docs/build/html",
		"docs/build/html", "", "", true},
	{"pelicanconf.py", "", "a Pelican site", "pelican content", "output", "OUTPUT_PATH", "", true},
}

// detectGenerator knows the generators that have a
// configuration file of their own.
func detectGenerator(files fs.FS) (Guess, bool) {
	for _, known := range generators {
		if !exists(files, known.file) || known.also != "" && !exists(files, known.also) {
			continue
		}
		guess := Guess{What: known.what, Because: known.file, Run: []string{known.run}, Output: known.output}
		if known.tools {
			prepare, keep, tools := dependencies(files)
			if tools != "" { // else its program is on the machine
				guess.Prepare, guess.Keep, guess.Run = prepare, keep, []string{tools + known.run}
			}
		}
		if known.keep != "" {
			guess.Keep = append(guess.Keep, known.keep)
		}

		data, _ := fs.ReadFile(files, known.file)
		if folder := valueOf(data, known.key); known.key != "" && folder != "" {
			guess.Output = folder
		}
		return guess, true
	}
	return Guess{}, false
}

// valueOf returns what a configuration in TOML, YAML, JSON or Python says under a key
// on a line of its own, if that is a folder of the project.
func valueOf(data []byte, key string) string {
	found := regexp.MustCompile(`(?m)^\s*["']?` + regexp.QuoteMeta(key) +
		`["']?\s*[:=]\s*["']?(?:\./)?([\w./-]+?)/?["']?,?\s*$`).FindSubmatch(data)
	if found == nil || !isInside(string(found[1])) {
		return ""
	}
	return string(found[1])
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
				prepare, keep, _ := dependencies(files)
				return Guess{What: whatMake, Because: name, Prepare: prepare, Keep: keep,
					Run: []string{"make " + target}, Output: existingOutput(files, "")}, true
			}
		}
	}
	return Guess{}, false
}

// detectScript guesses from a script that is called like a build.
func detectScript(files fs.FS) (Guess, bool) {
	for _, name := range []string{"build.sh", "build/build.sh", "scripts/build.sh", "bin/build.sh"} {
		if exists(files, name) {
			prepare, keep, _ := dependencies(files)
			return Guess{What: whatScript, Because: name, Prepare: prepare, Keep: keep,
				Run: []string{"sh " + name}, Output: existingOutput(files, "")}, true
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
	if guess.Folder != "" {
		line("  folder: " + quote(guess.Folder) + "   # where the site lies; the paths below start there")
	}
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
