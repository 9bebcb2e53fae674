package test

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// unpack unpacks an archive with the times of its files:
// by them a store knows how old things are.
func unpack(t *testing.T, archive, folder string) {
	t.Helper()
	file, err := os.Open(archive)
	require.NoError(t, err)
	defer file.Close() //nolint:errcheck // read only
	unzipped, err := gzip.NewReader(file)
	require.NoError(t, err)
	for reader := tar.NewReader(unzipped); ; {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		name := filepath.Join(folder, filepath.FromSlash(header.Name))
		if header.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(name, 0o755))
			continue
		}
		data, err := io.ReadAll(reader)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, data, header.FileInfo().Mode().Perm()|0o200))
		require.NoError(t, os.Chtimes(name, header.ModTime, header.ModTime))
	}
}

// TestAStoreOfTheFirstVersionIsStillOne opens, serves, deploys to, goes back
// in, verifies and prunes a store that an earlier version of the program made:
// two sites that claim the same address, a preview with a password and one that
// was removed, a freeze with what waits for its end, a failed build.
func TestAStoreOfTheFirstVersionIsStillOne(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	unpack(t, filepath.Join("testdata", "first-stores.tar.gz"), folder)
	store := filepath.Join(folder, "store")
	p, velley := newPlace(t), newPlace(t)
	p.folder, velley.folder = filepath.Join(folder, "corvane"), filepath.Join(folder, "velley")
	before := p.whole(store)
	assert.Equal(t, []int{2, 11, 6}, []int{before.Sites, before.Entries, before.Releases})
	address := p.edgeOn(store)
	assert.Contains(t, awaits(t, address, "www.corvane.example", "/", http.StatusOK), "Ferries in winter",
		"of two that claim it, the first in alphabetical order")
	awaits(t, address, "velley.example", "/", http.StatusMovedPermanently)
	awaits(t, address, "fares.preview.corvane.localhost", "/", http.StatusUnauthorized)
	awaits(t, address, "old.preview.corvane.localhost", "/", http.StatusGone)
	assert.Len(t, p.history("production"), 4)
	assert.Contains(t, p.ok("builds"), "failed")

	p.ok("thaw", "--yes")
	assert.Contains(t, awaits(t, address, "www.corvane.example", "/", http.StatusOK), "Ferries again",
		"what waited")
	p.commit("Spring", map[string]string{"site/spring.html": "<!doctype html><html " +
		"lang=en><head><title>Spring</title></head><body>Spring</body></html>"})
	p.ok("deploy")
	awaits(t, address, "www.corvane.example", "/spring", http.StatusOK)
	p.ok("rollback", "--keep-following")
	awaits(t, address, "www.corvane.example", "/spring", http.StatusNotFound)
	p.ok("promote", "production", "--to", "staging")
	p.ok("preview", "share", "fares")

	velley.commit("More addresses",
		map[string]string{"orilla.yaml": "site: velley\nstore: ../store\nbuild: {output: " +
			"out}\nenvironments: {production: {addresses: [\"https://www.corvane.example/\", " +
			"\"https://velley.example/\", \"https://velley.test/\"]}}\n"})
	velley.fails(3, "https://www.corvane.example/ belongs to the site corvane", "deploy")
	velley.commit("Its own",
		map[string]string{"orilla.yaml": "site: velley\nstore: ../store\nbuild: {output: " +
			"out}\nenvironments: {production: {addresses: [\"https://velley.example/\"]}}\n"})
	velley.ok("deploy")
	awaits(t, address, "velley.example", "/", http.StatusOK)

	p.whole(store)
	p.ok("store", "prune", "--yes", "--releases", "1", "--younger-than", "1s", "--unfinished", "1s")
	after := p.whole(store)
	assert.Less(t, after.Releases, before.Releases+2)
	awaits(t, address, "www.corvane.example", "/", http.StatusOK)
	onlyKnownKeys(t, store)
}
