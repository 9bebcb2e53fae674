package cli

import (
	"context"
	"errors"
	"iter"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/lost"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/view"
)

// trafficOptions are the flags of traffic.
type trafficOptions struct {
	site, since string
	limit       int
	rules       bool
}

// trafficCmd shows what visitors asked for.
type trafficCmd struct{ *app }

func newTrafficCommand(a *app) *cobra.Command {
	c := &trafficCmd{app: a}
	var o trafficOptions
	cmd := &cobra.Command{
		Use:   "traffic [ENVIRONMENT]",
		Short: "Show what visitors asked for, and what they did not find",
		Long: "Traffic adds up what the edge nodes counted: requests, visitors, what was asked for most, " +
			"and the addresses that visitors asked for and did not get, with the redirect that would lead " +
			"them on. Nobody's address is kept. Days and hours are in UTC.",
		Example: "orilla traffic\n" +
			"orilla traffic staging --since 24h\n" +
			"orilla traffic --rules >> site.rules",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completion{a}.environments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if a.JSON && !cmd.Flags().Changed("limit") {
				o.limit = 0
			}
			return c.traffic(cmd.Context(), o, argument(args, 0))
		},
	}
	siteFlag(cmd.Flags(), &o.site)
	cmd.Flags().StringVar(&o.since, "since", "7d", "count this `TIME` until now, such as 24h or 30d")
	cmd.Flags().IntVarP(&o.limit, "limit", "n", 10,
		"list this `NUMBER` of addresses; 0 for all (default with --json: all)")
	cmd.Flags().BoolVar(&o.rules, "rules", false,
		"print only redirects for addresses that are missing, to append to a rules file")
	return a.jsonFlag(cmd)
}

// longestTraffic is how far back one can look at once.
const longestTraffic = 400 * 24 * time.Hour

// The time is told by the clock of whoever asks, and the slots are those of UTC, in which nodes count.
// So the last slot is mostly not over, and the first one is whole:
//
//	--since 3h   at 14:20    12:00, 13:00, 14:00
//	--since 7d   on a Sunday Monday to Sunday

// span returns from when to when is counted: whole hours of the last days, else whole days.
func (o trafficOptions) span(now time.Time) (from, to time.Time, err error) {
	since, err := project.ParseDuration(o.since)
	if err != nil {
		return from, to, fault.New(fault.Usage, "usage", "--since: %s", err).
			Then("write a time such as 24h or 7d")
	}
	if since <= 0 || time.Duration(since) > longestTraffic {
		return from, to, fault.New(fault.Usage, "usage", "--since takes more than nothing, and 400d at most")
	}
	const day = 24 * time.Hour
	to = now.UTC().Truncate(time.Hour).Add(time.Hour)
	if from = to.Add(-time.Duration(since)).Truncate(time.Hour); time.Duration(since) > view.ByHours {
		// Today is one of the days.
		from = now.UTC().Truncate(day).Add(day - time.Duration(since)).Truncate(day)
	}
	return from, to, nil
}

// traffic is orilla traffic. It reads three things, each of which may be all there is:
//
//	traffic/SITE/DAY/…   what nodes counted, added up
//	releases             where lost addresses should lead: what is live, and what was before it
//	the journal          what became live meanwhile, to be seen beside what came of it
func (a *trafficCmd) traffic(ctx context.Context, o trafficOptions, typed string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	environment, err := s.named(ctx, typed)
	if err != nil {
		return err
	}
	from, to, err := o.span(a.Now())
	if err != nil {
		return err
	}
	report, err := a.gather(ctx, s, environment, from, to)
	if err != nil {
		return err
	}
	if o.rules {
		return a.trafficRules(report)
	}
	return a.Result(report.Limited(o.limit), func() { view.PrintTraffic(a.Console, report, o.limit) })
}

// gather adds up what was counted, finds where lost visitors should be led, and what became live.
func (a *trafficCmd) gather(ctx context.Context, s *session, environment string, from, to time.Time,
) (view.TrafficReport, error) {
	busy := a.Bytes("traffic", int64(to.Sub(from)/(24*time.Hour))+1)
	found, err := traffic.Read(ctx, s.store, s.site, from, to,
		func(done, _ int64) { busy.At(done) })
	busy.End()
	if err != nil {
		return view.TrafficReport{}, err
	}
	sum := &traffic.Sum{From: from, To: to}
	for _, r := range found.Records {
		sum.Add(r, journal.DisplayName(environment))
	}
	report := view.NewTraffic(s.site, journal.DisplayName(environment), sum)
	report.Unreadable = len(found.Unreadable)
	if report.Lost, err = a.lost(ctx, s, environment, sum.Missing().List); err != nil {
		return report, err
	}
	report.Deploys, err = deploysBetween(ctx, s, environment, from)
	return report, err
}

// trafficRules prints the redirects alone.
func (a *trafficCmd) trafficRules(report view.TrafficReport) error {
	lines := view.LostRules(report.Lost)
	if a.JSON {
		return a.Document(lines)
	}
	for _, line := range lines {
		a.Print("# %s", line.Comment)
		a.Print("%s", line.Rule)
	}
	if len(lines) == 0 {
		a.Note("no address that visitors missed has a page that it should lead to")
		return nil
	}
	// What is proposed comes from what strangers typed, so somebody reads it before it is published.
	a.Note("%s read them before they go into a rules file; try them: %s",
		console.Faint(console.Count(int64(len(lines)), "redirect;", "redirects;")),
		a.Command("orilla explain "+lines[0].Path))
	return nil
}

// earlierReleases is in how many releases that were live a lost address is looked for.
const earlierReleases = 20

// lost finds where visitors should be led who asked for what is not there. What cannot be found
// out is left out: the counts are there all the same.
func (a *trafficCmd) lost(ctx context.Context, s *session, environment string, names []traffic.Name,
) ([]lost.Address, error) {
	if len(names) == 0 {
		return []lost.Address{}, nil
	}
	busy := a.Busy("lost", "addresses")
	defer busy.End()
	subject, head, err := inspect.Live(ctx, s.project, s.store, s.journal(environment))
	if err != nil || subject == nil {
		return []lost.Address{}, err
	}
	subject.Base, subject.Now = inspect.BaseOf(s.project.ProductionConfig, environment), a.Now()
	list, err := lost.Find(ctx, subject.Side(), earlierThan(ctx, s, *head, subject), names)
	if list == nil {
		list = []lost.Address{}
	}
	return list, err
}

// A page that moved was mostly there a release or two ago. Twenty releases are read only if
// something is left to be found: each is its index, and the pages that went, once.

// earlierThan yields the releases that were live before an entry, each once. One that was pruned
// is passed over.
func earlierThan(ctx context.Context, s *session, head journal.Entry, live *inspect.Subject,
) iter.Seq2[lost.Earlier, error] {
	return func(yield func(lost.Earlier, error) bool) {
		seen := map[release.ID]bool{head.Release: true}
		for entry, err := range s.journal(head.Environment).Back(ctx, head.Number-1) {
			if err != nil && ctx.Err() != nil {
				yield(lost.Earlier{}, ctx.Err())
				return
			}
			if err != nil || len(seen) > earlierReleases {
				return
			}
			if entry.Release.IsZero() || seen[entry.Release] {
				continue
			}
			seen[entry.Release] = true
			subject, err := inspect.Release(ctx, s.project, s.store, s.site, entry.Release, entry.Build)
			if err != nil {
				if ctx.Err() != nil {
					yield(lost.Earlier{}, ctx.Err())
					return
				}
				continue
			}
			subject.Base, subject.Now = live.Base, live.Now
			if !yield(lost.Earlier{Label: entry.Label(), Side: subject.Side()}, nil) {
				return
			}
		}
	}
}

// deploysBetween returns what became live since a time, the newest first.
func deploysBetween(ctx context.Context, s *session, environment string, from time.Time,
) ([]view.TrafficMark, error) {
	marks := []view.TrafficMark{}
	number, err := s.journal(environment).HeadNumber(ctx, s.hints(ctx)[environment])
	if errors.Is(err, journal.ErrEmpty) || err == nil && number == 0 {
		return marks, nil
	}
	if err != nil {
		return nil, err
	}
	const most = 500
	for entry, err := range s.journal(environment).Back(ctx, number) {
		if err != nil && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		// What cannot be read is told by orilla history.
		if err != nil || entry.When.Before(from) || len(marks) == most {
			break
		}
		switch entry.Kind {
		case journal.Deploy, journal.Promotion, journal.Rollback:
			marks = append(marks, view.TrafficMark{Entry: entry.Label(), When: entry.When,
				Kind: string(entry.Kind), Commit: entry.Commit, Subject: strings.TrimSpace(entry.Subject)})
		}
	}
	return marks, nil
}
