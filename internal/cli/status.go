package cli

import (
	"context"
	"errors"
	"net/url"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/pipeline"
	"orilla.example/orilla/internal/source"
)

// environmentReport is one row of status.
type environmentReport struct {
	Environment string     `json:"environment"`
	Entry       string     `json:"entry,omitempty"`
	Kind        string     `json:"kind,omitempty"`
	Release     string     `json:"release,omitempty"`
	Source      string     `json:"source,omitempty"`
	Commit      string     `json:"commit,omitempty"`
	Branch      string     `json:"branch,omitempty"`
	Subject     string     `json:"subject,omitempty"`
	Who         string     `json:"who,omitempty"`
	When        *time.Time `json:"when,omitempty"`
	State       string     `json:"state"` // "live", "frozen", "waiting", "removed"
	Address     string     `json:"address"`
	EdgeServing int        `json:"edge_serving"`
}

type statusReport struct {
	Site         string              `json:"site"`
	Store        string              `json:"store"`
	EdgeNodes    []edge.Presence     `json:"edge_nodes"`
	Environments []environmentReport `json:"environments"`
}

func (a *app) statusCommand() *cobra.Command {
	var site string
	cmd := &cobra.Command{
		Use: "status", Short: "What is live in each environment, since when, and which edge nodes serve it", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.status(cmd.Context(), site) },
	}
	cmd.Flags().StringVar(&site, "site", "", "the site's name (default: as orilla.yaml says)")
	return a.jsonFlag(cmd)
}

func (a *app) status(ctx context.Context, site string) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	nodes, err := edge.Nodes(ctx, s.store)
	if err != nil {
		return pipeline.StoreTrouble(s.store, err)
	}
	report := statusReport{Site: s.site, Store: s.store.Address(), EdgeNodes: nodes}
	names, err := s.environments(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		row, err := a.environmentStatus(ctx, s, name, nodes)
		if err != nil {
			return pipeline.StoreTrouble(s.store, err)
		}
		report.Environments = append(report.Environments, row)
	}
	if a.JSON {
		return a.Document(report)
	}
	a.Print("%s  %s", console.Strong(s.site), console.Faint(nodesText(nodes)))
	rows := [][]string{{"ENVIRONMENT", "RELEASE", "COMMIT", "", "SINCE", "STATE"}}
	for _, row := range report.Environments {
		rows = append(rows, a.statusRow(row, len(nodes)))
	}
	a.Table(rows)
	a.Print("")
	addresses := [][]string{{"ADDRESSES", ""}}
	for _, row := range report.Environments {
		addresses = append(addresses, []string{row.Environment, console.Accent(row.Address)})
	}
	a.Table(addresses)
	for _, row := range report.Environments {
		if row.State == "frozen" {
			a.Note("%s refuses automatic deploys until %s", row.Environment, console.Accent("orilla thaw "+row.Environment))
		}
	}
	if err := a.notePaused(ctx, s); err != nil {
		return err
	}
	a.hintEdge(nodes)
	return nil
}

// notePaused says who paused the automatic builds of a site, if anybody did.
func (a *app) notePaused(ctx context.Context, s *session) error {
	pause, err := pipeline.ReadPause(ctx, s.store, s.site)
	if err == nil && pause != nil {
		why := ""
		if pause.Why != "" {
			why = ": " + pause.Why
		}
		a.Note("%s by %s, %s%s; %s lets them go on", console.Warn("automatic builds are paused"), source.PersonName(pause.Who), a.Age(pause.When), why, console.Accent("orilla follow --resume"))
	}
	return pipeline.StoreTrouble(s.store, err)
}

func nodesText(nodes []edge.Presence) string {
	if len(nodes) == 0 {
		return "no edge node runs"
	}
	text := console.Count(int64(len(nodes)), "edge node", "edge nodes") + ":"
	for _, node := range nodes {
		text += " " + node.Address
	}
	return text
}

func (a *app) statusRow(row environmentReport, nodes int) []string {
	if row.When == nil {
		return []string{row.Environment, "", "", "", "", console.Faint("waits for its first deploy")}
	}
	state := console.Good(row.State)
	switch {
	case row.State == "frozen":
		state = console.Good("live") + ", " + console.Warn("frozen")
	case row.State != "live":
		state = console.Faint(row.State)
	case nodes > row.EdgeServing:
		state = console.Warn("not yet at every edge node")
	}
	release := row.Release
	if release != "" {
		release = release[:12]
	}
	commit := console.Accent(source.Short(row.Commit))
	if row.Source == string(journal.FromWorkingTree) {
		commit += "+"
	}
	return []string{row.Environment, release, commit, shorten(row.Subject, 44), a.Age(*row.When), state}
}

func shorten(text string, width int) string {
	if runes := []rune(text); len(runes) > width {
		return string(runes[:width-1]) + "…"
	}
	return text
}

// environments returns the stored names of those that are configured or have a journal, production first.
func (s *session) environments(ctx context.Context) ([]string, error) {
	names := s.project.EnvironmentNames()
	if s.site != s.project.Site() {
		names = []string{project.Production}
	}
	for item, err := range s.store.List(ctx, storage.EnvironmentsKey(s.site)) {
		if err != nil {
			return nil, pipeline.StoreTrouble(s.store, err)
		}
		if !slices.Contains(names, item.Name()) {
			names = append(names, item.Name())
		}
	}
	return names, nil
}

func (a *app) environmentStatus(ctx context.Context, s *session, name string, nodes []edge.Presence) (environmentReport, error) {
	head, err := s.head(ctx, name)
	row := environmentReport{Environment: journal.DisplayName(name), State: "waiting", Address: a.addresses(ctx, s, name, head.Document, nodes)[0]}
	if errors.Is(err, journal.ErrEmpty) {
		return row, nil
	}
	if err != nil {
		return row, err
	}
	row.Entry, row.Kind, row.Who, row.When = head.Label(), string(head.Kind), head.Who, &head.When
	row.Source, row.Commit, row.Branch, row.Subject = string(head.Source), head.Commit, head.Branch, head.Subject
	switch {
	case head.Release.IsZero():
		row.State = "removed"
		return row, nil
	case head.Frozen.At(a.Now()):
		row.State = "frozen"
	default:
		row.State = "live"
	}
	row.Release = "r-" + head.Release.String()
	for _, node := range nodes {
		if _, label, err := node.Serves(ctx, host(s.site, name)); err == nil && label == head.Label() {
			row.EdgeServing++
		}
	}
	return row, nil
}

// basePath returns the path of an address, with its final slash.
func basePath(address string) string {
	parsed, err := url.Parse(address)
	if err != nil {
		return "/"
	}
	return parsed.EscapedPath()
}

func (a *app) sitesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "sites", Short: "All sites of the store", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.sites(cmd.Context()) },
	}
	return a.jsonFlag(cmd)
}

type siteReport struct {
	Site    string     `json:"site"`
	Owner   []string   `json:"owner"` // the first commits of the repository, or one folder
	Who     string     `json:"claimed_by"`
	When    time.Time  `json:"claimed"`
	Entry   string     `json:"production,omitempty"`
	Release string     `json:"release,omitempty"`
	Commit  string     `json:"commit,omitempty"`
	Subject string     `json:"subject,omitempty"`
	Since   *time.Time `json:"since,omitempty"`
	Damage  string     `json:"damage,omitempty"`
}

func (a *app) sites(ctx context.Context) error {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return err
	}
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	report := []siteReport{}
	for item, err := range store.List(ctx, storage.SitesKey) {
		if err != nil {
			return pipeline.StoreTrouble(store, err)
		}
		report = append(report, describeSite(ctx, store, item.Name()))
	}
	if a.JSON {
		return a.Document(report)
	}
	if len(report) == 0 {
		a.Note("the store %s has no sites yet; orilla deploy makes the first", store.Address())
		return nil
	}
	rows := [][]string{{"SITE", "PRODUCTION", "COMMIT", "", "SINCE"}}
	for _, site := range report {
		row := []string{console.Strong(site.Site), console.Faint("waits for its first deploy"), "", "", ""}
		switch {
		case site.Damage != "":
			row[1] = console.Bad("unreadable") + " " + site.Damage
		case site.Since != nil:
			row = []string{console.Strong(site.Site), site.Release[:12], console.Accent(source.Short(site.Commit)), shorten(site.Subject, 50), a.Age(*site.Since)}
		}
		rows = append(rows, row)
	}
	a.Table(rows)
	return nil
}

func describeSite(ctx context.Context, store storage.Store, name string) siteReport {
	report := siteReport{Site: name}
	claim, err := pipeline.ReadClaim(ctx, store, name)
	if err != nil {
		report.Damage = err.Error()
		return report
	}
	report.Owner, report.Who, report.When = claim.Roots, claim.Who, claim.When
	if claim.Folder != "" {
		report.Owner = []string{claim.Folder}
	}
	production := journal.Journal{Store: store, Site: name, Environment: project.Production}
	head, err := production.Head(ctx, 0)
	switch {
	case errors.Is(err, journal.ErrEmpty):
	case err != nil:
		report.Damage = err.Error()
	case !head.Release.IsZero():
		report.Entry, report.Release, report.Commit, report.Subject, report.Since = head.Label(), "r-"+head.Release.String(), head.Commit, head.Subject, &head.When
	}
	return report
}

// named returns the stored name of an environment that a user typed, checking that the site has it.
func (s *session) named(ctx context.Context, typed string) (string, error) {
	if typed == "" {
		return project.Production, nil
	}
	names, err := s.environments(ctx)
	if err != nil {
		return "", err
	}
	if stored := journal.StoredName(typed); slices.Contains(names, stored) {
		return stored, nil
	}
	var shown []string
	for _, name := range names {
		shown = append(shown, journal.DisplayName(name))
	}
	problem := fault.New(fault.Usage, "unknown-environment", "%s has no environment %q", s.site, typed)
	if nearest := spelling.Nearest(typed, shown); nearest != "" {
		problem = problem.Then("did you mean %s?", nearest)
	}
	return "", problem.Then("orilla status lists them")
}
