package cli

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/source"
)

// entryReport is one entry of history with --json.
type entryReport struct {
	Entry         string                `json:"entry"`
	Kind          string                `json:"kind"`
	Live          bool                  `json:"live"`
	Release       string                `json:"release,omitempty"`
	Source        string                `json:"source,omitempty"`
	Commit        string                `json:"commit,omitempty"`
	CommitAddress string                `json:"commit_address,omitempty"`
	Tags          []string              `json:"tags,omitempty"`
	Branch        string                `json:"branch,omitempty"`
	Subject       string                `json:"subject,omitempty"`
	Reactivates   int64                 `json:"reactivates,omitempty"`
	Frozen        bool                  `json:"frozen"`
	Who           string                `json:"who"`
	When          time.Time             `json:"when"`
	Cause         string                `json:"cause,omitempty"` // "command", "follow", "watch"
	Why           string                `json:"why,omitempty"`
	Until         *time.Time            `json:"frozen_until,omitempty"`
	Expires       *time.Time            `json:"expires,omitempty"`
	Ended         string                `json:"ended,omitempty"` // of a removal: "request", "expired", "merged", "deleted", "room"
	Outcome       *environments.Outcome `json:"outcome,omitempty"`
	Damage        string                `json:"damage,omitempty"`
}

// historyOptions are the flags of history.
type historyOptions struct {
	site  string
	limit int
	all   bool
}

func (a *app) historyCommand() *cobra.Command {
	var o historyOptions
	cmd := &cobra.Command{
		Use: "history [ENVIRONMENT]", Short: "What was live when, who put it there, and why", Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE:              func(cmd *cobra.Command, args []string) error { return a.history(cmd.Context(), o, argument(args, 0)) },
	}
	cmd.Flags().StringVar(&o.site, "site", "", "the site's name (default: as orilla.yaml says)")
	cmd.Flags().BoolVar(&o.all, "all", false, "of all environments together, in the order of time")
	cmd.Flags().IntVarP(&o.limit, "limit", "n", 20, "show the last `N` entries; 0 for all")
	return a.jsonFlag(cmd)
}

func argument(args []string, i int) string {
	if i < len(args) {
		return args[i]
	}
	return ""
}

func (a *app) history(ctx context.Context, o historyOptions, typed string) error {
	if o.all && typed != "" {
		return fault.New(fault.Usage, "usage", "--all shows every environment, so %s cannot be named too", typed).Then("orilla history %s", typed)
	}
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	environment, entries := "", s.allEntries(ctx)
	if !o.all {
		if environment, err = s.named(ctx, typed); err != nil {
			return err
		}
		number, err := s.journal(environment).HeadNumber(ctx, 0)
		if err != nil {
			return err
		}
		entries = s.journal(environment).Back(ctx, number)
	}
	rows := [][]string{{"ENTRY", "", "RELEASE", "COMMIT", "", "WHO", "WHEN"}}
	reports, tags, heads, more, last := []entryReport{}, s.tags(ctx), map[string]bool{}, false, int64(0)
	for entry, err := range entries {
		if err != nil && ctx.Err() != nil {
			return ctx.Err()
		}
		if more = o.limit > 0 && len(reports) == o.limit; more {
			break
		}
		if entry.Environment == "" {
			entry.Environment = environment
		}
		if !heads[entry.Environment] { // the last one of its journal comes first
			heads[entry.Environment], last = true, entry.Number
		} else {
			last = 0
		}
		report := describeEntry(entry, err, last)
		report.Live = report.Live && stateOf(&entry, a.Now()) != isExpired
		report.Tags, report.CommitAddress = tags[entry.Commit], s.project.ProductionConfig.CommitLink(entry.Commit)
		if entry.Kind == journal.Deploy || entry.Kind == journal.Promotion {
			if report.Outcome, err = environments.ReadOutcome(ctx, s.store, entry); err != nil {
				return err
			}
		}
		reports = append(reports, report)
		rows = append(rows, a.historyRow(entry, report))
	}
	if a.JSON {
		return a.Document(reports)
	}
	if len(reports) == 0 {
		what := "production"
		if environment != "" {
			what = journal.DisplayName(environment)
		}
		a.Note("nothing was ever deployed to %s of %s; orilla deploy does", what, s.site)
		return nil
	}
	a.Table(rows)
	switch {
	case more && !o.all:
		number, _, _ := strings.Cut(strings.TrimPrefix(reports[len(reports)-1].Entry, journal.DisplayName(environment)+":"), " ")
		if n, err := strconv.ParseInt(number, 10, 64); err == nil {
			a.Note("%s", console.Faint(console.Count(n-1, "older entry", "older entries")+"; --limit 0 shows all"))
		}
	case more:
		a.Note("%s", console.Faint("older entries were left out; --limit 0 shows all"))
	}
	return nil
}

// allEntries yields the entries of all environments of a site, the newest first, each journal from its end to its beginning.
func (s *session) allEntries(ctx context.Context) iter.Seq2[journal.Entry, error] {
	return func(yield func(journal.Entry, error) bool) {
		states, err := environments.States(ctx, s.store, s.site, []string{journal.Previews}, nil)
		if err != nil {
			yield(journal.Entry{}, err)
			return
		}
		var next []journal.Entry
		for _, state := range states {
			if state.Head != nil {
				next = append(next, *state.Head)
			}
		}
		for len(next) > 0 && ctx.Err() == nil {
			newest := 0
			for i := range next {
				if next[i].When.After(next[newest].When) {
					newest = i
				}
			}
			entry := next[newest]
			if !yield(entry, nil) {
				return
			}
			if entry.Number == 1 {
				next = slices.Delete(next, newest, newest+1)
				continue
			}
			before, err := s.journal(entry.Environment).Get(ctx, entry.Number-1)
			if err != nil { // the walk goes on below it
				before = journal.Entry{Environment: entry.Environment, Number: entry.Number - 1, When: entry.When}
				if !yield(before, err) {
					return
				}
			}
			next[newest] = before
		}
	}
}

// describeEntry tells of an entry; head is the number of its journal's last one.
func describeEntry(entry journal.Entry, err error, head int64) entryReport {
	report := entryReport{
		Entry: entry.Label(), Kind: string(entry.Kind), Live: entry.Number == head && !entry.Release.IsZero(), Source: string(entry.Source),
		Commit: entry.Commit, Branch: entry.Branch, Subject: entry.Subject, Reactivates: entry.Reactivates, Frozen: entry.Frozen != nil,
		Who: entry.Who, When: entry.When, Cause: entry.Cause, Why: entry.Why, Expires: entry.Expires,
	}
	if !entry.Release.IsZero() {
		report.Release = "r-" + entry.Release.String()
	}
	if entry.Frozen != nil {
		report.Until = entry.Frozen.Until
	}
	if entry.Ended != nil {
		report.Ended = string(entry.Ended.Reason)
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
	label := report.Entry
	if report.Live {
		label = console.Good(label + " live")
	}
	commit := a.commitText(entry.Commit, report.CommitAddress, string(entry.Source))
	if entry.Source == journal.FromWorkingTree {
		commit += " working tree"
	}
	about := subjectText(entry.Subject, report.Tags, 42)
	if entry.Why != "" {
		about = shorten(entry.Why, 42)
	}
	release := ""
	if !entry.Release.IsZero() {
		release = entry.Release.Short()
	}
	if entry.Ended != nil && entry.Kind == journal.Removal {
		return []string{label, kindText(entry, nil), "", console.Faint(source.Short(entry.Ended.Commit)), shorten(cmp.Or(entry.Why, follow.EndedText(*entry.Ended)), 42),
			shorten(source.PersonName(entry.Who), 20), a.Age(entry.When)}
	}
	return []string{label, kindText(entry, report.Outcome), release, commit, about,
		shorten(source.PersonName(entry.Who), 20), a.Age(entry.When)}
}

// kindText says what an entry did, and what came of it.
func kindText(entry journal.Entry, outcome *environments.Outcome) string {
	kind := string(entry.Kind)
	switch {
	case entry.Kind == journal.Rollback:
		kind = console.Warn("rollback to :" + itoa(entry.Reactivates))
	case entry.Kind == journal.Removal && entry.Ended != nil:
		kind += console.Faint(" (" + string(entry.Ended.Reason) + ")")
	case entry.Kind == journal.Access && !entry.Access.Protects():
		kind += console.Faint(" (open)")
	case entry.Kind == journal.Access && len(entry.Access.Shares) > 0:
		kind += console.Faint(" (password, " + console.Count(int64(len(entry.Access.Shares)), "link", "links") + ")")
	case entry.Kind == journal.Access:
		kind += console.Faint(" (password)")
	case entry.Cause == environments.ThawCause:
		kind = "thaw and deploy"
	case entry.Frozen != nil:
		kind += console.Warn(" (frozen)")
	}
	switch {
	case outcome != nil && outcome.Passed:
		kind += console.Good(fmt.Sprintf(", passed %d", len(outcome.Probes)))
	case outcome != nil && outcome.Probes[len(outcome.Probes)-1].Unchecked:
		kind += console.Warn(", not checked")
	case outcome != nil:
		kind += console.Bad(", failed: " + shorten(outcome.Probes[len(outcome.Probes)-1].What, 20))
	}
	return kind
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
	operator, err := s.operator(ctx, "rollback")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)
	back, err := operator.GoBack(ctx, environment, journal.Back{To: wanted, KeepFollowing: o.keepFollowing, Why: o.why}, o.dryRun)
	if err != nil {
		return s.rollbackRefused(environment, err)
	}
	if back.Sound.Looked < back.Sound.Objects {
		a.Note("%s", console.Faint(fmt.Sprintf("of %d objects that differ, %d were looked at before; orilla store verify looks at all", back.Sound.Objects, back.Sound.Looked)))
	}
	return a.reportRollback(ctx, s, o, environment, back.Left, back.Entry, started)
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
