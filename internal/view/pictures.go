package view

import (
	"fmt"
	"image"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/gallery"
)

// PicturesReport is what orilla pictures prints with --json.
type PicturesReport struct {
	Name     string          `json:"name"` // what was typed, or the entry that is live
	Release  string          `json:"release"`
	Commit   string          `json:"commit,omitempty"`
	Subject  string          `json:"subject,omitempty"`
	Browser  string          `json:"browser"`
	Isolated bool            `json:"isolated"` // the browser saw nothing of this machine
	Taken    int             `json:"taken"`    // now; the others were there
	Left     int             `json:"left"`     // pages that changed too, and of which none were taken
	Pictures []PictureReport `json:"pictures"`
}

// PictureReport is one picture of a page, or why there is none.
type PictureReport struct {
	Path     string   `json:"path"`
	Width    int      `json:"width"`
	Scheme   string   `json:"scheme"`
	Image    string   `json:"image,omitempty"` // the SHA-256 of the PNG
	Height   int      `json:"height,omitempty"`
	Bytes    int64    `json:"bytes,omitempty"`
	File     string   `json:"file,omitempty"`     // where --out put it
	Cut      bool     `json:"cut,omitempty"`      // the page is longer than its picture
	Restless bool     `json:"restless,omitempty"` // the page did not become quiet
	Blocked  []string `json:"blocked,omitempty"`  // origins of others that it asked for, in vain
	Problem  string   `json:"problem,omitempty"`
}

// A picture that could not be taken has no digest, and says why. Programs look at problem first.

// DescribePicture is a picture as a report has it.
func DescribePicture(shot pictures.Shot) PictureReport {
	r := PictureReport{
		Path:     shot.Path,
		Width:    shot.Width,
		Scheme:   shot.Scheme,
		Height:   shot.Height,
		Bytes:    shot.Bytes,
		Cut:      shot.Cut,
		Restless: shot.Restless,
		Blocked:  shot.Blocked,
		Problem:  shot.Problem,
	}
	if shot.Problem == "" {
		r.Image = shot.Image.String()
	}
	return r
}

// A star marks what a line below explains. The lines are the same for all views of a page, so each is told
// once.

// PrintPictures shows which pictures were taken: a row for each page, a column for each view.
func PrintPictures(c *console.Console, r PicturesReport, views []pictures.View) {
	rows := [][]string{{"PAGE"}}
	for _, view := range views {
		rows[0] = append(rows[0], strings.ToUpper(view.String()))
	}
	byPath := map[string]int{}
	var notes []string
	for _, p := range r.Pictures {
		at, known := byPath[p.Path]
		if !known {
			at = len(rows)
			byPath[p.Path] = at
			rows = append(rows, append([]string{p.Path}, make([]string, len(views))...))
		}
		for i, view := range views {
			if view.Width == p.Width && view.Scheme == p.Scheme {
				rows[at][i+1] = pictureCell(p)
			}
		}
		notes = append(notes, pictureNotes(p)...)
	}
	c.Table(rows)
	for _, note := range distinct(notes) {
		c.Note("%s", note)
	}
}

// pictureCell is a picture in a table.
func pictureCell(p PictureReport) string {
	if p.Problem != "" {
		return console.Bad("none")
	}
	text := fmt.Sprintf("%d high, %s", p.Height, console.Size(p.Bytes))
	if p.Cut || p.Restless {
		text += console.Warn(" *")
	}
	return text
}

// Each note begins with a word that can be looked for in a log of a pipeline, and says what would help where
// something would.

// pictureNotes says what is to be known of a picture.
func pictureNotes(p PictureReport) (notes []string) {
	if p.Problem != "" {
		notes = append(notes, fmt.Sprintf("%s %s: %s", console.Bad("no picture:"), p.Path, p.Problem))
	}
	if p.Cut {
		notes = append(notes, fmt.Sprintf("%s %s is longer than its picture of %d pixels",
			console.Warn("cut:"), p.Path, p.Height))
	}
	if p.Restless {
		notes = append(notes, fmt.Sprintf("%s %s went on changing; its pictures may differ each time "+
			"(pictures.ignore leaves parts out)", console.Warn("restless:"), p.Path))
	}
	if len(p.Blocked) > 0 {
		notes = append(
			notes,
			fmt.Sprintf("%s %s asked for %s, which is not in the release and not in the picture",
				console.Warn("left out:"), p.Path, strings.Join(p.Blocked, ", ")),
		)
	}
	return notes
}

// Notes are the same for each width of a page, mostly.

// distinct leaves out what comes again.
func distinct(list []string) (once []string) {
	seen := map[string]bool{}
	for _, text := range list {
		if !seen[text] {
			seen[text] = true
			once = append(once, text)
		}
	}
	return once
}

// SeenPages is what orilla diff --pictures prints with --json.
type SeenPages struct {
	Before  string       `json:"before"`
	After   string       `json:"after"`
	Browser string       `json:"browser"`
	Limit   *float64     `json:"fail_above,omitempty"` // in percent
	Failed  bool         `json:"failed"`               // something is above it
	Left    int          `json:"left"`                 // pages that changed too, and were not compared
	Pages   []SeenReport `json:"pages"`
}

// SeenReport is how one page looks in one view, beside how it looked.
type SeenReport struct {
	Path   string `json:"path,omitempty"` // where it is now; none if it is gone
	From   string `json:"from,omitempty"` // where it was, if that is another path
	Width  int    `json:"width"`
	Scheme string `json:"scheme"`
	// "same", "changed", "new", "gone", "unknown"
	State   string       `json:"state"`
	Percent float64      `json:"percent"` // of its pixels that changed
	Regions []SeenRegion `json:"regions,omitempty"`
	Problem string       `json:"problem,omitempty"`
}

// SeenRegion is a part of a page that looks different; the numbers are pixels.
type SeenRegion struct {
	Kind   string `json:"kind"` // "changed", "moved", "added", "removed"
	X      int    `json:"x"`
	Y      int    `json:"y"`
	Width  int    `json:"width"`
	Height int    `json:"height"`
	// of what moved: by how much
	Right int `json:"right,omitempty"`
	Down  int `json:"down,omitempty"`
}

// A region lies where it is now; one that was removed lies where it was, in the place that others have
// taken. So each of them can be found in the picture after, which is the one that is looked at.

// DescribeSeen is an outcome as a report has it.
func DescribeSeen(o gallery.Outcome) SeenReport {
	r := SeenReport{
		Path:    o.Pair.After,
		Width:   o.Width,
		Scheme:  o.Scheme,
		State:   o.State,
		Percent: o.Share * 100,
		Problem: o.Problem,
	}
	if o.Pair.Before != o.Pair.After {
		r.From = o.Pair.Before
	}
	for _, region := range o.Regions {
		at := region.After
		if region.Kind == pictures.Removed {
			at = image.Rect(region.Before.Min.X, region.After.Min.Y, region.Before.Max.X,
				region.After.Min.Y+region.Before.Dy())
		}
		one := SeenRegion{
			Kind:   string(region.Kind),
			X:      at.Min.X,
			Y:      at.Min.Y,
			Width:  at.Dx(),
			Height: at.Dy(),
		}
		if region.Kind == pictures.Moved {
			by := region.After.Min.Sub(region.Before.Min)
			one.Right, one.Down = by.X, by.Y
		}
		r.Regions = append(r.Regions, one)
	}
	return r
}

// mostRegionLines is how many regions of a picture are told.
const mostRegionLines = 4

// The table has a row for each page, so that one sees at a glance which pages changed and in which
// views; where they did is below the row, a few lines of each view. The pictures themselves are a
// command away.

// PrintSeen shows how pages look beside how they looked: a row for each page, a column for each view, and
// where they differ.
func PrintSeen(c *console.Console, r SeenPages, views []pictures.View) {
	rows := [][]string{{"PAGE"}}
	for _, view := range views {
		rows[0] = append(rows[0], strings.ToUpper(view.String()))
	}
	byPage := map[string]int{}
	below := map[int][]string{}
	for _, p := range r.Pages {
		name := seenName(p)
		at, known := byPage[name]
		if !known {
			at = len(rows)
			byPage[name] = at
			rows = append(rows, append([]string{name}, make([]string, len(views))...))
		}
		for i, view := range views {
			if view.Width == p.Width && view.Scheme == p.Scheme {
				rows[at][i+1] = seenCell(p)
			}
		}
		below[at] = append(below[at], seenLines(p)...)
	}
	console.TableWith(c, rows, func(row int) []string { return below[row] })
}

// A page that moved is called by both of its addresses, as a rename is in a list of changes.

// seenName is what a page is called.
func seenName(p SeenReport) string {
	switch {
	case p.From != "" && p.Path != "":
		return p.From + " -> " + p.Path
	case p.Path == "":
		return p.From
	}
	return p.Path
}

// What changed is a warning and no error: mostly it was meant. What is gone, or cannot be told, is worth a
// look.

// seenCell is how a page looks in one view.
func seenCell(p SeenReport) string {
	switch p.State {
	case gallery.StateSame:
		return console.Faint("same")
	case gallery.StateChanged:
		if p.Percent == 0 {
			return console.Warn("moved") // all that differs is elsewhere
		}
		return console.Warn("changed " + Percent(p.Percent))
	case gallery.StateNew:
		return console.Good("new")
	case gallery.StateGone:
		return console.Bad("gone")
	}
	return console.Bad("unknown")
}

// A comma is a few pixels of a million. It is told as less than a hundredth of a percent, and never as
// nothing.

// Percent writes a share: 0.002 % is not 0.0 %.
func Percent(v float64) string {
	switch {
	case v == 0:
		return "0 %"
	case v < 0.01:
		return "< 0.01 %"
	case v < 1:
		return fmt.Sprintf("%.2f %%", v)
	}
	return fmt.Sprintf("%.1f %%", v)
}

// Where something is, is told in pixels from the top left of the picture, as tools that open pictures count.

// seenLines says where a page looks different.
func seenLines(p SeenReport) (lines []string) {
	add := func(format string, args ...any) {
		lines = append(
			lines,
			console.Faint(fmt.Sprintf("  %d %s  ", p.Width, p.Scheme)+fmt.Sprintf(format, args...)),
		)
	}
	for i, r := range p.Regions {
		if i == mostRegionLines {
			add("and %d more", len(p.Regions)-i)
			break
		}
		if r.Kind == string(pictures.Moved) {
			add("moved by %s: %d x %d at %d, %d", way(r.Right, r.Down), r.Width, r.Height, r.X, r.Y)
			continue
		}
		add("%s: %d x %d at %d, %d", r.Kind, r.Width, r.Height, r.X, r.Y)
	}
	if p.Problem != "" {
		add("%s", p.Problem)
	}
	return lines
}

// Down comes first: most of what moves on a page moves down.

// way says in words by how much something moved.
func way(right, down int) string {
	var parts []string
	for _, one := range []struct {
		by          int
		word, other string
	}{{down, "down", "up"}, {right, "to the right", "to the left"}} {
		switch {
		case one.by > 0:
			parts = append(parts, fmt.Sprintf("%d %s", one.by, one.word))
		case one.by < 0:
			parts = append(parts, fmt.Sprintf("%d %s", -one.by, one.other))
		}
	}
	return strings.Join(parts, " and ")
}
