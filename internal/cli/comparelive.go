package cli

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/outside"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// compareLiveOptions are the flags of compare-live.
type compareLiveOptions struct {
	site, at string
	parallel int
	rate     float64
	limit    int
}

// compareLiveCmd fetches a site from outside and compares it with what is live.
type compareLiveCmd struct{ *app }

func newCompareLiveCommand(a *app) *cobra.Command {
	c := &compareLiveCmd{app: a}
	var o compareLiveOptions
	cmd := &cobra.Command{
		Use: "compare-live [ENVIRONMENT]", Short: "Compare what visitors get with what is live",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.environments,
		Long: "Compare-live fetches every address of the live release through whatever stands in front " +
			"of the edge nodes, and compares status, content and header fields with what nodes answer. " +
			"It tells what a cache keeps too long, and what is changed on the way; the exit status is " +
			"4 if there is anything.",
		Example: "orilla compare-live\norilla compare-live staging --rate 5\n" +
			"orilla compare-live --at https://edge-2.corvane.example/",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.compareLive(cmd.Context(), o, argument(args, 0))
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&o.at, "at", "", "fetch it at this `URL` (default: the environment's address)")
	flags.IntVar(&o.parallel, "parallel", 0, "make this `NUMBER` of requests at once (default: 8)")
	flags.Float64Var(&o.rate, "rate", 0,
		"make at most this `NUMBER` of requests a second (default: no limit)")
	flags.IntVarP(&o.limit, "limit", "n", 20, "list this `NUMBER` of differences; 0 for all")
	siteFlag(flags, &o.site)
	return a.jsonFlag(cmd)
}

// What is compared with is the entry that is live when it begins. If another one becomes live
// meanwhile, the rest differs, and says which entry it is from; run it again then.

// compareLive is orilla compare-live.
func (c *compareLiveCmd) compareLive(ctx context.Context, o compareLiveOptions, typed string) error {
	if o.parallel < 0 || o.parallel > 256 || o.rate < 0 {
		return fault.New(fault.Usage, "usage", "--parallel takes 1 to 256, and --rate no less than 0")
	}
	s, err := c.session(ctx, o.site)
	if err != nil {
		return err
	}
	environment, err := s.named(ctx, typed)
	if err != nil {
		return err
	}
	live, head, err := inspect.Live(ctx, s.project, s.store, s.journal(environment))
	name := journal.DisplayName(environment)
	if err == nil && live == nil {
		err = fault.New(fault.Usage, "nothing-live", "nothing is live in %s", name).
			Then("orilla deploy --to %s", name)
	}
	if err != nil {
		return err
	}
	at, err := c.outsideAddress(ctx, s, *head, o.at)
	if err != nil {
		return err
	}
	options := outside.Options{Side: live.Side(), Environment: name, Address: at, Entry: head.Label(),
		Parallel: o.parallel, Rate: o.rate}
	if claim, err := site.ReadClaim(ctx, s.store, s.site); err == nil && head.Access.Protects() {
		options.Pass = access.Pass(claim.Incarnation, environment, time.Now())
	}
	busy := c.Busy("fetching", "")
	options.Tell = func(done, of int) {
		busy.Text(fmt.Sprintf("%d of %s", done, console.Count(int64(of), "address", "addresses")))
	}
	proof, err := outside.Compare(ctx, options)
	busy.End()
	if err != nil {
		return err
	}
	report := view.NewLiveComparison(s.site, at, *head, proof)
	if err := c.Result(report, func() { view.PrintLiveComparison(c.Console, report, o.limit) }); err != nil {
		return err
	}
	if len(report.Found) > 0 {
		return &exitError{int(fault.Findings)}
	}
	return nil
}

// It takes the address that people know, since what stands in front stands there. Without one there is
// nothing in front, and what is left to prove is that this machine's node answers as it should.

// outsideAddress is where visitors find an environment: what was said, its first address, or its
// name at an edge node of this machine.
func (c *compareLiveCmd) outsideAddress(ctx context.Context, s *session, head journal.Entry, said string,
) (string, error) {
	if said != "" {
		at, err := url.Parse(said)
		if err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" {
			return "", fault.New(fault.Usage, "usage", "--at %s: not an address", said).
				Then("write one such as https://www.corvane.example/")
		}
		return said, nil
	}
	document, err := environments.DocumentOf(ctx, s.store, head)
	if err != nil {
		return "", err
	}
	if len(document.Addresses) > 0 {
		return document.Addresses[0], nil
	}
	for _, node := range nodesOf(ctx, s) {
		if at, err := url.Parse("http://" + node.Address); err == nil && node.FromHere() {
			return "http://" + project.LocalName(s.site, head.Environment) + ":" + at.Port() + "/", nil
		}
	}
	return "", fault.New(fault.Usage, "no-address", "%s has no address, and no edge node is running here",
		journal.DisplayName(head.Environment)).
		Then("say where it is: orilla compare-live --at URL").Then("orilla edge")
}
