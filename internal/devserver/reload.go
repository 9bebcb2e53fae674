package devserver

import (
	"crypto/rand"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/answer"
)

// The addresses below answer.Reserved that local serving answers.
const (
	reloadScript  = "/" + answer.Reserved + "/reload.js"
	reloadChanges = "/" + answer.Reserved + "/changes"
)

// About says what a note in open pages is about. A note stays until the same thing
// is well again: a build that works does not mend the rules.
type About string

// What notes are about, in the order in which pages show them.
const (
	OfConfiguration About = "configuration"
	OfBuild         About = "build"
	OfOutput        About = "output"
	OfRules         About = "rules"
	OfDeploy        About = "refused" // what a deploy would refuse
)

var abouts = []About{OfConfiguration, OfBuild, OfOutput, OfRules, OfDeploy}

// Note is what open pages show above themselves.
type Note struct {
	About About  `json:"about"`
	Head  string `json:"head"`
	Text  string `json:"text"`
}

// pages are the open pages, and what they are told by server-sent events (WHATWG
// HTML, section 9.2): each event is the whole state, so whoever missed some needs
// only the last.
//
//	data: {"at":"k3x9.7","notes":[{"about":"rules","head":"...","text":"..."}]}
//
// A page knows which state it was made from, and loads again when that is another
// one. The zero value is ready.
type pages struct {
	mutex sync.Mutex
	run   string                 // of this process: pages of an earlier one are older
	shown int                    // how often what is shown has changed
	notes map[About]Note         // that pages show
	open  map[chan struct{}]bool // streams, each told that there is something new
}

// state is what pages are told. It is the whole of it, so that the order of events,
// and whether one was missed, does not matter.
type state struct {
	At    string `json:"at"`
	Notes []Note `json:"notes"`
}

// now returns the state. It is called with the mutex held.
func (p *pages) now() state {
	if p.run == "" {
		p.run = strings.ToLower(rand.Text()[:8])
	}
	now := state{At: p.run + "." + strconv.Itoa(p.shown), Notes: []Note{}}
	for _, about := range abouts {
		if note, ok := p.notes[about]; ok {
			now.Notes = append(now.Notes, note)
		}
	}
	return now
}

// at returns which state a page is made from.
func (p *pages) at() string {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.now().At
}

// change changes the state, and tells every stream.
func (p *pages) change(how func()) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	how()
	for stream := range p.open {
		select {
		case stream <- struct{}{}:
		default: // it is told already
		}
	}
}

// moved has pages load again.
func (p *pages) moved() { p.change(func() { p.shown++ }) }

// note shows a note in the place of what was said about the same, or nothing any
// more if it has no text.
func (p *pages) note(note Note) {
	p.mutex.Lock()
	same := p.notes[note.About] == note || p.notes[note.About] == (Note{}) && note.Text == ""
	p.mutex.Unlock()
	if same {
		return
	}
	p.change(func() {
		if p.notes == nil {
			p.notes = map[About]Note{}
		}
		p.notes[note.About] = note
		if note.Text == "" {
			delete(p.notes, note.About)
		}
	})
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
		p.stream(w, r)
		return true
	}
	return false
}

// stream tells one browser of each state, the present one first.
func (p *pages) stream(w http.ResponseWriter, r *http.Request) {
	fresh := make(chan struct{}, 1)
	fresh <- struct{}{}
	p.mutex.Lock()
	if p.open == nil {
		p.open = map[chan struct{}]bool{}
	}
	p.open[fresh] = true
	p.mutex.Unlock()
	defer func() {
		p.mutex.Lock()
		defer p.mutex.Unlock()
		delete(p.open, fresh)
	}()

	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	control := http.NewResponseController(w)
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		text := ": still here\n\n"
		select {
		case <-r.Context().Done():
			return
		case <-fresh:
			p.mutex.Lock()
			data, _ := json.Marshal(p.now()) //nolint:errchkjson // strings can be written
			p.mutex.Unlock()
			text = "data: " + string(data) + "\n\n"
		case <-beat.C:
		}
		if _, err := io.WriteString(w, text); err != nil || control.Flush() != nil {
			return
		}
	}
}

// reloadLine is the line in a page that was made from a state; "" for a page that
// does not load again, and only shows notes.
func reloadLine(at string) string {
	if at != "" {
		at = ` data-at="` + at + `"`
	}
	return `<script src="` + reloadScript + `"` + at + ` defer></script>`
}

// blocked returns which directive of a Content-Security-Policy (W3C CSP level 3)
// keeps the line in a page from working; "" for none.
//
// Only what the line needs counts: the script comes from the site's own origin, and
// connects to it. Inline code, which most policies forbid, it has none; what it shows
// is styled through the object model, which no policy forbids.
func blocked(policies []string) string {
	for _, policy := range policies {
		directives := map[string][]string{}
		for directive := range strings.SplitSeq(policy, ";") {
			words := strings.Fields(strings.ToLower(directive))
			if len(words) > 0 && directives[words[0]] == nil {
				directives[words[0]] = words[1:]
			}
		}
		if allows, there := directives["sandbox"]; there && (!slices.Contains(allows, "allow-scripts") ||
			!slices.Contains(allows, "allow-same-origin")) {
			return "sandbox"
		}
		for _, names := range [][]string{{"script-src-elem", "script-src", "default-src"},
			{"connect-src", "default-src"}} {
			for _, name := range names {
				allowed, there := directives[name]
				if !there {
					continue
				}
				if !allowsOwn(allowed) {
					return name
				}
				break // the most special one counts
			}
		}
	}
	return ""
}

// allowsOwn reports whether a list of sources lets a page load from its own origin.
//
// Hosts are compared loosely: a policy that names the development machine means it.
func allowsOwn(sources []string) bool {
	if slices.Contains(sources, "'strict-dynamic'") { // then only nonces and digests count
		return false
	}
	return slices.ContainsFunc(sources, func(source string) bool {
		return source == "'self'" || source == "*" || source == "http:" ||
			strings.Contains(source, "localhost")
	})
}

// script loads the page again when it was made from another state than the present
// one, and shows notes above it.
//
// All pages of a browser share one stream, since HTTP/1.1 has six connections for
// a host: the one that holds a lock (W3C Web Locks) listens, and tells the others.
// Where there are no locks, as on a phone in the same network, each listens itself.
var script = strings.NewReplacer("@changes", reloadChanges).Replace(`(() => {
  const name = "orilla-changes", at = document.currentScript?.dataset.at;
  const colours = { refused: "#b5761a" };
  let shown = "[]", hidden = "", last = "";
  const show = notes => {
    document.getElementById(name)?.remove();
    if (!notes.length || hidden === shown) return;
    const box = document.createElement("div"); // a dialog would take the focus from whoever types
    box.id = name;
    box.style.cssText = "display:block;position:fixed;inset:auto 1rem 1rem 1rem;margin:0;width:auto;max-width:none;max-height:60vh;overflow:auto;z-index:2147483647;" +
      "padding:0;border:0;border-radius:.3rem;background:#fff8f5;color:#2b1512;box-shadow:0 .2rem 2rem #0006";
    for (const note of notes) {
      const part = document.createElement("section");
      part.style.cssText = "padding:1rem 3rem 1rem 1.25rem;border-left:.4rem solid " + (colours[note.about] ?? "#c4372b");
      const head = document.createElement("strong");
      head.textContent = note.head;
      head.style.cssText = "font:600 15px/1.5 system-ui,sans-serif;color:inherit";
      const body = document.createElement("pre");
      body.textContent = note.text;
      body.style.cssText = "margin:.6rem 0 0;font:13px/1.5 ui-monospace,monospace;white-space:pre-wrap;color:inherit;background:none;padding:0;border:0";
      part.append(head, body);
      box.append(part);
    }
    const hide = document.createElement("button");
    hide.textContent = "hide";
    hide.style.cssText = "min-width:0;min-height:0;padding:0;box-shadow:none;position:absolute;top:.8rem;right:1rem;font:13px/1.5 system-ui,sans-serif;color:inherit;background:none;border:0;text-decoration:underline;cursor:pointer";
    hide.onclick = () => { hidden = shown; show([]); };
    box.append(hide);
    document.body.append(box);
  };
  const again = state => {
    // A page that is still the old one after it was loaded again comes out of a cache.
    try {
      const tried = state.at + " " + location.href;
      if (sessionStorage[name] === tried) {
        state.notes.push({ about: "refused", head: "This page does not change", text: "It reloaded and is still from before the last change: does a service worker or a proxy cache it?" });
        return false;
      }
      sessionStorage[name] = tried;
    } catch {}
    location.reload();
    return true;
  };
  const take = data => {
    last = data;
    const state = JSON.parse(data);
    if (at && state.at !== at && again(state)) return;
    const notes = JSON.stringify(state.notes);
    if (notes === shown) return;
    shown = notes;
    show(state.notes);
  };
  const listen = tell => {
    const changes = new EventSource("@changes");
    changes.onmessage = event => { tell(event.data); take(event.data); };
    return changes;
  };
  if (!navigator.locks || !window.BroadcastChannel) {
    let changes = listen(() => {});
    addEventListener("pagehide", () => changes.close());
    addEventListener("pageshow", event => { if (event.persisted) changes = listen(() => {}); });
    return;
  }
  const others = new BroadcastChannel(name);
  others.onmessage = event => {
    if (event.data !== "") take(event.data);
    else if (leads && last) others.postMessage(last);
  };
  let leads = false;
  others.postMessage("");
  navigator.locks.request(name, () => new Promise(() => {
    leads = true;
    listen(data => others.postMessage(data));
  })).catch(() => listen(() => {}));
})();
`)
