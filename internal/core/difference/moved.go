package difference

import (
	"bytes"
	"context"
	"hash/maphash"
	"slices"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// How far pages that moved are looked for: among so many that went and came, no
// larger than that, and so much alike, in percent.
const (
	movedPages = 400
	movedSize  = 1 << 20
	movedAlike = 70
)

// Files returns the files that differ, in order of path: what moved is one of them, and not two.
func Files(ctx context.Context, before, after Side) ([]Item, error) {
	return findMoved(ctx, changes(before.Files, after.Files), before, after)
}

// Moves returns the files of one side that lie at another path on the other.
func Moves(ctx context.Context, before, after Side) ([]Item, error) {
	items, err := Files(ctx, before, after)
	return slices.DeleteFunc(items, func(item Item) bool { return item.Kind != Moved }), err
}

// findMoved makes one item of a file that went and one that came with the same
// content; of pages, with nearly the same text.
func findMoved(ctx context.Context, items []Item, before, after Side) ([]Item, error) {
	// The same bytes first, which needs no reading.
	went, came := map[digest.Digest][]int{}, []int{}
	for i, item := range items {
		switch item.Kind {
		case Removed:
			file, _ := find(before.Files, item.Path)
			went[file.Digest] = append(went[file.Digest], i)
		case Added:
			came = append(came, i)
		}
	}

	gone := map[int]bool{}
	for _, i := range came {
		file, _ := find(after.Files, items[i].Path)
		if from := went[file.Digest]; len(from) > 0 && file.Size > 0 {
			to, old := &items[i], items[from[0]]
			to.Kind, to.From, to.Before, to.Alike = Moved, old.Path, old.Before, 100
			gone[from[0]] = true
			went[file.Digest] = from[1:]
		}
	}

	if err := findAlike(ctx, items, gone, before, after); err != nil {
		return nil, err
	}
	var left []Item
	for i, item := range items {
		if !gone[i] {
			left = append(left, item)
		}
	}

	return left, nil
}

// findAlike pairs pages that went with pages that came and
// have nearly the same lines.
func findAlike(ctx context.Context, items []Item, gone map[int]bool, before, after Side) error {
	var went, came []int
	for i, item := range items {
		if media.ClassOf(item.Path) != media.Page || max(item.Before, item.After) > movedSize || gone[i] {
			continue
		}
		switch item.Kind {
		case Removed:
			went = append(went, i)
		case Added:
			came = append(came, i)
		}
	}

	if len(went) == 0 || len(came) == 0 || len(went) > movedPages || len(came) > movedPages {
		return nil
	}
	seed := maphash.MakeSeed()

	read := func(side Side, which []int) ([]map[uint64]int, error) {
		var texts []map[uint64]int
		for _, i := range which {
			file, _ := find(side.Files, items[i].Path)
			data, err := side.Open(ctx, file)
			if err != nil {
				return nil, err
			}
			texts = append(texts, words(seed, data))
		}
		return texts, nil
	}

	old, err := read(before, went)
	if err != nil {
		return err
	}
	next, err := read(after, came)
	if err != nil {
		return err
	}

	type pair struct{ from, to, alike int }
	var pairs []pair
	for a := range old {
		for b := range next {
			if percent := alike(old[a], next[b]); percent >= movedAlike {
				pairs = append(pairs, pair{went[a], came[b], percent})
			}
		}
	}

	// The most alike first, so that each page finds its best match and is found
	// once.
	slices.SortStableFunc(pairs, func(a, b pair) int { return b.alike - a.alike })
	for _, p := range pairs {
		if gone[p.from] || items[p.to].Kind == Moved {
			continue
		}
		gone[p.from] = true
		to, from := &items[p.to], items[p.from]
		to.Kind, to.From, to.Before, to.Alike = Moved, from.Path, from.Before, min(p.alike, 99)
	}

	return nil
}

// words counts the words of a text, by hash.
func words(seed maphash.Seed, data []byte) map[uint64]int {
	counts := map[uint64]int{}
	for word := range bytes.FieldsSeq(data) {
		counts[maphash.Bytes(seed, word)]++
	}
	return counts
}

// alike is how much of two texts is the same, in percent: the words that both
// have over those that either has.
func alike(a, b map[uint64]int) int {
	both, either := 0, 0
	for word, n := range a {
		both += min(n, b[word])
		either += max(n, b[word])
	}

	for word, n := range b {
		if _, seen := a[word]; !seen {
			either += n
		}
	}

	if either == 0 {
		return 0
	}
	return both * 100 / either
}

// find returns the file at a path of a sorted list.
func find(list []release.File, path string) (release.File, bool) {
	at, ok := slices.BinarySearchFunc(list, path, func(f release.File, path string) int {
		switch {
		case f.Path < path:
			return -1
		case f.Path > path:
			return 1
		}
		return 0
	})
	if !ok {
		return release.File{}, false
	}
	return list[at], true
}
