package test

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tab is a page that is open in a browser, as far as HTTP goes: what it has loaded
// is what it goes on with.
type tab struct {
	t       *testing.T
	address string // of the edge node
	host    string
	scripts map[string]string // by path
	kept    map[string]string // by path: Cache-Control of what was loaded
}

var (
	loadedByPages   = regexp.MustCompile(`<(?:script|link|img)[^>]+(?:src|href)="?([^" >]+)`)
	loadedByScripts = regexp.MustCompile("import\\([`\"']([^`\"']+)[`\"']\\)")
)

// open loads a page with all that it names, of which nothing may be missing.
func (p *place) open(address, host, path string) *tab {
	b := &tab{p.t, address, host, map[string]string{}, map[string]string{}}
	for _, match := range loadedByPages.FindAllStringSubmatch(b.load(path), -1) {
		text := b.load(b.below(path, match[1]))
		if strings.HasSuffix(match[1], ".js") {
			b.scripts[b.below(path, match[1])] = text
		}
	}
	return b
}

// below resolves a reference.
func (b *tab) below(base, reference string) string {
	from, err := url.Parse(base)
	require.NoError(b.t, err)
	to, err := from.Parse(reference)
	require.NoError(b.t, err)
	return to.Path
}

// load asks for a path, which must be there.
func (b *tab) load(path string) string {
	b.t.Helper()
	request, err := http.NewRequestWithContext(b.t.Context(), http.MethodGet, "http://"+b.address+path, nil)
	require.NoError(b.t, err)
	request.Host = b.host
	response, err := http.DefaultClient.Do(request)
	require.NoError(b.t, err)
	defer response.Body.Close() //nolint:errcheck // read
	body, err := io.ReadAll(response.Body)
	require.NoError(b.t, err)
	require.Equal(b.t, http.StatusOK, response.StatusCode, "%s: %s", path, body)
	b.kept[path] = response.Header.Get("Cache-Control")
	return string(body)
}

// lazy loads all that the scripts would load on a click, and returns it.
func (b *tab) lazy() (all string) {
	for path, script := range b.scripts {
		for _, match := range loadedByScripts.FindAllStringSubmatch(script, -1) {
			all += b.load(b.below(path, match[1]))
		}
	}
	return all
}

// TestProjectsFromCheckoutToVisitors takes two kinds of projects, an application
// as a bundler has written it and plain pages, from a fresh checkout to visitors,
// changes a component and a lazy chunk from CI, and goes on in the page that is
// still open: nothing fails, and nothing is warned of.
func TestProjectsFromCheckoutToVisitors(t *testing.T) {
	t.Parallel()
	for kind, test := range map[string]struct {
		init          []string
		route         string // an address besides the home page's
		before, after string // what lazy scripts say
		forever       []string
	}{
		"app": {[]string{"--client-routes", "/"}, "/fares", "Fares from 41.00", "Fares from 44.00",
			[]string{"/assets/index-C7VBxarq.js", "/assets/index-BDXF774W.css", "/assets/boats-C_TaEqZs.js",
				"/assets/crew-Cl907CAK.js", "/assets/fares-Bk1tOd7l.js", "/assets/home-BSveAFng.js"}},
		"pages": {nil, "/fares", `"Departures"`, `"Departures, all"`, nil},
	} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			server, author := newPlace(t), newPlace(t)
			server.git("init", "-q", "--bare", "-b", "main")
			state := func(what string) map[string]string {
				files := map[string]string{}
				folder := filepath.Join("testdata", "projects", kind, what)
				require.NoError(t, filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
					if err != nil || entry.IsDir() {
						return err
					}
					data, err := os.ReadFile(path)
					files["made/"+strings.TrimPrefix(filepath.ToSlash(path), filepath.ToSlash(folder)+"/")] = string(data)
					return err
				}))
				return files
			}
			author.commit("First", state("before"))
			author.git("remote", "add", "origin", "file://"+server.folder)
			author.git("push", "-q", "origin", "main")

			p := newPlace(t)
			p.home = server.home
			require.NoError(t, os.Remove(p.folder))
			author.git("clone", "-q", server.folder, p.folder)
			p.ok(append([]string{"init", "--yes", "--site", kind, "--output", "dist", "--run", "rm -rf dist && cp -r made dist"},
				test.init...)...)
			p.git("add", ".")
			p.git("commit", "-q", "-m", "How it is published")
			p.git("push", "-q", "origin", "main")
			_, notes, status := p.run("deploy")
			require.Zero(t, status, notes)
			assert.NotContains(t, notes, "warning")

			address, host := p.edge(), kind+".localhost"
			open := p.open(address, host, "/")
			p.open(address, host, test.route).load(test.route)
			assert.Contains(t, p.open(address, host, "/").lazy(), test.before)

			author.git("pull", "-q", "origin", "main")
			author.git("rm", "-q", "-r", "made")
			author.commit("Second", state("after"))
			author.git("push", "-q", "origin", "main")
			_, notes, status = author.ci(server, "main", "ORILLA_CI_BRANCH=main").run("follow", "--once")
			require.Zero(t, status, notes)
			assert.NotContains(t, notes, "warning")
			fresh := p.open(address, host, "/")
			require.Contains(t, fresh.lazy(), test.after)

			assert.Contains(t, open.lazy(), test.before, "the page that is open has its own chunk")
			fresh.load(test.route)
			for _, path := range test.forever {
				fresh.load(path)
			}
			for path, kept := range fresh.kept {
				immutable := strings.Contains(kept, "immutable")
				assert.False(t, immutable && !strings.Contains(path, "/assets/"), "%s: %s", path, kept)
			}
			for _, path := range test.forever { // in the first release
				if open.kept[path] != "" && strings.Contains(path, "index") {
					assert.Contains(t, open.kept[path], "immutable", path)
				}
			}
		})
	}
}
