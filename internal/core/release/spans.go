package release

import (
	"context"
	"sort"

	"orilla.example/orilla/internal/core/digest"
)

// Span is a run of files that lies in one chunk: those
// from First up to, and not with, End.
type Span struct{ First, End int }

// Spans returns where the list of files with these paths, which are in order,
// is cut into chunks. It depends on the paths alone.
//
// Because of that, a file more or less moves one cut, and all other chunks stay
// as they are in the store.
func Spans(count int, path func(i int) string) []Span {
	var spans []Span
	for first := 0; first < count; {
		end := first + 1
		for end < count && end-first < maxLines && !endsChunk(path(end-1)) {
			end++
		}
		spans = append(spans, Span{first, end})
		first = end
	}
	return spans
}

// ChunkOf returns the chunk that holds the given files,
// which are those of one span.
func ChunkOf(files []File) Chunk {
	var text []byte
	for _, file := range files {
		text = append(appendFile(text, file), '\n')
	}
	return Chunk{Digest: digest.Of(text), Data: text}
}

// Between yields the files of the chunks that hold any path from first to last:
// those, and some around them.
func (r *Reader) Between(ctx context.Context, refs []Ref, first, last string) ([]File, error) {
	at := sort.Search(len(refs), func(i int) bool { return refs[i].Last >= first })
	var files []File
	var failed error
	for ; at < len(refs) && refs[at].First <= last; at++ {
		r.walk(ctx, refs[at], 0, func(file File, err error) bool {
			files, failed = append(files, file), err
			return err == nil
		})
		if failed != nil {
			return nil, failed
		}
	}
	return files, nil
}

// Visit goes through the chunks of all levels. enter is asked before a chunk is
// loaded, and false leaves it out with all below it; each is told the files of
// the chunks that are loaded. Chunks are loaded one after the other.
func (r *Reader) Visit(ctx context.Context, enter func(chunk digest.Digest) bool, each func(File) error,
) error {
	return r.visit(ctx, r.Root.Chunks, r.Root.Depth, enter, each)
}

// visit calls each with the files below references whose chunks enter lets in.
// depth is how many levels of references lie between.
func (r *Reader) visit(ctx context.Context, refs []Ref, depth int, enter func(digest.Digest) bool,
	each func(File) error,
) error {
	for _, ref := range refs {
		if !enter(ref.Digest) {
			continue
		}
		if depth > 0 {
			below, err := r.below(ctx, ref)
			if err == nil {
				err = r.visit(ctx, below, depth-1, enter, each)
			}
			if err != nil {
				return err
			}
			continue
		}

		var failed error
		r.walk(ctx, ref, 0, func(file File, err error) bool {
			if failed = err; err == nil {
				failed = each(file)
			}
			return failed == nil
		})

		if failed != nil {
			return failed
		}
	}
	return nil
}
