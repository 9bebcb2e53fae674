package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/courier"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// Notices go beside what a command does, and its result is on the screen before they are waited
// for: at most these times, and longer only for who asked for nothing else.
const (
	noticePatience = 3 * time.Second
	sendPatience   = 10 * time.Minute
)

// A command calls tells once it knows what it will change, and before it does: a build that has
// begun is told while it goes on. The end of the program waits for the rest, in atEnd, so that no
// command has to think of it, and none can forget.

// tells begins to send notices about what a command does in environments, by their stored names.
// Who reads its configuration from anywhere but the production branch tells nobody: an orilla.yaml of
// any branch could name whom to tell what, and commands.
func tells(ctx context.Context, a *app, p *site.Project, store storage.Store, name string,
	environments ...string,
) {
	if dry := a.running.Flags().Lookup("dry-run"); a.dry || dry != nil && dry.Value.String() == "true" {
		return // it changes nothing, so it tells nothing
	}
	if a.courier == nil {
		options, ok := noticeOptions(ctx, p, store, name)
		if !ok {
			noteUncounted(a, p)
			return
		}
		a.courier = courier.Begin(ctx, options)
		if a.courier != nil {
			a.atEnd = append(a.atEnd, func() { told(ctx, a, noticePatience) })
		}
	}
	a.courier.Look(environments...)
}

// noticeOptions are what notices of a project are sent with; false if it is not known what the
// production branch says.
func noticeOptions(ctx context.Context, p *site.Project, store storage.Store, name string,
) (courier.Options, bool) {
	if p == nil || p.Repository != nil && p.ProductionCommit == "" {
		return courier.Options{}, false
	}
	options := courier.Options{Store: store, Site: name, Config: p.ProductionConfig, Folder: p.Root,
		Now: time.Now}
	if courier.Wanted(p.ProductionConfig) {
		options.Who = p.Person(ctx)
	}
	return options, true
}

// noteUncounted says that notices of an orilla.yaml do not count: a CI job that has fetched only the
// branch that it builds would else tell nobody, and nobody would know why.
func noteUncounted(a *app, p *site.Project) {
	if p != nil && courier.Wanted(p.LocalConfig) {
		a.Note("%s no notices are sent: they are read from the branch %s, which is not here or has no "+
			"orilla.yaml",
			console.Warn("note:"), cmp.Or(p.Main, "that production follows"))
	}
}

// A JSON document stays alone on its stream; whoever reads it asks orilla notices --json for this.

// told waits for what is sent, and tells what of it is left.
func told(ctx context.Context, a *app, patience time.Duration) {
	summary := a.courier.Finish(ctx, patience)
	a.courier = nil
	if a.JSON {
		return // the result is one document, and this is not part of it
	}
	view.PrintNoticeSummary(a.Console, summary)
}

// What notices are about is decided by the production branch, also where somebody looks at them from
// another one: orilla notices shows what counts, and not what the file at hand would like. Only
// test can be asked to take that, by somebody who is there and sees what is sent to whom.

// noticesCmd shows and sends notices.
type noticesCmd struct{ *app }

func newNoticesCommand(a *app) *cobra.Command {
	c := &noticesCmd{app: a}
	var siteName string
	var limit int
	cmd := &cobra.Command{
		Use: "notices", Short: "Show recipients, sent and waiting notices",
		Long: "Notices tell people by mail, and programs by webhooks and commands, what happens to a site: " +
			"notices in orilla.yaml says whom. Each command that changes something sends what there is " +
			"to send; what is not taken is tried again by the next one, for three days.",
		Example: "orilla notices\norilla notices test crew\norilla notices send",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return c.show(cmd.Context(), siteName, limit) },
	}
	siteFlag(cmd.Flags(), &siteName)
	cmd.Flags().IntVarP(&limit, "limit", "n", 10, "list this `NUMBER` of those that were sent; 0 for all")
	inOrder(cmd, newNoticesTestCommand(c), newNoticesSendCommand(c))
	return a.jsonFlag(cmd)
}

func newNoticesTestCommand(c *noticesCmd) *cobra.Command {
	var siteName string
	var worktree bool
	cmd := &cobra.Command{
		Use: "test [NAME]", Short: "Send a test notice",
		Long: "Test sends a notice that says that it is a test, to all recipients or to those of NAME, and " +
			"says how each took it. It is not noted, and changes nothing of what waits.",
		Example: "orilla notices test\norilla notices test crew\norilla notices test --working-tree",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: c.names,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.test(cmd.Context(), siteName, argument(args, 0), worktree)
		},
	}
	siteFlag(cmd.Flags(), &siteName)
	cmd.Flags().BoolVar(&worktree, "working-tree", false,
		"as orilla.yaml here says, and not that of the production branch")
	return c.jsonFlag(cmd)
}

func newNoticesSendCommand(c *noticesCmd) *cobra.Command {
	var siteName string
	cmd := &cobra.Command{
		Use: "send", Short: "Send what waits, now",
		Long: "Send looks at every environment for what nobody was told of, and sends all that waits, also " +
			"what was not taken a moment ago. Run it from a timer where nothing else runs often.",
		Example: "orilla notices send", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return c.send(cmd.Context(), siteName) },
	}
	siteFlag(cmd.Flags(), &siteName)
	return c.jsonFlag(cmd)
}

// names completes the names of notices.
func (c *noticesCmd) names(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := c.load(cmd.Context())
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return slices.Sorted(maps.Keys(p.ProductionConfig.Notices)), cobra.ShellCompDirectiveNoFileComp
}

// options opens the store and says what notices are sent with, or what is missing for that.
func (c *noticesCmd) options(ctx context.Context, siteName string) (*session, courier.Options, error) {
	s, err := c.session(ctx, siteName)
	if err != nil {
		return nil, courier.Options{}, err
	}
	options, ok := noticeOptions(ctx, s.project, s.store, s.site)
	if !ok {
		return s, options, fault.New(fault.Usage, "no-production-config",
			"notices are read from the branch %s, which has no orilla.yaml yet", s.project.Main).
			Then("commit it there; until then: orilla notices test --working-tree")
	}
	if !courier.Wanted(options.Config) {
		problem := fault.New(fault.Usage, "no-notices", "nobody is to be told of anything").
			At("orilla.yaml").Then("say whom: orilla help notices")
		if courier.Wanted(s.project.LocalConfig) {
			problem = fault.New(fault.Usage, "no-notices", "orilla.yaml of the branch %s has no notices; "+
				"the one here has", s.project.Main).
				Then("commit it there; until then: orilla notices test --working-tree")
		}
		return s, options, problem
	}
	return s, options, nil
}

// show is orilla notices.
func (c *noticesCmd) show(ctx context.Context, siteName string, limit int) error {
	s, options, err := c.options(ctx, siteName)
	if err != nil {
		return err
	}
	record, err := courier.Read(ctx, s.store, s.site)
	if err != nil {
		return err
	}
	report := view.NewNotices(s.site, courier.Recipients(options), record)
	return c.Result(report, func() { view.PrintNotices(c.Console, report, limit) })
}

// test is orilla notices test.
func (c *noticesCmd) test(ctx context.Context, siteName, name string, worktree bool) error {
	var options courier.Options
	if worktree {
		p, err := c.load(ctx)
		if err != nil {
			return err
		}
		options = courier.Options{Site: p.Site(), Config: p.LocalConfig, Folder: p.Root, Now: time.Now,
			Who: p.Person(ctx)}
		if !courier.Wanted(options.Config) {
			return fault.New(fault.Usage, "no-notices", "nobody is to be told of anything").At("orilla.yaml").
				Then("say whom: orilla help notices")
		}
	} else {
		var err error
		if _, options, err = c.options(ctx, siteName); err != nil {
			return err
		}
	}
	if _, known := options.Config.Notices[name]; name != "" && !known {
		problem := fault.New(fault.Usage, "unknown-notice", "orilla.yaml has no notice %q", name)
		for _, known := range slices.Sorted(maps.Keys(options.Config.Notices)) {
			problem = problem.Then("orilla notices test %s", known)
		}
		return problem
	}
	var tried []view.NoticeTried
	failed := 0
	for _, to := range courier.Recipients(options) {
		if name != "" && to.Notice != name {
			continue
		}
		busy := c.Busy("sending", to.To)
		began := time.Now()
		err := courier.Try(ctx, options, to.ID, "sent by orilla notices test")
		busy.End()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		one := view.NoticeTried{Notice: to.Notice, Way: to.Way, To: to.To,
			Milliseconds: time.Since(began).Milliseconds()}
		if err != nil {
			one.Problem = notices.OneLine(err.Error(), 300)
			failed++
		}
		tried = append(tried, one)
	}
	if err := c.Result(tried, func() { view.PrintTried(c.Console, tried) }); err != nil || failed == 0 {
		return err
	}
	return &exitError{int(fault.Failed)}
}

// send is orilla notices send.
func (c *noticesCmd) send(ctx context.Context, siteName string) error {
	s, options, err := c.options(ctx, siteName)
	if err != nil {
		return err
	}
	options.Force = true
	busy := c.Busy("sending", "what waits")
	summary := courier.Begin(ctx, options).Finish(ctx, sendPatience)
	busy.End()
	if summary.Err != nil {
		return summary.Err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if summary.Busy {
		return fault.New(fault.Refused, "notices-busy", "another Orilla sends the notices of %s", s.site).
			Then("orilla notices")
	}
	report := view.NewNoticeSummary(summary)
	if err := c.Result(report, func() { view.PrintSent(c.Console, report) }); err != nil {
		return err
	}
	if len(report.Problems)+len(summary.GivenUp) > 0 {
		return &exitError{int(fault.Failed)}
	}
	return nil
}

// lackingForNotices says what this machine needs to tell people, and has not got.
func lackingForNotices(told []courier.Recipient) (list []string) {
	for _, to := range told {
		text := fmt.Sprintf("%s: %s", to.Notice, to.Lacks)
		if to.Lacks != "" && !slices.Contains(list, text) {
			list = append(list, text)
		}
	}
	return list
}
