package edge

import (
	"html/template"
	"net/http"
	"strings"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/httpanswer"
)

// waitingPage is what a visitor sees where nothing was
// deployed yet. It asks again by itself.
var waitingPage = template.Must(template.New("waiting").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="refresh" content="3">
<title>{{.Site}} waits for its first deploy</title>
<style>` + httpanswer.PageStyle + `</style>
<main>
  ` + httpanswer.Waves + `
  <h1>{{if .Known}}{{.Environment}} of {{.Site}} waits for its first deploy{{else}}There is no site {{.Site}} here yet{{end}}</h1>
  <p>{{if .Listed}}Deploy it, and this page becomes the site:{{else}}If {{.Environment}} is in orilla.yaml, under environments, deploy to it:{{end}}</p>
  <p><code>{{.Command}}</code></p>
</main>
</html>
`))

// waiting answers for an environment without a release, with the command that
// makes it one.
func waiting(w http.ResponseWriter, r *http.Request, status int, site, environment, command string) string {
	if status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "3")
	}
	return httpanswer.Page(w, r, status, waitingPage, "waiting", map[string]any{
		"Site": site, "Environment": environment, "Command": command,
		"Known": status == http.StatusServiceUnavailable,
		// Only orilla.yaml says which others there are, and no node reads that.
		"Listed": environment == project.Production || strings.HasPrefix(environment, "preview/") ||
			status == http.StatusNotFound,
	})
}
