package main

// Every kind is the same small site, written as its makers would write it: a home page, one that is
// linked, and one that is loaded when it is asked for. What is looked at is the same for all, so that
// a kind which behaves otherwise stands out:
//
//	make    the project, from nothing, with the versions that are current
//	edit    one component of the home page, and the page that is loaded later
//	open    the home page before the change stays open in a browser while the change goes live
//	click   a page that was not loaded yet, from the one that is open: it must still come
//
// The last one is where most tools of this trade fail: what the open page loads has another name by
// then, or is gone.

// kind is one kind of project. Its scripts run in a folder of their own.
type kind struct {
	name  string
	needs string // the program that makes it: npm, hugo, zip; "" for none
	make  string // writes the project
	edit  string // changes one component of the home page, and one page that is loaded later
	init  []string
	open  string // what is opened first
	home  string // what the home page says, before and after the change
	after string
	click string // the link to another page, by its selector
	path  string // where that leads
	there string // what that page says
	lazy  string // the link to the page that is changed
	still string // what the open page says there after the change, as far as that is certain
	zip   bool   // it is published as an archive that somebody else has made
}

// reactApp are the pages of an application with React and React Router, which
// several bundlers build.
const reactApp = `
mkdir -p src public
printf 'node_modules\ndist\n' >.gitignore
printf '\0' >public/favicon.ico
cat >src/App.jsx <<'END'
import { lazy, Suspense } from "react"
import { BrowserRouter, Link, Route, Routes } from "react-router-dom"
import Season from "./Season.jsx"
import "./app.css"
const Fares = lazy(() => import("./Fares.jsx"))
const Piers = lazy(() => import("./Piers.jsx"))
const Boats = lazy(() => import("./Boats.jsx"))
export default function App() {
  return <BrowserRouter>
    <Link id="piers" to="/piers">Piers</Link> <Link id="fares" to="/fares">Fares</Link> <Link id="boats" to="/boats">Boats</Link>
    <Suspense fallback={<p>...</p>}><Routes>
      <Route path="/" element={<Season/>}/><Route path="/piers" element={<Piers/>}/>
      <Route path="/fares" element={<Fares/>}/><Route path="/boats" element={<Boats/>}/>
    </Routes></Suspense>
  </BrowserRouter>
}
END
echo 'export default function Season() { return <h1>Five islands, summer</h1> }' >src/Season.jsx
echo 'export default function Fares() { return <h1>Fares from 41.00</h1> }' >src/Fares.jsx
echo 'export default function Piers() { return <h1>Eleven piers</h1> }' >src/Piers.jsx
echo 'export default function Boats() { return <h1>Three boats</h1> }' >src/Boats.jsx
echo 'h1 { color: #123 }' >src/app.css
cat >src/main.jsx <<'END'
import { createRoot } from "react-dom/client"
import App from "./App.jsx"
createRoot(document.getElementById("root")).render(<App/>)
END
`

const reactEdit = `sed -i.bak 's/summer/winter/' src/Season.jsx; sed -i.bak 's/41.00/44.00/' src/Fares.jsx; rm src/*.bak`

// application is a kind that finds its way in the browser.
func application(name, make, edit string) kind {
	return kind{name: name, needs: "npm", make: make, edit: edit, init: []string{"--client-routes", "/"},
		open: "/", home: "Five islands, summer", after: "Five islands, winter", click: "#piers",
		path: "/piers", there: "Eleven piers", lazy: "#fares", still: "Fares from 41.00"}
}

// pages is a kind whose pages are all there.
func pages(name, needs, make, edit string) kind {
	return kind{name: name, needs: needs, make: make, edit: edit, open: "/", home: "Five islands, summer",
		after: "Five islands, winter", click: "#piers", path: "/piers", there: "Eleven piers", lazy: "#fares",
		still: "Fares from 4"} // of the release that it came from, or of the new one
}

const install = ` >/dev/null 2>&1 || { echo "npm install failed"; exit 1; }
`

// plainPages are pages without a build, with a script that loads another one.
const plainPages = `
printf '\0' >favicon.ico
echo 'h1 { color: #123 }' >site.css
printf 'import("./clock.js")\n' >site.js
printf 'document.body.dataset.clock = "on"\n' >clock.js
page() { printf '<!doctype html><title>Corvane</title><link rel=stylesheet href=/site.css><script type=module src=/site.js></script><h1>%s</h1><a id=piers href=/piers>Piers</a> <a id=fares href=/fares>Fares</a>\n' "$2" >"$1"; }
page index.html "Five islands, summer"
page piers.html "Eleven piers"
page fares.html "Fares from 41.00"
`

const plainEdit = `sed -i.bak 's/summer/winter/' index.html; sed -i.bak 's/41.00/44.00/' fares.html; mv clock.js time.js; sed -i.bak s/clock/time/ site.js; rm *.bak`

// kinds are all of them. Where a registry or a program cannot be reached, a kind
// is skipped, and said.
var kinds = []kind{
	application("vite-react", reactApp+`
echo '<!doctype html><title>Corvane</title><div id="root"></div><script type="module" src="/src/main.jsx"></script>' >index.html
echo '{"private":true,"type":"module","scripts":{"build":"vite build"}}' >package.json
echo 'import react from "@vitejs/plugin-react"; export default { plugins: [react()], build: { sourcemap: true } }' >vite.config.js
npm install react react-dom react-router-dom`+install+`npm install -D vite @vitejs/plugin-react`+install, reactEdit),

	application("webpack-react", reactApp+`
echo '<!doctype html><title>Corvane</title><div id="root"></div>' >src/index.html
echo '{"private":true,"scripts":{"build":"webpack --mode production"}}' >package.json
cat >webpack.config.js <<'END'
const Html = require("html-webpack-plugin"), Css = require("mini-css-extract-plugin"), Copy = require("copy-webpack-plugin")
module.exports = { entry: "./src/main.jsx", output: { filename: "js/[name].[contenthash:8].js", publicPath: "/", clean: true },
  module: { rules: [{ test: /\.jsx$/, loader: "esbuild-loader", options: { jsx: "automatic" } }, { test: /\.css$/, use: [Css.loader, "css-loader"] }] },
  plugins: [new Html({ template: "src/index.html" }), new Css({ filename: "css/[name].[contenthash:8].css" }), new Copy({ patterns: ["public"] })] }
END
npm install react react-dom react-router-dom`+install+
		`npm install -D webpack webpack-cli html-webpack-plugin esbuild-loader css-loader mini-css-extract-plugin copy-webpack-plugin`+install,
		reactEdit),

	application("rsbuild-react", reactApp+`
mv src/main.jsx src/index.jsx
echo '{"private":true,"type":"module","scripts":{"build":"rsbuild build"}}' >package.json
echo 'import { pluginReact } from "@rsbuild/plugin-react"; export default { plugins: [pluginReact()] }' >rsbuild.config.mjs
npm install react react-dom react-router-dom`+install+`npm install -D @rsbuild/core @rsbuild/plugin-react`+install, reactEdit),

	application("vite-vue", `
mkdir -p src public
printf 'node_modules\ndist\n' >.gitignore
printf '\0' >public/favicon.ico
echo '<!doctype html><title>Corvane</title><div id="app"></div><script type="module" src="/src/main.js"></script>' >index.html
echo '{"private":true,"type":"module","scripts":{"build":"vite build"}}' >package.json
echo 'import vue from "@vitejs/plugin-vue"; export default { plugins: [vue()] }' >vite.config.js
cat >src/main.js <<'END'
import { createApp } from "vue"
import { createRouter, createWebHistory } from "vue-router"
import App from "./App.vue"
import Season from "./Season.vue"
const router = createRouter({ history: createWebHistory(), routes: [{ path: "/", component: Season },
  { path: "/piers", component: () => import("./Piers.vue") }, { path: "/fares", component: () => import("./Fares.vue") }] })
createApp(App).use(router).mount("#app")
END
echo '<template><router-link id="piers" to="/piers">Piers</router-link> <router-link id="fares" to="/fares">Fares</router-link><router-view/></template>' >src/App.vue
echo '<template><h1>Five islands, summer</h1></template>' >src/Season.vue
printf '<template><h1>Eleven piers</h1></template>\n<style scoped>h1 { color: #123 }</style>\n' >src/Piers.vue
printf '<template><h1>Fares from 41.00</h1></template>\n<style scoped>h1 { color: #456 }</style>\n' >src/Fares.vue
npm install vue vue-router`+install+`npm install -D vite @vitejs/plugin-vue`+install,
		`sed -i.bak 's/summer/winter/' src/Season.vue; sed -i.bak 's/41.00/44.00/' src/Fares.vue; rm src/*.bak`),

	application("angular", `
cd .. && rm -rf angular && npx -y @angular/cli@20 new angular --defaults --skip-git --skip-install --ssr=false --style=css --ai-config=none --skip-tests >/dev/null 2>&1 || exit 1
cd angular
sed -i.bak 's/\^20\.[0-9]*\.[0-9]*/^20.0.0/' package.json && rm package.json.bak
page() { printf 'import { Component } from "@angular/core";\n@Component({ selector: "app-%s", template: "<h1>%s</h1>" })\nexport class %s {}\n' "$1" "$3" "$2" >"src/app/$1.ts"; }
page season Season "Five islands, summer"
page piers Piers "Eleven piers"
page fares Fares "Fares from 41.00"
cat >src/app/app.routes.ts <<'END'
import { Routes } from "@angular/router";
import { Season } from "./season";
export const routes: Routes = [{ path: "", component: Season },
  { path: "piers", loadComponent: () => import("./piers").then(m => m.Piers) },
  { path: "fares", loadComponent: () => import("./fares").then(m => m.Fares) }];
END
cat >src/app/app.ts <<'END'
import { Component } from "@angular/core";
import { RouterLink, RouterOutlet } from "@angular/router";
@Component({ selector: "app-root", imports: [RouterLink, RouterOutlet],
  template: '<a id="piers" routerLink="/piers">Piers</a> <a id="fares" routerLink="/fares">Fares</a><router-outlet/>' })
export class App {}
END
rm -f src/app/app.html src/app/app.css
npm install`+install, `sed -i.bak 's/summer/winter/' src/app/season.ts; sed -i.bak 's/41.00/44.00/' src/app/fares.ts; rm src/app/*.bak`),

	pages("next-export", "npm", `
mkdir -p app/piers app/fares public
printf 'node_modules\n.next\nout\n' >.gitignore
printf '\0' >public/favicon.ico
echo '{"private":true,"scripts":{"build":"next build"}}' >package.json
echo 'module.exports = { output: "export" }' >next.config.js
cat >app/layout.js <<'END'
import Link from "next/link"
import "./site.css"
export default function Layout({ children }) { return <html><body><Link id="piers" href="/piers" prefetch={false}>Piers</Link> <Link id="fares" href="/fares" prefetch={false}>Fares</Link>{children}</body></html> }
END
echo 'h1 { color: #123 }' >app/site.css
echo 'export default function Home() { return <h1>Five islands, summer</h1> }' >app/page.js
echo '"use client"; export default function Piers() { return <h1>Eleven piers</h1> }' >app/piers/page.js
echo '"use client"; export default function Fares() { return <h1>Fares from 41.00</h1> }' >app/fares/page.js
npm install next react react-dom`+install,
		`sed -i.bak 's/summer/winter/' app/page.js; sed -i.bak 's/41.00/44.00/' app/fares/page.js; find app -name '*.bak' -delete`),

	pages("sveltekit", "npm", `
mkdir -p src/routes/piers src/routes/fares static
printf 'node_modules\n.svelte-kit\nbuild\n' >.gitignore
printf '\0' >static/favicon.ico
echo '{"private":true,"type":"module","scripts":{"build":"vite build"}}' >package.json
echo 'import adapter from "@sveltejs/adapter-static"; export default { kit: { adapter: adapter() } }' >svelte.config.js
echo 'import { sveltekit } from "@sveltejs/kit/vite"; export default { plugins: [sveltekit()] }' >vite.config.js
echo '<!doctype html><html><head><title>Corvane</title>%sveltekit.head%</head><body><div>%sveltekit.body%</div></body></html>' >src/app.html
echo 'export const prerender = true' >src/routes/+layout.js
echo '<script>let { children } = $props()</script><a id="piers" href="/piers">Piers</a> <a id="fares" href="/fares">Fares</a>{@render children()}' >src/routes/+layout.svelte
echo '<h1>Five islands, summer</h1>' >src/routes/+page.svelte
echo '<h1>Eleven piers</h1><style>h1 { color: #123 }</style>' >src/routes/piers/+page.svelte
echo '<h1>Fares from 41.00</h1>' >src/routes/fares/+page.svelte
npm install -D @sveltejs/kit@2 @sveltejs/adapter-static@3 @sveltejs/vite-plugin-svelte svelte vite`+install,
		`sed -i.bak 's/summer/winter/' src/routes/+page.svelte; sed -i.bak 's/41.00/44.00/' src/routes/fares/+page.svelte; find src -name '*.bak' -delete`),

	pages("eleventy", "npm", `
printf 'node_modules\n_site\n' >.gitignore
printf '\0' >favicon.ico
echo '{"private":true,"type":"module","scripts":{"build":"eleventy"}}' >package.json
echo 'export default function (c) { c.addPassthroughCopy("favicon.ico"); c.addPassthroughCopy("site.css") }' >eleventy.config.js
echo 'h1 { color: #123 }' >site.css
mkdir _includes
echo '<!doctype html><title>Corvane</title><link rel=stylesheet href=/site.css><a id=piers href=/piers/>Piers</a> <a id=fares href=/fares/>Fares</a>{{ content }}' >_includes/page.njk
page() { printf -- '---\nlayout: page.njk\n---\n# %s\n' "$2" >"$1.md"; }
page index "Five islands, summer"
page piers "Eleven piers"
page fares "Fares from 41.00"
npm install -D @11ty/eleventy`+install, `sed -i.bak 's/summer/winter/' index.md; sed -i.bak 's/41.00/44.00/' fares.md; rm *.bak`),

	pages("vitepress", "npm", `
mkdir -p docs/public
printf 'node_modules\ndocs/.vitepress/dist\ndocs/.vitepress/cache\n' >.gitignore
printf '\0' >docs/public/favicon.ico
echo '{"private":true,"type":"module","scripts":{"docs:build":"vitepress build docs"}}' >package.json
printf '# Five islands, summer\n\n<a id="piers" href="/piers.html">Piers</a> <a id="fares" href="/fares.html">Fares</a>\n' >docs/index.md
printf '# Eleven piers\n\n<a id="fares" href="/fares.html">Fares</a>\n' >docs/piers.md
printf '# Fares from 41.00\n' >docs/fares.md
npm install -D vitepress`+install, `sed -i.bak 's/summer/winter/' docs/index.md; sed -i.bak 's/41.00/44.00/' docs/fares.md; rm docs/*.bak`),

	pages("hugo", "hugo", `
mkdir -p content layouts/_default static
printf 'public\nresources\n.hugo_build.lock\n' >.gitignore
printf '\0' >static/favicon.ico
printf 'baseURL = "/"\ntitle = "Corvane"\ndisableKinds = ["taxonomy", "term", "RSS", "sitemap"]\n' >hugo.toml
mkdir -p assets
echo 'h1 { color: #123 }' >assets/site.css
printf '<!doctype html><title>Corvane</title>{{ with resources.Get "site.css" | fingerprint }}<link rel=stylesheet href="{{ .RelPermalink }}">{{ end }}<a id=piers href=/piers/>Piers</a> <a id=fares href=/fares/>Fares</a>{{ .Content }}\n' | tee layouts/index.html >layouts/_default/single.html
cp hugo.toml config.toml
page() { printf -- '---\ntitle: x\n---\n# %s\n' "$2" >"content/$1.md"; }
page _index "Five islands, summer"
page piers "Eleven piers"
page fares "Fares from 41.00"
`, `sed -i.bak 's/summer/winter/' content/_index.md; sed -i.bak 's/41.00/44.00/' content/fares.md; sed -i.bak s/123/456/ assets/site.css; find . -name '*.bak' -delete`),

	pages("plain", "", plainPages, plainEdit),

	func() kind {
		k := pages("zip", "zip", plainPages, plainEdit)
		k.zip = true
		return k
	}(),
}
