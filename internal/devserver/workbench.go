// Package devserver keeps a working tree served while it is worked on: it builds,
// watches, and shows what came of it, with the rules, fields and addresses that
// the edge will have.
//
//	files change -> wait until it is quiet -> build -> check -> reload the browsers
//	                                           |
//	                                           fails: the last good output stays, with a notice on top
//
// Three things are told from each other and never wait for one another: what is
// shown (content, kept where no build changes it), what is wrong (notes in open
// pages, each until the same is well again), and what a deploy would refuse (which
// takes longest, and is found out beside). A save is never lost: one that comes while
// a build runs is built after it, and only a build that starts itself is made to
// wait.
//
// Local serves an output, Front stands before a generator's own server, Beside
// shows two releases next to each other, and Bench builds and watches. The script
// that reloads pages is put into them after the answer was decided, so `orilla
// explain` and the browser agree.
package devserver

import (
	"context"
	"io"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/steps"
)

// Reporter is told what happens. Its methods are called
// from one goroutine at a time.
type Reporter interface {
	Building(why string)                // a build begins: "" for the first, AskedFor, or what changed
	Line(text string)                   // of what a step prints
	Built(took time.Duration)           // it ended well
	Shown(changed []string, ruled bool) // what is served is new: files that changed, and whether rules did
	// a deploy of what is shown would refuse this; none: it would not any more
	Refused(found finding.List)
	Failed(err error) // something went wrong, and the last good state goes on being served
	Notice(fault.Notice)
}

// Options say what is served, as which environment, and whether the bench
// builds it itself.
type Options struct {
	Project     *site.Project
	Folder      string            // a folder to serve in the place of the project's output; "" for that
	Build       bool              // run the project's steps, at the start and when a source changes
	OnlyRules   bool              // files come from elsewhere
	Keys        bool              // somebody may press r
	Environment string            // as shown, whose upstreams count
	Upstreams   map[string]string // that override those of the environment
	Report      Reporter
}

// Bench is a working tree being served.
type Bench struct {
	Options
	local     *Local
	last      Shown
	content   *content
	unshown   bool // what is shown is not the newest, or there is nothing yet
	builds    ownWork
	rebuild   chan string
	judgement judgement
}

// New returns a bench that shows what it has in local.
func New(options Options, local *Local) *Bench {
	return &Bench{Options: options, local: local, unshown: true, rebuild: make(chan string, 1),
		content: newContent(), judgement: judgement{verdicts: make(chan verdict), end: func() {}}}
}

// AskedFor is why a build begins that somebody asked for.
const AskedFor = "on request"

// Rebuild asks for a build now. It does not wait, and any number of calls
// before the build begins are one.
func (b *Bench) Rebuild() {
	select {
	case b.rebuild <- AskedFor:
	default:
	}
}

// output is the folder that is served.
func (b *Bench) output() string {
	if b.Folder != "" {
		return b.Folder
	}
	return site.Output(b.Project)
}

// steps reports whether there is anything to run before there is something to
// show.
func (b *Bench) steps() bool { return b.Build && len(b.Project.LocalConfig.Build.Run) > 0 }

// Run builds, shows, and follows changes until the context ends. ready is
// called when the first state is shown, or has failed.
func (b *Bench) Run(ctx context.Context, ready func()) {
	// Watching begins before the first build, so that what is saved during it
	// is not missed.
	watch := newWatch(b.Project.Root, skip(b.Project))
	defer watch.close()
	defer b.content.close()
	changes := watch.changes(ctx)
	var owned sync.WaitGroup
	defer owned.Wait()
	defer func() { b.judgement.end() }()
	if b.local.options.Front != nil {
		owned.Go(func() { b.local.options.Front.watch(ctx, b.local.Reload) })
	}
	b.make(ctx, "")
	ready()
	for {
		b.judge(ctx, &owned)
		select {
		case <-ctx.Done():
			return
		case why := <-b.rebuild:
			b.make(ctx, why)
		case <-b.builds.again:
			b.make(ctx, b.name(b.builds.why))
		case changed := <-changes:
			b.changed(ctx, changed)
		case v := <-b.judgement.verdicts:
			b.judged(v)
		}
	}
}

// environmentConfig is what the environment answers with of itself: as the file at hand says,
// else as the production branch does.
func environmentConfig(b *Bench) *answer.EnvironmentConfig {
	environment := journal.StoredName(b.Environment)
	for _, config := range []project.Config{b.Project.LocalConfig, b.Project.ProductionConfig} {
		if document := config.Document(environment); document.Settings != nil {
			return answer.EnvironmentConfigOf(document.Settings, document.SettingsPath)
		}
	}
	return nil
}

// changed does what a change asks for: rules and configuration are read again,
// sources are built, output is looked at.
func (b *Bench) changed(ctx context.Context, all changes) {
	paths := all.paths()
	file := filepath.Join(b.Project.Root, project.FileName)
	// What a change means depends on where it is: the configuration, a rules
	// file, the output, or anything else, which is a source.
	configured, ruled, outside := slices.Contains(paths, file), false, false
	build := b.Project.LocalConfig.Build
	if configured && !b.reload(ctx) {
		return
	}

	// Only if the steps are others: a new address needs no build.
	if configured && b.steps() && !reflect.DeepEqual(build, b.Project.LocalConfig.Build) {
		b.make(ctx, b.name(file))
		return
	}
	var sources []string
	rulesAt := rulesFiles(b)
	for _, path := range paths {
		switch {
		case path == file:
		case rulesAt[path]:
			ruled = true
		case b.inside(path):
			// Somebody else writes the output, a generator's own watcher for
			// example. After a failed build what lies there is half of
			// something.
			outside = !b.builds.broken
		default:
			sources = append(sources, path)
		}
	}

	if b.steps() {
		sources = b.sources(ctx, sources)
		now, wait := b.builds.due(sources, all)
		if len(now) > 0 {
			b.make(ctx, b.name(now[0]))
			return
		}
		if wait > 0 {
			noteLoop(ctx, b, b.builds.why, wait)
		}
	}

	if configured || ruled || outside {
		b.show(ctx)
	}
}

// name is a path as people write it: within the project, with slashes.
func (b *Bench) name(path string) string {
	if name, err := filepath.Rel(b.Project.Root, path); err == nil {
		return filepath.ToSlash(name)
	}
	return path
}

// rulesFiles are the files whose change changes rules, and needs no build.
func rulesFiles(b *Bench) map[string]bool {
	files := map[string]bool{}
	for _, file := range b.Project.LocalConfig.Rules {
		files[filepath.Join(site.Folder(b.Project), filepath.FromSlash(file))] = true
	}
	return files
}

// inside reports whether a path is in what is served.
func (b *Bench) inside(path string) bool {
	return !b.OnlyRules && (path == b.output() ||
		strings.HasPrefix(path, b.output()+string(filepath.Separator)))
}

// skip says which folders are not looked into: what packages bring, what is
// kept from build to build, hidden ones, and Orilla's own.
func skip(p *site.Project, own ...string) func(folder string) bool {
	// A store inside the project would start a build with every deploy.
	kept := append([]string{p.Places.Data, p.Places.Cache}, own...)
	for _, folder := range p.LocalConfig.Build.Keep {
		kept = append(kept, filepath.Join(site.Folder(p), filepath.FromSlash(folder)))
	}
	return func(folder string) bool {
		name := filepath.Base(folder)
		return name == "node_modules" || strings.HasPrefix(name, ".") && name != ".well-known" ||
			slices.Contains(kept, folder)
	}
}

// sources leaves out what no build begins for: what Git ignores.
func (b *Bench) sources(ctx context.Context, paths []string) []string {
	if b.Project.Repository == nil || len(paths) == 0 {
		return paths
	}
	// What Git ignores is made and not written.
	ignored := source.Ignored(ctx, b.Project.Repository, paths)
	return slices.DeleteFunc(slices.Clone(paths), func(path string) bool { return ignored[path] })
}

// noteLoop tells, once for each file, that builds start themselves.
func noteLoop(ctx context.Context, b *Bench, path string, wait time.Duration) {
	name := b.name(path)
	if !b.local.once("loop " + name) {
		return
	}
	what := "each build writes " + name
	if b.Project.Repository != nil && source.Tracked(ctx, b.Project.Repository, path) {
		what += ", which Git tracks"
	}
	b.Report.Notice(fault.Notice{Code: "builds-itself",
		What: what + ", which starts the next one; that one waits " + wait.String() + ", then longer",
		Next: "write it only when it changes, or to a folder that Git ignores"})
}

// reload reads the configuration again. With a mistake in it the one before
// stays in force, and false is returned.
func (b *Bench) reload(ctx context.Context) bool {
	again, err := site.Load(ctx, b.Project.Root, b.Project.Places)
	if err != nil {
		b.fail(OfConfiguration, err)
		return false
	}
	b.well(OfConfiguration)
	b.Project = again
	return true
}

// make builds, and shows what came of it.
func (b *Bench) make(ctx context.Context, why string) {
	if b.steps() {
		keep(b)
		b.Report.Building(why)
		b.builds.begin()
		err := b.build(ctx)
		took := b.builds.end(err != nil)
		if err != nil {
			if ctx.Err() == nil {
				b.fail(OfBuild, err)
			}
			return
		}
		b.well(OfBuild)
		b.Report.Built(took)
	}
	b.show(ctx)
}

// keep begins to keep what is shown, before the first build: a configuration may get
// its steps while it is served.
func keep(b *Bench) {
	if b.content.file != nil {
		return
	}
	if err := b.content.keep(); err != nil {
		b.Report.Notice(fault.Notice{Code: "not-kept", What: "cannot keep the current output while " +
			"a build runs: " + err.Error(), Next: "set TMPDIR to a writable folder"})
	}
}

// build runs the project's steps where the developer works. Dependencies are
// theirs to fetch.
func (b *Bench) build(ctx context.Context) error {
	build := b.Project.LocalConfig.Build
	// The same plan as a deploy of the working tree has, so that the steps are
	// told the same.
	plan, err := site.MakePlan(ctx, b.Project, site.Order{WorkingTree: true, NoTarget: true})
	if err != nil {
		return err
	}

	ready, err := steps.Prepare(ctx, steps.Wanted{Steps: build.Run, Variables: build.Variables,
		Secrets: build.Secrets, Needs: build.Needs, Told: plan.Variables()})
	if err != nil {
		return err
	}

	_, err = steps.Run(ctx, steps.Spec{
		Folder: site.Folder(b.Project), Steps: build.Run, Environment: ready.Environment,
		Secrets: ready.Secrets, TimeLimit: time.Duration(build.TimeLimit),
		Log: io.Discard, Line: b.Report.Line,
	})
	return err
}

// show reads rules and output, and shows them. Where
// either has a mistake, the last good one stays.
func (b *Bench) show(ctx context.Context) {
	next := Shown{Settings: b.Project.LocalConfig.Settings(), Upstreams: b.upstreams(),
		Config: environmentConfig(b), Sources: map[string]string{}}
	switch {
	case b.OnlyRules:
	case b.builds.broken: // what lies in the output is half of something
		if b.last.Sources == nil {
			return
		}
		next.Files, next.Sources, next.kept = b.last.Files, b.last.Sources, b.last.kept
	default:
		if err := b.read(ctx, &next); err != nil {
			if ctx.Err() == nil {
				b.fail(OfOutput, err)
			}
			return
		}
		b.well(OfOutput)
	}

	// Rules with a mistake leave the last good ones in force; the new files are
	// shown all the same.
	set, err := b.rules()
	if next.Rules = set; err != nil {
		next.Rules = b.last.Rules
	}
	again := b.unshown
	b.last = next
	changed, ruled := b.local.Show(next)
	if err != nil {
		b.fail(OfRules, err)
		return
	}

	b.well(OfRules)
	// After trouble it is told that all is well, though nothing may have changed.
	b.unshown = b.builds.broken
	if len(changed) > 0 || ruled || again && !b.unshown {
		b.Report.Shown(changed, ruled)
		b.judgement.due = true
	}
}

// read finds out what the output holds, and keeps it.
func (b *Bench) read(ctx context.Context, next *Shown) error {
	if info, err := os.Stat(b.output()); err != nil || !info.IsDir() {
		return noOutput(b)
	}
	_, scan, files, err := site.Fingerprint(ctx, b.Project, b.output(), b.content.memory)
	if err != nil {
		return err
	}
	b.content.memory.Next()
	next.Files = files
	for _, found := range scan.Files {
		next.Sources[found.Path] = filepath.Join(b.output(), filepath.FromSlash(found.Source))
	}
	return b.content.take(next)
}

// Counts returns how many files and rules are shown.
func (b *Bench) Counts() (files, rules int) {
	if b.last.Rules != nil {
		rules = len(b.last.Rules.Rules)
	}
	return len(b.last.Files), rules
}

// rules reads the rules as they are now; nil if there are none. The error says
// what is wrong with them.
func (b *Bench) rules() (*rules.Set, error) {
	files, err := site.LocalRules(b.Project, b.output())
	if err != nil || len(files) == 0 {
		return nil, err
	}
	program, found := rules.Parse(files, b.Project.LocalConfig.RuleOptions(b.Project.ProductionConfig))
	if err := found.Problem(); err != nil {
		return nil, err
	}
	return program.Compile()
}

// upstreams are those of the environment, and those that override them.
func (b *Bench) upstreams() map[string]string {
	all := map[string]string{}
	// The later one wins: production's, the working tree's, and what was said
	// on the command line.
	maps.Copy(all, b.Project.ProductionConfig.Document(journal.StoredName(b.Environment)).Upstreams)
	maps.Copy(all, b.Project.LocalConfig.Document(journal.StoredName(b.Environment)).Upstreams)
	maps.Copy(all, b.Upstreams)
	return all
}

// noOutput says how to come by an output that is not there.
func noOutput(b *Bench) error {
	problem := fault.New(fault.Failed, "no-output", "nothing was built here yet: there is no output folder").
		At("build.output: %s (%s)", b.Project.LocalConfig.Build.Output, project.FileName)
	if !b.Build || len(b.Project.LocalConfig.Build.Run) == 0 {
		for _, step := range b.Project.LocalConfig.Build.Run {
			problem = problem.Then("%s", step)
		}
	}
	if b.Keys && len(b.Project.LocalConfig.Build.Run) > 0 {
		problem = problem.Then("then press r here")
	}
	return problem.Then("set build.output in orilla.yaml, or name a folder: orilla serve FOLDER")
}

// fail reports a mistake in the terminal and in open pages, until well says that
// it is no more.
func (b *Bench) fail(about About, err error) {
	b.unshown = true
	b.local.Note(Note{about, "This page is from before the last change, which failed",
		strings.Join(fault.Lines(err), "\n")})
	b.Report.Failed(err)
}

// well takes away what was said about something.
func (b *Bench) well(about About) { b.local.Note(Note{About: about}) }
