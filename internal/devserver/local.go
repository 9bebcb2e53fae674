package devserver

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/answer"
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
}

// Local answers on the developer's own machine as an edge
// node would once the site is published. Open pages reload
// by themselves when it shows something new.
type Local struct {
	options LocalOptions
	proxies *httpanswer.Proxies
	current atomic.Pointer[Shown]
	pages   pages
}

// NewLocal returns local serving that has nothing to show yet.
func NewLocal(options LocalOptions) *Local {
	if options.Now == nil {
		options.Now = time.Now
	}
	if options.Tell == nil {
		options.Tell = func(httpanswer.Event) {}
	}
	return &Local{options: options, proxies: httpanswer.NewProxies(httpanswer.Reach{All: true}, options.Wait)}
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
	record string // of the rules, to tell whether they changed
}

// Lookup implements answer.Files.
func (s *Shown) Lookup(_ context.Context, path string) (release.File, bool, error) {
	file, ok := s.byPath[path]
	return file, ok, nil
}

// Open implements contents.
func (s *Shown) Open(_ context.Context, file release.File) (io.ReadSeeker, error) {
	data, err := os.ReadFile(s.Sources[file.Path])
	return bytes.NewReader(data), err
}

// Show answers from now on from next, has open pages reload if something
// changed, and returns the paths of the files that did, and whether the rules
// did. What Fail said is over. The first call changes no file.
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
	l.pages.show(len(changed) > 0 || ruled && before != nil)
	return changed, ruled
}

// Fail lets open pages show what went wrong, above what they show: the last
// good state goes on being answered.
func (l *Local) Fail(what string) { l.pages.fail(what) }

// Reload has open pages reload, though nothing that is served may have changed.
func (l *Local) Reload() { l.pages.show(true) }

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
		err = httpanswer.SendPage(w, r, a, shown, reloadLine)
	default:
		err = httpanswer.Respond(w, r, a, shown)
	}

	if err != nil {
		l.trouble(r, http.StatusInternalServerError, err)
		return "trouble", nil
	}
	return httpanswer.Describe(a), a.Rule
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

// nothing answers while there is nothing to show: with what went wrong, if
// something did, in a page that waits.
func (l *Local) nothing(w http.ResponseWriter, r *http.Request) string {
	if !l.options.Reload {
		return httpanswer.Say(w, r, http.StatusServiceUnavailable, "There is nothing to serve yet.")
	}
	page := `<!doctype html><meta charset="utf-8"><title>Nothing to serve yet</title><p style="font:1rem system-ui;margin:3rem">There is nothing to serve yet.</p>` + reloadLine
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Length", strconv.Itoa(len(page)))
	w.WriteHeader(http.StatusServiceUnavailable)
	if r.Method != http.MethodHead {
		io.WriteString(w, page) //nolint:errcheck // the browser has gone
	}
	return "nothing"
}
