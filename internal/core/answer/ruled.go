package answer

import (
	"net/http"
	"net/url"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/rules"
)

// consider goes through the rules of a phase whose pattern takes
// the path, in order, until use takes one. The rules behind that
// one are asked only which fields of the request could have led
// to them, so that every answer of an address varies alike.
func (d *decision) consider(phase rules.Phase,
	use func(*rules.Rule, rules.Trial) (why string, taken bool, err error),
) error {
	var failed error
	taken := false
	d.site.Rules.Each(phase, d.path, &d.query, d.steps != nil, func(r *rules.Rule) bool {
		t := r.Try(d.path, &d.visitor)
		for _, field := range t.Vary {
			if !slices.Contains(d.vary, field) {
				d.vary = append(d.vary, field)
			}
		}

		// Something was decided already. What follows is looked at only for the
		// fields of the request that could have decided otherwise, which a
		// cache must know (Vary).
		if taken {
			return len(t.Vary) > 0 || !t.Applies
		}
		d.timed = d.timed || t.Timed
		// A cache may keep the answer no longer than until the next time
		// condition turns.
		if !t.Next.IsZero() && (d.next.IsZero() || t.Next.Before(d.next)) {
			d.next = t.Next
		}

		switch {
		case t.Failed != nil:
			d.step(r, false, "not: "+t.Failed.String())
			return true
		case t.Climbs:
			d.step(r, false, "a placeholder would become a dot segment")
			return true
		case !t.Applies:
			return true
		}

		var why string
		why, taken, failed = use(r, t)
		if why != "" {
			d.step(r, taken, why)
		}
		return failed == nil && (!taken || len(t.Vary) > 0)
	})

	return failed
}

// first looks for a redirect, gone, rewrite or proxy. Not done,
// with By set to rewrite, means that a rewrite names no file:
// then no file is looked up at the path that was asked for.
func (d *decision) first() (a Answer, done bool, err error) {
	err = d.consider(rules.First, func(r *rules.Rule, t rules.Trial) (string, bool, error) {
		var why string
		var taken bool
		switch r.Verb {
		case rules.Redirect:
			a, why, taken, err = d.redirectTo(r, t)
			done = taken
		case rules.Gone:
			a, err = d.missing(http.StatusGone)
			a.By, a.Rule, done, taken = By(rules.Gone), r, true, true
		case rules.Rewrite:
			a, why, err = d.rewrite(r, t)
			done, taken = a.Status != 0, true
		case rules.Proxy:
			a, why = d.proxy(r, t)
			done, taken = true, true
		}

		return why, taken, err
	})
	return a, done && err == nil, err
}

// redirectTo answers a redirect rule. A target on the site itself is looked up
// first: where it would only lead on, to the address with a final slash say,
// the visitor is sent there at once. The second result says what came of the
// rule, the third whether it answers; it does not if it would lead to where the
// visitor is.
func (d *decision) redirectTo(r *rules.Rule, t rules.Trial) (Answer, string, bool, error) {
	path := t.Path
	var location string
	if r.Target.IsLocal() {
		// A target that itself redirects to its one address would cost visitors
		// a second round trip.
		found, ok, err := d.locate(path)
		if err != nil {
			return Answer{}, "", false, err
		}
		if ok && found.moved {
			path = found.at // no second hop
		}
		location = d.req.Base + path.String()
	} else {
		location = r.Target.Origin + path.String()
	}

	if query := r.Query(t.Expansion, &d.query); query != "" {
		location += "?" + query
	}
	// A browser would follow it for ever.
	if isHere(d, location) {
		return Answer{}, "it would redirect to itself", false, nil
	}

	location += t.Fragment
	return Answer{
		Status: r.Code(), By: By(rules.Redirect), Rule: r, Location: location,
		Header: []Field{{Name: "Cache-Control", Value: revalidate}},
	}, "to " + location, true, nil
}

// isHere reports whether a Location without its fragment
// is the address that was asked for.
func isHere(d *decision, location string) bool {
	if rest, ok := strings.CutPrefix(location, d.req.Scheme+"://"+d.req.Host); ok && d.req.Host != "" &&
		strings.HasPrefix(rest, "/") {
		location = rest
	}
	here := d.req.Base + d.path.String()
	if d.req.Query != "" {
		here += "?" + address.Clean(d.req.Query)
	}
	return location == here
}

// rewrite answers with the file at another path. If there is none, the answer
// is empty but for By: a release whose rewrite leads nowhere answers with what
// is missing, not with the next rule.
func (d *decision) rewrite(r *rules.Rule, t rules.Trial) (Answer, string, error) {
	if !d.reads() {
		a := d.method()
		a.Rule = r
		return a, "rewrites answer " + allowed, nil
	}

	file, ok, err := named(d, t.Path)
	if err != nil || !ok {
		return Answer{By: By(rules.Rewrite)}, "but there is no file at " + t.Path.String(), err
	}
	a := d.page(file, By(rules.Rewrite))
	a.Status, a.Rule = r.Code(), r
	// A page that says that the site is closed must not be kept beyond that.
	if a.Status >= 500 {
		a.Header = []Field{{Name: "Cache-Control", Value: neverStored}}
	}

	return a, "the file " + file.Path, nil
}

// proxy answers that the request is passed on. Methods that could turn a proxy
// against the network (RFC 9110, sections 9.3.6 and 9.3.8) are refused.
func (d *decision) proxy(r *rules.Rule, t rules.Trial) (Answer, string) {
	if d.req.Method == http.MethodConnect || d.req.Method == http.MethodTrace {
		a := text(http.StatusMethodNotAllowed, ByMethod, "Orilla does not pass this method on.",
			Field{Name: "Allow", Value: "GET, HEAD, OPTIONS, POST, PUT, PATCH, DELETE"})
		a.Rule = r
		return a, d.req.Method + " is not passed on"
	}

	if climbsDecoded(t.Path) {
		a := text(http.StatusBadRequest, ByRequest, "The address has an encoded dot segment.")
		a.Rule = r
		return a, "an encoded dot segment is not passed on"
	}

	// The request goes on as it is, but for its path and query, which the rule
	// decides.
	to := &Upstream{Name: r.Target.Upstream, Origin: r.Target.Origin, Path: t.Path.String()}
	if query := r.Query(t.Expansion, &d.query); query != "" {
		to.Path += "?" + query
	}
	to.finish = d.finishUpstream
	if of, ok := t.Of(r); ok {
		to.Below, to.Of = d.req.Base+r.Below(d.path), of
	}

	return Answer{By: By(rules.Proxy), Rule: r, Upstream: to}, "to " + to.Where()
}

// climbsDecoded reports whether a segment of a path becomes a dot segment if it is
// decoded again: servers behind others sometimes do.
func climbsDecoded(path address.Path) bool {
	for _, name := range path.Names {
		for range 3 {
			decoded, err := url.PathUnescape(name)
			if err != nil || decoded == name {
				break
			}
			if name = decoded; address.Climbs(name) {
				return true
			}
		}
	}
	return false
}

// fallback answers with the page of a client-side application. A missing script
// is never answered with a page.
func (d *decision) fallback() (a Answer, done bool, err error) {
	// A missing script answered with a page is what leaves sites on "loading":
	// the browser runs HTML as a script.
	asset := d.site.isAsset(d.path)
	err = d.consider(rules.OnNoFile, func(r *rules.Rule, t rules.Trial) (string, bool, error) {
		if asset && !r.NamesExtension() {
			return "addresses with this extension are not pages", false, nil
		}
		file, ok, err := named(d, t.Path)
		if err != nil || !ok {
			return "but there is no file at " + t.Path.String(), false, err
		}

		a, done = d.page(file, By(rules.Fallback)), true
		a.Rule = r
		return "the file " + file.Path, true, nil
	})

	return a, done, err
}
