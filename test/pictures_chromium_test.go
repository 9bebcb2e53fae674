//go:build chromium

package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ferry is a page with text, a table, a picture, fonts and something that moves.
func ferry(title string, rows, more string) string {
	return `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<link rel="stylesheet" href="/style.css"><title>` + title + `</title><header><svg width="60" height="40"><path d="M5 25h50l-8 12H13z" fill="#e8604c"/></svg>
<h1>` + title + `</h1></header><p>Five islands, one timetable: the boats sail in any weather but fog.</p>` + more + `
<table><tr><th>From Corvane to<th>Adult<th>Car</tr>` + rows + `</table><aside><h2>Notices</h2><p>The Dunlin is back.</p></aside><footer>Corvane Ferries</footer>`
}

const ferryStyle = `body { font: 17px/1.5 sans-serif; margin: 2rem; color: #17323a; background: #fcfaf3 } h1 { font-family: serif }
table { border-collapse: collapse } td, th { padding: .4rem 1rem; border-bottom: 1px solid #cdd } tr { animation: come .8s } @keyframes come { from { opacity: 0 } }
aside { float: right; width: 12rem; padding: 1rem; background: #f8d5cc; transition: all 1s }
@media (prefers-color-scheme: dark) { body { background: #161823; color: #eee } }`

// fares are rows of a table.
func fares(n int) (rows string) {
	for i := range n {
		rows += fmt.Sprintf("<tr><td>Harbour %d<td>%d.20<td>%d.00</tr>", i, 3+i, 20+i)
	}
	return rows
}

// TestPicturesInChromium is what no stand-in can tell: that a comma is found, that nothing else is, that a
// block that moved is a move, in a browser that people have.
func TestPicturesInChromium(t *testing.T) {
	p := newPlace(t)
	text := fares(12)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n", "out/style.css": ferryStyle,
		"out/index.html": ferry("Ferries", text, ""), "out/comma.html": ferry("Comma", text, "<p>Oskra, Tamsel, Velley and Harrow Skerry.</p>"),
		"out/line.html": ferry("Line", text, ""), "out/aside.html": ferry("Aside", text, ""), "out/dot.html": ferry("Dot", text, "<p>It sails.</p>")})
	p.ok("deploy")
	p.ok("pictures", "--page", "/comma", "--page", "/line")
	p.commit("Nothing that is seen", map[string]string{"out/robots.txt": "User-agent: *"})
	p.ok("deploy", "--rebuild")
	for _, one := range p.seen("production:1", "production:2", "--retake", "--page", "/comma", "--page", "/line", "--scheme", "both").Pages {
		assert.Equal(t, "same", one.State, one.Path)
		assert.Zero(t, one.Percent)
	}
	p.commit("Third", map[string]string{
		"out/comma.html": ferry("Comma", text, "<p>Oskra, Tamsel; Velley and Harrow Skerry.</p>"),
		"out/dot.html":   ferry("Dot", text, "<p>It sails,</p>"),
		"out/line.html":  ferry("Line", text, "<p>New this winter: a boat more to Strike.</p>"),
		"out/aside.html": strings.Replace(ferry("Aside", text, ""), "<aside>", `<aside style="float: left; margin-right: 3rem">`, 1)})
	p.ok("deploy")
	r := p.seen("production:2", "production")
	require.Len(t, r.Pages, 10)
	for _, one := range r.Pages {
		kinds := map[string]int{}
		for _, region := range one.Regions {
			kinds[region.Kind]++
		}
		t.Logf("%-8s %4d %-8s %.4f %% %v", one.Path, one.Width, one.State, one.Percent, kinds)
		switch one.Path {
		case "/":
			assert.Equal(t, "same", one.State)
		case "/comma", "/dot":
			assert.Equal(t, "changed", one.State, "%s in %d", one.Path, one.Width)
			assert.Equal(t, map[string]int{"changed": 1}, kinds)
			assert.Less(t, one.Percent, 0.3)
		case "/line":
			assert.Positive(t, kinds["moved"])
			assert.Less(t, one.Percent, 7.0)
		case "/aside":
			assert.Positive(t, kinds["moved"], "in %d", one.Width)
		}
	}
}

// TestABrowserRemembersNothingOfTheSideBefore: the same addresses, other bytes.
func TestABrowserRemembersNothingOfTheSideBefore(t *testing.T) {
	p := newPlace(t)
	script := func(word string) string {
		return "document.querySelector('h1').append(' " + word + "'); localStorage.word ??= '" + word + "'; document.querySelector('footer').append(localStorage.word)"
	}
	page := ferry("Ferries", fares(3), "") + "<script src=/app.js></script>"
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\nrules: site.rules\n",
		"site.rules":     "header  /app.js     cache-control: max-age=31536000\nheader  /style.css  cache-control: max-age=31536000\n",
		"out/index.html": page, "out/fares.html": page, "out/style.css": ferryStyle, "out/app.js": script("winter")})
	p.ok("deploy")
	p.commit("Second", map[string]string{"out/style.css": ferryStyle + " h1 { color: teal }", "out/app.js": script("summer")})
	p.ok("deploy")
	r := p.seen("production:1", "production")
	require.Len(t, r.Pages, 4)
	for _, one := range r.Pages {
		assert.Equal(t, "changed", one.State, one.Path)
		assert.GreaterOrEqual(t, len(one.Regions), 2, "the heading, and the footer")
	}
	again := p.seen("production:1", "production", "--retake")
	for i, one := range again.Pages {
		assert.Equal(t, r.Pages[i], one, "in any order")
	}
}

// TestWhatIsIgnoredIsLeftOut: what differs each time is named, and no difference.
func TestWhatIsIgnoredIsLeftOut(t *testing.T) {
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\npictures: {ignore: ['.clock', '#weather img']}\n",
		"out/index.html": ferry("Ferries", fares(3), "<p class=clock>10:24</p><div id=weather><img width=50 height=50 alt=rain></div>"), "out/style.css": ferryStyle})
	p.ok("deploy")
	p.commit("Second", map[string]string{
		"out/index.html": ferry("Ferries", fares(3), "<p class=clock>11:57</p><div id=weather><img width=50 height=50 alt=sun></div>")})
	p.ok("deploy")
	for _, one := range p.seen("production:1", "production").Pages {
		assert.Equal(t, "same", one.State)
	}
	p.write(map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n"})
	for _, one := range p.seen("production:1", "production").Pages {
		assert.Equal(t, "changed", one.State, "nothing is left out now, and pictures without that are others")
	}
}

// TestAHundredPagesTakeAMinute measures what is promised, on however busy a machine this is: the time is
// told, and bounded loosely.
func TestAHundredPagesTakeAMinute(t *testing.T) {
	p := newPlace(t)
	files := map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n", "out/style.css": ferryStyle, "out/index.html": ferry("Ferries", fares(5), "")}
	for i := range 99 {
		files[fmt.Sprintf("out/p%d.html", i)] = ferry(fmt.Sprint("Page ", i), fares(30), "")
	}
	p.commit("First", files)
	p.ok("deploy")
	for i := range 99 {
		files[fmt.Sprintf("out/p%d.html", i)] = ferry(fmt.Sprint("Page ", i), fares(31), "")
	}
	p.commit("Second", files)
	p.ok("deploy")
	began := time.Now()
	out, notes, status := p.run("pictures", "--most", "100")
	took := time.Since(began)
	require.Zero(t, status, notes)
	assert.Equal(t, 101, strings.Count(out, "\n")-1)
	assert.Contains(t, notes, "200 pictures")
	t.Logf("200 pictures of 100 pages: %s", took.Round(100*time.Millisecond))
	assert.Less(t, took, 3*time.Minute)
}
