package httpanswer

import (
	"bytes"
	"html/template"
	"net/http"
	"strconv"
)

// Page answers with a page of the edge node's own, which nobody keeps.
func Page(w http.ResponseWriter, r *http.Request, status int, template *template.Template, by string,
	about any,
) string {
	var page bytes.Buffer
	if err := template.Execute(&page, about); err != nil {
		Fail(w, r, err)
		return "trouble"
	}

	header := w.Header()
	header.Set("Content-Type", "text/html; charset=utf-8")
	header.Set("Content-Length", strconv.Itoa(page.Len()))
	header.Set("Cache-Control", "no-store")
	header.Set("X-Robots-Tag", "noindex")
	header.Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(status)
	if r.Method != http.MethodHead {
		w.Write(page.Bytes()) //nolint:errcheck // the visitor has gone
	}

	return by
}

// PageStyle is how the edge node's own pages look: ink and coral.
const PageStyle = `
  body { margin: 0; min-height: 100vh; display: grid; place-items: center; background: #fbf7f4; color: #1f2233;
    font: 17px/1.6 ui-sans-serif, system-ui, sans-serif; }
  main { max-width: 34rem; padding: 2rem; }
  h1 { font-size: 1.7rem; line-height: 1.2; margin: 0 0 .6rem; }
  code { background: #1f2233; color: #fdeee9; padding: .35rem .7rem; border-radius: .3rem; font-size: .95em; }
  svg { display: block; width: 100%; height: 34px; margin-bottom: 1.4rem; }
  path { fill: none; stroke: #e8604c; stroke-width: 3; stroke-linecap: round; }
  path + path { stroke: #f5b8aa; }
  a { color: #b93f2c; }
  .faint { color: #62647a; margin-bottom: -.4rem; }
`

// Waves is the picture at the top of them.
const Waves = `<svg viewBox="0 0 400 34" aria-hidden="true" preserveAspectRatio="none"><path d="M4 12c32-14 66 14 98 0s66 14 98 0 66 14 98 0 66 14 98 0"/><path d="M4 26c32-14 66 14 98 0s66 14 98 0 66 14 98 0 66 14 98 0"/></svg>`
