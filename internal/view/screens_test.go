package view_test

import (
	"errors"
	"net/http"
	"testing"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/golden"
	"orilla.example/orilla/internal/view"
)

// TestScreens holds what views write of one state each: the result, and then the
// notes. Run it with -update to write the files anew.
func TestScreens(t *testing.T) {
	t.Parallel()
	closed := false
	for name, show := range map[string]func(s *screen){
		"doctor-with-trouble": func(s *screen) {
			view.PrintDoctor(s.Console, []view.Finding{
				view.Good("git", "2.39.5"),
				view.Remark("isolation", "bubblewrap is not here", "apt-get install bubblewrap"),
				view.Bad("npm", "not found, and build.prepare needs it", "install Node.js"),
			})
		},
		"doctor-well": func(s *screen) {
			view.PrintDoctor(s.Console, []view.Finding{view.Good("git", "2.39.5")})
		},
		"domains": func(s *screen) {
			view.PrintDomains(s.Console, "corvane", []view.DomainReport{
				{Host: "corvane.example", Owner: "corvane", When: ago(72 * time.Hour), Environments: []string{"production"},
					Grants: []hosts.Grant{{Site: "velley", Path: "/isles/velley/"}}},
				{Host: "fares.corvane.example", Owner: "velley", When: ago(time.Hour)},
				{Host: "new.corvane.example", Environments: []string{"staging"}},
			})
		},
		"domains-seen": func(s *screen) { view.PrintDomains(s.Console, "corvane", seenDomains()) },
		"domains-well": func(s *screen) { view.PrintDomains(s.Console, "corvane", seenDomains()[:1]) },
		"domains-none": func(s *screen) { view.PrintDomains(s.Console, "corvane", nil) },
		"explain-a-redirect": func(s *screen) {
			view.ShowExplained(s.Console, view.ExplainReport{
				Address: "/timetable/winter", Method: http.MethodGet, Environment: "production", On: "production:7",
				Status: http.StatusMovedPermanently, By: "redirect", Location: "/sailings/winter",
				Rule: "site.rules:1  redirect /timetable/{season} -> /sailings/{season}",
				Steps: []view.StepReport{
					{Text: "path begins differently", At: "site.rules:3", Rule: "gone /fares-2019/{rest:all}"},
					{Applied: true, At: "site.rules:1", Rule: "redirect " +
						"/timetable/{season} -> /sailings/{season}"},
				},
				Header: []view.FieldReport{{Name: "location", Value: "/sailings/winter"},
					{Name: "cache-control", Value: "max-age=60", Rule: "site.rules:9"}},
			}, "2026-12-20 09:30")
		},
		"traffic-of-days":  func(s *screen) { view.PrintTraffic(s.Console, seenTraffic(96*time.Hour), 3) },
		"traffic-of-hours": func(s *screen) { view.PrintTraffic(s.Console, seenTraffic(3*time.Hour), 0) },
		"traffic-of-nobody": func(s *screen) {
			view.PrintTraffic(s.Console, view.NewTraffic("corvane", "staging", &traffic.Sum{
				From: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), To: time.Date(2026, 11, 29, 15, 0, 0, 0, time.UTC)}), 10)
		},
		"store-in-a-bucket": func(s *screen) {
			view.PrintStore(s.Console, view.StoreReport{
				Place: "the bucket corvane at s3.corvane.example", Account: "deployer", Answers: 31,
				Rights: []maintenance.Right{{Name: "read", Has: true}, {Name: "list", Has: true},
					{Name: "delete", Why: "access denied"}},
				Roles: []maintenance.Duty{{Role: storage.Deployer, Can: true},
					{Role: storage.Pruner, Lacks: []string{"delete objects/**"}}},
				Strangers: &closed, Advice: []string{"switch on versioning: deletions could be undone"},
				Holdings: maintenance.Holdings{Objects: 1200, Bytes: 73_000_000},
				Sites:    []view.StoreSite{{Site: "corvane", Releases: 12, Environments: 3}},
			})
		},
		"usage": func(s *screen) {
			view.PrintUsage(s.Console, view.UsageReport{Site: "corvane",
				Store: maintenance.Holdings{Objects: 1200, Bytes: 73_000_000},
				Months: []view.UsageRow{
					{Month: "2026-12", Branch: "main", Builds: 9, Failed: 1, BuildTime: 700 * time.Second, Sent: 2_000_000},
					{Month: "2026-12", Branch: "winter", Builds: 2, BuildTime: 840 * time.Millisecond, Sent: 1000},
					{Month: "2026-11", Branch: "main", Builds: 40, BuildTime: 4000 * time.Second, Sent: 9_000_000}}})
		},
		"error-with-everything": func(s *screen) {
			s.Problem(fault.New(fault.Usage, "config", "build.ouput is unknown").At("orilla.yaml:4:3").
				Because(errors.New("did you mean build.output?")).Then("write output: dist"))
		},
		"error-of-two": func(s *screen) {
			s.Problem(errors.Join(errors.New("the first"), fault.New(fault.Failed, "second", "the second")))
		},
		"no-edge-node": func(s *screen) { view.HintEdge(s.Console, []edge.Presence{}) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newScreen()
			show(s)
			golden.Equal(t, name, s.both())
		})
	}
}

// seenDomains are names in every state.
func seenDomains() []view.DomainReport {
	until := time.Date(2026, 10, 1, 12, 4, 12, 0, time.UTC)
	cert := &view.CertificateReport{Until: until.AddDate(0, 2, 0)}
	lags := names.Finding{Code: "servers-differ", State: names.Waiting, Until: ago(-252 * time.Second),
		Text:   "not all name servers of corvane.example have the new record yet",
		Detail: []string{"ns1.corvane.example answers 192.0.2.10", "ns2.corvane.example still answers 203.0.113.9"}}
	lead := []view.LeadReport{{Address: "192.0.2.10", Edge: true}}
	return []view.DomainReport{
		{Host: "www.corvane.example", Owner: "corvane", State: names.Good, Environments: []string{"production"}, Leads: lead,
			HTTP:  &view.LookReport{Status: 301, Location: "https://www.corvane.example/"},
			HTTPS: &view.LookReport{Status: 200, Certificate: cert}},
		{Host: "corvane.example", Owner: "corvane", State: names.Waiting, Environments: []string{"production"},
			Leads:    append([]view.LeadReport{{Address: "203.0.113.9", Why: "something else answers there"}}, lead...),
			HTTP:     &view.LookReport{Status: 301, Location: "https://www.corvane.example/"},
			HTTPS:    &view.LookReport{Status: 301, Location: "https://www.corvane.example/", Certificate: cert},
			Findings: []names.Finding{lags}},
		{Host: "next.corvane.example", Owner: "velley", State: names.Waiting, Environments: []string{"staging"}, Leads: lead,
			HTTPS: &view.LookReport{Why: "connection refused"}, Findings: []names.Finding{lags}},
		{Host: "xn--fhrlinie-0za.example", State: names.Bad, Environments: []string{"production"},
			Grants: []hosts.Grant{{Site: "velley", Path: "/isles/velley/"}},
			Leads:  []view.LeadReport{{Address: "203.0.113.9"}},
			Findings: []names.Finding{{Code: "leads-elsewhere", State: names.Bad,
				Text:    "leads to 203.0.113.9, which is no edge node of this store",
				Detail:  []string{"203.0.113.9: something else answers there (status 404)"},
				Remove:  []names.Record{{Name: "xn--fhrlinie-0za.example", Type: "A", Value: "203.0.113.9"}},
				Records: []names.Need{{Record: names.Record{Name: "xn--fhrlinie-0za.example", Type: "A", TTL: 300, Value: "192.0.2.10"}}}}}},
		{Host: "*.preview.corvane.example", State: names.Warning, Environments: []string{"preview/*"}, Leads: lead,
			HTTPS: &view.LookReport{Status: 421, Certificate: &view.CertificateReport{Until: until, Why: "expired"}},
			Findings: []names.Finding{{Code: "server-silent", State: names.Warning, Text: "not every name server answers",
				Next: "ask whoever runs them"}}},
	}
}
