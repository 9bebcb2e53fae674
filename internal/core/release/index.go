package release

import (
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
)

// A sorted list of lines is cut into chunks after each line whose path has a SHA-256 that ends in eight zero bits, and after
// maxLines at the latest. Where a cut falls depends on that path alone, so inserting or removing one changes the chunk it is
// in, or that and a neighbour, however many there are. A list of more than maxRefs chunks is itself cut the same way.
const (
	meanLines = 256
	maxLines  = 16 * meanLines
	maxRefs   = 1024
)

// Chunk is one cut of the index, ready to be kept as an object.
type Chunk struct {
	Digest digest.Digest
	Data   []byte
}

// Index is a release that was put together and is not yet kept anywhere.
type Index struct {
	ID     ID
	Root   Root
	Data   []byte  // the root's bytes
	Chunks []Chunk // in order of path, the lowest level first
}

// ErrPath is returned by Build for files that no release can have.
var ErrPath = errors.New("not a path of a release")

// Build sorts files by path and makes their index. No two may have the same path.
func Build(files []File, settings Settings) (Index, error) {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return cmp.Compare(a.Path, b.Path) })
	index := Index{Root: Root{Format: Format, Semantics: Semantics, Files: int64(len(files)), Settings: settings}}
	lines := make([]line, 0, len(files))
	for i, file := range files {
		if err := checkPath(file.Path); err != nil {
			return Index{}, err
		}
		if i > 0 && files[i-1].Path == file.Path {
			return Index{}, fmt.Errorf("%w: %q is there twice", ErrPath, file.Path)
		}
		index.Root.Bytes += file.Size
		lines = append(lines, line{path: file.Path, files: 1, text: appendFile(nil, file)})
	}
	refs := index.cut(lines)
	for len(refs) > maxRefs {
		lines = lines[:0]
		for _, ref := range refs {
			lines = append(lines, line{path: ref.First, files: ref.Files, text: ref.appendLine(nil)})
		}
		refs = index.cut(lines)
		index.Root.Depth++
	}
	index.Root.Chunks = refs
	var err error
	index.Data, index.ID, err = index.Root.Encode()
	return index, err
}

// line is one line of a chunk before it is cut: a file, or a reference to a chunk of a lower level.
type line struct {
	path  string
	files int64
	text  []byte
}

// cut groups lines into chunks, adds those to the index, and returns references to them.
func (x *Index) cut(lines []line) []Ref {
	refs := []Ref{}
	for start := 0; start < len(lines); {
		end, ref := start, Ref{First: lines[start].path}
		var data []byte
		for {
			data = append(append(data, lines[end].text...), '\n')
			ref.Files += lines[end].files
			end++
			if end == len(lines) || end-start == maxLines || endsChunk(lines[end-1].path) {
				break
			}
		}
		ref.Digest = digest.Of(data)
		x.Chunks = append(x.Chunks, Chunk{Digest: ref.Digest, Data: data})
		refs = append(refs, ref)
		start = end
	}
	return refs
}

func endsChunk(path string) bool {
	sum := sha256.Sum256([]byte(path))
	return sum[len(sum)-1] == 0
}

// checkPath refuses what could escape a folder or has no single spelling.
func checkPath(path string) error {
	for segment := range strings.SplitSeq(path, "/") {
		if segment == "" || segment == "." || segment == ".." {
			return fmt.Errorf("%w: %q has an empty or dot segment", ErrPath, path)
		}
	}
	for _, c := range path {
		if c < ' ' || c == 0x7f || c == '\ufffd' {
			return fmt.Errorf("%w: %q has a control character or is not UTF-8", ErrPath, path)
		}
	}
	return nil
}

// appendFile writes the line of a file: [path, digest, size, type] and, for content in parts, their digests.
func appendFile(out []byte, file File) []byte {
	out = canon.AppendString(append(out, '['), file.Path)
	out = fmt.Appendf(out, `,"%s",%d,`, file.Digest, file.Size)
	out = canon.AppendString(out, file.Type)
	if len(file.Parts) > 0 {
		separator := `,["`
		for _, part := range file.Parts {
			out = fmt.Appendf(append(out, separator...), `%s"`, part)
			separator = `,"`
		}
		out = append(out, ']')
	}
	return append(out, ']')
}

// parseFile reads what appendFile wrote.
func parseFile(text []byte) (File, error) {
	var fields []json.RawMessage
	if err := json.Unmarshal(text, &fields); err != nil {
		return File{}, err
	}
	if len(fields) != 4 && len(fields) != 5 {
		return File{}, fmt.Errorf("a line of an index has 4 or 5 fields, not %d", len(fields))
	}
	var file File
	err := errors.Join(json.Unmarshal(fields[0], &file.Path), json.Unmarshal(fields[1], &file.Digest),
		json.Unmarshal(fields[2], &file.Size), json.Unmarshal(fields[3], &file.Type))
	if len(fields) == 5 {
		err = errors.Join(err, json.Unmarshal(fields[4], &file.Parts))
	}
	if err != nil {
		return File{}, err
	}
	return file, checkParts(file)
}

// checkParts compares the number of parts with the size.
func checkParts(file File) error {
	want := 0
	if file.Size > PartSize {
		want = int((file.Size + PartSize - 1) / PartSize)
	}
	if file.Size < 0 || len(file.Parts) != want || file.Digest.IsZero() {
		return fmt.Errorf("%q has %d bytes in %d parts", file.Path, file.Size, len(file.Parts))
	}
	return nil
}
