package release

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"sort"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
)

// Load returns the bytes of an object, verified: they hash to d.
type Load func(ctx context.Context, d digest.Digest) ([]byte, error)

// Reader finds files in a release. It holds the root and nothing else, loads
// chunks as they are needed, and may be used from several goroutines.
type Reader struct {
	ID   ID
	Root Root
	load Load
}

// NewReader returns a reader of the release whose root is given.
//
// Nothing is loaded yet. A Reader is safe for concurrent use if load is.
func NewReader(id ID, root Root, load Load) *Reader { return &Reader{ID: id, Root: root, load: load} }

// Lookup returns the file at path, and whether there is one.
// It makes two binary searches and loads one chunk for each
// level: one in a release of up to about 260,000 files.
func (r *Reader) Lookup(ctx context.Context, path string) (File, bool, error) {
	// The chunk whose first path is not behind the one that is asked for; if it
	// is there at all, it is in that one.
	at := sort.Search(len(r.Root.Chunks), func(i int) bool { return r.Root.Chunks[i].First > path }) - 1
	if at < 0 {
		return File{}, false, nil
	}
	ref := r.Root.Chunks[at]
	for range r.Root.Depth {
		// Between two chunks: not there, and nothing was loaded to know it.
		if path > ref.Last {
			return File{}, false, nil
		}
		data, err := r.load(ctx, ref.Digest)
		if err != nil {
			return File{}, false, err
		}

		text, _, err := search(data, path)
		if err == nil {
			err = json.Unmarshal(text, &ref)
		}
		if err != nil {
			return File{}, false, r.damaged(ref.Digest, err)
		}
	}

	if path > ref.Last {
		return File{}, false, nil
	}
	data, err := r.load(ctx, ref.Digest)
	if err != nil {
		return File{}, false, err
	}

	text, exact, err := search(data, path)
	if err != nil || !exact {
		return File{}, false, r.damaged(ref.Digest, err)
	}
	file, err := parseFile(text)
	return file, err == nil, r.damaged(ref.Digest, err)
}

// Rules loads the normalised rules; nil for none.
func (r *Reader) Rules(ctx context.Context) ([]byte, error) { return r.set(ctx, r.Root.Rules) }

// set loads what is kept as rules are.
func (r *Reader) set(ctx context.Context, set *RuleSet) ([]byte, error) {
	var all []byte
	for _, object := range set.Objects() {
		data, err := r.load(ctx, object)
		if err != nil {
			return nil, err
		}
		all = append(all, data...)
	}

	if set != nil && digest.Of(all) != set.Digest {
		return nil, fmt.Errorf("release %s, %s: %w", r.ID.Short(), set.Digest, ErrDamaged)
	}
	return all, nil
}

// Immutable loads the paths of the files that never
// change, of a release of semantics 2; nil for none.
func (r *Reader) Immutable(ctx context.Context) (map[string]bool, error) {
	data, err := r.set(ctx, r.Root.Immutable)
	if err != nil || len(data) == 0 {
		return nil, err
	}
	paths, before := map[string]bool{}, ""
	for text := range bytes.Lines(data) {
		var path string
		if err := json.Unmarshal(text, &path); err != nil || string(canon.AppendString(nil, path))+
			"\n" != string(text) || len(paths) > 0 && path <= before {
			return nil, fmt.Errorf("release %s, %s: %w", r.ID.Short(), r.Root.Immutable.Digest, ErrDamaged)
		}
		paths[path], before = true, path
	}

	if int64(len(paths)) != r.Root.Immutable.Count {
		return nil, fmt.Errorf("release %s, %s: %w", r.ID.Short(), r.Root.Immutable.Digest, ErrDamaged)
	}
	return paths, nil
}

// damaged is the error of a chunk that cannot be read as one.
func (r *Reader) damaged(chunk digest.Digest, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("release %s, chunk %s: %w: %w", r.ID.Short(), chunk, ErrDamaged, err)
}

// search returns the last line of a chunk whose path is not after the given
// one, and whether it is that path. It looks at the lines it needs only: a
// chunk is searched as it lies in the store.
func search(data []byte, path string) (text []byte, exact bool, err error) {
	low, high := 0, len(data) // both at the start of a line, or the end
	for low < high {
		// Lines differ in length, so the middle falls into one, whose start is
		// looked for.
		middle := low + (high-low)/2
		start := bytes.LastIndexByte(data[low:middle], '\n') + 1 + low
		length := bytes.IndexByte(data[start:], '\n')
		if length < 0 {
			return nil, false, fmt.Errorf("the last line does not end")
		}

		line := data[start : start+length]
		found, err := linePath(line)
		switch {
		case err != nil:
			return nil, false, err
		case string(found) == path:
			return line, true, nil
		case string(found) < path:
			text, low = line, start+length+1
		default:
			high = start
		}
	}

	return text, false, nil
}

// linePath returns the path that a line begins with,
// without copying it unless it has an escape.
func linePath(line []byte) ([]byte, error) {
	if len(line) < 2 || line[0] != '[' || line[1] != '"' {
		return nil, fmt.Errorf("a line does not begin with a path")
	}
	for i := 2; i < len(line); i++ {
		if line[i] == '"' {
			return line[2:i], nil
		}
		// Escaped, and rare: left to the JSON decoder.
		if line[i] == '\\' {
			var path string
			err := json.NewDecoder(bytes.NewReader(line[1:])).Decode(&path)
			return []byte(path), err
		}
	}

	return nil, fmt.Errorf("a path does not end")
}

// Files yields all files in order of path. The first error ends it.
//
// A chunk is loaded when its first file is asked for, so breaking off early
// loads no more.
func (r *Reader) Files(ctx context.Context) iter.Seq2[File, error] {
	return func(yield func(File, error) bool) {
		for _, ref := range r.Root.Chunks {
			if !r.walk(ctx, ref, r.Root.Depth, yield) {
				return
			}
		}
	}
}

// walk yields the files of a chunk, in order. depth is how many levels of
// references lie between; it reports whether to go on.
func (r *Reader) walk(ctx context.Context, ref Ref, depth int, yield func(File, error) bool) bool {
	data, err := r.load(ctx, ref.Digest)
	if err != nil {
		return yield(File{}, err) && false
	}
	for text := range bytes.Lines(data) {
		if depth > 0 {
			var below Ref
			if err := json.Unmarshal(text, &below); err != nil {
				return yield(File{}, r.damaged(ref.Digest, err)) && false
			}
			if !r.walk(ctx, below, depth-1, yield) {
				return false
			}
			continue
		}

		file, err := parseFile(text)
		if err != nil {
			return yield(File{}, r.damaged(ref.Digest, err)) && false
		}
		if !yield(file, nil) {
			return false
		}
	}

	return true
}

// Refs returns the references to the chunks of files, in
// order, going through the levels above them.
func (r *Reader) Refs(ctx context.Context) ([]Ref, error) {
	level := r.Root.Chunks
	for range r.Root.Depth {
		var next []Ref
		for _, ref := range level {
			below, err := r.below(ctx, ref)
			if err != nil {
				return nil, err
			}
			next = append(next, below...)
		}
		level = next
	}
	return level, nil
}

// below reads a chunk that holds references to chunks, of a release that is
// large enough to have levels.
func (r *Reader) below(ctx context.Context, ref Ref) ([]Ref, error) {
	data, err := r.load(ctx, ref.Digest)
	if err != nil {
		return nil, err
	}
	var refs []Ref
	for text := range bytes.Lines(data) {
		var next Ref
		if err := json.Unmarshal(text, &next); err != nil {
			return nil, r.damaged(ref.Digest, err)
		}
		refs = append(refs, next)
	}
	return refs, nil
}
