package cli

import (
	"context"
	"errors"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/pipeline"
	"orilla.example/orilla/internal/source"
)

// entryReport is one entry of history with --json.
type entryReport struct {
	Entry       string     `json:"entry"`
	Kind        string     `json:"kind"`
	Live        bool       `json:"live"`
	Release     string     `json:"release,omitempty"`
	Source      string     `json:"source,omitempty"`
	Commit      string     `json:"commit,omitempty"`
	Branch      string     `json:"branch,omitempty"`
	Subject     string     `json:"subject,omitempty"`
	Reactivates int64      `json:"reactivates,omitempty"`
	Frozen      bool       `json:"frozen"`
	Who         string     `json:"who"`
	When        time.Time  `json:"when"`
	Why         string     `json:"why,omitempty"`
	Until       *time.Time `json:"frozen_until,omitempty"`
	Damage      string     `json:"damage,omitempty"`
}

func (a *app) historyCommand() *cobra.Command {
	var site string
	var limit int
	cmd := &cobra.Command{
		Use: "history [ENVIRONMENT]", Short: "What was live when, who put it there, and why", Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.history(cmd.Context(), site, argument(args, 0), limit)
		},
	}
	cmd.Flags().StringVar(&site, "site", "", "the site's name (default: as orilla.yaml says)")
	cmd.Flags().IntVarP(&limit, "limit", "n", 20, "show the last `N` entries; 0 for all")
	return a.jsonFlag(cmd)
}

func argument(args []string, i int) string {
	if i < len(args) {
		return args[i]
	}
	return ""
}

func (a *app) history(ctx context.Context, site, typed string, limit int) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	environment, err := s.named(ctx, typed)
	if err != nil {
		return err
	}
	j := s.journal(environment)
	number, err := j.HeadNumber(ctx, 0)
	if err != nil {
		return pipeline.StoreTrouble(s.store, err)
	}
	rows := [][]string{{"ENTRY", "", "RELEASE", "COMMIT", "", "WHO", "WHEN"}}
	reports := []entryReport{}
	for entry, err := range j.Back(ctx, number) {
		if limit > 0 && len(reports) == limit {
			break
		}
		if err != nil && ctx.Err() != nil {
			return ctx.Err()
		}
		entry.Environment = environment
		report := describeEntry(entry, err, number)
		reports = append(reports, report)
		rows = append(rows, a.historyRow(entry, report))
	}
	if a.JSON {
		return a.Document(reports)
	}
	if number == 0 {
		a.Note("nothing was ever deployed to %s of %s; orilla deploy does", journal.DisplayName(environment), s.site)
		return nil
	}
	a.Table(rows)
	if more := number - int64(len(reports)); more > 0 {
		a.Note("%s", console.Faint(console.Count(more, "older entry", "older entries")+"; --limit 0 shows all"))
	}
	return nil
}

func describeEntry(entry journal.Entry, err error, head int64) entryReport {
	report := entryReport{
		Entry: entry.Label(), Kind: string(entry.Kind), Live: entry.Number == head && !entry.Release.IsZero(), Source: string(entry.Source),
		Commit: entry.Commit, Branch: entry.Branch, Subject: entry.Subject, Reactivates: entry.Reactivates, Frozen: entry.Frozen != nil,
		Who: entry.Who, When: entry.When, Why: entry.Why,
	}
	if !entry.Release.IsZero() {
		report.Release = "r-" + entry.Release.String()
	}
	if entry.Frozen != nil {
		report.Until = entry.Frozen.Until
	}
	if err != nil {
		report.Damage = err.Error()
	}
	return report
}

func (a *app) historyRow(entry journal.Entry, report entryReport) []string {
	if report.Damage != "" {
		return []string{report.Entry, console.Bad("unreadable"), "", "", report.Damage, "", ""}
	}
	label, kind := report.Entry, report.Kind
	if report.Live {
		label = console.Good(label + " live")
	}
	switch {
	case entry.Kind == journal.Rollback:
		kind = console.Warn("rollback to :" + itoa(entry.Reactivates))
	case entry.Frozen != nil:
		kind += console.Warn(" (frozen)")
	}
	about := entry.Subject
	if entry.Why != "" {
		about = entry.Why
	}
	commit := console.Accent(source.Short(entry.Commit))
	switch entry.Source {
	case journal.FromWorkingTree:
		commit += "+ working tree"
	case journal.FromOutput:
		if entry.Commit == "" {
			commit = console.Faint("output")
		}
	}
	return []string{label, kind, entry.Release.Short(), commit, shorten(about, 42), shorten(source.PersonName(entry.Who), 20), a.Age(entry.When)}
}

func (a *app) rollbackCommand() *cobra.Command {
	var o rollbackOptions
	cmd := &cobra.Command{
		Use:   "rollback [ENVIRONMENT] [WHAT]",
		Short: "Go back: to the release before, or to an entry, release, commit or tag",
		Long: "Rollback points an environment at a release that was live there before. Nothing is built or uploaded. The environment is\n" +
			"then frozen, so that the next automatic deploy does not bring the trouble back; orilla thaw ends that.",
		Example: "  orilla rollback                      production, to the release before\n" +
			"  orilla rollback production:12        to what entry 12 put live\n" +
			"  orilla rollback staging 4be21c7      to what was built from that commit",
		Args: cobra.MaximumNArgs(2), ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error { return a.rollback(cmd.Context(), o, args) },
	}
	flags := cmd.Flags()
	flags.StringVar(&o.site, "site", "", "the site's name (default: as orilla.yaml says)")
	flags.StringVarP(&o.why, "message", "m", "", "say why")
	flags.BoolVar(&o.keepFollowing, "keep-following", false, "do not freeze: let the next automatic deploy replace it")
	flags.BoolVar(&o.dryRun, "dry-run", false, "say what would be live, and stop")
	return a.jsonFlag(cmd)
}

type rollbackOptions struct {
	site, why             string
	keepFollowing, dryRun bool
}

type rollbackReport struct {
	Entry       string   `json:"entry,omitempty"`
	Environment string   `json:"environment"`
	Release     string   `json:"release"`
	Commit      string   `json:"commit,omitempty"`
	Reactivates int64    `json:"reactivates"`
	Left        string   `json:"left"`
	LeftAddress string   `json:"left_address"`
	Addresses   []string `json:"addresses"`
	Frozen      bool     `json:"frozen"`
	DryRun      bool     `json:"dry_run,omitempty"`
}

// errDryRun ends a decision before anything is written.
var errDryRun = errors.New("dry run")

func (a *app) rollback(ctx context.Context, o rollbackOptions, args []string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	environment, wanted, err := s.rollbackTarget(ctx, args)
	if err != nil {
		return err
	}
	started := time.Now()
	left, entry, err := s.moveBack(ctx, environment, wanted, o)
	if err != nil {
		return s.rollbackRefused(environment, err)
	}
	return a.reportRollback(ctx, s, o, environment, left, entry, started)
}

// moveBack writes the entry of a rollback, or with a dry run only decides it, and returns the head that was left besides. What it
// asks of the store does not depend on the size of the site, and no object is read.
func (s *session) moveBack(ctx context.Context, environment string, wanted func(journal.Entry) bool, o rollbackOptions) (left, entry journal.Entry, err error) {
	var hold *pins.Hold
	if !o.dryRun {
		if hold, err = s.project.Pin(ctx, s.store, s.site, "rollback"); err != nil {
			return left, entry, err
		}
		defer hold.Drop(ctx)
	}
	j := s.journal(environment)
	decide := j.Return(ctx, journal.Back{To: wanted, KeepFollowing: o.keepFollowing, Cause: "command", Who: s.project.Person(ctx), Why: o.why})
	var planned journal.Entry
	entry, err = j.Append(ctx, journal.Entry{Number: s.hints(ctx)[environment]}, func(head *journal.Entry) (journal.Entry, error) {
		next, err := decide(head)
		if err != nil {
			return next, err
		}
		left, planned = *head, next
		if hold != nil && hold.Doomed(storage.ReleaseKey(s.site, next.Release.String())) {
			return next, fault.New(fault.Refused, "release-pruned", "the release %s is being pruned right now", next.Release.Short()).
				Then("name a later one: orilla history lists them")
		}
		if err := s.whole(ctx, next); err != nil {
			return next, err
		}
		if o.dryRun {
			return next, errDryRun
		}
		return next, nil
	})
	if errors.Is(err, errDryRun) {
		return left, planned, nil
	}
	if err == nil {
		s.hints(ctx).Pulse(ctx, s.store, entry)
	}
	return left, entry, err
}

func (a *app) reportRollback(ctx context.Context, s *session, o rollbackOptions, environment string, left, entry journal.Entry, started time.Time) error {
	serving, nodes := 0, nodesOf(ctx, s)
	if !o.dryRun {
		serving, nodes = flipped(ctx, s, entry)
	}
	took := time.Since(started)
	leftAddress := releaseAddress(s.site, left.Release.String(), nearbyPort(nodes))
	addresses := a.addresses(ctx, s, environment, entry.Document, nodes)
	if a.JSON {
		report := rollbackReport{Environment: journal.DisplayName(environment), Release: "r-" + entry.Release.String(), Commit: entry.Commit,
			Reactivates: entry.Reactivates, Left: "r-" + left.Release.String(), LeftAddress: leftAddress, Addresses: addresses,
			Frozen: entry.Frozen != nil, DryRun: o.dryRun}
		if !o.dryRun {
			report.Entry = entry.Label()
		}
		return a.Document(report)
	}
	name := journal.DisplayName(environment)
	a.Note("%s %s %s", console.Strong(s.site), console.Faint("->"), console.Strong(name))
	a.Row(a.Err, "from", left.Release.Short()+"  "+console.Accent(source.Short(left.Commit))+"  "+left.Subject)
	a.Row(a.Err, "to", entry.Release.Short()+"  "+console.Accent(source.Short(entry.Commit))+"  "+entry.Subject+
		console.Faint("  (what "+name+":"+itoa(entry.Reactivates)+" put live)"))
	if o.dryRun {
		a.Note("%s", console.Faint("nothing was done: --dry-run"))
		return nil
	}
	a.Row(a.Err, "live", console.Good(entry.Label())+a.where(serving, nodes, took))
	for _, address := range addresses {
		a.Print("%s", console.Accent(address))
	}
	a.Note("%s %s", console.Faint("the release that was left:"), leftAddress)
	if entry.Frozen != nil {
		a.Note("%s automatic deploys are refused until %s", console.Warn("frozen:"), console.Accent("orilla thaw"+environmentArgument(environment)))
	}
	a.Note("%s orilla rollback %s:%d", console.Faint("undo:"), name, entry.Number-1)
	a.hintEdge(nodes)
	return nil
}
