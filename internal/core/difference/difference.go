// Package difference tells how two releases of a site differ, in the words of
// those who made them: pages and assets that came, went, moved or changed, rules,
// settings, how much a page weighs with all that it loads, and which addresses
// answer otherwise.
//
//	changed  /fares/                 +340 B
//	moved    /boats/kraken/          from /ships/kraken/
//	changed  app.{…}.js              a fingerprinted name, the same asset
//	added    redirect /ships/{id} -> /boats/{id}
//
// Files are compared by their digests, chunk by chunk of the index, so that two
// releases of 100,000 files with one change are compared in the time that it takes
// to read one chunk. Content is read only for what is shown: the text of a page,
// and the weight of pages that changed.
package difference

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// Side is one of two releases, with what it takes to ask it: files, rules,
// content, and the moment.
type Side struct {
	Files []release.File // in order of path
	Site  answer.Site
	Rules []rules.Rule
	Base  string // where the site lies on its host: "" or "/prefix"
	Open  func(ctx context.Context, file release.File) ([]byte, error)
	Now   time.Time // at which addresses are asked
	// Sent are the bytes in which contents are sent, as far as they are known; nil for
	// nothing.
	Sent map[digest.Digest]int64
}

// Kind says what became of a file.
type Kind string

// The kinds of change.
const (
	Added   Kind = "added"
	Removed Kind = "removed"
	Changed Kind = "changed"
	Moved   Kind = "moved" // the same content, or nearly, at another path
)

// Item is a file that differs. Sizes are in bytes, 0 on
// the side where it is not.
type Item struct {
	Kind    Kind   `json:"kind"`
	Path    string `json:"path"`
	From    string `json:"from,omitempty"` // of what moved: where it was
	Address string `json:"address"`        // below the base path
	Before  int64  `json:"before"`
	After   int64  `json:"after"`
	// of what moved: how much of the text is the same, in
	// percent; 100 for the same bytes
	Alike int `json:"alike,omitempty"`
}

// Rule is a rule that only one side has.
type Rule struct {
	Kind Kind   `json:"kind"` // added or removed
	Verb string `json:"verb"`
	Text string `json:"text"`
}

// Weight is what a page weighs with all that it loads from the site, in bytes
// before encoding for transfer.
type Weight struct {
	Path    string `json:"path"`
	Address string `json:"address"`
	Before  int64  `json:"before"` // 0 if it was not there
	After   int64  `json:"after"`
	// as it is sent, compressed; 0 if that is not known
	SentBefore int64 `json:"sent_before,omitempty"`
	SentAfter  int64 `json:"sent_after,omitempty"`
}

// Report is how two sides differ. Lists are in order of path, but rules, which
// are in the order of their files.
type Report struct {
	Pages    []Item   `json:"pages"`
	Assets   []Item   `json:"assets"`
	Rules    []Rule   `json:"rules"`
	Ordered  bool     `json:"rules_ordered,omitempty"` // the same rules, in another order
	Settings []string `json:"settings"`                // one line each
	// of pages that weigh another amount, the largest difference first
	Weights []Weight `json:"weights"`
	// so many pages that only the weight of those that changed was looked at
	Partial bool `json:"partial,omitempty"`
}

// Same reports whether nothing differs.
func (r Report) Same() bool {
	return len(r.Pages)+len(r.Assets)+len(r.Rules)+len(r.Settings) == 0 && !r.Ordered
}

// Between compares two sides. The error is that of reading a file.
func Between(ctx context.Context, before, after Side) (Report, error) {
	report := Report{Pages: []Item{}, Assets: []Item{}, Rules: []Rule{},
		Settings: settings(before.Site.Settings, after.Site.Settings), Weights: []Weight{}}
	items := changes(before.Files, after.Files)
	// A page that went and one that came may be the same one; that is looked at
	// before anything is told.
	items, err := findMoved(ctx, items, before, after)
	if err != nil {
		return report, err
	}

	for _, item := range items {
		if media.ClassOf(item.Path) == media.Page {
			report.Pages = append(report.Pages, item)
		} else {
			report.Assets = append(report.Assets, item)
		}
	}

	report.Rules, report.Ordered = compareRules(before.Rules, after.Rules)
	report.Weights, report.Partial, err = weights(ctx, before, after, items)
	return report, err
}

// changes walks two sorted lists side by side.
func changes(before, after []release.File) []Item {
	var items []Item
	for len(before) > 0 || len(after) > 0 {
		switch {
		case len(after) == 0 || len(before) > 0 && before[0].Path < after[0].Path:
			items = append(items, Item{Kind: Removed, Path: before[0].Path,
				Address: answer.Address(before[0].Path), Before: before[0].Size})
			before = before[1:]
		case len(before) == 0 || after[0].Path < before[0].Path:
			items = append(items, Item{Kind: Added, Path: after[0].Path,
				Address: answer.Address(after[0].Path), After: after[0].Size})
			after = after[1:]
		default:
			if before[0].Digest != after[0].Digest || before[0].Type != after[0].Type {
				items = append(items, Item{Kind: Changed, Path: after[0].Path,
					Address: answer.Address(after[0].Path), Before: before[0].Size, After: after[0].Size})
			}
			before, after = before[1:], after[1:]
		}
	}

	return items
}

// compareRules lists the rules that one side has more often than the other.
// ordered tells that both have the same ones in another order.
func compareRules(before, after []rules.Rule) (list []Rule, ordered bool) {
	list = []Rule{}
	// Counted and not just noted: the same rule can be there twice.
	count := map[string]int{}
	for i := range before {
		count[before[i].String()]++
	}

	for i := range after {
		count[after[i].String()]--
	}
	pick := func(all []rules.Rule, kind Kind, sign int) {
		for i := range all {
			if text := all[i].String(); count[text]*sign > 0 {
				count[text] -= sign
				list = append(list, Rule{kind, string(all[i].Verb), text})
			}
		}
	}

	pick(before, Removed, 1)
	pick(after, Added, -1)
	return list, len(list) == 0 &&
		!slices.EqualFunc(before, after, func(a, b rules.Rule) bool { return a.String() == b.String() })
}

// settings lists how two sides' settings differ.
func settings(before, after release.Settings) []string {
	lines := []string{}
	add := func(name, from, to string) {
		if from != to {
			lines = append(lines, name+": "+cmp.Or(from, "none")+" -> "+cmp.Or(to, "none"))
		}
	}

	add("pages.one_address", strconv.FormatBool(before.OneAddress), strconv.FormatBool(after.OneAddress))
	add("assets.keep", seconds(before.AssetSeconds()), seconds(after.AssetSeconds()))
	add("assets.fingerprinted", strings.Join(before.Fingerprinted, " "),
		strings.Join(after.Fingerprinted, " "))
	add("assets.plain", strings.Join(before.Plain, " "), strings.Join(after.Plain, " "))
	add("languages", strings.Join(before.Languages, " "), strings.Join(after.Languages, " "))
	return lines
}

// seconds writes a number of seconds as people read it: 1h0m0s.
func seconds(n int64) string { return (time.Duration(n) * time.Second).String() }
