// Package check finds what would break before visitors do: in rules, in
// expectations, and in the pages of an output.
//
//	check.Rules(ctx, in)         // a rule that can never match, a loop, a redirect to nothing
//	check.Expectations(ctx, in)  // "expect /fares 200", asked of the release itself
//	check.Pages(ctx, out)        // links, scripts, styles and images that lead nowhere
//	check.Lost(ctx, before, in)  // addresses that answer today and would not tomorrow
//
// Nothing here guesses what an edge would do: each question is put to
// answer.Decide, the function that the edge uses, with the rules and the files of
// the release in question. A finding is an Error where the release would certainly
// do what nobody can want (a circle of redirects, a target that is not there), and
// a Warning where a page may know better: its links can be made by scripts.
package check

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/spelling"
)

// Input is a site to be checked.
type Input struct {
	Site    answer.Site // with the rules of Program, compiled
	Program *rules.Program
	Files   []release.File // all that Site finds, in order of path
	Own     []string       // absolute addresses of the site's environments, ending in a slash
	Places  []Place        // the hosts of the site's environments; none where the build was told its address
	Now     time.Time
}

// Rules finds mistakes that parsing cannot see, since they
// lie between rules, or between rules and files. Its time
// grows linearly with the number of rules and files.
func Rules(ctx context.Context, in Input) (finding.List, error) {
	c := &ruleCheck{Input: in, ctx: ctx, twice: map[string]*rules.Rule{}}
	for _, step := range []func() error{c.alone, c.covered, c.leads, c.hidden} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	c.found.Sort()
	return c.found, nil
}

// ruleCheck looks through the rules of a site, one after another.
type ruleCheck struct {
	Input
	ctx   context.Context
	found finding.List
	twice map[string]*rules.Rule // by their record
}

// rules returns the rules in the order in which they are tried.
func (c *ruleCheck) rules() []rules.Rule { return c.Site.Rules.Rules }

// add notes a finding at a rule; it is returned so that more can be said.
// Findings about the target point at the target, not at the verb.
func (c *ruleCheck) add(level finding.Level, code string, r *rules.Rule, format string, args ...any,
) *finding.Finding {
	at := r.At
	if slices.Contains(aboutTarget, code) {
		at = r.ToAt
	}
	c.found.Add(c.Program.Find(level, code, at, format, args...))
	return &c.found[len(c.found)-1]
}

// aboutTarget are the findings whose place is the target of a rule.
var aboutTarget = []string{"rule-no-target", "rule-own-address", "rule-two-hops", "rule-loop",
	"rule-missing-home"}

// place names another rule in a message.
func place(r *rules.Rule) string { return r.At.String() + ": " + r.String() }

// alone looks at each rule by itself.
func (c *ruleCheck) alone() error {
	for i := range c.rules() {
		r := &c.rules()[i]
		if r.Verb == rules.Redirect && (r.Code() == 301 || r.Code() == 308) && asks(r, rules.ByLanguage) {
			f := c.add(finding.Warning, "rule-permanent-language", r,
				"a permanent redirect by language: browsers cache it, even after the language changes")
			f.Next = "with 302"
		}

		if r.Verb == rules.Header && r.Name == "cache-control" && asks(r, rules.ByTime) &&
			strings.Contains(strings.ToLower(r.Value), "immutable") {
			c.add(finding.Error, "rule-immutable-time", r,
				"immutable under a time condition: browsers would cache it beyond that time").
				Next = "leave immutable out; Orilla shortens max-age to the next boundary"
		}

		for _, own := range c.Own {
			if rest, ok := strings.CutPrefix(r.Target.String(), strings.TrimSuffix(own, "/")); ok &&
				!r.Target.IsLocal() && (rest == "" || strings.ContainsRune("/?#", rune(rest[0]))) {
				f := c.add(finding.Warning, "rule-own-address", r,
					"the target is the site's own address, so every preview would lead there too")
				f.Next = "-> " + "/" + strings.TrimPrefix(rest, "/")
				break
			}
		}

		if r.Verb == rules.Missing && r.Target.IsLiteral() && r.Target.String() == "/" {
			c.add(finding.Warning, "rule-missing-home", r,
				"the not-found page itself answers 404, and this is the home page").
				Next = "create a separate page: /404.html"
		}
	}
	return nil
}

// asks reports whether a rule has a condition of a kind.
func asks(r *rules.Rule, kind rules.Kind) bool {
	return slices.ContainsFunc(r.When, func(c rules.Condition) bool { return c.Kind == kind })
}

// covered finds rules that are there twice, and rules that never come to be:
// one before them takes all their paths.
func (c *ruleCheck) covered() error {
	var open []rules.Rule // without conditions, which alone can take everything
	for _, r := range c.rules() {
		if len(r.When) == 0 && r.Verb.Phase() != rules.OnAnswer {
			open = append(open, r)
		}
	}

	before := rules.Compile(open)
	for i := range c.rules() {
		r := &c.rules()[i]
		record := string(rules.Encode([]rules.Rule{*r}))
		if first := c.twice[record]; first != nil {
			c.add(finding.Warning, "rule-twice", r, "the same rule is at %s",
				first.At).Next = "remove one of them"
			continue
		}

		c.twice[record] = r
		if r.Verb.Phase() == rules.OnAnswer {
			continue
		}
		before.Each(r.Verb.Phase(), r.Pattern.Sample(), &address.Query{}, false,
			func(first *rules.Rule) bool {
				if !earlier(first.At, r.At, c.Program) {
					return false
				}
				if first.Pattern.Covers(r.Pattern) && first.String() != r.String() {
					f := c.add(finding.Warning, "rule-shadowed", r,
						"this rule never applies: the one at %s matches all its paths", first.At)
					f.More, f.Next = []string{place(first)}, "put this rule above that one, or remove it"
					return false
				}
				return true
			})
	}

	return nil
}

// earlier compares positions by the order of the files.
func earlier(a, b finding.Position, p *rules.Program) bool {
	if a.File != b.File {
		return p.FileOrder(a.File) < p.FileOrder(b.File)
	}
	return a.Line < b.Line
}

// ask answers a request that meets the conditions of a
// rule, as far as one request can.
func (c *ruleCheck) ask(r *rules.Rule, path string) (answer.Answer, answer.Request, error) {
	req := c.request(r)
	req.Path, req.Query, _ = strings.Cut(path, "?")
	if query := rules.QueryFor(r); query != "" && req.Query == "" {
		req.Query = query
	}
	a, err := answer.Decide(c.ctx, req, c.Site)
	return a, req, err
}

// request is one that meets the conditions of a rule.
func (c *ruleCheck) request(r *rules.Rule) answer.Request {
	req := answer.Request{Method: http.MethodGet, Environment: answer.Production, Scheme: "https", Now: c.Now}
	for _, condition := range r.When {
		switch {
		case condition.Not:
		case condition.Kind == rules.ByHost:
			req.Host = condition.Values[0]
		case condition.Kind == rules.ByLanguage:
			req.AcceptLanguage = condition.Values[0]
		case condition.Kind == rules.ByEnvironment:
			req.Environment = condition.Values[0]
		case condition.Kind == rules.ByCookie:
			value := "1"
			if len(condition.Values) > 0 {
				value = condition.Values[0]
			}
			req.Cookie += condition.Name + "=" + value + "; "
		case condition.Kind == rules.ByTime && !condition.From.IsZero():
			req.Now = condition.From
		case condition.Kind == rules.ByTime:
			req.Now = condition.Until.Add(-time.Second)
		}
	}

	return req
}

// leads follows where rules lead: to nothing, in circles,
// or with a hop too many.
func (c *ruleCheck) leads() error {
	for i := range c.rules() {
		r := &c.rules()[i]
		var err error
		switch r.Verb {
		case rules.Redirect:
			err = c.follow(r)
		case rules.Rewrite, rules.Fallback, rules.Missing:
			err = c.names(r)
		}

		if err != nil {
			return err
		}
	}
	return nil
}

// names checks that the file is there which a rule names.
func (c *ruleCheck) names(r *rules.Rule) error {
	if !r.Target.IsLiteral() {
		return nil
	}
	path, _, err := address.Split(r.Target.String())
	if err != nil {
		return nil //nolint:nilerr // the parser has told of a target that is no address
	}

	// In the order in which the edge looks.
	for _, name := range rules.Candidates(path) {
		if _, ok, err := c.Site.Files.Lookup(c.ctx, name); err != nil || ok {
			return err
		}
	}

	f := c.add(finding.Error, "rule-no-target", r, "there is no file at %s", r.Target)
	f.Next = c.nearest(path)
	return nil
}

// nearest returns the path of a file that is spelled much like one that is not
// there; "" if none is.
func (c *ruleCheck) nearest(path address.Path) string {
	return nearestFile(c.Files, path.Name())
}

// follow goes along the redirects that begin with a rule.
func (c *ruleCheck) follow(r *rules.Rule) error {
	if !r.Target.IsLocal() {
		return nil
	}
	start := r.Pattern.Sample().String()
	a, req, err := c.ask(r, start)
	if err != nil || a.Rule == nil || a.Rule.At != r.At || a.Location == "" {
		return err // another rule takes it, or it would lead to itself
	}

	// As a browser follows, with the same bound on hops; the request keeps what
	// the rule asks for.
	path := []string{start}
	last := r
	for hops := 1; ; hops++ {
		location, _, _ := strings.Cut(a.Location, "#")
		if slices.Contains(path, location) || hops > 10 {
			f := c.add(finding.Error, "rule-loop", r, "redirect loop: %s",
				strings.Join(append(path, location), " -> "))
			if last != r {
				f.More = []string{place(last)}
			}
			return nil
		}

		path = append(path, location)
		req.Path, req.Query, _ = strings.Cut(location, "?")
		req.Method = http.MethodGet
		if !strings.HasPrefix(req.Path, "/") {
			return nil // it leads on to another site
		}

		if a, err = answer.Decide(c.ctx, req, c.Site); err != nil {
			return err
		}
		if a.Location == "" {
			break
		}

		if a.Rule != nil {
			last = a.Rule
		}
	}

	switch {
	case a.Status == http.StatusNotFound && r.Target.IsLiteral() && len(path) == 2:
		f := c.add(finding.Error, "rule-no-target", r, "nothing answers at %s: no file and no rule",
			path[len(path)-1])
		p, _, _ := address.Split(req.Path)
		f.Next = c.nearest(p)
	case len(path) > 2 && last != r:
		f := c.add(finding.Warning, "rule-two-hops", r, "redirect chain: %s",
			strings.Join(path, " -> "))
		f.More = []string{place(last)}
		if r.Target.IsLiteral() {
			f.Next = "-> " + path[len(path)-1]
		} else {
			f.Next = "point to the final target directly"
		}
	}

	return nil
}

// hidden finds rules that answer in the place of files.
func (c *ruleCheck) hidden() error {
	type pages struct {
		n       int
		example string
	}
	hides := map[finding.Position]*pages{}
	var order []*rules.Rule
	for _, file := range c.Files {
		at, _ := address.OfFile(strings.Split(file.Path, "/"))
		if media.ClassOf(file.Path) == media.Page && file.Path == "404.html" {
			continue
		}
		req := answer.Request{Method: http.MethodGet, Path: at.String(), Environment: answer.Production,
			Scheme: "https", Now: c.Now}

		// The first rule without conditions that takes a page's own address
		// hides the page from everybody.
		var by *rules.Rule
		c.Site.Rules.Each(rules.First, at, &address.Query{}, false, func(r *rules.Rule) bool {
			if len(r.When) == 0 {
				by = r
			}
			return by == nil
		})

		if by == nil {
			continue
		}
		a, err := answer.Decide(c.ctx, req, c.Site)
		if err != nil {
			return err
		}

		if a.Rule == nil || a.Rule.At != by.At {
			continue // it would lead to itself
		}
		if hides[by.At] == nil {
			hides[by.At] = &pages{example: at.String()}
			order = append(order, by)
		}
		hides[by.At].n++
	}

	for _, r := range order {
		h := hides[r.At]
		if r.Pattern.IsLiteral() && r.Verb == rules.Redirect {
			c.add(finding.Error, "rule-over-page", r, "this rule hides the page at %s",
				h.example).Next = "remove the rule or the page, or give the rule a condition"
			continue
		}

		what := "file"
		if h.n > 1 {
			what = "files"
		}
		c.add(finding.Warning, "rule-hides-pages", r, "this hides %d %s of the output, such as %s", h.n,
			what, h.example)
	}

	return nil
}

// nearestFile proposes a file whose path is like one that is not there.
func nearestFile(files []release.File, name string) string {
	best, bestScore := "", 0
	// Compared without what addresses do not show: case, .html, index.
	wanted := strings.ToLower(strings.TrimSuffix(strings.TrimSuffix(name, "/index.html"), ".html"))
	base := wanted[strings.LastIndexByte(wanted, '/')+1:]
	if base == "" {
		return ""
	}

	for _, file := range files {
		have := strings.ToLower(strings.TrimSuffix(strings.TrimSuffix(file.Path, "/index.html"), ".html"))
		score := 0
		switch {
		case have == wanted:
			score = 3
		case strings.HasSuffix(have, "/"+base) || have == base:
			score = 2
		case strings.HasPrefix(have[strings.LastIndexByte(have, '/')+1:], base):
			score = 1
		}

		if score > bestScore {
			best, bestScore = answer.Address(file.Path), score
		}
	}

	if best == "" {
		best = alike(files, name)
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("there is %s", best)
}

// manyFiles is how many files of a folder are compared letter by letter.
const manyFiles = 2000

// alike returns the address of the file in the same folder
// whose name is spelled most alike, or "".
func alike(files []release.File, name string) string {
	folder := name[:strings.LastIndexByte(name, '/')+1]
	var addresses []string
	for _, file := range files {
		if rest, ok := strings.CutPrefix(file.Path, folder); ok && strings.Count(rest, "/") < 2 &&
			len(addresses) < manyFiles {
			addresses = append(addresses, answer.Address(file.Path))
		}
	}

	// Only the same folder, and not too many: comparing each pair of a large
	// site would take longer than the deploy.
	nearest := spelling.Nearest("/"+name, addresses)
	if nearest == "" || len(nearest) < len(folder)+2 {
		return ""
	}
	return nearest
}
