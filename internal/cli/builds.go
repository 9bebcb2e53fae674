package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/follow"
	"orilla.example/orilla/internal/source"
)

// buildRow is one build with --json.
type buildRow struct {
	Build        string         `json:"build,omitempty"` // build:41; none while it waits
	State        string         `json:"state"`           // "waiting", "running", "lost", or the outcome: "succeeded", "failed", "cancelled", "superseded", "abandoned"
	Branch       string         `json:"branch,omitempty"`
	Commit       string         `json:"commit,omitempty"`
	Subject      string         `json:"subject,omitempty"`
	Author       string         `json:"author,omitempty"`
	Who          string         `json:"who,omitempty"`
	Where        string         `json:"where,omitempty"`
	Cause        string         `json:"cause,omitempty"`
	When         *time.Time     `json:"when,omitempty"`
	Milliseconds int64          `json:"milliseconds,omitempty"`
	Phases       []builds.Phase `json:"phases,omitempty"`
	Key          string         `json:"key,omitempty"`
	Release      string         `json:"release,omitempty"`
	Entry        string         `json:"entry,omitempty"`
	Now          string         `json:"now,omitempty"` // what a running one does
	Why          string         `json:"why,omitempty"` // what it waits for, or what went wrong
	Sent         int64          `json:"sent,omitempty"`
	Trust        string         `json:"trust,omitempty"`     // of a commit that was built: "trusted", "untrusted"
	Isolation    string         `json:"isolation,omitempty"` // of an untrusted one: "none", "bubblewrap"
	Network      string         `json:"network,omitempty"`   // of an isolated one: "none", "outside"
}

func (a *app) buildsCommand() *cobra.Command {
	var site, branch string
	var limit int
	cmd := &cobra.Command{
		Use: "builds", Short: "What was built, is being built, and waits; how long each phase took", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.builds(cmd.Context(), site, branch, limit) },
	}
	cmd.Flags().StringVar(&site, "site", "", "the site's name (default: as orilla.yaml says)")
	cmd.Flags().StringVar(&branch, "branch", "", "only builds of this branch")
	cmd.Flags().IntVarP(&limit, "limit", "n", 12, "show the last `N` builds; 0 for all")
	cmd.RegisterFlagCompletionFunc("branch", a.completeBranches) //nolint:errcheck // the flag exists
	return a.jsonFlag(cmd)
}

func (s *session) runs() builds.Runs { return builds.Runs{Store: s.store, Site: s.site} }

// lastRuns returns the newest runs, of a branch if one is named.
func (s *session) lastRuns(ctx context.Context, branch string, limit int) ([]builds.Run, error) {
	last, err := s.runs().Last(ctx, s.hints(ctx)[journal.RunsHint])
	if err != nil {
		return nil, err
	}
	if branch == "" {
		found, err := s.runs().Back(ctx, last, limit, func(builds.Run) bool { return true })
		return found, err
	}
	var found []builds.Run
	_, err = s.runs().Back(ctx, last, 0, func(run builds.Run) bool {
		if run.Branch == branch {
			found = append(found, run)
		}
		return limit == 0 || len(found) < limit
	})
	return found, err
}

func (a *app) builds(ctx context.Context, site, branch string, limit int) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	rows := []buildRow{}
	followers, err := follow.Followers(ctx, s.store, s.site)
	if err != nil {
		return err
	}
	for _, follower := range followers {
		for _, waiting := range follower.Waiting {
			if branch == "" || branch == waiting.Branch {
				rows = append(rows, buildRow{State: "waiting", Branch: waiting.Branch, Commit: waiting.Commit, Subject: s.subject(ctx, waiting.Commit), Where: follower.Where, Why: waiting.Why})
			}
		}
	}
	running, err := build.List(ctx, s.store, s.site)
	if err != nil {
		return err
	}
	runs, err := s.lastRuns(ctx, branch, limit)
	if err != nil {
		return err
	}
	for _, run := range runs {
		row := a.describeRun(run)
		if at := slices.IndexFunc(running, func(r build.Running) bool { return r.Number == run.Number }); at >= 0 && run.Ended == nil {
			row.State, row.Now = "running", running[at].Now
			if running[at].Lost(a.Now()) {
				row.State, row.Why = "lost", "nothing was heard of it for a while; the next build of the same takes over"
			}
		}
		rows = append(rows, row)
	}
	if a.JSON {
		return a.Document(rows)
	}
	if len(rows) == 0 {
		a.Note("nothing of %s was built yet; orilla deploy builds a commit, orilla follow every one", s.site)
	} else {
		a.printBuilds(rows, runs)
	}
	if err := a.notePaused(ctx, s); err != nil {
		return err
	}
	for _, follower := range followers {
		a.Note("%s", console.Faint("followed by "+source.PersonName(follower.Who)+" on "+follower.Where+": "+follower.From))
	}
	return nil
}

// subject is the first line of a commit's message, as far as it is known here.
func (s *session) subject(ctx context.Context, commit string) string {
	if s.project.Repository != nil {
		if found, err := s.project.Repository.Commit(ctx, commit); err == nil {
			return found.Subject
		}
	}
	return ""
}

func (a *app) describeRun(run builds.Run) buildRow {
	row := buildRow{Build: run.Label(), State: "lost", Branch: run.Branch, Commit: run.Commit, Subject: run.Subject, Author: run.Author, Who: run.Who, Where: run.Where,
		Cause: run.Cause, When: &run.When, Key: run.Key, Milliseconds: a.Now().Sub(run.When).Milliseconds()}
	if run.Source == journal.FromCommit {
		row.Trust = "trusted"
	}
	if how := run.Untrusted; how != nil {
		held := trustRow(how)
		row.Trust, row.Isolation, row.Network = held.Trust, held.Isolation, held.Network
	}
	end := run.Ended
	if end == nil && row.Milliseconds < 5000 {
		row.State = "running" // it has just begun
		return row
	}
	if end == nil {
		row.Why = "it ended without a word"
		return row
	}
	row.State, row.Why, row.Phases, row.Sent, row.Milliseconds = string(end.Outcome), end.Problem, end.Phases, end.Sent, end.When.Sub(run.When).Milliseconds()
	if !end.Release.IsZero() {
		row.Release = end.Release.Short()
	}
	if end.Entry > 0 {
		row.Entry = fmt.Sprintf("%s:%d", journal.DisplayName(run.Environment), end.Entry)
	}
	return row
}

func (a *app) printBuilds(rows []buildRow, runs []builds.Run) {
	table := [][]string{{"BUILD", "STATE", "BRANCH", "COMMIT", "", "TOOK", "BEGAN", "LED TO"}}
	held := slices.ContainsFunc(rows, func(row buildRow) bool { return row.Trust == "untrusted" })
	if held { // where all are trusted there is nothing to say
		table[0] = slices.Insert(table[0], 2, "TRUST")
	}
	for _, row := range rows {
		state := map[string]string{"succeeded": console.Good(row.State), "failed": console.Bad(row.State), "running": console.Accent(row.State)}[row.State]
		if state == "" {
			state = console.Warn(row.State)
		}
		led := row.Entry
		if led == "" && row.Release != "" {
			led = row.Release
			if row.State != string(builds.Succeeded) || row.Why == "" {
				led += console.Faint(" live nowhere")
			}
		}
		if row.Why != "" {
			led = strings.TrimSpace(led + " " + console.Faint(row.Why))
		}
		if row.Now != "" {
			led = console.Faint(row.Now)
		}
		took, began := "", ""
		if row.When != nil {
			took, began = console.Took(time.Duration(row.Milliseconds)*time.Millisecond), a.Age(*row.When)
		}
		commit := source.Short(row.Commit)
		if commit == "" {
			commit = "files"
		}
		line := []string{console.Accent(row.Build), state, shorten(row.Branch, 24), commit, shorten(row.Subject, 34), took, began, led}
		if held {
			line = slices.Insert(line, 2, trustText(row))
		}
		table = append(table, line)
	}
	took := slices.Index(table[0], "TOOK")
	a.Table(table, took)
	a.printPhases(runs)
}

// trustRow is what a row says of an untrusted build.
func trustRow(how *builds.Untrusted) buildRow {
	return buildRow{Trust: "untrusted", Isolation: how.Isolation, Network: how.Network}
}

// trustText says in few words how a build was held.
func trustText(row buildRow) string {
	switch {
	case row.Trust != "untrusted":
		return console.Faint(row.Trust)
	case row.Isolation == builds.IsolationNone:
		return console.Warn("untrusted, not isolated")
	case row.Isolation == builds.IsolationNoSteps:
		return "untrusted, no steps"
	case row.Network == project.NetworkNone:
		return "isolated, no network"
	}
	return "isolated"
}

// drawnPhases are the phases that bars show, with what they are called; several that are short together.
var drawnPhases = []struct {
	title string
	names []string
	paint func(string) string
}{
	{"wait", []string{"wait"}, console.Faint}, {"checkout", []string{"checkout", "unpack"}, console.Accent}, {"prepare", []string{"prepare"}, console.Warn},
	{"steps", []string{"step"}, console.Good}, {"upload", []string{"scan", "upload", "rules", "check", "commit"}, console.Strong}, {"activate", []string{"activate"}, console.Strong},
}

// shownBars is of how many builds bars are drawn.
const shownBars = 6

// barWidth is how long the bar of the longest build is.
const barWidth = 48

// printPhases draws how long the phases of the last builds took, on one scale.
func (a *app) printPhases(runs []builds.Run) {
	var ended []builds.Run
	for _, run := range runs {
		if run.Ended != nil && len(run.Ended.Phases) > 0 && len(ended) < shownBars {
			ended = append(ended, run)
		}
	}
	if len(ended) == 0 {
		return
	}
	longest := time.Duration(1)
	for _, run := range ended {
		longest = max(longest, run.Ended.Took(builds.PhaseNames...))
	}
	a.Print("")
	rows := [][]string{{"BUILD", "TOOK", "PHASES"}}
	if a.OutTerm {
		legend := ""
		for i, phase := range drawnPhases {
			if i == len(drawnPhases)-1 { // in the colour of the one before
				legend = strings.TrimSpace(legend) + ", " + phase.title
				break
			}
			legend += phase.paint("━") + " " + phase.title + "  "
		}
		rows[0][2] = "PHASES  " + legend
	}
	for i, run := range ended {
		bar, words := "", []string{}
		for _, phase := range drawnPhases {
			took := run.Ended.Took(phase.names...)
			if took == 0 {
				continue
			}
			words = append(words, phase.title+" "+console.Took(took)+a.change(ended[i+1:], run, phase.names, took))
			if a.OutTerm {
				bar += phase.paint(strings.Repeat("━", max(1, int(took*barWidth/longest))))
			}
		}
		text := strings.Join(words, ", ")
		if a.OutTerm {
			rows = append(rows, []string{console.Accent(run.Label()), console.Took(run.Ended.Took(builds.PhaseNames...)), bar})
			rows = append(rows, []string{"", "", console.Faint(text)})
			continue
		}
		rows = append(rows, []string{run.Label(), console.Took(run.Ended.Took(builds.PhaseNames...)), text})
	}
	a.Table(rows, 1)
}

// change says how a phase differs from that of the build of the same branch before, where that is worth a word.
func (a *app) change(before []builds.Run, run builds.Run, names []string, took time.Duration) string {
	for _, other := range before {
		if other.Branch != run.Branch || other.Ended.Outcome != builds.Succeeded {
			continue
		}
		return against(took, other.Ended.Took(names...))
	}
	return ""
}

// against says how a duration differs from an earlier one, if by over a tenth of a second and a tenth of itself.
func against(took, earlier time.Duration) string {
	difference := took - earlier
	if earlier == 0 || difference.Abs() < 100*time.Millisecond || difference.Abs() < earlier/10 {
		return ""
	}
	if difference > 0 {
		return " (+" + console.Took(difference) + ")"
	}
	return " (-" + console.Took(-difference) + ")"
}

// run finds the build that was typed: build:41, 41, a branch or the beginning of a commit's hash; without anything the one that is being
// built, or the last one.
func (s *session) run(ctx context.Context, typed string) (builds.Run, error) {
	digits := strings.TrimPrefix(typed, "build:")
	if n, err := strconv.ParseInt(digits, 10, 64); err == nil && (typed != digits || len(digits) < 7) {
		run, err := s.runs().Get(ctx, n)
		if err != nil {
			return run, fault.New(fault.Usage, "no-build", "there is no build %s of %s", typed, s.site).Because(notFoundIsNoReason(err)).Then("orilla builds lists them")
		}
		return run, nil
	}
	last, err := s.runs().Last(ctx, 0)
	if err != nil {
		return builds.Run{}, err
	}
	var found *builds.Run
	_, err = s.runs().Back(ctx, last, 0, func(run builds.Run) bool {
		if found == nil && (typed == "" || run.Branch == typed || len(typed) >= 7 && strings.HasPrefix(run.Commit, typed)) {
			found = &run
		}
		return found == nil
	})
	if err != nil {
		return builds.Run{}, err
	}
	if found == nil && typed == "" {
		return builds.Run{}, fault.New(fault.Usage, "no-build", "nothing of %s was built yet", s.site).Then("orilla deploy builds a commit")
	}
	if found == nil {
		return builds.Run{}, fault.New(fault.Usage, "no-build", "no build of %s is called %q, and no branch or commit that was built", s.site, typed).Then("orilla builds lists them")
	}
	return *found, nil
}
