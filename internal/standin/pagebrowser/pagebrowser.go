// Package pagebrowser is a stand-in for a browser: it is driven by the same pipe and the same protocol as
// Chromium, as far as pictures need it, and draws pages as rows of little blocks, one for each word.
//
//	orilla stand-in browser --remote-debugging-pipe about:blank
//
// A page that says other words has another picture; a page with more words is higher; what a page loads
// colours a strip at its top. A page can ask for a bad day:
//
//	<meta name="stand-in" content="hang">     it never becomes ready
//	<meta name="stand-in" content="crash">    its process ends
//	<meta name="stand-in" content="exit">     the browser ends
//	<meta name="stand-in" content="restless"> it goes on changing
package pagebrowser

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"net/url"
	"regexp"
	"strings"
	"sync"
)

// Product is what the stand-in calls itself.
const Product = "Stand-in/1.0"

// message is one of the protocol.
type message struct {
	ID      int64           `json:"id,omitempty"`
	Session string          `json:"sessionId,omitempty"`
	Method  string          `json:"method,omitempty"`
	Params  json.RawMessage `json:"params,omitempty"`
	Result  any             `json:"result,omitempty"`
	Error   *problem        `json:"error,omitempty"`
}

type problem struct {
	Message string `json:"message"`
}

// members are those of a JSON object.
type members = map[string]any

// page is one that is shown.
type page struct {
	target        string
	width, height int
	scheme        string
	url           string
	status        int
	body          []byte
	loaded        uint64 // a number for what it loads
}

// browser is the stand-in.
type browser struct {
	to io.Writer

	mutex   sync.Mutex
	count   int
	pages   map[string]*page           // by session and by target
	waiting map[string]chan fulfilment // requests that wait for their answer
	exit    func(reason string)
}

// fulfilment is the answer to a request.
type fulfilment struct {
	Request string `json:"requestId"`
	Status  int    `json:"responseCode"`
	Headers []struct {
		Name  string `json:"name"`
		Value string `json:"value"`
	} `json:"responseHeaders"`
	Body   string `json:"body"`
	Reason string `json:"errorReason"`
}

// Calls are answered as they come, each in a goroutine of its own: an answer may wait for requests
// that the caller has yet to answer, through the same pipe.

// Serve answers what is asked until nothing more comes.
func Serve(from io.Reader, to io.Writer) error {
	ended := make(chan string, 1)
	b := &browser{to: to, pages: map[string]*page{}, waiting: map[string]chan fulfilment{},
		exit: func(reason string) {
			select {
			case ended <- reason:
			default:
			}
		}}
	go func() {
		reader := bufio.NewReader(from)
		for {
			text, err := reader.ReadBytes(0)
			if err != nil {
				b.exit("")
				return
			}
			var m message
			if json.Unmarshal(text[:len(text)-1], &m) == nil {
				go b.serve(m)
			}
		}
	}()
	if reason := <-ended; reason != "" {
		return fmt.Errorf("the page asked for it: %s", reason)
	}
	return nil
}

// send sends a message.
func (b *browser) send(m message) {
	data, err := json.Marshal(m)
	if err != nil {
		return
	}
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.to.Write(append(data, 0)) //nolint:errcheck // nobody listens any more
}

// event sends an event.
func (b *browser) event(session, method string, params members) {
	data, _ := json.Marshal(params) //nolint:errchkjson // texts and numbers
	b.send(message{Session: session, Method: method, Params: data})
}

// name makes a name that was not used before.
func (b *browser) name(kind string) string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.count++
	return fmt.Sprint(kind, b.count)
}

// page returns the page of a session.
func (b *browser) page(session string) *page {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if p := b.pages[session]; p != nil {
		return p
	}
	return &page{}
}

// serve answers one call.
func (b *browser) serve(m message) {
	result, err := b.answer(m)
	if err != nil {
		b.send(message{ID: m.ID, Session: m.Session, Error: &problem{err.Error()}})
		return
	}
	if result == nil {
		return // never
	}
	b.send(message{ID: m.ID, Session: m.Session, Result: result})
	// Time passes at once.
	if m.Method == "Emulation.setVirtualTimePolicy" && bytes.Contains(m.Params, []byte("budget")) &&
		!b.page(m.Session).wants("hang") {
		b.event(m.Session, "Emulation.virtualTimeBudgetExpired", members{})
	}
}

// Of the protocol it knows what pictures need, and says yes to everything else: a caller that asks for
// more than it did has more to test than this.

// answer finds the result of a call; nil for one that is never answered.
func (b *browser) answer(m message) (members, error) {
	var params struct {
		fulfilment
		URL      string `json:"url"`
		Target   string `json:"targetId"`
		Width    int    `json:"width"`
		Height   int    `json:"height"`
		Features []struct {
			Value string `json:"value"`
		} `json:"features"`
	}
	if err := json.Unmarshal(m.Params, &params); err != nil {
		return nil, err
	}
	p := b.page(m.Session)
	switch m.Method {
	case "Browser.getVersion":
		return members{"product": Product}, nil
	case "Target.createBrowserContext":
		return members{"browserContextId": b.name("context")}, nil
	case "Target.createTarget":
		target := b.name("target")
		b.mutex.Lock()
		b.pages[target] = &page{target: target}
		b.mutex.Unlock()
		return members{"targetId": target}, nil
	case "Target.attachToTarget":
		session := b.name("session")
		b.mutex.Lock()
		b.pages[session] = b.pages[params.Target]
		b.mutex.Unlock()
		return members{"sessionId": session}, nil
	case "Emulation.setDeviceMetricsOverride":
		p.width, p.height = params.Width, params.Height
	case "Emulation.setEmulatedMedia":
		for _, feature := range params.Features {
			p.scheme = feature.Value
		}
	case "Fetch.fulfillRequest", "Fetch.failRequest":
		b.mutex.Lock()
		waiting := b.waiting[params.Request]
		b.mutex.Unlock()
		if waiting != nil {
			waiting <- params.fulfilment
		}
	case "Page.navigate":
		return b.navigate(m.Session, p, params.URL)
	case "Runtime.evaluate":
		return members{
			"result": members{"value": members{"restless": p.wants("restless"), "at": p.url, "fonts": true}},
		}, nil
	case "Page.getLayoutMetrics":
		return members{"cssContentSize": members{"height": len(p.words())*rowHeight + 2*margin},
			"cssVisualViewport": members{"clientWidth": p.width}}, nil
	case "Page.captureScreenshot":
		return members{"data": base64.StdEncoding.EncodeToString(p.draw())}, nil
	}
	return members{}, nil
}

// loads finds what a page loads.
var loads = regexp.MustCompile(`<(?:link|script|img)\b[^>]*?\b(?:src|href)=["']?([^"' >]+)`)

// Pages and what they load come through the pipe, one request after the other, as from a browser: that the
// caller answers all of them is what is tried here.

// navigate fetches a page and what it loads.
func (b *browser) navigate(session string, p *page, to string) (members, error) {
	answered, at := b.fetch(p, to)
	p.url, p.status, p.loaded = at, answered.Status, 0
	p.body, _ = base64.StdEncoding.DecodeString(answered.Body)
	if answered.Reason != "" {
		return members{"errorText": "net::ERR_BLOCKED_BY_CLIENT"}, nil
	}
	base, err := url.Parse(at)
	if err != nil {
		return nil, err
	}
	hash := fnv.New64a()
	for _, found := range loads.FindAllSubmatch(p.body, 50) {
		if other, err := base.Parse(string(found[1])); err == nil {
			one, _ := b.fetch(p, other.String())
			io.WriteString(hash, one.Body) //nolint:errcheck // it never fails
		}
	}
	p.loaded = hash.Sum64()
	switch {
	case p.wants("exit"):
		b.exit("exit")
		return nil, nil
	case p.wants("crash"):
		b.event(session, "Inspector.targetCrashed", members{})
		return nil, nil
	}
	return members{"frameId": p.target}, nil
}

// Redirects are followed here, as a browser does: who asks for /old is shown /new, at the address of /new.

// fetch asks for an address, and for those that it leads to.
func (b *browser) fetch(p *page, address string) (answered fulfilment, at string) {
	for range 5 {
		id := b.name("request")
		waiting := make(chan fulfilment, 1)
		b.mutex.Lock()
		b.waiting[id] = waiting
		b.mutex.Unlock()
		b.event("", "Fetch.requestPaused", members{"requestId": id, "frameId": p.target, "request": members{
			"url": address, "method": "GET", "headers": members{"Accept": "*/*"}}})
		answered, at = <-waiting, address
		b.mutex.Lock()
		delete(b.waiting, id)
		b.mutex.Unlock()
		next := ""
		for _, header := range answered.Headers {
			if strings.EqualFold(header.Name, "Location") && answered.Status/100 == 3 {
				next = header.Value
			}
		}
		base, err := url.Parse(address)
		if next == "" || err != nil {
			return answered, at
		}
		other, err := base.Parse(next)
		if err != nil {
			return answered, at
		}
		address = other.String()
	}
	return answered, at
}

// wants reports whether a page asks for a bad day.
func (p *page) wants(day string) bool {
	return bytes.Contains(p.body, []byte(`name="stand-in" content="`+day+`"`))
}

var tags = regexp.MustCompile(`(?s)<(?:script|style)\b.*?</(?:script|style)>|<[^>]*>`)

// Markup is thrown away rather than understood. Pages of tests are simple, and a page that is not is
// drawn as what is left of it: rows of words.

// words lists the words of a page, by line: a line for each element.
func (p *page) words() (lines [][]string) {
	for _, line := range strings.Split(tags.ReplaceAllString(string(p.body), "\n"), "\n") {
		if words := strings.Fields(line); len(words) > 0 {
			lines = append(lines, words)
		}
	}
	return lines
}

// How a page is drawn, in pixels.
const (
	rowHeight = 20
	margin    = 24
	letter    = 6
)

// A word is drawn by its letters' number and its hash, so that another word of the same length looks
// different, and the same word looks the same everywhere.

// draw draws a page.
func (p *page) draw() []byte {
	lines := p.words()
	height := max(p.height, len(lines)*rowHeight+2*margin)
	paper, ink := color.RGBA{255, 255, 255, 255}, uint8(0)
	if p.scheme == "dark" {
		paper, ink = color.RGBA{20, 22, 30, 255}, 255
	}
	img := image.NewRGBA(image.Rect(0, 0, max(p.width, 1), min(height, 8000)))
	draw.Draw(img, img.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	strip := color.RGBA{
		uint8(p.loaded),
		uint8(p.loaded >> 8),
		uint8(p.loaded >> 16),
		255,
	} //nolint:gosec // any colour
	draw.Draw(img, image.Rect(0, 0, p.width, margin/2), image.NewUniform(strip), image.Point{}, draw.Src)
	for i, line := range lines {
		x, y := margin, margin+i*rowHeight
		for _, word := range line {
			hash := fnv.New32a()
			io.WriteString(hash, word) //nolint:errcheck // it never fails
			bits := hash.Sum32()
			// Each letter is a block that is higher or lower, as the word's number says.
			for j := range word {
				top := y + int(bits>>(j%28)&7)
				draw.Draw(
					img,
					image.Rect(x, top, x+letter-2, y+rowHeight-8),
					image.NewUniform(color.Gray{ink}),
					image.Point{},
					draw.Src,
				)
				x += letter
			}
			x += letter
		}
	}
	var out bytes.Buffer
	png.Encode(&out, img) //nolint:errcheck // into memory
	return out.Bytes()
}
