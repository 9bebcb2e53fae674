//go:build chromium

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheReportIsForEverybody runs axe-core over the report, in light and in dark: AXE names its file.
func TestTheReportIsForEverybody(t *testing.T) {
	axe, err := os.ReadFile(os.Getenv("AXE"))
	require.NoError(t, err, "AXE names axe.min.js")
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['mkdir -p o && cp index.html o/'], output: o}\n" +
		"notices: {a: {command: exit 1}}\n", "index.html": "one"})
	p.ok("deploy")
	p.commit("Second", map[string]string{"index.html": "two"})
	p.ok("deploy")
	p.counted("production", "/Fares", 12)
	p.ok("rollback", "-m", "a mistake")
	p.ok("report", "--out", "report.html")
	data, err := os.ReadFile(filepath.Join(p.folder, "report.html"))
	require.NoError(t, err)
	page := regexp.MustCompile(`<meta http-equiv[^>]*>`).ReplaceAllString(string(data), "")
	page = strings.Replace(page, "</body>", "<script>"+strings.ReplaceAll(string(axe), "</script>", `<\/script>`)+
		"</script><script>axe.run().then(r => { document.title = 'violations ' + JSON.stringify(r.violations.map(v => "+
		"[v.id, v.nodes.map(n => n.target.join(' '))])) + ' passes ' + r.passes.length })</script></body>", 1)
	file := filepath.Join(t.TempDir(), "page.html")
	require.NoError(t, os.WriteFile(file, []byte(page), 0o600))
	for _, dark := range []string{"1", "0"} { // blink's numbers: 0 is dark
		out, err := exec.Command("chromium", "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=20000",
			"--blink-settings=preferredColorScheme="+dark, "--user-data-dir="+t.TempDir(), "--dump-dom", "file://"+file).Output()
		require.NoError(t, err)
		title := regexp.MustCompile(`<title>([^<]*)</title>`).FindStringSubmatch(string(out))
		require.NotNil(t, title)
		assert.Regexp(t, `^violations \[\] passes [3-9]\d$`, title[1])
	}
}
