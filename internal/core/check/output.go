package check

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// Output is an output whose pages are to be checked.
type Output struct {
	Input
	// where the site lies on its host: "" or "/prefix"
	Base string
	Open func(ctx context.Context, file release.File) ([]byte, error) // the content of a file
	Only func(file release.File) bool                                 // the pages to look at; nil for all
	// is told how many were looked at; may be nil
	Done func(pages int)
}

// maxPage is how many bytes of a page or style sheet are
// read. Longer ones are data more than text.
const maxPage = 10 << 20

// Pages finds what the pages and style sheets of an output name and
// nobody would answer: files that are not there, assets under a
// wrong base path, links through a redirect, links that only a
// client-side route could answer, and what browsers ask for unasked.
// Each address is told once, with the number of places that name it.
func Pages(ctx context.Context, out Output) (finding.List, error) {
	// Reading takes all processors and collects what pages name; judging then
	// goes through that in order, so that the same output always has the same
	// findings.
	c := newPageCheck(out)
	if err := c.read(ctx); err != nil {
		return nil, err
	}
	return c.report(ctx)
}

// newPageCheck begins a look through an output.
func newPageCheck(out Output) *pageCheck {
	return &pageCheck{Output: out, strays: map[Place]*stray{}, foreign: map[string]*named{},
		answers: map[string]answer.Answer{}, named: map[string]*named{}, applications: map[string]bool{}}
}

// tally counts pages, to tell what all of them lack from what one lacks.
type tally struct {
	pages int
	icons int    // pages that name an icon
	first string // the first page, in order of path
}

// pageCheck is one look through the pages of a site. Pages are read by several
// goroutines at once; what they find is noted under the mutex.
type pageCheck struct {
	Output
	mutex sync.Mutex
	tally
	answers map[string]answer.Answer // by path and query
	named   map[string]*named        // by path and query
	strays  map[Place]*stray
	foreign map[string]*named // by host and path
	home    []loaded          // what the home page loads

	applications map[string]bool // by page: whether it is one, as far as that was asked
}

// loaded is a script or a style sheet that the home page loads.
type loaded struct {
	reference
	target string // path and query, below the base path
	below  bool   // the path lies below the base path
	own    bool   // it is of this site, not of another one
}

// homePage is the page at the site's address.
const homePage = "index.html"

// named is an address that pages name.
type named struct {
	target string // path and query, below the base path
	raw    string // as the first one writes it
	kind   kind
	file   string // the first file that names it, in order of path
	line   int
	files  int
	below  bool // the path lies below the base path
}

// read reads every page, style sheet and manifest that counts, several at once,
// and notes what each refers to. Files larger than maxPage are passed over:
// nobody writes pages of that size by hand.
func (c *pageCheck) read(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	// Pages, style sheets and manifests name files; scripts are only searched
	// for addresses of the site's other environments.
	for _, file := range c.Files {
		isPage, extension := media.ClassOf(file.Path) == media.Page, media.Extension(file.Path)
		if !isPage && extension != ".css" && extension != ".webmanifest" && (len(c.Places) == 0 ||
			!slices.Contains(written, extension)) || file.Size > maxPage || c.Only != nil && !c.Only(file) {
			continue
		}

		group.Go(func() error {
			data, err := c.Open(ctx, file)
			if err != nil {
				return err
			}
			c.addPlaces(file, data)

			switch {
			case isPage:
				c.addPage(file, readPage(data))
			case extension == ".css":
				c.add(file, readStyle(data), "")
			case extension == ".webmanifest":
				c.add(file, readManifest(data), "")
			}

			return nil
		})
	}

	return group.Wait()
}

// addPage notes what a page says of itself and what it loads. The page for what
// is missing is shown at any address, so what it lacks does not count against
// the site.
func (c *pageCheck) addPage(file release.File, p page) {
	c.add(file, p.references, p.base)
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if file.Path != "404.html" {
		c.pages++
	}

	if p.icon && file.Path != "404.html" {
		c.icons++
	}
	if c.first == "" || file.Path < c.first {
		c.first = file.Path
	}
	if c.Done != nil {
		c.Done(c.pages)
	}
}

// add notes what a file names, once for each file.
func (c *pageCheck) add(file release.File, references []reference, base string) {
	from := c.from(file.Path, base)
	if from == nil {
		return
	}

	// A page that links to another ten times names it once.
	seen := map[string]bool{}
	for _, ref := range references {
		target, below, ok := c.resolve(from, ref.target)
		if file.Path == homePage && ref.kind.works() {
			c.mutex.Lock()
			c.home = append(c.home, loaded{ref, target, below, ok})
			c.mutex.Unlock()
		}

		if !ok {
			c.addForeign(file, from, ref)
		}
		// What takes a link may refuse a form.
		key := target
		if ref.kind == aForm {
			key = http.MethodPost + " " + target
		}
		if !ok || seen[key] {
			continue
		}

		seen[key] = true
		c.mutex.Lock()
		n := c.named[key]
		// Of all files that name something, the first in order of path is told,
		// whichever goroutine came first.
		if n == nil {
			n = &named{target: target, raw: ref.target, kind: ref.kind, file: file.Path, line: ref.line,
				below: below}
			c.named[key] = n
		} else if file.Path < n.file {
			n.file, n.line, n.raw, n.kind = file.Path, ref.line, ref.target, ref.kind
		}
		n.files++
		c.mutex.Unlock()
	}
}

// from returns the address that the references of a file begin at; nil if it has
// none. base is that of the page's base element.
func (c *pageCheck) from(name, base string) *url.URL {
	// A host that is nobody's (RFC 2606), so that whatever stays on it is of
	// this site.
	from, err := url.Parse("https://site.invalid" + c.Base + answer.Address(name))
	if err != nil {
		return nil
	}
	// <base href> moves all references of the page (HTML, section 4.2.3).
	if base != "" {
		if other, err := from.Parse(base); err == nil {
			return other
		}
	}
	return from
}

// resolve returns the path and query that a reference means on this site,
// without the base path. ok is false for other sites.
func (c *pageCheck) resolve(from *url.URL, text string) (target string, below, ok bool) {
	u, err := from.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" ||
		strings.HasPrefix(strings.TrimSpace(text), "#") {
		return "", false, false // a place in the page itself, or no page at all
	}

	// Absolute addresses of the site's own environments are references of the
	// site too.
	if u.Host != "site.invalid" {
		own := slices.ContainsFunc(c.Own, func(own string) bool {
			at, err := url.Parse(own)
			return err == nil && at.Host == u.Host
		})
		if !own {
			return "", false, false
		}
	}

	escaped := u.EscapedPath()
	if escaped == "" {
		escaped = "/"
	}
	// /ferries-old is not below /ferries.
	rest, below := strings.CutPrefix(escaped, c.Base)
	if !below || rest != "" && rest[0] != '/' {
		rest, below = escaped, false
	}

	if rest == "" {
		rest = "/"
	}
	if u.RawQuery != "" {
		rest += "?" + u.RawQuery
	}
	return rest, below, true
}

// ask answers an address of the site, once.
func (c *pageCheck) ask(ctx context.Context, target string) (answer.Answer, error) {
	// Every page of a site names the same style sheet.
	if a, ok := c.answers[target]; ok {
		return a, nil
	}
	a, err := answer.Decide(ctx, c.request(target), c.Site)
	if err == nil {
		c.answers[target] = a
	}
	return a, err
}

// request is what a visitor of production sends to see an address.
func (c *pageCheck) request(target string) answer.Request {
	req := answer.Request{Method: http.MethodGet, Environment: answer.Production, Scheme: "https", Now: c.Now}
	req.Path, req.Query, _ = strings.Cut(target, "?")
	return req
}

// report turns what was noted into findings. What many pages refer to is told
// once, with the first file that does, in order of path: the same output gives
// the same report.
func (c *pageCheck) report(ctx context.Context) (finding.List, error) {
	var found finding.List
	list := make([]*named, 0, len(c.named))
	for _, n := range c.named {
		list = append(list, n)
	}

	slices.SortFunc(list, func(a, b *named) int {
		return cmp.Or(cmp.Compare(a.file, b.file), cmp.Compare(a.line, b.line),
			cmp.Compare(a.target, b.target))
	})
	for _, n := range list {
		f, err := c.judge(ctx, n)
		if err != nil {
			return nil, err
		}
		if f.Code != "" {
			f.Level, f.File, f.Line = finding.Warning, n.file, n.line
			if n.files > 1 {
				f.More = append(f.More, fmt.Sprintf("named by %d files", n.files))
			}
			found.Add(f)
		}
	}

	if err := c.blank(ctx, &found); err != nil {
		return nil, err
	}
	if err := c.noFallback(ctx, &found); err != nil {
		return nil, err
	}
	// Told once for the site, and only if all pages were read.
	if c.pages > 0 && c.icons < c.pages && c.Only == nil {
		if a, err := c.ask(ctx, "/favicon.ico"); err != nil {
			return nil, err
		} else if a.Status == http.StatusNotFound {
			found.Add(finding.Finding{Level: finding.Warning, Code: "no-icon",
				Position: finding.Position{File: c.first},
				What: fmt.Sprintf("there is no /favicon.ico, and %d of %d pages name no icon, so "+
					"browsers request it in vain", c.pages-c.icons, c.pages),
				Next: `add favicon.ico, or name an icon in each page: <link rel="icon" href="...">`})
		}
	}
	more, err := c.elsewhere(ctx)
	return append(found, more...), err
}

// works reports whether a page does not look or work as it
// should without what it names.
func (k kind) works() bool { return k == aScript || k == aStyle }

// blank finds a home page that loads scripts or style sheets, none of which
// would answer: visitors would see it without style, or wait for ever.
func (c *pageCheck) blank(ctx context.Context, found *finding.List) error {
	if len(c.home) == 0 {
		return nil
	}
	// One thing that answers is enough: the page shows something, and what is
	// missing is told by itself.
	next := ""
	for _, one := range c.home {
		if !one.own {
			return nil // what another site answers cannot be known
		}
		a, err := c.ask(ctx, one.target)
		if err != nil {
			return err
		}

		answers := a.Status < 400 && !c.isPage(a) // also by a redirect, or by an upstream
		if one.below && answers || !one.below && a.Status != http.StatusOK {
			return nil // or it lies outside, and what is there is not ours
		}
		if f, err := c.judge(ctx, &named{target: one.target, raw: one.reference.target, kind: one.kind,
			below: one.below}); err != nil {
			return err
		} else if next == "" {
			next = f.Next
		}
	}

	f := finding.Finding{Level: finding.Warning, Code: "home-broken",
		Position: finding.Position{File: homePage, Line: c.home[0].line}, Next: next,
		What: fmt.Sprintf("none of the home page's scripts and style sheets "+
			"would load, %s first", c.home[0].reference.target)}
	if len(c.home) == 1 {
		f.What = fmt.Sprintf("the home page's only %s would not load: %s", c.home[0].kind,
			c.home[0].reference.target)
	}
	found.Add(f)
	return nil
}

// isPage reports whether an answer is a page, whatever was asked for.
func (c *pageCheck) isPage(a answer.Answer) bool {
	return a.Status == http.StatusOK && a.File != nil && media.ClassOf(a.File.Path) == media.Page
}

// judge says what is wrong with an address that pages name.
func (c *pageCheck) judge(ctx context.Context, n *named) (finding.Finding, error) {
	var f finding.Finding
	if n.kind == aForm {
		return c.judgeForm(ctx, n)
	}
	// The commonest reason for a site that stays on "loading": built for the
	// root, served below a path.
	if !n.below {
		a, err := c.ask(ctx, n.target)
		if err == nil && a.Status == http.StatusOK {
			f.Code, f.What = "wrong-base", fmt.Sprintf(
				"%s is outside the site, which is below %s/", n.raw, c.Base)
			f.Next = "the correct base path is " + c.Base + "/: " + c.Base + n.target
		}
		return f, err // what else lies on the host is not ours
	}

	a, err := c.ask(ctx, n.target)
	if err != nil {
		return f, err
	}
	switch {
	case n.kind.works() && c.isPage(a) && a.By == answer.By(rules.Fallback):
		return c.missing(ctx, n, a)
	case n.kind.works() && c.isPage(a) && a.Rule != nil:
		f.Code, f.What = "hidden-asset", fmt.Sprintf(
			"the %s %s is answered with a page, /%s, so it will not load", n.kind, n.raw,
			a.File.Path)
		f.More = []string{"by " + place(a.Rule)}
		f.Next = fmt.Sprintf("a fallback answers only where there is no file: fallback  %s  -> %s",
			a.Rule.Pattern.String(), a.Rule.Target.String())
	case a.Location != "" && a.Status != http.StatusFound && a.Status != http.StatusTemporaryRedirect &&
		a.Status != http.StatusSeeOther:
		f.Code, f.What = "link-redirected", fmt.Sprintf("%s passes through a redirect to %s", n.raw,
			a.Location)
		f.Next = "name " + c.Base + a.Location
		if a.Rule != nil {
			f.More = []string{"by " + place(a.Rule)}
		}
	case a.Status >= 400 && a.Status < 500:
		return c.missing(ctx, n, a)
	}

	return f, nil
}

// judgeForm says whether a form that is sent with POST reaches anybody.
func (c *pageCheck) judgeForm(ctx context.Context, n *named) (finding.Finding, error) {
	req := c.request(n.target)
	req.Method = http.MethodPost
	a, err := answer.Decide(ctx, req, c.Site)
	if err != nil || !n.below || a.Status != http.StatusMethodNotAllowed {
		return finding.Finding{}, err
	}
	to := n.raw
	if to == "" {
		to = "its own page"
	}
	return finding.Finding{Code: "form-refused",
		What: fmt.Sprintf("the form sends POST to %s, which files do not accept: 405", to),
		Next: fmt.Sprintf("pass it to a server: proxy  %s  -> NAME:/PATH, or put the server's "+
			"address in the form",
			req.Path)}, nil
}

// missing says why nothing answers at an address, as far as that can be known.
func (c *pageCheck) missing(ctx context.Context, n *named, a answer.Answer) (finding.Finding, error) {
	var f finding.Finding
	target, _, _ := strings.Cut(n.target, "?")
	p, _, err := address.Split(target)
	if err != nil {
		//nolint:nilerr // that is the finding
		return finding.Finding{Code: "missing-" + missingCode(n.kind), What: n.raw + " " +
			err.Error()}, nil
	}

	// The same without what comes first: the page was
	// built for another base path.
	for i := 1; i < len(p.Names); i++ {
		inner, err := c.ask(ctx, address.Encode(p.Names[i:], p.Slash))
		if err != nil {
			return f, err
		}
		if inner.By == answer.ByFile && n.kind != aPage {
			f.Code, f.What = "wrong-base", fmt.Sprintf(
				"%s does not exist, but %s does: the output was built for the base path %s/", n.raw,
				"/"+inner.File.Path, address.Encode(p.Names[:i], false))
			f.Next = fmt.Sprintf("the correct base path is %s/", c.Base)
			return f, nil
		}
	}

	f.Code, f.What = "missing-"+missingCode(n.kind), fmt.Sprintf("there is no %s %s", n.kind, n.raw)
	if a.Status == http.StatusGone {
		f.What = fmt.Sprintf("410 Gone answers for the %s %s", n.kind, n.raw)
	}
	f.Next = nearestFile(c.Files, p.Name())

	// A link into an application. It works when it is clicked there, and breaks
	// when the page is loaded anew.
	if n.kind == aPage {
		shell, err := c.shell(ctx, p)
		if err != nil {
			return f, err
		}
		if shell != "" {
			f.More = append(f.More, "if the application at "+shell+" handles it as a client-side "+
				"route, it needs a fallback")
			f.Next = fallbackTo(shell)
		}
	}
	return f, nil
}

// missingCode is the end of a finding's code, which people put into
// check.ignore: missing-page, missing-file.
func missingCode(k kind) string {
	if k == aPage {
		return "page"
	}
	return "file"
}

// Lost finds addresses that a release answered and another one
// would not any more, each with the line that leads its visitors
// on. before is the release that is live, with all its files.
//
// Only what something outside the site can link to is an address: see linked.
func Lost(ctx context.Context, before Input, in Input) (finding.List, error) {
	var found finding.List
	if len(before.Files) == 0 && before.Site.Rules == nil {
		return nil, nil
	}
	// A page that moved has the same bytes elsewhere: the best proposal for a
	// redirect that there is.
	byDigest := map[string]string{}
	there := map[string]bool{}
	for _, file := range in.Files {
		byDigest[file.Digest.String()] = answer.Address(file.Path)
		there[file.Path] = true
	}

	add := func(at, kept, proposal string) error {
		req := answer.Request{Method: http.MethodGet, Path: at, Environment: answer.Production,
			Scheme: "https", Now: in.Now}
		a, err := answer.Decide(ctx, req, in.Site)
		if err != nil || a.Status != http.StatusNotFound {
			return err
		}

		found.Add(finding.Finding{Level: finding.Warning, Code: "address-lost",
			Position: finding.Position{File: kept},
			What:     at + " answers today and would become 404", Next: proposal})
		return nil
	}

	pages := map[string]bool{}
	for _, file := range before.Files {
		if media.ClassOf(file.Path) == media.Page {
			pages[pageName(file.Path)] = true
		}
	}
	for _, file := range before.Files {
		if there[file.Path] || file.Path == "404.html" || !linked(file.Path, before.Site) ||
			media.ClassOf(file.Path) == media.Data && pages[pageName(file.Path)] {
			continue // what is fetched to show a page goes with it: fares.html, fares.txt
		}
		at := answer.Address(file.Path)
		proposal := fmt.Sprintf("gone      %s", at)

		if to := byDigest[file.Digest.String()]; to != "" {
			proposal = fmt.Sprintf("redirect  %s  -> %s", at, to)
		} else if to, ok := strings.CutPrefix(nearestFile(in.Files, file.Path), "there is "); ok &&
			media.ClassOf(file.Path) == media.Page {
			proposal = fmt.Sprintf("redirect  %s  -> %s", at, to)
		}

		if err := add(at, file.Path, proposal); err != nil {
			return nil, err
		}
	}

	for _, r := range keptAlive(before.Site.Rules) {
		if err := add(address.Encode(r.Pattern.Literal(), false), "", r.String()); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// keptAlive lists the rules, of which nil has none, that keep one old address
// alive. Of patterns with placeholders nobody can say which addresses were in use.
func keptAlive(set *rules.Set) []*rules.Rule {
	var list []*rules.Rule
	for i := 0; set != nil && i < len(set.Rules); i++ {
		r := &set.Rules[i]
		leads := r.Verb == rules.Redirect || r.Verb == rules.Rewrite
		if leads && r.Pattern.IsLiteral() && len(r.When) == 0 {
			list = append(list, r)
		}
	}
	return list
}

// linked reports whether something outside a site may link to one of its files:
// a page, a feed, a picture or a download. What only the site's own pages name
// goes with them: scripts and style sheets, fonts, whatever has a new name with
// each content, and data below a name that begins with an underscore, as
// generators call what is their own (_data/fares.json).
func linked(name string, site answer.Site) bool {
	if media.IsCompanion(name) {
		return false
	}
	switch media.ClassOf(name) {
	case media.Page:
		return true
	case media.Script, media.Style, media.Font:
		return false
	case media.Data:
		if strings.HasPrefix(name, "_") || strings.Contains(name, "/_") {
			return false
		}
	}
	return !site.Immutable(name)
}

// pageName is what a page and what goes with it have in common: its path without
// the extension, and without index.
func pageName(name string) string {
	stem, _ := media.Split(name)
	return path.Join(path.Dir(name), strings.TrimSuffix(stem, "index"))
}

// Accepted is a finding that is known: by its code, and by a glob of the file
// or address it is about. An empty one means any.
type Accepted struct{ Code, Path string }

// formerly has codes that findings had before, by which configurations may still
// accept them.
var formerly = map[string]string{"client-route": "missing-page"}

// Without leaves out warnings that the configuration accepts, by code or by
// file. Errors stay.
func Without(found finding.List, accepted []Accepted) finding.List {
	return slices.DeleteFunc(slices.Clone(found), func(f finding.Finding) bool {
		return f.Level != finding.Error && slices.ContainsFunc(accepted, func(a Accepted) bool {
			return (a.Code == "" || a.Code == f.Code || formerly[a.Code] == f.Code) &&
				(a.Path == "" || doublestar.MatchUnvalidated(a.Path, path.Clean(f.File)))
		})
	})
}

// Key tells one finding from another between two releases
// of a site, wherever it stands in its file.
func Key(f finding.Finding) string { return f.Code + "\n" + f.File + "\n" + f.What }

// Stop makes errors of the warnings whose codes are
// listed; "all" lists every one.
func Stop(found finding.List, codes []string) {
	for i := range found {
		if slices.Contains(codes, found[i].Code) || slices.Contains(codes, "all") {
			found[i].Level = finding.Error
		}
	}
}
