// Package traffic counts what visitors ask for, without keeping who they are.
//
//	visit --> Tally, for each environment and hour --> Record, one object in the store
//	          of a node: bounded, on its own disk       numbers, and names that are no secret
//
//	records of all nodes --> Sum --> by hour, by day, and over a time
//
// What a record of a node looks like (docs/store-format.md has all of it):
//
//	{
//	  "day": "2026-11-29", "node": "pier-7420", "site": "corvane",
//	  "hours": {"14": {"production": {
//	    "requests": 1200, "bytes": 4800000, "pages": 300, "programs": 60,
//	    "statuses": {"200": 1169, "301": 10, "404": 20, "502": 1},
//	    "paths": {"list": [{"name": "/fares", "requests": 240, "bytes": 310000}]},
//	    "missing": {"list": [{"name": "/old-fares", "requests": 9, "elsewhere": 7}]},
//	    "visitors": {"4be21c7a90d1": "AAECAwQF"}
//	  }}}
//	}
//
// A record says the whole of what one node counted of one site within one hour. A node that
// counts on writes it again under the same key, so nothing is ever counted twice, and whoever
// reads adds up what is there. What is in one is bounded, whatever strangers ask for, and holds
// no address of anybody: visitors are a sketch (Sketch), and a name is told when several have
// asked for it (row).
package traffic

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/canon"
)

// Format is the version of records, which are read leniently.
const Format = 1

// Totals are the sums of a time.
type Totals struct {
	Requests int64 `json:"requests"`
	Bytes    int64 `json:"bytes"`
	Pages    int64 `json:"pages,omitempty"`    // pages that were shown to people
	Programs int64 `json:"programs,omitempty"` // requests of those who say that they are programs
	// Statuses, what answered (visits.By), where content came from (visits.Cache), and how it was
	// encoded.
	Statuses  map[string]int64 `json:"statuses,omitempty"`
	By        map[string]int64 `json:"by,omitempty"`
	Cache     map[string]int64 `json:"cache,omitempty"`
	Encodings map[string]int64 `json:"encodings,omitempty"`
}

// clone returns totals that share nothing.
func (t Totals) clone() Totals {
	t.Statuses, t.By = maps.Clone(t.Statuses), maps.Clone(t.By)
	t.Cache, t.Encodings = maps.Clone(t.Cache), maps.Clone(t.Encodings)
	return t
}

// add adds others.
func (t *Totals) add(o Totals) {
	t.Requests += o.Requests
	t.Bytes += o.Bytes
	t.Pages += o.Pages
	t.Programs += o.Programs
	for _, pair := range []struct {
		to   *map[string]int64
		from map[string]int64
	}{{&t.Statuses, o.Statuses}, {&t.By, o.By}, {&t.Cache, o.Cache}, {&t.Encodings, o.Encodings}} {
		for name, n := range pair.from {
			if *pair.to == nil {
				*pair.to = map[string]int64{}
			}
			(*pair.to)[name] += n
		}
	}
}

// Status is how many answers had a status from low to high.
func (t Totals) Status(low, high int) (n int64) {
	for text, count := range t.Statuses {
		var status int
		if _, err := fmt.Sscanf(text, "%d", &status); err == nil && low <= status && status <= high {
			n += count
		}
	}
	return n
}

// Counts are what is told of one environment and hour.
type Counts struct {
	Totals
	Paths     Names `json:"paths,omitzero"`
	Missing   Names `json:"missing,omitzero"`
	Referrers Names `json:"referrers,omitzero"`
	// Visitors are sketches, by the names of the salts that they were numbered under; those of one
	// salt can be united.
	Visitors map[string]*Sketch `json:"visitors,omitempty"`
}

// Record is what was counted of a site: by one node within one hour, or, of a day that has
// passed, by all of them.
type Record struct {
	Format int    `json:"format"`
	Site   string `json:"site"`
	Day    string `json:"day"`            // 2026-11-29, UTC
	Node   string `json:"node,omitempty"` // that counted; none of a whole day
	Region string `json:"region,omitempty"`
	// Parts are the ends of the keys of the records that a day was made from.
	Parts []string `json:"parts,omitempty"`
	// Until is when the last visit was counted.
	Until time.Time `json:"until"`
	// Hours are what was counted, by hour (00 to 23) and environment.
	Hours map[string]map[string]Counts `json:"hours"`
}

// Encode returns the bytes of a record.
func (r Record) Encode() ([]byte, error) {
	r.Format = Format
	return canon.Marshal(r)
}

// Decode reads a record leniently, and reports whether it is one of this format.
func Decode(data []byte) (r Record, ok bool) {
	if json.Unmarshal(data, &r) != nil || r.Format != Format {
		return Record{}, false
	}
	if _, err := time.Parse(time.DateOnly, r.Day); err != nil {
		return Record{}, false
	}
	return r, true
}

// HourOf names the hour of a time within its day.
func HourOf(t time.Time) string { return t.UTC().Format("15") }

// WholeDay is the end of the key of a record of a whole day.
const WholeDay = "day"

// Part is a record, and the end of the key that it lies under.
type Part struct {
	Name string
	Record
}

// A day that has passed is made one record, so that a year is some hundred objects and not some ten
// thousand. It keeps the hours, and of each the names that came most at all nodes together.

// Merge makes one record of a day that has passed, from those of Counted.
func Merge(site, day string, parts []Part) Record {
	merged := Record{Site: site, Day: day, Hours: map[string]map[string]Counts{}}
	sums := map[string]map[string]*sum{}
	for _, r := range parts {
		if r.Until.After(merged.Until) {
			merged.Until = r.Until
		}
		merged.Parts = append(merged.Parts, r.Parts...)
		if r.Name != WholeDay {
			merged.Parts = append(merged.Parts, r.Name)
		}
		for hour, environments := range r.Hours {
			for environment, counts := range environments {
				if sums[hour] == nil {
					sums[hour] = map[string]*sum{}
				}
				if sums[hour][environment] == nil {
					sums[hour][environment] = &sum{}
				}
				sums[hour][environment].add(counts)
			}
		}
	}
	slices.Sort(merged.Parts)
	merged.Parts = slices.Compact(merged.Parts)
	for hour, environments := range sums {
		merged.Hours[hour] = map[string]Counts{}
		for environment, s := range environments {
			merged.Hours[hour][environment] = Counts{Totals: s.Totals, Paths: s.paths.list(Usual.Paths),
				Missing: s.missing.list(Usual.Missing), Referrers: s.referrers.list(Usual.Referrers),
				Visitors: s.visitors}
		}
	}
	return merged
}

// Counted returns which records of a day count: what has gone into the record of the whole day
// is not counted again.
func Counted(parts []Part) (list []Part) {
	in := map[string]bool{}
	for _, r := range parts {
		if r.Name == WholeDay {
			for _, part := range r.Parts {
				in[part] = true
			}
		}
	}
	for _, r := range parts {
		if !in[r.Name] {
			list = append(list, r)
		}
	}
	return list
}

// sum adds up counts.
type sum struct {
	Totals
	paths, missing, referrers names
	visitors                  map[string]*Sketch
}

// add adds counts of one hour.
func (s *sum) add(c Counts) {
	s.Totals.add(c.Totals)
	s.paths.add(c.Paths)
	s.missing.add(c.Missing)
	s.referrers.add(c.Referrers)
	for salt, sketch := range c.Visitors {
		if sketch == nil {
			continue
		}
		if s.visitors == nil {
			s.visitors = map[string]*Sketch{}
		}
		if s.visitors[salt] == nil {
			s.visitors[salt] = &Sketch{}
		}
		s.visitors[salt].Unite(sketch)
	}
}

// size is about how many visitors there were: those under one salt are told apart, those of
// others are not known from them.
func (s *sum) size() (n int64) {
	for _, sketch := range s.visitors {
		n += sketch.Size()
	}
	return n
}

// Adding up is done in the order in which records are found, and gives the same in any order: sums
// are sums, and sketches under one salt are united by the higher of each register. What cannot be
// added up is who came on two days.

// Sum is what was counted of one environment between two times.
type Sum struct {
	From, To time.Time // To is exclusive

	all   sum
	hours map[time.Time]*sum
	days  map[string]*sum
	// Nodes are those that counted, and Until when the last visit was.
	Nodes map[string]bool
	Until time.Time
}

// Slot is an hour or a day. Its visitors are those of that time alone: whoever came in two hours of
// a day is in both, and once in the day.
type Slot struct {
	Begin    time.Time `json:"begin"`
	Visitors int64     `json:"visitors"`
	Totals
}

// Add adds what a record says of an environment.
func (s *Sum) Add(r Record, environment string) {
	day, err := time.Parse(time.DateOnly, r.Day)
	if err != nil {
		return
	}
	if s.hours == nil {
		s.hours, s.days, s.Nodes = map[time.Time]*sum{}, map[string]*sum{}, map[string]bool{}
	}
	for hour, environments := range r.Hours {
		var number int
		counts, ok := environments[environment]
		if _, err := fmt.Sscanf(hour, "%02d", &number); err != nil || number < 0 || number > 23 || !ok {
			continue
		}
		begin := day.Add(time.Duration(number) * time.Hour)
		if begin.Before(s.From) || !begin.Before(s.To) {
			continue
		}
		if r.Node != "" {
			s.Nodes[r.Node] = true
		}
		if r.Until.After(s.Until) {
			s.Until = r.Until
		}
		if s.hours[begin] == nil {
			s.hours[begin] = &sum{}
		}
		if s.days[r.Day] == nil {
			s.days[r.Day] = &sum{}
		}
		s.all.add(counts)
		s.hours[begin].add(counts)
		s.days[r.Day].add(counts)
	}
}

// Totals are the sums of the whole time.
func (s *Sum) Totals() Totals { return s.all.Totals }

// Visitors is about how many visitors there were, each day by itself: whoever came on two days
// counts twice, since nothing tells that it was the same.
func (s *Sum) Visitors() (n int64) {
	for _, day := range s.days {
		n += day.size()
	}
	return n
}

// Apart reports whether nodes numbered visitors under salts of their own, so that many who came to
// several count more than once. What came in the first moments of a node is too little to matter.
func (s *Sum) Apart() bool {
	var all, most int64
	for _, day := range s.days {
		var largest int64
		for _, sketch := range day.visitors {
			largest = max(largest, sketch.Size())
		}
		all += day.size()
		most += largest
	}
	const little = 20 // a part of so many
	return (all-most)*little > all
}

// Hours and Days return the slots of the time in order, also those in which nobody came.
func (s *Sum) Hours() (list []Slot) {
	for at := s.From.UTC().Truncate(time.Hour); at.Before(s.To); at = at.Add(time.Hour) {
		list = append(list, slotOf(at, s.hours[at]))
	}
	return list
}

// Days returns the days of the time; see Hours.
func (s *Sum) Days() (list []Slot) {
	const day = 24 * time.Hour
	for at := s.From.UTC().Truncate(day); at.Before(s.To); at = at.Add(day) {
		list = append(list, slotOf(at, s.days[DayOf(at)]))
	}
	return list
}

// slotOf describes a slot.
func slotOf(at time.Time, s *sum) Slot {
	if s == nil {
		return Slot{Begin: at}
	}
	return Slot{Begin: at, Visitors: s.size(), Totals: s.Totals}
}

// Paths are what was asked for and there, most first.
func (s *Sum) Paths() Names { return s.all.paths.list(0) }

// Missing are the paths that were asked for and are not there.
func (s *Sum) Missing() Names { return s.all.missing.list(0) }

// Referrers are the hosts that led visitors here.
func (s *Sum) Referrers() Names { return s.all.referrers.list(0) }

// IsDay reports whether a text is a day as keys have it.
func IsDay(text string) bool {
	_, err := time.Parse(time.DateOnly, text)
	return err == nil && !strings.ContainsAny(text, "/")
}
