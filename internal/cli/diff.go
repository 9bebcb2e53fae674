package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/source"
)

// diffOptions are the flags of diff.
type diffOptions struct {
	site, text                 string
	addresses, open, show, all bool
}

func (a *app) diffCommand() *cobra.Command {
	var o diffOptions
	cmd := &cobra.Command{
		Use: "diff [BEFORE] [AFTER]", Short: "How two releases differ: pages, assets, rules, weight, and the commits between", Args: cobra.MaximumNArgs(2),
		Long: "Diff compares what two environments, entries, releases or commits publish. With one argument, production is the other; with none, it is the\\n" +
			"last commit here against production. Weight is that of a page with all that it loads, before it is encoded for transfer.",
		Example: "  orilla diff                                        what a deploy of the last commit would change\n" +
			"  orilla diff production preview/winter-times --open both in a page, side by side\n" +
			"  orilla diff production:11 production:12 --text /fares\n" +
			"  orilla diff production:11 production --addresses   for a cache in front: what to forget",
		ValidArgsFunction: a.completeReleases,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.diff(cmd.Context(), o, args)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&o.text, "text", "", "show the lines in which a page or a file differs, by its `PATH`")
	flags.BoolVar(&o.addresses, "addresses", false, "list the URLs whose answer differs")
	flags.BoolVar(&o.open, "open", false, "show both in a page on this machine, side by side, until Ctrl-C")
	flags.BoolVar(&o.show, "show", false, "with --open: print the address and open no browser")
	flags.BoolVar(&o.all, "all", false, "show every line, however many")
	flags.StringVar(&o.site, "site", "", "the site's name (default: as orilla.yaml says)")
	return a.jsonFlag(cmd)
}

// diffSide is one of the two that are compared.
type diffSide struct {
	Name    string `json:"name"` // what can be typed
	Release string `json:"release,omitempty"`
	Commit  string `json:"commit,omitempty"`
	Subject string `json:"subject,omitempty"`

	side difference.Side
}

// diffReport is what diff prints with --json.
type diffReport struct {
	Before  diffSide       `json:"before"`
	After   diffSide       `json:"after"`
	Commits []commitReport `json:"commits,omitempty"` // that after has and before does not, the newest first
	More    int            `json:"more_commits,omitempty"`
	difference.Report
}

// commitReport is one commit.
type commitReport struct {
	Commit  string `json:"commit"`
	Subject string `json:"subject"`
	Address string `json:"commit_address,omitempty"`
}

func (a *app) diff(ctx context.Context, o diffOptions, args []string) error {
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
		return fault.New(fault.Usage, "usage", "there is no Git repository here, so there is no last commit to compare with production").Then("orilla diff production:1 production")
	}
	var report diffReport
	if report.Before, err = a.diffSide(ctx, s, before); err != nil {
		return err
	}
	if report.After, err = a.diffSide(ctx, s, after); err != nil {
		return err
	}
	switch {
	case o.addresses:
		return a.diffAddresses(ctx, s, after, report)
	case o.text != "":
		return a.diffText(ctx, o.text, report)
	}
	busy := a.Busy("compare", "")
	report.Report, err = difference.Between(ctx, report.Before.side, report.After.side)
	busy.End()
	if err != nil {
		return err
	}
	if err := s.between(ctx, &report); err != nil {
		return err
	}
	switch {
	case o.open:
		return a.diffOpen(ctx, s, o, report)
	case a.JSON:
		return a.Document(report)
	}
	a.showDiff(report, o.all)
	return nil
}

// diffSide finds what was typed: an environment, an entry, a release, or a commit that was built.
func (a *app) diffSide(ctx context.Context, s *session, typed string) (diffSide, error) {
	entry, err := s.origin(ctx, typed)
	if err != nil && !errors.Is(err, errUnknownRelease) {
		return diffSide{}, err
	}
	side := diffSide{Name: typed}
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
			_, err = s.origin(ctx, typed)
			return side, err
		}
		subject, err = inspect.Commit(ctx, s.project, s.store, s.site, typed)
		side.Name, side.Commit, side.Subject = commit.Short(), commit.Hash, commit.Subject
	}
	if err != nil {
		return side, err
	}
	subject.Now = a.Now()
	side.side = subject.Side()
	return side, nil
}

// between finds the commits that the side after has and the one before does not.
func (s *session) between(ctx context.Context, report *diffReport) error {
	from, to := report.Before.Commit, report.After.Commit
	if s.project.Repository == nil || from == "" || to == "" || from == to {
		return nil
	}
	if _, err := s.project.Repository.Commit(ctx, from); err != nil {
		return ctx.Err() // of another clone
	}
	commits, count, err := s.project.Repository.Since(ctx, to, from, 20)
	if err != nil {
		return ctx.Err()
	}
	for _, commit := range commits {
		report.Commits = append(report.Commits, commitReport{commit.Hash, commit.Subject, s.project.ProductionConfig.CommitLink(commit.Hash)})
	}
	report.More = count - len(commits)
	return nil
}

// diffLines is how many lines of each part are shown, unless all are asked for.
const diffLines = 20

func (a *app) showDiff(report diffReport, all bool) {
	about := func(side diffSide) string {
		text := console.Strong(side.Name)
		if side.Commit != "" && source.Short(side.Commit) != side.Name {
			text += " " + console.Accent(source.Short(side.Commit))
		}
		return text + "  " + shorten(side.Subject, 50)
	}
	a.Print("%s %s", console.Faint("before"), about(report.Before))
	a.Print("%s  %s", console.Faint("after"), about(report.After))
	if report.Same() {
		a.Print("%s", console.Good("nothing that visitors get differs"))
	}
	limit := diffLines
	if all {
		limit = 1 << 30
	}
	a.diffCommits(report)
	a.diffItems("pages", report.Pages, limit, func(item difference.Item) string { return item.Address })
	a.diffItems("assets", report.Assets, limit, func(item difference.Item) string { return "/" + item.Path })
	a.diffRules(report, limit)
	a.diffWeights(report, limit)
	if len(report.Pages) > 0 {
		a.Note("%s orilla diff %s %s --open shows both side by side, --text %s the lines", console.Faint("next:"), report.Before.Name, report.After.Name, report.Pages[0].Address)
	}
}

func (a *app) diffCommits(report diffReport) {
	if len(report.Commits) == 0 {
		return
	}
	a.Print("\n%s", console.Strong(console.Count(int64(len(report.Commits)+report.More), "commit between", "commits between")))
	for _, commit := range report.Commits {
		a.Print("  %s  %s", a.Link(console.Accent(source.Short(commit.Commit)), commit.Address), commit.Subject)
	}
	if report.More > 0 {
		a.Print("  %s", console.Faint(fmt.Sprintf("and %d older", report.More)))
	}
}

// diffMark writes the kind of a change.
func diffMark(kind difference.Kind) string {
	switch kind {
	case difference.Added:
		return console.Good("+")
	case difference.Removed:
		return console.Bad("-")
	case difference.Moved:
		return console.Accent(">")
	}
	return console.Warn("~")
}

func (a *app) diffItems(what string, items []difference.Item, limit int, name func(difference.Item) string) {
	if len(items) == 0 {
		return
	}
	counts := map[difference.Kind]int{}
	for _, item := range items {
		counts[item.Kind]++
	}
	var parts []string
	for _, kind := range []difference.Kind{difference.Added, difference.Removed, difference.Moved, difference.Changed} {
		if counts[kind] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[kind], kind))
		}
	}
	a.Print("\n%s  %s", console.Strong(what), strings.Join(parts, ", "))
	rows := [][]string{}
	for i, item := range items {
		if i == limit {
			break
		}
		size, about := "", ""
		switch item.Kind {
		case difference.Added:
			size = console.Size(item.After)
		case difference.Removed:
			size = console.Size(item.Before)
		default:
			size, about = console.Size(item.After), grown(item.Before, item.After)
		}
		if item.Kind == difference.Moved {
			from := item
			from.Address, from.Path = answer.Address(item.From), item.From
			about = console.Faint(fmt.Sprintf("from %s, %d %% the same", name(from), item.Alike))
		}
		rows = append(rows, []string{"  " + diffMark(item.Kind), name(item), size, about})
	}
	a.Columns(rows, 2)
	a.moreLines(len(items), limit)
}

func (a *app) moreLines(n, limit int) {
	if n > limit {
		a.Print("  %s", console.Faint(fmt.Sprintf("and %d more; --all shows them", n-limit)))
	}
}

// grown writes by how much a size changed.
func grown(before, after int64) string {
	switch {
	case after > before:
		return console.Warn("+" + console.Size(after-before))
	case after < before:
		return console.Good("-" + console.Size(before-after))
	}
	return console.Faint("same size")
}

func (a *app) diffRules(report diffReport, limit int) {
	if len(report.Rules)+len(report.Settings) == 0 && !report.Ordered {
		return
	}
	a.Print("\n%s", console.Strong("rules and settings"))
	for i, rule := range report.Rules {
		if i == limit {
			break
		}
		a.Print("  %s %s", diffMark(rule.Kind), rule.Text)
	}
	a.moreLines(len(report.Rules), limit)
	if report.Ordered {
		a.Print("  %s the same rules, in another order", diffMark(difference.Changed))
	}
	for _, line := range report.Settings {
		a.Print("  %s %s", diffMark(difference.Changed), line)
	}
}

func (a *app) diffWeights(report diffReport, limit int) {
	if len(report.Weights) == 0 {
		return
	}
	about := "of pages with all that they load"
	if report.Partial {
		about += "; of those that changed themselves"
	}
	a.Print("\n%s  %s", console.Strong("weight"), console.Faint(about))
	var rows [][]string
	for i, weight := range report.Weights {
		if i == limit/2 {
			break
		}
		before := ""
		if weight.Before > 0 {
			before = console.Size(weight.Before)
		}
		rows = append(rows, []string{"   ", weight.Address, before, console.Faint("->"), console.Size(weight.After), grown(weight.Before, weight.After)})
	}
	a.Columns(rows, 2, 4)
	a.moreLines(len(report.Weights), limit/2)
}

// addressesReport is what diff --addresses prints with --json.
type addressesReport struct {
	Addresses []string `json:"addresses"`
	Rules     []string `json:"rules,omitempty"` // with placeholders, that only one side has
}

// diffAddresses lists the addresses whose answer differs, below those of the environment that after is, or of production.
func (a *app) diffAddresses(ctx context.Context, s *session, typed string, report diffReport) error {
	busy := a.Busy("compare", "addresses")
	paths, patterns, err := difference.Addresses(ctx, report.Before.side, report.After.side)
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
	address := a.addresses(ctx, s, environment, head.Document, nodesOf(ctx, s))[0]
	origin := strings.TrimSuffix(address, basePath(address))
	for i := range paths {
		paths[i] = origin + paths[i]
	}
	if a.JSON {
		return a.Document(addressesReport{Addresses: append([]string{}, paths...), Rules: patterns})
	}
	for _, path := range paths {
		a.Print("%s", path)
	}
	for _, pattern := range patterns {
		a.Note("%s %s", console.Faint("and whatever this rule answers:"), pattern)
	}
	return nil
}

// textReport is what diff --text prints with --json.
type textReport struct {
	Before string   `json:"before"` // the path on that side
	After  string   `json:"after"`
	Lines  []string `json:"lines"`
}

func (a *app) diffText(ctx context.Context, typed string, report diffReport) error {
	from, err := diffFile(ctx, report.Before.side, typed)
	if err != nil {
		return err
	}
	to, err := diffFile(ctx, report.After.side, typed)
	if err != nil {
		return err
	}
	if from == "" {
		from = to
	}
	if to == "" {
		to = from
	}
	text, err := difference.Text(ctx, report.Before.side, report.After.side, from, to)
	switch {
	case errors.Is(err, difference.ErrNowhere):
		return fault.New(fault.Usage, "no-file", "neither side has %q", typed).Then("orilla diff %s %s lists what differs", report.Before.Name, report.After.Name)
	case errors.Is(err, difference.ErrBinary), errors.Is(err, difference.ErrLarge):
		return fault.New(fault.Usage, "no-text", "%s %s", to, err).Then("orilla diff %s %s tells its sizes", report.Before.Name, report.After.Name)
	case err != nil:
		return err
	}
	if a.JSON {
		lines := []string{}
		for _, line := range text {
			lines = append(lines, strings.TrimSuffix(line, "\n"))
		}
		return a.Document(textReport{from, to, lines})
	}
	if len(text) == 0 {
		a.Note("%s is the same on both sides", to)
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

// diffFile finds the file that a path means on one side: that file, or what the address answers with; "" for none.
func diffFile(ctx context.Context, side difference.Side, typed string) (string, error) {
	if _, ok, err := side.Site.Files.Lookup(ctx, strings.TrimPrefix(typed, "/")); ok || err != nil {
		return strings.TrimPrefix(typed, "/"), err
	}
	path, query, _ := strings.Cut(typed, "?")
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	found, err := answer.Decide(ctx, answer.Request{Method: "GET", Path: path, Query: query, Environment: answer.Production, Scheme: "https", Now: side.Now}, side.Site)
	if err != nil || found.File == nil || found.Status != 200 {
		return "", err
	}
	return found.File.Path, nil
}

// diffOpen shows both sides in a page until the context ends.
func (a *app) diffOpen(ctx context.Context, s *session, o diffOptions, report diffReport) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	about := func(side diffSide) devserver.BesideSide {
		text := side.Subject
		if side.Commit != "" && source.Short(side.Commit) != side.Name {
			text = source.Short(side.Commit) + "  " + text
		}
		return devserver.BesideSide{Label: side.Name, About: text, Side: side.side}
	}
	address := fmt.Sprintf("http://localhost:%d/", listener.Addr().(*net.TCPAddr).Port)
	a.Print("%s", console.Accent(address))
	a.Note("%s", console.Faint(report.Before.Name+" beside "+report.After.Name+"; Ctrl-C ends it"))
	if !o.show {
		if err := openBrowser(ctx, address); err != nil {
			a.Note("%s", console.Faint("no browser could be started; open the address yourself"))
		}
	}
	return httpanswer.Serve(ctx, listener, devserver.NewBeside(s.store, s.site, about(report.Before), about(report.After), report.Report))
}
