package edge

import (
	"html/template"
	"net"
	"net/http"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/httpanswer"
)

// gonePage is what a visitor sees where an environment was
// removed, or has expired.
var gonePage = template.Must(template.New("gone").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Environment}} of {{.Site}} has ended</title>
<style>` + httpanswer.PageStyle + `</style>
<main>
  ` + httpanswer.Waves + `
  <h1>{{.Environment}} of {{.Site}} has ended</h1>
  <p>{{.Why}}</p>
  {{if .Address}}<p>What it showed is at <a href="{{.Address}}">{{.Address}}</a></p>{{end}}
  {{if .Next}}<p class="faint">To see it again:</p><p><code>{{.Next}}</code></p>{{end}}
</main>
</html>
`))

// serveGone answers 410 for an environment that serves nothing any more, and
// says where what it showed has gone.
func (n visit) serveGone(w http.ResponseWriter, r *http.Request, e *environment, s *serving) string {
	ended := s.entry.Ended
	if ended == nil {
		ended = &journal.Ended{Reason: journal.OnRequest}
		if !s.entry.Release.IsZero() {
			ended = &journal.Ended{Reason: journal.Expired, Commit: s.entry.Commit, Branch: s.entry.Branch}
		}
	}

	// Whoever follows an old link is told why nothing is there, and how to have
	// it again.
	branch := "Its branch"
	if ended.Branch != "" {
		branch = "The branch " + ended.Branch
	}
	why := map[journal.Reason]string{
		journal.OnRequest: "It was removed.",
		journal.Expired:   "It expired.",
		journal.Merged:    branch + " was merged.",
		journal.Deleted:   branch + " was deleted.",
		journal.Room:      "It made room for newer previews.",
	}[ended.Reason]

	next := ""
	if ended.Branch != "" && (ended.Reason == journal.Expired || ended.Reason == journal.Room ||
		ended.Reason == journal.OnRequest) {
		// With its target: a preview that was made by hand may show a branch that goes
		// elsewhere by itself.
		next = "orilla deploy " + ended.Branch + " --to " + journal.DisplayName(e.journal.Environment)
	}

	w.Header().Set(httpanswer.ReleaseField, "none;entry="+s.entry.Label())
	return httpanswer.Page(w, r, http.StatusGone, gonePage, "gone", map[string]any{
		"Site": e.journal.Site, "Environment": journal.DisplayName(
			e.journal.Environment), "Why": why, "Next": next,
		"Address": addressOf(n.Node, r, e.journal.Site, ended.Into),
	})
}

// addressOf returns where an environment answers: its canonical address, or its
// name on this machine; "" for none.
func addressOf(n *Node, r *http.Request, site, environment string) string {
	e := n.all.known(site, environment)
	if environment == "" || e == nil || e.current.Load() == nil {
		return ""
	}
	if s := e.current.Load(); len(s.addresses) > 0 {
		return s.addresses[0].String()
	}

	if _, ok := parseLocal(httpanswer.HostName(r.Host)); !ok {
		return ""
	}
	host := project.LocalName(site, environment)
	if _, port, err := net.SplitHostPort(r.Host); err == nil {
		host = net.JoinHostPort(host, port)
	}
	return "http://" + host + "/"
}
