package traffic

import (
	"maps"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/visits"
)

// Bounds are how many names are published of an environment and an hour. Twice as many are kept.
type Bounds struct{ Paths, Missing, Referrers int }

// Usual are the bounds of a tally, which then takes up to some 400 kB; Few are those of one of
// very many.
var (
	Usual = Bounds{500, 200, 100}
	Few   = Bounds{50, 20, 10}
)

// statusesMost bounds what an upstream may make up.
const statusesMost = 100

// Tally counts the visits of one environment within one hour. Its fields are what a node keeps
// on its own disk; what others may know of it is in Counts. It is used by one at a time.
type Tally struct {
	Sum       Totals
	Paths     table
	Missing   table
	Referrers table
	// Visitors by the names of the salts that they were numbered under.
	Visitors map[string]*Sketch `json:",omitempty"`
}

// NewTally returns a tally that has counted nothing.
func NewTally(b Bounds) *Tally { return (&Tally{}).Within(b) }

// Within sets the bounds, also of a tally that was read from disk.
func (t *Tally) Within(b Bounds) *Tally {
	t.Paths.most, t.Missing.most, t.Referrers.most = b.Paths, b.Missing, b.Referrers
	return t
}

// Next returns the tally of an hour after this one, on the same day: its visitors still have the
// numbers that they had.
func (t *Tally) Next() *Tally {
	return &Tally{Paths: t.Paths.next(), Missing: t.Missing.next(), Referrers: t.Referrers.next()}
}

// Add counts a visit; number is that of the visitor under a salt.
func (t *Tally) Add(v *visits.Visit, salt string, number uint64) {
	s := &t.Sum
	s.Requests++
	s.Bytes += v.Bytes
	count(&s.Statuses, statusText(v.Status))
	count(&s.By, string(v.By))
	if v.Cache != visits.NoContent {
		count(&s.Cache, string(v.Cache))
	}
	if v.Encoding != "" {
		count(&s.Encodings, encodingOf(v.Encoding))
	}
	program := IsProgram(v.Agent)
	if program {
		s.Programs++
	} else if v.By != visits.ByRefusal {
		t.visitor(salt, number)
	}
	reading := v.Method == http.MethodGet || v.Method == http.MethodHead
	if !reading {
		return
	}
	name := visits.Mask(v.Path)
	switch from := hostOf(v.Referrer); {
	case v.Status == http.StatusNotFound || v.Status == http.StatusGone:
		if r := t.Missing.row(name, number, false); r != nil {
			r.Count++
			switch {
			case v.Fetch == "same-origin" || from != "" && from == v.Host:
				r.Own++
			case from != "" || v.Fetch == "cross-site" || v.Fetch == "same-site":
				r.Elsewhere++
			}
		}
		return
	case from != "" && from != v.Host && !program:
		if r := t.Referrers.row(from, number, false); r != nil {
			r.Count++
		}
	}
	if v.Status >= http.StatusBadRequest || v.By == visits.ByAccess || v.By == visits.ByNode {
		return
	}
	// What is a file is no secret to whoever can read what is counted: it lies in the same store.
	if r := t.Paths.row(name, number, v.By == visits.ByFile); r != nil {
		r.Count++
		r.Bytes += v.Bytes
	}
	if !program && isPage(v) {
		s.Pages++
	}
}

// statusTexts are the statuses as texts, since each visit has one.
var statusTexts = func() (list [600]string) {
	for i := range list {
		list[i] = strconv.Itoa(i)
	}
	return list
}()

// statusText is a status as a text.
func statusText(status int) string {
	if status < 0 || status >= len(statusTexts) {
		return "other"
	}
	return statusTexts[status]
}

// visitor adds a visitor.
func (t *Tally) visitor(salt string, number uint64) {
	sketch := t.Visitors[salt]
	if sketch == nil {
		const most = 4 // a node changes its salt once a day, or when it finds the others'
		if len(t.Visitors) >= most {
			return
		}
		if t.Visitors == nil {
			t.Visitors = map[string]*Sketch{}
		}
		sketch = &Sketch{}
		t.Visitors[salt] = sketch
	}
	sketch.Add(number)
}

// isPage reports whether a visit was one of a page, and not of what a page loads.
func isPage(v *visits.Visit) bool {
	if v.Method != http.MethodGet || v.Status != http.StatusOK && v.Status != http.StatusNotModified ||
		v.By != visits.ByFile && v.By != visits.ByFallback && v.By != visits.ByRule {
		return false
	}
	return IsPage(v.Path)
}

// IsPage reports whether a path is one of a page, as far as it tells.
func IsPage(at string) bool { return path.Ext(at) == "" || media.ClassOf(at) == media.Page }

// Whoever pretends to be a browser is taken for a person: counting heads by what they say of
// themselves is as good as it gets without asking them to run something.

// IsProgram reports whether a visitor says that it is a program: browsers call themselves
// Mozilla, and those who are polite and not browsers say that they are none.
func IsProgram(agent string) bool {
	if !strings.HasPrefix(agent, "Mozilla/") {
		return true
	}
	// Without their first letters, which may be capital ones.
	for _, word := range []string{"rawl", "pider", "+http"} {
		if strings.Contains(agent, word) {
			return true
		}
	}
	return strings.Contains(agent, "ot") && (strings.Contains(agent, "bot") || strings.Contains(agent, "Bot"))
}

// hostOf is the host of where a visitor came from, as visits have hosts: in small letters, without a
// port; "" if it is not known.
func hostOf(referrer string) string {
	if referrer == "" {
		return ""
	}
	at, err := url.Parse(referrer)
	if err != nil || at.Scheme != "http" && at.Scheme != "https" {
		return ""
	}
	return strings.ToLower(strings.TrimSuffix(at.Hostname(), "."))
}

// encodingOf keeps what an upstream may make up to what there is.
func encodingOf(encoding string) string {
	switch encoding {
	case "br", "gzip", "zstd", "dcb", "dcz", "identity":
		return encoding
	}
	return "other"
}

// count counts one more of a name, of which there are not many.
func count(in *map[string]int64, name string) {
	if *in == nil {
		*in = map[string]int64{}
	}
	if _, known := (*in)[name]; known || len(*in) < statusesMost {
		(*in)[name]++
	}
}

// Told is what others may know of what was counted.
func (t *Tally) Told() Counts {
	return Counts{Totals: t.Sum.clone(), Paths: t.Paths.named(), Missing: t.Missing.named(),
		Referrers: t.Referrers.named(), Visitors: t.Visitors}
}

// Bounds are those that were set.
func (t *Tally) Bounds() Bounds { return Bounds{t.Paths.most, t.Missing.most, t.Referrers.most} }

// A tally is copied while a visitor waits, and written as JSON while none does: the copy takes some
// tens of microseconds, the writing a hundred times that.

// Copy returns a tally that shares nothing.
func (t *Tally) Copy() *Tally {
	c := &Tally{Sum: t.Sum.clone(), Paths: t.Paths.copy(), Missing: t.Missing.copy(),
		Referrers: t.Referrers.copy()}
	for salt, sketch := range t.Visitors {
		if c.Visitors == nil {
			c.Visitors = map[string]*Sketch{}
		}
		c.Visitors[salt] = &Sketch{few: maps.Clone(sketch.few), all: slices.Clone(sketch.all)}
	}
	return c
}
