// Package sitetest makes small projects for tests: folders with a Git repository
// and an orilla.yaml, whose commits have fixed authors and dates.
package sitetest

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/site"
)

// Git runs Git in a folder, as Ines Marrow and without anybody's configuration,
// and returns what it prints.
func Git(t *testing.T, folder string, args ...string) string {
	t.Helper()
	command := exec.Command("git", args...)
	command.Dir = folder
	command.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1",
		"GIT_AUTHOR_NAME=Ines Marrow", "GIT_AUTHOR_EMAIL=ines@corvane.example",
		"GIT_COMMITTER_NAME=Ines Marrow", "GIT_COMMITTER_EMAIL=ines@corvane.example")

	out, err := command.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

// Pages makes a repository whose site, corvane, is its files: production
// follows main, which has no commit yet.
func Pages(t *testing.T) (folder string) {
	t.Helper()
	folder = t.TempDir()
	config := []byte("site: corvane\nenvironments: {production: {follows: main}}\n")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "orilla.yaml"), config, 0o644))
	Git(t, folder, "init", "-q", "-b", "main")
	return folder
}

// CommitPage commits a home page with a text, and returns the commit.
func CommitPage(t *testing.T, folder, text string) string {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.html"), []byte(text), 0o644))
	Git(t, folder, "add", ".")
	Git(t, folder, "commit", "-q", "-m", text)
	return Git(t, folder, "rev-parse", "HEAD")
}

// Load loads a project that keeps what it remembers for this test only.
func Load(t *testing.T, folder string) *site.Project {
	t.Helper()
	home := t.TempDir()
	p, err := site.Load(t.Context(), folder, site.Places{Data: home, Cache: filepath.Join(home, "cache")})
	require.NoError(t, err)
	return p
}
