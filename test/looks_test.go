package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatWouldNotWorkIsNotPutLive changes addresses and rules, which changes
// no page: all pages are looked at again.
func TestWhatWouldNotWorkIsNotPutLive(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	const icon = "<!doctype html><link rel=icon href=data:,>"
	at := func(address, more string) map[string]string {
		return map[string]string{"orilla.yaml": "site: corvane\nrules: [site.rules]\n" + more +
			"environments: {production: {addresses: [\"" + address + "\"]}}\n"}
	}
	p.commit("First", map[string]string{"site.rules": "# none\n", "index.html": icon +
		"<link rel=stylesheet href=/style.css><a href=fares>f</a>", "fares.html": icon +
		"<script src=/fares.js></script>", "style.css": "a{}", "fares.js": "1"})
	p.commit("At the top", at("https://www.corvane.example/", ""))
	p.ok("deploy")

	p.commit("Below another path", at("https://www.corvane.example/boats/", ""))
	type explained struct {
		Status int
		File   string
	}
	assert.Equal(t, explained{200, "fares.html"},
		document[explained](p, "explain", "https://www.corvane.example/fares", "--on", "production"),
		"what is live lies where it is live")
	assert.Equal(t, explained{200, "fares.html"},
		document[explained](p, "explain", "https://www.corvane.example/boats/fares"),
		"and the working tree where it will")
	p.commit("Below a path", at("https://www.corvane.example/ferries/", ""))
	notes := p.fails(4, "the home page's only style sheet would not load: /style.css",
		"deploy")
	assert.Contains(t, notes, "/ferries/style.css", "what would be right is said")
	assert.Len(t, p.history("production"), 1)
	p.commit("Below a path, and meant", at("https://www.corvane.example/ferries/",
		"check: {ignore: [home-broken]}\n"))
	_, notes, status := p.run("deploy")
	assert.Zero(t, status, notes)
	assert.Contains(t, notes, "2 wrong-base", "pages that did not change are looked at too")

	p.commit("Back", at("https://www.corvane.example/", ""))
	p.ok("deploy")
	p.commit("A rule", map[string]string{"site.rules": "rewrite /{rest:all} -> /\n"})
	notes = p.fails(4, "is answered with a page", "deploy")
	assert.Contains(t, notes, "fallback  /{rest:all}  -> /")
	p.commit("The right one", map[string]string{"site.rules": "fallback /{rest:all} -> /\n"})
	p.ok("deploy")
	p.commit("Gone", map[string]string{"index.html": icon + "<script src=/gone.js></script>"})
	p.fails(4, "the home page's only script would not load", "deploy")
}
