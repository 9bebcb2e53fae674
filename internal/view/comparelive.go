package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/outside"
)

// The report names what is wrong in the order in which it hurts, and says once what many addresses have
// in common. Its last line is for whoever looks at nothing else: how many differ, of how many.

// LiveComparison is how what visitors get differs from what is live.
type LiveComparison struct {
	Site         string `json:"site"`
	Environment  string `json:"environment"`
	Entry        string `json:"entry"` // that is live
	URL          string `json:"url"`
	Asked        int    `json:"asked"`     // addresses
	Same         int    `json:"same"`      // of them
	PassedOn     int    `json:"passed_on"` // to upstreams: not asked
	Bytes        int64  `json:"bytes"`
	Milliseconds int64  `json:"milliseconds"`
	// Entries says how many answers were from each entry; "" for those that do not say.
	Entries map[string]int `json:"entries"`
	Found   []LiveFinding  `json:"found"`
}

// LiveFinding is what differs at one address.
type LiveFinding struct {
	Path string `json:"path"`
	// kept (a cache answers from an earlier entry), status, content, field, trouble
	Kind string `json:"kind"`
	Text string `json:"text"`
	From string `json:"from,omitempty"` // the entry that a cache kept
	Age  int64  `json:"age,omitempty"`  // of what it kept, in seconds
	Keep int64  `json:"keep,omitempty"` // for how long it may, in seconds
	Via  string `json:"via,omitempty"`  // what it says of itself
}

// NewLiveComparison describes a comparison.
func NewLiveComparison(site, url string, head journal.Entry, proof *outside.Proof) LiveComparison {
	r := LiveComparison{Site: site, Environment: journal.DisplayName(head.Environment), Entry: head.Label(),
		URL: url, Asked: proof.Asked, Same: proof.Same, PassedOn: proof.Passed, Bytes: proof.Bytes,
		Milliseconds: proof.Took.Milliseconds(), Entries: proof.Entries, Found: []LiveFinding{}}
	for _, f := range proof.Found {
		r.Found = append(r.Found, LiveFinding{Path: f.Path, Kind: string(f.Kind), Text: f.Text, From: f.From,
			Age: int64(f.Age / time.Second), Keep: int64(f.Keep / time.Second), Via: f.Via})
	}
	return r
}

// A hundred pages that lack the same field are one finding: something on the way takes it away. So
// what is said alike of many addresses is said once, with the first of them.

// group is what is said alike of several addresses.
type group struct {
	first LiveFinding
	count int
}

// worst is the order in which kinds matter: a page that is another one before a field that is not
// there.
var worst = []string{string(outside.Trouble), string(outside.Status), string(outside.Body),
	string(outside.Kept), string(outside.Field)}

// groups gathers findings, the worst first, and of those the most frequent.
func groups(found []LiveFinding) []group {
	at := map[string]int{}
	var list []group
	for _, f := range found {
		key := f.Kind + "\n" + f.Text
		if f.Kind == string(outside.Kept) {
			key = f.Kind + "\n" + f.From
		}
		if i, ok := at[key]; ok {
			list[i].count++
			continue
		}
		at[key] = len(list)
		list = append(list, group{f, 1})
	}
	slices.SortStableFunc(list, func(a, b group) int {
		return cmp.Or(slices.Index(worst, a.first.Kind)-slices.Index(worst, b.first.Kind), b.count-a.count)
	})
	return list
}

// PrintLiveComparison shows it: what was compared, and what differs, with what that means.
func PrintLiveComparison(c *console.Console, r LiveComparison, limit int) {
	c.Print("%s  %s", console.Strong(r.URL), console.Faint("compared with ")+console.Accent(r.Entry))
	list := groups(r.Found)
	if limit > 0 && len(list) > limit {
		list = list[:limit]
	}
	rows := [][]string{}
	for _, g := range list {
		path := console.Safe(g.first.Path)
		if g.count > 1 {
			path += console.Faint(fmt.Sprintf(" and %d more", g.count-1))
		}
		rows = append(rows, []string{findingKind(g.first.Kind), path, console.Safe(findingText(g.first))})
	}
	if len(rows) > 0 {
		console.Columns(c, rows)
	}
	if left := len(groups(r.Found)) - len(list); left > 0 {
		c.Print("%s", console.Faint(fmt.Sprintf("and %d more kinds of differences; --limit 0 shows all",
			left)))
	}
	about := console.Count(int64(r.Asked), "address", "addresses") + ", " + console.Size(r.Bytes) + ", in " +
		console.Took(time.Duration(r.Milliseconds)*time.Millisecond)
	if r.PassedOn > 0 {
		about += fmt.Sprintf("; %d are passed on to upstreams and were not compared", r.PassedOn)
	}
	if len(r.Found) == 0 {
		c.Print("%s  %s", console.Good("visitors get what is live"), console.Faint(about))
	} else {
		differ := fmt.Sprintf("%d of %d differ", r.Asked-r.Same, r.Asked)
		c.Print("%s  %s", console.Bad(differ), console.Faint(about))
	}
	advise(c, r)
}

// findingKind is a kind in colour.
func findingKind(kind string) string {
	switch outside.Kind(kind) {
	case outside.Kept, outside.Field:
		return console.Warn(kind)
	}
	return console.Bad(kind)
}

// findingText says what differs.
func findingText(f LiveFinding) string {
	if f.Kind != string(outside.Kept) {
		return f.Text
	}
	parts := []string{"a cache keeps " + f.From}
	if f.From == "" {
		parts = []string{"a cache keeps an earlier answer"}
	}
	if f.Age > 0 {
		parts = append(parts, fmt.Sprintf("for %s already", console.Took(time.Duration(f.Age)*time.Second)))
	}
	if f.Keep > 0 {
		parts = append(parts, fmt.Sprintf("and may for %s", console.Took(time.Duration(f.Keep)*time.Second)))
	}
	text := strings.Join(parts, " ")
	if f.Via != "" {
		text += " (" + f.Via + ")"
	}
	return text + ": " + f.Text
}

// advise says what to do next.
func advise(c *console.Console, r LiveComparison) {
	seen, first := map[string]bool{}, ""
	for _, g := range groups(r.Found) {
		if seen[g.first.Kind] = true; first == "" {
			first = g.first.Path
		}
	}
	switch {
	case seen[string(outside.Kept)]:
		c.Note("%s", "what stands in front keeps answers that it was told to ask for again; clear it there, "+
			"and have it follow Cache-Control")
		c.Hint("next:", "orilla explain "+first)
	case seen[string(outside.Trouble)]:
		c.Hint("next:", "orilla domains")
	case len(r.Found) > 0:
		c.Note("%s", "edge nodes answer otherwise: something on the way changes it")
		c.Hint("next:", "orilla explain "+first)
	}
}
