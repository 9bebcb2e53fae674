package devserver

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/answer"
)

// The addresses below answer.Reserved that local serving answers.
const (
	reloadScript  = "/" + answer.Reserved + "/reload.js"
	reloadChanges = "/" + answer.Reserved + "/changes"
	reloadLine    = `<script src="` + reloadScript + `" defer></script>`
)

// pages are the open pages that follow changes, by
// server-sent events (WHATWG HTML, section 9.2).
type pages struct {
	mutex  sync.Mutex
	open   map[chan string]bool
	failed string // what pages show above themselves; "" for nothing
}

// show tells pages that what they show has changed, or
// that what had failed is well again.
func (p *pages) show(changed bool) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	well := p.failed != ""
	p.failed = ""

	switch {
	case changed:
		p.send("event: changed\ndata:\n\n")
	case well:
		p.send("event: well\ndata:\n\n")
	}
}

// fail tells pages what went wrong, now and when they are opened.
func (p *pages) fail(what string) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.failed = what
	p.send(failedEvent(what))
}

// failedEvent is the event that shows in open pages what went wrong.
func failedEvent(what string) string {
	data, _ := json.Marshal(what) //nolint:errchkjson // every string can be written
	return "event: failed\ndata: " + string(data) + "\n\n"
}

// send is called with the mutex held. A page that does not
// keep up loses the oldest.
func (p *pages) send(event string) {
	for page := range p.open {
		for sent := false; !sent; {
			select {
			case page <- event:
				sent = true
			default:
				select {
				case <-page:
				default:
				}
			}
		}
	}
}

// join adds an open page; failed is what it should show above itself, if
// anything.
func (p *pages) join() (page chan string, failed string) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	page = make(chan string, 16)
	if p.open == nil {
		p.open = map[chan string]bool{}
	}
	p.open[page] = true
	return page, p.failed
}

// leave takes a page away that was closed.
func (p *pages) leave(page chan string) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	delete(p.open, page)
}

// serve answers at the addresses of reloading, and reports
// whether the request was for one.
func (p *pages) serve(w http.ResponseWriter, r *http.Request) bool {
	switch r.URL.Path {
	case reloadScript:
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		io.WriteString(w, script) //nolint:errcheck // the browser has gone
		return true
	case reloadChanges:
		p.changes(w, r)
		return true
	}
	return false
}

// changes is the stream of one page.
func (p *pages) changes(w http.ResponseWriter, r *http.Request) {
	page, failed := p.join()
	defer p.leave(page)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	control := http.NewResponseController(w)
	text := ": open\n\n"
	if failed != "" {
		text += failedEvent(failed)
	}

	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		if _, err := io.WriteString(w, text); err != nil || control.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case text = <-page:
		case <-beat.C:
			text = ": still here\n\n"
		}
	}
}

// script reloads the page when something changed, and when
// serving comes back after it had ended; what failed is
// shown above the page, which stays as it was.
var script = strings.ReplaceAll(`(() => {
  const id = "orilla-failed";
  let lost = false;
  const well = () => document.getElementById(id)?.remove();
  const failed = text => {
    well();
    const note = document.createElement("dialog");
    note.id = id;
    note.style.cssText = "position:fixed;inset:auto 1rem 1rem 1rem;margin:0;width:auto;max-width:none;max-height:60vh;overflow:auto;z-index:2147483647;" +
      "padding:1rem 1.25rem;border:0;border-left:.4rem solid #c4372b;border-radius:.3rem;background:#fff8f5;color:#2b1512;box-shadow:0 .2rem 2rem #0006";
    const head = document.createElement("strong");
    head.textContent = "This page is from before the last change, which failed";
    head.style.cssText = "font:600 15px/1.5 system-ui,sans-serif";
    const body = document.createElement("pre");
    body.textContent = text;
    body.style.cssText = "margin:.6rem 0 0;font:13px/1.5 ui-monospace,monospace;white-space:pre-wrap;color:inherit;background:none;padding:0;border:0";
    note.append(head, body);
    document.body.append(note);
    note.show();
  };
  const changes = new EventSource("@");
  changes.addEventListener("changed", () => location.reload());
  changes.addEventListener("failed", event => failed(JSON.parse(event.data)));
  changes.addEventListener("well", well);
  changes.onerror = () => { lost = true; };
  changes.onopen = () => { if (lost) location.reload(); };
  addEventListener("pagehide", () => changes.close());
})();
`, "@", reloadChanges)
