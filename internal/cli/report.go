package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// reporter shows a run while it goes on.
type reporter struct {
	app   *app
	phase string
	began time.Time // the phase

	streamed int // bytes of what steps print
	cut      bool

	mutex    sync.Mutex // Uploaded is called from several goroutines
	progress *console.Progress
}

// Begin implements pipeline.Reporter.
func (r *reporter) Begin(phase, what string) {
	r.end()
	r.phase, r.began = phase, time.Now()
	if phase != "upload" {
		r.progress = r.app.Busy(phase, what)
	}
}

// Line implements pipeline.Reporter: the step's output folds into the progress line; without a terminal it streams.
func (r *reporter) Line(text string) {
	if r.app.ErrTerm {
		r.progress.Text(text)
		return
	}
	if r.streamed += len(text) + 5; r.streamed <= maxStreamed {
		r.app.Note("  | %s", text)
	} else if !r.cut {
		r.cut = true
		r.app.Note("  | %s", "... it prints over "+console.Size(maxStreamed)+"; orilla log shows all of it")
	}
}

// maxStreamed is how many bytes of what steps print are streamed.
const maxStreamed = 4_000_000

// Step implements pipeline.Reporter.
func (r *reporter) Step(step builds.Step) {
	if !r.app.ErrTerm {
		r.app.Note("  step %s: %s, status %d", console.Took(time.Duration(step.Milliseconds)*time.Millisecond), step.Command, step.Exit)
	}
}

// slowUpload is after what time an upload shows how far it is.
const slowUpload = 400 * time.Millisecond

// Uploaded implements pipeline.Reporter.
func (r *reporter) Uploaded(done publish.Progress, files int, bytes int64) {
	if r.phase != "upload" || !r.app.ErrTerm || time.Since(r.began) < slowUpload {
		return
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.progress == nil {
		r.progress = r.app.Bytes("upload", max(bytes, 1))
	}
	r.progress.Text(fmt.Sprintf("%d of %d files, %d new", done.Files, files, done.NewFiles))
	r.progress.At(done.Bytes)
}

// Notice implements pipeline.Reporter.
func (r *reporter) Notice(notice fault.Notice) {
	r.end()
	r.app.Notice(notice)
}

func (r *reporter) end() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.progress != nil {
		r.progress.End()
		r.progress = nil
	}
}

// deployReport is what deploy and build print with --json.
type deployReport struct {
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
	Trust        string                `json:"trust,omitempty"` // as in builds, of an untrusted build
	Isolation    string                `json:"isolation,omitempty"`
	Network      string                `json:"network,omitempty"`

	Milliseconds map[string]int64 `json:"milliseconds,omitempty"` // by phase
}

func (a *app) report(plan *site.Plan, result *deploy.Release) deployReport {
	report := deployReport{
		Site: plan.Site, Source: string(plan.Origin.Source), Commit: plan.Origin.Commit, Branch: plan.Origin.Branch,
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

// nouns are what several rules of a verb are called.
var nouns = map[rules.Verb][2]string{
	rules.Redirect: {"redirect", "redirects"}, rules.Rewrite: {"rewrite", "rewrites"}, rules.Proxy: {"proxy", "proxies"}, rules.Gone: {"gone", "gone"},
	rules.Fallback: {"fallback", "fallbacks"}, rules.Missing: {"page for what is missing", "pages for what is missing"},
	rules.Header: {"header", "headers"}, rules.Withhold: {"withheld", "withheld"},
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
		text += "; " + console.Good(console.Count(int64(counts.Expectations), "expectation holds", "expectations hold"))
	}
	return strings.TrimPrefix(text, "; ")
}

// builtOf says of which commit a build was that another one's release comes from.
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

func buildLabel(number int64) string {
	if number == 0 {
		return ""
	}
	return console.Faint(fmt.Sprintf("  build:%d", number))
}

// phaseText tells how long each part of a build took, and the change against the build before.
func phaseText(result *deploy.Release) string {
	var parts []string
	if phases(result, "prepare", "step") == 0 {
		return ""
	}
	for _, timing := range result.Phases() {
		name := timing.Phase
		if name == "step" || name == "prepare" {
			name = shorten(timing.What, 28)
		} else if !slices.Contains([]string{"wait", "checkout", "scan", "upload"}, name) {
			continue // small, or told elsewhere
		}
		text := name + " " + console.Took(timing.Took)
		for _, phase := range result.Earlier {
			if phase.Name == timing.Phase && (phase.What == "" || phase.What == timing.What) {
				text += against(timing.Took, time.Duration(phase.Milliseconds)*time.Millisecond)
				break
			}
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", ")
}

// reportRelease tells how the release came to be: in a build with a number, or after another one.
func (a *app) reportRelease(plan *site.Plan, result *deploy.Release) {
	held := ""
	if result.Made.Build.Untrusted != nil {
		held = "  " + trustText(trustRow(result.Made.Build.Untrusted))
	}
	a.Row(a.Err, "build", a.buildText(plan, result)+buildLabel(result.Number)+held)
	if text := phaseText(result); text != "" {
		a.Row(a.Err, "", console.Faint(text))
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
			a.Row(a.Err, "rules", text)
		}
		a.reportFindings(result)
	}()
	text := console.Count(result.Files, "file", "files") + ", " + console.Size(result.Bytes)
	switch {
	case changes.First:
	case changes.Added+changes.Changed+changes.Removed == 0:
		text += "; the same as those that are live"
	default:
		text += fmt.Sprintf("; %s", changed(changes))
	}
	if result.NewFiles == 0 {
		text += "; nothing to send"
	} else {
		text += fmt.Sprintf("; %s, %s sent in %s", console.Count(result.NewFiles, "new file", "new files"), console.Size(result.NewBytes),
			console.Took(phases(result, "scan", "upload", "commit")))
	}
	a.Row(a.Err, "files", text)
	if n := len(result.LeftOut); n > 0 {
		shown := result.LeftOut[0].Path
		if n > 1 {
			shown += fmt.Sprintf(" and %d more", n-1)
		}
		a.Row(a.Err, "", console.Faint("left out: "+shown+" (orilla files says why)"))
	}
}

// reportFindings counts what was found in what changes, and shows what keeps visitors from getting lost.
func (a *app) reportFindings(result *deploy.Release) {
	if len(result.Findings) == 0 {
		return
	}
	a.Row(a.Err, "check", countFindings(result.Findings)+console.Faint(" (orilla check shows them)"))
	shown := 0
	for _, f := range result.Findings {
		if f.Code != "address-lost" {
			continue
		}
		if shown++; shown > 5 {
			break
		}
		a.Row(a.Err, "", f.What+console.Faint("; to lead visitors on: ")+f.Next)
	}
}

// countFindings counts findings by their codes.
func countFindings(found finding.List) string {
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
	return console.Warn(console.Count(int64(len(found)), "warning", "warnings")) + ": " + strings.Join(codes, ", ")
}

func changed(c deploy.Changes) string {
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

func (a *app) buildText(plan *site.Plan, result *deploy.Release) string {
	took := phases(result, "checkout", "prepare", "step", "unpack")
	switch {
	case result.Reused:
		return "nothing to do: the same content was built " + a.Age(result.Made.Build.Finished) + builtOf(plan, result.Made.Build)
	case result.Kept:
		return "nothing to do: the output of the last try was kept"
	case plan.Origin.Source == journal.FromOutput && took == 0, len(result.Made.Build.Steps) == 0 && took == 0:
		return "nothing to do: the files are ready"
	}
	text := console.Took(took) + "  " + console.Count(int64(len(result.Made.Build.Steps)), "step", "steps")
	if result.KeptDependencies {
		text += "; dependencies kept"
	}
	return text
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

// reportBuilt tells the address of a release that is live nowhere.
func (a *app) reportBuilt(ctx context.Context, done deployed) error {
	plan, result := done.job.Plan, done.release
	nodes, _ := edge.Reached(ctx, done.job.Store, storage.KnownAhead(done.job.Store))
	address := releaseAddress(plan.Site, result.ID.String(), nearbyPort(nodes))
	if a.JSON {
		report := a.report(plan, result)
		report.ReleaseURL, report.EdgeNodes = address, len(nodes)
		return a.Document(report)
	}
	a.Row(a.Err, "release", console.Accent(result.ID.Short())+"  live nowhere")
	a.Print("%s", console.Accent(address))
	a.hintEdge(nodes)
	return nil
}

func releaseAddress(site, id, port string) string {
	return "http://" + id[:10] + ".release." + site + ".localhost:" + port + "/"
}

// reportLive tells what is live, where, and how to undo it.
func (a *app) reportLive(ctx context.Context, o *deployOptions, done deployed, flip, started time.Time) error {
	plan, result, live := done.job.Plan, done.release, done.live
	s := &session{project: plan.Project, store: done.job.Store, site: plan.Site}
	serving, nodes := flipped(ctx, s, live.Entry)
	took := time.Since(flip)
	if len(done.job.WaitFor) > 0 {
		took = 0 // what it was waited for took most of it
	}
	addresses := a.addresses(ctx, s, live.Entry.Environment, live.Entry.Document, nodes)
	if a.JSON {
		report := a.report(plan, result)
		report.Same = live.Same
		report.Environment, report.Entry = journal.DisplayName(live.Entry.Environment), live.Entry.Label()
		report.Addresses, report.ReleaseURL = addresses, releaseAddress(s.site, result.ID.String(), nearbyPort(nodes))
		report.EdgeNodes, report.EdgeServing, report.Expires = len(nodes), serving, live.Entry.Expires
		if done.verified != nil {
			report.Outcome = &done.verified.Outcome
		}
		report.Milliseconds["activate"], report.Milliseconds["total"] = took.Milliseconds(), time.Since(started).Milliseconds()
		if err := a.Document(report); err != nil {
			return err
		}
	} else {
		if live.Same {
			a.Row(a.Err, "live", console.Good(live.Entry.Label())+" already live, "+a.Age(live.Entry.When)+"; nothing changed"+console.Faint("  (--again publishes it again)"))
		} else {
			a.Row(a.Err, "live", console.Good(live.Entry.Label())+a.where(serving, nodes, took))
		}
		for _, address := range addresses {
			a.Print("%s", console.Accent(address))
		}
		a.Note("%s %s", console.Faint("this release:"), releaseAddress(s.site, result.ID.String(), nearbyPort(nodes)))
		if ends := live.Entry.Expires; ends != nil {
			a.Note("%s %s, %s; %s", console.Faint("ends"), a.Until(*ends), moment(*ends), console.Accent("orilla preview extend "+strings.TrimPrefix(journal.DisplayName(live.Entry.Environment), "preview/")))
		}
		if live.Entry.Frozen != nil {
			a.Note("%s", console.Warn("still frozen: automatic deploys are refused until orilla thaw "+journal.DisplayName(live.Entry.Environment)))
		}
		if !live.Same && live.Before != nil && !live.Before.Release.IsZero() && live.Before.Release != result.ID {
			a.Note("%s orilla rollback%s", console.Faint("undo:"), environmentArgument(live.Entry.Environment))
		}
		a.hintEdge(nodes)
	}
	values := outputValues{URL: addresses[0], ReleaseURL: releaseAddress(s.site, result.ID.String(), nearbyPort(nodes)), Release: result.ID.Short(),
		Environment: journal.DisplayName(live.Entry.Environment), Entry: live.Entry.Label(), Commit: live.Entry.Commit, Subject: live.Entry.Subject,
		Changed: !live.Same && (live.Before == nil || live.Before.Release != result.ID), Reused: result.Reused, Took: time.Since(started)}
	if err := o.ciOptions.write(values); err != nil {
		return err
	}
	if o.open && len(addresses) > 0 {
		return openBrowser(ctx, addresses[len(addresses)-1])
	}
	return nil
}

func environmentArgument(environment string) string {
	if environment == "production" {
		return ""
	}
	return " " + journal.DisplayName(environment)
}

// where tells which edge nodes serve an entry, and after what time; 0 for not.
func (a *app) where(serving int, nodes []edge.Presence, took time.Duration) string {
	in := ""
	if took > 0 {
		in = " in " + console.Took(took)
	}
	switch {
	case len(nodes) == 0:
		return in
	case serving == len(nodes) && serving == 1:
		return " at the edge node" + in
	case serving == len(nodes):
		return fmt.Sprintf(" at all %d edge nodes%s", serving, in)
	}
	return fmt.Sprintf(" at %d of %d edge nodes; the others will follow", serving, len(nodes))
}

// hintEdge says how to look at it when no edge node runs.
func (a *app) hintEdge(nodes []edge.Presence) {
	if len(nodes) == 0 {
		a.Note("%s orilla edge, to answer at that address: no edge node runs on this store", console.Accent("next:"))
	}
}

// live returns the addresses that an environment's document says; none without one.
func (s *session) live(ctx context.Context, document digest.Digest) []string {
	if document.IsZero() {
		return nil
	}
	data, err := release.Object(ctx, s.store, document)
	if err != nil {
		return nil
	}
	content, err := journal.DecodeDocument(data)
	if err != nil {
		return nil
	}
	return content.Addresses
}

// later returns the addresses that orilla.yaml gives an environment and that are not live yet: the next deploy brings them.
func (s *session) later(environment string, live []string) (addresses []string) {
	if s.site != s.project.Site() {
		return nil
	}
	for _, address := range s.project.ProductionConfig.Document(environment).Addresses {
		if !slices.Contains(live, address) {
			addresses = append(addresses, address)
		}
	}
	return addresses
}

// addresses returns where an environment answers: as its document says, and on this machine.
func (a *app) addresses(ctx context.Context, s *session, environment string, document digest.Digest, nodes []edge.Presence) []string {
	planned := s.live(ctx, document)
	var addresses []string
	base := "/"
	if len(planned) > 0 {
		addresses = append(addresses, planned[0])
		base = basePath(planned[0])
	}
	return append(addresses, "http://"+edge.LocalName(s.site, environment)+":"+nearbyPort(nodes)+base)
}
