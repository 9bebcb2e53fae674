package release

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fingerprint"
	"orilla.example/orilla/internal/core/media"
)

// A sorted list of lines is cut into chunks after each line whose path has a
// SHA-256 that ends in eight zero bits, and after maxLines at the latest. Where
// a cut falls depends on that path alone, so inserting or removing one changes
// the chunk it is in, or that and a neighbour, however many there are. A list
// of more than maxRefs chunks is itself cut the same way.
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
	ID   ID
	Root Root
	Data []byte // the root's bytes
	// Chunks are all objects that it consists of: those of the index in order of
	// path, the lowest level first, and then the list of immutable files.
	Chunks []Chunk
}

// ErrPath is returned by Build for files that no release can have.
var ErrPath = errors.New("not a path of a release")

// Build sorts files by path and makes their index. No two may have the same
// path. rules is nil for none.
//
// Which of them are immutable is told from their paths and the settings. The
// same files give the same bytes, in whatever order they come. The error is
// ErrPath for a path that no release can have.
func Build(files []File, rules *RuleSet, settings Settings) (Index, error) {
	list, _ := Immutable(files, settings)
	return Assemble(files, list, rules, settings)
}

// Assemble is Build where Immutable was asked before: list is what it returned.
func Assemble(files []File, immutable []string, rules *RuleSet, settings Settings) (Index, error) {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return cmp.Compare(a.Path, b.Path) })
	index := Index{Root: Root{Format: Format, Files: int64(len(files)), Rules: rules,
		Settings: settings}}
	list := lines{text: make([]byte, 0, 160*len(files)), each: make([]line, 0, len(files))}
	for i, file := range files {
		if err := checkPath(file.Path); err != nil {
			return Index{}, err
		}
		if i > 0 && files[i-1].Path == file.Path {
			return Index{}, fmt.Errorf("%w: %q is there twice", ErrPath, file.Path)
		}

		index.Root.Bytes += file.Size
		list.text = append(appendFile(list.text, file), '\n')
		list.each = append(list.each, line{path: file.Path, last: file.Path, files: 1, end: len(list.text)})
	}

	refs := index.cut(list)
	// References are cut by the same rule, level upon level, until they fit
	// into the root.
	for len(refs) > maxRefs {
		list = lines{}
		for _, ref := range refs {
			list.text = append(ref.appendLine(list.text), '\n')
			list.each = append(list.each, line{path: ref.First, last: ref.Last, files: ref.Files,
				end: len(list.text)})
		}
		refs = index.cut(list)
		index.Root.Depth++
	}

	index.Root.Chunks = refs
	index.Chunks = append(index.Chunks, index.Root.listImmutable(immutable)...)
	var err error
	index.Data, index.ID, err = index.Root.Encode()
	return index, err
}

// Relist returns the root with other settings, and with the list of immutable
// files that goes with them, and the objects that hold that list. files are all
// files of the release, in order of path.
func (r Root) Relist(files []File, settings Settings) (Root, []Chunk) {
	r.Settings = settings
	list, _ := Immutable(files, settings)
	objects := r.listImmutable(list)
	return r, objects
}

// Immutable returns the paths, in order, of those of a release's files that never
// change at their address, and the lowest semantics that can say so.
func Immutable(files []File, settings Settings) (list []string, semantics int) {
	paths := make([]string, len(files))
	for i, file := range files {
		paths[i] = file.Path
	}
	list = fingerprint.List(paths, settings.Fingerprinted, settings.Plain)
	return list, semanticsOf(list)
}

// semanticsOf returns the lowest semantics that goes with a list of immutable
// files: the second would not carry over all kinds once they are gone.
func semanticsOf(list []string) int {
	if slices.ContainsFunc(list, func(path string) bool { return !media.IsLoaded(path) }) {
		return Semantics3
	}
	return Semantics2
}

// listImmutable gives a root its list of immutable files, and the semantics that
// go with it. It returns the objects that hold the list.
func (r *Root) listImmutable(list []string) []Chunk {
	r.Semantics = semanticsOf(list)
	var text []byte
	for _, path := range list {
		text = append(canon.AppendString(text, path), '\n')
	}
	var objects []Chunk
	r.Immutable, objects = CutRules(len(list), text)
	return objects
}

// lines is one level of an index before it is cut: files,
// or references to chunks of a lower level.
type lines struct {
	text []byte
	each []line
}

// line says what one line is about and where its text ends.
type line struct {
	path, last string // of a file the same; of a chunk its first and last
	files      int64
	end        int
}

// cut groups lines into chunks, adds those to the index, and returns references
// to them. The chunks share the lines' text.
func (x *Index) cut(list lines) []Ref {
	refs := []Ref{}
	start := 0 // of the chunk, in the text
	for first := 0; first < len(list.each); {
		end, ref := first, Ref{First: list.each[first].path}
		for {
			ref.Files += list.each[end].files
			end++
			if end == len(list.each) || end-first == maxLines || endsChunk(list.each[end-1].path) {
				break
			}
		}

		stop := list.each[end-1].end
		ref.Last = list.each[end-1].last
		// The third index keeps an append from writing over the next chunk.
		data := list.text[start:stop:stop]
		ref.Digest = digest.Of(data)
		x.Chunks = append(x.Chunks, Chunk{Digest: ref.Digest, Data: data})
		refs = append(refs, ref)
		first, start = end, stop
	}

	return refs
}

// endsChunk reports whether a chunk ends after a path. The path alone decides,
// by chance one in 256: so a file that is added or removed changes the chunks
// around it and no others.
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

// appendFile writes the line of a file: [path, digest, size, type] and, for
// content in parts, their digests.
func appendFile(out []byte, file File) []byte {
	out = canon.AppendString(append(out, '['), file.Path)
	out = appendDigest(append(out, ','), file.Digest)
	out = strconv.AppendInt(append(out, ','), file.Size, 10)
	out = canon.AppendString(append(out, ','), file.Type)
	for i, part := range file.Parts {
		if i == 0 {
			out = append(out, ',', '[')
		} else {
			out = append(out, ',')
		}
		out = appendDigest(out, part)
	}

	if len(file.Parts) > 0 {
		out = append(out, ']')
	}
	return append(out, ']')
}

// appendDigest appends a digest as a string of JSON. It needs no escapes.
func appendDigest(out []byte, d digest.Digest) []byte {
	return append(hex.AppendEncode(append(out, '"'), d[:]), '"')
}

// parseFile reads what appendFile wrote.
func parseFile(text []byte) (File, error) {
	// Nearly every line is plain; the JSON decoder would take ten times as long
	// for them.
	if file, ok := parsePlain(text); ok {
		return file, checkParts(file)
	}
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

// parsePlain reads the line of a file in one object whose
// path and type need no escapes, as nearly all are, without
// the cost of general JSON. Any other line is not ok.
func parsePlain(text []byte) (file File, ok bool) {
	text = bytes.TrimSuffix(text, []byte("\n"))
	path, rest, ok := plainString(text, '[')
	if !ok {
		return file, false
	}

	sum, rest, ok := plainString(rest, ',')
	if !ok {
		return file, false
	}
	comma := bytes.IndexByte(rest[1:], ',') + 1
	if rest[0] != ',' || comma < 2 {
		return file, false
	}

	size, sizeErr := strconv.ParseInt(string(rest[1:comma]), 10, 64)
	mediaType, rest, ok := plainString(rest[comma:], ',')
	if !ok || sizeErr != nil || string(rest) != "]" {
		return file, false
	}
	d, err := digest.Parse(string(sum))
	return File{Path: string(path), Digest: d, Size: size, Type: string(mediaType)}, err == nil
}

// plainString reads a string without escapes that follows
// the given character. Something follows it.
func plainString(text []byte, after byte) (value, rest []byte, ok bool) {
	if len(text) < 3 || text[0] != after || text[1] != '"' {
		return nil, nil, false
	}
	end := bytes.IndexByte(text[2:], '"') + 2
	if end < 2 || end+1 >= len(text) || bytes.IndexByte(text[2:end], '\\') >= 0 {
		return nil, nil, false
	}
	return text[2:end], text[end+1:], true
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
