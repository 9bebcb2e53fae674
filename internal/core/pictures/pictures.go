// Package pictures holds what is known of the pictures of a release's pages, and how two of them
// differ.
//
//	sites/corvane/pictures/<release>/<key>   a Record: which pages, in which views, as which images
//	sites/corvane/images/<digest>            an image, in PNG
//
//	c := pictures.Compare(before, after)     the share that changed, and where; what moved
//
// Pictures are derived: they may be dropped at any time, and taken again. Two are compared only if
// they were taken alike, which the key says: by the same version of the taking, and by a browser
// that draws the same letters in the same way. So pictures of two machines are not compared, where
// every letter would differ.
package pictures

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Format is the version of records. Taking is the version of how pictures are taken: one that changes
// what is in a picture has another number.
const (
	Format = 1
	Taking = 1
)

// Bounds of pictures.
const (
	// MostHeight is how many pixels of a page are in its picture; of a longer one, the first.
	MostHeight = 8000
	// MostShots is how many pictures a record names.
	MostShots = 2000
	// MostImage is how many bytes an image has at most: as many as a store keeps under one key.
	MostImage = storage.MaxObject
	// LeastWidth is the least width that a picture can have, in pixels.
	LeastWidth = 240
	// MostWidth is the most.
	MostWidth = 3840
)

// ErrUnreadable: the record is none, or one of a later version.
var ErrUnreadable = errors.New("not a record of pictures that this version reads")

// The schemes that a page can be asked for (Media Queries Level 5, prefers-color-scheme).
const (
	Light = "light"
	Dark  = "dark"
)

// View is how a page is looked at.
type View struct {
	Width  int    `json:"width"`  // of the window, in CSS pixels
	Scheme string `json:"scheme"` // Light or Dark
}

// Height is how high the window is: as high as telephones and laptops of that width are.
func (v View) Height() int {
	if v.Width < 600 {
		return 844
	}
	return 800
}

// String returns "390 light".
func (v View) String() string { return fmt.Sprintf("%d %s", v.Width, v.Scheme) }

// Views lists every combination of widths and schemes.
func Views(widths []int, schemes []string) (list []View) {
	for _, scheme := range schemes {
		for _, width := range widths {
			list = append(list, View{width, scheme})
		}
	}
	return list
}

// Shot is one picture of a page, or why there is none.
type Shot struct {
	Path string `json:"path"` // of the page's address, below the base path: "/fares"
	View
	Image  digest.Digest `json:"image,omitzero"` // unset if there is none
	Bytes  int64         `json:"bytes,omitempty"`
	Height int           `json:"height,omitempty"` // of the picture, in pixels
	// Cut: the page is longer than MostHeight.
	Cut bool `json:"cut,omitempty"`
	// Restless: the page did not become quiet; the picture is of the moment at which it was given up.
	Restless bool `json:"restless,omitempty"`
	// Blocked are addresses of others that the page asked for, and did not get: a few of them.
	Blocked []string `json:"blocked,omitempty"`
	// Problem says why there is no picture.
	Problem string `json:"problem,omitempty"`
}

// compare sorts shots by path, scheme and width.
func (s Shot) compare(other Shot) int {
	return cmp.Or(strings.Compare(s.Path, other.Path), strings.Compare(s.Scheme, other.Scheme)*-1,
		cmp.Compare(s.Width, other.Width))
}

// Record is what was taken of one release in one way.
type Record struct {
	Format  int        `json:"format"`
	Release release.ID `json:"release"`
	Key     string     `json:"key"`
	Browser string     `json:"browser"` // its product and version
	When    time.Time  `json:"when"`    // of the last picture
	Shots   []Shot     `json:"shots"`   // in order of path, light first, narrow first
}

// Key names a way of taking pictures. drawn is the picture of the same letters and shapes that each
// browser draws first; hidden are the selectors of what is masked.
func Key(drawn digest.Digest, hidden []string) string {
	hidden = slices.Clone(hidden)
	slices.Sort(hidden)
	text := fmt.Sprintf("%d\n%s\n%s", Taking, drawn, strings.Join(slices.Compact(hidden), "\n"))
	const length = 16 // digits: enough to tell ways apart, of which a site has a few
	return digest.Of([]byte(text)).String()[:length]
}

// Find returns the picture of a page in a view.
func (r Record) Find(path string, view View) (Shot, bool) {
	i, found := slices.BinarySearchFunc(r.Shots, Shot{Path: path, View: view}, Shot.compare)
	if !found {
		return Shot{}, false
	}
	return r.Shots[i], true
}

// With returns the record with more shots, which take the place of those of the same page and view.
func (r Record) With(when time.Time, shots ...Shot) Record {
	all := slices.Concat(shots, r.Shots)
	slices.SortStableFunc(all, Shot.compare)
	r.Shots = slices.CompactFunc(all, func(a, b Shot) bool { return a.compare(b) == 0 })
	r.Shots = r.Shots[:min(len(r.Shots), MostShots)]
	r.When = when.UTC().Truncate(time.Second)
	return r
}

// Images lists the images that a record names, each once.
func (r Record) Images() (list []digest.Digest) {
	for _, shot := range r.Shots {
		if shot.Image != (digest.Digest{}) && !slices.Contains(list, shot.Image) {
			list = append(list, shot.Image)
		}
	}
	return list
}

// Encode writes a record in canonical JSON (RFC 8785).
func (r Record) Encode() ([]byte, error) { return canon.Marshal(r) }

// Decode reads a record that is kept for a release and a key. Whoever may write to the store may have
// written anything: what cannot be a picture is no record.
func Decode(data []byte, id release.ID, key string) (Record, error) {
	var r Record
	if err := json.Unmarshal(data, &r); err != nil || r.Format != Format || r.Release != id || r.Key != key ||
		len(r.Shots) > MostShots {
		return Record{}, ErrUnreadable
	}
	for i, shot := range r.Shots {
		if !strings.HasPrefix(shot.Path, "/") || shot.Width < LeastWidth || shot.Width > MostWidth ||
			shot.Scheme != Light && shot.Scheme != Dark || shot.Height < 0 || shot.Height > MostHeight ||
			i > 0 && r.Shots[i-1].compare(shot) >= 0 {
			return Record{}, ErrUnreadable
		}
	}
	return r, nil
}
