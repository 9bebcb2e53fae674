package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// previewOptions are the flags of the commands below preview.
type previewOptions struct {
	site, length, why    string
	yes, dryRun, expired bool
	revoke               bool
}

// previewCmd lists, shares, extends and removes previews.
type previewCmd struct{ *app }

func newPreviewCommand(a *app) *cobra.Command {
	c := &previewCmd{app: a}
	var o statusOptions
	cmd := &cobra.Command{
		Example: "orilla preview\norilla preview share winter-times --for 3d",
		Use:     "preview", Short: "List, share, extend and remove previews",
		Long: "Preview lists the previews of a site, the newest first: what each shows, since when " +
			"and until when. The first build of a branch creates its preview; orilla deploy --to " +
			"preview/NAME creates one by hand.",
	}

	list := &cobra.Command{
		Example: "orilla preview list \"winter-*\"",
		Use:     "list [PATTERN...]", Short: "List previews, or those that match a pattern",
		ValidArgsFunction: c.completePreviews,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.listPreviews(cmd.Context(), o.of(cmd, a.JSON), args)
		},
	}

	for _, one := range []*cobra.Command{cmd, list} {
		o.flags(one, "all")
		a.jsonFlag(one)
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return c.listPreviews(cmd.Context(), o.of(cmd, a.JSON), args)
	}
	inOrder(cmd, list, newPreviewShareCommand(a), newPreviewExtendCommand(a), newPreviewRemoveCommand(a))
	return cmd
}

// listPreviews is orilla preview list: the previews that are there, those that
// moved last first, with what they show and when they end.
func (a *previewCmd) listPreviews(ctx context.Context, o statusOptions, patterns []string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	report, err := survey{a.app}.surveyed(ctx, s, o, nil,
		func(name string) bool { return journal.IsPreview(name) && matchesPreview(patterns, name) })
	if err != nil {
		return err
	}

	if a.JSON {
		return a.Document(report)
	}
	if len(report.Environments) == 0 {
		a.Note("%s has no such previews; orilla deploy on a branch creates one, orilla status "+
			"--state removed lists removed ones", s.site)
		view.ShowNewer(a.Console, report.Newer)
		return nil
	}

	view.ShowEnvironments(a.Console, report)
	view.HintEdge(a.Console, report.EdgeNodes)
	return nil
}

// matchesPreview reports whether a preview is one of the
// patterns, written with or without "preview/".
func matchesPreview(patterns []string, name string) bool {
	label := strings.TrimPrefix(journal.DisplayName(name), "preview/")
	var short []string
	for _, pattern := range patterns {
		short = append(short, strings.TrimPrefix(pattern, "preview/"))
	}
	return matchesAny(short, label)
}

// completePreviews proposes previews with and without "preview/", in the way in
// which the word was begun.
func (a *previewCmd) completePreviews(cmd *cobra.Command, args []string, start string,
) ([]string, cobra.ShellCompDirective) {
	names, directive := completion{a.app}.environments(cmd, args, "preview/"+strings.TrimPrefix(start,
		"preview/"))
	for i := range names {
		if !strings.HasPrefix(start, "preview/") {
			names[i] = strings.TrimPrefix(names[i], "preview/")
		}
	}
	return names, directive
}

func newPreviewExtendCommand(a *app) *cobra.Command {
	c := &previewCmd{app: a}
	var o previewOptions
	cmd := &cobra.Command{
		Use: "extend NAME", Short: "Extend the life of a preview", Args: cobra.ExactArgs(1),
		ValidArgsFunction: c.completePreviews,
		Example: "orilla preview extend winter-times --for 7d\n" +
			"orilla preview extend winter-times --for never",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.extendPreview(cmd.Context(), o,
				args[0])
		},
	}

	cmd.Flags().StringVar(&o.length, "for", "7d",
		"keep it for this `DURATION` from now, such as 12h or 7d; \"never\" to end")
	siteFlag(cmd.Flags(), &o.site)
	cmd.Flags().StringVarP(&o.why, "message", "m", "", "the `REASON`, kept in the history")
	cmd.Flags().BoolVar(&o.dryRun, "dry-run", false, "show what would change, without doing it")
	return a.jsonFlag(cmd)
}

// extendPreview is orilla preview extend: it moves the end of one preview, by
// an entry in its journal.
func (a *previewCmd) extendPreview(ctx context.Context, o previewOptions, typed string) error {
	s, environment, operator, err := a.operatorOf(ctx, o.site, typed, "extend")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)
	if _, err := namedPreview(ctx, s, typed); err != nil {
		return err
	}
	var expires *time.Time

	if o.length != project.Never && o.length != "ever" { // as it was written in 0.1
		end, err := project.ParseMoment(o.length, operator.Now(), s.project.ProductionConfig.Zone())
		if err != nil {
			return fault.New(fault.Usage, "bad-time", "--for: %s", err)
		}
		expires = &end
	}

	name := journal.DisplayName(environment)
	text := "lasts until it is removed or its branch is deleted"
	if expires != nil {
		text = "ends " + a.Until(*expires) + ", " + view.Moment(*expires)
	}

	if o.dryRun {
		a.Note("%s %s; --dry-run changed nothing", name, text)
		return nil
	}
	entry, err := operator.Append(ctx, environment, journal.SetExpiry(expires, "command", operator.Who, o.why,
		operator.Now()))
	if err != nil {
		return rollbackRefused(s, environment, err)
	}

	return a.Result(view.DescribeEntry(entry, nil, entry.Number), func() {
		a.Print("%s %s", name, text)
	})
}

// namedPreview returns the stored name of a preview that was typed.
func namedPreview(ctx context.Context, s *session, typed string) (string, error) {
	environment, err := s.named(ctx, typed)
	if err == nil && !journal.IsPreview(environment) {
		return "", fault.New(fault.Usage, "no-preview", "%s is not a preview",
			journal.DisplayName(environment)).Then("orilla preview")
	}
	return environment, err
}

func newPreviewRemoveCommand(a *app) *cobra.Command {
	c := &previewCmd{app: a}
	var o previewOptions
	cmd := &cobra.Command{
		Use: "remove [NAME|BRANCH|PATTERN]...", Short: "Remove previews: their URLs answer 410 Gone",
		ValidArgsFunction: c.completePreviews,
		Long: "Remove takes previews offline, by name, branch or pattern. Their URLs then answer " +
			"410 with a page that says so; the releases stay in the store as long as the retention " +
			"says. Removing what is gone already is no error, so a CI job can run this for every " +
			"closed branch.",
		Example: "orilla preview remove winter-times\n" +
			"orilla preview remove \"bot-*\" --yes\norilla preview remove --expired",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.removePreviews(cmd.Context(), o,
				args)
		},
	}

	siteFlag(cmd.Flags(), &o.site)
	cmd.Flags().StringVarP(&o.why, "message", "m", "", "the `REASON`, kept in the history")
	cmd.Flags().BoolVar(&o.expired, "expired", false, "all expired previews (they already answer 410)")
	cmd.Flags().BoolVarP(&o.yes, "yes", "y", false, "assume yes to every prompt")
	cmd.Flags().BoolVar(&o.dryRun, "dry-run", false, "show what would be removed, without doing it")
	return a.jsonFlag(cmd)
}

// removePreviews is orilla preview remove. patterns are names or globs; what
// they match is listed and asked about before the first is removed. What is
// gone already is no error, so that CI can run it for every branch that closes.
func (a *previewCmd) removePreviews(ctx context.Context, o previewOptions, patterns []string) error {
	if len(patterns) == 0 && !o.expired {
		return fault.New(fault.Usage, "usage", "which previews?").
			Then("orilla preview remove NAME").Then("orilla preview remove --expired").
			Then("orilla preview")
	}

	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	if err := s.project.LearnSecret(ctx, s.store, s.site, nil); err != nil {
		return err
	}

	for _, pattern := range slices.Clone(patterns) { // each may be the name of a branch
		if !strings.ContainsAny(pattern, "*?[") {
			patterns = append(patterns, s.project.PreviewOf(strings.TrimPrefix(pattern, "preview/")))
		}
	}

	states, err := a.serving(ctx, s, patterns, o.expired)
	if err != nil {
		return err
	}
	if len(states) == 0 {
		a.Note("nothing to remove: no such live preview")
		if a.JSON {
			return a.Document(view.RemovedReport{Removed: []view.EntryReport{}})
		}
		return nil
	}

	if goes, err := a.confirmRemoval(ctx, o, states); err != nil || !goes {
		return err
	}
	return a.removeAll(ctx, s, states, o.why)
}

// serving returns the previews that serve something: those whose names fit any
// of the patterns, or, if expired is set, those of them whose time is over.
func (a *previewCmd) serving(ctx context.Context, s *session, patterns []string, expired bool,
) ([]environments.State, error) {
	fits := func(name string) bool { return journal.IsPreview(name) && matchesPreview(patterns, name) }
	states, err := environments.States(ctx, s.store, s.site, nil, fits)
	now := a.Now()
	return slices.DeleteFunc(states, func(state environments.State) bool {
		return state.Head == nil || state.Head.Release.IsZero() || expired && !state.Head.HasExpired(now)
	}), err
}

// removeAll ends previews, and tells of each.
func (a *previewCmd) removeAll(ctx context.Context, s *session, states []environments.State, why string,
) error {
	operator, err := s.operator(ctx, "remove")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)
	for _, state := range states {
		tells(ctx, a.app, s.project, s.store, s.site, state.Name)
	}
	report := view.RemovedReport{Removed: []view.EntryReport{}}
	for _, state := range states {
		ended := journal.Ended{Reason: journal.OnRequest}
		if state.Head.HasExpired(operator.Now()) {
			ended.Reason = journal.Expired
		}
		entry, removed, err := operator.Remove(ctx, state.Name, ended, why, nil)
		if err != nil {
			return err
		}

		if removed {
			report.Removed = append(report.Removed, view.DescribeEntry(entry, nil, entry.Number))
			if !a.JSON {
				a.Print("%s ended  %s", journal.DisplayName(state.Name), console.Faint(entry.Label()))
			}
		}
	}

	if a.JSON {
		return a.Document(report)
	}
	return nil
}

// confirmRemoval shows which previews would end, and asks.
// It reports whether to go on.
func (a *previewCmd) confirmRemoval(ctx context.Context, o previewOptions, states []environments.State,
) (bool, error) {
	for i, state := range states {
		if i == 20 {
			a.Note("  and %d more", len(states)-i)
			break
		}
		a.Note("  %s  %s  %s  %s", journal.DisplayName(state.Name),
			console.Accent(source.Short(state.Head.Commit)), view.Shorten(state.Head.Subject, 44),
			console.Faint(a.Age(state.Head.When)))
	}

	if o.dryRun {
		a.Note("%s", console.Faint("--dry-run changed nothing"))
		return false, nil
	}
	if o.yes || o.expired {
		return true, nil
	}

	question, about := "Remove this preview?", "Its URL will answer 410 Gone; a deploy brings it back."
	if len(states) > 1 {
		question, about = fmt.Sprintf("Remove these %d previews?",
			len(states)), "Their URLs will answer 410 Gone; a deploy brings one back."
	}

	sure, err := a.Confirm(ctx, question, about, false)
	if errors.Is(err, console.ErrNobody) {
		return false, fault.New(fault.Refused, "not-confirmed",
			"removing previews needs a confirmation").Then("add --yes")
	}
	return sure, err
}

func newPreviewShareCommand(a *app) *cobra.Command {
	c := &previewCmd{app: a}
	var o previewOptions
	cmd := &cobra.Command{
		Use: "share NAME", Short: "Create a link that needs no password",
		Args: cobra.ExactArgs(1), ValidArgsFunction: c.completePreviews,
		Long: "Share creates a link for someone who has no password. Everyone with the link can " +
			"open the preview until it expires or is revoked. The link is not kept and will not be " +
			"shown again. It works for every environment with a password.",
		Example: "orilla preview share winter-times --for 3d\n" +
			"orilla preview share winter-times --revoke",
		RunE: func(cmd *cobra.Command, args []string) error { return c.share(cmd.Context(), o, args[0]) },
	}

	cmd.Flags().StringVar(&o.length, "for", "3d",
		"how long the link works, a `DURATION` such as 12h or 3d (at most 90d)")
	cmd.Flags().BoolVar(&o.revoke, "revoke", false, "revoke all links of it")
	siteFlag(cmd.Flags(), &o.site)
	cmd.Flags().StringVarP(&o.why, "message", "m", "", "the `REASON`, such as for whom "+
		"it is (kept in the history)")
	return a.jsonFlag(dryFlag(a, cmd))
}

// longestShare bounds how long a link opens anything.
const longestShare = 90 * 24 * time.Hour

// share is orilla preview share: it makes a link that opens an environment
// without its password. The link is printed once and nowhere kept; the store
// has its digest.
func (a *previewCmd) share(ctx context.Context, o previewOptions, typed string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	environment, err := a.shareable(ctx, s, typed, o.revoke)
	if err != nil {
		return err
	}

	length, err := project.ParseDuration(o.length)
	if err == nil && (time.Duration(length) > longestShare || length < project.Duration(time.Minute)) {
		err = fmt.Errorf("%q is not between a minute and 90 days", o.length)
	}
	if err != nil {
		return fault.New(fault.Usage, "bad-time", "--for: %s", err)
	}

	operator, err := s.operator(ctx, "share")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)
	if o.revoke {
		return a.revoke(ctx, s, operator, environment, o.why)
	}

	return a.makeLink(ctx, s, operator, environment, time.Duration(length), o.why)
}

// shareable returns the environment that was typed, by its stored name, if a
// link to it makes sense: it serves something, and asks for a password. A link
// can be taken back in any case.
func (a *previewCmd) shareable(ctx context.Context, s *session, typed string, revoke bool) (string, error) {
	environment, err := namedPreview(ctx, s, typed)
	if fixed, e := s.named(ctx, typed); err != nil && e == nil {
		environment, err = fixed, nil
	}
	if err != nil {
		return "", err
	}

	head, err := s.head(ctx, environment)
	if err != nil {
		return "", rollbackRefused(s, environment, err)
	}

	name := journal.DisplayName(environment)
	if head.Gone(a.Now()) {
		return "", fault.New(fault.Refused, "nothing-live", "%s serves nothing", name).
			At("%s", head.Label()).Then("orilla deploy --to %s", name)
	}

	protected := head.Access.Protects() || journal.IsPreview(environment) && s.previewsProtected(ctx)
	if !protected && !revoke {
		address := s.addresses(ctx, environment, head.Document, nodesOf(ctx, s))[0]
		return "", fault.New(fault.Refused, "open-already",
			"%s has no password, so everyone can open it already", name).
			Then("send its URL: %s", address).Then("or protect it: orilla password %s", name).
			Then("or protect all previews: orilla password previews")
	}

	return environment, nil
}

// makeLink makes a link that opens an environment for a
// while, and shows it: only its digest is kept.
func (a *previewCmd) makeLink(ctx context.Context, s *session, operator *environments.Operator,
	environment string, length time.Duration, why string,
) error {
	name := journal.DisplayName(environment)
	if a.dry {
		a.Print("would create a link that opens %s until %s", name, view.Moment(operator.Now().Add(length)))
		return nil
	}
	secret, until := access.Secret(), operator.Now().Add(length).UTC().Truncate(time.Second)
	share := journal.Share{Digest: access.DigestOf(secret), Until: until, Who: operator.Who, Why: why}
	change := func(looking journal.Looking) (*journal.Looking, error) {
		looking.Shares = slices.DeleteFunc(looking.Shares,
			func(old journal.Share) bool { return !operator.Now().Before(old.Until) })
		looking.Shares = append(looking.Shares, share)
		return &looking, nil
	}

	entry, err := operator.Append(ctx, environment, journal.SetAccess(change, "command", operator.Who, why))
	if err != nil {
		return rollbackRefused(s, environment, err)
	}
	nodes := flipped(ctx, s, entry).Nodes
	report := view.ShareReport{Environment: name, Entry: entry.Label(), Until: until,
		Share: hex.EncodeToString(share.Digest[:5])}

	for _, address := range s.addresses(ctx, environment, entry.Document, nodes) {
		report.Links = append(report.Links, strings.TrimSuffix(address, "/")+access.LinkPath+secret+"/")
	}
	return a.Result(report, func() {
		for _, link := range report.Links {
			a.Print("%s", console.Accent(link))
		}
		a.Note("it opens %s until %s; it will not be shown again", name, view.Moment(until))
		a.Hint("undo:", "orilla preview share "+strings.TrimPrefix(name, "preview/")+" --revoke")
		view.HintEdge(a.Console, nodes)
	})
}

// revoke ends all links of an environment at once. Single ones cannot be told
// apart by anybody who has not got them.
func (a *previewCmd) revoke(ctx context.Context, s *session, operator *environments.Operator, environment,
	why string,
) error {
	revoked := 0
	change := func(looking journal.Looking) (*journal.Looking, error) {
		if revoked = len(looking.Shares); revoked == 0 {
			return nil, journal.ErrAlready
		}
		looking.Shares = nil
		if looking.Password == "" {
			return nil, nil
		}
		return &looking, nil
	}

	entry, err := operator.Append(ctx, environment, journal.SetAccess(change, "command", operator.Who, why))
	name := journal.DisplayName(environment)
	if err != nil && !errors.Is(err, journal.ErrAlready) {
		return rollbackRefused(s, environment, err)
	}
	if err == nil {
		flipped(ctx, s, entry)
	}

	if a.JSON {
		report := view.ShareReport{Environment: name, Revoked: revoked}
		if err == nil {
			report.Entry = entry.Label()
		}
		return a.Document(report)
	}

	if revoked == 0 {
		a.Note("%s has no shared links", name)
		return nil
	}
	a.Print("%s of %s revoked",
		console.Count(int64(revoked), "link", "links"), name)
	return nil
}
