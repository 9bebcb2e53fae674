package browser

import (
	"bytes"
	"context"
	_ "embed" // for the script below
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/pictures"
)

// Page is what a picture is taken of.
type Page struct {
	Path string // of the address, below the origin: "/ferries/fares"
	pictures.View
	Hidden []string // selectors of what is left out
}

// What else there is to say of a picture is said with it: nobody can see from a picture that its page
// is longer, that it would look different in a second, or that half of it comes from elsewhere.

// Picture is what was taken.
type Picture struct {
	PNG      []byte
	Height   int // in pixels
	Cut      bool
	Restless bool
	Blocked  []string // origins of others that were asked for
}

// What a page is given:
//
//	3 s of its own time     which pass at once, but for what it asks for
//	15 s of the machine's   and then the picture is of what is there
//	5 s for the picture
//
// A page whose script does not end gives no picture: its process is ended.
const (
	ownTime    = 3000 // milliseconds
	settleTime = 100  // milliseconds, after animations were ended
	fontTime   = 2000 // milliseconds, more where fonts were not there
	loadTime   = 15 * time.Second
	drawTime   = 5 * time.Second
	// mostBlocked is how many origins are named.
	mostBlocked = 5
)

// ErrStuck: the page's script does not end, or the page cannot be drawn.
var ErrStuck = errors.New("the page does not answer: its script does not end, or it is too large")

// errCrashed: the process of a page ended.
var errCrashed = errors.New("the page's process ended")

//go:embed begin.js
var beginScript string

// The protocol calls a page a target, and what drives it a session. Both have an id of their own, and
// events come with the one or with the other, so a tab is found by either.

// tab is one page of the browser. It has storage of its own.
type tab struct {
	target, session, context string

	expired chan struct{} // told when the page's time is over

	mutex   sync.Mutex // for what follows
	blocked []string
	cancel  context.CancelCauseFunc // ends what is done in it
	heavy   bool                    // its process was ended for its memory
}

// crash ends what is done in a tab whose process has ended.
func (t *tab) crash() {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.cancel == nil {
		return
	}
	if t.heavy {
		t.cancel(ErrMemory)
		return
	}
	t.cancel(errCrashed)
}

// As many pages are shown at once as there are tabs. A tab is opened when it is first needed, and closed when
// something went wrong in it: what a page has done to its process, the next page must not meet.

// Take takes a picture of a page. It waits until a tab is free.
func (b *Browser) Take(ctx context.Context, page Page) (Picture, error) {
	var t *tab
	select {
	case t = <-b.free:
	case <-b.ended:
		return Picture{}, why(b)
	case <-ctx.Done():
		return Picture{}, ctx.Err()
	}
	if t == nil {
		var err error
		if t, err = b.open(ctx); err != nil {
			b.free <- nil
			return Picture{}, err
		}
	}
	within, cancel := context.WithCancelCause(ctx)
	t.mutex.Lock()
	t.cancel = cancel
	t.mutex.Unlock()
	picture, err := b.take(within, t, page)
	if err != nil {
		b.shut(t)
		t = nil
	}
	b.free <- t
	switch cause := context.Cause(within); {
	case err == nil:
	case cause != nil:
		err = cause
	case errors.Is(err, context.DeadlineExceeded):
		err = ErrStuck
	}
	cancel(nil)
	return picture, err
}

// Another release may have other bytes at the same addresses, and a browser remembers what it was given. So
// tabs, with all that they remember, go before something else is shown.

// Forget closes all tabs. Nothing may be taken meanwhile.
func (b *Browser) Forget() {
	for range b.options.Tabs {
		if t := <-b.free; t != nil {
			b.shut(t)
		}
	}
	for range b.options.Tabs {
		b.free <- nil
	}
}

// why is why the browser has ended.
func why(b *Browser) error {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.broken
}

// A context is to a browser what a private window is to people: storage, cookies and caches of its
// own, which go with it. Two tabs never share a process, so that a script that does not end holds up
// its own tab only.

// open opens a tab.
func (b *Browser) open(ctx context.Context) (*tab, error) {
	ctx, cancel := context.WithTimeout(ctx, loadTime)
	defer cancel()
	t := &tab{expired: make(chan struct{}, 1)}
	var made struct {
		Context string `json:"browserContextId"`
		Target  string `json:"targetId"`
		Session string `json:"sessionId"`
	}
	once := members{"disposeOnDetach": true}
	if err := b.call(ctx, "", "Target.createBrowserContext", once, &made); err != nil {
		return nil, err
	}
	t.context = made.Context
	err := b.call(
		ctx,
		"",
		"Browser.setDownloadBehavior",
		members{"behavior": "deny", "browserContextId": t.context},
		nil,
	)
	if err != nil {
		return nil, err
	}
	blank := members{"url": "about:blank", "browserContextId": t.context}
	if err := b.call(ctx, "", "Target.createTarget", blank, &made); err != nil {
		return nil, err
	}
	t.target = made.Target
	b.tabs.Store(t.target, t)
	attach := members{"targetId": t.target, "flatten": true}
	if err := b.call(ctx, "", "Target.attachToTarget", attach, &made); err != nil {
		return nil, err
	}
	t.session = made.Session
	b.tabs.Store(t.session, t)
	for _, step := range []struct {
		method string
		params members
	}{{"Page.enable", nil}, {"Inspector.enable", nil},
		{"Emulation.setTimezoneOverride", members{"timezoneId": "UTC"}},
		{"Page.addScriptToEvaluateOnNewDocument", members{"source": beginScript}}} {
		if err := b.call(ctx, t.session, step.method, step.params, nil); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// Closing is not waited for longer than a picture takes: a process that does not answer is ended by
// the browser, in its own time.

// shut closes a tab with what runs in it.
func (b *Browser) shut(t *tab) {
	b.tell("", "Target.closeTarget", members{"targetId": t.target})
	b.tell("", "Target.disposeBrowserContext", members{"browserContextId": t.context})
	b.tabs.Delete(t.target)
	b.tabs.Delete(t.session)
}

// A tab is used again and again, since a new one costs as much as a picture. Between two pages it
// forgets what the first one has stored; what it cannot forget, such as a script that does not end,
// costs the tab.

// One picture, from the beginning:
//
//	size, scheme    the window is as wide as asked, the page is told whether it is dark
//	forget          what pages before have stored
//	stop, go        time stands still, the page is opened, and three seconds of its time pass
//	settle          animations end, what is left out is hidden, a tenth of a second passes
//	measure, draw   as wide as the window, as high as the page

// take takes a picture in a tab.
func (b *Browser) take(ctx context.Context, t *tab, page Page) (Picture, error) {
	loading, cancel := context.WithTimeout(ctx, loadTime)
	defer cancel()
	if err := b.load(loading, t, page); err != nil {
		return Picture{}, err
	}
	settled, err := b.settle(ctx, t, page)
	if err != nil {
		return Picture{}, err
	}
	if !isOwn(b.options.Origin, settled.At) {
		return Picture{}, fmt.Errorf("it leads away from the site: %s", strings.Join(t.elsewhere(), ", "))
	}
	picture, err := b.draw(ctx, t, page)
	t.mutex.Lock()
	defer t.mutex.Unlock()
	picture.Blocked, picture.Restless = t.blocked, settled.Restless || loading.Err() != nil
	return picture, err
}

// elsewhere lists where a page asked for something of others.
func (t *tab) elsewhere() []string {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	return slices.Clone(t.blocked)
}

// The order matters. Media and size are set first, so that the page never sees others; storage is
// cleared while the page before is still there; time is stopped before the page begins, so that it
// begins at nought.

// load leads a tab to a page and lets the page's time pass.
func (b *Browser) load(ctx context.Context, t *tab, page Page) error {
	t.mutex.Lock()
	t.blocked = nil
	t.mutex.Unlock()
	var gone struct {
		Error string `json:"errorText"`
	}
	for _, step := range []struct {
		method string
		params members
		result any
	}{
		{"Emulation.setDeviceMetricsOverride", members{"width": page.Width, "height": page.Height(),
			"deviceScaleFactor": 1, "mobile": page.Width < 600}, nil},
		{"Emulation.setEmulatedMedia", members{"features": []members{
			{"name": "prefers-color-scheme", "value": page.Scheme}}}, nil},
		{"Storage.clearDataForOrigin", members{"origin": b.options.Origin, "storageTypes": "all"}, nil},
		{"Emulation.setVirtualTimePolicy", members{"policy": "pause"}, nil},
		{"Page.navigate", members{"url": b.options.Origin + page.Path}, &gone},
	} {
		if err := b.call(ctx, t.session, step.method, step.params, step.result); err != nil {
			return err
		}
	}
	if gone.Error != "" {
		return fmt.Errorf("the page cannot be opened: %s", gone.Error)
	}
	return b.pass(ctx, t, ownTime)
}

// Time is virtual (Emulation.setVirtualTimePolicy): it stands still while a page waits for something that it
// asked for, and runs as fast as the machine can otherwise. Three seconds are enough for what appears step by
// step, and a page that would go on for ever has had the same three seconds each time.

// pass lets an amount of a page's time pass, in milliseconds. That the machine's time was over first is
// no error: what is there is looked at.
func (b *Browser) pass(ctx context.Context, t *tab, milliseconds int) error {
	select {
	case <-t.expired: // of an earlier time
	default:
	}
	err := b.call(ctx, t.session, "Emulation.setVirtualTimePolicy", members{"budget": milliseconds,
		"policy": "pauseIfNetworkFetchesPending", "maxVirtualTimeTaskStarvationCount": 10000}, nil)
	if err != nil {
		return err
	}
	select {
	case <-t.expired:
	case <-b.ended:
		return why(b)
	case <-ctx.Done():
		if !errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return ctx.Err()
		}
	}
	return nil
}

// settled is what a page says before its picture is taken.
type settled struct {
	Restless bool   `json:"restless"`
	Fonts    bool   `json:"fonts"`
	At       string `json:"at"` // the address that it is at now
}

// A style sheet is added last, and with it what is to be hidden: a selector that fits nothing, or is
// none at all, hides nothing and breaks nothing.

// settle ends animations, hides what is to be hidden, and lets that take effect.
func (b *Browser) settle(ctx context.Context, t *tab, page Page) (s settled, err error) {
	ctx, cancel := context.WithTimeout(ctx, drawTime)
	defer cancel()
	hidden, err := json.Marshal(append([]string{}, page.Hidden...))
	if err != nil {
		return s, err
	}
	var result struct {
		Result struct {
			Value settled `json:"value"`
		} `json:"result"`
	}
	err = b.call(
		ctx,
		t.session,
		"Runtime.evaluate",
		members{"expression": "__orillaSettle(" + string(hidden) + ")",
			"returnByValue": true, "timeout": drawTime.Milliseconds()},
		&result,
	)
	if err != nil {
		return s, err
	}
	passing, cancel := context.WithTimeout(ctx, drawTime/2)
	defer cancel()
	if s = result.Result.Value; !s.Fonts {
		if err := b.pass(passing, t, fontTime); err != nil {
			return s, err
		}
	}
	return s, b.pass(passing, t, settleTime)
}

// The window stays as high as it is while all of the page is drawn (captureBeyondViewport): a page
// that is as high as the window would grow with it for ever.

// draw has a page drawn, as wide as the window and as high as it is.
func (b *Browser) draw(ctx context.Context, t *tab, page Page) (p Picture, err error) {
	ctx, cancel := context.WithTimeout(ctx, drawTime)
	defer cancel()
	var size struct {
		Content struct {
			Height float64 `json:"height"`
		} `json:"cssContentSize"`
		Window struct {
			Width float64 `json:"clientWidth"`
		} `json:"cssVisualViewport"`
	}
	if err := b.call(ctx, t.session, "Page.getLayoutMetrics", nil, &size); err != nil {
		return p, err
	}
	// A page that says nothing of telephones is wider than one, and drawn smaller there.
	width := max(size.Window.Width, 1)
	scale := float64(page.Width) / width
	height := max(size.Content.Height, float64(page.Height())/scale)
	if p.Cut = height*scale > pictures.MostHeight; p.Cut {
		height = pictures.MostHeight / scale
	}
	for {
		if p.PNG, err = b.capture(ctx, t, width, height, scale); err != nil {
			return p, err
		}
		if len(p.PNG) <= pictures.MostImage {
			break
		}
		// Photographs from top to bottom: as much of the page as a store keeps.
		p.Cut, height = true, height/2
	}
	p.Height = heightOf(p.PNG)
	return p, nil
}

// capture takes the picture itself, in PNG: so wide and high a part of the page, so much smaller.
func (b *Browser) capture(ctx context.Context, t *tab, width, height, scale float64) ([]byte, error) {
	var shot struct {
		Data string `json:"data"`
	}
	clip := members{"x": 0, "y": 0, "width": width, "height": height, "scale": scale}
	err := b.call(ctx, t.session, "Page.captureScreenshot",
		members{"format": "png", "captureBeyondViewport": true, "clip": clip}, &shot)
	if err != nil {
		return nil, err
	}
	return base64.StdEncoding.DecodeString(shot.Data)
}

// The browser is not asked how high the picture became: the picture says it itself.

// heightOf reads the height of a PNG (its specification, third edition, 11.2.1).
func heightOf(png []byte) int {
	const at = 20
	if len(png) < at+4 {
		return 0
	}
	return int(png[at])<<24 | int(png[at+1])<<16 | int(png[at+2])<<8 | int(png[at+3])
}

// Events come one after the other from the goroutine that reads the pipe. Whatever takes longer than a
// look is done in a goroutine of its own, or the answers that it waits for would never be read.

// happened is told of events.
func (b *Browser) happened(m message) {
	switch m.Method {
	case "Fetch.requestPaused":
		b.paused(m)
	case "Emulation.virtualTimeBudgetExpired":
		if t, ok := b.tabs.Load(m.Session); ok {
			select {
			case t.(*tab).expired <- struct{}{}:
			default:
			}
		}
	case "Inspector.targetCrashed":
		if t, ok := b.tabs.Load(m.Session); ok {
			t.(*tab).crash()
		}
	case "Page.javascriptDialogOpening":
		b.tell(m.Session, "Page.handleJavaScriptDialog", members{"accept": false})
	case "Target.targetCreated":
		opened(b, m)
	}
}

// A page is told that it could not open a window; one that finds another way finds it closed.

// opened closes windows that pages open.
func opened(b *Browser, m message) {
	var made struct {
		Info struct {
			ID     string `json:"targetId"`
			Type   string `json:"type"`
			Opener string `json:"openerId"`
		} `json:"targetInfo"`
	}
	if json.Unmarshal(m.Params, &made) == nil && made.Info.Type == "page" && made.Info.Opener != "" {
		b.tell("", "Target.closeTarget", members{"targetId": made.Info.ID})
	}
}

// paused is a request that waits for its answer.
type paused struct {
	ID      string `json:"requestId"`
	Frame   string `json:"frameId"`
	Request struct {
		URL     string            `json:"url"`
		Method  string            `json:"method"`
		Headers map[string]string `json:"headers"`
	} `json:"request"`
}

// Requests come from all that the browser shows: pages, frames in them, workers. What is not of the site is
// refused here, in this process, and there is no other way out.
//
// A page may ask for as much as it likes, as often as it likes. Four answers are made at a time, which are in
// memory as a whole; a thousand requests wait for that; what is beyond fails.

// answering bounds the answers that are made at a time, and those that wait for it.
type answering struct {
	making  chan struct{}
	waiting atomic.Int64
}

const (
	mostMaking  = 4
	mostWaiting = 1000
)

// Refusals are written at once, by whoever reads the pipe: a page that asks strangers a thousand times a
// second costs a line each time, and no goroutine.

// paused answers a request of a page: from the site, or not at all.
func (b *Browser) paused(m message) {
	var p paused
	if json.Unmarshal(m.Params, &p) != nil {
		return
	}
	if !isOwn(b.options.Origin, p.Request.URL) {
		block(b, p)
		b.tell(m.Session, "Fetch.failRequest", members{"requestId": p.ID, "errorReason": "BlockedByClient"})
		return
	}
	if b.turns.waiting.Add(1) > mostWaiting {
		b.turns.waiting.Add(-1)
		b.tell(m.Session, "Fetch.failRequest", members{"requestId": p.ID, "errorReason": "Failed"})
		return
	}
	go func() {
		b.turns.making <- struct{}{}
		b.answer(m.Session, p)
		<-b.turns.making
		b.turns.waiting.Add(-1)
	}()
}

// answer answers a request from the site.
func (b *Browser) answer(session string, p paused) {
	asked := p.Request
	request, err := http.NewRequestWithContext(context.Background(), asked.Method, asked.URL, http.NoBody)
	if err != nil {
		b.tell(session, "Fetch.failRequest", members{"requestId": p.ID, "errorReason": "Failed"})
		return
	}
	for name, value := range p.Request.Headers {
		request.Header.Set(name, value)
	}
	// The pipe has no encodings.
	request.Header.Del("Accept-Encoding")
	request.RequestURI = request.URL.RequestURI()
	// The whole answer is kept in memory: the protocol takes it in one piece, in base64.
	w := &recorder{header: http.Header{}, status: http.StatusOK}
	b.options.Answer.ServeHTTP(w, request)
	if w.over {
		b.tell(session, "Fetch.failRequest", members{"requestId": p.ID, "errorReason": "Failed"})
		return
	}
	headers := []members{}
	for name, values := range w.header {
		for _, value := range values {
			headers = append(headers, members{"name": name, "value": value})
		}
	}
	b.tell(session, "Fetch.fulfillRequest", members{"requestId": p.ID, "responseCode": w.status,
		"responseHeaders": headers, "body": base64.StdEncoding.EncodeToString(w.body.Bytes())})
}

// block notes that a page asked for something of others.
func block(b *Browser, p paused) {
	found, ok := b.tabs.Load(p.Frame)
	at, err := url.Parse(p.Request.URL)
	if !ok || err != nil || at.Host == "" {
		return
	}
	t, origin := found.(*tab), at.Scheme+"://"+strings.ToLower(at.Host)
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if !slices.Contains(t.blocked, origin) && len(t.blocked) < mostBlocked {
		t.blocked = append(t.blocked, origin)
		slices.Sort(t.blocked)
	}
}

// mostAnswer is how many bytes an answer has at most.
const mostAnswer = 32 << 20

// recorder keeps an answer. It implements http.ResponseWriter.
type recorder struct {
	header http.Header
	status int
	wrote  bool
	over   bool
	body   bytes.Buffer
}

func (r *recorder) Header() http.Header { return r.header }

func (r *recorder) WriteHeader(status int) {
	if !r.wrote && status >= http.StatusOK { // hints that come early are for networks
		r.status, r.wrote = status, true
	}
}

func (r *recorder) Write(data []byte) (int, error) {
	r.wrote = true
	if r.body.Len()+len(data) > mostAnswer {
		r.over = true
		return 0, http.ErrContentLength
	}
	return r.body.Write(data)
}
