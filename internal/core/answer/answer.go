// Package answer decides what a URL answers: one pure function from a request and
// a release to an answer, used alike by local serving, checks, explanations and
// edge nodes.
//
//	a, err := answer.Decide(ctx, site, answer.Request{…"/about"…})
//
//	/about/        200, about/index.html
//	/about         301 to /about/: one page, one address
//	/planner/7     200, planner/index.html, by a fallback rule
//	/nowhere       404, 404.html
//
// An Answer holds what is to be sent (status, fields, the file or the target) and
// why (By, and the rule with its place), so that `orilla explain` needs no second
// implementation that could differ. Decide reads nothing but the site's index,
// does not know the time but from the request, and never writes.
//
// docs/answers.md is the reference; package cases holds one table that every
// server of Orilla's is tested with.
package answer

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// Production is the environment whose answers may be indexed by search engines.
const Production = "production"

// Request is what of a request can decide the answer.
type Request struct {
	Method string
	Path   string // as it was sent, still escaped, without the query
	Query  string // as it was sent, without the question mark

	Scheme string // "http" or "https"
	Host   string // in lower case, with its port if one was sent
	Base   string // where the site lies on its host: "" or "/prefix"
	// as it is shown: production, staging, preview/winter;
	// release for the address of a release
	Environment string
	Now         time.Time

	AcceptLanguage string // the header fields of these names
	AcceptEncoding string
	// what the client has (RFC 9842)
	AvailableDictionary, DictionaryID string
	Cookie                            string
	// the visitor sent the password, or came by a shared
	// link; it matters only where Site.Realm is set
	Admitted bool
}

// Files finds files in one release.
type Files interface {
	Lookup(ctx context.Context, path string) (release.File, bool, error)
}

// Site is what an environment serves at one moment.
type Site struct {
	Files    Files
	Settings release.Settings
	Rules    *rules.Set
	// earlier releases, the newest first, of which
	// what open pages load is still answered
	Recent []Earlier
	Config *EnvironmentConfig // what the environment says of itself; nil for nothing
	// Semantics is how the release is answered; 0 is 1. From semantics 2 on,
	// Unchanging are the files that never change.
	Semantics  int
	Unchanging map[string]bool
	// Release is what the files are of, and Dictionaries are what visitors of earlier ones
	// have; nil where nobody could know.
	Release      release.ID
	Dictionaries Dictionaries
	Realm        string // what a password is asked for (RFC 7617); "" where everybody may look
}

// EnvironmentConfig is the document with which an
// environment says of itself where the release runs. It
// answers as a file at its path would, and before one.
type EnvironmentConfig struct {
	Path string // escaped, below the base path: /settings.json
	Data []byte // JSON
}

// EnvironmentConfigOf returns what an environment answers with at a
// path; nil where it says nothing.
//
// It is how one release goes through all environments: what differs between
// them is asked for at this path, and not built in.
func EnvironmentConfigOf(settings []byte, path string) *EnvironmentConfig {
	if settings == nil {
		return nil
	}
	return &EnvironmentConfig{Path: path, Data: settings}
}

// Open returns the site that a release is, without earlier releases. It loads
// the rules and compiles them.
//
// The result never changes and may be used from several goroutines. The error
// is rules.ErrDamaged, release.ErrDamaged, or that of reading.
func Open(ctx context.Context, reader *release.Reader) (Site, error) {
	site := Site{Files: reader, Settings: reader.Root.Settings, Semantics: reader.Root.Semantics,
		Release: reader.ID}
	// Read once, when a release becomes live, so that no request reads anything
	// but the index.
	unchanging, err := reader.Immutable(ctx)
	if err != nil {
		return Site{}, err
	}

	site.Unchanging = unchanging
	if reader.Root.Rules == nil {
		return site, nil
	}
	data, err := reader.Rules(ctx)
	if err != nil {
		return Site{}, err
	}

	list, err := rules.Decode(data)
	// The root says how many there are: a list that lost its end would quietly
	// serve pages that rules keep away.
	if err == nil && int64(len(list)) != reader.Root.Rules.Count {
		err = rules.ErrDamaged
	}
	if err != nil {
		return Site{}, fmt.Errorf("release %s, rules %s: %w", reader.ID.Short(), reader.Root.Rules.Digest,
			err)
	}
	site.Rules = rules.Compile(list)
	return site, nil
}

// Unpublished returns the site that files and settings would be as a release. It
// has no rules.
func Unpublished(find Files, list []release.File, settings release.Settings) Site {
	immutable, semantics := release.Immutable(list, settings)
	site := Site{Files: find, Settings: settings, Semantics: semantics,
		Unchanging: make(map[string]bool, len(immutable))}
	for _, path := range immutable {
		site.Unchanging[path] = true
	}
	return site
}

// By says what decided the answer: the verb of a rule, or one of the following.
type By string

// What can decide an answer besides a rule.
const (
	ByFile    By = "file"         // a file of the release
	ByRecent  By = "recent asset" // what a page of an earlier release loads
	BySlash   By = "address"      // the page has another address, or slashes were repeated
	ByMissing By = "missing"      // no file: 404
	ByMethod  By = "method"       // the method is not one that files answer
	ByRequest By = "request"      // the request could not be understood
	ByAccess  By = "password"     // the visitor may not look
	BySetting By = "settings"     // what the environment says of itself

	ByDictionary By = "dictionary" // of the pages, for browsers
)

// Field is one header field of an answer, with the rule that set it; nil for a
// field that every such answer has.
type Field struct {
	Name, Value string
	Rule        *rules.Rule
}

// Answer is what to send. File is the content; if nil, Text is, as plain text.
type Answer struct {
	Status   int // 0 if the request is passed on
	By       By
	Rule     *rules.Rule // that decided; nil for none
	File     *release.File
	Config   *EnvironmentConfig // in the place of a file
	Text     string
	Location string // of a redirect; it is among the header fields too
	Upstream *Upstream
	Header   []Field
	// ETag is the strong entity tag of the answer, with quotes; set for status
	// 200 only. It covers the bytes and all that rules set.
	ETag string
	// Codings are those in which File may be sent, in the order in which the request
	// prefers them; empty if it is to be sent as it is. Whoever sends it in one says so
	// in Content-Encoding and in the ETag: see EncodedTag.
	Codings []coding.Coding
	// Dictionary is by what File may be sent shorter, before all Codings; nil for nothing.
	Dictionary *Dictionary
	// Timed tells that the answer may be another at another time.
	Timed bool

	withheld []string // names of fields that header rules took away
}

// Upstream is where a request is passed on to.
type Upstream struct {
	Name   string // of an upstream, whose address the environment gives
	Origin string // scheme and host, where the rule gives them
	Path   string // escaped, with the query
	// Below is where the site's own addresses begin that lead to addresses of
	// the upstream below Of: "/api/" and "/v1/". Both are empty where the rule
	// does not pass on all below a path.
	Below, Of string

	finish func(status int, header http.Header)
}

// Finish changes the header of an upstream's response as the rules say, and
// adds what caches must know.
func (u *Upstream) Finish(status int, header http.Header) { u.finish(status, header) }

// Back maps a Location that points at the upstream to the site's own address.
// origin is the upstream's address without its path.
//
// Without it, an upstream that redirects to its own /login would lead visitors
// out of the site:
//
//	Location: http://10.0.0.7:9000/v1/login   becomes /api/login
func (u *Upstream) Back(location, origin, prefix string) string {
	rest := strings.TrimPrefix(location, origin)
	// Only what is below the part that the rule passes on can be named as an
	// address of the site.
	if path, ok := strings.CutPrefix(rest, prefix+u.Of); ok && u.Of != "" && strings.HasPrefix(rest, "/") &&
		!strings.HasPrefix(rest, "//") {
		return u.Below + path
	}
	return location
}

// Where writes where the request goes.
func (u *Upstream) Where() string {
	if u.Name != "" {
		return u.Name + ":" + u.Path
	}
	return u.Origin + u.Path
}

// Reserved is the first segment of the addresses that no
// file of a site can have.
const Reserved = ".orilla"

// MaxPath is how long, in bytes, the path of a request may be.
const MaxPath = 8192

const (
	allowed     = "GET, HEAD, OPTIONS"
	revalidate  = "no-cache"
	forever     = "public, max-age=31536000, immutable" // RFC 8246
	neverStored = "no-store"
)

// Decide answers a request. It reads nothing but its
// arguments; the error is that of a lookup.
//
// It is safe for concurrent use and does no I/O of its own: what it waits for
// is Site.Files. What cannot be understood is an answer (400, 404, 414), never
// an error.
func Decide(ctx context.Context, req Request, site Site) (Answer, error) {
	d := newDecision(ctx, req, site)
	return d.answer()
}

// Explain answers a request and tells how the answer came to be, step by step.
//
// The answer is that of Decide, by the same code; each step says which rule was
// looked at and why it did or did not apply.
func Explain(ctx context.Context, req Request, site Site) (Answer, []Step, error) {
	d := newDecision(ctx, req, site)
	d.steps = &[]Step{}
	a, err := d.answer()
	return a, *d.steps, err
}

// Step is one thing that was considered.
type Step struct {
	Rule    *rules.Rule // nil if no rule
	Applied bool
	Text    string
}

// decision is one request being answered, and what is learnt on the way: what
// could have decided otherwise (Vary), and until when it holds.
type decision struct {
	ctx     context.Context
	req     Request
	site    Site
	path    address.Path
	query   address.Query
	visitor rules.Visitor

	known bool // the path was understood, so rules may say something of it

	vary  []string  // the request's fields that decided, or could have
	next  time.Time // when a time condition may turn
	timed bool
	steps *[]Step // nil if nobody asks
}

// newDecision prepares deciding one request. Nothing is looked up yet: what a
// rule asks of a visitor is found out when the rule asks.
func newDecision(ctx context.Context, req Request, site Site) *decision {
	d := &decision{ctx: ctx, req: req, site: site, query: address.Query{Raw: req.Query}}
	d.visitor = rules.Visitor{
		Host: hostName(req.Host), Environment: req.Environment, Now: req.Now, Query: &d.query,
		Languages:      site.Settings.Languages,
		AcceptLanguage: req.AcceptLanguage, Cookie: req.Cookie,
	}
	return d
}

// answer decides, and gives the answer its header. Refusals get a header too: a
// browser must not guess their type.
func (d *decision) answer() (Answer, error) {
	a, refused := d.refuse()
	if !refused {
		var err error
		if a, err = d.decide(); err != nil {
			return Answer{}, err
		}
	}
	d.finish(&a)
	return a, nil
}

// refuse splits the path, and answers what needs no look at rules or files.
func (d *decision) refuse() (Answer, bool) {
	// Before anything about the path is looked at: who may not look must not be
	// able to find out what exists.
	if d.site.Realm != "" && !d.req.Admitted {
		return challenge(d.site.Realm), true
	}
	// The order matters: a path that is too long is not even split.
	rest, ok := cutBase(d.req.Path, d.req.Base)
	switch {
	case len(d.req.Path) > MaxPath:
		return text(http.StatusRequestURITooLong, ByRequest, "The address is too long."), true
	case ok && rest == "" && d.req.Base != "":
		return d.redirect(address.Path{Slash: true}), true
	case !ok || rest == "":
		return text(http.StatusNotFound, ByMissing, "There is no site at this path; it begins at "+d.req.Base+
			"/."), true
	}

	var repeated bool
	var err error
	if d.path, repeated, err = address.Split(rest); err != nil {
		return text(http.StatusBadRequest, ByRequest, "The address "+err.Error()+"."), true
	}

	// Reserved in every version, so that links that open a site can never be
	// taken by a file or a rule.
	if len(d.path.Names) > 0 && d.path.Names[0] == Reserved {
		return text(http.StatusNotFound, ByRequest, "Addresses below /"+Reserved+"/ are reserved for "+
			"Orilla."), true
	}
	d.known = true
	if repeated && d.reads() {
		d.step(nil, true, "repeated slashes are redirected to one")
		return d.redirect(d.path), true
	}

	return Answer{}, false
}

// challenge asks for the password of a realm.
func challenge(realm string) Answer {
	return text(http.StatusUnauthorized, ByAccess, "This page is protected by a password.",
		Field{Name: "WWW-Authenticate", Value: access.Challenge(realm)})
}

// Refuse is what Decide answers to a visitor who may not
// look, whatever is asked for.
func Refuse(realm string) Answer {
	d := newDecision(context.Background(), Request{}, Site{Realm: realm})
	a := challenge(realm)
	d.finish(&a)
	return a
}

// reads reports whether the method only reads.
func (d *decision) reads() bool {
	return d.req.Method == http.MethodGet || d.req.Method == http.MethodHead
}

// decide goes through what can answer, in order: rules that come before files,
// files, rules that come after them, assets of recent releases, and last the
// page for what is missing.
func (d *decision) decide() (Answer, error) {
	// The order that docs/answers.md promises: rules that come first, files,
	// assets of earlier releases, fallbacks, and the page for what is missing.
	a, done, err := d.first()
	if err != nil || done {
		return a, err
	}
	if !d.reads() {
		return d.method(), nil
	}

	rewritten := a.By == By(rules.Rewrite) // to a file that is not there
	// A rewrite to a file that is not there still means another page than the
	// one that was asked for.
	if !rewritten {
		if own, is := d.own(); is {
			return own, nil
		}
		if a, done, err = d.files(); err != nil || done {
			return a, err
		}
	}

	if a, done, err = recent(d); err != nil || done {
		return a, err
	}
	if a, done, err = d.fallback(); err != nil || done {
		return a, err
	}
	return d.missing(http.StatusNotFound)
}

// method answers methods other than GET and HEAD, which no file has: OPTIONS
// with what there is, all else with 405.
func (d *decision) method() Answer {
	if d.req.Method == http.MethodOptions {
		return Answer{Status: http.StatusNoContent, By: ByMethod,
			Header: []Field{{Name: "Allow", Value: allowed}}}
	}
	return text(http.StatusMethodNotAllowed, ByMethod, "Files answer "+allowed+".",
		Field{Name: "Allow", Value: allowed})
}

// step notes what was considered, for whoever asked how the answer came about.
func (d *decision) step(rule *rules.Rule, applied bool, text string) {
	if d.steps != nil {
		*d.steps = append(*d.steps, Step{rule, applied, text})
	}
}

// text answers with one line of plain text. Errors of the request are not kept
// by caches; a 404 is asked for again each time.
func text(status int, by By, line string, header ...Field) Answer {
	// What may be another answer in a moment is asked for again. A refusal is
	// not even kept.
	caching := neverStored
	if status == http.StatusNotFound || status == http.StatusGone {
		caching = revalidate
	}
	return Answer{Status: status, By: by, Text: line + "\n",
		Header: append(header, Field{Name: "Cache-Control", Value: caching})}
}

// redirect answers 301 with another path of the same site. It is revalidated
// each time, so that a rollback takes it back.
func (d *decision) redirect(to address.Path) Answer {
	location := d.req.Base + to.String()
	if d.req.Query != "" {
		location += "?" + address.Clean(d.req.Query)
	}
	return Answer{Status: http.StatusMovedPermanently, By: BySlash, Location: location,
		Header: []Field{{Name: "Cache-Control", Value: revalidate}}}
}

// add adds a field. A name that is there already gets a second line, which is
// what Set-Cookie and Link need.
func (a *Answer) add(name, value string) {
	a.Header = append(a.Header, Field{Name: name, Value: value})
}
