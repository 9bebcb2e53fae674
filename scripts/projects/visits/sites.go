package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// site is what is visited, as two outputs of a build: before a deploy that changed one
// component, and after it.
type site struct {
	name, about string
	outputs     [2]string
	open        []string // the pages, one after the other
	shows       string   // what each of them says
	routes      bool     // its pages are made in the browser
}

// sites makes each site; nil where what it needs is not here.
var sites = []func(program, folder string) (*site, error){ferries, application, documentation}

// ferries is the site of the demo, whose header gets a new word.
func ferries(program, folder string) (*site, error) {
	folder = filepath.Join(folder, "ferries")
	s := &site{name: "ferries",
		about: "the demo's site; its header changes, which is on all pages, and its styles",
		open:  []string{"/", "/fares", "/boats/"}, shows: "Corvane"}
	s.outputs = [2]string{filepath.Join(folder, "before"), filepath.Join(folder, "after")}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	return s, shell(folder, `
"$program" demo --once --into demo >/dev/null
cd demo/corvane
sh build.sh >/dev/null && cp -R public ../../before
sed -i 's|<span>Corvane<em>Ferries</em></span>|<span>Corvane<em>Ferry Line</em></span>|' templates/page.html
echo 'header em { letter-spacing: .02em }' >>assets/style.css
sh build.sh >/dev/null && cp -R public ../../after`,
		"program="+program, "ORILLA_HOME="+filepath.Join(folder, "home"))
}

// application is a single-page application that a bundler makes.
func application(_, folder string) (*site, error) {
	if _, err := exec.LookPath("npm"); err != nil {
		fmt.Println("application: SKIPPED: npm is not installed")
		return nil, nil
	}
	folder = filepath.Join(folder, "application")
	s := &site{name: "application",
		about: "a single-page application with React, bundled; one component of its bundle changes",
		open:  []string{"/", "/piers"}, shows: "Piers", routes: true}
	s.outputs = [2]string{filepath.Join(folder, "before"), filepath.Join(folder, "after")}
	if err := os.MkdirAll(filepath.Join(folder, "src"), 0o755); err != nil {
		return nil, err
	}
	err := shell(folder, `
echo '<!doctype html><title>Corvane</title><div id="root"></div>
<script type="module" src="/src/main.jsx"></script>' >index.html
echo '{"private":true,"type":"module"}' >package.json
echo 'import react from "@vitejs/plugin-react"; export default { plugins: [react()] }' >vite.config.js
cat >src/App.jsx <<'END'
import { BrowserRouter, Link, Route, Routes } from "react-router-dom"
import Season from "./Season.jsx"
import "./app.css"
export default function App() {
  return <BrowserRouter><Link to="/piers">Piers</Link><Routes>
    <Route path="/" element={<Season/>}/><Route path="/piers" element={<h1>Eleven piers</h1>}/>
  </Routes></BrowserRouter>
}
END
echo 'export default function Season() { return <h1>Five islands, summer</h1> }' >src/Season.jsx
echo 'h1 { color: #123 }' >src/app.css
cat >src/main.jsx <<'END'
import { createRoot } from "react-dom/client"
import App from "./App.jsx"
createRoot(document.getElementById("root")).render(<App/>)
END
npm install react react-dom react-router-dom >/dev/null
npm install -D vite @vitejs/plugin-react >/dev/null
npx vite build >/dev/null && cp -R dist before
sed -i 's/summer/winter/' src/Season.jsx
npx vite build >/dev/null && cp -R dist after`)
	if err != nil {
		fmt.Println("application: SKIPPED:", err)
		return nil, nil
	}
	return s, nil
}

// documentation has a thousand pages with a long list of links beside each text.
func documentation(_, folder string) (*site, error) {
	folder = filepath.Join(folder, "documentation")
	s := &site{name: "documentation",
		about: "1,000 pages of documentation; the list of links changes, which is on all pages, " +
			"and the script",
		open: []string{"/guide/17/", "/guide/412/", "/guide/900/"}, shows: "Handbook"}
	for i, version := range []string{"spring", "autumn"} {
		s.outputs[i] = filepath.Join(folder, version)
		if err := handbook(s.outputs[i], version); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// pagesMade is how many pages the documentation has.
var pagesMade = 1000

// syllables make words that no language has, in the shares that words of a language have.
var syllables = strings.Fields("ka ve lo ri ta sen mor del qui ar ost en il fa gru ber no sul tin ham " +
	"per od yre wen")

// prose returns so many words of a vocabulary, in sentences.
func prose(random *rand.Rand, words []string, n int) string {
	var text strings.Builder
	for i := range n {
		// Few words are common, as in every language.
		word := words[min(int(random.ExpFloat64()*float64(len(words))/6), len(words)-1)]
		if i%14 == 0 {
			word = strings.ToUpper(word[:1]) + word[1:]
		}
		text.WriteString(word)
		switch {
		case i%14 == 13:
			text.WriteString(". ")
		default:
			text.WriteString(" ")
		}
	}
	return strings.TrimSpace(text.String())
}

// handbook writes the documentation in a version. Its words are made up, and as many and as
// common as those of a real text, so that it compresses as one: pages to about a third.
//
//	assets/style-….css     24 kB, the same in both
//	assets/script-….js    150 kB, one line of which is another
//	guide/0 … guide/999    13 kB each, a third of which is on all pages
func handbook(folder, version string) error {
	// The same each time, so that only what the version changes is another.
	random := rand.New(rand.NewPCG(7, 7))
	var words []string
	for range 4000 {
		var word strings.Builder
		for range 1 + random.IntN(4) {
			word.WriteString(syllables[random.IntN(len(syllables))])
		}
		words = append(words, word.String())
	}
	script := ""
	for i := range 1200 { // as much as the script of such a site usually is
		script += fmt.Sprintf("export function part%d(a, b) { return a.querySelector('#%s')"+
			"?.closest('.%s') ?? b.get(%d, '%s') }\n", i, words[random.IntN(len(words))],
			words[random.IntN(len(words))],
			random.IntN(10_000), prose(random, words, 3))
	}
	script += "document.documentElement.dataset.season = '" + version + "'\n"
	styles := ""
	for i := range 400 {
		styles += fmt.Sprintf(".%s-%d > .%s { margin: %dpx %d%%; color: #%06x }\n",
			words[random.IntN(len(words))], i, words[random.IntN(len(words))], random.IntN(64),
			random.IntN(100), random.IntN(1<<24))
	}
	// As a bundler names them: the script has another name once it is another one.
	assets := map[string]string{"spring": "script-4f2c9a1b7e803d56.js",
		"autumn": "script-a91d3c70be5f2846.js"}
	files := map[string]string{"assets/" + assets[version]: script,
		"assets/style-7c1e5a90b3d2f648.css": styles}

	// Every page has the whole list of links, as such sites do.
	var nav strings.Builder
	for i := range 120 {
		fmt.Fprintf(&nav, "<li><a href=\"/guide/%d/\">%s</a></li>\n", i*8, prose(random, words, 3))
	}
	fmt.Fprintf(&nav, "<li>Edition of %s</li>\n", version)
	imprint := prose(rand.New(rand.NewPCG(1, 1)), words, 40)
	for i := range pagesMade {
		var text strings.Builder
		for range 6 {
			fmt.Fprintf(&text, "<h2>%s</h2>\n<p>%s</p>\n<pre><code>%s = %d</code></pre>\n",
				prose(random, words, 4), prose(random, words, 110), prose(random, words, 2),
				random.IntN(1_000_000))
		}
		files[fmt.Sprintf("guide/%d/index.html", i)] = fmt.Sprintf(`<!doctype html>
<html lang="en"><head><meta charset="utf-8">
<title>%d · Handbook</title><link rel="stylesheet" href="/assets/style-7c1e5a90b3d2f648.css">
<script type="module" src="/assets/%s"></script></head>
<body><header><a href="/guide/0/">Handbook of Corvane Ferries</a></header>
<nav><ul>
%s</ul></nav><main><h1>Chapter %d</h1>
%s</main><footer>%s</footer></body></html>
`, i, assets[version], nav.String(), i, text.String(), imprint)
	}
	files["index.html"] = files["guide/0/index.html"]
	for path, text := range files {
		path = filepath.Join(folder, path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil { //nolint:gosec // nginx reads it
			return err
		}
	}
	return nil
}
