//go:build chromium

package test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestABrowserShowsTheLock opens issued certificates, of a name and of a wildcard, in Chromium
// that trusts the authority, and in one that does not. Needs chromium, and certutil of NSS.
func TestABrowserShowsTheLock(t *testing.T) {
	p := ports(t, 2)
	i := newIssuing(t, p[0], p[1])
	i.node("node", p[0], p[1], p[0])
	i.secured(p[1], "www.corvane.example")
	i.secured(p[1], "winter.preview.corvane.example")
	open := func(trusts bool, address string) string {
		home := t.TempDir()
		database := "sql:" + filepath.Join(home, ".pki", "nssdb")
		require.NoError(t, os.MkdirAll(filepath.Join(home, ".pki", "nssdb"), 0o700))
		require.NoError(t, exec.Command("certutil", "-d", database, "-N", "--empty-password").Run())
		if trusts {
			require.NoError(t, exec.Command("certutil", "-d", database, "-A", "-t", "C,,", "-n", "ca", "-i", i.root).Run())
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		browser := exec.CommandContext(ctx, "chromium", "--headless=new", "--no-sandbox", "--disable-gpu",
			"--user-data-dir="+filepath.Join(home, "profile"), "--host-resolver-rules=MAP * 127.0.0.1", "--dump-dom", address)
		browser.Env = append(os.Environ(), "HOME="+home)
		out, err := browser.Output()
		require.NoError(t, err)
		return string(out)
	}
	for _, address := range []string{"https://www.corvane.example:" + p[1] + "/", "https://winter.preview.corvane.example:" + p[1] + "/",
		"http://www.corvane.example:" + p[0] + "/"} { // led to https
		assert.Contains(t, open(true, address), "ferries", address)
		assert.NotContains(t, open(false, address), "ferries", address)
	}
}
