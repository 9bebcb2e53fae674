package devserver

import (
	"context"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/html"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/httpanswer"
)

// LocalOptions say how local serving differs from an edge node.
type LocalOptions struct {
	Base        string                 // where the site lies: "" or "/prefix"
	Environment string                 // as which it is served
	Reload      bool                   // pages follow changes; else the bytes are exactly those of the edge
	Tell        func(httpanswer.Event) // is told of requests and of trouble; nil for nobody
	Now         func() time.Time       // nil: time.Now
	Wait        time.Duration          // how long an upstream may take to begin its answer; 0: 30 s
	Front       *Front                 // a development server that has the files; nil to answer from a folder
	Notice      func(fault.Notice)     // is told what a person should know, once; nil for nobody
}

// Local answers on the developer's own machine as an edge
// node would once the site is published. Open pages reload
// by themselves when it shows something new.
type Local struct {
	options LocalOptions
	proxies *httpanswer.Proxies
	current atomic.Pointer[Shown]
	pages   pages
	told    sync.Map // of what Notice was told
}

// NewLocal returns local serving that has nothing to show yet.
func NewLocal(options LocalOptions) *Local {
	if options.Now == nil {
		options.Now = time.Now
	}
	if options.Tell == nil {
		options.Tell = func(httpanswer.Event) {}
	}
	if options.Notice == nil {
		options.Notice = func(fault.Notice) {}
	}
	proxies := httpanswer.NewProxies(options.Wait)
	proxies.Set(httpanswer.Reach{All: true}, 0)
	return &Local{options: options, proxies: proxies}
}

// Shown is what local serving answers from. It never changes.
type Shown struct {
	Files []release.File
	// where the content of each file lies on this machine,
	// by its path in the release
	Sources  map[string]string
	Settings release.Settings
	Rules    *rules.Set
	// Config is what the environment as which it is served
	// answers with of itself; nil for nothing.
	Config *answer.EnvironmentConfig
	// Upstreams are the addresses of what proxy rules pass
	// requests on to, by name.
	Upstreams map[string]string

	site   answer.Site // of the files, with their settings
	byPath map[string]release.File
	record string                  // of the rules, to tell whether they changed
	kept   map[digest.Digest]place // content that is not read from Sources
}

// Lookup implements answer.Files.
func (s *Shown) Lookup(_ context.Context, path string) (release.File, bool, error) {
	file, ok := s.byPath[path]
	return file, ok, nil
}

// Open implements contents.
func (s *Shown) Open(_ context.Context, file release.File) (io.ReadSeeker, error) {
	return s.open(file)
}

// Show answers from now on from next, has open pages load again if something
// changed, and returns the paths of the files that did, and whether the rules
// did. The first call changes no file.
func (l *Local) Show(next Shown) (changed []string, ruled bool) {
	next.byPath = make(map[string]release.File, len(next.Files))
	for _, file := range next.Files {
		next.byPath[file.Path] = file
	}
	next.site = answer.Unpublished(&next, next.Files, next.Settings)
	next.site.Rules, next.site.Config = next.Rules, next.Config
	if next.Rules != nil {
		next.record = string(rules.Encode(next.Rules.Rules))
	}

	// In one step: a request has all of the old files or all of the new ones.
	before := l.current.Swap(&next)
	changed = different(before, &next)
	ruled = before == nil && next.record != "" || before != nil && before.record != next.record
	if len(changed) > 0 || ruled && before != nil || before == nil && l.options.Front == nil {
		l.pages.moved() // a page that waited for the first state is another one too
	}
	return changed, ruled
}

// Note has open pages show something above themselves, until a note about the same
// takes its place or has no text. What is answered stays.
func (l *Local) Note(note Note) { l.pages.note(note) }

// Reload has open pages load again, though nothing that is served may have changed.
func (l *Local) Reload() { l.pages.moved() }

// different returns the paths at which two states differ, in order.
func different(before, after *Shown) []string {
	if before == nil {
		return nil
	}
	var paths []string
	for path, file := range after.byPath {
		if old, ok := before.byPath[path]; !ok || old.Digest != file.Digest {
			paths = append(paths, path)
		}
	}

	for path := range before.byPath {
		if _, ok := after.byPath[path]; !ok {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	return paths
}

// ServeHTTP answers a request.
func (l *Local) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	// The reloading script's own requests come first; no site has such paths.
	if l.options.Reload && l.pages.serve(w, r) {
		return
	}
	counted := &httpanswer.CountingWriter{ResponseWriter: w}
	by, rule := l.serve(counted, r)
	event := httpanswer.Event{Time: time.Now(), Kind: "request", Method: r.Method, Path: r.URL.EscapedPath(),
		Status: counted.Status, By: by, Bytes: counted.Bytes}

	if rule != nil {
		event.Rule = rule.At.File + ":" + strconv.Itoa(rule.At.Line)
	}
	l.options.Tell(event)
}

// serve answers a request and returns what decided, and the rule if it was one.
func (l *Local) serve(w http.ResponseWriter, r *http.Request) (by string, rule *rules.Rule) {
	if l.options.Base != "" && r.URL.Path == "/" {
		return httpanswer.RedirectToBase(w, l.options.Base), nil
	}
	// Asked before what is shown: a page that is newer than it says loads once too
	// often, and one that is older would stay.
	at := l.pages.at()
	shown := l.current.Load()
	if shown == nil && l.options.Front == nil {
		return l.nothing(w, r), nil
	}

	if shown == nil {
		shown = &Shown{}
		shown.site.Files = shown
	}
	req := httpanswer.RequestOf(r, l.options.Base, l.options.Environment, l.options.Now())
	if l.options.Front != nil {
		return l.options.Front.serve(w, r, l, req, shown.site, shown.Upstreams)
	}

	a, err := answer.Decide(r.Context(), req, shown.site)
	switch {
	case err != nil:
	case a.Upstream != nil:
		l.pass(w, r, a, shown.Upstreams)
	// One line more in each page, and nothing else than at the edge.
	case l.options.Reload && a.File != nil && httpanswer.IsPage(a.File):
		l.noteBlocked(r, a, shown)
		err = httpanswer.SendPage(w, r, a, shown, reloadLine(at))
	default:
		err = httpanswer.Respond(w, r, a, shown)
	}

	if err != nil {
		l.trouble(r, http.StatusInternalServerError, err)
		return "trouble", nil
	}
	return httpanswer.Describe(a), a.Rule
}

// once reports whether something is told for the first time. What visitors of a
// site under work can ask for is bounded by whoever works on it.
func (l *Local) once(what string) bool {
	_, told := l.told.LoadOrStore(what, true)
	return !told
}

// noteBlocked tells of pages that do not load again, because of what the site says
// of itself.
func (l *Local) noteBlocked(r *http.Request, a answer.Answer, shown *Shown) {
	var policies []string
	for _, field := range a.Header {
		if strings.EqualFold(field.Name, "Content-Security-Policy") {
			policies = append(policies, field.Value)
		}
	}
	if content, err := shown.open(*a.File); err == nil {
		policies = append(policies, metaPolicies(content)...)
		if file, ok := content.(io.Closer); ok {
			file.Close() //nolint:errcheck // read only
		}
	}

	if directive := blocked(policies); directive != "" && l.once("csp "+directive) {
		l.options.Notice(fault.Notice{Code: "no-reload", What: r.URL.Path + " has a " +
			"Content-Security-Policy that blocks the reload script, by " + directive +
			", so such pages do not reload by themselves",
			Next: "reload them by hand, or allow 'self' in script-src and connect-src"})
	}
}

// metaPolicies returns the policies that a page says itself, in its first 64 kB.
func metaPolicies(page io.Reader) (policies []string) {
	tokens := html.NewTokenizer(io.LimitReader(page, 64<<10))
	for {
		switch tokens.Next() {
		case html.ErrorToken:
			return policies
		case html.StartTagToken, html.SelfClosingTagToken:
			token := tokens.Token()
			attributes := map[string]string{}
			for _, attribute := range token.Attr {
				attributes[attribute.Key] = attribute.Val
			}
			if token.Data == "meta" &&
				strings.EqualFold(attributes["http-equiv"], "Content-Security-Policy") {
				policies = append(policies, attributes["content"])
			}
			if token.Data == "body" {
				return policies
			}
		}
	}
}

// pass passes a request on to an upstream, and tells if that cannot be reached.
func (l *Local) pass(w http.ResponseWriter, r *http.Request, a answer.Answer, upstreams map[string]string) {
	if err := l.proxies.Pass(w, r, a, upstreams); err != nil && r.Context().Err() == nil {
		l.trouble(r, http.StatusBadGateway, err)
	}
}

// trouble tells of a request that could not be answered as it should.
func (l *Local) trouble(r *http.Request, status int, err error) {
	l.options.Tell(httpanswer.Event{Time: time.Now(), Kind: "trouble", Method: r.Method, Host: r.Host,
		Path: r.URL.EscapedPath(), Status: status, Text: err.Error()})
}

// nothing answers while there is nothing to show: with a page that waits, and shows
// what went wrong.
func (l *Local) nothing(w http.ResponseWriter, r *http.Request) string {
	l.wait(w, r, http.StatusServiceUnavailable, "Nothing to serve yet.")
	return "nothing"
}

// wait answers with a line of text, in a page that loads again when there is more.
func (l *Local) wait(w http.ResponseWriter, r *http.Request, status int, text string) {
	if !l.options.Reload {
		httpanswer.Say(w, r, status, text)
		return
	}
	page := `<!doctype html><meta charset="utf-8"><title>` + html.EscapeString(text) +
		`</title><p style="font:1rem system-ui;margin:3rem">` + html.EscapeString(text) + `</p>` +
		reloadLine(l.pages.at())
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Length", strconv.Itoa(len(page)))
	w.WriteHeader(status)
	if r.Method != http.MethodHead {
		io.WriteString(w, page) //nolint:errcheck // the browser has gone
	}
}
