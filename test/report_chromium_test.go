//go:build chromium

package test

import (
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// forEverybody runs axe-core over a page, in light and in dark: AXE names its file.
func forEverybody(t *testing.T, page string) {
	t.Helper()
	axe, err := os.ReadFile(os.Getenv("AXE"))
	require.NoError(t, err, "AXE names axe.min.js")
	page = regexp.MustCompile(`<meta http-equiv[^>]*>`).ReplaceAllString(page, "")
	script := "<script>" + strings.ReplaceAll(string(axe), "</script>", `<\/script>`) +
		"</script><script>axe.run().then(r => { document.title = 'violations ' + JSON.stringify(r.violations.map(v => " +
		"[v.id, v.nodes.map(n => n.target.join(' '))])) + ' passes ' + r.passes.length })</script>"
	if strings.Contains(page, "</body>") {
		page = strings.Replace(page, "</body>", script+"</body>", 1)
	} else {
		page = strings.Replace(page, "</html>", script+"</html>", 1)
	}
	file := filepath.Join(t.TempDir(), "page.html")
	require.NoError(t, os.WriteFile(file, []byte(page), 0o600))
	for _, dark := range []string{"1", "0"} { // blink's numbers: 0 is dark
		out, err := exec.Command("chromium", "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=20000",
			"--blink-settings=preferredColorScheme="+dark, "--user-data-dir="+t.TempDir(), "--dump-dom", "file://"+file).Output()
		require.NoError(t, err)
		title := regexp.MustCompile(`<title>([^<]*)</title>`).FindStringSubmatch(string(out))
		require.NotNil(t, title)
		assert.Regexp(t, `^violations \[\] passes [2-9]\d$`, title[1])
	}
}

func TestTheReportIsForEverybody(t *testing.T) {
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['mkdir -p o && cp index.html o/'], output: o}\n" +
		"notices: {a: {command: exit 1}}\n", "index.html": "one"})
	p.ok("deploy")
	p.commit("Second", map[string]string{"index.html": "two"})
	p.ok("deploy", "--pictures")
	p.counted("production", "/Fares", 12)
	p.ok("rollback", "-m", "a mistake")
	p.ok("thaw", "--yes")
	p.ok("report", "--out", "report.html")
	data, err := os.ReadFile(filepath.Join(p.folder, "report.html"))
	require.NoError(t, err)
	forEverybody(t, string(data))
}

func TestTheGalleryIsForEverybody(t *testing.T) {
	p := newPlace(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: o}\n", "o/index.html": "<p>one", "o/gone.html": "<p>gone"})
	p.ok("deploy")
	p.git("rm", "-q", "o/gone.html")
	p.commit("Second", map[string]string{"o/index.html": "<p>two", "o/new.html": "<p>new"})
	p.ok("deploy")
	for _, args := range [][]string{{"diff", "production:1", "production", "--pictures"}, {"pictures"}} {
		command := p.command(t.Context(), append(args, "--open", "--show")...)
		printed := &shared{}
		command.Stdout = printed
		require.NoError(t, command.Start())
		var address string
		require.Eventually(t, func() bool {
			address = regexp.MustCompile(`http://localhost:\d+/`).FindString(printed.String())
			return address != ""
		}, time.Minute, 10*time.Millisecond)
		response, err := http.Get(address)
		require.NoError(t, err)
		data, err := io.ReadAll(response.Body)
		response.Body.Close() //nolint:errcheck // it was read
		require.NoError(t, err)
		page := strings.NewReplacer("`/picture", "`"+address+"picture", "`/difference", "`"+address+"difference").Replace(string(data))
		for _, mode := range []string{"beside", "slide", "difference"} {
			forEverybody(t, strings.Replace(page, `mode = compares ? "beside" : "after"`, `mode = compares ? "`+mode+`" : "after"`, 1))
		}
		command.Process.Kill() //nolint:errcheck // it ends
		command.Wait()         //nolint:errcheck // see above
	}
}
