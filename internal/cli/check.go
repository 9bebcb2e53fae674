package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// checkCmd finds what would break, before a deploy does.
type checkCmd struct{ *app }

func newCheckCommand(a *app) *cobra.Command {
	c := &checkCmd{app: a}
	var site string
	var fresh bool
	cmd := &cobra.Command{
		Example: "orilla check\norilla check --new\norilla check dist",
		Use:     "check [COMMIT|RELEASE|ENVIRONMENT|FOLDER|ARCHIVE]",
		Short:   "Find problems before a deploy: rules, pages, live addresses",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.releases,
		Long: "Check looks at the rules of the working tree and the output of the last build, or " +
			"at a commit, a release, a folder or an archive. It finds rule errors, failing " +
			"expectations, missing files that pages name, links through redirects, and live " +
			"addresses that would become 404. The exit status is 4 if there are errors.\n" +
			"\n" +
			"If nothing was built here yet, it checks the newest release of this branch, or what " +
			"is live, and says so.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.check(cmd.Context(), site, argument(args, 0), fresh)
		},
	}

	cmd.Flags().BoolVar(&fresh, "new", false, "only findings that the live release does not have")
	siteFlag(cmd.Flags(), &site)
	return a.jsonFlag(cmd)
}

// The same questions are asked before a deploy, by the same code: what is found here would be found there.

// check is orilla check. on is a commit, a release or an environment, "" the
// working tree. With fresh, what the live release has too is left out: it is
// not what the next deploy would break. An error among the findings makes the
// exit status 4.
func (a *checkCmd) check(ctx context.Context, site, on string, fresh bool) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	subject, s, err := (&explainCmd{a.app}).subject(ctx, p, site, on)
	if err != nil {
		return err
	}

	live := a.live(ctx, p, s, site, subject)
	if fresh && live == nil {
		return fault.New(fault.Failed, "nothing-live",
			"--new compares with the live release, and nothing is live, or it cannot be read").
			Then("run it without --new")
	}

	subject.Base = inspect.BaseOf(p.ProductionConfig, project.Production)
	progress := a.Busy("check", subject.Name)
	found, err := inspect.Check(ctx, subject, live,
		func(pages int) { progress.Text(fmt.Sprintf("%s, %d pages", subject.Name, pages)) })
	if err == nil && fresh {
		found, err = a.onlyNew(ctx, found, live)
	}

	progress.End()
	if err != nil {
		return err
	}
	report := view.CheckReport{On: subject.Name, Files: len(subject.Files), Rules: len(subject.Program.Rules),
		Expectations: len(subject.Program.Expectations),
		Errors:       found.Errors(), Warnings: len(found) - found.Errors(), Findings: found}

	if live != nil {
		report.Compared = live.Name
	}
	if report.Findings == nil {
		report.Findings = []finding.Finding{}
	}

	if a.JSON {
		err = a.Document(report)
	} else {
		view.ShowCheck(a.Console, report)
	}

	if err == nil && report.Errors > 0 {
		err = &exitError{int(fault.Findings)}
	}
	return err
}

// live returns what production serves, to compare with. It is nil if production
// serves nothing, or serves the very release being checked.
func (a *checkCmd) live(ctx context.Context, p *site.Project, s *session, site string,
	subject *inspect.Subject,
) *inspect.Subject {
	var err error
	if s == nil {
		if s, err = a.session(ctx, site); err != nil {
			return nil
		}
	}
	head, err := s.head(ctx, project.Production)
	if err != nil || head.Label() == subject.Name || head.Release.Short() == subject.Name {
		return nil
	}
	live, _, err := inspect.Live(ctx, p, s.store, s.journal(project.Production))
	if err != nil {
		return nil
	}
	return live
}

// onlyNew leaves out what the live release has too.
func (a *checkCmd) onlyNew(ctx context.Context, found finding.List, live *inspect.Subject,
) (finding.List, error) {
	live.Base = inspect.BaseOf(live.Config, project.Production)
	before, err := inspect.Check(ctx, live, nil, nil)
	if err != nil {
		return nil, err
	}

	known := map[string]bool{}
	for _, f := range before {
		known[check.Key(f)] = true
	}
	var fresh finding.List
	for _, f := range found {
		if !known[check.Key(f)] {
			fresh = append(fresh, f)
		}
	}

	return fresh, nil
}
