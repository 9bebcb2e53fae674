package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
)

// liveReport is what an edge node answered.
type liveReport struct {
	Node     string        `json:"node"`
	Release  string        `json:"release,omitempty"`
	Status   int           `json:"status"`
	Location string        `json:"location,omitempty"`
	Header   []fieldReport `json:"header"`
	Differs  []string      `json:"differs,omitempty"`
}

// askLive asks an edge node the same.
func (a *app) askLive(ctx context.Context, s *session, req answer.Request, report explainReport) (*liveReport, error) {
	nodes := nodesOf(ctx, s)
	if len(nodes) == 0 {
		return nil, fault.New(fault.Failed, "no-edge", "no edge node runs on this store").At("%s", s.store.Address()).Then("orilla edge starts one")
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	base := inspect.BaseOf(s.project.ProductionConfig, req.Environment)
	path := req.Path
	if req.Base == "" {
		path = base + path
	}
	address := "http://" + nodes[0].Address + path
	if req.Query != "" {
		address += "?" + req.Query
	}
	request, err := http.NewRequestWithContext(ctx, req.Method, address, nil)
	if err != nil {
		return nil, fault.New(fault.Usage, "usage", "%s cannot be asked for", path).Because(err)
	}
	if request.Host = req.Host; request.Host == "" {
		request.Host = edge.LocalName(s.site, journal.StoredName(req.Environment))
	}
	for name, value := range map[string]string{"Accept-Language": req.AcceptLanguage, "Cookie": req.Cookie} {
		if value != "" {
			request.Header.Set(name, value)
		}
	}
	if claim, err := site.ReadClaim(ctx, s.store, s.site); err == nil {
		request.AddCookie(&http.Cookie{Name: access.Cookie, Value: access.Pass(claim.Incarnation, journal.StoredName(req.Environment), time.Now())})
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Do(request)
	if err != nil {
		return nil, fault.New(fault.Failed, "no-edge", "the edge node does not answer").At("%s", nodes[0].Address).Because(err)
	}
	response.Body.Close() //nolint:errcheck // only the header counts
	live := &liveReport{Node: nodes[0].Address, Release: response.Header.Get(httpanswer.ReleaseField), Status: response.StatusCode, Location: response.Header.Get("Location"), Header: []fieldReport{}}
	for name, values := range response.Header {
		if !slices.Contains([]string{"Date", "Content-Length", "Accept-Ranges", httpanswer.ReleaseField}, name) {
			live.Header = append(live.Header, fieldReport{Name: strings.ToLower(name), Value: strings.Join(values, ", ")})
		}
	}
	slices.SortFunc(live.Header, func(a, b fieldReport) int { return strings.Compare(a.Name, b.Name) })
	if report.Upstream == "" && report.Status != live.Status {
		live.Differs = append(live.Differs, "status")
	}
	for _, field := range slices.Concat(report.Header, live.Header) {
		if !slices.Contains(live.Differs, field.Name) && fieldValue(report.Header, field.Name) != fieldValue(live.Header, field.Name) {
			live.Differs = append(live.Differs, field.Name)
		}
	}
	return live, nil
}

// showLive sets what an edge node answered beside what the subject does.
func (a *app) showLive(r explainReport) {
	live := r.Live
	a.Print("%s %s  %s", console.Faint("live"), statusText(live.Status)+" "+live.Location, console.Faint("edge node "+live.Node+", "+live.Release))
	if len(live.Differs) == 0 {
		a.Print("  %s", console.Good("the same answer and the same header"))
		return
	}
	rows := [][]string{{"", "HERE", "LIVE"}}
	for _, name := range live.Differs {
		rows = append(rows, []string{"  " + name, console.Strong(valueOf(r, name)), console.Warn(liveValue(*live, name))})
	}
	a.Table(rows)
}

func valueOf(r explainReport, name string) string {
	if name == "status" {
		return fmt.Sprint(r.Status)
	}
	return fieldValue(r.Header, name)
}

func liveValue(r liveReport, name string) string {
	if name == "status" {
		return fmt.Sprint(r.Status)
	}
	return fieldValue(r.Header, name)
}

func fieldValue(header []fieldReport, name string) string {
	for _, field := range header {
		if field.Name == name {
			return field.Value
		}
	}
	return "none"
}
