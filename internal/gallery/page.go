package gallery

import (
	"bytes"
	_ "embed" // for the page below
	"encoding/json"
	"errors"
	"html/template"
	"image/png"
	"net/http"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// Exhibition shows pictures in a page on this machine: of one release, or of two beside each other.
//
//	/                       the page
//	/picture/before/3.png   the picture of the fourth outcome, as it was
//	/picture/after/3.png    and as it is
//	/difference/3.png       what changed, drawn
type Exhibition struct {
	Site                  string
	BeforeName, AfterName string
	Before, After         *Taken // the first may be nil: there is nothing to compare with
	Outcomes              []Outcome
}

//go:embed page.html
var pageHTML string

var page = template.Must(template.New("pictures").Parse(pageHTML))

// shown is one outcome as the page's script has it.
type shown struct {
	Name    string            `json:"name"`
	View    string            `json:"view"`
	Width   int               `json:"width"`
	State   string            `json:"state"`
	Percent float64           `json:"percent"`
	Problem string            `json:"problem,omitempty"`
	Regions []pictures.Region `json:"regions"`
	Before  bool              `json:"before"` // there is a picture
	After   bool              `json:"after"`
}

// ServeHTTP implements http.Handler. It answers at localhost only: another name that leads here is that of
// a page elsewhere, which wants to read what is shown.
func (e *Exhibition) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch httpanswer.HostName(r.Host) {
	case "localhost", "127.0.0.1":
	default:
		httpanswer.Say(
			w,
			r,
			http.StatusMisdirectedRequest,
			"This shows pictures of "+e.Site+" on this machine.",
		)
		return
	}
	kind, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	switch kind {
	case "":
		e.frame(w, r)
	case "picture":
		side, number, _ := strings.Cut(rest, "/")
		e.picture(w, r, side, number)
	case "difference":
		e.difference(w, r, rest)
	default:
		httpanswer.Say(w, r, http.StatusNotFound, "The pictures are at /.")
	}
}

// all lists what is shown: outcomes, or the pictures of one release.
func (e *Exhibition) all() []Outcome {
	if e.Before != nil {
		return e.Outcomes
	}
	var list []Outcome
	for _, shot := range e.After.Shots {
		list = append(
			list,
			Outcome{Pair: Pair{After: shot.Path}, View: shot.View, State: StateNew, Problem: shot.Problem,
				After: shot},
		)
	}
	return list
}

// The page gets what it shows as data, and makes its elements of that by itself: subjects of commits
// and paths are texts of others, and never markup.

// frame sends the page.
func (e *Exhibition) frame(w http.ResponseWriter, r *http.Request) {
	list := []shown{}
	for _, o := range e.all() {
		name := o.Pair.After
		switch {
		case name == "":
			name = o.Pair.Before
		case o.Pair.Before != "" && o.Pair.Before != name:
			name = o.Pair.Before + " → " + name
		}
		list = append(list, shown{Name: name, View: o.View.String(), Width: o.Width, State: o.State,
			Percent: o.Share * 100, Problem: o.Problem, Regions: o.Regions, Before: has(o.Before),
			After: has(o.After)})
	}
	data, err := json.Marshal(list)
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}
	var out bytes.Buffer
	err = page.Execute(&out, map[string]any{"Site": e.Site, "Before": e.BeforeName, "After": e.AfterName,
		"Compares": e.Before != nil, "List": template.JS(data)}) //nolint:gosec // JSON by encoding/json
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().
		Set("Content-Security-Policy", "default-src 'none'; img-src 'self'; "+
			"style-src 'unsafe-inline'; script-src 'unsafe-inline'")
	w.Header().Set("Cache-Control", "no-store")
	w.Write(out.Bytes()) //nolint:errcheck // the browser has gone
}

// has reports whether there is a picture.
func has(shot pictures.Shot) bool { return shot.Problem == "" && shot.Bytes > 0 }

// at returns the outcome of a number such as 3.png.
func (e *Exhibition) at(number string) (Outcome, bool) {
	list := e.all()
	n, err := strconv.Atoi(strings.TrimSuffix(number, ".png"))
	if err != nil || n < 0 || n >= len(list) {
		return Outcome{}, false
	}
	return list[n], true
}

// Pictures are asked for by their number in the list, and not by digest: nothing else of the store can
// be read through this page.

// picture sends one picture.
func (e *Exhibition) picture(w http.ResponseWriter, r *http.Request, side, number string) {
	o, found := e.at(number)
	taken, shot := e.After, o.After
	if side == "before" {
		taken, shot = e.Before, o.Before
	}
	if !found || taken == nil || !has(shot) {
		httpanswer.Say(w, r, http.StatusNotFound, "There is no such picture.")
		return
	}
	data, err := taken.PNG(r.Context(), shot)
	e.send(w, r, data, err)
}

// send sends an image.
func (e *Exhibition) send(w http.ResponseWriter, r *http.Request, data []byte, err error) {
	if errors.Is(err, storage.ErrNotFound) || errors.Is(err, pictures.ErrUnreadable) {
		httpanswer.Say(w, r, http.StatusNotFound, "The picture is not in the store any more.")
		return
	}
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Write(data) //nolint:errcheck // the browser has gone
}

// Differences are drawn when somebody looks at them: a page of a hundred comparisons is opened for three.

// difference draws what changed.
func (e *Exhibition) difference(w http.ResponseWriter, r *http.Request, number string) {
	o, found := e.at(number)
	if !found || !has(o.Before) || !has(o.After) {
		httpanswer.Say(w, r, http.StatusNotFound, "There is no such picture.")
		return
	}
	before, err := e.Before.Image(r.Context(), o.Before)
	if err != nil {
		e.send(w, r, nil, err)
		return
	}
	after, err := e.After.Image(r.Context(), o.After)
	if err != nil {
		e.send(w, r, nil, err)
		return
	}
	var out bytes.Buffer
	err = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&out,
		pictures.Difference(after, pictures.Compare(before, after)))
	e.send(w, r, out.Bytes(), err)
}
