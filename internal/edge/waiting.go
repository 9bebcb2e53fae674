package edge

import (
	"html/template"
	"net/http"
	"strings"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/journal"
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

// plainPage is what a visitor sees at a configured address where there is nothing yet.
// Strangers see it too, so it names neither site nor environment.
var plainPage = template.Must(template.New("plain").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
{{if .Again}}<meta http-equiv="refresh" content="5">{{end}}
<title>{{.Title}}</title>
<style>` + httpanswer.PageStyle + `</style>
<main>
  ` + httpanswer.Waves + `
  <h1>{{.Title}}</h1>
  <p>{{.Text}}</p>
  {{if .Next}}<p class="faint">Whoever publishes here:</p><p><code>{{.Next}}</code></p>{{end}}
</main>
</html>
`))

// notYet answers at the address of an environment that was reserved, and to which nothing
// was deployed yet. Caches and search engines are to come again.
func notYet(w http.ResponseWriter, r *http.Request, e *environment) string {
	connections.Unwanted(w, r)
	command := "orilla deploy"
	if name := journal.DisplayName(e.journal.Environment); name != project.Production {
		command += " --to " + name
	}
	w.Header().Set("Retry-After", "5")
	return httpanswer.Page(w, r, http.StatusServiceUnavailable, plainPage, "waiting", map[string]any{
		"Title": httpanswer.Printable(httpanswer.HostName(r.Host)) + " waits for its first deploy",
		"Text":  "The name leads here already. This page becomes the site.",
		"Next":  command, "Again": true,
	})
}

// noPreview answers where previews are, and where there is none.
func noPreview(w http.ResponseWriter, r *http.Request) string {
	connections.Unwanted(w, r)
	return httpanswer.Page(w, r, http.StatusNotFound, plainPage, "no preview", map[string]any{
		"Title": "There is no preview here",
		"Text": "Previews are at this kind of address, but none has this one. It may still be " +
			"building, or its branch has another label.",
		"Next": "orilla status", "Again": false,
	})
}
