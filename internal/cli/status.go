package cli

import (
	"context"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/source"
)

// The states of an environment, as status and preview tell and filter them.
const (
	isLive    = "live"
	isFrozen  = "frozen"
	isUnused  = "waiting" // for its first deploy
	isRemoved = "removed"
	isExpired = "expired"
)

// environmentReport is one row of status.
type environmentReport struct {
	Environment   string          `json:"environment"`
	Entry         string          `json:"entry,omitempty"`
	Kind          string          `json:"kind,omitempty"`
	Release       string          `json:"release,omitempty"`
	Source        string          `json:"source,omitempty"`
	Commit        string          `json:"commit,omitempty"`
	CommitAddress string          `json:"commit_address,omitempty"`
	Tags          []string        `json:"tags,omitempty"`
	Branch        string          `json:"branch,omitempty"`
	Subject       string          `json:"subject,omitempty"`
	Who           string          `json:"who,omitempty"`
	When          *time.Time      `json:"when,omitempty"`
	State         string          `json:"state"` // "live", "frozen", "waiting", "removed", "expired"
	Frozen        *frozenReport   `json:"frozen,omitempty"`
	Waiting       []waitingReport `json:"waiting,omitempty"` // releases that wait for a thaw, the newest first
	Expires       *time.Time      `json:"expires,omitempty"`
	Protected     bool            `json:"protected"` // a password is asked for
	Address       string          `json:"address"`
	Later         []string        `json:"addresses_later,omitempty"` // of orilla.yaml, that the next deploy brings
	EdgeServing   int             `json:"edge_serving"`
}

// frozenReport says who froze an environment.
type frozenReport struct {
	Who   string     `json:"who"`
	When  time.Time  `json:"when"`
	Why   string     `json:"why,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// waitingReport is a release that waits for a thaw.
type waitingReport struct {
	Release string    `json:"release"`
	Commit  string    `json:"commit,omitempty"`
	Subject string    `json:"subject,omitempty"`
	Who     string    `json:"who"`
	When    time.Time `json:"when"`
}

type statusReport struct {
	Site         string              `json:"site"`
	Store        string              `json:"store"`
	EdgeNodes    []edge.Presence     `json:"edge_nodes"`
	Environments []environmentReport `json:"environments"`
	Previews     int                 `json:"previews"` // that serve something, shown or not
}

// statusOptions are the flags of status and preview.
type statusOptions struct {
	site   string
	states []string
	limit  int
}

func (o *statusOptions) flags(cmd *cobra.Command, what string) {
	cmd.Flags().StringVar(&o.site, "site", "", "the site's name (default: as orilla.yaml says)")
	cmd.Flags().StringSliceVar(&o.states, "state", nil, "only those that are live, frozen, waiting, expired or removed")
	cmd.Flags().IntVarP(&o.limit, "limit", "n", shownPreviews, "show at most `N` previews, those that moved last; 0 for "+what+" (default with --json: all)")
}

// of fills in what depends on the other flags.
func (o statusOptions) of(cmd *cobra.Command, json bool) statusOptions {
	if json && !cmd.Flags().Changed("limit") {
		o.limit = 0
	}
	return o
}

// shownPreviews is how many previews fit on a screen with the rest.
const shownPreviews = 12

func (a *app) statusCommand() *cobra.Command {
	var o statusOptions
	cmd := &cobra.Command{
		Use: "status [ENVIRONMENT...]", Short: "What is live where, since when, by whom, what waits and what expires",
		Long: "Status shows each environment of the site, or those that are named, by patterns too: \"preview/winter-*\". Of many previews it shows those that\n" +
			"moved last; orilla preview has its filters too, and lists them alone.",
		ValidArgsFunction: a.completeEnvironments,
		RunE:              func(cmd *cobra.Command, args []string) error { return a.status(cmd.Context(), o.of(cmd, a.JSON), args) },
	}
	o.flags(cmd, "all")
	return a.jsonFlag(cmd)
}

func (a *app) status(ctx context.Context, o statusOptions, patterns []string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	report, err := a.surveyed(ctx, s, o, s.fixed(), func(name string) bool { return matchesAny(patterns, journal.DisplayName(name)) })
	if err != nil {
		return err
	}
	if len(report.Environments) == 0 && len(patterns) > 0 && len(o.states) == 0 {
		_, err := s.named(ctx, patterns[0])
		return err
	}
	if a.JSON {
		return a.Document(report)
	}
	a.Print("%s  %s", console.Strong(s.site), console.Faint(nodesText(report.EdgeNodes)))
	a.showEnvironments(report)
	if err := a.notePaused(ctx, s); err != nil {
		return err
	}
	a.hintEdge(report.EdgeNodes)
	return nil
}

// showEnvironments prints the table of environments, where they answer, and what there is to say of some.
func (a *app) showEnvironments(report statusReport) {
	if len(report.Environments) == 0 {
		a.Note("there are none of these; orilla status shows all")
		return
	}
	rows := [][]string{{"ENVIRONMENT", "RELEASE", "COMMIT", "", "SINCE", "BY", "STATE"}}
	previews := 0
	for _, row := range report.Environments {
		rows = append(rows, a.statusRow(row, len(report.EdgeNodes)))
		if strings.HasPrefix(row.Environment, "preview/") && (row.State == isLive || row.State == isFrozen) {
			previews++
		}
	}
	a.Table(rows)
	if more := report.Previews - previews; more > 0 {
		a.Note("%s", console.Faint(console.Count(int64(more), "preview more", "previews more")+"; orilla preview list \"PATTERN\" narrows them, --limit 0 shows all"))
	}
	a.Print("")
	addresses := [][]string{{"ADDRESSES", ""}}
	for _, row := range report.Environments {
		if row.State != isRemoved && row.State != isExpired {
			addresses = append(addresses, []string{row.Environment, console.Accent(row.Address)})
			for _, later := range row.Later {
				addresses = append(addresses, []string{"", console.Faint(later + "  waits for the next deploy")})
			}
		}
	}
	if len(addresses) > 1 {
		a.Table(addresses)
	}
	for _, row := range report.Environments {
		a.noteFrozen(row)
	}
}

// noteFrozen says who froze an environment, when and why, and what waits for its thaw.
func (a *app) noteFrozen(row environmentReport) {
	if row.Frozen == nil {
		return
	}
	text := console.Warn(row.Environment+" is frozen") + " by " + source.PersonName(row.Frozen.Who) + ", " + a.Age(row.Frozen.When)
	if row.Frozen.Until != nil {
		text += ", until " + moment(*row.Frozen.Until)
	}
	if row.Frozen.Why != "" {
		text += ": " + row.Frozen.Why
	}
	a.Note("%s", text)
	for i, waits := range row.Waiting {
		label := "  waits  "
		if i > 0 {
			label = "         "
		}
		a.Note("%s%s  %s  %s  %s", console.Faint(label), waits.Release[:12], console.Accent(source.Short(waits.Commit)), shorten(waits.Subject, 50), console.Faint("built "+a.Age(waits.When)))
	}
	if len(row.Waiting) > 0 {
		a.Note("  %s shows what would go live, and asks", console.Accent("orilla thaw "+row.Environment))
	} else {
		a.Note("  %s accepts automatic deploys again", console.Accent("orilla thaw "+row.Environment))
	}
}

// moment writes a time that is to come.
func moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") }

// fixed returns the environments that a site has by its configuration.
func (s *session) fixed() []string {
	if s.site != s.project.Site() {
		return []string{project.Production}
	}
	return s.project.EnvironmentNames()
}

// matchesAny reports whether a name is one of the patterns, in which * stands for anything but a slash; no patterns match everything.
func matchesAny(patterns []string, name string) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(pattern string) bool {
		matched, err := path.Match(pattern, name)
		return err == nil && matched || pattern == name
	})
}

// surveyed looks at environments: at each journal once, and at what else is to be said of those that are shown.
func (a *app) surveyed(ctx context.Context, s *session, o statusOptions, named []string, only func(string) bool) (statusReport, error) {
	report := statusReport{Site: s.site, Store: s.store.Address(), Environments: []environmentReport{}}
	var err error
	if report.EdgeNodes, err = edge.Reached(ctx, s.store, storage.KnownAhead(s.store)); err != nil {
		return report, err
	}
	states, err := environments.States(ctx, s.store, s.site, named, only)
	if err != nil {
		return report, err
	}
	for _, state := range o.states {
		if known := []string{isLive, isFrozen, isUnused, isExpired, isRemoved}; !slices.Contains(known, state) {
			return report, fault.New(fault.Usage, "usage", "--state takes %s%s", strings.Join(known, ", "), spelling.DidYouMean(state, known))
		}
	}
	now := a.Now()
	for _, state := range states {
		if journal.IsPreview(state.Name) && state.Head != nil && !state.Head.Gone(now) {
			report.Previews++
		}
	}
	tags, all := s.tags(ctx), s.previewsProtected(ctx)
	shown := chosen(states, o, now)
	report.Environments = make([]environmentReport, len(shown))
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(s.store))
	for i, state := range shown {
		group.Go(func() (err error) {
			report.Environments[i], err = a.environmentStatus(inner, s, state, report.EdgeNodes)
			report.Environments[i].Tags = tags[report.Environments[i].Commit]
			if all && journal.IsPreview(state.Name) {
				report.Environments[i].Protected = true
			}
			return err
		})
	}
	return report, group.Wait()
}

// chosen leaves out what the options do: of previews, those that are gone unless asked for, and all but the last that moved.
func chosen(states []environments.State, o statusOptions, now time.Time) []environments.State {
	var fixed, previews []environments.State
	for _, state := range states {
		is := stateOf(state.Head, now)
		switch {
		case len(o.states) > 0 && !slices.Contains(o.states, is):
		case !journal.IsPreview(state.Name):
			fixed = append(fixed, state)
		case is != isRemoved || len(o.states) > 0:
			previews = append(previews, state)
		}
	}
	slices.SortStableFunc(previews, func(a, b environments.State) int {
		if a.Head == nil || b.Head == nil {
			return strings.Compare(a.Name, b.Name)
		}
		return b.Head.When.Compare(a.Head.When)
	})
	if o.limit > 0 && len(previews) > o.limit {
		previews = previews[:o.limit]
	}
	return append(fixed, previews...)
}

// stateOf says in one word what an environment is.
func stateOf(head *journal.Entry, now time.Time) string {
	switch {
	case head == nil, head.Release.IsZero() && head.Ended == nil && head.Kind == journal.Access:
		return isUnused
	case head.Release.IsZero():
		return isRemoved
	case head.HasExpired(now):
		return isExpired
	case head.Frozen.At(now):
		return isFrozen
	}
	return isLive
}

// tags returns the names of tags by commit.
func (s *session) tags(ctx context.Context) map[string][]string {
	if s.project.Repository == nil {
		return nil
	}
	refs, err := s.project.Repository.Refs(ctx, "refs/tags/")
	if err != nil {
		return nil
	}
	tags := map[string][]string{}
	for _, ref := range refs {
		tags[ref.Commit] = append(tags[ref.Commit], strings.TrimPrefix(ref.Name, "refs/tags/"))
	}
	return tags
}

// previewsProtected reports whether there is a password for all previews.
func (s *session) previewsProtected(ctx context.Context) bool {
	head, err := s.head(ctx, journal.Previews)
	return err == nil && head.Access.Protects()
}

// notePaused says who paused the automatic builds of a site, if anybody did.
func (a *app) notePaused(ctx context.Context, s *session) error {
	pause, err := environments.ReadPause(ctx, s.store, s.site)
	if err == nil && pause != nil {
		why := ""
		if pause.Why != "" {
			why = ": " + pause.Why
		}
		a.Note("%s by %s, %s%s; %s lets them go on", console.Warn("automatic builds are paused"), source.PersonName(pause.Who), a.Age(pause.When), why, console.Accent("orilla follow --resume"))
	}
	return err
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
	if row.State == isUnused {
		return []string{row.Environment, "", "", "", "", "", console.Faint("waits for its first deploy")}
	}
	var about []string
	switch row.State {
	case isLive, isFrozen:
		about = append(about, console.Good("live"))
	default:
		about = append(about, console.Faint(row.State))
	}
	if row.State == isFrozen {
		about = append(about, console.Warn("frozen"))
	}
	if n := len(row.Waiting); n > 0 {
		about = append(about, console.Warn(console.Count(int64(n), "build waits", "builds wait")))
	}
	if row.Protected {
		about = append(about, "password")
	}
	if (row.State == isLive || row.State == isFrozen) && nodes > row.EdgeServing {
		about = append(about, console.Warn("not yet at every edge node"))
	}
	if row.Expires != nil && row.State != isExpired {
		about = append(about, console.Faint("ends "+a.Until(*row.Expires)))
	}
	release := row.Release
	if release != "" {
		release = release[:12]
	}
	return []string{row.Environment, release, a.commitText(row.Commit, row.CommitAddress, row.Source), subjectText(row.Subject, row.Tags, 40), a.Age(*row.When),
		shorten(source.PersonName(row.Who), 18), strings.Join(about, ", ")}
}

// commitText is a commit's short hash, which leads to where a code host shows it.
func (a *app) commitText(commit, address, from string) string {
	text := a.Link(console.Accent(source.Short(commit)), address)
	switch {
	case from == string(journal.FromWorkingTree):
		text += "+"
	case from == string(journal.FromOutput) && commit == "":
		text = console.Faint("output")
	}
	return text
}

// subjectText is what a commit is about, after its tags.
func subjectText(subject string, tags []string, width int) string {
	if len(tags) == 0 {
		return shorten(subject, width)
	}
	text := strings.Join(tags, " ")
	return console.Strong(text) + " " + shorten(subject, max(10, width-len([]rune(text))-1))
}

func shorten(text string, width int) string {
	if runes := []rune(text); len(runes) > width {
		return string(runes[:width-1]) + "…"
	}
	return text
}

// environments returns the stored names of those that are configured or have a journal, production first.
func (s *session) environments(ctx context.Context) ([]string, error) {
	names := s.fixed()
	for item, err := range s.store.List(ctx, storage.EnvironmentsKey(s.site)) {
		if err != nil {
			return nil, err
		}
		if !slices.Contains(names, item.Name()) && item.Name() != journal.Previews {
			names = append(names, item.Name())
		}
	}
	return names, nil
}

func (a *app) environmentStatus(ctx context.Context, s *session, state environments.State, nodes []edge.Presence) (environmentReport, error) {
	head := state.Head
	row := environmentReport{Environment: journal.DisplayName(state.Name), State: stateOf(head, a.Now())}
	if head == nil {
		row.Address, row.Later = a.addresses(ctx, s, state.Name, digest.Digest{}, nodes)[0], s.later(state.Name, nil)
		return row, nil
	}
	row.Address = a.addresses(ctx, s, state.Name, head.Document, nodes)[0]
	if row.State == isLive || row.State == isFrozen {
		row.Later = s.later(state.Name, s.live(ctx, head.Document))
	}
	chosen := s.journal(state.Name).Current(ctx, *head) // since when, and by whom: a freeze or a password changes neither
	if head.Release.IsZero() {
		chosen = *head
	}
	row.Entry, row.Kind, row.Who, row.When = head.Label(), string(head.Kind), chosen.Who, &chosen.When
	row.Source, row.Commit, row.Branch, row.Subject = string(head.Source), head.Commit, head.Branch, head.Subject
	row.CommitAddress, row.Expires, row.Protected = s.project.ProductionConfig.CommitLink(head.Commit), head.Expires, head.Access.Protects()
	if head.Release.IsZero() {
		return row, nil
	}
	row.Release = "r-" + head.Release.String()
	if f := head.Frozen; f != nil && row.State == isFrozen {
		row.Frozen = &frozenReport{f.Who, f.When, f.Why, f.Until}
	}
	waiting, err := environments.WaitingFor(ctx, s.store, s.site, *head)
	if err != nil {
		return row, err
	}
	for _, waits := range waiting {
		row.Waiting = append(row.Waiting, waitingReport{"r-" + waits.Release.String(), waits.Commit, waits.Subject, waits.Who, waits.When})
	}
	if row.State == isExpired {
		return row, nil
	}
	for _, node := range nodes {
		if _, label, err := node.Serves(ctx, edge.LocalName(s.site, state.Name)); err == nil && label == head.Label() {
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
	if preview := journal.PreviewPrefix + project.BranchLabel(typed); slices.Contains(names, preview) {
		return "", problem.Then("did you mean %s?", journal.DisplayName(preview))
	}
	if nearest := spelling.Nearest(typed, shown); nearest != "" {
		problem = problem.Then("did you mean %s?", nearest)
	}
	return "", problem.Then("orilla status lists them")
}
