package check

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// Fallback returns the rule that would answer a path that no file has: that of
// the application whose page is the nearest one above. It is "" if there is no
// such page.
//
// Whether a page is an application cannot be known; that it shows nothing
// without its scripts, or that its scripts change the address, are good signs.
func Fallback(ctx context.Context, out Output, path address.Path) (string, error) {
	c := newPageCheck(out)
	shell, err := c.shell(ctx, path)
	if err != nil || shell == "" {
		return "", err
	}
	return fallbackTo(shell), nil
}

// fallbackTo writes the rule that answers with an application what is below it.
func fallbackTo(shell string) string {
	return fmt.Sprintf("fallback  %s/{rest:all}  -> %s", strings.TrimSuffix(shell, "/"), shell)
}

// shell returns the address of the nearest page above a path that is an
// application's; "" for none.
func (c *pageCheck) shell(ctx context.Context, p address.Path) (string, error) {
	if media.Extension(p.Name()) != "" || len(p.Names) == 0 {
		return "", nil
	}
	for i := len(p.Names) - 1; i >= 0; i-- {
		page := address.Path{Names: append(p.Names[:i:i], homePage)}.Name()
		is, err := c.application(ctx, page)
		if err != nil {
			return "", err
		}
		if is {
			return address.Encode(p.Names[:i], true), nil
		}
	}
	return "", nil
}

// application reports whether a page seems to find its way in the browser: it
// shows nothing without its scripts, or it is the only page of the site and its
// scripts change the address. Generators whose pages are all there have such
// scripts too.
func (c *pageCheck) application(ctx context.Context, name string) (bool, error) {
	known, seen := c.applications[name]
	if seen {
		return known, nil
	}
	file, ok, err := c.Site.Files.Lookup(ctx, name)
	if err == nil && ok && file.Size <= maxPage {
		var data []byte
		if data, err = c.Open(ctx, file); err == nil {
			known, err = findsItsWay(ctx, c, name, readPage(data))
		}
	}
	if err == nil {
		c.applications[name] = known
	}
	return known, err
}

// findsItsWay looks through the scripts that a page loads.
func findsItsWay(ctx context.Context, c *pageCheck, name string, p page) (bool, error) {
	from := c.from(name, p.base)
	if from == nil {
		return false, nil
	}
	for _, ref := range p.references {
		target, below, own := c.resolve(from, ref.target)
		if !own || !below || ref.kind != aScript {
			continue
		}
		a, err := c.ask(ctx, target)
		if err != nil {
			return false, err
		}
		if a.File == nil || media.ClassOf(a.File.Path) != media.Script || a.File.Size > maxPage {
			continue
		}
		if !p.text {
			return true, nil
		}

		if !single(c.Files) {
			return false, nil
		}
		script, err := c.Open(ctx, *a.File)
		if err != nil {
			return false, err
		}
		// What changes the address without a request, and hears of it (WHATWG
		// HTML, section 7.2.5).
		if bytes.Contains(script, []byte("pushState")) && bytes.Contains(script, []byte("popstate")) {
			return true, nil
		}
	}
	return false, nil
}

// single reports whether the site has one page, apart from those for what is
// missing.
func single(files []release.File) bool {
	pages := 0
	for i := 0; i < len(files) && pages < 2; i++ {
		name := files[i].Path
		if media.ClassOf(name) == media.Page && name != "404.html" && name != "200.html" {
			pages++
		}
	}
	return pages == 1
}

// noFallback finds an application that is all of the site, whose addresses
// answer 404 when they are loaded anew.
func (c *pageCheck) noFallback(ctx context.Context, found *finding.List) error {
	if !single(c.Files) {
		return nil
	}
	is, err := c.application(ctx, homePage)
	if err != nil || !is {
		return err
	}
	// No file has this address, and hardly any rule is just for it.
	route := "/any/thing"
	a, err := c.ask(ctx, route)
	if err != nil || a.By != answer.ByMissing && a.By != answer.By(rules.Missing) {
		return err
	}

	found.Add(finding.Finding{Level: finding.Warning, Code: "no-fallback",
		Position: finding.Position{File: homePage},
		What: "the site is one page with scripts; if it has client-side routes, opening or " +
			"refreshing one answers 404",
		Next: "in a rules file (rules: in orilla.yaml): " + fallbackTo("/")})
	return nil
}
