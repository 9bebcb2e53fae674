package cli

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// historyOptions are the flags of history.
type historyOptions struct {
	site  string
	limit int
	all   bool
	path  string // of one address
	lines int    // of each change of its content
}

// historyCmd lists journals, and goes back in them: rollback lies here too,
// since what one can go back to is what history shows.
type historyCmd struct{ *app }

func newHistoryCommand(a *app) *cobra.Command {
	c := &historyCmd{app: a}
	var o historyOptions
	cmd := &cobra.Command{
		Example: "orilla history\norilla history staging --limit 0\norilla history --path /fares",
		Long: "History lists the entries of an environment's journal. With --path it lists those that " +
			"changed what an address answers, with the lines that changed: each release is asked as " +
			"it was live.",
		Use: "history [ENVIRONMENT]", Short: "Show what was live when, by whom, and why",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completion{a}.environments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.history(cmd.Context(), o,
				argument(args, 0))
		},
	}

	siteFlag(cmd.Flags(), &o.site)
	cmd.Flags().BoolVar(&o.all, "all", false, "all environments together, newest first")
	cmd.Flags().IntVarP(&o.limit, "limit", "n", 20, "show the last `NUMBER` entries; 0 for all")
	cmd.Flags().StringVar(&o.path, "path", "", "show which entries changed what this `PATH` answers")
	cmd.Flags().IntVar(&o.lines, "lines", 6,
		"with --path: show this `NUMBER` of lines of each change; 0 for all")
	return a.jsonFlag(cmd)
}

// argument returns the i-th argument, "" if there are fewer.
func argument(args []string, i int) string {
	if i < len(args) {
		return args[i]
	}
	return ""
}

// history is orilla history: the entries of an environment's journal, newest
// first, with what came of each. With --all it is the entries of all
// environments, in order of time.
func (a *historyCmd) history(ctx context.Context, o historyOptions, typed string) error {
	if o.all && typed != "" {
		return fault.New(fault.Usage, "usage", "--all shows every environment; leave out %s",
			typed).Then("orilla history %s", typed)
	}
	if o.path != "" {
		if o.all {
			return fault.New(fault.Usage, "usage", "--path is of one environment; leave out --all")
		}
		return a.pathHistory(ctx, o, typed)
	}
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}

	// Lazy, newest first: of a journal of thousands as many entries are read as
	// are shown.
	environment, entries := "", allEntries(ctx, s)
	if !o.all {
		if environment, err = s.named(ctx, typed); err != nil {
			return err
		}
		number, err := s.journal(environment).HeadNumber(ctx, s.hints(ctx)[environment])
		if err != nil {
			return err
		}
		entries = s.journal(environment).Back(ctx, number)
	}

	list, err := a.describeEntries(ctx, s, environment, entries, o.limit)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Document(list.Reports)
	}
	view.PrintHistory(a.Console, s.site, environment, list)
	if o.all {
		return nil
	}

	// What was to be the next entry, and is not. Damage was told above.
	state := environments.State{Name: environment}
	if len(list.Entries) > 0 && list.Reports[0].Damage == "" {
		state.Head = &list.Entries[0]
	}
	newer, err := survey{a.app}.newer(ctx, s, []environments.State{state},
		func(name string) bool { return name == environment })
	if ctx.Err() == nil {
		err = nil
	}
	if len(newer) > 0 {
		a.Print("")
	}
	view.ShowNewer(a.Console, newer)
	return err
}

// describeEntries describes entries as they are listed:
// limit of them, 0 for all. environment is that of entries
// that cannot be read; "" if they are of several.
func (a *historyCmd) describeEntries(ctx context.Context, s *session, environment string,
	entries iter.Seq2[journal.Entry, error], limit int,
) (view.History, error) {
	list := view.History{Reports: []view.EntryReport{}}
	tags, heads := tagsOf(ctx, s), map[string]bool{}
	for entry, err := range entries {
		if err != nil && ctx.Err() != nil {
			return list, ctx.Err()
		}
		// One more than is shown was read, so that "there are more" is known
		// and not guessed.
		if list.More = limit > 0 && len(list.Reports) == limit; list.More {
			break
		}

		if entry.Environment == "" {
			entry.Environment = environment
		}

		last := int64(0)
		if !heads[entry.Environment] { // the last one of its journal comes first
			heads[entry.Environment], last = true, entry.Number
		}
		report := view.DescribeEntry(entry, err, last)
		report.Live = report.Live && view.StateOf(&entry, a.Now()) != view.StateExpired
		report.Tags = tags[entry.Commit]
		report.CommitAddress = s.project.ProductionConfig.CommitLink(entry.Commit)

		list.Entries, list.Reports = append(list.Entries, entry), append(list.Reports, report)
	}

	return list, a.readOutcomes(ctx, s, list)
}

// readOutcomes adds what came of verifying to the entries of a list, many at once.
func (a *historyCmd) readOutcomes(ctx context.Context, s *session, list view.History) error {
	group, asking := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(s.store))
	var unfinished map[string]environments.Checking
	group.Go(func() (err error) {
		unfinished, err = s.unfinished(asking, a.Now())
		return err
	})
	for i, entry := range list.Entries {
		if entry.Kind == journal.Deploy || entry.Kind == journal.Promotion {
			group.Go(func() (err error) {
				list.Reports[i].Outcome, err = environments.ReadOutcome(asking, s.store, entry)
				return err
			})
		}
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for i, entry := range list.Entries {
		if check, ok := unfinished[entry.Label()]; ok && list.Reports[i].Outcome == nil {
			outcome := check.Outcome()
			list.Reports[i].Outcome = &outcome
		}
	}
	return nil
}

// unfinished returns the checks that nobody finished, by the label of the entry.
func (s *session) unfinished(ctx context.Context, now time.Time) (map[string]environments.Checking, error) {
	list, err := environments.Unfinished(ctx, s.store, s.site, now.Add(storage.KnownAhead(s.store)))
	found := map[string]environments.Checking{}
	for _, one := range list {
		found[one.Label()] = one
	}
	return found, err
}

// allEntries yields the entries of all environments of a site, the newest
// first, each journal from its end to its beginning.
func allEntries(ctx context.Context, s *session) iter.Seq2[journal.Entry, error] {
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

		// A merge of the journals: next holds the entry of each that comes
		// next.
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
				before = journal.Entry{Environment: entry.Environment, Number: entry.Number - 1,
					When: entry.When}
				if !yield(before, err) {
					return
				}
			}
			next[newest] = before
		}
	}
}

func newRollbackCommand(a *app) *cobra.Command {
	c := &historyCmd{app: a}
	var o rollbackOptions
	cmd := &cobra.Command{
		Use:   "rollback [ENVIRONMENT] [WHAT]",
		Short: "Go back to an earlier release",
		Long: "Rollback moves an environment back to a release that was live there, without a " +
			"build or an upload: to the one before, or to an entry, release, commit or tag. It " +
			"then freezes the environment, so that the next automatic deploy does not bring the " +
			"problem back; orilla thaw ends that.",
		Example: "orilla rollback                    production, to the release before\n" +
			"orilla rollback production:12      to what entry 12 published\n" +
			"orilla rollback staging 4be21c7    to the release of that commit",
		Args: cobra.MaximumNArgs(2), ValidArgsFunction: completion{a}.entries,
		RunE: func(cmd *cobra.Command, args []string) error {
			return o.record(argument(args, 0), c.rollback(cmd.Context(), o, args))
		},
	}

	flags := cmd.Flags()
	siteFlag(flags, &o.site)
	flags.StringVarP(&o.why, "message", "m", "", "the `REASON`, kept in the history")
	flags.BoolVar(&o.keepFollowing, "keep-following", false,
		"do not freeze: the next automatic deploy may replace it")
	flags.BoolVar(&o.dryRun, "dry-run", false, "show what would go live, without doing it")
	flags.StringArrayVar(&o.waitFor, "wait-for", nil,
		"check an `ADDRESS` such as /fares/ at the edge afterwards, or run a command; if one fails, "+
			"the status is 4, and the rollback stays (repeatable)")
	o.writeOptions.flags(cmd)
	return a.jsonFlag(cmd)
}

// rollbackOptions are what orilla rollback takes.
type rollbackOptions struct {
	writeOptions
	waitOptions
	site, why             string
	keepFollowing, dryRun bool
}

// rollback is orilla rollback: it writes an entry with an earlier state. It
// builds and uploads nothing and needs no repository. Unless told to keep
// following, it freezes the environment: the next commit would bring back what
// was just taken away.
func (a *historyCmd) rollback(ctx context.Context, o rollbackOptions, args []string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	if err := o.check(); err != nil {
		return err
	}
	environment, wanted, err := rollbackTarget(ctx, s, args)
	if err != nil {
		return err
	}

	started := time.Now()
	operator, err := s.operator(ctx, "rollback")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)
	tells(ctx, a.app, s.project, s.store, s.site, environment)
	// Only what is asked for is checked: a bad release must be gone now.
	list, err := o.list(a.app)
	if err != nil {
		return err
	}
	checks, end, err := (&activator{a.app}).checks(ctx, s, environment, list)
	if err != nil {
		return err
	}
	defer end()
	// Whether it is whole was looked at before the entry was written; how far
	// is told.
	wanted.KeepFollowing, wanted.Why = o.keepFollowing, o.why
	back, err := operator.GoBack(ctx, environment, wanted, o.dryRun)
	if err != nil {
		return rollbackRefused(s, environment, err)
	}

	if back.Integrity.Looked < back.Integrity.Objects {
		a.Note("%s", console.Faint(fmt.Sprintf(
			"checked %d of %d changed objects before going back; orilla store verify checks all",
			back.Integrity.Looked, back.Integrity.Objects)))
	}
	if err := a.reportRollback(ctx, s, o, environment, back.Left, back.Entry, started); err != nil ||
		checks == nil || o.dryRun {
		return err
	}
	checks.live = deploy.Entered(checks.prepared, back.Entry, nil)
	_, err = (&activator{a.app}).verify(ctx, *checks)
	return err
}

// reportRollback says what is live now and was before, how many edge nodes have
// it, how long that took, and how to undo it.
func (a *historyCmd) reportRollback(ctx context.Context, s *session, o rollbackOptions, environment string,
	left, entry journal.Entry, started time.Time,
) error {
	flip := view.Flip{Nodes: nodesOf(ctx, s)}
	if !o.dryRun {
		flip = flipped(ctx, s, entry)
	}
	nodes := flip.Nodes
	took := time.Since(started)
	leftAddress := ""
	if !left.Release.IsZero() { // else it had been removed
		leftAddress = view.ReleaseAddress(s.site, left.Release.String(), view.NearbyPort(nodes))
	}
	addresses := s.addresses(ctx, environment, entry.Document, nodes)
	if !o.dryRun {
		values := view.MovedValues(s.site, entry, addresses[0], nodes)
		values.Took = took
		if err := o.save(values); err != nil {
			return err
		}
	}

	if a.JSON {
		report := view.RollbackReport{Environment: journal.DisplayName(environment),
			Release: "r-" + entry.Release.String(), Commit: entry.Commit,
			Reactivates: entry.Reactivates, LeftAddress: leftAddress,
			Addresses: addresses,
			Frozen:    entry.Frozen != nil, DryRun: o.dryRun}

		if !o.dryRun {
			report.Entry = entry.Label()
		}
		if leftAddress != "" {
			report.Left = "r-" + left.Release.String()
		}
		return a.Document(report)
	}

	name := journal.DisplayName(environment)
	a.Note("%s %s %s", console.Strong(s.site), console.Faint("->"), console.Strong(name))
	if leftAddress == "" {
		a.Row(a.Err, "from", "nothing: it was removed")
	} else {
		a.Row(a.Err, "from", left.Release.Short()+"  "+console.Accent(source.Short(left.Commit))+"  "+
			left.Subject)
	}
	a.Row(a.Err, "to", entry.Release.Short()+"  "+console.Accent(source.Short(entry.Commit))+"  "+
		entry.Subject+
		console.Faint("  (what "+name+":"+view.Itoa(entry.Reactivates)+" published)"))

	if o.dryRun {
		a.Note("%s", console.Faint("--dry-run changed nothing"))
		return nil
	}
	a.Row(a.Err, "live", console.Good(entry.Label())+flip.Text(took))
	for _, address := range addresses {
		a.Print("%s", console.Accent(address))
	}

	a.afterRollback(environment, leftAddress, entry)
	view.HintEdge(a.Console, nodes)
	return nil
}

// afterRollback says where what was left can still be seen, what the freeze means, and
// how to undo the rollback. leftAddress is "" if nothing was live before: then undoing
// is removing.
func (a *historyCmd) afterRollback(environment, leftAddress string, entry journal.Entry) {
	name := journal.DisplayName(environment)
	if leftAddress != "" {
		a.Note("%s %s", console.Faint("previous release:"), leftAddress)
	}
	if entry.Frozen != nil {
		a.Note("%s automatic deploys wait until %s", console.Warn("frozen:"),
			a.Command("orilla thaw"+view.EnvironmentArgument(environment)))
	}

	if leftAddress == "" {
		a.Hint("undo:", "orilla preview remove "+strings.TrimPrefix(name, "preview/"))
	} else {
		a.Hint("undo:", fmt.Sprintf("orilla rollback %s:%d", name, entry.Number-1))
	}
}
