package gallery

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// mostLoaded is of how many pages it is looked whether what they load changed.
const mostLoaded = 1000

// The order is that of importance: what somebody chose, then what changed itself, then what only loads
// something that changed. Whatever is cut off at the end is the least.

// Pairs lists the pages of two releases that are worth a look: those that are chosen, by their paths,
// those that came, went, moved or changed, and those that load something that changed. There are most at
// most; left is how many more there would be.
func Pairs(ctx context.Context, before, after difference.Side, chosen []string, most int,
) (pairs []Pair, left int, err error) {
	for _, one := range chosen {
		pairs = append(pairs, Pair{one, one})
	}
	items, err := difference.Files(ctx, before, after)
	if err != nil {
		return nil, 0, err
	}
	told, assets := map[string]bool{}, false
	for _, item := range items {
		told[item.Path], told[item.From] = true, true
		if media.ClassOf(item.Path) != media.Page {
			assets = true
			continue
		}
		if is404(item.Path) {
			continue
		}
		pair := Pair{item.Address, item.Address}
		switch item.Kind {
		case difference.Added:
			pair.Before = ""
		case difference.Removed:
			pair.After = ""
		case difference.Moved:
			pair.Before = answer.Address(item.From)
		}
		pairs = append(pairs, pair)
	}
	if assets {
		more, err := loading(ctx, before, after, told)
		if err != nil {
			return nil, 0, err
		}
		pairs = append(pairs, more...)
	}
	// A page that is chosen may be one that moved, or came: what is known of it counts.
	seen := map[string]Pair{}
	for _, pair := range pairs {
		key := cmp.Or(pair.After, pair.Before)
		if known, there := seen[key]; !there || known.Before == known.After {
			seen[key] = pair
		}
	}
	var list []Pair
	for _, pair := range pairs {
		key := cmp.Or(pair.After, pair.Before)
		if one, there := seen[key]; there {
			list = append(list, one)
			delete(seen, key)
		}
	}
	if left = max(0, len(list)-most); left > 0 {
		list = list[:most]
	}
	return list, left, nil
}

// is404 reports whether a file is a not-found page, which no address answers with.
func is404(file string) bool { return path.Base(file) == "404.html" }

// A style sheet without a fingerprint changes pages that are the same, byte by byte. Only pages that
// load what changed can look different; of a page whose scripts load something, that is not known, and
// it is looked at where it is chosen.

// loading lists the pages that are the same in both, and load something that is not.
func loading(ctx context.Context, before, after difference.Side, told map[string]bool) ([]Pair, error) {
	old, next := loaderOf(before), loaderOf(after)
	var pages []release.File
	for _, file := range after.Files {
		if media.ClassOf(file.Path) == media.Page && !told[file.Path] && !is404(file.Path) &&
			len(pages) < mostLoaded {
			pages = append(pages, file)
		}
	}
	changed := make([]bool, len(pages))
	group, asking := errgroup.WithContext(ctx)
	group.SetLimit(8)
	for i, page := range pages {
		group.Go(func() error {
			a, err := loads(asking, old, page)
			if err != nil {
				return err
			}
			b, err := loads(asking, next, page)
			changed[i] = a != b
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var pairs []Pair
	for i, page := range pages {
		if changed[i] {
			address := answer.Address(page.Path)
			pairs = append(pairs, Pair{address, address})
		}
	}
	return pairs, nil
}

func loaderOf(side difference.Side) *check.Loader {
	return check.NewLoader(
		check.Output{Input: check.Input{Site: side.Site, Now: side.Now}, Base: side.Base, Open: side.Open},
	)
}

// The digests are sorted: in which order a page names what it loads is a part of the page, which is the same.

// loads is a number for all that a page loads.
func loads(ctx context.Context, l *check.Loader, page release.File) (digest.Digest, error) {
	var all []string
	err := l.Each(ctx, page, func(file release.File) error {
		all = append(all, file.Digest.String())
		return nil
	})
	slices.Sort(all)
	return digest.Of([]byte(strings.Join(all, ""))), err
}
