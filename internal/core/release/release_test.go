package release_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

func file(path, content string) release.File {
	return release.File{Path: path, Digest: digest.Of([]byte(content)), Size: int64(len(content)),
		Type: "text/html; charset=utf-8"}
}

func many(n int) []release.File {
	files := make([]release.File, n)
	for i := range files {
		files[i] = file(fmt.Sprintf("harbours/%d/guide-%d.html", i%97, i), fmt.Sprint(i))
	}
	return files
}

// build makes a release and a reader that counts what it loads.
func build(t testing.TB, files []release.File, settings release.Settings,
) (release.Index, *release.Reader, *int) {
	t.Helper()
	index, err := release.Build(files, nil, settings)
	require.NoError(t, err)
	chunks := map[digest.Digest][]byte{}
	for _, chunk := range index.Chunks {
		require.Equal(t, chunk.Digest, digest.Of(chunk.Data))
		chunks[chunk.Digest] = chunk.Data
	}
	root, err := release.DecodeRoot(index.Data, index.ID)
	require.NoError(t, err)
	loads := 0
	return index, release.NewReader(index.ID, root, func(_ context.Context, d digest.Digest) ([]byte, error) {
		loads++
		data, ok := chunks[d]
		if !ok {
			return nil, errors.New("no such chunk")
		}
		return data, nil
	}), &loads
}

// TestFormatIsFrozen holds the bytes of format 1 fast: whoever changes them
// breaks every release that exists.
func TestFormatIsFrozen(t *testing.T) {
	t.Parallel()
	half := int64(30 * 60)
	index, err := release.Build([]release.File{
		file("index.html", "<h1>Corvane</h1>"),
		{Path: "film.mp4", Digest: digest.Of([]byte("film")), Size: release.PartSize + 1, Type: "video/mp4",
			Parts: []digest.Digest{digest.Of([]byte("a")), digest.Of([]byte("b"))}},
		file(`odd "name" é.html`, ""),
	}, nil, release.Settings{})
	require.NoError(t, err)
	require.Len(t, index.Chunks, 1)
	assert.Equal(t, strings.Join([]string{
		`["film.mp4","` + digest.Of([]byte("film")).
			String() + `",8388609,"video/mp4",["ca978112ca1bbdcafac231b39a23dc4da786eff8147c4e72b9807785afee48bb","3e23e8160039594a33894f6564e1b1348bbd7a0088d42c4acb73eeaed59c009d"]]`,
		`["index.html","` + digest.Of([]byte("<h1>Corvane</h1>")).
			String() + `",16,"text/html; charset=utf-8"]`,
		`["odd \"name\" é.html","e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",0,"text/html; charset=utf-8"]`, ""}, "\n"),
		string(index.Chunks[0].Data))
	assert.Equal(t, `{"bytes":8388625,"chunks":[["film.mp4","odd \"name\" é.html","`+
		index.Chunks[0].Digest.String()+`",3]],"files":3,"format":1,"semantics":2}`, string(index.Data))
	assert.Equal(t, "r-9f19e0705e", index.ID.Short())
	first := index.Root
	first.Semantics = release.Semantics1
	_, id, err := first.Encode()
	require.NoError(t, err)
	assert.Equal(t, "r-8be7bf21d6", id.Short(), "as the first version wrote it")

	settled, err := release.Build(nil, nil, release.Settings{OneAddress: true, KeepAssets: &half,
		Plain: []string{"img/**"}})
	require.NoError(t, err)
	assert.Equal(t, `{"bytes":0,"chunks":[],"files":0,"format":1,"semantics":2,"settings":{"keep_assets":1800,"one_address":true,"plain":["img/**"]}}`, string(settled.Data))
}

// TestImmutableFilesAreFrozen holds how a release lists the files that never
// change, and which semantics it takes for that.
func TestImmutableFilesAreFrozen(t *testing.T) {
	t.Parallel()
	files := []release.File{file("assets/a.DfR3_x1a.js", "1"), file(`assets/"é".Dk2uR5-f.css`, "2"),
		file("index.html", "3"), file("plain.js", "4")}
	list := `"assets/\"é\".Dk2uR5-f.css"` + "\n" + `"assets/a.DfR3_x1a.js"` + "\n"
	index, err := release.Build(files, nil, release.Settings{})
	require.NoError(t, err)
	require.Len(t, index.Chunks, 2)
	assert.Equal(t, list, string(index.Chunks[1].Data))
	assert.Contains(t, string(index.Data), `"immutable":{"count":2,"digest":"`+
		digest.Of([]byte(list)).String()+`","size":52},"semantics":2}`)

	film := append(slices.Clone(files), file("assets/b.B4x_9kQz.mp4", "5"))
	index, err = release.Build(film, nil, release.Settings{})
	require.NoError(t, err)
	assert.Equal(t, 3, index.Root.Semantics, "semantics 2 would drop the film with the next release")
	root, lists := index.Root.Relist(film, release.Settings{Plain: []string{"assets/b.*"}})
	assert.Equal(t, []any{2, int64(2)}, []any{root.Semantics, root.Immutable.Count})
	assert.Len(t, lists, 1)

	index, err = release.Build(files, nil, release.Settings{Plain: []string{"assets/**"}})
	require.NoError(t, err)
	assert.Nil(t, index.Root.Immutable)
	assert.Len(t, index.Chunks, 1)
}

func TestEqualContentHasAnEqualID(t *testing.T) {
	t.Parallel()
	files := many(5000)
	first, _, _ := build(t, files, release.Settings{})
	rand.Shuffle(len(files), func(i, j int) { files[i], files[j] = files[j], files[i] })
	second, _, _ := build(t, files, release.Settings{})
	assert.Equal(t, first.ID, second.ID, "the order of a listing does not count")
	files[17].Type = "text/plain"
	third, _, _ := build(t, files, release.Settings{})
	assert.NotEqual(t, first.ID, third.ID, "a media type is content")
	fourth, _, _ := build(t, files, release.Settings{OneAddress: true})
	assert.NotEqual(t, third.ID, fourth.ID, "so are settings")
}

func TestOneInsertedPathChangesOneOrTwoChunks(t *testing.T) {
	t.Parallel()
	files := many(20_000)
	before, _, _ := build(t, files, release.Settings{})
	known := map[digest.Digest]bool{}
	for _, chunk := range before.Chunks {
		known[chunk.Digest] = true
	}
	assert.InDelta(t, 20_000/256, len(before.Chunks), 30)
	for i := range 50 {
		after, _, _ := build(t, append(files[:20_000:20_000],
			file(fmt.Sprintf("harbours/%d/new-%d.html", i, i), "new")), release.Settings{})
		fresh := 0
		for _, chunk := range after.Chunks {
			if !known[chunk.Digest] {
				fresh++
			}
		}
		require.Contains(t, []int{1, 2}, fresh)
	}
}

func TestLookupFindsEverythingAndLoadsOneChunk(t *testing.T) {
	t.Parallel()
	files := append(many(20_000), file(`zz "quoted".html`, "q"), file("a\\b.html", "b"))
	_, reader, loads := build(t, files, release.Settings{})
	for _, want := range files {
		*loads = 0
		got, ok, err := reader.Lookup(t.Context(), want.Path)
		require.NoError(t, err)
		require.True(t, ok, want.Path)
		require.Equal(t, want, got)
		require.Equal(t, 1, *loads)
	}
	for _, path := range []string{"", "a", "harbours", "harbours/1/guide-1.htm", "harbours/1/guide-1.html/",
		"zzz", "\x00", "é"} {
		_, ok, err := reader.Lookup(t.Context(), path)
		require.NoError(t, err)
		assert.False(t, ok, path)
	}
	count := 0
	last := ""
	for one, err := range reader.Files(t.Context()) {
		require.NoError(t, err)
		require.Less(t, last, one.Path)
		last, count = one.Path, count+1
	}
	assert.Equal(t, len(files), count)
}

func TestAListOfTooManyChunksIsCutAgain(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("three hundred thousand files")
	}
	files := many(290_000)
	_, reader, loads := build(t, files, release.Settings{})
	require.Equal(t, 1, reader.Root.Depth)
	require.LessOrEqual(t, len(reader.Root.Chunks), 1024)
	for i := 0; i < len(files); i += 997 {
		*loads = 0
		got, ok, err := reader.Lookup(t.Context(), files[i].Path)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, files[i], got)
		require.Equal(t, 2, *loads)
	}
	changed := append([]release.File{}, files...)
	changed[12345].Digest = digest.Of([]byte("changed"))
	_, other, _ := build(t, changed, release.Settings{})
	*loads = 0
	changes, err := release.Compare(t.Context(), reader, other)
	require.NoError(t, err)
	require.Len(t, changes, 1)
	assert.Equal(t, files[12345].Path, changes[0].Path)
	assert.Less(t, *loads, 20, "what both have is not loaded")
}

func TestCompareNamesWhatDiffers(t *testing.T) {
	t.Parallel()
	files := many(3000)
	before, a, _ := build(t, files, release.Settings{})
	next := append([]release.File{}, files[1:]...)
	next[99] = file(next[99].Path, "changed")
	next = append(next, file("zebra.html", "added"))
	_, b, loads := build(t, next, release.Settings{})
	changes, err := release.Compare(t.Context(), a, b)
	require.NoError(t, err)
	require.Len(t, changes, 3)
	assert.Less(t, *loads, len(before.Chunks), "equal chunks are not loaded")
	kinds := map[string]string{}
	for _, change := range changes {
		switch {
		case change.Before == nil:
			kinds[change.Path] = "added"
		case change.After == nil:
			kinds[change.Path] = "removed"
		default:
			kinds[change.Path] = "changed"
		}
	}
	assert.Equal(t, map[string]string{files[0].Path: "removed", files[100].Path: "changed",
		"zebra.html": "added"}, kinds)
	all, err := release.Compare(t.Context(), nil, b)
	require.NoError(t, err)
	assert.Len(t, all, len(next))
}

func TestDecodeRootRefuses(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		data string
		want error
	}{
		"later semantics": {`{"bytes":0,"chunks":[],"files":0,"format":1,"semantics":4}`,
			release.ErrUnknown},
		"a later format": {`{"bytes":0,"chunks":[],"files":0,"format":2,"semantics":1}`,
			release.ErrUnknown},
		"a field it cannot know": {`{"bytes":0,"chunks":[],"files":0,"format":1,"rules":"x","semantics":1}`, release.ErrDamaged},
		"a list that semantics " +
			"1 has not": {`{"bytes":0,"chunks":[],"files":0,"format":1,"immutable":{"count":1,"digest":"` + digest.Of(nil).String() + `","size":0},"semantics":1}`, release.ErrDamaged},
		"another spelling": {`{"bytes":0, "chunks":[],"files":0,"format":1,"semantics":1}`,
			release.ErrDamaged},
		"something else": {`[]`, release.ErrDamaged},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := release.DecodeRoot([]byte(test.data), release.ID(digest.Of([]byte(test.data))))
			require.ErrorIs(t, err, test.want, name)
		})
	}
	_, err := release.DecodeRoot([]byte(`{"bytes":0,"chunks":[],"files":0,"format":1,"semantics":1}`),
		release.ID{})
	assert.ErrorIs(t, err, release.ErrDamaged, "bytes of another hash")
}

func TestBuildRefusesPathsThatNoReleaseCanHave(t *testing.T) {
	t.Parallel()
	for _, path := range []string{"", "/a", "a/", "a//b", "./a", "a/../b", "..", "a\x00b", "a\nb", "a\xffb"} {
		_, err := release.Build([]release.File{file(path, "")}, nil, release.Settings{})
		require.ErrorIs(t, err, release.ErrPath, "%q", path)
	}
	_, err := release.Build([]release.File{file("a", "1"), file("a", "2")}, nil, release.Settings{})
	assert.ErrorIs(t, err, release.ErrPath)
}

// FuzzDamagedChunk makes sure that no chunk, however damaged, makes a reader
// panic or find what was not asked for.
func FuzzDamagedChunk(f *testing.F) {
	index, err := release.Build(many(20), nil, release.Settings{})
	require.NoError(f, err)
	f.Add(index.Chunks[0].Data, "harbours/1/guide-1.html")
	f.Add([]byte(`["a\"",`), `a"`)
	f.Fuzz(func(t *testing.T, chunk []byte, path string) {
		root := release.Root{Format: 1, Semantics: 1,
			Chunks: []release.Ref{{First: "", Last: "\xff", Digest: digest.Of(chunk)}}}
		reader := release.NewReader(release.ID{}, root, func(context.Context, digest.Digest) ([]byte,
			error) {
			return chunk, nil
		})
		found, ok, err := reader.Lookup(t.Context(), path)
		if ok && (err != nil || found.Path != path) {
			t.Fatalf("asked for %q, found %q, %v", path, found.Path, err)
		}
		for _, err := range reader.Files(t.Context()) {
			if err != nil {
				break
			}
		}
	})
}

// BenchmarkLookup shows what one warm lookup allocates in
// releases of two sizes: the same.
func BenchmarkLookup(b *testing.B) {
	for _, n := range []int{100, 100_000} {
		files := many(n)
		_, reader, _ := build(b, files, release.Settings{})
		b.Run(fmt.Sprintf("files=%d", n), func(b *testing.B) {
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				if _, ok, err := reader.Lookup(b.Context(), files[i*7919%n].Path); !ok || err != nil {
					b.Fatal(ok, err)
				}
			}
		})
	}
}

// TestRulesOfARelease holds how a root names its rules.
func TestRulesOfARelease(t *testing.T) {
	t.Parallel()
	text := []byte(`{"pattern":"/a","verb":"gone"}` + "\n")
	set, objects := release.CutRules(1, text)
	require.Len(t, objects, 1)
	index, err := release.Build([]release.File{file("index.html", "1")}, set,
		release.Settings{Languages: []string{"en", "gl"}})
	require.NoError(t, err)
	assert.Equal(t, `{"bytes":1,"chunks":[["index.html","index.html","`+index.Chunks[0].Digest.String()+
		`",1]],"files":1,"format":1,"rules":{"count":1,"digest":"`+
		digest.Of(text).String()+`","size":31},"semantics":2,"settings":{"languages":["en","gl"]}}`,
		string(index.Data))
	root, err := release.DecodeRoot(index.Data, index.ID)
	require.NoError(t, err)
	content := map[digest.Digest][]byte{objects[0].Digest: text}
	load := func(_ context.Context, d digest.Digest) ([]byte, error) {
		if data, ok := content[d]; ok {
			return data, nil
		}
		return nil, io.ErrUnexpectedEOF
	}
	got, err := release.NewReader(index.ID, root, load).Rules(t.Context())
	require.NoError(t, err)
	assert.Equal(t, text, got)
	content[objects[0].Digest] = []byte("else")
	_, err = release.NewReader(index.ID, root, load).Rules(t.Context())
	require.ErrorIs(t, err, release.ErrDamaged)
	delete(content, objects[0].Digest)
	_, err = release.NewReader(index.ID, root, load).Rules(t.Context())
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)

	none, objects := release.CutRules(0, nil)
	assert.Nil(t, none)
	assert.Empty(t, objects)
	same, err := release.Build([]release.File{file("index.html", "1")}, none, release.Settings{})
	require.NoError(t, err)
	assert.NotContains(t, string(same.Data), "rules")
	other, _ := release.CutRules(1, []byte(`{"pattern":"/b","verb":"gone"}`+"\n"))
	changed, err := release.Build([]release.File{file("index.html", "1")}, other,
		release.Settings{Languages: []string{"en", "gl"}})
	require.NoError(t, err)
	assert.NotEqual(t, index.ID, changed.ID, "rules are content")
	for _, damaged := range []string{
		`{"bytes":0,"chunks":[],"files":0,"format":1,"rules":{"count":0,"digest":"` + digest.Of(text).
			String() + `","size":31},"semantics":1}`,
		`{"bytes":0,"chunks":[],"files":0,"format":1,"rules":{"count":1,"digest":"","size":31},"semantics":1}`,
		`{"bytes":0,"chunks":[],"files":0,"format":1,"rules":{"count":1,"digest":"` + digest.Of(text).
			String() + `","size":9000000},"semantics":1}`,
		`{"bytes":0,"chunks":[],"files":0,"format":1,"rules":{"count":1,"digest":"` + digest.Of(text).
			String() + `","size":31,"new":1},"semantics":1}`,
	} {
		_, err := release.DecodeRoot([]byte(damaged), release.ID(digest.Of([]byte(damaged))))
		assert.ErrorIs(t, err, release.ErrDamaged, damaged)
	}
}

// TestManyRulesAreKeptInParts cuts rules that are too long for one object.
func TestManyRulesAreKeptInParts(t *testing.T) {
	t.Parallel()
	text := bytes.Repeat([]byte(`{"pattern":"/a","verb":"gone"}`+"\n"), 300_000)
	set, objects := release.CutRules(300_000, text)
	require.Len(t, objects, 2)
	require.Len(t, set.Objects(), 2)
	content := map[digest.Digest][]byte{}
	for _, object := range objects {
		assert.LessOrEqual(t, len(object.Data), release.PartSize)
		assert.Equal(t, digest.Of(object.Data), object.Digest)
		content[object.Digest] = object.Data
	}
	reader := release.NewReader(release.ID{}, release.Root{Rules: set},
		func(_ context.Context, d digest.Digest) ([]byte, error) { return content[d], nil })
	got, err := reader.Rules(t.Context())
	require.NoError(t, err)
	assert.True(t, bytes.Equal(text, got))
}
