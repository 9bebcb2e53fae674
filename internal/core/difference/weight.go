package difference

import (
	"cmp"
	"context"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Of how many pages the weight is looked at, and up to
// which size files are read for what they load.
const (
	weighedPages = 2000
	weighedSize  = 10 << 20
)

// weights returns the pages that weigh another amount, the largest difference
// first. Of a site with very many pages only those that changed themselves are
// looked at, and partial says so.
func weights(ctx context.Context, before, after Side, items []Item) (list []Weight, partial bool, err error) {
	list = []Weight{}
	if len(items) == 0 {
		return list, false, nil
	}
	changed := map[string]string{} // of pages: where they were
	for _, item := range items {
		changed[item.Path] = cmp.Or(item.From, item.Path)
	}

	var pages []release.File
	for _, file := range after.Files {
		if media.ClassOf(file.Path) == media.Page {
			pages = append(pages, file)
		}
	}

	// Each page is weighed with all that it loads; of a large site only those
	// that changed.
	if partial = len(pages) > weighedPages; partial {
		pages = slices.DeleteFunc(pages, func(f release.File) bool { return changed[f.Path] == "" })
		pages = pages[:min(len(pages), weighedPages)]
	}
	old, next := &scale{Side: before, loads: map[string][]string{}}, &scale{Side: after,
		loads: map[string][]string{}}

	var mutex sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, page := range pages {
		group.Go(func() error {
			weight := Weight{Path: page.Path, Address: answer.Address(page.Path)}
			var err error
			if weight.After, weight.SentAfter, err = next.weigh(ctx, page); err != nil {
				return err
			}

			if was, there := find(before.Files, cmp.Or(changed[page.Path], page.Path)); there {
				if weight.Before, weight.SentBefore, err = old.weigh(ctx, was); err != nil {
					return err
				}
			}

			if weight.Before != weight.After {
				mutex.Lock()
				list = append(list, weight)
				mutex.Unlock()
			}
			return nil
		})
	}

	err = group.Wait()
	slices.SortFunc(list, func(a, b Weight) int {
		return cmp.Or(cmp.Compare(abs(b.After-b.Before), abs(a.After-a.Before)), cmp.Compare(a.Path, b.Path))
	})
	return list, partial, err
}

// abs returns the size of a difference, whichever way it goes.
func abs(n int64) int64 { return max(n, -n) }

// scale weighs the pages of one side. What style sheets load is remembered.
type scale struct {
	Side
	mutex sync.Mutex
	loads map[string][]string // by path
}

// weigh adds up a page and everything that it loads, each file once, at the
// addresses that answer with a file. sent is 0 if that is not known of each of them.
func (s *scale) weigh(ctx context.Context, page release.File) (total, sent int64, err error) {
	known := true
	// As a browser loads: the page, what it names, what its style sheets name,
	// each once.
	seen, waiting := map[string]bool{page.Path: true}, []release.File{page}
	for len(waiting) > 0 {
		file := waiting[0]
		waiting = waiting[1:]
		total += file.Size
		size, ok := s.Sent[file.Digest]
		sent, known = sent+size, known && ok
		targets, err := s.loaded(ctx, file)
		if err != nil {
			return 0, 0, err
		}

		for _, target := range targets {
			path, query, _ := strings.Cut(target, "?")
			a, err := answer.Decide(ctx, answer.Request{Method: http.MethodGet, Path: path, Query: query,
				Environment: answer.Production, Scheme: "https", Now: s.Now}, s.Site)
			if err != nil {
				return 0, 0, err
			}

			if a.Status == http.StatusOK && a.File != nil && !seen[a.File.Path] {
				seen[a.File.Path] = true
				waiting = append(waiting, *a.File)
			}
		}
	}

	// A sum of which a part is missing would look like a gain.
	if !known {
		sent = 0
	}
	return total, sent, nil
}

// loaded returns the paths of what a page or a style sheet loads. Style sheets
// are read once, since many pages load the same; of what is too large to be
// written by hand nothing is known.
func (s *scale) loaded(ctx context.Context, file release.File) ([]string, error) {
	style := media.Extension(file.Path) == ".css"
	if !style && media.ClassOf(file.Path) != media.Page || file.Size > weighedSize {
		return nil, nil
	}
	if style {
		s.mutex.Lock()
		targets, known := s.loads[file.Path]
		s.mutex.Unlock()
		if known {
			return targets, nil
		}
	}

	data, err := s.Open(ctx, file)
	if err != nil {
		return nil, err
	}
	targets := check.Loads(file, data, s.Base)

	if style {
		s.mutex.Lock()
		s.loads[file.Path] = targets
		s.mutex.Unlock()
	}
	return targets, nil
}
