package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestArchivesAreTheSameEverywhere packs the same files twice, and finds in the archives what went
// in, of nobody, at one time.
func TestArchivesAreTheSameEverywhere(t *testing.T) {
	t.Parallel()
	when := time.Date(2026, 11, 29, 1, 2, 4, 0, time.UTC)
	list := []member{{"orilla_1/README.md", []byte("# Orilla"), 0o644}, {"orilla_1/orilla", []byte{0, 1, 2}, 0o755}}
	first, err := tarball(list, when)
	require.NoError(t, err)
	again, err := tarball(list, when.In(time.FixedZone("elsewhere", 9*60*60)))
	require.NoError(t, err)
	assert.Equal(t, first, again)
	unzipped, err := gzip.NewReader(bytes.NewReader(first))
	require.NoError(t, err)
	assert.True(t, unzipped.ModTime.IsZero())
	files := tar.NewReader(unzipped)
	for _, want := range list {
		header, err := files.Next()
		require.NoError(t, err)
		assert.Equal(t, want.name, header.Name)
		assert.Equal(t, int64(want.mode), header.Mode)
		assert.True(t, when.Equal(header.ModTime))
		assert.Zero(t, header.Uid)
		assert.Empty(t, header.Uname)
		data, err := io.ReadAll(files)
		require.NoError(t, err)
		assert.Equal(t, want.data, data)
	}

	packed, err := zipped(list, when)
	require.NoError(t, err)
	read, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	require.NoError(t, err)
	require.Len(t, read.File, 2)
	assert.Equal(t, list[1].mode, read.File[1].Mode())
	assert.True(t, when.Equal(read.File[0].Modified))
}

// TestNothingIsPassedOnWithoutALicence finds licences by all their names, and refuses where there
// is none.
func TestNothingIsPassedOnWithoutALicence(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	var text bytes.Buffer
	require.NoError(t, os.WriteFile(filepath.Join(folder, "NOTICE"), []byte("by others"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "license.go"), []byte("package license"), 0o600))
	require.ErrorContains(t, addLicences(&text, "harbour.example/crane v1.0.0", folder), "has no licence")
	for _, name := range []string{"LICENSE", "LICENCE.md", "UNLICENSE", "COPYING"} {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte("as you like: "+name), 0o600))
		text.Reset()
		require.NoError(t, addLicences(&text, "harbour.example/crane v1.0.0", folder))
		assert.Contains(t, text.String(), "as you like: "+name)
		assert.Contains(t, text.String(), "by others")
		assert.NotContains(t, text.String(), "package license")
		require.NoError(t, os.Remove(path))
	}
}

// TestAPackageIsWhatItsConfigurationSays has the unit start the program where the package puts it,
// and gives both names of an architecture their due.
func TestAPackageIsWhatItsConfigurationSays(t *testing.T) {
	t.Parallel()
	work := t.TempDir()
	source, err := filepath.Abs("../..")
	require.NoError(t, err)
	r := &release{source: source, stage: work, version: "1.2.3", when: time.Unix(1_800_000_000, 0)}
	for _, file := range []string{"common/README.md", "common/LICENSE", "common/LICENSES-of-others.txt",
		"common/CHANGELOG.md", "completions/orilla.bash", "completions/_orilla", "completions/orilla.fish",
		"man/man1/orilla.1", "orilla__linux_arm64/orilla"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(work, file)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(work, file), []byte(file), 0o600))
	}
	tree, arm := filepath.Join(work, "tree"), target{"linux", "arm64"}
	require.NoError(t, r.tree(tree, arm))
	require.NoError(t, readable(tree))
	for file, mode := range map[string]os.FileMode{"usr/bin/orilla": 0o755, "usr/share/man": 0o755,
		"usr/share/man/man1/orilla.1.gz": 0o644, "etc/orilla/edge.yaml": 0o644} {
		info, err := os.Stat(filepath.Join(tree, file))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), file)
	}
	unit, err := os.ReadFile(filepath.Join(tree, "usr/lib/systemd/system/orilla-edge.service"))
	require.NoError(t, err)
	assert.Contains(t, string(unit), "ExecStart=/usr/bin/orilla edge")
	assert.NotContains(t, string(unit), "/usr/local/bin/orilla")
	assert.FileExists(t, filepath.Join(tree, "usr/share/man/man1/orilla.1.gz"))
	assert.FileExists(t, filepath.Join(tree, "etc/orilla/edge.yaml"))
	config := r.nfpmConfig(arm, tree)
	for _, says := range []string{"arch: arm64", `version: "1.2.3"`, "src: " + tree + "/usr/bin/orilla", "/postinst"} {
		assert.Contains(t, config, says)
	}
}

// TestSumsAreOfOneVersion leaves out what an earlier release left in the folder.
func TestSumsAreOfOneVersion(t *testing.T) {
	t.Parallel()
	r := &release{to: t.TempDir(), version: "1.2.3"}
	for _, name := range []string{"orilla_1.2.3_amd64.deb", "orilla_1.2.3.cdx.json", "orilla_1.2.2_amd64.deb",
		"orilla_1.2.30_amd64.deb", "notes.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(r.to, name), []byte(name), 0o600))
	}
	require.NoError(t, r.sums())
	sums, err := os.ReadFile(filepath.Join(r.to, "SHA256SUMS"))
	require.NoError(t, err)
	assert.Equal(t, 2, bytes.Count(sums, []byte("\n")))
	assert.Contains(t, string(sums), "  orilla_1.2.3.cdx.json\n")
	assert.Contains(t, string(sums), "  orilla_1.2.3_amd64.deb\n")
}
