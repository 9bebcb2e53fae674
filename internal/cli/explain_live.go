package cli

import (
	"context"
	"net/http"
	"time"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// askLive asks an edge node the same.
func (a *explainCmd) askLive(ctx context.Context, s *session, req answer.Request, report view.ExplainReport,
) (*view.LiveReport, error) {
	nodes := nodesOf(ctx, s)
	if len(nodes) == 0 {
		return nil, fault.New(fault.Failed, "no-edge", "no edge node is running on this store").
			At("%s", s.store.Address()).Then("orilla edge")
	}

	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	request, err := a.liveRequest(ctx, s, req, nodes[0].Address)
	if err != nil {
		return nil, err
	}

	// The library would decompress by itself, and say nothing of it.
	client := &http.Client{
		Transport: &http.Transport{DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse // what is asked for is the redirect itself
		},
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, fault.New(fault.Failed, "no-edge", "the edge node does not answer").
			At("%s", nodes[0].Address).Because(err)
	}
	response.Body.Close() //nolint:errcheck // only the header counts
	return view.CompareLive(report, nodes[0].Address, response), nil
}

// liveRequest is the request that asks an edge node what was asked of the
// rules. It brings what lets it in where a password is asked for.
func (a *explainCmd) liveRequest(ctx context.Context, s *session, req answer.Request, node string,
) (*http.Request, error) {
	base := inspect.BaseOf(s.project.ProductionConfig, req.Environment)
	path := req.Path
	if req.Base == "" {
		path = base + path
	}

	address := "http://" + node + path
	if req.Query != "" {
		address += "?" + req.Query
	}
	request, err := http.NewRequestWithContext(ctx, req.Method, address, nil)
	if err != nil {
		return nil, fault.New(fault.Usage, "usage", "cannot request %s", path).Because(err)
	}

	if request.Host = req.Host; request.Host == "" {
		request.Host = project.LocalName(s.site, journal.StoredName(req.Environment))
	}
	for name, value := range map[string]string{"Accept-Language": req.AcceptLanguage,
		"Accept-Encoding": req.AcceptEncoding, "Cookie": req.Cookie} {
		if value != "" {
			request.Header.Set(name, value)
		}
	}

	if claim, err := site.ReadClaim(ctx, s.store, s.site); err == nil {
		request.AddCookie(&http.Cookie{Name: access.Cookie, Value: access.Pass(claim.Incarnation,
			journal.StoredName(req.Environment), time.Now())})
	}
	return request, nil
}
