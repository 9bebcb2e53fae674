package cli

import (
	"bytes"
	"context"
	"image/png"
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
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/wake"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// statusOptions are the flags of status and preview.
type statusOptions struct {
	site   string
	states []string
	limit  int
}

// flags adds what status and preview have in common; what is what 0 shows all
// of.
func (o *statusOptions) flags(cmd *cobra.Command, what string) {
	siteFlag(cmd.Flags(), &o.site)
	cmd.Flags().StringSliceVar(&o.states, "state", nil,
		"only with this `STATE`: live, frozen, waiting, expired or removed")
	cmd.Flags().IntVarP(&o.limit, "limit", "n", shownPreviews,
		"show at most this `NUMBER` of previews; 0 for "+what+" (default with --json: all)")
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

// statusCmd shows what is live where.
type statusCmd struct{ *app }

// survey finds out how the environments of a site are.
type survey struct{ *app }

func newStatusCommand(a *app) *cobra.Command {
	c := &statusCmd{app: a}
	var o statusOptions
	var shown bool
	cmd := &cobra.Command{
		Example: "orilla status\norilla status \"preview/winter-*\"",
		Use:     "status [ENVIRONMENT...]",
		Short:   "Show what is live where, what waits, what expires",
		Long: "Status shows each environment of the site, or the named ones; patterns work too: " +
			"\"preview/winter-*\". It lists only the newest previews; orilla preview has filters.",
		ValidArgsFunction: completion{a}.environments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.status(cmd.Context(), o.of(cmd, a.JSON), args, shown)
		},
	}
	o.flags(cmd, "all")
	cmd.Flags().BoolVar(&shown, "pictures", false, "show the home pages, in a terminal that can")
	return a.jsonFlag(cmd)
}

// status is orilla status: what is live in each environment, since when, from
// which commit, and what waits. patterns choose environments by name or glob;
// none is all.
func (a *statusCmd) status(ctx context.Context, o statusOptions, patterns []string, shown bool,
) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	report, err := survey{a.app}.surveyed(ctx, s, o, s.fixed(),
		func(name string) bool { return matchesAny(patterns, journal.DisplayName(name)) })
	if err != nil {
		return err
	}

	// A name that fits nothing is mistyped; the error says which one was meant.
	if len(report.Environments) == 0 && len(patterns) > 0 && len(o.states) == 0 {
		_, err := s.named(ctx, patterns[0])
		return err
	}
	if a.JSON {
		return a.Document(report)
	}

	a.Print("%s  %s", console.Strong(s.site), console.Faint(view.NodesText(report.EdgeNodes)))
	for _, alarm := range view.Alarms(report.EdgeNodes) {
		a.Print("%s  %s", console.Bad("alarm"), alarm)
	}
	view.ShowEnvironments(a.Console, report)
	if err := a.notePaused(ctx, s); err != nil {
		return err
	}
	view.HintEdge(a.Console, report.EdgeNodes)
	if shown {
		return a.pictures(ctx, s, report)
	}
	return nil
}

// How many pages are shown in a terminal, and how large.
const (
	shownPages                  = 6
	shownPageWidth, shownHeight = 420, 260 // pixels
)

// Pictures come after the table, and are those that were taken: nothing is drawn for a status. A
// terminal is asked what it knows, since TERM says nothing of pictures; a terminal that says nothing
// for 400 ms shows none.

// pictures shows the home pages of what is live, as they were pictured last.
func (a *statusCmd) pictures(ctx context.Context, s *session, report view.StatusReport) error {
	how := console.GraphicsOf(ctx, a.Console)
	if how == console.NoGraphics {
		a.Note(
			"%s %s",
			console.Warn("note:"),
			"this terminal shows no pictures (it knows neither sixel nor kitty graphics)",
		)
		a.Hint("next:", "orilla open --picture")
		return nil
	}
	shown := 0
	for _, e := range report.Environments {
		data, err := pictureOf(ctx, s, e)
		if err != nil {
			return err
		}
		img, err := png.Decode(bytes.NewReader(data))
		if data == nil || err != nil || shown == shownPages {
			continue
		}
		shown++
		a.Print("\n%s  %s  %s", console.Strong(e.Environment), console.Faint(e.Entry), e.Subject)
		console.Show(a.Console, how, pictures.Thumbnail(img, shownPageWidth, shownHeight))
	}
	if shown == 0 {
		a.Note("%s %s", console.Warn("note:"), "no pictures were taken of what is live")
		a.Hint("next:", "orilla pictures production")
	}
	return nil
}

// pictureOf returns the last picture of the home page of an environment; nil if it serves nothing, or none
// was taken.
func pictureOf(ctx context.Context, s *session, e view.EnvironmentReport) ([]byte, error) {
	id, err := release.ParseID(e.Release)
	if err != nil || e.State == view.StateRemoved || e.State == view.StateExpired {
		return nil, nil //nolint:nilerr // nothing is live
	}
	return homePicture(ctx, s, id)
}

// fixed returns the environments that a site has by its configuration.
func (s *session) fixed() []string {
	if s.site != s.project.Site() {
		return []string{project.Production}
	}
	return s.project.EnvironmentNames()
}

// matchesAny reports whether a name is one of the patterns, in which * stands
// for anything but a slash; no patterns match everything.
func matchesAny(patterns []string, name string) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(pattern string) bool {
		matched, err := path.Match(pattern, name)
		return err == nil && matched || pattern == name
	})
}

// facts are what is asked of a store once, for all environments.
type facts struct {
	nodes      []edge.Presence
	states     []environments.State
	unfinished map[string]environments.Checking // by the label of the entry
	protected  bool                             // all previews are
}

// facts asks what is asked once. A store far away answers several questions in the
// time of one.
func (a survey) facts(ctx context.Context, s *session, named []string, only func(string) bool,
) (known facts, err error) {
	reading, asking := errgroup.WithContext(ctx)
	reading.Go(func() (err error) {
		known.nodes, err = edge.Asked(asking, s.store, storage.KnownAhead(s.store))
		return err
	})
	reading.Go(func() (err error) {
		known.states, err = environments.States(asking, s.store, s.site, named, only)
		return err
	})
	reading.Go(func() (err error) {
		known.unfinished, err = s.unfinished(asking, a.Now())
		return err
	})
	reading.Go(func() error {
		known.protected = s.previewsProtected(asking)
		return nil
	})
	err = reading.Wait()
	return known, err
}

// surveyed looks at environments: at each journal once, and at what else is to
// be said of those that are shown.
func (a survey) surveyed(ctx context.Context, s *session, o statusOptions, named []string,
	only func(string) bool,
) (view.StatusReport, error) {
	report := view.StatusReport{Site: s.site, Store: s.store.Address(),
		Environments: []view.EnvironmentReport{}, Newer: []view.NewerReport{}}
	known, err := a.facts(ctx, s, named, only)
	if err != nil {
		return report, err
	}
	states := known.states
	report.EdgeNodes = known.nodes
	for _, state := range o.states {
		if takes := []string{view.StateLive, view.StateFrozen, view.StateUnused, view.StateExpired,
			view.StateRemoved}; !slices.Contains(takes, state) {
			return report, fault.New(fault.Usage, "usage", "--state takes %s%s", strings.Join(takes, ", "),
				spelling.DidYouMean(state, takes))
		}
	}

	now := a.Now()
	for _, state := range states {
		if journal.IsPreview(state.Name) && state.Head != nil && !state.Head.Gone(now) {
			report.Previews++
		}
	}

	// Asked once for all rows.
	tags := tagsOf(ctx, s)
	shown := chosen(states, o, now)
	report.Environments = make([]view.EnvironmentReport, len(shown))
	// What else is to be said comes with them: one question does not wait for another.
	// Each row asks the store and the nodes a few things, so they are made side
	// by side: fifty previews take as long as five.
	said := askShown(ctx, s, shown)
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(s.store))
	if len(o.states) == 0 {
		group.Go(func() (err error) {
			report.Newer, err = a.newer(inner, s, states, only)
			return err
		})
	}

	for i, state := range shown {
		group.Go(func() (err error) {
			report.Environments[i], err = a.environmentStatus(inner, s, state, report.EdgeNodes, said)
			if check, ok := known.unfinished[report.Environments[i].Entry]; ok {
				report.Environments[i].Unchecked = check.Notice().What
			}
			report.Environments[i].Tags = tags[report.Environments[i].Commit]
			if known.protected && journal.IsPreview(state.Name) {
				report.Environments[i].Protected = true
			}
			return err
		})
	}

	return report, group.Wait()
}

// askShown asks each node once what it serves of the environments that are shown.
func askShown(ctx context.Context, s *session, shown []environments.State) []edge.Confirmed {
	look := map[string]int64{}
	for _, state := range shown[:min(len(shown), wake.MaxLook)] {
		look[state.Name] = 0
	}
	return s.calls(ctx).Wake(ctx, look)
}

// newer describes the commits that are not live in environments, and why.
func (a survey) newer(ctx context.Context, s *session, states []environments.State, only func(string) bool,
) ([]view.NewerReport, error) {
	now := a.Now().Add(storage.KnownAhead(s.store))
	found, err := follow.NewerThan(ctx, s.project, s.store, s.site, states, only, now)
	list := []view.NewerReport{}
	for _, one := range found {
		one.ReadSubject(ctx, s.project.Repository)
		list = append(list, view.DescribeNewer(one, now))
	}
	return list, err
}

// chosen leaves out what the options do: of previews, those that are gone
// unless asked for, and all but the last that moved.
func chosen(states []environments.State, o statusOptions, now time.Time) []environments.State {
	var fixed, previews []environments.State
	for _, state := range states {
		is := view.StateOf(state.Head, now)
		switch {
		case len(o.states) > 0 && !slices.Contains(o.states, is):
		case !journal.IsPreview(state.Name):
			fixed = append(fixed, state)
		case is != view.StateRemoved || len(o.states) > 0:
			previews = append(previews, state)
		}
	}

	// What moved last is what somebody is working on.
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

// tagsOf returns the names of tags by commit.
func tagsOf(ctx context.Context, s *session) map[string][]string {
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
		a.Note("%s by %s, %s%s; %s resumes them", console.Warn("automatic builds are paused"),
			source.PersonName(pause.Who), a.Age(pause.When), why, a.Command("orilla follow --resume"))
	}
	return err
}

// environments returns the stored names of those that are
// configured or have a journal, production first.
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

// environmentStatus makes the row of one environment. nodes are those that
// answer now; whether they serve its last entry is asked of their presence, not
// of them.
func (a survey) environmentStatus(ctx context.Context, s *session, state environments.State,
	nodes []edge.Presence, said []edge.Confirmed,
) (view.EnvironmentReport, error) {
	head := state.Head
	row := view.EnvironmentReport{Environment: journal.DisplayName(state.Name),
		State: view.StateOf(head, a.Now())}
	if head == nil {
		row.Address, row.Later = s.addresses(ctx, state.Name, digest.Digest{}, nodes)[0], s.later(state.Name,
			nil)
		return row, nil
	}

	row.Address = s.addresses(ctx, state.Name, head.Document, nodes)[0]
	if row.State == view.StateLive || row.State == view.StateFrozen {
		row.Later = s.later(state.Name, s.live(ctx, head.Document))
	}

	// since when, and by whom: a freeze or a password changes neither
	chosen := s.journal(state.Name).Current(ctx, *head)
	if head.Release.IsZero() {
		chosen = *head
	}

	row.Entry, row.Kind, row.Who, row.When = head.Label(), string(head.Kind), chosen.Who, &chosen.When
	row.Source, row.Commit, row.Branch, row.Subject = string(
		head.Source), head.Commit, head.Branch, head.Subject
	row.CommitAddress, row.Expires, row.Protected = s.project.ProductionConfig.CommitLink(
		head.Commit), head.Expires, head.Access.Protects()

	if head.Release.IsZero() {
		return row, nil
	}
	row.Release = "r-" + head.Release.String()
	if f := head.Frozen; f != nil && row.State == view.StateFrozen {
		row.Frozen = &view.FrozenReport{Who: f.Who, When: f.When, Why: f.Why, Until: f.Until}
	}

	waiting, err := environments.WaitingFor(ctx, s.store, s.site, *head)
	if err != nil {
		return row, err
	}
	for _, waits := range waiting {
		row.Waiting = append(row.Waiting, view.WaitingReport{Release: "r-" + waits.Release.String(),
			Commit: waits.Commit, Subject: waits.Subject, Who: waits.Who, When: waits.When})
	}

	if row.State == view.StateExpired {
		return row, nil
	}
	if outcome, err := environments.ReadOutcome(ctx, s.store, *head); err != nil {
		return row, err
	} else if last := len(outcome.GetProbes()) - 1; last >= 0 && outcome.Probes[last].Unchecked {
		row.Unchecked = row.Entry + " went live and was not checked: " + outcome.Probes[last].Text
	}
	for _, c := range said {
		// Nodes of early versions, and environments beyond the first hundred, are asked as
		// visitors ask.
		_, told := c.Said.Serves[state.Name]
		if (c.Err != nil || c.Known && !told) && c.Node.FromHere() && !c.Silent() {
			_, label, err := c.Node.Serves(ctx, project.LocalName(s.site, state.Name))
			told = err == nil && label == head.Label()
		} else {
			told = c.Serves(*head)
		}
		if told {
			row.EdgeServing++
		}
	}
	return row, nil
}
