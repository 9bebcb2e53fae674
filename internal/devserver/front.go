package devserver

import (
	"context"
	"errors"
	"io"
	"log"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/httpanswer"
)

// Front stands in front of a generator's own development server:
// rules and headers are applied here, files come from there.
// What the server answers with success counts as a file; much of
// what is asked of it while developing is none of a release.
type Front struct {
	server *url.URL
	client *http.Client
	gone   atomic.Bool // it did not answer when it was last asked
}

// NewFront returns a Front for the server at an absolute URL.
func NewFront(server *url.URL) *Front {
	transport := &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 32}
	return &Front{
		server: server,
		client: &http.Client{Transport: transport, Timeout: httpanswer.AnswerTimeout,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }},
	}
}

// Answers reports whether the development server is there.
func (f *Front) Answers(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	response, err := f.ask(ctx, f.server.String())
	if err == nil {
		response.Body.Close() //nolint:errcheck // only its status counts
	}
	return err == nil
}

// watch tells when a server that did not answer does again: pages that wait for it
// load then.
func (f *Front) watch(ctx context.Context, back func()) {
	ticker := time.NewTicker(250 * time.Millisecond)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		// Only while somebody waits for it: a server under work is asked often enough.
		if f.gone.Load() && f.Answers(ctx) {
			f.gone.Store(false)
			back()
		}
	}
}

// files returns what tells which files the development server has.
func (f *Front) files() answer.Files { return &frontFiles{f, map[string]bool{}} }

// ask asks the development server for an address, as a browser would for a
// page.
func (f *Front) ask(ctx context.Context, address string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", "text/html,*/*;q=0.8")
	return f.client.Do(request)
}

// frontFiles asks the development server what there is,
// while one request is decided.
type frontFiles struct {
	front *Front
	known map[string]bool
}

// Lookup implements answer.Files: a page is there if its address answers.
func (f *frontFiles) Lookup(ctx context.Context, name string) (release.File, bool, error) {
	at := answer.Address(name)
	there, asked := f.known[at]
	if !asked {
		response, err := f.front.ask(ctx, f.front.below(at))
		if err != nil {
			return release.File{}, false, err
		}
		response.Body.Close() //nolint:errcheck // only its status counts
		there = response.StatusCode == http.StatusOK && !isStandIn(name, response.Header)
		f.known[at] = there
	}
	return release.File{Path: name, Type: media.Type(name, true)}, there, nil
}

// isStandIn reports whether an answer is a page in the place of a script, an image
// or the like: development servers of applications answer with their one page
// whatever they do not know. name may be that of a page by which answers look for
// it: "app.js.html", "app.js/index.html".
func isStandIn(name string, header http.Header) bool {
	name = strings.TrimSuffix(strings.TrimSuffix(name, "/index.html"), ".html")
	return (media.IsLoaded(name) || media.Extension(name) == ".json") &&
		strings.HasPrefix(header.Get("Content-Type"), "text/html")
}

// below is the address of a path at the development server.
func (f *Front) below(path string) string {
	return strings.TrimSuffix(f.server.String(), "/") + path
}

// serve answers by rules, and with what the development server has.
func (f *Front) serve(w http.ResponseWriter, r *http.Request, l *Local, req answer.Request, site answer.Site,
	upstreams map[string]string,
) (string, *rules.Rule) {
	// Whether there is a file is what the development server answers with; for
	// one request it is asked once for each name.
	site.Files = f.files()
	if r.Header.Get("Upgrade") != "" {
		site.Files = &Shown{} // a websocket is no file
	}
	a, err := answer.Decide(r.Context(), req, site)
	rest, _ := strings.CutPrefix(r.URL.EscapedPath(), req.Base)
	switch {
	case err != nil:
		err = f.pass(w, r, l, req, site, 0, rest) // says that the server is not there
	case a.Upstream != nil:
		l.pass(w, r, a, upstreams)
	// What rules decide without a file is answered here.
	case a.Location != "" && a.Rule != nil, a.By == answer.ByRequest, a.Config != nil:
		httpanswer.Respond(w, r, a, nil) //nolint:errcheck // there is no content to read
	case a.File != nil && a.Rule != nil:
		err = f.pass(w, r, l, req, site, a.Status, answer.Address(a.File.Path))
	case a.Rule != nil && a.File == nil && a.By != answer.ByMethod:
		httpanswer.Respond(w, r, a, nil) //nolint:errcheck // there is no content to read
	default:
		err = f.pass(w, r, l, req, site, 0, rest)
	}

	if err != nil {
		if f.gone.Swap(true) && errors.Is(err, syscall.ECONNREFUSED) {
			return "trouble", nil // it was told
		}
		l.trouble(r, http.StatusBadGateway, err)
		return "trouble", nil
	}
	if a.Status == http.StatusNotFound && a.Rule == nil {
		f.noteStandIn(w, r, l, req)
	}
	if a.Rule == nil && a.Upstream == nil {
		return "development server", nil
	}
	return httpanswer.Describe(a), a.Rule
}

// noteStandIn tells of what only the development server answers, with a page that
// it has for anything.
//
// It is told once for each address: a page that names a script which is not there asks
// for it with every load. Pages themselves are left alone, since a server that answers
// any path with its one page may well know that path in the browser.
func (f *Front) noteStandIn(w http.ResponseWriter, r *http.Request, l *Local, req answer.Request) {
	if r.Method != http.MethodGet || !isStandIn(req.Path, w.Header()) || !l.once("stand-in "+req.Path) {
		return
	}
	l.options.Notice(fault.Notice{Code: "stand-in", What: req.Path + " does not exist: the " +
		"development server answered with a page and status 200; the edge would answer 404",
		Next: "find the page or script that names it"})
}

// isDocument reports whether a browser asks for a page to show, and not a script
// for a part of one (W3C Fetch Metadata).
func isDocument(r *http.Request) bool {
	if to := r.Header.Get("Sec-Fetch-Dest"); to != "" {
		return to == "document" || to == "iframe"
	}
	return strings.Contains(r.Header.Get("Accept"), "text/html")
}

// pass sends the request to the development server, at a path of its own, and
// applies header rules to what it answers. The status counts in the place of
// the server's 200, if it is set.
func (f *Front) pass(w http.ResponseWriter, r *http.Request, l *Local, req answer.Request, site answer.Site,
	status int, path string,
) error {
	target, err := url.Parse(f.below(path))
	if err != nil {
		return err
	}
	target.RawQuery = r.URL.RawQuery
	http.NewResponseController(w).EnableFullDuplex() //nolint:errcheck // see proxies.pass
	var failed error
	proxy := httputil.ReverseProxy{Transport: f.client.Transport, FlushInterval: -1,
		ErrorLog: log.New(io.Discard, "", 0)}

	// The server gets its own host: development servers refuse others (DNS
	// rebinding).
	proxy.Rewrite = func(pr *httputil.ProxyRequest) {
		pr.Out.URL, pr.Out.Host = target, target.Host
		pr.SetXForwarded()
		if l.options.Reload && isDocument(r) {
			pr.Out.Header.Del("Accept-Encoding") // a line is added
		}
		if origin := pr.Out.Header.Get("Origin"); origin == httpanswer.Scheme(r)+"://"+r.Host {
			// development servers refuse other origins
			pr.Out.Header.Set("Origin", f.server.Scheme+"://"+f.server.Host)
		}
	}

	proxy.ModifyResponse = func(response *http.Response) error {
		f.gone.Store(false)
		content := response.StatusCode == http.StatusOK
		if status != 0 && content {
			response.StatusCode = status
		}
		// A redirect of the server's to itself stays behind the rules.
		if location, ok := strings.CutPrefix(response.Header.Get("Location"), f.server.Scheme+"://"+
			f.server.Host); ok {
			response.Header.Set("Location", location)
		}

		answer.Apply(r.Context(), req, site, response.StatusCode,
			content && response.StatusCode == http.StatusOK, response.Header)
		if l.options.Reload && r.Method == http.MethodGet && isDocument(r) {
			addLine(response, reloadLine(""))
		}
		return nil
	}

	proxy.ErrorHandler = func(w http.ResponseWriter, r *http.Request, err error) {
		if r.Context().Err() != nil {
			return
		}
		failed = err
		line := "The development server at " + f.server.String() + " does not answer correctly."
		if errors.Is(err, syscall.ECONNREFUSED) {
			line = "Nothing answers at " + f.server.String() + ": is the development server running?"
		}
		if isDocument(r) {
			l.wait(w, r, http.StatusBadGateway, line)
			return
		}
		httpanswer.Say(w, r, http.StatusBadGateway, line)
	}
	proxy.ServeHTTP(w, r)
	return failed
}

// addLine adds a line to the end of a page that a development server answers with,
// which may come piece by piece.
func addLine(response *http.Response, line string) {
	header := response.Header
	if !strings.HasPrefix(header.Get("Content-Type"), "text/html") || header.Get("Content-Encoding") != "" ||
		response.StatusCode == http.StatusNotModified || response.StatusCode == http.StatusNoContent {
		return
	}
	// A page that comes piece by piece is passed on as it comes; browsers take what
	// stands behind </html> as part of the body (HTML, section 13.2.6.4.19).
	response.Body = struct {
		io.Reader
		io.Closer
	}{io.MultiReader(response.Body, strings.NewReader(line)), response.Body}
	if response.ContentLength >= 0 {
		response.ContentLength += int64(len(line))
		header.Set("Content-Length", strconv.FormatInt(response.ContentLength, 10))
	}
}
