package difference

import (
	"cmp"
	"context"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// weighedPages is of how many pages the weight is looked at.
const weighedPages = 2000

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
	old, next := newScale(before), newScale(after)

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

// scale weighs the pages of one side.
type scale struct {
	*check.Loader
	sent map[digest.Digest]int64
}

// newScale returns what weighs the pages of a side.
func newScale(side Side) *scale {
	return &scale{check.NewLoader(check.Output{Input: check.Input{Site: side.Site, Now: side.Now},
		Base: side.Base, Open: side.Open}), side.Sent}
}

// weigh adds up a page and everything that it loads. sent is 0 if that is not known of each of them.
func (s *scale) weigh(ctx context.Context, page release.File) (total, sent int64, err error) {
	known := true
	err = s.Each(ctx, page, func(file release.File) error {
		size, ok := s.sent[file.Digest]
		total, sent, known = total+file.Size, sent+size, known && ok
		return nil
	})
	// A sum of which a part is missing would look like a gain.
	if !known {
		sent = 0
	}
	return total, sent, err
}
