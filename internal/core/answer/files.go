package answer

import (
	"net/http"
	"strings"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// notFoundPage answers for what is missing, where no rule
// names another page. It is itself never found.
const notFoundPage = "404.html"

// located is the file that a path means, and the address
// at which it is answered.
type located struct {
	file      release.File
	at        address.Path  // another one than was asked for if moved
	moved     bool          // asking there redirects to at
	canonical *address.Path // set if the page is answered here too, but has an address of its own
}

// findable reports whether a file can have this path: no segment holds a slash.
func findable(p address.Path) bool {
	for _, name := range p.Names {
		if strings.Contains(name, "/") {
			return false
		}
	}
	return true
}

// locate finds the file that a path means.
func (d *decision) locate(p address.Path) (found located, ok bool, err error) {
	if !findable(p) {
		return located{}, false, nil
	}
	// Up to three files can be meant by one address. Which one answers, and
	// where the others redirect, never depends on who asks.
	name, last := p.Name(), len(p.Names)-1
	isIndex := last >= 0 && p.Names[last] == "index"

	lookup := func(name string) bool {
		if err == nil {
			found.file, ok, err = d.site.Files.Lookup(d.ctx, name)
		}
		return err == nil && ok
	}

	moved := func(names []string, slash bool) (located, bool, error) {
		found.at, found.moved = address.Path{Names: names, Slash: slash}, true
		return found, true, nil
	}
	if p.Slash {
		if lookup(strings.TrimPrefix(name+"/index.html", "/")) {
			found.at = p
			return found, true, nil
		}
		if name == "" || name+".html" == notFoundPage || !lookup(name+".html") {
			return located{}, false, err
		}

		if isIndex {
			return moved(p.Names[:last], true)
		}
		return moved(p.Names, false)
	}

	switch {
	case lookup(name):
		return exact(d, found, p)
	case lookup(name + ".html"):
		if isIndex {
			return moved(p.Names[:last], true)
		}
		found.at = p
		return found, true, nil
	case lookup(name + "/index.html"):
		return moved(p.Names, true)
	}

	return located{}, false, err
}

// exact is the file that the path spells. A page has an
// address of its own besides.
func exact(d *decision, found located, p address.Path) (located, bool, error) {
	found.at = p
	canonical, other := address.OfFile(p.Names)
	// /a.html is the page /a. One address or a canonical link: search engines
	// must not see two pages.
	if other && !isMissingPage(d, found.file.Path, p) {
		if d.site.Settings.OneAddress {
			found.at, found.moved = canonical, true
		} else {
			found.canonical = &canonical
		}
	}
	return found, true, nil
}

// isMissingPage reports whether a file answers for what is missing, at a path.
// Asked for by its own address it answers 404 too: with 200, search engines
// would list it.
func isMissingPage(d *decision, file string, p address.Path) bool {
	return file == notFoundPage || d.site.Rules.IsMissingPage(file, p)
}

// files answers from the release itself.
func (d *decision) files() (Answer, bool, error) {
	found, ok, err := d.locate(d.path)
	switch {
	case err != nil || !ok:
		d.step(nil, false, "no file at this address")
		return Answer{}, false, err
	case found.moved:
		d.step(nil, true, found.file.Path+" is at "+found.at.String())
		return d.redirect(found.at), true, nil
	case isMissingPage(d, found.file.Path, d.path):
		d.step(nil, true, found.file.Path+
			" is the not-found page, so its own address answers 404 too")
		return missingPage(found.file, http.StatusNotFound), true, nil
	}

	d.step(nil, true, "the file "+found.file.Path)
	a := d.page(found.file, ByFile)
	if found.canonical != nil {
		a.add("Link", "<"+d.req.Base+found.canonical.String()+`>; rel="canonical"`)
	}
	return a, true, nil
}

// own answers with what the environment says of itself.
func (d *decision) own() (Answer, bool) {
	own := d.site.Config
	if own == nil || d.path.Slash || d.path.String() != own.Path {
		return Answer{}, false
	}
	d.step(nil, true, "the environment's settings")
	a := Answer{Status: http.StatusOK, By: BySetting, Config: own}
	a.add("Cache-Control", revalidate)
	return a, true
}

// page answers 200 with a file. Only the address of the
// file itself may be kept for good.
func (d *decision) page(file release.File, by By) Answer {
	a := Answer{Status: http.StatusOK, By: by, File: &file}
	if by == ByFile && d.site.Immutable(file.Path) ||
		by == ByRecent && d.site.Semantics < release.Semantics2 {
		a.add("Cache-Control", forever)
	} else {
		a.add("Cache-Control", revalidate)
	}
	return a
}

// recent answers with what a page of an earlier release loads: one that was
// opened before a flip goes on working.
func recent(d *decision) (Answer, bool, error) {
	name := d.path.Name()
	if d.path.Slash || len(d.site.Recent) == 0 || !findable(d.path) || !d.site.Carries(name) {
		return Answer{}, false, nil
	}
	// Semantics 3 carries films, models and data only as far as their names told
	// their content: what else is fetched by programs, at an address that lasts,
	// is gone once it was removed.
	listed := d.site.Semantics >= release.Semantics3 && !media.IsLoaded(name)

	// The newest first: it is what most open pages are of.
	for _, earlier := range d.site.Recent {
		file, ok, err := earlier.Lookup(d.ctx, name)
		if err == nil && ok && listed {
			ok, err = earlier.Immutable(d.ctx, name)
		}
		if err != nil {
			return Answer{}, false, err
		}
		if ok {
			d.step(nil, true, "the asset "+file.Path+" of an earlier release")
			return d.page(file, ByRecent), true, nil
		}
	}

	return Answer{}, false, nil
}

// missing answers 404, or 410: with the page that a rule
// names, with the site's own, or with a line.
func (d *decision) missing(status int) (Answer, error) {
	// A program asks for it, and cannot read a page.
	if d.site.isAsset(d.path) {
		d.step(nil, true, "addresses with this extension get one line of text, not a page")
		return text(status, ByMissing, "There is no such file on this site."), nil
	}
	var a Answer

	err := d.consider(rules.OnNothing, func(r *rules.Rule, t rules.Trial) (string, bool, error) {
		file, ok, err := named(d, t.Path)
		if err != nil || !ok {
			return "but there is no file at " + t.Path.String(), false, err
		}
		a = missingPage(file, status)
		a.By, a.Rule = By(rules.Missing), r
		return "the page is " + file.Path, true, nil
	})
	if err != nil || a.Status != 0 {
		return a, err
	}

	file, ok, err := d.site.Files.Lookup(d.ctx, notFoundPage)
	switch {
	case err != nil:
		return Answer{}, err
	case ok:
		d.step(nil, true, "the not-found page is "+notFoundPage)
		return missingPage(file, status), nil
	}

	d.step(nil, true, "there is no "+notFoundPage+", so a line of text")
	line := "There is no page at this address."
	if status == http.StatusGone {
		line = "The page at this address is gone."
	}
	return text(status, ByMissing, line), nil
}

// missingPage answers with a page for what is missing. It may be kept, but is
// asked for anew each time: once the page exists, visitors must see that.
func missingPage(file release.File, status int) Answer {
	return Answer{Status: status, By: ByMissing, File: &file,
		Header: []Field{{Name: "Cache-Control", Value: revalidate}}}
}

// named finds the file that a rule names by its path or its address.
func named(d *decision, p address.Path) (release.File, bool, error) {
	if !findable(p) {
		return release.File{}, false, nil
	}
	for _, name := range rules.Candidates(p) {
		if file, ok, err := d.site.Files.Lookup(d.ctx, name); err != nil || ok {
			return file, ok, err
		}
	}
	return release.File{}, false, nil
}
