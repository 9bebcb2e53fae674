package project_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/project"
)

// TestLayouts reads projects as they are laid out in practice: their files, and what
// the configuration then says of the build.
func TestLayouts(t *testing.T) {
	t.Parallel()
	type files map[string]string
	const lock = `{"lockfileVersion": 3}`
	for name, test := range map[string]struct {
		files files
		want  project.Build
		// client-side routes, and a word of what is noted
		routes, note string
	}{
		"one page with a router": {
			files{"package.json": `{"scripts": {"dev": "vite", "build": "tsc -b && vite build"}, "dependencies": {"react-router-dom": "7"}, "devDependencies": {"vite": "7"}}`,
				"package-lock.json": lock, "index.html": "", "src/main.tsx": "createBrowserRouter([])", "vite.config.ts": "export default { plugins: [] }"},
			project.Build{Prepare: []string{"npm ci"}, Run: []string{"npm run build"}, Output: "dist", Keep: []string{"node_modules"}}, "/", ""},
		"one page with routes behind a hash": {
			files{"package.json": `{"scripts": {"build": "vite build"}, "dependencies": {"vue": "3", "vue-router": "4"}, "devDependencies": {"vite": "7"}}`,
				"package-lock.json": lock, "src/router/index.js": "createRouter({history: createWebHashHistory()})"},
			project.Build{Prepare: []string{"npm ci"}, Run: []string{"npm run build"}, Output: "dist", Keep: []string{"node_modules"}}, "", ""},
		"a root and an output of its own, below a path": {
			files{"package.json": `{"scripts": {"build:prod": "vite build"}, "devDependencies": {"vite": "7"}}`, "yarn.lock": "", ".yarnrc.yml": "",
				"vite.config.js": "export default {\n  root: 'web',\n  base: '/planner/',\n  build: { outDir: '../www' },\n}"},
			project.Build{Prepare: []string{"yarn install --immutable"}, Run: []string{"yarn run build:prod"}, Output: "www", Keep: []string{"node_modules"}},
			"", "below /planner/"},
		"an output named in the script": {
			files{"package.json": `{"scripts": {"build": "tsc --outDir lib && astro build --outDir ./release"}, "dependencies": {"astro": "5"}}`, "pnpm-lock.yaml": ""},
			project.Build{Prepare: []string{"pnpm install --frozen-lockfile"}, Run: []string{"pnpm run build"}, Output: "release", Keep: []string{"node_modules"}}, "", ""},
		"a bundler's own configuration": {
			files{"package.json": `{"scripts": {"build": "webpack --mode production"}, "dependencies": {"wouter": "3"}, "devDependencies": {"webpack": "5"}}`, "package-lock.json": lock,
				"webpack.config.js": "module.exports = { output: { path: path.resolve(__dirname, 'build/web'), filename: '[name].js' } }"},
			project.Build{Prepare: []string{"npm ci"}, Run: []string{"npm run build"}, Output: "build/web", Keep: []string{"node_modules"}}, "/", ""},
		"an application of the enterprise": {
			files{"package.json": `{"scripts": {"build": "ng build"}, "dependencies": {"@angular/core": "21", "@angular/router": "21"}}`, "package-lock.json": lock,
				"angular.json": `{"projects": {"planner": {"projectType": "application", "architect": {"build": {"builder": "@angular/build:application", "options": {}}}}}}`},
			project.Build{Prepare: []string{"npm ci"}, Run: []string{"npm run build"}, Output: "dist/planner/browser", Keep: []string{"node_modules", ".angular/cache"}}, "/", ""},
		"a framework that writes static pages": {
			files{"package.json": `{"scripts": {"build": "next build"}, "dependencies": {"next": "16"}}`, "package-lock.json": lock, "next.config.ts": `export default { output: "export" }`},
			project.Build{Prepare: []string{"npm ci"}, Run: []string{"npm run build"}, Output: "out", Keep: []string{"node_modules", ".next/cache"}}, "", ""},
		"a page for all routes": {
			files{"package.json": `{"scripts": {"build": "vite build"}, "devDependencies": {"@sveltejs/kit": "2", "@sveltejs/adapter-static": "3", "vite": "7"}}`, "bun.lock": "",
				"svelte.config.js": "export default { kit: { adapter: adapter({ pages: 'site', fallback: '200.html' }) } }"},
			project.Build{Prepare: []string{"bun install --frozen-lockfile"}, Run: []string{"bun run build"}, Output: "site", Keep: []string{"node_modules"}}, "/ -> /200", ""},
		"a server beside its site": {
			files{"go.mod": "module x", "Makefile": "build:\n\tgo build ./...\n", "main.go": "", "frontend/package.json": `{"scripts": {"build": "vite build"}, "devDependencies": {"vite": "7"}}`,
				"frontend/package-lock.json": lock, "frontend/index.html": ""},
			project.Build{Folder: "frontend", Prepare: []string{"npm ci"}, Run: []string{"npm run build"}, Output: "dist", Keep: []string{"node_modules"}}, "", ""},
		"a workspace of packages": {
			files{"package.json": `{"private": true, "scripts": {"lint": "x"}}`, "pnpm-workspace.yaml": "packages: ['apps/*', 'packages/*']", "pnpm-lock.yaml": "",
				"packages/ui/package.json": `{"name": "ui", "scripts": {"build": "tsc"}}`,
				"apps/web/package.json":    `{"name": "web", "scripts": {"build": "astro build"}, "dependencies": {"astro": "5", "ui": "workspace:*"}}`},
			project.Build{Prepare: []string{"pnpm install --frozen-lockfile"}, Run: []string{"pnpm --dir apps/web run build"}, Output: "apps/web/dist", Keep: []string{"node_modules"}}, "", ""},
		"two projects, and no telling which": {
			files{"shop/package.json": `{"scripts": {"build": "vite build"}, "devDependencies": {"vite": "7"}}`, "docs/mkdocs.yml": ""},
			project.Build{}, "", "several projects: docs/, shop/"},
		"a script, and an output that Git ignores": {
			files{"build.sh": "", ".gitignore": "/target/site/\n*.log\n", "target/site/index.html": "", "target/site/fares/index.html": "", "pages/index.html": "",
				"package.json": `{"devDependencies": {"sass": "1"}}`, "package-lock.json": lock},
			project.Build{Prepare: []string{"npm ci"}, Run: []string{"sh build.sh"}, Output: "target/site", Keep: []string{"node_modules"}}, "", ""},
		"documentation in Python": {
			files{"mkdocs.yml": "site_name: Harbours\nsite_dir: build/pages\n", "requirements.txt": "mkdocs-material==9\n"},
			project.Build{Prepare: []string{"python3 -m venv .venv", ".venv/bin/pip install -r requirements.txt"}, Run: []string{".venv/bin/mkdocs build"},
				Output: "build/pages", Keep: []string{".venv"}}, "", ""},
		"a blog in Ruby": {
			files{"_config.yml": "title: Piers\ndestination: ./www\n", "Gemfile": "", "Gemfile.lock": ""},
			project.Build{Prepare: []string{"bundle config set --local path vendor/bundle", "bundle install"}, Run: []string{"bundle exec jekyll build"},
				Output: "www", Keep: []string{"vendor/bundle", ".jekyll-cache"}}, "", ""},
		"a generator of one program": {
			files{"hugo.yaml": "baseURL: https://www.corvane.example/\npublishDir: docs\n", "content/_index.md": "", "themes/x/index.html": ""},
			project.Build{Run: []string{"hugo"}, Output: "docs", Keep: []string{"resources/_gen"}}, "", ""},
		"a generator without a script": {
			files{"package.json": `{"dependencies": {"@11ty/eleventy": "3"}}`, "package-lock.json": lock, "eleventy.config.js": `export const config = { dir: { input: "pages", output: "www" } }`},
			project.Build{Prepare: []string{"npm ci"}, Run: []string{"npx eleventy"}, Output: "www", Keep: []string{"node_modules", ".cache"}}, "", ""},
		"pages by hand": {
			files{"README.md": "", "web/htdocs/index.html": "", "web/htdocs/style.css": ""},
			project.Build{Output: "web/htdocs"}, "", ""},
		"nothing of a site": {
			files{"main.go": "", "go.mod": "", "internal/templates/index.html": "", "testdata/page/index.html": ""},
			project.Build{}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			tree := fstest.MapFS{}
			for name, text := range test.files {
				tree[name] = &fstest.MapFile{Data: []byte(text)}
			}
			guess := project.Detect(tree)
			assert.Equal(t, test.want, project.Build{Folder: guess.Folder, Prepare: guess.Prepare, Run: guess.Run, Output: guess.Output, Keep: guess.Keep})
			routes := guess.Routes.Path
			if guess.Routes.Page != "" {
				routes += " -> " + guess.Routes.Page
			}
			assert.Equal(t, test.routes, routes)
			if test.note == "" {
				assert.Empty(t, guess.Notes)
			} else {
				require.Len(t, guess.Notes, 1)
				assert.Contains(t, guess.Notes[0], test.note)
			}
			if guess.Output == "" {
				return
			}
			config, err := project.Parse([]byte(project.Draft("corvane", guess, "main")), "orilla.yaml")
			require.NoError(t, err)
			assert.Equal(t, guess.Output, config.Build.Output, "what is written is read back")
		})
	}
}
