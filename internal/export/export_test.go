package export_test

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/export"
	"orilla.example/orilla/internal/store/memory"
)

// published puts a release of files into a store.
func published(t *testing.T, store *memory.Store, files map[string]string, rules string) *release.Reader {
	t.Helper()
	put := func(data []byte) digest.Digest {
		d := digest.Of(data)
		if _, err := store.Stat(t.Context(), d.Key()); err != nil {
			require.NoError(t, store.Create(t.Context(), d.Key(), data))
		}
		return d
	}
	var list []release.File
	for path, text := range files {
		list = append(list, release.File{Path: path, Digest: put([]byte(text)), Size: int64(len(text)),
			Type: "text/html"})
	}
	var set *release.RuleSet
	if rules != "" {
		set, _ = release.CutRules(1, []byte(rules))
		put([]byte(rules))
	}
	index, err := release.Build(list, set, release.Settings{})
	require.NoError(t, err)
	for _, chunk := range index.Chunks {
		put(chunk.Data)
	}
	return release.NewReader(index.ID, index.Root, func(ctx context.Context, d digest.Digest) ([]byte,
		error) {
		return release.Object(ctx, store, d)
	})
}

func TestExportWritesAPlainTree(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	files := map[string]string{"index.html": "home", "boats/dunlin/index.html": "The big one",
		"é/ö.html": "accents", "empty": ""}
	reader := published(t, store, files, `{"pattern":"/prices","target":"/fares","verb":"redirect"}`+"\n")
	folder := t.TempDir()
	unpack := map[string]func(name string) map[string]string{"tree": readTree(t), "site.zip": readZip(t),
		"site.tar": readTar(t, false), "site.tar.gz": readTar(t, true), "site.tgz": readTar(t, true)}
	for name, read := range unpack {
		var written atomic.Int64
		to := filepath.Join(folder, "new", name)
		done, err := export.Export(t.Context(), store, reader, to, func(bytes int64) { written.Add(bytes) })
		require.NoError(t, err, name)
		assert.Equal(t, files, read(to), name)
		assert.EqualValues(t, 4, done.Files)
		assert.Equal(t, done.Bytes, written.Load())
		assert.EqualValues(t, 1, done.Rules)
		rules, err := os.ReadFile(to + ".rules")
		require.NoError(t, err)
		assert.Equal(t, "redirect  /prices  -> /fares\n", string(rules))
		first, err := os.ReadFile(to)
		_, again := export.Export(t.Context(), store, reader, to, func(int64) {})
		require.Equal(t, "not-empty", fault.Code(again), "nothing is written over")
		if err == nil { // an archive
			other := filepath.Join(folder, "other-"+name)
			_, err := export.Export(t.Context(), store, reader, other, func(int64) {})
			require.NoError(t, err)
			second, err := os.ReadFile(other)
			require.NoError(t, err)
			assert.Equal(t, first, second, "equal releases make equal archives")
		}
	}
	empty := filepath.Join(folder, "empty")
	require.NoError(t, os.Mkdir(empty, 0o755))
	_, err := export.Export(t.Context(), store, reader, empty, func(int64) {})
	require.NoError(t, err, "an empty folder is filled")
}

func TestAnExportThatFailsLeavesNothing(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	reader := published(t, store, map[string]string{"index.html": "home", "fares.html": "42.00"}, "")
	require.NoError(t, store.Replace(t.Context(), digest.Of([]byte("42.00")).Key(), []byte("4.20")))
	folder := t.TempDir()
	for _, name := range []string{"tree", "site.zip", "site.tar.gz"} {
		_, err := export.Export(t.Context(), store, reader, filepath.Join(folder, name), func(int64) {})
		require.ErrorIs(t, err, release.ErrDamaged, "a damaged object is not written")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := export.Export(ctx, store, reader, filepath.Join(folder, "late"), func(int64) {})
	require.Error(t, err)
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, entries)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "file"), nil, 0o644))
	whole := published(t, store, map[string]string{"index.html": "home"}, "")
	_, err = export.Export(t.Context(), store, whole, filepath.Join(folder, "file", "below"), func(int64) {})
	require.Contains(t, []string{"not-written", "not-empty"}, fault.Code(err))
}

func readTree(t *testing.T) func(string) map[string]string {
	t.Helper()
	return func(root string) map[string]string {
		found := map[string]string{}
		require.NoError(t, filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			data, err := os.ReadFile(path)
			relative, _ := filepath.Rel(root, path)
			found[filepath.ToSlash(relative)] = string(data)
			return err
		}))
		return found
	}
}

func readZip(t *testing.T) func(string) map[string]string {
	t.Helper()
	return func(name string) map[string]string {
		archive, err := zip.OpenReader(name)
		require.NoError(t, err)
		defer archive.Close() //nolint:errcheck // read only
		found := map[string]string{}
		for _, entry := range archive.File {
			file, err := entry.Open()
			require.NoError(t, err)
			data, err := io.ReadAll(file)
			require.NoError(t, err)
			found[entry.Name] = string(data)
		}
		return found
	}
}

func readTar(t *testing.T, compressed bool) func(string) map[string]string {
	t.Helper()
	return func(name string) map[string]string {
		file, err := os.Open(name)
		require.NoError(t, err)
		defer file.Close() //nolint:errcheck // read only
		var in io.Reader = file
		if compressed {
			in, err = gzip.NewReader(file)
			require.NoError(t, err)
		}
		archive, found := tar.NewReader(in), map[string]string{}
		for {
			header, err := archive.Next()
			if errors.Is(err, io.EOF) {
				return found
			}
			require.NoError(t, err)
			data, err := io.ReadAll(archive)
			require.NoError(t, err)
			found[header.Name] = string(data)
		}
	}
}
