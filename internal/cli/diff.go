package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/variants"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// diffOptions are the flags of diff.
type diffOptions struct {
	site, text                 string
	addresses, open, show, all bool
	pictures                   bool
	failAbove                  float64
	shown                      pictureOptions
}

// diffCmd compares two releases, or a commit with one.
type diffCmd struct{ *app }

func newDiffCommand(a *app) *cobra.Command {
	c := &diffCmd{app: a}
	var o diffOptions
	cmd := &cobra.Command{
		Use:   "diff [BEFORE] [AFTER]",
		Short: "Compare two releases: pages, assets, rules, weight",
		Args:  cobra.MaximumNArgs(2),
		Long: "Diff compares two environments, entries, releases or commits. With one argument it " +
			"compares that with production; with none, the last commit with production. The weight " +
			"of a page includes everything it loads, before compression. The options from --page to " +
			"--retake go with --pictures.",
		Example: "orilla diff\n" +
			"orilla diff production preview/winter-times --open\n" +
			"orilla diff production:11 production:12 --text /fares\n" +
			"orilla diff production:11 production --addresses\n" +
			"orilla diff production preview/winter-times --pictures --fail-above 1",
		ValidArgsFunction: completion{a}.releases,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.diff(cmd.Context(), o, args)
		},
	}

	flags := cmd.Flags()
	flags.StringVar(&o.text, "text", "", "show the changed lines of the page or file at this `PATH`")
	flags.BoolVar(&o.addresses, "addresses", false, "list the URLs whose answer changed")
	flags.BoolVar(&o.open, "open", false, "compare both side by side in the browser, until Ctrl-C")
	flags.BoolVar(&o.show, "show", false, "with --open: print the URL and open no browser")
	flags.BoolVar(&o.all, "all", false, "show every line")
	flags.BoolVar(&o.pictures, "pictures", false, "compare how the pages look")
	flags.Float64Var(&o.failAbove, "fail-above", -1,
		"with --pictures: fail if more than this `PERCENT` of a page changed")
	flags.Lookup("fail-above").DefValue = "" // that it is negative is nobody's business
	o.shown.flags(flags)
	siteFlag(flags, &o.site)
	return a.jsonFlag(cmd)
}

// diff is orilla diff: how two releases differ. Without arguments it compares
// what visitors have with the newest commit, the question that is asked before
// a deploy.
func (a *diffCmd) diff(ctx context.Context, o diffOptions, args []string) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	before, after := project.Production, "HEAD"

	switch len(args) {
	case 1:
		after = args[0]
	case 2:
		before, after = args[0], args[1]
	}

	if len(args) == 0 && s.project.Repository == nil {
		return fault.New(fault.Usage, "usage",
			"no Git repository here, so there is no last commit to compare with production").
			Then("orilla diff production:1 production")
	}

	if err := o.fits(a.JSON); err != nil {
		return err
	}
	var report view.DiffReport
	if report.Before, err = a.diffSide(ctx, s, before); err != nil {
		return err
	}
	if report.After, err = a.diffSide(ctx, s, after); err != nil {
		return err
	}

	switch {
	case o.pictures:
		return a.diffPictures(ctx, s, o, report)
	case o.addresses:
		return a.diffAddresses(ctx, s, after, report)
	case o.text != "":
		return a.diffText(ctx, o.text, report)
	}

	// Comparing reads pages on both sides; a large site takes a moment.
	busy := a.Busy("compare", "")
	if err := knowSent(ctx, s, &report); err != nil {
		busy.End()
		return err
	}
	report.Report, err = difference.Between(ctx, report.Before.Side, report.After.Side)
	busy.End()
	if err != nil {
		return err
	}

	if err := commitsBetween(ctx, s, &report); err != nil {
		return err
	}
	switch {
	case o.open:
		return a.diffOpen(ctx, s, o, report)
	case a.JSON:
		return a.Document(report)
	}
	view.ShowDiff(a.Console, report, o.all)
	return nil
}

// A name may be an environment, an entry, a release or a commit. They are tried in that order, since
// what is live is what most questions are about.

// diffSide finds what was typed: an environment, an entry,
// a release, or a commit that was built.
func (a *diffCmd) diffSide(ctx context.Context, s *session, typed string) (view.DiffSide, error) {
	// What is in a journal comes first: an environment's name means what it
	// serves, also where a branch is called the same.
	entry, err := findOrigin(ctx, s, typed)
	if err != nil && !errors.Is(err, errUnknownRelease) {
		return view.DiffSide{}, err
	}
	side := view.DiffSide{Name: typed, Build: entry.Build}
	var subject *inspect.Subject

	if err == nil && (entry.Number > 0 || strings.HasPrefix(typed, "r-") || s.project.Repository == nil) {
		subject, err = inspect.Release(ctx, s.project, s.store, s.site, entry.Release, entry.Build)
		side.Release, side.Commit, side.Subject = "r-"+entry.Release.String(), entry.Commit, entry.Subject
		if entry.Number > 0 {
			side.Name = entry.Label()
		}
		if err == nil {
			subject.Base = inspect.BaseOf(s.project.ProductionConfig, entry.Environment)
		}
	} else if s.project.Repository != nil {
		var commit source.Commit
		if commit, err = s.project.Repository.Commit(ctx, typed); err != nil {
			_, err = findOrigin(ctx, s, typed)
			return side, err
		}
		subject, err = inspect.Commit(ctx, s.project, s.store, s.site, typed)
		side.Name, side.Commit, side.Subject = commit.Short(), commit.Hash, commit.Subject
		if !entry.Release.IsZero() {
			side.Release = "r-" + entry.Release.String()
		}
	}
	if err != nil {
		return side, err
	}

	subject.Now = a.Now()
	side.Side = subject.Side()
	return side, nil
}

// knowSent finds out in how many bytes both sides are sent.
func knowSent(ctx context.Context, s *session, report *view.DiffReport) error {
	sent, err := variants.Sent(ctx, s.store, slices.Concat(report.Before.Side.Files, report.After.Side.Files))
	report.Before.Side.Sent, report.After.Side.Sent = sent, sent
	return err
}

// commitsBetween finds the commits that the side after has
// and the one before does not.
func commitsBetween(ctx context.Context, s *session, report *view.DiffReport) error {
	from, to := report.Before.Commit, report.After.Commit
	if s.project.Repository == nil || from == "" || to == "" || from == to {
		return nil
	}
	// Without the commit here there is nothing to list, and the comparison is
	// good without.
	if _, err := s.project.Repository.Commit(ctx, from); err != nil {
		return ctx.Err() // of another clone
	}

	commits, count, err := s.project.Repository.Since(ctx, to, from, 20)
	if err != nil {
		return ctx.Err()
	}
	for _, commit := range commits {
		report.Commits = append(report.Commits, view.CommitReport{Commit: commit.Hash,
			Subject: commit.Subject, Address: s.project.ProductionConfig.CommitLink(commit.Hash)})
	}
	report.More = count - len(commits)
	return nil
}

// diffAddresses lists the addresses whose answer differs, below those of the
// environment that after is, or of production.
func (a *diffCmd) diffAddresses(ctx context.Context, s *session, typed string, report view.DiffReport) error {
	busy := a.Busy("compare", "addresses")
	paths, patterns, err := difference.Addresses(ctx, report.Before.Side, report.After.Side)
	busy.End()
	if err != nil {
		return err
	}

	environment := project.Production
	if name, _, _ := strings.Cut(typed, ":"); name != "" {
		if stored, err := s.named(ctx, name); err == nil {
			environment = stored
		}
	}

	head, err := s.head(ctx, environment)
	if err != nil && !errors.Is(err, journal.ErrEmpty) {
		return err
	}
	// Whole addresses, as caches in front want them.
	address := s.addresses(ctx, environment, head.Document, nodesOf(ctx, s))[0]
	origin := strings.TrimSuffix(address, view.BasePath(address))
	for i := range paths {
		paths[i] = origin + paths[i]
	}

	return a.Result(view.AddressesReport{Addresses: append([]string{}, paths...), Rules: patterns}, func() {
		for _, path := range paths {
			a.Print("%s", path)
		}

		for _, pattern := range patterns {
			a.Note("%s %s", console.Faint("and everything this rule answers:"), pattern)
		}
	})
}

// diffText shows how one file's text differs, in the way of diff -u (POSIX).
func (a *diffCmd) diffText(ctx context.Context, typed string, report view.DiffReport) error {
	from, err := diffFile(ctx, report.Before.Side, typed)
	if err != nil {
		return err
	}
	to, err := diffFile(ctx, report.After.Side, typed)
	if err != nil {
		return err
	}

	// Added or removed: the other side is compared with nothing, under the same
	// name.
	if from == "" {
		from = to
	}
	if to == "" {
		to = from
	}

	text, err := difference.Text(ctx, report.Before.Side, report.After.Side, from, to)
	switch {
	case errors.Is(err, difference.ErrNowhere):
		return fault.New(fault.Usage, "no-file", "neither side has %q", typed).
			Then("orilla diff %s %s", report.Before.Name, report.After.Name)
	case errors.Is(err, difference.ErrBinary), errors.Is(err, difference.ErrLarge):
		return fault.New(fault.Usage, "no-text", "%s %s", to, err).
			Then("orilla diff %s %s", report.Before.Name, report.After.Name)
	case err != nil:
		return err
	}

	if a.JSON {
		lines := []string{}
		for _, line := range text {
			lines = append(lines, strings.TrimSuffix(line, "\n"))
		}
		return a.Document(view.TextReport{Before: from, After: to, Lines: lines})
	}

	if len(text) == 0 {
		a.Note("%s is identical on both sides", to)
	}
	for _, line := range text {
		line = strings.TrimSuffix(line, "\n")
		switch {
		case strings.HasPrefix(line, "+"):
			line = console.Good(line)
		case strings.HasPrefix(line, "-"):
			line = console.Bad(line)
		case strings.HasPrefix(line, "@@"):
			line = console.Accent(line)
		}
		a.Print("%s", line)
	}

	return nil
}

// diffFile finds the file that a path means on one side: that file, or what the
// address answers with; "" for none.
func diffFile(ctx context.Context, side difference.Side, typed string) (string, error) {
	if _, ok, err := side.Site.Files.Lookup(ctx, strings.TrimPrefix(typed, "/")); ok || err != nil {
		return strings.TrimPrefix(typed, "/"), err
	}
	path, query, _ := strings.Cut(typed, "?")
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}

	found, err := answer.Decide(ctx, answer.Request{Method: "GET", Path: path, Query: query,
		Environment: answer.Production, Scheme: "https", Now: side.Now}, side.Site)
	if err != nil || found.File == nil || found.Status != 200 {
		return "", err
	}
	return found.File.Path, nil
}

// Two servers would be two ports; names below localhost give each side an origin of its own with one.

// diffOpen shows both sides in a page until the context ends.
func (a *diffCmd) diffOpen(ctx context.Context, s *session, o diffOptions, report view.DiffReport) error {
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	about := func(side view.DiffSide) devserver.BesideSide {
		text := side.Subject
		if side.Commit != "" && source.Short(side.Commit) != side.Name {
			text = source.Short(side.Commit) + "  " + text
		}
		return devserver.BesideSide{Label: side.Name, About: text, Side: side.Side}
	}

	address := fmt.Sprintf("http://localhost:%d/", listener.Addr().(*net.TCPAddr).Port)
	a.Print("%s", console.Accent(address))
	a.Note("%s", console.Faint(report.Before.Name+" beside "+report.After.Name+"; press Ctrl-C to stop"))
	if !o.show {
		if err := openBrowser(ctx, address); err != nil {
			a.Note("%s", console.Faint("cannot start a browser; open the URL yourself"))
		}
	}

	return connections.Serve(ctx, listener, devserver.NewBeside(s.store, s.site, about(report.Before),
		about(report.After), report.Report))
}
