package check

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/fingerprint"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Budget is how much pages may load, or how large files may be. Sizes are bytes on the wire; 0 is
// no limit.
//
//	{page: "**", total: 500kB, scripts: 200kB, requests: 40}
//	{file: "img/**", size: 250kB}
type Budget struct {
	Page string // a glob of pages, each with all that it loads; "" for a budget of files
	File string // a glob of files, each alone

	Total, Pages, Scripts, Styles, Images, Fonts int64
	Requests                                     int64
	Size                                         int64 // of one file
}

// OverBudget is the code of what is over.
const OverBudget = "over-budget"

// makeSmaller is what to do about it. Which of the two is right only the site's people know.
const makeSmaller = "make it smaller, or raise check.budget in orilla.yaml"

// What a page weighs is what a browser gets that has nothing yet: the page, what it names, and what
// its style sheets name, each once, at the addresses of the site that answer with a file. What scripts
// load later, pages in frames, and what comes from other hosts are not counted.
//
// Text is counted as gzip sends it, at its usual level. That is never less than what visitors get:
// nodes send the smaller br or zstd to whoever takes them. It can be made in no time, and is the
// same on every machine; the smallest form can and is not.

// What is compared with is what is live, and not the release before the last one: what grew slowly over
// ten deploys is told when it passes the limit, with what the last step added, and orilla diff tells
// the rest.

// Bounds of a look.
const (
	// mostWeighed is how many pages are weighed: of a larger site the first ones.
	mostWeighed = 5000
	// mostGrown is how many files a finding names.
	mostGrown = 6
)

// Budgets finds what is over its budget in an output. before is what is live, to tell what grew, and
// name what it is called; nil for nothing.
func Budgets(ctx context.Context, out Output, budgets []Budget, before *Output, name string,
) (finding.List, error) {
	if len(budgets) == 0 {
		return nil, nil
	}
	now := newScales(out)
	var old *scales
	if before != nil {
		old = newScales(*before)
	}
	var found finding.List
	for _, budget := range budgets {
		one, err := now.check(ctx, budget, old, name)
		if err != nil {
			return nil, err
		}
		found = append(found, one...)
	}
	return found, nil
}

// part is one file that a page loads.
type part struct {
	path  string
	class media.Class
	wire  int64
}

// Weighing a site twice is what a deploy with budgets does: as it will be, and, of one page for each
// limit that is exceeded, as it is. So what is live costs a few reads, and a site within its budgets
// none at all.

// scales weigh the pages of an output.
type scales struct {
	*Loader
	wires *Wires
}

func newScales(out Output) *scales { return &scales{NewLoader(out), &Wires{}} }

// Wires remember how many bytes of a file travel, by its content: a hundred pages, and a hundred
// releases, load the same script. The zero value is ready; its users may be many at once.
type Wires struct {
	mutex sync.Mutex
	sizes map[digest.Digest]int64
}

// Weigh returns how many bytes of a page travel with all that a browser loads for it, text as gzip
// sends it, and in how many requests. Of out it needs what a Loader needs.
func (w *Wires) Weigh(ctx context.Context, out Output, page release.File) (wire, requests int64, err error) {
	parts, err := (&scales{NewLoader(out), w}).weigh(ctx, page)
	for _, part := range parts {
		wire += part.wire
	}
	return wire, int64(len(parts)), err
}

// over is a page, or a file, that is over one measure of a budget.
type over struct {
	path  string
	is    int64
	parts []part
}

// measure is one limit of a budget, and what counts towards it.
type measure struct {
	name  string // "scripts"
	limit int64
	class media.Class // Unknown: everything
	count bool        // requests, not bytes
}

// The order is that of the findings: the sum first, which is what a visitor feels, and then what it
// is made of.

// measures are those that a budget limits.
func (b Budget) measures() (list []measure) {
	for _, m := range []measure{{"total", b.Total, media.Unknown, false},
		{"pages", b.Pages, media.Page, false}, {"scripts", b.Scripts, media.Script, false},
		{"styles", b.Styles, media.Style, false},
		{"images", b.Images, media.Image, false}, {"fonts", b.Fonts, media.Font, false},
		{"requests", b.Requests, media.Unknown, true}} {
		if m.limit > 0 {
			list = append(list, m)
		}
	}
	return list
}

// check weighs what a budget is about.
func (s *scales) check(ctx context.Context, b Budget, old *scales, name string) (finding.List, error) {
	if b.File != "" {
		return s.files(ctx, b, old, name)
	}
	var pages []release.File
	for _, file := range s.Files {
		if media.ClassOf(file.Path) == media.Page && matches(b.Page, file.Path) && len(pages) < mostWeighed {
			pages = append(pages, file)
		}
	}
	// Side by side: weighing is compressing, for the most part.
	all := make([][]part, len(pages))
	group, limited := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, page := range pages {
		group.Go(func() (err error) {
			all[i], err = s.weigh(limited, page)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var found finding.List
	for _, m := range b.measures() {
		var list []over
		for i, parts := range all {
			if is := m.of(parts); is > m.limit {
				list = append(list, over{pages[i].Path, is, parts})
			}
		}
		if len(list) == 0 {
			continue
		}
		one, err := s.tell(ctx, m, list, old, name)
		if err != nil {
			return nil, err
		}
		found = append(found, one)
	}
	return found, nil
}

// matches reports whether a glob matches a path.
func matches(glob, path string) bool {
	matched, err := doublestar.Match(glob, path)
	return err == nil && matched
}

// of adds up what counts.
func (m measure) of(parts []part) (sum int64) {
	for _, p := range parts {
		switch {
		case m.count:
			sum++
		case m.class == media.Unknown || m.class == p.class:
			sum += p.wire
		}
	}
	return sum
}

// text writes an amount of a measure.
func (m measure) text(amount int64) string {
	if m.count {
		return fmt.Sprintf("%d requests", amount)
	}
	return humanize.Bytes(uint64(amount)) //nolint:gosec // it is a size
}

// A script that became too large is too large on every page. So one finding tells of one limit: with
// the page that is furthest over it, how many others are, and which files of it grew.

// tell makes a finding of the pages that are over one limit.
func (s *scales) tell(ctx context.Context, m measure, list []over, old *scales, name string,
) (finding.Finding, error) {
	slices.SortStableFunc(list, func(a, b over) int {
		return cmp.Or(cmp.Compare(b.is, a.is), strings.Compare(a.path, b.path))
	})
	worst := list[0]
	what := "of everything that this page loads"
	if m.class != media.Unknown {
		what = "of " + m.name + " that this page loads"
	}
	if m.count {
		what = "for this page"
	}
	f := finding.Finding{Level: finding.Warning, Code: OverBudget, Next: makeSmaller,
		Position: finding.Position{File: worst.path},
		What:     fmt.Sprintf("%s %s; the budget is %s", m.text(worst.is), what, m.text(m.limit))}
	if others := len(list) - 1; others > 0 {
		f.What += fmt.Sprintf("; %d more pages are over it", others)
	}
	grown, err := s.grown(ctx, m, worst, old, name)
	f.More = grown
	return f, err
}

// grown says which files of a page are new or larger than before, the largest difference first, or
// without anything to compare with, which are the largest.
func (s *scales) grown(ctx context.Context, m measure, worst over, old *scales, name string,
) ([]string, error) {
	was := map[string]int64{}
	known := false
	if old != nil {
		if page, there, err := old.Site.Files.Lookup(ctx, worst.path); err != nil {
			return nil, err
		} else if there {
			parts, err := old.weigh(ctx, page)
			if err != nil {
				return nil, err
			}
			known = true
			for _, p := range parts {
				was[nameOf(p.path)] += p.wire
			}
		}
	}
	lines := grownLines(m, worst.parts, was, known, name)
	if len(lines) == 0 { // it was over before
		lines = grownLines(m, worst.parts, nil, false, name)
	}
	return lines, nil
}

// grownLines names files, with how much more they are than before, if that is known.
func grownLines(m measure, parts []part, was map[string]int64, known bool, name string) (lines []string) {
	type change struct {
		part
		by int64
	}
	var list []change
	for _, p := range parts {
		if !m.count && m.class != media.Unknown && p.class != m.class {
			continue
		}
		by := p.wire
		if known {
			by -= was[nameOf(p.path)]
		}
		if by > 0 {
			list = append(list, change{p, by})
		}
	}
	slices.SortStableFunc(list, func(a, b change) int { return cmp.Compare(b.by, a.by) })
	for i, c := range list {
		if i == mostGrown {
			lines = append(lines, fmt.Sprintf("and %d more", len(list)-i))
			break
		}
		size := humanize.Bytes(uint64(c.wire)) //nolint:gosec // it is a size
		switch {
		case !known:
			lines = append(lines, fmt.Sprintf("%s  %s", size, c.path))
		case was[nameOf(c.path)] == 0:
			lines = append(lines, fmt.Sprintf("%s  %s, new since %s", size, c.path, name))
		default:
			//nolint:gosec // it is a size
			lines = append(lines, fmt.Sprintf("%s  %s, %s more since %s", size, c.path,
				humanize.Bytes(uint64(c.by)), name))
		}
	}
	return lines
}

// nameOf is a path without what tells the content: app.3f9a2c1b.js and app.77aa0b1c.js are the same
// script of two releases.
func nameOf(name string) string {
	if before, behind, ok := fingerprint.Family(name); ok {
		return before + "*" + behind
	}
	return name
}

// A file counts as it travels too: a drawing of a megabyte in SVG may be 200 kB on the wire, and a
// photograph is what it is. Which files grew is told by path, since pictures mostly have no
// fingerprint, and one that has and changed is another picture.

// files checks files one by one.
func (s *scales) files(ctx context.Context, b Budget, old *scales, name string) (finding.List, error) {
	var list []over
	for _, file := range s.Files {
		if !matches(b.File, file.Path) || file.Size <= b.Size {
			continue // what is small as it is is no larger on the wire
		}
		wire, err := s.wire(ctx, file)
		if err != nil {
			return nil, err
		}
		if wire > b.Size {
			list = append(list, over{path: file.Path, is: wire})
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	slices.SortStableFunc(list, func(a, b over) int {
		return cmp.Or(cmp.Compare(b.is, a.is), strings.Compare(a.path, b.path))
	})
	m := measure{limit: b.Size}
	f := finding.Finding{Level: finding.Warning, Code: OverBudget, Next: makeSmaller,
		Position: finding.Position{File: list[0].path},
		What: fmt.Sprintf("%s; the budget of %s is %s a file", m.text(list[0].is), b.File,
			m.text(b.Size))}
	for i, o := range list {
		if i == mostGrown {
			f.More = append(f.More, fmt.Sprintf("and %d more", len(list)-i))
			break
		}
		line := m.text(o.is) + "  " + o.path
		if old != nil {
			if was, there, err := old.Site.Files.Lookup(ctx, o.path); err != nil {
				return nil, err
			} else if !there {
				line += ", new since " + name
			} else if before, err := old.wire(ctx, was); err != nil {
				return nil, err
			} else if before < o.is {
				line += ", " + m.text(o.is-before) + " more since " + name
			}
		}
		f.More = append(f.More, line)
	}
	return finding.List{f}, nil
}

// weigh lists what a browser loads for a page, the page first.
func (s *scales) weigh(ctx context.Context, page release.File) (parts []part, err error) {
	err = s.Each(ctx, page, func(file release.File) error {
		wire, err := s.wire(ctx, file)
		parts = append(parts, part{file.Path, media.ClassOf(file.Path), wire})
		return err
	})
	return parts, err
}

// wire is how many bytes of a file travel.
func (s *scales) wire(ctx context.Context, file release.File) (int64, error) {
	if !coding.Gains(media.Type(file.Path, true), file.Size) || file.Size > maxPage {
		return file.Size, nil
	}
	s.wires.mutex.Lock()
	size, known := s.wires.sizes[file.Digest]
	s.wires.mutex.Unlock()
	if known {
		return size, nil
	}
	data, err := s.Open(ctx, file)
	if err != nil {
		return 0, err
	}
	size = file.Size
	if packed, err := coding.Encode(coding.Gzip, coding.Fast, data); err == nil {
		size = min(size, int64(len(packed)))
	}
	s.wires.mutex.Lock()
	defer s.wires.mutex.Unlock()
	if s.wires.sizes == nil {
		s.wires.sizes = map[digest.Digest]int64{}
	}
	s.wires.sizes[file.Digest] = size
	return size, nil
}
