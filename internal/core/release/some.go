package release

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"iter"
	"slices"
)

// Some yields the files of at most so many chunks of a release, in no order that means
// anything. Their paths decide which: one file more or less changes one chunk at most, so
// what is learnt of a release by it stays nearly the same in the next. It reads a bounded
// part of the index, however large that is. The first error ends it.
func (r *Reader) Some(ctx context.Context, chunks int) iter.Seq2[File, error] {
	return func(yield func(File, error) bool) {
		refs := chosen(r.Root.Chunks, chunks)
		for range r.Root.Depth {
			var next []Ref
			for _, ref := range refs {
				below, err := r.below(ctx, ref)
				if err != nil {
					yield(File{}, err)
					return
				}
				next = append(next, below...)
			}
			refs = chosen(next, chunks)
		}
		for _, ref := range refs {
			if !r.walk(ctx, ref, 0, yield) {
				return
			}
		}
	}
}

// chosen returns so many references, those whose first paths have the smallest digests.
func chosen(refs []Ref, most int) []Ref {
	refs = slices.Clone(refs)
	slices.SortFunc(refs, func(a, b Ref) int {
		one, other := sha256.Sum256([]byte(a.First)), sha256.Sum256([]byte(b.First))
		return cmp.Or(bytes.Compare(one[:], other[:]), cmp.Compare(a.First, b.First))
	})
	return refs[:min(len(refs), most)]
}
