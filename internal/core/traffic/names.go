package traffic

import (
	"cmp"
	"slices"
	"strings"
)

// What strangers ask for is without end, and what is counted of it is not: names are kept up to
// a number, and when there are more, those that came least are dropped. What came often stays,
// and it is known how much of any name may have been dropped with the others (this is what
// "frequent items" algorithms do: Misra and Gries, 1982; in batches, as Metwally, Agrawal and
// El Abbadi's space saving does with single ones).

// A name may be somebody's secret: a link that opens something, an address that was mistyped
// with what stood in the clipboard. So it is told to nobody before it came from several visitors
// of a day, unless it is the name of a file that everybody can read anyway.

const (
	visitorsOfName = 3   // from so many a name is nobody's secret
	longestName    = 300 // bytes; what is longer is counted, and not named
)

// row is what is counted of one name.
type row struct {
	Count, Bytes int64 `json:",omitzero"`
	// Own and Elsewhere are how many of them a page of the site, or of another one, led there.
	Own, Elsewhere int64                  `json:",omitzero"`
	By             [visitorsOfName]uint32 `json:",omitzero"` // visitors, until there are enough
	Common         bool                   `json:",omitzero"` // nobody's secret
}

// Of a visitor 32 bits of the number are kept, on the node's own disk and until midnight, to know
// whether another one asks: of three visitors two have the same once in a thousand million times.

// table counts names, and keeps twice as many as it publishes.
type table struct {
	Rows map[string]*row `json:",omitempty"`
	// Dropped is how much of any name may have been dropped, at most.
	Dropped int64 `json:",omitzero"`
	// most is how many rows are kept after others were dropped.
	most int
}

// row returns the row of a name, or nil for one that is not kept. A visitor is given as a
// number; open tells that the name is nobody's secret.
func (t *table) row(name string, visitor uint64, open bool) *row {
	if len(name) > longestName || t.most == 0 {
		return nil
	}
	r := t.Rows[name]
	if r == nil {
		if len(t.Rows) >= 2*t.most {
			t.shrink()
		}
		if t.Rows == nil {
			t.Rows = map[string]*row{}
		}
		r = &row{}
		t.Rows[strings.Clone(name)] = r
	}
	if !r.Common {
		r.Common = open || r.seen(uint32(visitor)|1)
	}
	return r
}

// seen notes a visitor, and reports whether there are enough.
func (r *row) seen(visitor uint32) bool {
	for i, by := range r.By {
		switch by {
		case visitor:
			return false
		case 0:
			r.By[i] = visitor
			return i == visitorsOfName-1
		}
	}
	return true
}

// shrink drops the names that came least.
func (t *table) shrink() {
	names := t.order()
	for i := t.most; i < len(names); i++ {
		if i == t.most {
			t.Dropped += t.Rows[names[i]].Count
		}
		delete(t.Rows, names[i])
	}
}

// order returns the names, those that came most first.
func (t *table) order() []string {
	names := make([]string, 0, len(t.Rows))
	for name := range t.Rows {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(t.Rows[b].Count, t.Rows[a].Count), strings.Compare(a, b))
	})
	return names
}

// copy returns a table that shares nothing.
func (t *table) copy() table {
	c := *t
	c.Rows = make(map[string]*row, len(t.Rows))
	rows := make([]row, 0, len(t.Rows)) // one allocation for all: visitors wait for it
	for name, r := range t.Rows {
		rows = append(rows, *r)
		c.Rows[name] = &rows[len(rows)-1]
	}
	return c
}

// named returns what may be told, most first, most of them at most.
func (t *table) named() Names {
	n := Names{Missed: t.Dropped}
	for _, name := range t.order() {
		r := t.Rows[name]
		if !r.Common || r.Count == 0 {
			continue
		}
		if len(n.List) == t.most {
			n.Missed += r.Count
			break
		}
		n.List = append(n.List, Name{name, r.Count, r.Bytes, r.Own, r.Elsewhere})
	}
	return n
}

// next returns the table of the hour after this one, on the same day: names that were told stay
// so, and those that were not yet take with them what was counted.
func (t *table) next() table {
	n := table{most: t.most}
	for name, r := range t.Rows {
		if n.Rows == nil {
			n.Rows = map[string]*row{}
		}
		if r.Common {
			n.Rows[name] = &row{Common: true}
			continue
		}
		moved := *r
		n.Rows[name] = &moved
	}
	return n
}

// Names are names by how often they came.
type Names struct {
	List []Name `json:"list,omitempty"` // most first
	// Missed is how much of any name may be missing, at most, since too many came.
	Missed int64 `json:"missed,omitempty"`
}

// Name is what was counted of a path or a host.
type Name struct {
	Name     string `json:"name"`
	Requests int64  `json:"requests"`
	Bytes    int64  `json:"bytes,omitempty"`
	// Own and Elsewhere are how many of them a page of the site, or of another one, led there;
	// they are counted for what is missing.
	Own       int64 `json:"own,omitempty"`
	Elsewhere int64 `json:"elsewhere,omitempty"`
}

// A name that was told by one node and not by another is summed as far as it was told: what is
// missing of it is at most what each says.

// names sums lists of names.
type names struct {
	by     map[string]*Name
	missed int64
}

// add adds a list.
func (s *names) add(n Names) {
	if s.by == nil {
		s.by = map[string]*Name{}
	}
	for _, one := range n.List {
		sum := s.by[one.Name]
		if sum == nil {
			sum = &Name{Name: one.Name}
			s.by[one.Name] = sum
		}
		sum.Requests += one.Requests
		sum.Bytes += one.Bytes
		sum.Own += one.Own
		sum.Elsewhere += one.Elsewhere
	}
	s.missed += n.Missed
}

// list returns the sum, most first; most of them at most, 0 for all.
func (s *names) list(most int) Names {
	n := Names{Missed: s.missed}
	for _, one := range s.by {
		n.List = append(n.List, *one)
	}
	slices.SortFunc(n.List, func(a, b Name) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Name, b.Name))
	})
	if most > 0 && len(n.List) > most {
		n.Missed += n.List[most].Requests
		n.List = n.List[:most]
	}
	return n
}
