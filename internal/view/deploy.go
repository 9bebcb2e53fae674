package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// ReportPromoted tells how what is promoted differs from
// what was live, and what was looked at.
func ReportPromoted(c *console.Console, result *deploy.Release) {
	text := console.Count(result.Files, "file", "files") + ", " + console.Size(result.Bytes)
	switch changes := result.Changes; {
	case changes.First:
	case changes.Added+changes.Changed+changes.Removed == 0:
		text += "; identical to the live release"
	default:
		text += "; " + Changed(changes)
	}

	c.Row(c.Err, "files", text+"; nothing built or sent")
	if n := result.Rules.Expectations; n > 0 {
		c.Row(c.Err, "rules", console.Good(console.Count(int64(n), "expectation holds", "expectations hold")))
	}
	reportFindings(c, result)
}

// buildText says what the build of a deploy was: run, found by its key, or kept
// because only rules changed.
func buildText(c *console.Console, plan *site.Plan, result *deploy.Release) string {
	took := phases(result, "checkout", "prepare", "step", "unpack")
	switch {
	case result.Reused:
		return "reused an earlier build, from " + c.Age(result.Made.Build.Finished) +
			builtOf(plan, result.Made.Build)
	case result.Kept:
		return "reused the output of the last try"
	case plan.Origin.Source == journal.FromOutput && took == 0, len(result.Made.Build.Steps) == 0 &&
		took == 0:
		return "no build: the files are ready"
	}

	text := console.Took(took) + "  " + console.Count(int64(len(result.Made.Build.Steps)), "step", "steps")
	if result.KeptDependencies {
		text += "; dependencies kept"
	}
	return text
}

// HintEdge says, where no edge node is running, how to see what is live here.
func HintEdge(c *console.Console, nodes []edge.Presence) {
	if len(nodes) == 0 {
		c.Hint("next:", "no edge node is running; to serve it on this machine: orilla edge")
	}
}

// hintFirst says after a first deploy, where no edge node is running, that nobody
// can open it yet, and the two ways on: a node here, or one on a server.
func hintFirst(c *console.Console) {
	c.Note("%s", console.Warn("No edge node is running on this store, so nobody can open it yet."))
	c.Hint("next:", "serve it on this machine: orilla edge")
	c.Hint("next:", "or set up a node on a server: orilla help edge-nodes")
}

// NewDeployReport makes the JSON document of a deploy. What only holds once it
// is live is added by whoever put it there.
func NewDeployReport(plan *site.Plan, result *deploy.Release) DeployReport {
	report := DeployReport{
		Site: plan.Site, Source: string(plan.Origin.Source), Commit: plan.Origin.Commit,
		Branch:  plan.Origin.Branch,
		Release: "r-" + result.ID.String(), Build: result.Made.Build.Name(), Reused: result.Reused,
		Files: result.Files, Bytes: result.Bytes, NewFiles: result.NewFiles, NewBytes: result.NewBytes,
		Added: result.Changes.Added, Changed: result.Changes.Changed, Removed: result.Changes.Removed,
		Milliseconds: map[string]int64{},
	}

	if len(result.Rules.Rules) > 0 {
		report.Rules = map[string]int{}
	}
	for verb, n := range result.Rules.Rules {
		report.Rules[string(verb)] = n
	}

	report.Expectations, report.Findings = result.Rules.Expectations, result.Findings
	for _, timing := range result.Phases() {
		report.Milliseconds[timing.Phase] += timing.Took.Milliseconds()
		if timing.Phase == "prepare" || timing.Phase == "step" {
			report.Milliseconds["build"] += timing.Took.Milliseconds()
		}
	}

	if how := result.Made.Build.Untrusted; how != nil {
		report.Trust, report.Isolation, report.Network = "untrusted", how.Isolation, how.Network
	}
	if result.Number > 0 {
		report.Run = fmt.Sprintf("build:%d", result.Number)
	}
	return report
}

// reportFindings counts what was found in what changes, and shows what keeps
// visitors from getting lost.
func reportFindings(c *console.Console, result *deploy.Release) {
	if len(result.Findings) == 0 {
		return
	}
	c.Row(c.Err, "check", CountFindings(result.Findings)+console.Faint(" (see orilla check)"))
	shown := 0
	for _, f := range result.Findings {
		if f.Code != "address-lost" {
			continue
		}
		if shown++; shown > 5 {
			break
		}
		c.Row(c.Err, "", f.What+console.Faint("; to redirect visitors: ")+f.Next)
	}
}

// ReportRelease tells how the release came to be: in a
// build with a number, or after another one.
func ReportRelease(c *console.Console, plan *site.Plan, result *deploy.Release) {
	held := ""
	if result.Made.Build.Untrusted != nil {
		held = "  " + trustText(trustRow(result.Made.Build.Untrusted))
	}
	c.Row(c.Err, "build", buildText(c, plan, result)+buildLabel(result.Number)+held)
	if text := phaseText(result); text != "" {
		c.Row(c.Err, "", console.Faint(text))
	}

	changes := result.Changes
	defer func() {
		text := rulesText(result.Rules)
		if result.RulesChanged && text == "" {
			text = "none any more"
		}
		if result.RulesChanged {
			text += console.Accent("; changed")
		}

		if text != "" {
			c.Row(c.Err, "rules", text)
		}
		reportFindings(c, result)
	}()

	text := console.Count(result.Files, "file", "files") + ", " + console.Size(result.Bytes)
	switch {
	case changes.First:
	case changes.Added+changes.Changed+changes.Removed == 0:
		text += "; identical to the live release"
	default:
		text += fmt.Sprintf("; %s", Changed(changes))
	}

	if result.NewFiles == 0 {
		text += "; nothing new to send"
	} else {
		text += fmt.Sprintf("; %s, %s", console.Count(result.NewFiles, "new file", "new files"),
			console.Size(result.NewBytes))
		if result.Trial {
			text += " to send"
		} else {
			text += " sent in " + console.Took(phases(result, "scan", "upload", "commit"))
		}
	}

	c.Row(c.Err, "files", text)
	if n := len(result.LeftOut); n > 0 && result.Trial {
		for i, left := range result.LeftOut {
			c.Row(c.Err, console.Label("left out", i), left.Path+console.Faint("  "+left.Why))
		}
	} else if n > 0 {
		shown := result.LeftOut[0].Path
		if n > 1 {
			shown += fmt.Sprintf(" and %d more", n-1)
		}
		c.Row(c.Err, "", console.Faint("left out: "+shown+" (see orilla files)"))
	}
}

// mostDifferences is how many changed files a dry run lists.
const mostDifferences = 50

// ReportDry tells what a deploy would put live, and which files would change. done
// is what was activated on a store that forgets.
func ReportDry(c *console.Console, result *deploy.Release, live *deploy.Activation) {
	for i, change := range result.Differences {
		if i == mostDifferences {
			c.Row(c.Err, "", fmt.Sprintf("and %d more", len(result.Differences)-i))
			break
		}
		sign := console.Warn("changed  ")
		switch {
		case change.Before == nil:
			sign = console.Good("added    ")
		case change.After == nil:
			sign = console.Bad("removed  ")
		}
		c.Row(c.Err, console.Label("changes", i), sign+change.Path)
	}

	before, text := live.Before, "nothing: it is already live"
	switch {
	case live.Same:
	case before == nil || before.Release.IsZero():
		text = result.ID.Short() + ", the first release"
	default:
		text = result.ID.Short() + " in place of " + before.Release.Short() + " (" + before.Label() + ")"
	}
	c.Row(c.Err, "would be", text)
}

// buildLabel is the number of a build behind other text, "" for a deploy that
// ran none.
func buildLabel(number int64) string {
	if number == 0 {
		return ""
	}
	return console.Faint(fmt.Sprintf("  build:%d", number))
}

// builtOf says of which commit a build was that another
// one's release comes from.
func builtOf(plan *site.Plan, build builds.Record) string {
	if build.Commit == "" || build.Commit == plan.Origin.Commit {
		return ""
	}
	text := ", of " + source.Short(build.Commit)
	if build.Branch != "" && build.Branch != plan.Origin.Branch {
		text += " on " + build.Branch
	}
	return text
}

// Changed says how many files a release has more, less or otherwise than the
// one before; "" if none.
func Changed(c deploy.Changes) string {
	var parts []string
	for _, part := range []struct {
		n    int
		what string
	}{{c.Added, "added"}, {c.Changed, "changed"}, {c.Removed, "removed"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.what))
		}
	}
	return strings.Join(parts, ", ")
}

// CountFindings is "3 warnings: 2 missing-page, 1 no-icon", the codes in the
// order in which they were found.
func CountFindings(found finding.List) string {
	var codes []string
	counts := map[string]int{}
	for _, f := range found {
		if counts[f.Code]++; counts[f.Code] == 1 {
			codes = append(codes, f.Code)
		}
	}

	for i, code := range codes {
		codes[i] = fmt.Sprintf("%d %s", counts[code], code)
	}
	return console.Warn(console.Count(int64(len(found)), "warning", "warnings")) + ": " + strings.Join(codes,
		", ")
}

// DeployReport is what deploy and build print with --json.
type DeployReport struct {
	Site         string                `json:"site"`
	Environment  string                `json:"environment,omitempty"`
	Source       string                `json:"source"`
	Commit       string                `json:"commit,omitempty"`
	Branch       string                `json:"branch,omitempty"`
	DryRun       bool                  `json:"dry_run,omitempty"`
	Release      string                `json:"release,omitempty"`
	Entry        string                `json:"entry,omitempty"`
	Same         bool                  `json:"same,omitempty"`  // it was live already, so nothing was written
	Build        string                `json:"build,omitempty"` // the name of its record
	Run          string                `json:"run,omitempty"`   // its number, if anything was built
	Reused       bool                  `json:"reused,omitempty"`
	Files        int64                 `json:"files"`
	Bytes        int64                 `json:"bytes"`
	NewFiles     int64                 `json:"new_files"`
	NewBytes     int64                 `json:"new_bytes"`
	Added        int                   `json:"added"`
	Changed      int                   `json:"changed"`
	Removed      int                   `json:"removed"`
	Rules        map[string]int        `json:"rules,omitempty"`    // how many of each verb
	Findings     []finding.Finding     `json:"findings,omitempty"` // in what changes
	Expectations int                   `json:"expectations,omitempty"`
	Addresses    []string              `json:"addresses,omitempty"`
	Expires      *time.Time            `json:"expires,omitempty"`
	Outcome      *environments.Outcome `json:"outcome,omitempty"` // of what it was waited for
	ReleaseURL   string                `json:"release_address,omitempty"`
	EdgeNodes    int                   `json:"edge_nodes"`
	EdgeServing  int                   `json:"edge_serving"`
	Nodes        []NodeReport          `json:"nodes,omitempty"` // all of the store, as they answered
	Trust        string                `json:"trust,omitempty"` // as in builds, of an untrusted build
	Isolation    string                `json:"isolation,omitempty"`
	Network      string                `json:"network,omitempty"`

	Milliseconds map[string]int64 `json:"milliseconds,omitempty"` // by phase
}

// EnvironmentArgument is what a command needs behind it to mean an environment.
// Production is what commands mean without one, so proposals stay short.
func EnvironmentArgument(environment string) string {
	if environment == "production" {
		return ""
	}
	return " " + journal.DisplayName(environment)
}

// nouns are what several rules of a verb are called.
var nouns = map[rules.Verb][2]string{
	rules.Redirect: {"redirect", "redirects"}, rules.Rewrite: {"rewrite", "rewrites"}, rules.Proxy: {"proxy",
		"proxies"}, rules.Gone: {"gone", "gone"},
	rules.Fallback: {"fallback", "fallbacks"}, rules.Missing: {"not-found page",
		"not-found pages"},
	rules.Header: {"header", "headers"}, rules.Withhold: {"withheld", "withheld"},
}

// phaseText tells how long each part of a build took, and
// the change against the build before.
func phaseText(result *deploy.Release) string {
	var parts []string
	if phases(result, "prepare", "step") == 0 {
		return ""
	}
	for _, timing := range result.Phases() {
		name := timing.Phase
		if name == "step" || name == "prepare" {
			name = Shorten(timing.What, 28)
		} else if !slices.Contains([]string{"wait", "checkout", "scan", "upload"}, name) {
			continue // small, or told elsewhere
		}

		text := name + " " + console.Took(timing.Took)
		for _, phase := range result.Earlier {
			if phase.Name == timing.Phase && (phase.What == "" || phase.What == timing.What) {
				text += Against(timing.Took, time.Duration(phase.Milliseconds)*time.Millisecond)
				break
			}
		}
		parts = append(parts, text)
	}

	return strings.Join(parts, ", ")
}

// phases adds up how long some phases took.
func phases(result *deploy.Release, names ...string) time.Duration {
	took := time.Duration(0)
	for _, timing := range result.Phases() {
		if slices.Contains(names, timing.Phase) {
			took += timing.Took
		}
	}
	return took
}

// ReleaseAddress is the address of one release at a local edge node. Names
// below .localhost lead to the machine itself (RFC 6761, section 6.3), so it
// needs no entry anywhere.
func ReleaseAddress(site, id, port string) string {
	return "http://" + id[:10] + ".release." + site + ".localhost:" + port + "/"
}

// rulesText counts the rules of a release by kind.
func rulesText(counts inspect.RuleCounts) string {
	var parts []string
	for _, verb := range rules.Verbs() {
		if n := counts.Rules[verb]; n > 0 {
			parts = append(parts, console.Count(int64(n), nouns[verb][0], nouns[verb][1]))
		}
	}

	text := strings.Join(parts, ", ")
	if counts.Expectations > 0 {
		text += "; " + console.Good(console.Count(int64(counts.Expectations), "expectation holds",
			"expectations hold"))
	}
	return strings.TrimPrefix(text, "; ")
}

// Landed is a release that is live, and what is known of where.
type Landed struct {
	Plan      *site.Plan
	Release   *deploy.Release
	Live      *deploy.Activation
	Outcome   *environments.Outcome // of verifying it; nil if nothing was verified
	Addresses []string              // where the environment answers, at least one; the canonical one first
	Flip                            // how far it has got
	Took      time.Duration         // from the activation until they do; 0 for unknown
	Total     time.Duration
}

// address is the release's own, at the nearest edge node.
func (l Landed) address() string {
	return ReleaseAddress(l.Plan.Site, l.Release.ID.String(), NearbyPort(l.Nodes))
}

// replaces reports whether another release was live before.
func (l Landed) replaces() bool {
	before := l.Live.Before
	return !l.Live.Same && before != nil && !before.Release.IsZero() && before.Release != l.Release.ID
}

// Report is what deploy and promote print with --json.
func (l Landed) Report() DeployReport {
	entry := l.Live.Entry
	report := NewDeployReport(l.Plan, l.Release)
	report.Same, report.Outcome, report.Expires = l.Live.Same, l.Outcome, entry.Expires
	report.Environment, report.Entry = journal.DisplayName(entry.Environment), entry.Label()
	report.Addresses, report.ReleaseURL = l.Addresses, l.address()
	report.EdgeNodes, report.EdgeServing, report.Nodes = len(l.Nodes), l.Serving, l.Each
	report.Milliseconds["activate"] = l.Took.Milliseconds()
	report.Milliseconds["total"] = l.Total.Milliseconds()
	return report
}

// Outputs are what a CI system is told.
func (l Landed) Outputs() OutputValues {
	entry, before := l.Live.Entry, l.Live.Before
	outcome, why := OutcomeLive, ""
	if l.Live.Same {
		outcome, why = OutcomeUnchanged, "it is already live"
	}
	return OutputValues{
		Outcome: outcome, Why: why, URL: l.Addresses[0], ReleaseURL: l.address(),
		Release:     l.Release.ID.Short(),
		Environment: journal.DisplayName(entry.Environment), Entry: entry.Label(), Commit: entry.Commit,
		Subject: entry.Subject, Reused: l.Release.Reused, Took: l.Total,
		Changed: !l.Live.Same && (before == nil || before.Release != l.Release.ID),
	}
}

// PrintLive tells what is live, where it can be seen,
// until when, and how to undo it.
func PrintLive(c *console.Console, l Landed) {
	entry := l.Live.Entry
	name := journal.DisplayName(entry.Environment)
	if l.Live.Same {
		c.Row(c.Err, "live", console.Good(entry.Label())+" is already live, "+c.Age(entry.When)+
			"; nothing changed"+console.Faint("  (publish again with --again)"))
	} else {
		c.Row(c.Err, "live", console.Good(entry.Label())+l.Text(l.Took))
	}
	l.Print(c)

	for _, address := range l.Addresses {
		c.Print("%s", console.Accent(address))
	}
	c.Note("%s %s", console.Faint("this release:"), l.address())

	if ends := entry.Expires; ends != nil {
		extend := "orilla preview extend " + strings.TrimPrefix(name, "preview/")
		c.Note("%s %s, %s; extend: %s", console.Faint("ends"), c.Until(*ends), Moment(*ends),
			c.Command(extend))
	}
	if entry.Frozen != nil {
		c.Note("%s %s", console.Warn("still frozen: automatic deploys wait until"),
			c.Command("orilla thaw "+name))
	}

	if l.replaces() {
		c.Hint("undo:", "orilla rollback"+EnvironmentArgument(entry.Environment))
	}
	if len(l.Nodes) == 0 && l.Live.Before == nil {
		hintFirst(c)
		return
	}
	HintEdge(c, l.Nodes)
}
