package devserver

import (
	"bytes"
	"encoding/json"
	"html/template"
	"io"
	"net/http"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// Beside shows two releases side by side in one page: who goes
// to another page on one side goes there on the other. It
// answers on this machine only, at localhost, and the sides at
// names below it, so that each has an origin of its own.
type Beside struct {
	Site   string
	Before BesideSide
	After  BesideSide
	Report difference.Report

	objects *httpanswer.Objects
}

// BesideSide is one of two releases, with what stands above it in the page.
type BesideSide struct {
	Label string // what it is: "production:12", "4be21c7"
	About string // its commit and the like
	difference.Side
}

// The names of the sides, below localhost.
const (
	beforeHost = "before.localhost"
	afterHost  = "after.localhost"
)

const besideScript = "/" + answer.Reserved + "/beside.js"

// NewBeside returns what shows two sides, whose files are in a store.
func NewBeside(store storage.Store, site string, before, after BesideSide, report difference.Report) *Beside {
	return &Beside{Site: site, Before: before, After: after, Report: report,
		objects: httpanswer.NewObjects(store, 64<<20, 0)}
}

// ServeHTTP implements http.Handler.
func (b *Beside) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch httpanswer.HostName(r.Host) {
	case beforeHost:
		b.side(w, r, b.Before)
	case afterHost:
		b.side(w, r, b.After)
	case "localhost", "127.0.0.1":
		if r.URL.Path != "/" {
			httpanswer.Say(w, r, http.StatusNotFound, "The comparison is at /.")
			return
		}
		b.frame(w, r)
	default:
		httpanswer.Say(w, r, http.StatusMisdirectedRequest, "This shows two releases of "+b.Site+
			" on this machine.")
	}
}

// Both sides are shown in frames, which many sites forbid: the fields that say so are left away here,
// and nowhere else. The script is added to pages only, and tells the frame around it where the page
// is.

// side answers from one release. Pages get the line by which they tell where
// they are; what would keep them out of a frame is left away.
func (b *Beside) side(w http.ResponseWriter, r *http.Request, side BesideSide) {
	if r.URL.Path == besideScript {
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		io.WriteString(w, sideScript) //nolint:errcheck // the browser has gone
		return
	}

	if side.Base != "" && r.URL.Path == "/" {
		httpanswer.RedirectToBase(w, side.Base)
		return
	}
	a, err := answer.Decide(r.Context(), httpanswer.RequestOf(r, side.Base, answer.Production, side.Now),
		side.Site)

	a.Header = slices.DeleteFunc(a.Header, func(f answer.Field) bool {
		return slices.Contains([]string{"X-Frame-Options", "Content-Security-Policy",
			"Strict-Transport-Security", "Clear-Site-Data"}, http.CanonicalHeaderKey(f.Name))
	})
	switch {
	case err != nil:
		httpanswer.Fail(w, r, err)
	case a.Upstream != nil:
		httpanswer.Say(w, r, http.StatusBadGateway, "A comparison does not pass requests on; this "+
			"one would go to "+
			a.Upstream.Where()+".")
	case a.File != nil && httpanswer.IsPage(a.File):
		if err := httpanswer.SendPage(w, r, a, b.objects, `<script src="`+besideScript+
			`"></script>`); err != nil {
			return
		}
	default:
		httpanswer.Respond(w, r, a, b.objects) //nolint:errcheck // the visitor has got a 500
	}
}

// frame sends the page with both sides.
func (b *Beside) frame(w http.ResponseWriter, r *http.Request) {
	_, port, _ := strings.Cut(r.Host, ":")
	moved := map[string]string{}
	type page struct{ Address, What string }
	var pages []page
	for _, item := range b.Report.Pages {
		what := string(item.Kind)
		if item.Kind == difference.Moved {
			moved[b.Before.Base+answer.Address(item.From)] = b.After.Base + item.Address
			what = "moved from " + answer.Address(item.From)
		}
		pages = append(pages, page{b.After.Base + item.Address, what})
	}

	pairs, err := json.Marshal(moved)
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}

	start := b.After.Base + "/"
	if len(pages) > 0 {
		start = pages[0].Address
	}
	var out bytes.Buffer

	err = besidePage.Execute(&out, map[string]any{
		//nolint:gosec // JSON by encoding/json
		"Site": b.Site, "Before": b.Before, "After": b.After, "Pages": pages, "Moved": template.JS(
			pairs), "Start": start,
		"BeforeOrigin": "http://" + beforeHost + ":" + port, "AfterOrigin": "http://" + afterHost + ":" +
			port,
	})
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}

	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Write(out.Bytes()) //nolint:errcheck // the browser has gone
}

// sideScript tells the frame where a page is and how far
// it is scrolled, and scrolls when told.
const sideScript = `(() => {
  const tell = what => parent.postMessage(what, "*");
  let told = 0;
  const height = () => Math.max(1, document.documentElement.scrollHeight - innerHeight);
  addEventListener("message", event => {
    if (event.source !== parent || typeof event.data.scroll !== "number") return;
    told = Date.now();
    scrollTo(0, event.data.scroll * height());
  });
  addEventListener("scroll", () => { if (Date.now() - told > 120) tell({ scroll: scrollY / height() }); }, { passive: true });
  tell({ at: location.pathname + location.search + location.hash, title: document.title });
})();
`

var besidePage = template.Must(template.New("beside").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Site}}: {{.Before.Label}} beside {{.After.Label}}</title>
<style>
  * { box-sizing: border-box; }
  body { margin: 0; height: 100vh; display: grid; grid-template-rows: auto 1fr; font: 14px/1.5 ui-sans-serif, system-ui, sans-serif; color: #1f2233; background: #efe9e4; }
  header { display: flex; gap: .8rem; align-items: center; padding: .55rem .8rem; background: #1f2233; color: #fdeee9; }
  header form { flex: 1; display: flex; gap: .5rem; }
  input, select { font: inherit; padding: .25rem .5rem; border: 1px solid #4a4d63; border-radius: .3rem; background: #fbf7f4; color: #1f2233; }
  form input { flex: 1; min-width: 8rem; font-family: ui-monospace, monospace; font-size: 13px; }
  select { max-width: 22rem; }
  main { display: grid; grid-template-columns: 1fr 1fr; gap: 6px; padding: 6px; min-height: 0; }
  section { display: grid; grid-template-rows: auto 1fr; min-height: 0; background: #fff; border-radius: .3rem; overflow: hidden; }
  h2 { margin: 0; padding: .35rem .7rem; font-size: 13px; font-weight: 600; background: #ece3dc; }
  section + section h2 { background: #f8d5cc; }
  h2 span { font-weight: 400; color: #5d5f73; margin-left: .5rem; }
  iframe { width: 100%; height: 100%; border: 0; background: #fff; }
  label { display: flex; gap: .3rem; align-items: center; white-space: nowrap; }
</style>
<header>
  <strong>{{.Site}}</strong>
  <form><input aria-label="address" value="{{.Start}}"></form>
  <select aria-label="pages that differ"><option value="">{{len .Pages}} {{if eq (len .Pages) 1}}page differs{{else}}pages differ{{end}}</option>{{range .Pages}}<option value="{{.Address}}">{{.Address}}  ({{.What}})</option>{{end}}</select>
  <label><input type="checkbox" checked> together</label>
</header>
<main>
  <section><h2>{{.Before.Label}}<span>{{.Before.About}}</span></h2><iframe title="before"></iframe></section>
  <section><h2>{{.After.Label}}<span>{{.After.About}}</span></h2><iframe title="after"></iframe></section>
</main>
<script>
  const moved = {{.Moved}}, back = Object.fromEntries(Object.entries(moved).map(([a, b]) => [b, a]));
  const [before, after] = document.querySelectorAll("iframe");
  const sides = [
    { frame: before, origin: "{{.BeforeOrigin}}", at: "", to: path => path in moved ? moved[path] : path },
    { frame: after, origin: "{{.AfterOrigin}}", at: "", to: path => path in back ? back[path] : path },
  ];
  const field = document.querySelector("input[aria-label]"), together = document.querySelector("input[type=checkbox]");
  const show = (side, path) => { side.at = path; side.frame.src = side.origin + path; };
  const go = path => { field.value = path; show(sides[1], path); show(sides[0], sides[1].to(path)); };
  addEventListener("message", event => {
    const from = sides.findIndex(side => side.frame.contentWindow === event.source && side.origin === event.origin);
    if (from < 0) return;
    const side = sides[from], other = sides[1 - from];
    if (typeof event.data.scroll === "number" && together.checked) other.frame.contentWindow.postMessage({ scroll: event.data.scroll }, other.origin);
    if (typeof event.data.at !== "string") return;
    const path = event.data.at;
    const was = side.at;
    side.at = path;
    if (from === 1 || !together.checked) field.value = path;
    if (was === path || !together.checked) return;
    const there = side.to(path);
    if (other.at !== there && other.wanted !== there) { other.wanted = there; show(other, there); if (from === 0) field.value = there; }
  });
  document.querySelector("form").addEventListener("submit", event => { event.preventDefault(); go(field.value.startsWith("/") ? field.value : "/" + field.value); });
  document.querySelector("select").addEventListener("change", event => { if (event.target.value) go(event.target.value); });
  go(field.value);
</script>
</html>
`))
