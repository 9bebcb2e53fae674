package source_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/source"
)

// git runs git in a folder, without the settings of whoever runs the test.
func git(t *testing.T, folder string, args ...string) string {
	t.Helper()
	command := exec.Command("git", append([]string{"-c", "protocol.file.allow=always"}, args...)...)
	command.Dir = folder
	command.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1",
		"GIT_AUTHOR_NAME=Ines Marrow", "GIT_AUTHOR_EMAIL=ines@corvane.example",
		"GIT_COMMITTER_NAME=Ines Marrow", "GIT_COMMITTER_EMAIL=ines@corvane.example")
	out, err := command.CombinedOutput()
	require.NoError(t, err, "git %s: %s", strings.Join(args, " "), out)
	return strings.TrimSpace(string(out))
}

func commit(t *testing.T, folder string, files map[string]string, message string) {
	t.Helper()
	for name, text := range files {
		full := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
	git(t, folder, "add", ".")
	git(t, folder, "commit", "-q", "-m", message)
}

func repository(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	git(t, folder, "init", "-q", "-b", "main")
	commit(t, folder, map[string]string{"index.html": "one\r\ntwo\n", "sub/page.html": "x"}, "First sailing")
	return folder
}

func TestACheckoutLeavesNoTrace(t *testing.T) {
	folder, islands := repository(t), repository(t)
	git(t, folder, "submodule", "--quiet", "add", islands, "islands")
	git(t, folder, "commit", "-q", "-m", "Islands")
	commit(t, folder, map[string]string{"index.html": "later"}, "Later")
	// Everything that a checkout could disturb: staged, changed and new files,
	// a stash, and a submodule's origin that is gone.
	require.NoError(t, os.WriteFile(filepath.Join(folder, "stashed.html"), []byte("s"), 0o644))
	git(t, folder, "stash", "-q", "-u")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "staged.html"), []byte("s"), 0o644))
	git(t, folder, "add", "staged.html")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.html"), []byte("not committed"), 0o644))
	require.NoError(t, os.RemoveAll(islands))
	hooked := filepath.Join(t.TempDir(), "hooked")
	templates := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(templates, "hooks"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(templates, "hooks", "post-checkout"),
		[]byte("#!/bin/sh\ntouch "+hooked+"\n"), 0o755))
	t.Setenv("GIT_TEMPLATE_DIR", templates)
	before := snapshot(t, folder)

	r, err := source.FindRepository(t.Context(), filepath.Join(folder, "sub"))
	require.NoError(t, err)
	c, err := r.Commit(t.Context(), "HEAD~1")
	require.NoError(t, err)
	assert.Equal(t, "Islands", c.Subject)
	w := source.Workspace{Folder: filepath.Join(t.TempDir(), "deep")}
	target := w.Tree()
	require.NoError(t, r.Checkout(t.Context(), c.Hash, w, source.View{}))
	data, err := os.ReadFile(filepath.Join(target, "index.html"))
	require.NoError(t, err)
	assert.Equal(t, "one\r\ntwo\n", string(data), "the bytes of the commit")
	assert.FileExists(t, filepath.Join(target, "islands", "index.html"),
		"submodules come from the repository at hand")
	assert.NoFileExists(t, filepath.Join(target, "staged.html"))
	assert.NoFileExists(t, hooked, "no hook runs")
	assert.Equal(t, before, snapshot(t, folder), "nothing of the user's was touched")
	assert.Equal(t, 2, source.Uncommitted(t.Context(), r))
	assert.NoDirExists(t, filepath.Join(target, ".git"), "who did not ask for the history does not see it")
	require.NoError(t, r.Checkout(t.Context(), c.Hash, w, source.View{History: true}))
	assert.Equal(t, c.Hash, git(t, target, "rev-parse", "HEAD"), "who did can ask git")
	assert.Equal(t, "3", git(t, target, "rev-list", "--count", "main"), "of all branches")
	assert.Equal(t, before, snapshot(t, folder))
}

// TestAWorkspaceIsCleanWhateverABuildLeft checks out one commit after the other
// in a workspace that builds have spoiled.
func TestAWorkspaceIsCleanWhateverABuildLeft(t *testing.T) {
	t.Parallel()
	folder := repository(t)
	commit(t, folder, map[string]string{".gitignore": "kept/\nmade/\n", "index.html": "second",
		"other/page.html": "o", "a b/[x].html": "odd"}, "Second")
	r, err := source.FindRepository(t.Context(), folder)
	require.NoError(t, err)
	first, err := r.Commit(t.Context(), "HEAD~1")
	require.NoError(t, err)
	second, err := r.Commit(t.Context(), "HEAD")
	require.NoError(t, err)
	w := source.Workspace{Folder: filepath.Join(t.TempDir(), "w")}
	view := source.View{Keep: []string{"kept"}}
	require.NoError(t, r.Checkout(t.Context(), second.Hash, w, view))
	fresh := snapshot(t, w.Tree())
	assert.Len(t, fresh, 5)
	for name, spoil := range map[string]string{
		"changed files": "echo x > index.html; rm -r sub; touch -d '2001-01-01' index.html",
		"the same size": "printf secone > index.html",
		"new files":     "mkdir made sub/deep; touch made/a sub/deep/b new.html",
		"a repository": "git init -q .; git config user.name x; mkdir repo; " +
			"git init -q repo; touch repo/x",
		"unwritable folders": "mkdir -p made/locked; touch made/locked/x; chmod 500 " +
			"made/locked; chmod 400 index.html",
		"links out of it":     "rm -r sub; ln -s / sub; ln -s /etc made",
		"a folder for a file": "rm index.html; mkdir index.html; touch index.html/x",
		"nothing left":        "rm -rf \"$PWD\"",
		"less than that":      "rm -rf \"$PWD/../git\"",
		"Git's files spoiled": "echo broken > ../git/index; echo broken > ../git/HEAD",
		"a lock":              "touch ../git/index.lock",
	} {
		t.Run(name, func(t *testing.T) {
			script := exec.Command("sh", "-c", spoil)
			script.Dir = w.Tree()
			out, err := script.CombinedOutput()
			require.NoError(t, err, "%s", out)
			require.NoError(t, r.Checkout(t.Context(), first.Hash, w, view))
			assert.NoFileExists(t, filepath.Join(w.Tree(), "other", "page.html"))
			require.NoError(t, r.Checkout(t.Context(), second.Hash, w, view))
			assert.Equal(t, fresh, snapshot(t, w.Tree()))
		})
	}
	require.NoError(t, os.MkdirAll(filepath.Join(w.Tree(), "kept"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.Tree(), "kept", "x"), nil, 0o644))
	before, err := os.Stat(filepath.Join(w.Tree(), "sub", "page.html"))
	require.NoError(t, err)
	require.NoError(t, r.Checkout(t.Context(), first.Hash, w, view))
	assert.FileExists(t, filepath.Join(w.Tree(), "kept", "x"))
	after, err := os.Stat(filepath.Join(w.Tree(), "sub", "page.html"))
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime(), "what did not change is not touched")
	require.NoError(t, r.Checkout(t.Context(), second.Hash, w, source.View{}))
	assert.NoDirExists(t, filepath.Join(w.Tree(), "kept"))

	require.NoError(t, r.Checkout(t.Context(), second.Hash, w,
		source.View{Paths: []string{"a b", "index.html"}}))
	seen := snapshot(t, w.Tree())
	assert.Contains(t, seen, filepath.Join(w.Tree(), "a b", "[x].html"))
	assert.Contains(t, seen, filepath.Join(w.Tree(), "index.html"))
	assert.NotContains(t, seen, filepath.Join(w.Tree(), "other", "page.html"),
		"what the key does not name is not there")
	require.NoError(t, r.Checkout(t.Context(), second.Hash, w, view))
	assert.Equal(t, fresh, snapshot(t, w.Tree()))
}

// snapshot is every file of a folder, .git included, but
// for what reading through git may refresh.
func snapshot(t *testing.T, folder string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		files[path] = string(data)
		return err
	}))
	return files
}

func TestWhatARepositorySays(t *testing.T) {
	t.Parallel()
	folder := repository(t)
	r, err := source.FindRepository(t.Context(), folder)
	require.NoError(t, err)
	assert.Equal(t, "main", r.MainBranch(t.Context()))
	git(t, folder, "checkout", "-q", "-b", "winter/times")
	commit(t, folder, map[string]string{"winter.html": "w"}, "Winter")
	assert.Equal(t, "winter/times", r.Branch(t.Context()))
	commit(t, folder, map[string]string{"winter.html": "w2"}, "Winter \x1b[31mred\x07 times")
	odd, err := r.Commit(t.Context(), "HEAD")
	require.NoError(t, err)
	assert.Equal(t, "Winter [31mred times", odd.Subject, "a subject steers no terminal")
	assert.Equal(t, "main", r.MainBranch(t.Context()))
	contains, err := r.Contains(t.Context(), "winter/times", "main")
	require.NoError(t, err)
	assert.True(t, contains)
	contains, err = r.Contains(t.Context(), "main", "winter/times")
	require.NoError(t, err)
	assert.False(t, contains)
	_, err = r.Contains(t.Context(), "main", strings.Repeat("1", 40))
	require.ErrorIs(t, err, source.ErrNoCommit)
	for _, name := range []string{"nowhere", "--version", "-1", ""} {
		_, err = r.Commit(t.Context(), name)
		require.ErrorIs(t, err, source.ErrNoCommit, name)
	}
	_, err = r.File(t.Context(), "main", "winter.html")
	require.ErrorIs(t, err, source.ErrNoFile)
	git(t, folder, "checkout", "-q", "--detach")
	assert.Empty(t, r.Branch(t.Context()))
	roots, err := r.Roots(t.Context())
	require.NoError(t, err)
	assert.Len(t, roots, 1)

	shallow := filepath.Join(t.TempDir(), "shallow")
	git(t, folder, "clone", "-q", "--depth", "1", "file://"+folder, shallow)
	s, err := source.FindRepository(t.Context(), shallow)
	require.NoError(t, err)
	_, err = s.Roots(t.Context())
	assert.Equal(t, "shallow", fault.Code(err))

	_, err = source.FindRepository(t.Context(), t.TempDir())
	require.ErrorIs(t, err, source.ErrNoRepository)
}

type entry struct {
	name, content, link string
	kind                byte
}

func tarball(t testing.TB, entries []entry) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, e := range entries {
		kind := e.kind
		if kind == 0 {
			kind = tar.TypeReg
		}
		header := &tar.Header{Name: e.name, Typeflag: kind, Linkname: e.link, Mode: 0o644}
		if kind == tar.TypeReg {
			header.Size = int64(len(e.content))
		}
		require.NoError(t, w.WriteHeader(header))
		if kind == tar.TypeReg {
			_, err := w.Write([]byte(e.content))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func zipped(t testing.TB, entries []entry) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, e := range entries {
		f, err := w.Create(e.name)
		require.NoError(t, err)
		_, err = f.Write([]byte(e.content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func gzipped(t testing.TB, data []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

var limits = source.Limits{Files: 100, Bytes: 1 << 20}

func TestUnpack(t *testing.T) {
	t.Parallel()
	site := []entry{{name: "index.html", content: "hello"}, {name: "boats/dunlin.html", content: "x"}}
	wrapped := []entry{{name: "site-1.0/index.html", content: "hello"}, {name: "site-1.0/boats/dunlin.html",
		content: "x"}, {name: "__MACOSX/._index.html", content: ""}}
	for name, data := range map[string][]byte{
		"tar": tarball(t, site), "tar.gz": gzipped(t, tarball(t, site)), "zip": zipped(t,
			site), "wrapped zip": zipped(t, wrapped), "wrapped tar": tarball(t, wrapped),
		"link inside": tarball(t,
			append(site, entry{name: "alias.html", link: "index.html", kind: tar.TypeSymlink},
				entry{name: "hard.html", link: "index.html", kind: tar.TypeLink})),
	} {
		t.Run(name, func(t *testing.T) {
			root, err := source.Unpack(t.Context(), bytes.NewReader(data), name, t.TempDir(), limits)
			require.NoError(t, err, name)
			got, err := os.ReadFile(filepath.Join(root, "index.html"))
			require.NoError(t, err, name)
			assert.Equal(t, "hello", string(got), name)
			assert.FileExists(t, filepath.Join(root, "boats", "dunlin.html"), name)
		})
	}
}

func TestHostileArchives(t *testing.T) {
	t.Parallel()
	bomb := gzipped(t, tarball(t, []entry{{name: "index.html", content: strings.Repeat("0", 2<<20)}}))
	require.Less(t, len(bomb), 10_000)
	var crowd []entry
	for i := range 101 {
		crowd = append(crowd, entry{name: fmt.Sprintf("%d.html", i)})
	}
	for name, test := range map[string]struct {
		data []byte
		code string
	}{
		"climbs out":          {tarball(t, []entry{{name: "../../evil.html"}}), "archive-entry"},
		"climbs out of a zip": {zipped(t, []entry{{name: "../evil.html"}}), "archive-entry"},
		"climbs from within":  {tarball(t, []entry{{name: "a/../../evil.html"}}), "archive-entry"},
		"absolute":            {tarball(t, []entry{{name: "/tmp/evil.html"}}), "archive-entry"},
		"backslashes":         {zipped(t, []entry{{name: `..\evil.html`}}), "archive-entry"},
		"link out": {tarball(t, []entry{{name: "a", link: "../..", kind: tar.TypeSymlink}}),
			"archive-entry"},
		"absolute link": {tarball(t,
			[]entry{{name: "a", link: "/etc/passwd", kind: tar.TypeSymlink}}), "archive-entry"},
		"hard link out": {tarball(t,
			[]entry{{name: "a", link: "/etc/passwd", kind: tar.TypeLink}}), "archive-entry"},
		"a device": {tarball(t, []entry{{name: "a", kind: tar.TypeChar}}), "archive-entry"},
		"bomb":     {bomb, "archive-too-large"},
		"zip bomb": {zipped(t,
			[]entry{{name: "index.html", content: strings.Repeat("0", 2<<20)}}), "archive-too-large"},
		"crowd": {tarball(t, crowd), "archive-too-large"},
		"long name": {tarball(t, []entry{{name: strings.Repeat("a/", 3000) + "x"}}),
			"archive-entry"},
		"no archive": {[]byte(strings.Repeat("not an archive ", 100)), "archive-broken"},
		"cut short": {gzipped(t,
			tarball(t, []entry{{name: "index.html", content: "hello"}}))[:40], "archive-broken"},
		"nothing": {nil, "empty-archive"},
		"through a link made first": {tarball(t, []entry{{name: "d", link: "e", kind: tar.TypeSymlink},
			{name: "e", link: "..", kind: tar.TypeSymlink}, {name: "d/evil.html"}}), "archive-entry"},
	} {
		t.Run(name, func(t *testing.T) {
			folder := filepath.Join(t.TempDir(), "x", "y")
			_, err := source.Unpack(t.Context(), bytes.NewReader(test.data), name, folder, limits)
			require.Error(t, err, name)
			assert.Equal(t, test.code, fault.Code(err), "%s: %v", name, err)
			assert.NoFileExists(t, filepath.Join(folder, "..", "evil.html"), name)
			assert.NoFileExists(t, filepath.Join(folder, "..", "..", "evil.html"), name)
		})
	}
}

// FuzzUnpack makes sure that no archive writes outside its folder.
func FuzzUnpack(f *testing.F) {
	f.Add(tarball(f, []entry{{name: "index.html", content: "x"},
		{name: "l", link: "index.html", kind: tar.TypeSymlink}}))
	f.Add(zipped(f, []entry{{name: "../x", content: "x"}}))
	f.Add(gzipped(f, tarball(f, []entry{{name: "a", link: "..", kind: tar.TypeSymlink}, {name: "a/b"}})))
	f.Fuzz(func(t *testing.T, data []byte) {
		parent := t.TempDir()
		_, err := source.Unpack(context.Background(), bytes.NewReader(data), "fuzz",
			filepath.Join(parent, "in"), source.Limits{Files: 20, Bytes: 1 << 16})
		entries, readErr := os.ReadDir(parent)
		if readErr != nil || len(entries) > 1 {
			t.Fatalf("%v wrote outside: %v", err, entries)
		}
		if err != nil && !errors.As(err, new(*fault.Error)) {
			t.Fatalf("an error without a message for people: %v", err)
		}
	})
}

// TestATreeWithoutSomeFiles looks at the id that a build's key has: it changes
// with every file but those that are left out.
func TestATreeWithoutSomeFiles(t *testing.T) {
	t.Parallel()
	folder := repository(t)
	commit(t, folder, map[string]string{"site.rules": "gone /a\n", "orilla.yaml": "site: a\n",
		"deep/er/more.rules": "", "deep/other.txt": "1"}, "Rules")
	r, err := source.FindRepository(t.Context(), folder)
	require.NoError(t, err)
	tree := func(without ...string) string {
		t.Helper()
		id, err := r.Tree(t.Context(), "HEAD", ".", without...)
		require.NoError(t, err)
		assert.NotEmpty(t, id)
		return id
	}
	left := []string{"site.rules", "orilla.yaml", "deep/er/more.rules"}
	whole, without := tree(), tree(left...)
	assert.Equal(t, git(t, folder, "rev-parse", "HEAD^{tree}"), whole)
	assert.Equal(t, whole, tree("nowhere.rules", "deep/no.rules", "index.html/x"),
		"where there is none of them, it is Git's own id")
	assert.NotEqual(t, whole, without)
	commit(t, folder, map[string]string{"site.rules": "gone /b\n", "orilla.yaml": "site: b\n",
		"deep/er/more.rules": "gone /c\n"}, "Only rules")
	assert.Equal(t, without, tree(left...), "they do not count")
	assert.NotEqual(t, whole, tree())
	for name, text := range map[string]string{"deep/other.txt": "2", "index.html": "2", "sub/page.html": "2",
		"deep/er/other.rules": "2", "deep/site.rules": "2"} {
		t.Run(name, func(t *testing.T) {
			before := tree(left...)
			commit(t, folder, map[string]string{name: text}, name)
			assert.NotEqual(t, before, tree(left...), name)
		})
	}
	before := tree(left...)
	git(t, folder, "rm", "-q", "site.rules")
	git(t, folder, "commit", "-q", "-m", "No rules")
	assert.Equal(t, before, tree(left...))
	below, err := r.Tree(t.Context(), "HEAD", "deep", "er/more.rules")
	require.NoError(t, err)
	assert.NotEqual(t, before, below)
	_, err = r.Tree(t.Context(), "HEAD", "nowhere", "x")
	assert.Error(t, err)
}

func TestWhatGitIgnores(t *testing.T) {
	t.Parallel()
	folder := repository(t)
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".gitignore"), []byte("dist\n*.log\n!kept.log\n"),
		0o644))
	r, err := source.FindRepository(t.Context(), folder)
	require.NoError(t, err)
	at := func(name string) string { return filepath.Join(r.Top, name) }
	got := source.Ignored(t.Context(), r, []string{at("dist/a.html"), at("a.log"), at("kept.log"), at("index.html"),
		at("with space.log"), at("sub/é.log")})
	for name, want := range map[string]bool{"dist/a.html": true, "a.log": true, "kept.log": false,
		"index.html": false, "with space.log": true, "sub/é.log": true} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, want, got[at(name)], name)
		})
	}
	assert.Empty(t, source.Ignored(t.Context(), r, []string{at("index.html")})[at("index.html")])
}
